//! The hot loop: fields, integration, contacts and the search for dead bodies, fused in one pass over a chunk.
//!
//! If nothing but gravity, steady wind, gusts and one attractor acts, the chunk takes the plain form of the formula (`motion.rs`) in one loop.
//! Otherwise fields add up in blocks that stay in the first-level cache.
//!
//! PERF (`cargo bench -p frolic --bench step`, two cores): with gravity, drag, attractor and age the plain pass runs at the speed of an
//! in-place multiply over the same bytes, so it is memory-bound; separate passes for fields and integration
//! doubled its time. The search for dead bodies takes sixteen at a time while the chunk is in cache.

use glam::Vec3;
use rayon::prelude::*;

use super::motion::Motion;
use super::{Bodies, BodyRow};
use crate::assets::DistanceGrid;
use crate::foundations::meter::Stage;
use crate::foundations::simd::{Level, Simd, kernel};
use crate::foundations::trace::part;
use crate::world::World;
use crate::world::collectors::{Catching, FREE};
use crate::world::curl::Curl;
use crate::world::events::{EventRecord, EventSpec, Moment};
use crate::world::fields::{Acting, FieldChunk};
use crate::world::gusts::add_gusts;
use crate::world::obstacles::{BLOCK, Collision, Nearby};

/// Everything that acts in one step.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Acts<'a> {
    pub(crate) motion: &'a Motion,
    pub(crate) world: &'a World,
    /// Whether the plain form of the formula suffices.
    pub(crate) is_plain: bool,
    /// Fields of the population alone; then the present curl noise of each field, those of the world first.
    pub(crate) own: &'a [Acting],
    pub(crate) curls: &'a [Option<Curl>],
    pub(crate) catching: &'a Catching,
    pub(crate) events: &'a [EventSpec],
    /// Whether bodies at rest are set aside.
    pub(crate) sets_aside: bool,
    /// Whether any body can be of age 0, and then needs the velocity that the leapfrog starts from.
    pub(crate) finds_newborn: bool,
    pub(crate) time: f64,
    pub(crate) level: Level,
    /// Number of bodies at the start of the step.
    pub(crate) count: usize,
    /// Number of bodies before those of the chunks: newborns, which are stepped apart, come after all others.
    pub(crate) offset: usize,
}

impl Acts<'_> {
    /// Whether bodies can touch anything, or their paths matter to an event.
    pub(crate) fn is_solid(&self) -> bool {
        !self.world.solid().is_empty() || !self.catching.is_empty() || self.watches_ways()
    }

    pub(crate) fn watches_ways(&self) -> bool {
        self.events.iter().any(|event| matches!(event.on, Moment::Age(_) | Moment::Enter(_)))
    }

    /// Whether no force of this step is strong enough to move a body at rest, so that bodies at rest can be skipped.
    pub(crate) fn is_calm(&self) -> bool {
        let motion = self.motion;
        let [least, _] = motion.speed_limits.unwrap_or([0.0; 2]);
        let asks = !self.world.own_fields().is_empty() || self.world.pulls() || self.watches_ways();
        if asks || least > 0.0 {
            return false;
        }
        let gusts = motion.gusts.map_or(0.0, |gusts| gusts.most());
        let start = Some((length(motion.wind) + gusts, length(motion.fall)));
        let most = self.fields().fold(start, |all, (field, curl)| {
            let ((air, push), (more, harder)) = (all?, field.most(curl)?);
            Some((air + more, push + harder))
        });
        let Some((air, push)) = most else { return false };
        let slow = 1.0 / (1.0 + motion.drag_square * air * motion.reach);
        let speed = air * (1.0 - motion.keep * slow) + push * motion.reach;
        speed * 1.001 < motion.rest()
    }

    fn fields(&self) -> impl Iterator<Item = (&Acting, Option<&Curl>)> {
        let all = self.world.fields().iter().chain(self.own);
        all.zip(self.curls)
            .filter(|(field, _)| field.acts(self.time))
            .map(|(field, curl)| (field, curl.as_ref()))
    }
}

fn length(vector: [f32; 3]) -> f32 {
    Vec3::from(vector).length()
}

/// Records of one chunk in one step.
#[derive(Debug, Clone, Default)]
pub(crate) struct Notes {
    /// Event records, each with the index of its body in the population.
    pub(crate) happenings: Vec<(u32, EventRecord)>,
    /// Indices of collectors, one for each catch.
    pub(crate) caught: Vec<u32>,
    pub(crate) hits: u64,
}

impl Notes {
    /// Records with capacity for `room` events.
    pub(crate) fn with_room(room: usize) -> Self {
        Self { happenings: Vec::with_capacity(room), ..Self::default() }
    }

    /// Sorts by body, so that what events start depends neither on chunks nor on blocks.
    pub(crate) fn sort(&mut self) {
        self.happenings.sort_unstable_by_key(|(place, happening)| (*place, happening.event));
    }

    pub(crate) fn clear(&mut self) {
        self.happenings.clear();
        self.caught.clear();
        self.hits = 0;
    }
}

/// Columns of one chunk.
pub(crate) struct Chunk<'a> {
    /// Index of its first body in the population.
    pub(crate) first: u32,
    pub(crate) px: &'a mut [f32],
    pub(crate) py: &'a mut [f32],
    pub(crate) pz: &'a mut [f32],
    pub(crate) vx: &'a mut [f32],
    pub(crate) vy: &'a mut [f32],
    pub(crate) vz: &'a mut [f32],
    pub(crate) age: &'a mut [f32],
    pub(crate) life: &'a [f32],
    pub(crate) size: &'a [f32],
    pub(crate) id: &'a [u32],
    pub(crate) key: &'a [u32],
}

/// Steps all chunks on all cores. The first `aside` bodies are known to be at rest. Afterwards `dead[c * chunk..][..dead_in_chunk[c]]` holds
/// the indices of the dead bodies of chunk `c`, in rising order, and `lies` is 1 for each body at rest.
#[expect(
    clippy::too_many_arguments,
    reason = "plain slices, so that the compiler knows that they do not overlap"
)]
pub(crate) fn step_chunks(
    acts: &Acts<'_>,
    chunk: usize,
    aside: usize,
    bodies: Bodies<'_>,
    lies: &mut [u8],
    dead: &mut [u32],
    dead_in_chunk: &mut [u32],
    notes: &mut [Notes],
) {
    let Bodies { position: [px, py, pz], velocity: [vx, vy, vz], age, life, size, id, key } = bodies;
    let still = (life.par_chunks(chunk), size.par_chunks(chunk), id.par_chunks(chunk), key.par_chunks(chunk));
    (
        px.par_chunks_mut(chunk),
        py.par_chunks_mut(chunk),
        pz.par_chunks_mut(chunk),
        vx.par_chunks_mut(chunk),
        vy.par_chunks_mut(chunk),
        vz.par_chunks_mut(chunk),
        age.par_chunks_mut(chunk),
        still.into_par_iter(),
        (lies.par_chunks_mut(chunk), dead.par_chunks_mut(chunk)).into_par_iter(),
        dead_in_chunk,
        notes,
    )
        .into_par_iter()
        .enumerate()
        .for_each(
            |(nth, (px, py, pz, vx, vy, vz, age, (life, size, id, key), (lies, dead), dead_count, notes))| {
                let _part = part(Stage::Integrate);
                let aside = aside.saturating_sub(nth * chunk).min(px.len());
                let base = (nth * chunk) as u32;
                let mut chunk = Chunk { first: base, px, py, pz, vx, vy, vz, age, life, size, id, key };
                let mut room = Room::new();
                if acts.finds_newborn {
                    chunk.start_newborn(acts, &mut room);
                }
                chunk.part(0..aside).rest(acts, &mut lies[..aside], &mut room, notes);
                chunk.part(aside..lies.len()).step(acts, &mut lies[aside..], &mut room, notes);
                *dead_count = find_dead(acts.level, chunk.age, life, dead, base);
                chunk.note_deaths(acts, &dead[..*dead_count as usize], notes);
                notes.sort();
            },
        );
}

/// Steps one record as columns of one body: the classic form pays for every field and obstacle anew. Returns whether the body dies.
pub(crate) fn step_row(
    acts: &Acts<'_>,
    first: u32,
    row: &mut BodyRow,
    lies: &mut u8,
    room: &mut Room,
    notes: &mut Notes,
) -> bool {
    let mut chunk = Chunk::of_row(first, row);
    chunk.step(acts, std::slice::from_mut(lies), room, notes);
    let dies = chunk.age[0] >= chunk.life[0];
    if dies {
        chunk.note_deaths(acts, &[first], notes);
    }
    dies
}

/// Moves the dead of each chunk to the front of the list, in order. Returns their number.
pub(crate) fn join_dead(dead: &mut [u32], dead_in_chunk: &[u32], chunk: usize) -> usize {
    dead_in_chunk.iter().enumerate().fold(0, |to, (nth, &count)| {
        let from = nth * chunk;
        dead.copy_within(from..from + count as usize, to);
        to + count as usize
    })
}

kernel! {
    /// Lists the bodies of a chunk whose life has ended. Returns their number.
    fn find_dead(_simd, age: &[f32], life: &[f32], dead: &mut [u32], base: u32) -> u32 {
        list_dead(age, life, dead, base)
    }

    /// Ages bodies at rest.
    fn age_all(simd, dt: f32, age: &mut [f32]) {
        grow_old(simd, dt, age);
    }

    pub(crate) fn remember(simd, block: &Chunk<'_>, room: &mut Room) {
        block.remember(simd, room);
    }

    /// Moves a chunk by gravity, drag and steady wind alone.
    fn advance(simd, motion: &Motion, chunk: &mut Chunk<'_>) {
        advance_plain::<_, false, false>(simd, motion, chunk);
    }

    fn advance_attracted(simd, motion: &Motion, chunk: &mut Chunk<'_>) {
        advance_plain::<_, false, true>(simd, motion, chunk);
    }

    fn advance_in_gusts(simd, motion: &Motion, chunk: &mut Chunk<'_>) {
        advance_plain::<_, true, false>(simd, motion, chunk);
    }

    fn advance_attracted_in_gusts(simd, motion: &Motion, chunk: &mut Chunk<'_>) {
        advance_plain::<_, true, true>(simd, motion, chunk);
    }

    /// Moves a block by the sums of its fields.
    fn integrate_sums(simd, chunk: &mut Chunk<'_>, motion: &Motion, sums: &[[f32; BLOCK]; 6]) {
        chunk.integrate::<_, false>(simd, motion, sums);
    }

    /// The same with drag that grows by the square of the speed.
    fn integrate_square_drag(simd, chunk: &mut Chunk<'_>, motion: &Motion, sums: &[[f32; BLOCK]; 6]) {
        chunk.integrate::<_, true>(simd, motion, sums);
    }
}

impl<'a> Chunk<'a> {
    /// One record as columns of one body.
    pub(crate) fn of_row(first: u32, row: &'a mut BodyRow) -> Self {
        let BodyRow { px, py, pz, vx, vy, vz, age, life, size, id, key } = row;
        Self {
            first,
            px: std::slice::from_mut(px),
            py: std::slice::from_mut(py),
            pz: std::slice::from_mut(pz),
            vx: std::slice::from_mut(vx),
            vy: std::slice::from_mut(vy),
            vz: std::slice::from_mut(vz),
            age: std::slice::from_mut(age),
            life: std::slice::from_ref(life),
            size: std::slice::from_ref(size),
            id: std::slice::from_ref(id),
            key: std::slice::from_ref(key),
        }
    }

    /// All bodies, as one chunk.
    pub(crate) fn of(bodies: &'a mut Bodies<'_>) -> Self {
        let Bodies { position: [px, py, pz], velocity: [vx, vy, vz], age, life, size, id, key } = bodies;
        Self { first: 0, px, py, pz, vx, vy, vz, age, life, size, id, key }
    }
}

impl Chunk<'_> {
    pub(crate) fn part(&mut self, range: std::ops::Range<usize>) -> Chunk<'_> {
        Chunk {
            first: self.first + range.start as u32,
            px: &mut self.px[range.clone()],
            py: &mut self.py[range.clone()],
            pz: &mut self.pz[range.clone()],
            vx: &mut self.vx[range.clone()],
            vy: &mut self.vy[range.clone()],
            vz: &mut self.vz[range.clone()],
            age: &mut self.age[range.clone()],
            life: &self.life[range.clone()],
            size: &self.size[range.clone()],
            id: &self.id[range.clone()],
            key: &self.key[range],
        }
    }

    /// Ages bodies that are and stay at rest.
    fn rest(&mut self, acts: &Acts<'_>, lies: &mut [u8], room: &mut Room, notes: &mut Notes) {
        age_all(acts.level, acts.motion.dt, self.age);
        lies.fill(1);
        if acts.catching.is_empty() || acts.catching.is_still() {
            return;
        }
        let n = self.px.len();
        for first in (0..n).step_by(BLOCK) {
            self.part(first..(first + BLOCK).min(n)).be_caught(acts, false, 0, room, notes);
        }
    }

    /// Moves and ages bodies and resolves their contacts. Marks bodies at rest.
    fn step(&mut self, acts: &Acts<'_>, lies: &mut [u8], room: &mut Room, notes: &mut Notes) {
        let (plain, solid) = (acts.is_plain, acts.is_solid());
        if acts.sets_aside && !solid {
            lies.fill(0);
        }
        if plain && !solid {
            self.advance_plain(acts.motion, acts.level);
            return;
        }
        let n = self.px.len();
        for first in (0..n).step_by(BLOCK) {
            let range = first..(first + BLOCK).min(n);
            let mut block = self.part(range.clone());
            if solid {
                remember(acts.level, &block, room);
            }
            if plain {
                block.advance_plain(acts.motion, acts.level);
            } else {
                block.advance_by_fields(acts, room);
                block.hold_on_shapes(acts);
            }
            if solid {
                block.collide(acts, false, room, notes);
                if acts.sets_aside {
                    for (lies, now) in lies[range].iter_mut().zip(room.lies) {
                        *lies = now as u8;
                    }
                }
            }
        }
    }

    /// Stores the position of each body before the step, and whether it is at rest.
    #[inline(always)]
    fn remember<S: Simd>(&self, _simd: S, room: &mut Room) {
        let n = self.px.len();
        let [x, y, z] = &mut room.start;
        x[..n].copy_from_slice(self.px);
        y[..n].copy_from_slice(self.py);
        z[..n].copy_from_slice(self.pz);
        let (vx, vy, vz, rests) = (&self.vx[..n], &self.vy[..n], &self.vz[..n], &mut room.rests[..n]);
        room.lies[..n].fill(0);
        for i in 0..n {
            rests[i] = u32::from(vx[i].abs() + vy[i].abs() + vz[i].abs() == 0.0);
        }
    }

    fn advance_plain(&mut self, motion: &Motion, level: Level) {
        match (motion.gusts.is_some(), motion.attractor.is_some()) {
            (false, false) => advance(level, motion, self),
            (false, true) => advance_attracted(level, motion, self),
            (true, false) => advance_in_gusts(level, motion, self),
            (true, true) => advance_attracted_in_gusts(level, motion, self),
        }
    }

    fn advance_by_fields(&mut self, acts: &Acts<'_>, room: &mut Room) {
        self.sum_fields(acts, room);
        let motion = acts.motion;
        if motion.drag_square > 0.0 {
            integrate_square_drag(acts.level, self, motion, &room.sums);
        } else {
            integrate_sums(acts.level, self, motion, &room.sums);
        }
    }

    /// Adds up the velocity of the air and all accelerations at each body of a block.
    pub(crate) fn sum_fields(&self, acts: &Acts<'_>, room: &mut Room) {
        let n = self.px.len();
        let motion = acts.motion;
        let [ax, ay, az, qx, qy, qz] = &mut room.sums;
        let (air, push) = ([ax, ay, az], [qx, qy, qz]);
        let air = air.map(|axis| &mut axis[..n]);
        let push = push.map(|axis| &mut axis[..n]);
        let mut chunk = FieldChunk {
            time: acts.time,
            dt: motion.dt,
            first: acts.offset + self.first as usize,
            position: [self.px, self.py, self.pz],
            velocity: [self.vx, self.vy, self.vz],
            age: self.age,
            life: self.life,
            id: self.id,
            air,
            push,
        };
        for axis in 0..3 {
            chunk.air[axis].fill(motion.wind[axis]);
            chunk.push[axis].fill(motion.fall[axis]);
        }
        if let Some(gusts) = &motion.gusts {
            let air = chunk.air.each_mut().map(|axis| &mut **axis);
            add_gusts(acts.level, gusts, chunk.position, air);
        }
        for (field, curl) in acts.fields() {
            field.act(acts.level, curl, &mut chunk);
        }
        acts.world.pull(acts.time, acts.level, &mut chunk);
        for field in acts.world.own_fields() {
            field.act(&mut chunk);
        }
    }

    /// Projects every body onto the surfaces that hold it.
    pub(crate) fn hold_on_shapes(&mut self, acts: &Acts<'_>) {
        for grid in acts.fields().filter_map(|(field, _)| field.holds()) {
            self.hold_on(grid);
        }
    }

    /// Projects every body onto a surface, by three steps along the gradient, and keeps the velocity along the surface.
    fn hold_on(&mut self, grid: &DistanceGrid) {
        for i in 0..self.px.len() {
            let (mut place, mut velocity) = (self.place(i), self.velocity(i));
            for _ in 0..3 {
                let (distance, gradient) = grid.sample(place);
                let normal = gradient.normalize_or_zero();
                place -= normal * distance;
                velocity -= normal * velocity.dot(normal);
            }
            [self.px[i], self.py[i], self.pz[i]] = place.to_array();
            [self.vx[i], self.vy[i], self.vz[i]] = velocity.to_array();
        }
    }

    #[inline(always)]
    fn integrate<S: Simd, const SQUARE: bool>(&mut self, simd: S, motion: &Motion, sums: &[[f32; BLOCK]; 6]) {
        let Chunk { px, py, pz, vx, vy, vz, age, .. } = self;
        let [ax, ay, az, qx, qy, qz] = sums;
        integrate::<S, SQUARE>(simd, motion, px, py, pz, vx, vy, vz, age, ax, ay, az, qx, qy, qz);
    }

    pub(crate) fn place(&self, i: usize) -> Vec3 {
        Vec3::new(self.px[i], self.py[i], self.pz[i])
    }

    pub(crate) fn velocity(&self, i: usize) -> Vec3 {
        Vec3::new(self.vx[i], self.vy[i], self.vz[i])
    }

    pub(crate) fn row(&self, i: usize) -> BodyRow {
        BodyRow {
            px: self.px[i],
            py: self.py[i],
            pz: self.pz[i],
            vx: self.vx[i],
            vy: self.vy[i],
            vz: self.vz[i],
            age: self.age[i],
            life: self.life[i],
            size: self.size[i],
            id: self.id[i],
            key: self.key[i],
        }
    }
}

/// Scratch buffers of a block, on the stack of the worker.
pub(crate) struct Room {
    /// Velocity of the air, then acceleration; x, y, z each.
    pub(crate) sums: [[f32; BLOCK]; 6],
    pub(crate) near: Nearby,
    pub(crate) collisions: [Collision; BLOCK],
    pub(crate) caught: [u32; BLOCK],
    pub(crate) touched: [u16; BLOCK],
    /// Positions before the step; then 1 for each body that was at rest, and for each that still is.
    pub(crate) start: [[f32; BLOCK]; 3],
    pub(crate) rests: [u32; BLOCK],
    pub(crate) lies: [u32; BLOCK],
}

impl Room {
    pub(crate) fn new() -> Self {
        Self {
            sums: [[0.0; BLOCK]; 6],
            near: Nearby::new(),
            collisions: [Collision::default(); BLOCK],
            caught: [FREE; BLOCK],
            touched: [0; BLOCK],
            start: [[0.0; BLOCK]; 3],
            rests: [0; BLOCK],
            lies: [0; BLOCK],
        }
    }
}

/// Moves one chunk by the plain form.
#[inline(always)]
fn advance_plain<S: Simd, const GUSTS: bool, const ATTRACTOR: bool>(
    _simd: S,
    motion: &Motion,
    chunk: &mut Chunk<'_>,
) {
    // By value: the compiler then knows that no store changes the constants.
    let motion = *motion;
    let Chunk { px, py, pz, vx, vy, vz, age, .. } = chunk;
    let n = px.len();
    let (py, pz, vx, vy, vz) = (&mut py[..n], &mut pz[..n], &mut vx[..n], &mut vy[..n], &mut vz[..n]);
    let age = &mut age[..n];
    for i in 0..n {
        let (p, v) = motion.advance::<GUSTS, ATTRACTOR>([px[i], py[i], pz[i]], [vx[i], vy[i], vz[i]]);
        [px[i], py[i], pz[i]] = p;
        [vx[i], vy[i], vz[i]] = v;
        age[i] += motion.dt;
    }
}

#[inline(always)]
fn grow_old<S: Simd>(_simd: S, dt: f32, age: &mut [f32]) {
    for age in age {
        *age += dt;
    }
}

/// Moves one block by the sums of its fields. Each slice is an argument of its own: only then does the compiler know that they do not overlap.
#[expect(
    clippy::too_many_arguments,
    reason = "plain slices, so that the compiler knows that they do not overlap"
)]
#[inline(always)]
fn integrate<S: Simd, const SQUARE: bool>(
    _simd: S,
    motion: &Motion,
    px: &mut [f32],
    py: &mut [f32],
    pz: &mut [f32],
    vx: &mut [f32],
    vy: &mut [f32],
    vz: &mut [f32],
    age: &mut [f32],
    ax: &[f32],
    ay: &[f32],
    az: &[f32],
    qx: &[f32],
    qy: &[f32],
    qz: &[f32],
) {
    let motion = *motion;
    let n = px.len().min(BLOCK);
    let (px, py, pz, age) = (&mut px[..n], &mut py[..n], &mut pz[..n], &mut age[..n]);
    let (vx, vy, vz) = (&mut vx[..n], &mut vy[..n], &mut vz[..n]);
    let (ax, ay, az) = (&ax[..n], &ay[..n], &az[..n]);
    let (qx, qy, qz) = (&qx[..n], &qy[..n], &qz[..n]);
    let [least, most] = motion.speed_limits.unwrap_or([0.0, f32::INFINITY]);
    let limits = motion.speed_limits.is_some();
    for i in 0..n {
        let (v, air, push) = ([vx[i], vy[i], vz[i]], [ax[i], ay[i], az[i]], [qx[i], qy[i], qz[i]]);
        let [mut x, mut y, mut z] = motion.after::<SQUARE>(v, air, push, motion.keep, motion.reach);
        if limits {
            let speed = (x * x + y * y + z * z).sqrt();
            // A body at rest has no direction to speed up in.
            let scale = if speed > 0.0 { speed.max(least).min(most) / speed } else { 1.0 };
            (x, y, z) = (x * scale, y * scale, z * scale);
        }
        (vx[i], vy[i], vz[i]) = (x, y, z);
        px[i] += x * motion.dt;
        py[i] += y * motion.dt;
        pz[i] += z * motion.dt;
        age[i] += motion.dt;
    }
}

/// Writes `base + index` of every body whose age has reached its life. Returns their number.
#[inline(always)]
fn list_dead(age: &[f32], life: &[f32], dead: &mut [u32], base: u32) -> u32 {
    const GROUP: usize = 16;
    let mut found = 0;
    let mut look = |first: usize, age: &[f32], life: &[f32]| {
        for (i, (age, life)) in age.iter().zip(life).enumerate() {
            if age >= life {
                dead[found] = base + (first + i) as u32;
                found += 1;
            }
        }
    };
    let (ages, age_rest) = age.as_chunks::<GROUP>();
    let (lives, life_rest) = life.as_chunks::<GROUP>();
    for (group, (age, life)) in ages.iter().zip(lives).enumerate() {
        let any = age.iter().zip(life).fold(false, |any, (age, life)| any | (age >= life));
        if any {
            look(group * GROUP, age, life);
        }
    }
    look(ages.len() * GROUP, age_rest, life_rest);
    found as u32
}
