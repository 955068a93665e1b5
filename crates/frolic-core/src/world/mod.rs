//! What acts on every population: gravity, wind and its gusts, fields, obstacles, collectors.

pub(crate) mod bodies;
pub(crate) mod collectors;
pub(crate) mod curl;
pub(crate) mod endless;
pub(crate) mod events;
pub(crate) mod fields;
pub(crate) mod obstacles;
pub(crate) mod pushers;

use derive_setters::Setters;
use std::collections::HashSet;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

use glam::Vec3;
use serde::{Deserialize, Serialize};

use crate::assets::Assets;
use crate::foundations::error::{SpecError, each, listed, vector_within, within};
use crate::foundations::noise::{PLACES, gust_noise, gust_noises};
use crate::foundations::paths::{Path, PathSpec};
use crate::foundations::simd::{Level, Simd, detect, kernel};
use crate::foundations::span::Span;
use crate::world::collectors::{Collector, CollectorSpec};
use crate::world::endless::{Cells, EndlessSpec};
use crate::world::fields::{Acting, Attractor, Field, FieldChunk, FieldSpec};
use crate::world::obstacles::{Body, Mask, ObstacleShape, ObstacleSpec, Posts, Solid};
use crate::world::pushers::{Pusher, PusherSpec, Pushing};

/// What acts on all populations, on each according to its own response.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, Setters)]
#[serde(deny_unknown_fields, default)]
#[non_exhaustive]
pub struct WorldSpec {
    /// Gravity, in m/s². Default: `[0, -9.81, 0]`.
    pub gravity: [f32; 3],
    /// Steady velocity of the air, in m/s. It acts through drag. Default: no wind.
    pub wind: [f32; 3],
    /// Gusts added to the steady wind. Default: none.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[setters(skip)]
    pub gusts: Option<GustSpec>,
    /// Fields, at most 64. Default: none.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    #[setters(skip)]
    pub field: Vec<FieldSpec>,
    /// Obstacles, at most 64. Default: none.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    #[setters(skip)]
    pub obstacle: Vec<ObstacleSpec>,
    /// Endless posts, in cells around a moving centre. Default: none.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[setters(into)]
    pub endless: Option<EndlessSpec>,
    /// Collectors, at most 65536. Default: none.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    #[setters(skip)]
    pub collector: Vec<CollectorSpec>,
    /// Pushers, which move through blades and bend them, at most 4096. Default: none.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    #[setters(skip)]
    pub pusher: Vec<PusherSpec>,
    /// Brushes, which dig or fill masks while the world runs, at most 64. Default: none.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    #[setters(into)]
    pub brush: Vec<BrushSpec>,
}

/// A brush that moves over a mask.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, Setters)]
#[serde(deny_unknown_fields)]
#[non_exhaustive]
pub struct BrushSpec {
    /// Name of the obstacle; it must be a mask.
    pub obstacle: String,
    /// Whether it fills instead of digging. Default: false.
    #[serde(default)]
    pub fills: bool,
    /// Radius, in metres, 0.001 to 1e4.
    pub radius: f32,
    /// Position, in metres; on a path, the origin of the path.
    #[serde(default)]
    pub position: [f32; 3],
    /// Path, from `position` on. Default: none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[setters(into)]
    pub path: Option<PathSpec>,
    /// Start and end of its work, in seconds after the start; its path starts then. Default: always.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[setters(into)]
    pub during: Option<[f32; 2]>,
}

/// Gusts: smooth noise that moves with the wind.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, Setters)]
#[serde(deny_unknown_fields, default)]
#[non_exhaustive]
pub struct GustSpec {
    /// Maximum speed added along each axis, in m/s, 0 to 1000. Default: 1.
    pub strength: f32,
    /// Size of a gust, in metres, 0.001 to 100000. Default: 3.
    pub size: f32,
    /// Rate of change in still air: drift through the noise, in m/s, 0 to 1000. Default: 0.5.
    pub drift: f32,
    /// Factor on the steady wind, from the deepest lull to the strongest gust, -10 to 10; negative values reverse it. Default: 1 to 1, a steady
    /// wind.
    #[setters(into)]
    pub swell: Span,
}

impl Default for GustSpec {
    fn default() -> Self {
        Self { strength: 1.0, size: 3.0, drift: 0.5, swell: Span::new(1.0, 1.0) }
    }
}

impl Default for WorldSpec {
    fn default() -> Self {
        Self {
            gravity: [0.0, -9.81, 0.0],
            wind: [0.0; 3],
            gusts: None,
            field: Vec::new(),
            obstacle: Vec::new(),
            endless: None,
            collector: Vec::new(),
            pusher: Vec::new(),
            brush: Vec::new(),
        }
    }
}

impl WorldSpec {
    /// Sets gusts: maximum added speed, in m/s, and size, in metres.
    pub fn gusts(mut self, strength: f32, size: f32) -> Self {
        self.gusts = Some(GustSpec { strength, size, ..GustSpec::default() });
        self
    }

    /// Adds a field.
    pub fn field(mut self, field: FieldSpec) -> Self {
        self.field.push(field);
        self
    }

    /// Adds an obstacle.
    pub fn obstacle(mut self, obstacle: ObstacleSpec) -> Self {
        self.obstacle.push(obstacle);
        self
    }

    /// Adds a collector.
    pub fn collector(mut self, collector: CollectorSpec) -> Self {
        self.collector.push(collector);
        self
    }

    /// Adds a pusher.
    pub fn pusher(mut self, pusher: PusherSpec) -> Self {
        self.pusher.push(pusher);
        self
    }

    /// Checks the values and prepares them for stepping.
    ///
    /// # Errors
    /// Names the key that is out of range.
    pub fn build(&self) -> Result<World, SpecError> {
        self.build_with(&Assets::default())
    }

    /// Checks the values and prepares them for stepping. Fields and obstacles may name assets.
    ///
    /// # Errors
    /// Names the key that is out of range, or whose asset is missing or of another kind.
    pub fn build_with(&self, assets: &Assets) -> Result<World, SpecError> {
        self.check()?;
        let stamp = new_stamp();
        Ok(World {
            fields: Acting::all(&self.field, assets)?,
            own_fields: Vec::new(),
            solid: Solid::new(&self.obstacle, self.endless.as_ref(), assets)?,
            collectors: self.collector.iter().map(Collector::new).collect(),
            pushers: self.pusher.iter().map(Pusher::new).collect(),
            brushes: self
                .brush
                .iter()
                .map(|brush| {
                    Ok((self.mask("obstacle", &brush.obstacle)?, brush.path.as_ref().map(Path::new)))
                })
                .collect::<Result<_, SpecError>>()?,
            stamp,
            origin: stamp,
            spec: self.clone(),
        })
    }

    /// Checks that every value is in range. Assets are looked up when the world is built.
    ///
    /// # Errors
    /// Names the first key that is out of range.
    pub fn check(&self) -> Result<(), SpecError> {
        vector_within("gravity", self.gravity, 1e4, "m/s²")?;
        vector_within("wind", self.wind, 1e4, "m/s")?;
        if let Some(gusts) = &self.gusts {
            within("gusts.strength", gusts.strength, 0.0, 1000.0, "m/s")?;
            within("gusts.size", gusts.size, 0.001, 1e5, "m")?;
            within("gusts.drift", gusts.drift, 0.0, 1000.0, "m/s")?;
            gusts.swell.check("gusts.swell", -10.0, 10.0, "")?;
        }
        crate::world::fields::check(&self.field)?;
        crate::world::obstacles::check(&self.obstacle)?;
        if let Some(endless) = &self.endless {
            endless.check().map_err(|error| error.under("endless"))?;
        }
        crate::world::collectors::check(&self.collector)?;
        each("pusher", &self.pusher, MOST_PUSHERS, PusherSpec::check)?;
        names_differ("pusher", self.pusher.iter().map(|pusher| pusher.name.as_deref()))?;
        names_differ("obstacle", self.obstacle.iter().map(|obstacle| obstacle.name.as_deref()))?;
        each("brush", &self.brush, MOST_BRUSHES, |brush| brush.check(self))
    }

    /// Index of the obstacle of a name, which must be a mask. `key` names the key that holds the name.
    ///
    /// # Errors
    /// No obstacle has the name, or it is no mask.
    pub fn mask(&self, key: &str, name: &str) -> Result<usize, SpecError> {
        let is_mask = |obstacle: &ObstacleSpec| matches!(obstacle.shape, ObstacleShape::Mask { .. });
        let nth = self.obstacle.iter().position(|obstacle| obstacle.name.as_deref() == Some(name));
        if let Some(nth) = nth.filter(|nth| is_mask(&self.obstacle[*nth])) {
            return Ok(nth);
        }
        let masks = self.obstacle.iter().filter(|obstacle| is_mask(obstacle));
        let names = listed(masks.filter_map(|mask| mask.name.as_deref()));
        let problem = match nth {
            Some(_) => format!("obstacle '{name}' is no mask"),
            None => format!("no obstacle is named '{name}'"),
        };
        let instead = match names.as_str() {
            "" => "give a mask among the obstacles a name, and write that".to_owned(),
            names => format!("write the name of a mask: {names}"),
        };
        Err(SpecError::new(key, problem, instead))
    }
}

/// Refuses two things of a list with one name.
fn names_differ<'a>(key: &str, names: impl Iterator<Item = Option<&'a str>>) -> Result<(), SpecError> {
    let mut seen = HashSet::new();
    for (nth, name) in names.enumerate() {
        if let Some(name) = name.filter(|name| !seen.insert(*name)) {
            let problem = format!("'{name}' is there twice");
            return Err(SpecError::new(format!("{key}.{nth}.name"), problem, "write another name"));
        }
    }
    Ok(())
}

/// Maximum number of pushers of a world.
pub(crate) const MOST_PUSHERS: usize = 4096;

/// Maximum number of brushes of a world.
const MOST_BRUSHES: usize = 64;

impl BrushSpec {
    /// A brush that digs in the obstacle of a name, within a radius of a position, in metres.
    pub fn dig(obstacle: &str, position: [f32; 3], radius: f32) -> Self {
        let obstacle = obstacle.to_owned();
        Self { obstacle, fills: false, radius, position, path: None, during: None }
    }

    fn check(&self, world: &WorldSpec) -> Result<(), SpecError> {
        within("radius", self.radius, 0.001, 1e4, "m")?;
        vector_within("position", self.position, 1e6, "m")?;
        if let Some([from, to]) = self.during {
            Span::new(from, to).check("during", 0.0, 1e9, "s")?;
        }
        world.mask("obstacle", &self.obstacle)?;
        self.path.as_ref().map_or(Ok(()), |path| path.check().map_err(|error| error.under("path")))
    }
}

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
            let curl = field.curl_at(self.spec.wind, time);
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

    /// Gusts at a time, in seconds.
    pub(crate) fn gusts_at(&self, time: f64) -> Option<Gusts> {
        let gusts = self.spec.gusts?;
        let per_metre = 1.0 / gusts.size;
        // Gusts move with the air; drift changes them in still air. Wrapped, so that hours of run time lose no precision: the jump occurs once in
        // days.
        let shift = |wind: f32, drift: f32| {
            let cells = f64::from(wind + drift) * time * f64::from(per_metre);
            (cells % 1_048_576.0) as f32
        };
        let [x, y, z] = self.spec.wind;
        let origin = [shift(x, 0.0), shift(y, gusts.drift), shift(z, 0.0)];
        let Span { min, max } = gusts.swell;
        let along = self.spec.wind.map(|axis| axis * (max - min) * 0.5);
        let base = self.spec.wind.map(|axis| axis * ((max + min) * 0.5 - 1.0));
        Some(Gusts { origin, per_metre, strength: gusts.strength, along, base })
    }
}

/// Gusts at one moment.
#[derive(Debug, Clone, Copy)]
#[non_exhaustive]
pub struct Gusts {
    /// Offset of the noise, in its cells.
    pub origin: [f32; 3],
    /// Cells a metre.
    pub per_metre: f32,
    /// Strength, in m/s.
    pub strength: f32,
    /// Velocity added for each unit of the second value of the noise, in m/s.
    pub along: [f32; 3],
    /// Velocity added everywhere, in m/s.
    pub base: [f32; 3],
}

/// Number of positions whose air is computed at a time.
const AIR: usize = 1024;

/// Rotates a point so that the diagonal of the cells of the noise is vertical: on level ground no squares show.
#[inline(always)]
fn on_edge([x, y, z]: [f32; 3]) -> [f32; 3] {
    let (level, up) = (x + z, y * ON_EDGE[1]);
    let aside = level * ON_EDGE[0] + up;
    [x + aside, up - level * ON_EDGE[1], z + aside]
}

/// 1/√12 - 1/2, and 1/√3.
pub const ON_EDGE: [f32; 2] = [-0.211_324_87, 0.577_350_3];

/// Separates the noise of gusts from all other uses of the hash.
pub const GUST_SEED: u32 = 0x5715_7a11;

kernel! {
    /// Adds gusts to the air at positions. Fastest if neighbours in space are neighbours in the columns.
    pub(crate) fn add_gusts(simd, gusts: &Gusts, position: [&[f32]; 3], air: [&mut [f32]; 3]) {
        gusts.add(simd, position, air);
    }
}

impl Gusts {
    /// Upper bound of the added speed, in m/s.
    pub(crate) fn most(&self) -> f32 {
        self.strength * 2.0 + Vec3::from(self.along).length() + Vec3::from(self.base).length()
    }

    #[inline(always)]
    fn add<S: Simd>(&self, simd: S, position: [&[f32]; 3], air: [&mut [f32]; 3]) {
        let gusts = *self;
        let n = position[0].len();
        let [ax, ay, az] = air;
        let mut places = [[0.0; PLACES]; 3];
        let mut noise = [[0.0; 4]; PLACES];
        for from in (0..n).step_by(PLACES) {
            let to = n.min(from + PLACES);
            let count = to - from;
            let [px, py, pz] = position;
            let (px, py, pz) = (&px[from..to], &py[from..to], &pz[from..to]);
            let [x, y, z] = &mut places;
            let (x, y, z) = (&mut x[..count], &mut y[..count], &mut z[..count]);
            for i in 0..count {
                [x[i], y[i], z[i]] = gusts.place([px[i], py[i], pz[i]]);
            }
            gust_noises(simd, &mut places, count, GUST_SEED, &mut noise);
            let (ax, ay, az) = (&mut ax[from..to], &mut ay[from..to], &mut az[from..to]);
            let noise = &noise[..count];
            for i in 0..count {
                let [a, b, c, _] = noise[i];
                let [a, b, c] = gusts.speed([a, b, c]);
                ax[i] += a;
                ay[i] += b;
                az[i] += c;
            }
        }
    }

    /// Velocity added to the steady wind at a point, in m/s.
    #[inline(always)]
    pub(crate) fn at(&self, point: [f32; 3]) -> [f32; 3] {
        self.speed(gust_noise(self.place(point), GUST_SEED))
    }

    /// Position of a point in the noise.
    #[inline(always)]
    fn place(&self, [x, y, z]: [f32; 3]) -> [f32; 3] {
        let [ox, oy, oz] = self.origin;
        on_edge([x * self.per_metre - ox, y * self.per_metre - oy, z * self.per_metre - oz])
    }

    /// Velocity for the values of the noise, in m/s.
    #[inline(always)]
    fn speed(&self, [a, b, c]: [f32; 3]) -> [f32; 3] {
        let ([u, v, w], [p, q, r]) = (self.along, self.base);
        [a * self.strength + b * u + p, b * self.strength + b * v + q, c * self.strength + b * w + r]
    }
}
