//! What acts on every population: gravity, wind and its gusts, fields, obstacles, collectors.

pub(crate) mod apart;
pub(crate) mod bodies;
pub(crate) mod carried;
pub(crate) mod collectors;
pub(crate) mod curl;
pub(crate) mod endless;
pub(crate) mod events;
pub(crate) mod fields;
pub(crate) mod gusts;
pub(crate) mod obstacles;
pub(crate) mod pushers;
mod save;
pub(crate) mod spec;

use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

use glam::Vec3;

use crate::assets::Assets;
use crate::foundations::change::Change;
use crate::foundations::error::SpecError;
use crate::foundations::paths::Path;
use crate::foundations::simd::{Level, detect};
use crate::foundations::span::Span;
use crate::world::carried::{Carried, Start};
use crate::world::collectors::Collector;
use crate::world::endless::Cells;
use crate::world::fields::{Acting, Attractor, Field, FieldChunk, FieldPopulation};
use crate::world::gusts::{Gusts, add_gusts};
use crate::world::obstacles::{Body, Mask, Posts, Solid};
use crate::world::pushers::{Pusher, Pushing};
use crate::world::spec::WorldSpec;

/// A checked [`WorldSpec`] and its present state.
#[derive(Debug, Clone)]
pub struct World {
    spec: WorldSpec,
    fields: Vec<Acting>,
    own_fields: Vec<Arc<dyn Field>>,
    solid: Solid,
    collectors: Vec<Collector>,
    pushers: Vec<Pusher>,
    /// Obstacles and paths of the brushes of the spec.
    brushes: Vec<(usize, Option<Path>)>,
    /// Way of the air under the steady wind.
    way: Start,
    /// Gusts as they go on after a change: its time, and the offset of the noise then, in cells.
    gusts_from: Option<(f64, [f64; 3])>,
    stamp: u64,
    /// Stamp of the build, shared by clones: parts that no brush changes are the same in all of them.
    origin: u64,
}

/// A new unique number.
pub(crate) fn new_stamp() -> u64 {
    static NEXT: AtomicU64 = AtomicU64::new(1);
    NEXT.fetch_add(1, Ordering::Relaxed)
}

impl World {
    /// The spec that it was built from.
    pub fn spec(&self) -> &WorldSpec {
        &self.spec
    }

    /// Adds a field of the program's own, which acts after those of the spec.
    pub fn with_field(mut self, field: impl Field + 'static) -> Self {
        self.own_fields.push(Arc::new(field));
        self
    }

    /// The same world, with the fields of the program's own of another.
    pub fn with_fields_of(mut self, other: &Self) -> Self {
        self.own_fields.clone_from(&other.own_fields);
        self
    }

    /// Changes the spec of the running world. What did not change keeps its state: dug masks, collectors and pushers that were moved, and the cells
    /// of endless posts. Fields of the program's own stay. `time` is that of the populations, in seconds: gusts and drifting noise go on from where they
    /// were, so that another wind bends them and does not replace them.
    ///
    /// ```
    /// use frolic_core::WorldSpec;
    /// let mut world = WorldSpec::default().build()?;
    /// world.retune(&WorldSpec::default().wind([4.0, 0.0, 0.0]), 1.5)?;
    /// assert_eq!(world.spec().wind, [4.0, 0.0, 0.0]);
    /// # Ok::<(), frolic_core::SpecError>(())
    /// ```
    ///
    /// # Errors
    /// As [`WorldSpec::build`]. The world then stays as it is.
    pub fn retune(&mut self, spec: &WorldSpec, time: f64) -> Result<Change, SpecError> {
        self.retune_with(spec, time, &Assets::default())
    }

    /// As [`World::retune`], for fields and obstacles that name assets.
    ///
    /// # Errors
    /// As [`WorldSpec::build_with`]. The world then stays as it is.
    pub fn retune_with(&mut self, spec: &WorldSpec, time: f64, assets: &Assets) -> Result<Change, SpecError> {
        if *spec == self.spec {
            return Ok(Change::Unchanged);
        }
        let before = std::mem::replace(self, spec.build_with(assets)?);
        self.go_on(&before, time);
        self.own_fields = before.own_fields;
        for (nth, obstacle) in self.solid.obstacles.iter_mut().enumerate() {
            let own = &self.spec.obstacle[nth];
            // A mask is found by its name, or at its index if it has none.
            let was = match &own.name {
                Some(_) => before.spec.obstacle.iter().position(|other| other.name == own.name),
                None => Some(nth),
            };
            let was = was
                .filter(|&was| before.spec.obstacle.get(was).is_some_and(|other| other.shape == own.shape));
            if let (Some(was), Body::Mask(mask)) = (was, &mut obstacle.body)
                && let Body::Mask(dug) = &before.solid.obstacles[was].body
            {
                *mask = dug.clone();
            }
        }
        if self.spec.endless == before.spec.endless {
            self.solid.posts = before.solid.posts;
        }
        keep(&mut self.collectors, before.collectors, &self.spec.collector, &before.spec.collector);
        keep(&mut self.pushers, before.pushers, &self.spec.pusher, &before.spec.pusher);
        Ok(Change::Live)
    }

    /// Lets gusts and noise go on from where they were in a world before, at a time, in seconds.
    fn go_on(&mut self, before: &Self, time: f64) {
        let was = before.carried(time);
        self.way = if self.spec.wind == before.spec.wind { before.way } else { Start::changed(&was) };
        let kept = self.spec.wind == before.spec.wind && self.spec.gusts == before.spec.gusts;
        self.gusts_from = match (self.spec.gusts, before.gust_cells(time)) {
            _ if kept => before.gusts_from,
            (Some(_), Some(cells)) => Some((time, cells)),
            _ => None,
        };
        for (field, other) in self.fields.iter_mut().zip(&before.fields) {
            field.replace(other);
            field.settle(&was);
        }
    }

    /// The steady wind at a time, in seconds, and the way of the air until then.
    pub(crate) fn carried(&self, time: f64) -> Carried {
        self.way.at(self.spec.wind, time)
    }

    /// Moves a collector, counted from 0, to a position, in metres. It leaves its path and stays there. Returns false if there is no such
    /// collector.
    pub fn put_collector(&mut self, nth: usize, position: [f32; 3]) -> bool {
        let place = Vec3::from(position);
        match self.collectors.get_mut(nth) {
            Some(collector) if place.is_finite() => collector.put(place),
            Some(_) => {}
            None => return false,
        }
        true
    }

    /// Position of a collector at a time, in seconds.
    pub fn collector_at(&self, nth: usize, time: f64) -> Option<[f32; 3]> {
        Some(self.collectors.get(nth)?.at(time).to_array())
    }

    /// Index of the obstacle of a name.
    pub fn obstacle_named(&self, name: &str) -> Option<usize> {
        self.spec.obstacle.iter().position(|obstacle| obstacle.name.as_deref() == Some(name))
    }

    /// The mask of an obstacle, counted from 0 over all obstacles.
    pub fn mask(&self, obstacle: usize) -> Option<&Mask> {
        match &self.solid.obstacles.get(obstacle)?.body {
            Body::Mask(mask) => Some(mask),
            _ => None,
        }
    }

    /// Digs (frees) a mask within a radius of a position, in metres. Returns the number of cells that changed, or `None` if there is no such mask.
    /// The cost is proportional to the cells of the brush and of a band around it.
    pub fn dig(&mut self, obstacle: usize, place: [f32; 3], radius: f32) -> usize {
        self.brush(obstacle, place, radius, true)
    }

    /// Fills a mask within a radius of a position, in metres; as [`World::dig`]. Elements inside are pushed out by their depth. If they are too
    /// deep for a direction, they come to rest.
    pub fn fill(&mut self, obstacle: usize, place: [f32; 3], radius: f32) -> usize {
        self.brush(obstacle, place, radius, false)
    }

    /// Whether it changes at each step: brushes work, or it is generated around a moving centre.
    pub fn changes(&self) -> bool {
        !self.brushes.is_empty() || self.solid.posts.is_some()
    }

    /// Moves the brushes of the spec through a step, from `time` to `time + dt`, in seconds. Call it before each step of the populations.
    pub fn advance(&mut self, time: f64, dt: f32) {
        for nth in 0..self.brushes.len() {
            let brush = &self.spec.brush[nth];
            let [from, to] = brush.during.unwrap_or([0.0, f32::INFINITY]).map(f64::from);
            let (start, end) = (time.max(from), (time + f64::from(dt)).min(to));
            if start >= end {
                continue;
            }
            let base = Vec3::from(brush.position);
            let (obstacle, path) = &self.brushes[nth];
            let obstacle = *obstacle;
            let place = |time: f64| base + path.as_ref().map_or(Vec3::ZERO, |path| path.at(time - from).0);
            let (a, b) = (place(start), place(end));
            let (radius, dig) = (brush.radius, !brush.fills);
            // Discs close enough for a smooth edge, with a bound for absurd paths.
            let discs = (a.distance(b) / (radius * 0.3)).ceil().clamp(1.0, 64.0) as u32;
            for k in 1..=discs {
                self.brush(obstacle, a.lerp(b, k as f32 / discs as f32).to_array(), radius, dig);
            }
        }
    }

    fn brush(&mut self, obstacle: usize, place: [f32; 3], radius: f32, dig: bool) -> usize {
        let place = Vec3::from(place);
        match self.solid.obstacles.get_mut(obstacle).map(|obstacle| &mut obstacle.body) {
            Some(Body::Mask(mask)) if place.is_finite() && radius.is_finite() && radius > 0.0 => {
                let changed = mask.brush(mask.orientation().flat(place), radius, dig);
                if changed > 0 {
                    self.stamp = new_stamp();
                }
                changed
            }
            _ => 0,
        }
    }

    /// Moves the centre of an endless world: x and z, in metres. What appears and disappears depends on the seed and the way of the centre alone.
    pub fn recentre(&mut self, middle: [f32; 2]) {
        if let Some(posts) = &mut self.solid.posts
            && posts.follow(middle)
        {
            self.stamp = new_stamp();
        }
    }

    /// Present cells of an endless world.
    pub fn cells(&self) -> Option<&Cells> {
        self.solid.posts.as_ref().map(Posts::cells)
    }

    /// Present posts of an endless world: x, z and radius, in metres.
    pub fn posts(&self) -> impl Iterator<Item = [f32; 3]> {
        self.solid.posts.iter().flat_map(|posts| &posts.all).filter_map(|obstacle| match obstacle.body {
            Body::Post(post) => Some([post.x, post.z, post.radius]),
            _ => None,
        })
    }

    /// Signed distance to the nearest obstacle, in metres, negative inside; infinite without obstacles.
    pub fn distance(&self, place: [f32; 3]) -> f32 {
        let posts = self.solid.posts.iter().flat_map(|posts| &posts.all);
        let all = self.solid.obstacles.iter().chain(posts);
        let each = all.map(|obstacle| obstacle.body.sample(place.into()).0);
        each.fold(f32::INFINITY, f32::min)
    }

    /// As [`World::distance`], with the direction away from that obstacle; 0 where there is none.
    pub(crate) fn surface(&self, place: Vec3) -> (f32, Vec3) {
        let mut nearest = (f32::INFINITY, Vec3::ZERO);
        self.each_surface(place, |distance, normal| {
            if distance < nearest.0 {
                nearest = (distance, normal);
            }
        });
        nearest
    }

    /// Visits each obstacle: its signed distance from a place, in metres, and the direction away from it.
    pub(crate) fn each_surface(&self, place: Vec3, mut visit: impl FnMut(f32, Vec3)) {
        let posts = self.solid.posts.iter().flat_map(|posts| &posts.all);
        for obstacle in self.solid.obstacles.iter().chain(posts) {
            let (distance, normal) = obstacle.body.sample(place);
            visit(distance, normal);
        }
    }

    /// A number that changes whenever obstacles change.
    pub(crate) fn stamp(&self) -> u64 {
        self.stamp
    }

    /// Stamp of the build.
    pub(crate) fn origin(&self) -> u64 {
        self.origin
    }

    /// Prepared obstacles.
    pub fn solid(&self) -> &Solid {
        &self.solid
    }

    /// The attractor, if it is the only field of the spec and acts everywhere and always: the plain form of a step includes it.
    pub(crate) fn lone_attractor(&self) -> Option<Attractor> {
        let [only] = &self.fields[..] else { return None };
        only.plain_attractor()
    }

    /// Whether the plain form of a step suffices: forces are uniform, except for gusts and one attractor.
    pub(crate) fn is_plain(&self) -> bool {
        let alike = self.fields.is_empty() || self.lone_attractor().is_some();
        alike && self.own_fields.is_empty() && !self.pulls()
    }

    pub(crate) fn fields(&self) -> &[Acting] {
        &self.fields
    }

    pub(crate) fn own_fields(&self) -> &[Arc<dyn Field>] {
        &self.own_fields
    }

    /// Shows a whole population to the fields of the program's own.
    pub(crate) fn prepare_own_fields(&self, whole: &FieldPopulation<'_>) {
        self.own_fields.iter().for_each(|field| field.prepare(whole));
    }

    pub(crate) fn collectors(&self) -> &[Collector] {
        &self.collectors
    }

    /// Whether any collector pulls.
    pub(crate) fn pulls(&self) -> bool {
        self.collectors.iter().any(|collector| collector.pull > 0.0)
    }

    /// The pull of collectors on a chunk.
    pub(crate) fn pull(&self, time: f64, level: Level, chunk: &mut FieldChunk<'_>) {
        self.pulls_at(time).for_each(|pull| pull.act(level, None, chunk));
    }

    /// The pull of each collector that has any, at a time, in seconds.
    pub(crate) fn pulls_at(&self, time: f64) -> impl Iterator<Item = Acting> {
        let pulling = self.collectors.iter().filter(|collector| collector.pull > 0.0);
        pulling.map(move |collector| Acting::pull(collector.at(time), collector.pull, collector.reach))
    }

    /// Velocity of the air at positions, in m/s, at a time, in seconds: steady wind, gusts, and every field that moves the air. Fields of the
    /// program's own are evaluated for elements at rest and of age 0. Fields that push without moving the air are left out. Slices have one length.
    ///
    /// ```
    /// let world = frolic_core::WorldSpec::default().wind([3.0, 0.0, 0.0]).build()?;
    /// let (mut x, mut y, mut z) = ([0.0], [0.0], [0.0]);
    /// world.air(0.0, [&[1.0], &[0.0], &[2.0]], [&mut x, &mut y, &mut z]);
    /// assert_eq!((x, y, z), ([3.0], [0.0], [0.0]));
    /// # Ok::<(), frolic_core::SpecError>(())
    /// ```
    pub fn air(&self, time: f64, position: [&[f32]; 3], into: [&mut [f32]; 3]) {
        let level = detect();
        let n = into
            .iter()
            .map(|axis| axis.len())
            .chain(position.iter().map(|axis| axis.len()))
            .min()
            .unwrap_or(0);
        let gusts = self.gusts_at(time);
        let [ax, ay, az] = into;
        for from in (0..n).step_by(AIR) {
            let many = from..n.min(from + AIR);
            let position = position.map(|axis| &axis[many.clone()]);
            let air = [&mut ax[many.clone()], &mut ay[many.clone()], &mut az[many]];
            self.air_of_chunk(level, time, gusts.as_ref(), position, air);
        }
    }

    /// [`World::air`] at up to [`AIR`] positions.
    pub(crate) fn air_of_chunk(
        &self,
        level: Level,
        time: f64,
        gusts: Option<&Gusts>,
        position: [&[f32]; 3],
        air: [&mut [f32]; 3],
    ) {
        let n = position[0].len();
        let zero = &[0.0; AIR][..n];
        let mut push = [[0.0; AIR]; 3];
        let [qx, qy, qz] = &mut push;
        let mut chunk = FieldChunk {
            time,
            dt: 0.0,
            first: 0,
            position,
            velocity: [zero; 3],
            age: zero,
            life: zero,
            id: &[0; AIR][..n],
            air,
            push: [&mut qx[..n], &mut qy[..n], &mut qz[..n]],
        };
        for axis in 0..3 {
            chunk.air[axis].fill(self.spec.wind[axis]);
        }
        if let Some(gusts) = gusts {
            let air = chunk.air.each_mut().map(|axis| &mut **axis);
            add_gusts(level, gusts, position, air);
        }
        for field in self.fields.iter().filter(|field| field.moves_air() && field.acts(time)) {
            let curl = field.curl_at(&self.carried(time));
            field.act(level, curl.as_ref(), &mut chunk);
        }
        self.own_fields.iter().for_each(|field| field.act(&mut chunk));
    }

    /// Whether anything but the steady wind and gusts moves the air.
    pub(crate) fn has_currents(&self) -> bool {
        !self.own_fields.is_empty() || self.fields.iter().any(Acting::moves_air)
    }

    /// Pushers at a time, in seconds.
    pub fn pushers_at(&self, time: f64) -> impl Iterator<Item = Pushing> {
        (0..self.pushers.len()).filter_map(move |nth| self.pusher_at(nth, time))
    }

    /// A pusher, counted from 0, at a time, in seconds. `None` if it does not push then, or does not exist.
    pub fn pusher_at(&self, nth: usize, time: f64) -> Option<Pushing> {
        self.pushers.get(nth)?.at(time)
    }

    /// Index of the pusher of a name.
    pub fn pusher_named(&self, name: &str) -> Option<usize> {
        self.spec.pusher.iter().position(|pusher| pusher.name.as_deref() == Some(name))
    }

    /// Moves a pusher, counted from 0, to a position, in metres. It leaves its path. Returns false if there is no such pusher.
    pub fn put_pusher(&mut self, nth: usize, position: [f32; 3]) -> bool {
        let place = Vec3::from(position);
        match self.pushers.get_mut(nth) {
            Some(pusher) if place.is_finite() => pusher.put(place),
            Some(_) => {}
            None => return false,
        }
        true
    }

    /// Offset of the noise of gusts at a time, in seconds, in cells.
    fn gust_cells(&self, time: f64) -> Option<[f64; 3]> {
        let gusts = self.spec.gusts?;
        let per_metre = f64::from(1.0 / gusts.size);
        let (since, cells) = self.gusts_from.unwrap_or_default();
        // Gusts move with the air; drift changes them in still air.
        let shift = |wind: f32, drift: f32| f64::from(wind + drift) * (time - since) * per_metre;
        let [x, y, z] = self.spec.wind;
        let moved = [shift(x, 0.0), shift(y, gusts.drift), shift(z, 0.0)];
        Some(std::array::from_fn(|axis| cells[axis] + moved[axis]))
    }

    /// Gusts at a time, in seconds.
    pub(crate) fn gusts_at(&self, time: f64) -> Option<Gusts> {
        let gusts = self.spec.gusts?;
        let per_metre = 1.0 / gusts.size;
        // Wrapped, so that hours of run time lose no precision: the jump occurs once in days.
        let origin = self.gust_cells(time)?.map(|cells| (cells % 1_048_576.0) as f32);
        let Span { min, max } = gusts.swell;
        let along = self.spec.wind.map(|axis| axis * (max - min) * 0.5);
        let base = self.spec.wind.map(|axis| axis * ((max + min) * 0.5 - 1.0));
        Some(Gusts { origin, per_metre, strength: gusts.strength, along, base })
    }
}

/// Keeps the state of what has the same spec as before, by index.
fn keep<T, S: PartialEq>(now: &mut [T], before: Vec<T>, spec: &[S], spec_before: &[S]) {
    for ((now, before), _) in
        now.iter_mut().zip(before).zip(spec.iter().zip(spec_before)).filter(|(_, (a, b))| a == b)
    {
        *now = before;
    }
}

/// Number of positions whose air is computed at a time.
const AIR: usize = 1024;
