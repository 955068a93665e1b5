//! Flocks: elements that steer by those around them.
//!
//! **In:** a [`FlockSpec`], the world, and elements of other populations that it seeks, flees or hunts. **Out:** columns in the order of cells, so that
//! those near each other are beside each other in memory; its `id` says which element is which.
//!
//! | question | file |
//! | --- | --- |
//! | what can be written of a flock? | `spec.rs` |
//! | what happens in a step? | `step.rs`; on all cores `task.rs` |
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
mod step;
mod targets;
mod task;

pub use gauges::FlockGauges;
pub use hunt::{Catch, LOYALTY};
pub use rules::Ranges;
pub(crate) use spec::MOST_TARGETS;
pub use spec::{AlarmSpec, FlockSpec, HuntSpec, RuleSpec, Space, Target, TargetSpec, TintSpec};
pub use steer::Steering;
pub use targets::{OtherElements, TargetAt, Targets};

use glam::Vec3;

use crate::assets::Assets;
use crate::families::trail::{Trail, TrailSpec};
use crate::foundations::columns::columns;
use crate::foundations::error::SpecError;
use crate::foundations::random::{Draws, hash3, unit};
use crate::foundations::scratch::ThreadScratch;
use crate::foundations::simd::{Level, detect};
use crate::foundations::span::Span;
use crate::neighbours::blocks::BLOCK;
use crate::neighbours::{NeighbourSpec, Neighbours, groups};
use crate::placement::{Basis, Source};
use crate::poses::{Heading, Posed, Poses};
use crate::world::apart::{ApartSpec, PushApart};
use crate::world::bodies::{BodyColumns, BodyRow, Integrator, KeepTo, MotionSpec, drawn_size};
use crate::world::events::{EventRecord, EventSpec};
use crate::world::fields::spec::FieldSpec;
use gauges::Sums;
use hunt::Hunters;
use rules::Row;
use targets::Walls;
use task::TaskRoom;

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

/// How far positions are shaken for the rules, in reaches: elements on one spot then have a direction to part in.
pub const SHAKE: f32 = 1e-3;

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
    tasks: ThreadScratch<TaskRoom>,
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
        let source = Source::new(&spec.start, assets).map_err(|error| error.renamed("shape", "start"))?;
        let mut integrator = Integrator::new(&motion(spec))?;
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
        flock.reserve(count)?;
        for _ in 0..count {
            flock.push_next();
        }
        Ok(flock)
    }

    /// Makes room for so many elements.
    fn reserve(&mut self, count: u32) -> Result<(), SpecError> {
        let count = count as usize;
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
        let free = Vec3::from(KeepTo::free(self.spec.keep_to));
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
            size: drawn_size(self.size, draws),
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

    /// Prey that was caught in the last step, for [`Flock::catch`] of its population.
    pub fn catches(&self) -> &[Catch] {
        self.hunters.as_ref().map_or(&[], Hunters::catches)
    }

    /// Order of the last step.
    pub fn gauges(&self) -> FlockGauges {
        self.gauges
    }

    /// Number of groups, joined by steps of at most the radius of cohesion from one element to the next. It takes about as long as a step; ask for it now
    /// and then.
    pub fn groups(&self) -> usize {
        let spec = space(&self.spec).reach(self.spec.cohesion.radius);
        // Positions are finite after a step, and the spec was checked.
        groups(&spec, self.bodies.position()).unwrap_or(0)
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

/// How a flock looks for neighbours.
fn space(spec: &FlockSpec) -> NeighbourSpec {
    let near = NeighbourSpec::new(spec.reach()).technique(spec.neighbours);
    let near = KeepTo::neighbours(spec.keep_to, near);
    let corners = spec.within.as_ref().and_then(Space::corners);
    match (&spec.within, corners) {
        (Some(Space::Wrapping { .. }), Some([low, high])) => near.wrapping(low, high),
        (_, Some([low, high])) => near.bounded(low, high),
        _ => near,
    }
}

/// How a flock moves as bodies of the world.
pub(crate) fn motion(spec: &FlockSpec) -> MotionSpec {
    let mut motion = MotionSpec::new(spec.drag, 0.0);
    motion.keep_to = spec.keep_to;
    motion
}
