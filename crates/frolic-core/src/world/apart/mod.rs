//! Bodies that keep apart: what piles up, and what jams.
//!
//! **In:** bodies that have just been moved. **Out:** the same bodies, pushed out of each other, without the speed with which they met.
//!
//! | question | file |
//! | --- | --- |
//! | what can be set? | `spec.rs` |
//! | how are eight bodies tested at once? | `kernel.rs` |
//!
//! Positions are relaxed in rounds: each body goes the mean of the ways out of its overlaps (Müller et al., "Position Based Dynamics", 2007; averaged as in
//! Macklin et al., "Unified Particle Physics for Real-Time Applications", 2014). A push changes no velocity: where bodies touch they lose the speed with which
//! they near each other, so that energy does not grow. Bodies that hardly move while they touch others fall asleep: they stay where they
//! are until something lively touches them, or fewer touch them than when they fell asleep.

mod kernel;
mod spec;

pub use spec::ApartSpec;

use rayon::prelude::*;

use crate::foundations::error::SpecError;
use crate::foundations::meter::{Counter, Meter, Stage};
use crate::foundations::random::{hash3, unit};
use crate::foundations::simd::{Level, detect};
use crate::foundations::state::{SavedState, unfit};
use crate::foundations::trace::part as trace_part;
use crate::neighbours::blocks::{BLOCK, Candidates, WIDE_SPAN};
use crate::neighbours::{AxisSpec, NeighbourSpec, Neighbours};
use crate::world::World;
use crate::world::bodies::{Bodies, KeepTo};
use kernel::{Met, Own, Row, count_near, meet, part, stir};

/// Bodies of a task.
const TASK: usize = 2048;

/// How far pushes move a body in a step at most, in greatest radii. Cells reach as much farther, so that bodies that pushes bring near each other are found.
pub(crate) const MOST_PUSH: f32 = 0.1;

/// Distance at which bodies count as touching, over the sum of their radii.
pub(crate) const SKIN: f32 = 1.01;

/// How much farther others may be before a sleeper misses them.
pub(crate) const WIDER: f32 = 0.04;

/// How far positions are shaken, over the radius: bodies on one spot then have a way out.
pub(crate) const SHAKE: f32 = 1e-4;

/// Steps of rest after which a body sleeps.
pub(crate) const TIRED: u8 = 12;

/// Speed below which a body counts as still, over that of rest.
pub(crate) const CREEP: f32 = 0.2;

/// Speed of one that wakes others, over that of rest.
pub(crate) const LIVELY: f32 = 4.0;

/// Keeps the bodies of one population apart, step by step.
///
/// ```
/// use frolic_core::{ApartSpec, BodyColumns, BodyRow, Meter, PushApart, WorldSpec};
/// let mut discs = BodyColumns::default();
/// discs.push(&BodyRow { px: -0.1, size: 0.5, life: f32::INFINITY, ..BodyRow::default() });
/// discs.push(&BodyRow { px: 0.1, size: 0.5, life: f32::INFINITY, id: 1, key: 1, ..BodyRow::default() });
/// let mut apart = PushApart::new(&ApartSpec::default(), None)?;
/// let world = WorldSpec::default().build()?;
/// for _ in 0..8 {
///     apart.step(&mut discs.bodies(), &world, 1.0 / 60.0, &mut Meter::new())?;
/// }
/// assert!(discs.px()[1] - discs.px()[0] > 0.98);
/// # Ok::<(), frolic_core::SpecError>(())
/// ```
#[derive(Debug, Clone)]
pub struct PushApart {
    spec: ApartSpec,
    keep_to: Option<KeepTo>,
    near: Neighbours,
    /// In the order of cells: what others see, before and after a round, and what belongs to each body.
    rows: Vec<Row>,
    next: Vec<Row>,
    sleepers: Vec<Sleeper>,
    /// Runs of candidates of each block, kept for all rounds of a step.
    blocks: Vec<Vec<Block>>,
    tallies: Vec<Tally>,
    /// How many touch each, in the order of cells.
    touching: Vec<f32>,
    /// How far each went in the last step over its length, in m/s: 0 of sleepers and of those that are new.
    paces: Vec<f32>,
    /// By the index of a body: its number, where it was after the last step, and how long it has rested.
    memory: Vec<Memory>,
    /// Whether the numbers in memory rise: then bodies are found although others have gone.
    rises: bool,
    level: Level,
}

/// A block: its first place, how many bodies it has, and their candidates.
#[derive(Debug, Clone, Default)]
struct Block {
    first: u32,
    count: u32,
    candidates: Candidates,
}

/// What is kept of a body from step to step.
#[derive(Debug, Clone, Copy, Default)]
struct Memory {
    id: u32,
    at: [f32; 3],
    /// Steps that it has rested.
    rested: u8,
    /// How many touched it when it fell asleep.
    touching: u8,
    /// How far it went in the last step over its length, in m/s.
    pace: f32,
}

/// A body as it came into the step.
#[derive(Debug, Clone, Copy, Default)]
struct Sleeper {
    memory: Memory,
    /// Where it came from, and the same shaken: pushes start there.
    from: [f32; 3],
    start: [f32; 3],
    /// Whether an obstacle may be in reach.
    by_wall: bool,
    /// Whether it was there in the last step.
    known: bool,
    asleep: bool,
}

/// What a task counted.
#[derive(Debug, Clone, Copy, Default)]
struct Tally {
    tested: u64,
    overlapping: u64,
    asleep: u64,
}

impl PushApart {
    /// Keeps bodies apart as a spec says; in a plane, if they stay in one.
    ///
    /// # Errors
    /// A value is out of range.
    pub fn new(spec: &ApartSpec, keep_to: Option<KeepTo>) -> Result<Self, SpecError> {
        spec.check().map_err(|error| error.under("apart"))?;
        Ok(Self {
            spec: *spec,
            keep_to,
            near: Neighbours::new(&NeighbourSpec::default())?,
            rows: Vec::new(),
            next: Vec::new(),
            sleepers: Vec::new(),
            blocks: Vec::new(),
            tallies: Vec::new(),
            touching: Vec::new(),
            paces: Vec::new(),
            memory: Vec::new(),
            rises: false,
            level: detect(),
        })
    }

    /// The same with kernels of an instruction set, which do not change results. For tests.
    pub fn tuned(mut self, level: Level) -> Self {
        self.near = self.near.tuned(level);
        self.level = level;
        self
    }

    /// The spec that it was built from.
    pub fn spec(&self) -> &ApartSpec {
        &self.spec
    }

    /// Takes over the spec of another.
    pub(crate) fn adopt(&mut self, other: &Self) {
        (self.spec, self.keep_to) = (other.spec, other.keep_to);
    }

    /// Number of bodies that slept through the last step.
    pub fn asleep(&self) -> u64 {
        self.tallies.iter().map(|tally| tally.asleep).sum()
    }

    /// Returns what it knows of each body: where it was, and how long it has rested.
    pub fn save(&self) -> SavedState {
        let mut state = SavedState::default();
        state.put_numbers("id", &self.memory.iter().map(|memory| memory.id).collect::<Vec<_>>());
        for (axis, name) in ["x", "y", "z"].iter().enumerate() {
            state.put_floats(name, &self.memory.iter().map(|memory| memory.at[axis]).collect::<Vec<_>>());
        }
        state.put_floats("pace", &self.memory.iter().map(|memory| memory.pace).collect::<Vec<_>>());
        let rest = |memory: &Memory| u32::from(memory.rested) | u32::from(memory.touching) << 8;
        state.put_numbers("rest", &self.memory.iter().map(rest).collect::<Vec<_>>());
        state
    }

    /// Takes over what [`PushApart::save`] returned.
    ///
    /// # Errors
    /// Something is missing, or columns differ in length. It then stays as it is.
    pub fn restore(&mut self, state: &SavedState) -> Result<(), SpecError> {
        let (id, rest) = (state.numbers("id")?, state.numbers("rest")?);
        let [x, y, z] = [state.floats("x")?, state.floats("y")?, state.floats("z")?];
        let pace = state.floats("pace")?;
        if [rest.len(), x.len(), y.len(), z.len(), pace.len()] != [id.len(); 5] {
            return Err(unfit("rest", "differs in length from the numbers of bodies"));
        }
        let memory = (0..id.len()).map(|nth| Memory {
            id: id[nth],
            at: [x[nth], y[nth], z[nth]],
            rested: (rest[nth] & 0xff).min(u32::from(TIRED)) as u8,
            touching: (rest[nth] >> 8 & 0xff) as u8,
            pace: pace[nth],
        });
        self.memory = memory.collect();
        self.rises = id.windows(2).all(|pair| pair[0] < pair[1]);
        Ok(())
    }

    /// Bytes held.
    pub fn bytes(&self) -> u64 {
        let each = 2 * size_of::<Row>() + size_of::<Sleeper>() + size_of::<Memory>();
        self.rows.capacity() as u64 * each as u64 + self.near.bytes()
    }

    /// Pushes bodies apart that a step of `dt` seconds has moved, and off obstacles of the world by their radius. O(n), on all cores.
    ///
    /// # Errors
    /// Columns differ in length, a position is not finite, or a size makes a radius that is no number.
    pub fn step(
        &mut self,
        bodies: &mut Bodies<'_>,
        world: &World,
        dt: f32,
        meter: &mut Meter,
    ) -> Result<(), SpecError> {
        bodies.check()?;
        if bodies.is_empty() || !(dt.is_finite() && dt > 0.0) {
            return Ok(());
        }
        let largest = bodies.size.par_iter().copied().reduce(|| 0.0, f32::max) * self.spec.radius;
        if !largest.is_finite() || largest > 1e5 {
            let problem = format!("makes a radius of {largest} m");
            return Err(SpecError::new("size", problem, "write sizes up to 100000 m"));
        }
        if largest <= 0.0 {
            return Ok(());
        }
        let near = NeighbourSpec::new((largest * 2.0 * (SKIN + MOST_PUSH)).max(1e-6))
            .technique(self.spec.neighbours);
        self.near.set_spec(KeepTo::neighbours(self.keep_to, near));
        let [x, y, z] = &bodies.position;
        self.near.find(&[[x, y, z]], meter)?;
        let started = meter.start(Stage::Collide);
        self.take(bodies);
        self.find_walls(world, largest * MOST_PUSH);
        self.group();
        let count = bodies.len();
        meter.moved(
            Stage::Collide,
            count as u64 * u64::from(self.spec.rounds + 1) * 2 * size_of::<Row>() as u64,
        );
        self.wake();
        for _ in 0..self.spec.rounds {
            self.round(world, largest * MOST_PUSH);
        }
        self.slow(dt);
        self.touching();
        self.meet(world, dt);
        self.give(bodies);
        meter.stop(started);
        for tally in &self.tallies {
            meter.add(Counter::PairsTested, tally.tested);
            meter.add(Counter::PairsNear, tally.overlapping);
            meter.add(Counter::SetAside, tally.asleep);
        }
        Ok(())
    }

    /// Copies bodies into the order of cells.
    fn take(&mut self, bodies: &Bodies<'_>) {
        let Self { spec, near, rows, next, sleepers, memory, rises, tallies, paces, .. } = self;
        let order = near.order(0);
        let [sx, sy, sz] = near.sorted_positions(0);
        rows.resize(order.len(), Row::default());
        next.resize(order.len(), Row::default());
        sleepers.resize(order.len(), Sleeper::default());
        paces.resize(order.len(), 0.0);
        tallies.clear();
        tallies.resize(order.len().div_ceil(TASK), Tally::default());
        let counts = near.spec().axes.map(|axis| axis != AxisSpec::Ignored);
        let all = rows.par_iter_mut().zip(sleepers).zip(paces).enumerate().with_min_len(4096);
        all.for_each(|(place, ((row, sleeper), pace))| {
            let nth = order[place] as usize;
            let radius = bodies.size[nth].max(0.0) * spec.radius;
            let draws = hash3(bodies.key[nth], 0x6170, 0x6172).map(|bits| unit(bits) - 0.5);
            let shaken =
                |axis: usize, at: f32| if counts[axis] { at + draws[axis] * radius * SHAKE } else { at };
            let known = recall(memory, *rises, nth, bodies.id[nth]);
            let asleep = known.is_some_and(|memory| memory.rested >= TIRED);
            // One that has just come is as lively as it is fast.
            let [vx, vy, vz] = bodies.velocity.each_ref().map(|column| column[nth]);
            let fresh = Memory { pace: (vx * vx + vy * vy + vz * vz).sqrt(), ..Memory::default() };
            let memory = known.unwrap_or(fresh);
            *sleeper = Sleeper {
                memory,
                from: [sx[place], sy[place], sz[place]],
                start: [0.0; 3],
                by_wall: false,
                known: known.is_some(),
                asleep,
            };
            let mass = mass_of(radius.max(1e-9), spec.mass_power);
            *row = [
                shaken(0, sx[place]),
                shaken(1, sy[place]),
                shaken(2, sz[place]),
                radius,
                vx,
                vy,
                vz,
                1.0 / mass,
            ];
            if asleep {
                // It stays where it was: gravity has moved it.
                let was = sleeper.memory.at;
                for axis in 0..3 {
                    row[axis] = if counts[axis] { was[axis] } else { 0.0 };
                }
                row[4..7].fill(0.0);
            }
            sleeper.start = [row[0], row[1], row[2]];
            if asleep {
                sleeper.from = sleeper.start;
            }
            *pace = if asleep { 0.0 } else { memory.pace };
        });
    }

    /// Finds the blocks of each task, and their candidates.
    fn group(&mut self) {
        let Self { near, rows, blocks, .. } = self;
        let count = rows.len();
        blocks.resize_with(count.div_ceil(TASK), Vec::new);
        let reach = near.spec().reach;
        blocks.par_iter_mut().enumerate().for_each(|(task, blocks)| {
            let end = ((task + 1) * TASK).min(count);
            let (mut from, mut used) = (task * TASK, 0);
            while from < end {
                let to = near.block_end(0, from, end, WIDE_SPAN);
                if used == blocks.len() {
                    blocks.push(Block::default());
                }
                let block = &mut blocks[used];
                (block.first, block.count) = (from as u32, (to - from) as u32);
                near.around(0, near.bounds(0, from..to), reach, &mut block.candidates);
                (from, used) = (to, used + 1);
            }
            blocks.truncate(used);
        });
    }

    /// Wakes sleepers that something lively touches, or that fewer touch than when they fell asleep.
    fn wake(&mut self) {
        let lively = self.spec.rest * LIVELY;
        let Self { rows, sleepers, blocks, paces, level, .. } = self;
        if sleepers.par_iter().all(|sleeper| !sleeper.asleep) {
            return;
        }
        let all = sleepers.par_chunks_mut(TASK).zip(blocks).enumerate();
        all.for_each(|(task, (sleepers, blocks))| {
            for block in blocks.iter() {
                let range =
                    block.first as usize - task * TASK..(block.first + block.count) as usize - task * TASK;
                if sleepers[range.clone()].iter().all(|sleeper| !sleeper.asleep) {
                    continue;
                }
                let own = own_of(rows, block);
                let mut met = Met::default();
                stir(*level, &own, rows, paces, &block.candidates.runs, SKIN + WIDER, &mut met);
                for (i, sleeper) in sleepers[range].iter_mut().enumerate() {
                    let walls = f32::from(u8::from(sleeper.by_wall));
                    let alone = met.touching[i] + walls + 0.5 < f32::from(sleeper.memory.touching);
                    if sleeper.asleep && (met.liveliest[i] > lively || alone) {
                        sleeper.asleep = false;
                        sleeper.memory.rested = 0;
                    }
                }
            }
        });
    }

    /// One round: all go the mean of their ways out.
    fn round(&mut self, world: &World, farthest: f32) {
        let Self { spec, rows, next, sleepers, blocks, tallies, level, .. } = self;
        let stiffness = spec.stiffness;
        let all = next.par_chunks_mut(TASK).zip(blocks).zip(tallies).enumerate();
        all.for_each(|(task, ((next, blocks), tally))| {
            let _part = trace_part(Stage::Collide);
            let base = task * TASK;
            for block in blocks.iter() {
                let (first, count) = (block.first as usize, block.count as usize);
                let own = own_of(rows, block);
                let into = &mut next[first - base..first - base + count];
                into.copy_from_slice(&rows[first..first + count]);
                if sleepers[first..first + count].iter().all(|sleeper| sleeper.asleep) {
                    continue;
                }
                let mut met = Met::default();
                part(*level, &own, rows, &block.candidates.runs, &mut met);
                tally.tested += u64::from(block.candidates.count.saturating_sub(1)) * u64::from(block.count);
                for (i, row) in into.iter_mut().enumerate().filter(|(i, _)| !sleepers[first + i].asleep) {
                    // The more there are the less each counts, but a pair goes all the way.
                    let share = stiffness / (met.overlapping[i] * 0.5).max(1.0);
                    let start = sleepers[first + i].start;
                    let off = [0, 1, 2].map(|axis| row[axis] + met.way[axis][i] * share - start[axis]);
                    let way = (off[0] * off[0] + off[1] * off[1] + off[2] * off[2]).sqrt();
                    let held = if way > farthest { farthest / way } else { 1.0 };
                    (0..3).for_each(|axis| row[axis] = start[axis] + off[axis] * held);
                    if sleepers[first + i].by_wall {
                        stand_off(world, row);
                    }
                    tally.overlapping += met.overlapping[i] as u64;
                }
            }
        });
        std::mem::swap(rows, next);
    }

    /// Finds those that an obstacle may be in reach of.
    fn find_walls(&mut self, world: &World, farthest: f32) {
        if world.solid().is_empty() {
            return;
        }
        let counts = self.near.spec().axes.map(|axis| axis != AxisSpec::Ignored);
        self.rows.par_iter().zip(&mut self.sleepers).with_min_len(1024).for_each(|(row, sleeper)| {
            let (distance, normal) = world.surface([row[0], row[1], row[2]].into());
            let along = (0..3).any(|axis| counts[axis] && normal[axis] != 0.0);
            sleeper.by_wall = along && distance < row[3] + farthest * 2.0;
        });
    }

    /// Takes away the speed that pushes have worked against: no more than they undid of the way, and never beyond rest.
    fn slow(&mut self, dt: f32) {
        let per = 1.0 / dt;
        self.rows.par_iter_mut().zip(&self.sleepers).with_min_len(4096).for_each(|(row, sleeper)| {
            let push = [0, 1, 2].map(|axis| row[axis] - sleeper.start[axis]);
            let way = (push[0] * push[0] + push[1] * push[1] + push[2] * push[2]).sqrt();
            if way > 0.0 && !sleeper.asleep {
                let out = push.map(|axis| axis / way);
                let against = -(row[4] * out[0] + row[5] * out[1] + row[6] * out[2]);
                let change = against.max(0.0).min(way * per);
                (0..3).for_each(|axis| row[4 + axis] += out[axis] * change);
            }
        });
    }

    /// Counts how many touch each.
    fn touching(&mut self) {
        let Self { rows, blocks, touching, level, .. } = self;
        touching.resize(rows.len(), 0.0);
        touching.par_chunks_mut(TASK).zip(blocks).enumerate().for_each(|(task, (touching, blocks))| {
            for block in blocks.iter() {
                let (first, count) = (block.first as usize, block.count as usize);
                let counts = count_near(*level, &own_of(rows, block), rows, &block.candidates.runs, SKIN);
                touching[first - task * TASK..][..count].copy_from_slice(&counts[..count]);
            }
        });
    }

    /// Takes away the speed with which bodies meet, and finds those that rest.
    fn meet(&mut self, world: &World, dt: f32) {
        let Self { spec, rows, next, sleepers, blocks, tallies, touching, level, .. } = self;
        // What relaxes slowly is not at rest yet.
        let still = (spec.rest * dt * CREEP).powi(2);
        let all = next.par_chunks_mut(TASK).zip(sleepers.par_chunks_mut(TASK)).zip(blocks).zip(tallies);
        all.enumerate().for_each(|(task, (((next, sleepers), blocks), tally))| {
            let base = task * TASK;
            for block in blocks.iter() {
                let (first, count) = (block.first as usize, block.count as usize);
                let (own, range) = (own_of(rows, block), first - base..first - base + count);
                let (into, sleepers) = (&mut next[range.clone()], &mut sleepers[range]);
                into.copy_from_slice(&rows[first..first + count]);
                let sleeps = sleepers.iter().all(|sleeper| sleeper.asleep);
                let mut met = Met::default();
                if !sleeps {
                    let counts = &touching[first..first + count];
                    meet(
                        *level,
                        &own,
                        rows,
                        touching,
                        counts,
                        &block.candidates.runs,
                        SKIN,
                        spec.friction,
                        &mut met,
                    );
                }
                for (i, (row, sleeper)) in into.iter_mut().zip(sleepers).enumerate() {
                    if sleeper.asleep {
                        tally.asleep += 1;
                        continue;
                    }
                    (0..3).for_each(|axis| row[4 + axis] += met.change[axis][i]);
                    let off = [0, 1, 2].map(|axis| {
                        sleeper.from[axis] + (row[axis] - sleeper.start[axis]) - sleeper.memory.at[axis]
                    });
                    let way = off[0] * off[0] + off[1] * off[1] + off[2] * off[2];
                    let mut touching = met.touching[i];
                    if sleeper.by_wall && world.surface([row[0], row[1], row[2]].into()).0 <= row[3] * SKIN {
                        touching += 1.0;
                        row[4..7].iter_mut().for_each(|axis| *axis *= 1.0 - spec.friction);
                    }
                    let rests = sleeper.known && touching >= 1.0 && way <= still;
                    sleeper.memory.rested =
                        if rests { sleeper.memory.rested.saturating_add(1).min(TIRED) } else { 0 };
                    if rests {
                        row[4..7].iter_mut().for_each(|axis| *axis = 0.0);
                    }
                    sleeper.memory.pace = way.sqrt() / dt;
                    sleeper.memory.touching = touching.min(255.0) as u8;
                }
            }
        });
        std::mem::swap(rows, next);
    }

    /// Copies positions and velocities back.
    fn give(&mut self, bodies: &mut Bodies<'_>) {
        let Self { near, rows, sleepers, memory, rises, .. } = self;
        let order = near.order(0);
        *rises = bodies.id.windows(2).all(|pair| pair[0] < pair[1]);
        let counts = near.spec().axes.map(|axis| axis != AxisSpec::Ignored);
        memory.resize(bodies.len(), Memory::default());
        let [px, py, pz] = &mut bodies.position;
        let [vx, vy, vz] = &mut bodies.velocity;
        for ((row, sleeper), nth) in rows.iter().zip(&*sleepers).zip(order) {
            let nth = *nth as usize;
            let at = [0, 1, 2].map(|axis| sleeper.from[axis] + (row[axis] - sleeper.start[axis]));
            for (axis, column) in [&mut *px, py, pz].into_iter().enumerate() {
                if counts[axis] {
                    column[nth] = at[axis];
                }
            }
            (vx[nth], vy[nth], vz[nth]) = (row[4], row[5], row[6]);
            memory[nth] = Memory { id: bodies.id[nth], at, ..sleeper.memory };
        }
    }
}

/// A radius to a power, which mostly is a whole number.
fn mass_of(radius: f32, power: f32) -> f32 {
    if power.fract() != 0.0 {
        return libm::powf(radius, power);
    }
    (0..power as u32).fold(1.0, |mass, _| mass * radius)
}

/// Moves a body out of an obstacle, to where its surface is a radius away.
fn stand_off(world: &World, row: &mut Row) {
    // In a corner off one after the other.
    for _ in 0..3 {
        let (distance, normal) = world.surface([row[0], row[1], row[2]].into());
        if distance >= row[3] * 0.999_99 {
            return;
        }
        (0..3).for_each(|axis| row[axis] += normal[axis] * (row[3] - distance));
    }
}

/// What is known of the body at an index, by its number.
fn recall(memory: &[Memory], rises: bool, nth: usize, id: u32) -> Option<Memory> {
    if let Some(memory) = memory.get(nth)
        && memory.id == id
    {
        return Some(*memory);
    }
    let place = memory.binary_search_by_key(&id, |memory| memory.id).ok().filter(|_| rises)?;
    Some(memory[place])
}

/// The bodies of a block. Lanes without one repeat the first.
fn own_of(rows: &[Row], block: &Block) -> Own {
    let mut own = Own::default();
    for i in 0..BLOCK {
        let nth = block.first as usize + if i < block.count as usize { i } else { 0 };
        let [x, y, z, radius, vx, vy, vz, gives] = rows[nth];
        [own.at[0][i], own.at[1][i], own.at[2][i]] = [x, y, z];
        [own.velocity[0][i], own.velocity[1][i], own.velocity[2][i]] = [vx, vy, vz];
        (own.radius[i], own.gives[i]) = (radius, gives);
    }
    own
}
