//! Flocks: elements that steer by those around them.
//!
//! **In:** a [`FlockSpec`], the world, and elements of other populations that it seeks, flees or hunts. **Out:** columns in the order of cells, so that
//! those near each other are beside each other in memory; an element is told by its `id`.
//!
//! | question | file |
//! | --- | --- |
//! | what can be written of a flock? | `spec.rs` |
//! | what does an element see of those around it? | `rules.rs`; the hot loop |
//! | how does it turn that into a velocity? | `steer.rs` |
//! | what does it seek and flee, where does it turn back? | `targets.rs` |
//! | how does it hunt? | `hunt.rs` |
//! | what changes while it runs? | `live.rs` |
//! | how orderly is the flock? | `gauges.rs` |
//!
//! A step sorts all columns by cell, steers every element by the positions and velocities of the last step, and then moves them as bodies of the world,
//! which adds drag, fields, obstacles and events.

mod gauges;
mod hunt;
mod live;
mod rules;
mod spec;
mod steer;
mod targets;

pub use gauges::FlockGauges;
pub use hunt::Catch;
pub use spec::{AlarmSpec, FlockSpec, HuntSpec, RuleSpec, Space, Target, TargetSpec, TintSpec};
pub use targets::OtherElements;

use std::sync::{Mutex, MutexGuard, PoisonError};

use glam::Vec3;
use rayon::prelude::*;

use crate::assets::Assets;
use crate::families::trail::{Trail, TrailSpec};
use crate::foundations::columns::columns;
use crate::foundations::error::SpecError;
use crate::foundations::meter::{Counter, Meter, Stage};
use crate::foundations::random::{Draws, hash3, unit};
use crate::foundations::simd::{Level, detect};
use crate::foundations::span::Span;
use crate::foundations::trace::part;
use crate::neighbours::blocks::{BLOCK, Candidates, Runs};
use crate::neighbours::{AxisSpec, NeighbourSpec, NeighbourTechnique, Neighbours};
use crate::placement::{Basis, Source};
use crate::poses::{Heading, Posed, Poses};
use crate::world::World;
use crate::world::apart::{ApartSpec, PushApart};
use crate::world::bodies::{BodyColumns, BodyRow, Integrator, KeepTo, MotionSpec, note_birth};
use crate::world::events::{EventRecord, EventSpec, Moment};
use crate::world::fields::spec::FieldSpec;
use gauges::{Sums, add_block};
use hunt::Hunters;
use rules::{Desk, Others, Own, Ranges, Row, Seen, look};
use steer::{State, Steering, Wishes, steer};
use targets::{Avoiding, Targets, Walls};

columns! {
    /// What an element of a flock has beside its body.
    row FlockRow;
    /// What the elements of a flock have beside their bodies; slices of one length.
    columns FlockColumns;
    /// Alarm, 0 to 1.
    alarm: f32,
    /// Bank into its turn, in radians, positive to the right.
    bank: f32,
    /// Way that it has gone, in metres.
    way: f32,
    /// Others that it sees within the radius of cohesion.
    around: f32,
    /// Distance of the nearest other, in metres; infinite without one within its reach.
    nearest: f32,
    /// Its strongest rule: separation 0, alignment 0.5, cohesion 1.
    rule: f32,
}

/// Bytes of an element: its columns, and as much again for a step.
pub(crate) const BYTES: u64 =
    2 * (BodyColumns::BYTES_PER_ELEMENT + FlockColumns::BYTES_PER_ELEMENT) as u64 + 64;

/// Elements of a task.
const TASK: usize = 1024;

/// How far positions are shaken for the rules, in reaches: elements on one spot then have a direction to part in.
const SHAKE: f32 = 1e-3;

/// Elements that steer by those around them.
///
/// ```
/// use frolic_core::{Flock, FlockSpec, Meter, Span, WorldSpec};
/// let mut school = Flock::new(&FlockSpec::school(0.1), 500, Span::from(0.1), 7)?;
/// let (world, mut meter) = (WorldSpec::default().build()?, Meter::new());
/// for _ in 0..30 {
///     school.step(&world, &[], 1.0 / 30.0, &mut meter)?;
/// }
/// assert!(school.len() == 500 && school.gauges().order > 0.0);
/// # Ok::<(), frolic_core::SpecError>(())
/// ```
#[derive(Debug, Clone)]
pub struct Flock {
    spec: FlockSpec,
    size: Span,
    count: u32,
    seed: u32,
    source: Source,
    bodies: BodyColumns,
    own: FlockColumns,
    /// Velocity one step ago, in the present order.
    before: [Vec<f32>; 3],
    /// Length of the last step, in seconds.
    last: f32,
    integrator: Integrator,
    events: Vec<EventSpec>,
    near: Neighbours,
    trail: Option<Trail>,
    apart: Option<PushApart>,
    targets: Targets,
    walls: Option<Walls>,
    hunters: Option<Hunters>,
    /// Elements that a hunter has caught, which the next step takes out.
    caught: Vec<u32>,
    /// Newcomers that are due, and the number of the next.
    owed: f64,
    next: u32,
    steps: u32,
    room: Room,
    differ: Differ,
    gauges: FlockGauges,
    /// Mean place a step ago.
    middle: [f64; 3],
    level: Level,
}

/// Columns whose values can differ from element to element. Those whose values are all the same need no sorting.
#[derive(Debug, Clone, Copy)]
struct Differ {
    age: bool,
    alarm: bool,
    bank: bool,
}

impl Differ {
    const ALL: Self = Self { age: true, alarm: true, bank: true };

    fn or(self, other: Self) -> Self {
        Self { age: self.age || other.age, alarm: self.alarm || other.alarm, bank: self.bank || other.bank }
    }

    fn of(spec: &FlockSpec) -> Self {
        Self {
            age: spec.joining > 0.0,
            alarm: spec.flee.iter().any(|target| target.alarm > 0.0),
            bank: spec.bank > 0.0,
        }
    }
}

/// Memory of a step.
#[derive(Debug, Clone, Default)]
struct Room {
    /// What the rules see of each element.
    rows: Vec<Row>,
    floats: Vec<f32>,
    numbers: Vec<u32>,
    /// Columns that a step writes while it reads the former ones.
    next_velocity: [Vec<f32>; 3],
    next: FlockColumns,
    sums: Vec<Sums>,
    dead: Vec<u32>,
    /// Events of those that were caught.
    records: Vec<EventRecord>,
    tasks: TaskRooms,
}

impl Flock {
    /// A flock of `count` elements, whose sizes are within a range, in metres.
    ///
    /// # Errors
    /// A value is out of range, or memory is short.
    pub fn new(spec: &FlockSpec, count: u32, size: Span, seed: u32) -> Result<Self, SpecError> {
        Self::with_assets(spec, count, size, seed, &Assets::default())
    }

    /// As [`Flock::new`], for specs that name assets.
    ///
    /// # Errors
    /// As [`Flock::new`], or an asset is missing.
    pub fn with_assets(
        spec: &FlockSpec,
        count: u32,
        size: Span,
        seed: u32,
        assets: &Assets,
    ) -> Result<Self, SpecError> {
        spec.check(count)?;
        let mut motion = MotionSpec::new(spec.drag, 0.0);
        motion.keep_to = spec.keep_to;
        let source = Source::new(&spec.start, assets).map_err(|mut error| {
            error.key = error.key.replacen("shape", "start", 1);
            error
        })?;
        let mut integrator = Integrator::new(&motion)?;
        integrator.finds_newborn = false;
        let mut flock = Self {
            spec: spec.clone(),
            size,
            count,
            seed,
            source,
            bodies: BodyColumns::default(),
            own: FlockColumns::default(),
            before: Default::default(),
            last: 0.0,
            integrator,
            events: Vec::new(),
            near: Neighbours::new(&space(spec))?,
            trail: None,
            apart: None,
            targets: Targets::new(spec, assets)?,
            walls: spec.within.as_ref().map(|within| Walls::new(within, assets)).transpose()?,
            hunters: spec.hunt.as_ref().map(Hunters::new),
            caught: Vec::new(),
            owed: 0.0,
            next: 0,
            steps: 0,
            room: Room::default(),
            differ: Differ::of(spec),
            gauges: FlockGauges::default(),
            middle: [0.0; 3],
            level: detect(),
        };
        flock.reserve()?;
        for _ in 0..count {
            flock.push_next();
        }
        Ok(flock)
    }

    fn reserve(&mut self) -> Result<(), SpecError> {
        let count = self.count as usize;
        let refused = |_| {
            let problem = format!("the system has no room for {count} elements");
            SpecError::new("count", problem, "write a smaller count")
        };
        self.bodies.reserve(count).map_err(refused)?;
        self.own.reserve(count).map_err(refused)?;
        let Room { rows, next_velocity, floats, .. } = &mut self.room;
        rows.try_reserve_exact(count).map_err(refused)?;
        for column in next_velocity.iter_mut().chain(&mut self.before).chain([floats]) {
            column.try_reserve_exact(count + BLOCK).map_err(refused)?;
        }
        Ok(())
    }

    /// Records these events.
    ///
    /// # Errors
    /// A value is out of range.
    pub fn with_events(mut self, events: &[EventSpec]) -> Result<Self, SpecError> {
        self.integrator = self.integrator.with_events(events)?;
        self.events = events.to_vec();
        Ok(self)
    }

    /// Adds fields that act on these elements alone, besides those of the world.
    ///
    /// # Errors
    /// A value is out of range, or an asset that is named is missing or of another kind.
    pub fn with_fields(mut self, fields: &[FieldSpec], assets: &Assets) -> Result<Self, SpecError> {
        self.integrator = self.integrator.with_fields(fields, assets)?;
        Ok(self)
    }

    /// Keeps the last places of every element.
    ///
    /// # Errors
    /// A value is out of range, or memory is short.
    pub fn with_trail(mut self, spec: &TrailSpec) -> Result<Self, SpecError> {
        spec.check().map_err(|error| error.under("trail"))?;
        let mut trail = Trail::new(spec);
        trail.reserve(self.count as usize).map_err(|_| {
            let problem = format!("the system has no room for those of {} elements", self.count);
            SpecError::new("trail.places", problem, "write fewer places, or a smaller count")
        })?;
        (0..self.bodies.len()).filter_map(|nth| self.bodies.row(nth)).for_each(|row| trail.push(&row));
        self.trail = Some(trail);
        Ok(self)
    }

    /// Keeps its elements apart as bodies, beside what separation does.
    ///
    /// # Errors
    /// A value is out of range.
    pub fn with_apart(mut self, spec: &ApartSpec) -> Result<Self, SpecError> {
        self.apart = Some(PushApart::new(spec, self.spec.keep_to)?);
        Ok(self)
    }

    /// The same with kernels of an instruction set, which do not change results. For tests.
    pub fn tuned(mut self, level: Level) -> Self {
        self.near = self.near.tuned(level);
        self.integrator.level = level;
        self.level = level;
        self
    }

    /// Adds the element whose number is next, at its place of the start.
    fn push_next(&mut self) {
        let id = self.next;
        self.next += 1;
        let draws = Draws { seed: self.seed, id };
        let place = Vec3::from(self.spec.position) + self.source.place(draws).0;
        let heading = match self.spec.heading {
            Some(heading) => Vec3::from(heading).normalize_or(Vec3::X),
            None => {
                let [u, v, _] = draws.draw(9);
                Basis::around([0.0, 1.0, 0.0]).cap(u, v, 1.0, -1.0)
            }
        };
        let free = Vec3::from(free(self.spec.keep_to));
        let speed = self
            .spec
            .cruise
            .at(steer::pace(id, self.seed))
            .clamp(self.spec.speed_limits[0], self.spec.speed_limits[1]);
        let velocity = (heading * free).normalize_or(Vec3::X) * speed;
        let mut row = BodyRow {
            px: place.x,
            py: place.y,
            pz: place.z,
            vx: velocity.x,
            vy: velocity.y,
            vz: velocity.z,
            life: f32::INFINITY,
            size: own_size(self.size, self.seed, id),
            id,
            key: id,
            ..BodyRow::default()
        };
        if let Some(walls) = &self.walls {
            let (mut place, mut velocity) = (place, velocity);
            walls.hold(&mut place, &mut velocity);
            [row.px, row.py, row.pz] = place.to_array();
        }
        self.bodies.push(&row);
        // Each at its own place of a stroke.
        let way = unit(hash3(id, self.seed, 31)[0]) * 64.0;
        self.own.push(&FlockRow { way, nearest: f32::INFINITY, ..FlockRow::default() });
        for (axis, column) in self.before.iter_mut().enumerate() {
            column.push(velocity[axis]);
        }
        if let Some(hunters) = &mut self.hunters {
            hunters.push();
        }
        if let Some(trail) = &mut self.trail {
            trail.push(&row);
        }
    }

    /// Takes one step of `dt` seconds (finite and above 0; other steps are not taken). `others` are the populations that its spec names; those that are
    /// left out are not seen.
    ///
    /// # Errors
    /// A position is not finite, or columns of another population differ in length.
    pub fn step(
        &mut self,
        world: &World,
        others: &[OtherElements<'_>],
        dt: f32,
        meter: &mut Meter,
    ) -> Result<(), SpecError> {
        self.integrator.begin();
        if !(dt.is_finite() && dt > 0.0) {
            return Ok(());
        }
        self.take_out_caught(meter);
        self.sort(meter)?;
        self.targets.move_to(self.integrator.time, world, others, meter)?;
        if let Some(hunters) = &mut self.hunters {
            hunters.choose(&self.bodies, others, dt);
        }
        self.steer(world, dt, meter);
        self.move_on(world, dt, meter)?;
        // The integrator begins its list anew.
        self.integrator.happened.append(&mut self.room.records);
        self.join(dt, meter);
        (self.last, self.steps) = (dt, self.steps.wrapping_add(1));
        Ok(())
    }

    /// Puts all columns into the order of cells.
    fn sort(&mut self, meter: &mut Meter) -> Result<(), SpecError> {
        self.near.find(&[self.bodies.position()], meter)?;
        let started = meter.start(Stage::Neighbours);
        let Self { near, room, bodies, own, hunters, trail, differ, .. } = self;
        let Room { floats, numbers, rows, .. } = room;
        let BodyColumns { px, py, pz, vx, vy, vz, age, size, id, key, .. } = bodies;
        let FlockColumns { alarm, bank, way, .. } = own;
        for column in [px, py, pz, vx, vy, vz, size, way] {
            near.arrange(0, column, floats)?;
        }
        // Others are arranged only where they can differ from element to element.
        for (column, differs) in [(age, differ.age), (alarm, differ.alarm), (bank, differ.bank)] {
            if differs {
                near.arrange(0, column, floats)?;
            }
        }
        for column in [id, key] {
            near.arrange(0, column, numbers)?;
        }
        if let Some(hunters) = hunters {
            hunters.arrange(near, floats, numbers)?;
        }
        if let Some(trail) = trail {
            trail.try_each(|column| near.arrange(0, column, floats))?;
        }
        show(near, bodies, alarm, rows);
        near.arranged(0);
        meter.moved(Stage::Neighbours, bodies.len() as u64 * 14 * 8);
        meter.stop(started);
        Ok(())
    }

    /// Gives every element its next velocity.
    fn steer(&mut self, world: &World, dt: f32, meter: &mut Meter) {
        let started = meter.start(Stage::Steer);
        let count = self.bodies.len();
        let Self {
            spec, bodies, own, near, targets, walls, hunters, room, level, seed, steps, middle, ..
        } = self;
        for column in &mut room.next_velocity {
            column.resize(count, 0.0);
        }
        let FlockColumns { alarm, bank, way, around, nearest, rule } = &mut room.next;
        for column in [&mut *alarm, bank, way, around, nearest, rule] {
            column.resize(count, 0.0);
        }
        room.sums.resize(count.div_ceil(TASK), Sums::default());
        room.tasks.prepare();
        let task = Task {
            level: *level,
            ranges: Ranges::new(spec, near.lengths()),
            steering: Steering::new(spec, free(spec.keep_to), dt, *seed, *steps),
            spec,
            near,
            others: Others { at: near.sorted_positions(0), rows: &room.rows },
            bodies,
            own,
            targets,
            hunters: hunters.as_ref(),
            avoiding: Avoiding { walls: walls.as_ref(), world, seconds: spec.look_ahead, weight: spec.avoid },
            steps: *steps,
            middle: middle.map(|axis| axis as f32),
        };
        let (tasks, [vx, vy, vz]) = (&room.tasks, &mut room.next_velocity);
        (
            (vx.par_chunks_mut(TASK), vy.par_chunks_mut(TASK), vz.par_chunks_mut(TASK)).into_par_iter(),
            alarm.par_chunks_mut(TASK),
            bank.par_chunks_mut(TASK),
            way.par_chunks_mut(TASK),
            around.par_chunks_mut(TASK),
            nearest.par_chunks_mut(TASK),
            rule.par_chunks_mut(TASK),
            &mut room.sums,
        )
            .into_par_iter()
            .enumerate()
            .for_each(|(nth, ((vx, vy, vz), alarm, bank, way, around, nearest, rule, sums))| {
                let _part = part(Stage::Steer);
                let next = Next { velocity: [vx, vy, vz], alarm, bank, way, around, nearest, rule };
                *sums = task.run(nth * TASK, next, &mut tasks.own());
            });
        let BodyColumns { vx, vy, vz, .. } = bodies;
        for ((now, next), before) in
            [vx, vy, vz].into_iter().zip(&mut room.next_velocity).zip(&mut self.before)
        {
            // The former velocity stays, for drawing between steps.
            std::mem::swap(now, before);
            std::mem::swap(now, next);
        }
        std::mem::swap(own, &mut room.next);
        let mut all = Sums::default();
        room.sums.iter().for_each(|sums| all.add(sums));
        (self.gauges, self.middle) = (all.gauges(count), all.middle(count));
        meter.add(Counter::PairsTested, all.tested);
        meter.add(Counter::PairsNear, all.near);
        meter.add(Counter::Crowded, all.crowded);
        meter.moved(Stage::Steer, count as u64 * 20 * 4);
        meter.stop(started);
    }

    /// Moves all as bodies of the world, and keeps them in their space.
    fn move_on(&mut self, world: &World, dt: f32, meter: &mut Meter) -> Result<(), SpecError> {
        let Room { dead, .. } = &mut self.room;
        dead.clear();
        dead.extend_from_slice(self.integrator.step(self.bodies.bodies(), world, dt, meter)?);
        if !self.room.dead.is_empty() {
            let started = meter.start(Stage::Retire);
            let dead = std::mem::take(&mut self.room.dead);
            self.remove_sorted(&dead);
            meter.add(Counter::Retired, dead.len() as u64);
            self.room.dead = dead;
            meter.stop(started);
        }
        if let Some(apart) = &mut self.apart {
            apart.step(&mut self.bodies.bodies(), world, dt, meter)?;
        }
        if let Some(walls) = &self.walls {
            let started = meter.start(Stage::Integrate);
            let follows = self.trail.is_some() && self.wraps();
            if follows {
                for (column, at) in self.room.next_velocity.iter_mut().zip(self.bodies.position()) {
                    column.clear();
                    column.extend_from_slice(at);
                }
            }
            let BodyColumns { px, py, pz, vx, vy, vz, .. } = &mut self.bodies;
            let all = (px, py, pz, vx, vy, vz).into_par_iter().with_min_len(1024);
            all.for_each(|(px, py, pz, vx, vy, vz)| {
                let (mut place, mut velocity) = (Vec3::new(*px, *py, *pz), Vec3::new(*vx, *vy, *vz));
                walls.hold(&mut place, &mut velocity);
                [*px, *py, *pz] = place.to_array();
                [*vx, *vy, *vz] = velocity.to_array();
            });
            if let (Some(trail), true) = (&mut self.trail, follows) {
                let from = self.room.next_velocity.each_ref().map(|column| &column[..]);
                trail.follow_moves(from, self.bodies.position());
            }
            meter.stop(started);
        }
        if let Some(trail) = &mut self.trail
            && trail.is_due(dt)
        {
            let [x, y, z] = self.bodies.position();
            trail.keep(x.iter().zip(y).zip(z).map(|((x, y), z)| [*x, *y, *z]));
        }
        Ok(())
    }

    /// Adds newcomers that are due.
    fn join(&mut self, dt: f32, meter: &mut Meter) {
        let room = (self.count as usize).saturating_sub(self.bodies.len());
        self.owed = (self.owed + f64::from(self.spec.joining) * f64::from(dt)).min(room as f64);
        let due = self.owed as usize;
        self.owed -= due as f64;
        for _ in 0..due {
            self.push_next();
            if let Some(row) = self.bodies.row(self.bodies.len() - 1) {
                note_birth(&self.events, &row, &mut self.integrator.happened);
            }
        }
        meter.add(Counter::Emitted, due as u64);
    }

    /// Notes that elements, counted from 0, were caught: the next step takes them out. Those that are caught already are not counted again. Returns how
    /// many are new.
    pub fn catch(&mut self, elements: &[u32]) -> usize {
        let before = self.caught.len();
        for &nth in elements {
            if (nth as usize) < self.bodies.len() && !self.caught.contains(&nth) {
                self.caught.push(nth);
            }
        }
        self.caught.len() - before
    }

    fn take_out_caught(&mut self, meter: &mut Meter) {
        if self.caught.is_empty() {
            return;
        }
        let mut caught = std::mem::take(&mut self.caught);
        caught.sort_unstable();
        caught.retain(|nth| (*nth as usize) < self.bodies.len());
        let events = self.events.iter().enumerate().filter(|(_, event)| event.on == Moment::Caught);
        for (event, _) in events {
            let records = caught.iter().filter_map(|nth| {
                let element = self.bodies.row(*nth as usize)?;
                Some(EventRecord { event: event as u32, element, other: 0, normal: [0.0; 3] })
            });
            self.room.records.extend(records);
        }
        self.remove_sorted(&caught);
        meter.add(Counter::Caught, caught.len() as u64);
        caught.clear();
        self.caught = caught;
    }

    /// Prey that was caught in the last step, for [`Flock::catch`] of its population.
    pub fn catches(&self) -> &[Catch] {
        self.hunters.as_ref().map_or(&[], Hunters::catches)
    }

    /// Order of the last step.
    pub fn gauges(&self) -> FlockGauges {
        self.gauges
    }

    /// Number of elements.
    pub fn len(&self) -> usize {
        self.bodies.len()
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.bodies.is_empty()
    }

    /// The bodies, in the order of cells of the last step.
    pub fn columns(&self) -> &BodyColumns {
        &self.bodies
    }

    /// What they have beside their bodies.
    pub fn own_columns(&self) -> &FlockColumns {
        &self.own
    }

    /// Length of the last step, in seconds; 0 before the first.
    pub fn last_step(&self) -> f32 {
        self.last
    }

    /// The last places of its elements, if it keeps them.
    pub fn trail(&self) -> Option<&Trail> {
        self.trail.as_ref()
    }

    /// How the elements stand for drawing: along their heading, which turns evenly from step to step.
    pub fn poses(&self) -> Poses<'_> {
        let [x, y, z] = &self.before;
        let heading = Heading {
            before: [x, y, z],
            step: self.last,
            bank: (self.spec.bank > 0.0).then_some(&self.own.bank),
            way: Some(&self.own.way),
        };
        Poses { heading: Some(heading), ..self.bodies.poses() }
    }

    /// The spec it was built from.
    pub fn spec(&self) -> &FlockSpec {
        &self.spec
    }

    /// Event records of the last step.
    pub fn happened(&self) -> &[EventRecord] {
        self.integrator.happened()
    }

    /// Number of elements that each collector of the world picked up in the last step.
    pub fn picked(&self) -> &[u64] {
        self.integrator.caught()
    }

    /// Memory that it holds, in bytes.
    pub fn bytes(&self) -> u64 {
        let columns = BodyColumns::BYTES_PER_ELEMENT + FlockColumns::BYTES_PER_ELEMENT;
        let room = 11 * size_of::<f32>() + FlockColumns::BYTES_PER_ELEMENT;
        self.bodies.px.capacity() as u64 * (columns + room) as u64 + self.near.bytes()
    }
}

/// Size of an element, in metres.
fn own_size(range: Span, seed: u32, id: u32) -> f32 {
    let [_, share, _] = Draws { seed, id }.draw(8);
    range.at(share)
}

/// How a flock looks for neighbours.
fn space(spec: &FlockSpec) -> NeighbourSpec {
    let mut near = NeighbourSpec::new(spec.reach()).technique(spec.neighbours);
    match spec.keep_to {
        Some(KeepTo::Flat) => near = near.flat(),
        Some(KeepTo::Upright) => near = near.upright(),
        None => {}
    }
    let corners = |position: &[f32; 3], size: [f32; 3]| {
        let corner = |sign: f32| [0, 1, 2].map(|axis| position[axis] + sign * 0.5 * size[axis]);
        (corner(-1.0), corner(1.0))
    };
    match &spec.within {
        Some(Space::Box { position, size }) => {
            let (low, high) = corners(position, *size);
            near.bounded(low, high)
        }
        Some(Space::Wrapping { position, size }) => {
            let (low, high) = corners(position, *size);
            near.wrapping(low, high)
        }
        _ => near,
    }
}

/// 1 for each axis along which elements may move, else 0.
fn free(keep_to: Option<KeepTo>) -> [f32; 3] {
    match keep_to {
        None => [1.0; 3],
        Some(KeepTo::Upright) => [1.0, 1.0, 0.0],
        Some(KeepTo::Flat) => [1.0, 0.0, 1.0],
    }
}

/// Writes what the rules see of each element: its position within a space that wraps, shaken a little by its key.
fn show(near: &Neighbours, bodies: &BodyColumns, alarm: &[f32], rows: &mut Vec<Row>) {
    let (sorted, spec) = (near.sorted_positions(0), near.spec());
    let far = spec.reach * SHAKE;
    let counts = spec.axes.map(|axis| if axis == AxisSpec::Ignored { 0.0 } else { 1.0 });
    let BodyColumns { key, vx, vy, vz, .. } = bodies;
    rows.resize(key.len(), [0.0; 8]);
    rows.par_iter_mut().enumerate().with_min_len(4096).for_each(|(nth, row)| {
        let draws = hash3(key[nth], 0x7368, 0x616b).map(|bits| unit(bits) - 0.5);
        let shaken = |axis: usize| {
            let at = sorted[axis][nth];
            // Far from the origin at least as much as a float can tell.
            at + draws[axis] * counts[axis] * far.max(at.abs() * 2.4e-7)
        };
        *row = [shaken(0), shaken(1), shaken(2), alarm[nth], vx[nth], vy[nth], vz[nth], 0.0];
    });
}

/// What a task needs of a step.
struct Task<'a> {
    level: Level,
    ranges: Ranges,
    steering: Steering,
    spec: &'a FlockSpec,
    near: &'a Neighbours,
    others: Others<'a>,
    bodies: &'a BodyColumns,
    own: &'a FlockColumns,
    targets: &'a Targets,
    hunters: Option<&'a Hunters>,
    avoiding: Avoiding<'a>,
    steps: u32,
    middle: [f32; 3],
}

/// Columns that a task writes.
struct Next<'a> {
    velocity: [&'a mut [f32]; 3],
    alarm: &'a mut [f32],
    bank: &'a mut [f32],
    way: &'a mut [f32],
    around: &'a mut [f32],
    nearest: &'a mut [f32],
    rule: &'a mut [f32],
}

/// Memory of tasks, one for each thread and one for others.
#[derive(Debug, Default)]
struct TaskRooms(Vec<Mutex<TaskRoom>>);

/// A copy has memory of its own.
impl Clone for TaskRooms {
    fn clone(&self) -> Self {
        Self::default()
    }
}

impl TaskRooms {
    /// Makes sure that there is one for each thread.
    fn prepare(&mut self) {
        self.0.resize_with(rayon::current_num_threads() + 1, Mutex::default);
    }

    /// That of this thread. No other task of it runs meanwhile.
    fn own(&self) -> MutexGuard<'_, TaskRoom> {
        let nth = rayon::current_thread_index().map_or(0, |nth| nth + 1);
        self.0[nth % self.0.len()].lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// Memory of a task.
#[derive(Debug, Default)]
struct TaskRoom {
    candidates: Candidates,
    desk: Desk,
    /// Evenly spaced candidates of a crowd, copied side by side; the runs that they stand for, and their places.
    of: Runs,
    at: [Vec<f32>; 3],
    rows: Vec<Row>,
    places: Vec<u32>,
}

impl Task<'_> {
    /// Steers the elements from a place on.
    fn run(&self, first: usize, mut next: Next<'_>, room: &mut TaskRoom) -> Sums {
        let end = first + next.alarm.len();
        let mut sums = Sums::default();
        room.of.clear();
        let avoids = !self.avoiding.is_nothing();
        let mut from = first;
        while from < end {
            let to = self.near.block_end(0, from, end);
            let count = to - from;
            let (own, mut state, key) = self.take(from, to);
            let bounds = self.near.bounds(0, from..to);
            let mut wishes = Wishes::default();
            if !self.targets.is_empty() {
                self.targets.pull(self.level, &own, bounds, &mut room.candidates, &mut wishes);
            }
            if avoids {
                self.avoiding.turn(count, &own, &state.velocity, &mut wishes);
            }
            if let Some(hunters) = self.hunters {
                hunters.pull(from, count, &mut wishes);
            }
            let seen = self.look(from, count, &own, &state, bounds, room, &mut sums);
            steer(self.level, &self.steering, &key, &seen, &wishes, &mut state);
            self.give(from - first, count, &seen, &state, &mut next);
            add_block(self.level, &mut sums, count, &self.middle, &own, &state, &seen);
            from = to;
        }
        sums
    }

    /// Looks at the candidates of a block, or at some for all in a crowd.
    #[expect(clippy::too_many_arguments, reason = "parts of one loop")]
    fn look(
        &self,
        from: usize,
        count: usize,
        own: &Own,
        state: &State,
        bounds: [[f32; 3]; 2],
        room: &mut TaskRoom,
        sums: &mut Sums,
    ) -> Seen {
        // With what positions are shaken by.
        let reach = self.near.spec().reach * (1.0 + 2.0 * SHAKE);
        let TaskRoom { candidates, desk, .. } = room;
        self.near.around(0, bounds, reach, candidates);
        let mut seen = Seen::default();
        let is_grid = self.spec.neighbours == NeighbourTechnique::Grid;
        if !is_grid || candidates.count <= self.spec.most {
            look(self.level, &self.ranges, own, &bounds, &self.others, &candidates.runs, desk, &mut seen);
            sums.tested += u64::from(candidates.count.saturating_sub(1)) * count as u64;
            (0..count).for_each(|nth| seen.forget_own(nth, state));
            return seen;
        }
        let each = candidates.count.div_ceil(self.spec.most);
        room.sample(&self.others, each, self.steps);
        let TaskRoom { desk, at, rows, places, .. } = room;
        let others = Others { at: at.each_ref().map(|column| &column[..]), rows };
        look(self.level, &self.ranges, own, &bounds, &others, &[[0, rows.len() as u32]], desk, &mut seen);
        sums.tested += rows.len() as u64 * count as u64;
        sums.crowded += count as u64;
        for nth in 0..count {
            if places.binary_search(&((from + nth) as u32)).is_ok() {
                seen.forget_own(nth, state);
            }
        }
        seen.stands_for(each as f32);
        seen
    }

    /// Reads the elements of a block. Lanes without one repeat the first.
    fn take(&self, from: usize, to: usize) -> (Own, State, [u32; BLOCK]) {
        let (mut own, mut state, mut key) = (Own::default(), State::default(), [0; BLOCK]);
        let velocity = self.bodies.velocity();
        for i in 0..BLOCK {
            let nth = if from + i < to { from + i } else { from };
            for axis in 0..3 {
                own.at[axis][i] = self.others.rows[nth][axis];
                state.velocity[axis][i] = velocity[axis][nth];
            }
            let [x, y, z] = [0, 1, 2].map(|axis| state.velocity[axis][i]);
            let speed = (x * x + y * y + z * z).sqrt();
            let per = if speed > 1e-12 { 1.0 / speed } else { 0.0 };
            [own.heading[0][i], own.heading[1][i], own.heading[2][i]] = [x * per, y * per, z * per];
            state.alarm[i] = self.own.alarm[nth];
            state.bank[i] = self.own.bank[nth];
            state.way[i] = self.own.way[nth];
            key[i] = self.bodies.key[nth];
        }
        (own, state, key)
    }

    fn give(&self, at: usize, count: usize, seen: &Seen, state: &State, next: &mut Next<'_>) {
        for i in 0..count {
            for axis in 0..3 {
                next.velocity[axis][at + i] = state.velocity[axis][i];
            }
            next.alarm[at + i] = state.alarm[i];
            next.bank[at + i] = state.bank[i];
            next.way[at + i] = state.way[i];
            next.around[at + i] = seen.gathered[i];
            next.nearest[at + i] = seen.nearest[i].sqrt();
            next.rule[at + i] = state.rule[i];
        }
    }
}

impl TaskRoom {
    /// Copies every `each`th candidate, another share in each step. Blocks of one crowd share them.
    fn sample(&mut self, others: &Others<'_>, each: u32, turn: u32) {
        let Self { candidates, of, at, rows, places, .. } = self;
        if of[..] == candidates.runs[..] {
            return;
        }
        of.clone_from(&candidates.runs);
        places.clear();
        let mut over = of.first().map_or(0, |run| hash3(turn, run[0], 0x6372)[0] % each);
        for run in of.iter() {
            let mut place = run[0] + over;
            while place < run[1] {
                places.push(place);
                place += each;
            }
            over = place - run[1];
        }
        rows.clear();
        rows.extend(places.iter().map(|place| others.rows[*place as usize]));
        for (column, from) in at.iter_mut().zip(others.at) {
            column.clear();
            column.extend(places.iter().map(|place| from[*place as usize]));
            column.resize(places.len() + BLOCK, 0.0);
        }
    }
}
