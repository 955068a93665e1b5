//! Crowds: units that each go to a goal and avoid each other.
//!
//! **In:** a [`CrowdSpec`] and the world. **Out:** columns in the order of cells, so that those near each other are beside each other in memory; its `id`
//! says which unit is which.
//!
//! | question | file |
//! | --- | --- |
//! | what can be written of a crowd? | `spec.rs` |
//! | what happens in a step? | `step.rs`; on all cores `task.rs` |
//! | where does each go? | `goals.rs` |
//! | which are the nearest units, which velocities avoid them? | `avoid.rs`; the hot loops |
//! | where are walls? | `walls.rs` |
//! | which velocity is nearest to the preferred one? | `planes.rs` |
//! | how does the plain way go, by forces? | `forces.rs` |
//! | what changes while it runs? | `live.rs` |
//! | what is measured beside time? | `gauges.rs` |
//!
//! A step sorts all columns by cell, gives every unit its next velocity by the places and velocities of the last step, and then moves them as bodies of the
//! world, which adds fields, obstacles and events.

mod avoid;
mod forces;
mod gauges;
mod goals;
mod live;
mod planes;
mod spec;
mod step;
mod task;
mod walls;

pub use gauges::CrowdGauges;
pub use spec::{AvoidanceTechnique, CrowdSpec, CrowdTint, GoalSpec};

use glam::Vec3;

use crate::assets::Assets;
use crate::foundations::columns::columns;
use crate::foundations::error::SpecError;
use crate::foundations::random::{Draws, hash3, unit};
use crate::foundations::scratch::ThreadScratch;
use crate::foundations::simd::{Level, detect};
use crate::foundations::span::Span;
use crate::neighbours::blocks::{BLOCK, Candidates};
use crate::neighbours::{NeighbourSpec, Neighbours};
use crate::placement::Source;
use crate::poses::{Heading, Posed, Poses};
use crate::world::apart::{ApartSpec, PushApart};
use crate::world::bodies::{BodyColumns, BodyRow, Integrator, KeepTo, MotionSpec, drawn_size};
use crate::world::events::{EventRecord, EventSpec};
use crate::world::fields::spec::FieldSpec;
use avoid::Row;
use gauges::Sums;

columns! {
    /// What a unit has beside its body.
    row CrowdRow;
    /// What units have beside their bodies; slices of one length.
    columns CrowdColumns;
    /// Where it goes, x, in metres.
    gx: f32,
    /// Where it goes, z, in metres.
    gz: f32,
    /// Number of the point of its path that it goes to.
    leg: u32,
    /// How long it has waited, in seconds; it falls again while it goes.
    waited: f32,
    /// 1 at its goal, else 0.
    arrived: f32,
    /// Way that it has gone, in metres.
    way: f32,
    /// Distance to the nearest other in sight, edge to edge, in metres; negative where they overlap, infinite without one.
    gap: f32,
    /// Direction in which it started from the middle of the start, 0 to 1 around.
    origin: f32,
}

/// Bytes of a unit: its columns, and as much again for a step.
const BYTES: u64 = 2 * (BodyColumns::BYTES_PER_ELEMENT + CrowdColumns::BYTES_PER_ELEMENT) as u64 + 64;

/// How far places are shaken for what others see, in shares of the sight.
const SHAKE: f32 = 1e-5;

/// Speed of a unit that stands, in m/s: it has a heading, and goes a millimetre a minute.
const CREEP: f32 = 1e-5;

/// Units that each go to a goal, around each other.
///
/// ```
/// use frolic_core::{Crowd, CrowdSpec, GoalSpec, Meter, Span, WorldSpec};
/// let spec = CrowdSpec::default().goal(GoalSpec::Across([0.0; 3]));
/// let mut crowd = Crowd::new(&spec, 60, Span::from(0.25), 7)?;
/// let (world, mut meter) = (WorldSpec::default().build()?, Meter::new());
/// for _ in 0..400 {
///     crowd.step(&world, 0.1, &mut meter)?;
/// }
/// assert!(crowd.gauges().arrived > 50, "{}", crowd.gauges().arrived);
/// # Ok::<(), frolic_core::SpecError>(())
/// ```
#[derive(Debug, Clone)]
pub struct Crowd {
    spec: CrowdSpec,
    size: Span,
    count: u32,
    seed: u32,
    source: Source,
    bodies: BodyColumns,
    own: CrowdColumns,
    /// Velocity along x and z one step ago, in the present order. That along y is always 0.
    before: [Vec<f32>; 2],
    /// Length of the last step, in seconds.
    last: f32,
    integrator: Integrator,
    near: Neighbours,
    apart: Option<PushApart>,
    next: u32,
    steps: u32,
    room: Room,
    gauges: CrowdGauges,
    level: Level,
}

/// Memory of a step.
#[derive(Debug, Clone, Default)]
struct Room {
    rows: Vec<Row>,
    floats: Vec<f32>,
    numbers: Vec<u32>,
    /// Columns that a step writes while it reads the former ones.
    next_velocity: [Vec<f32>; 2],
    next: CrowdColumns,
    sums: Vec<Sums>,
    dead: Vec<u32>,
    tasks: ThreadScratch<Candidates>,
}

impl Crowd {
    /// A crowd of `count` units, whose radii are within a range, in metres.
    ///
    /// # Errors
    /// A value is out of range, or memory is short.
    pub fn new(spec: &CrowdSpec, count: u32, size: Span, seed: u32) -> Result<Self, SpecError> {
        Self::with_assets(spec, count, size, seed, &Assets::default())
    }

    /// As [`Crowd::new`], for specs that name assets.
    ///
    /// # Errors
    /// As [`Crowd::new`], or an asset is missing.
    pub fn with_assets(
        spec: &CrowdSpec,
        count: u32,
        size: Span,
        seed: u32,
        assets: &Assets,
    ) -> Result<Self, SpecError> {
        spec.check(count)?;
        let source = Source::new(&spec.start, assets).map_err(|error| error.renamed("shape", "start"))?;
        let mut integrator = Integrator::new(&motion())?;
        integrator.finds_newborn = false;
        let mut crowd = Self {
            spec: spec.clone(),
            size,
            count,
            seed,
            source,
            bodies: BodyColumns::default(),
            own: CrowdColumns::default(),
            before: Default::default(),
            last: 0.0,
            integrator,
            near: Neighbours::new(&space(spec))?,
            apart: None,
            next: 0,
            steps: 0,
            room: Room::default(),
            gauges: CrowdGauges::default(),
            level: detect(),
        };
        crowd.reserve(count)?;
        (0..count).for_each(|_| crowd.push_next());
        Ok(crowd)
    }

    /// Makes room for so many units.
    fn reserve(&mut self, count: u32) -> Result<(), SpecError> {
        let count = count as usize;
        let refused = |_| {
            let problem = format!("the system has no room for {count} units");
            SpecError::new("count", problem, "write a smaller count")
        };
        self.bodies.reserve(count).map_err(refused)?;
        self.own.reserve(count).map_err(refused)?;
        let Room { rows, next_velocity, floats, .. } = &mut self.room;
        rows.try_reserve_exact(count).map_err(refused)?;
        let columns = next_velocity.iter_mut().chain(&mut self.before);
        for column in columns.chain([floats]) {
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
        Ok(self)
    }

    /// Adds fields that act on these units alone, besides those of the world.
    ///
    /// # Errors
    /// A value is out of range, or an asset that is named is missing or of another kind.
    pub fn with_fields(mut self, fields: &[FieldSpec], assets: &Assets) -> Result<Self, SpecError> {
        self.integrator = self.integrator.with_fields(fields, assets)?;
        Ok(self)
    }

    /// Keeps its units apart as bodies, beside what avoidance does.
    ///
    /// # Errors
    /// A value is out of range.
    pub fn with_apart(mut self, spec: &ApartSpec) -> Result<Self, SpecError> {
        self.apart = Some(PushApart::new(spec, Some(KeepTo::Flat))?);
        Ok(self)
    }

    /// The same with kernels of an instruction set, which do not change results. For tests.
    pub fn tuned(mut self, level: Level) -> Self {
        self.near = self.near.tuned(level);
        self.integrator.level = level;
        self.apart = self.apart.map(|apart| apart.tuned(level));
        self.level = level;
        self
    }

    /// Adds the unit whose number is next, at its place of the start, facing its goal.
    fn push_next(&mut self) {
        let id = self.next;
        self.next += 1;
        let draws = Draws { seed: self.seed, id };
        let middle = Vec3::from(self.spec.position);
        let place = middle + self.source.place(draws).0;
        let [gx, gz] = goals::first(&self.spec, self.seed, id, place);
        let way = Vec3::new(gx - place.x, 0.0, gz - place.z).normalize_or(Vec3::X) * CREEP;
        let row = BodyRow {
            px: place.x,
            py: place.y,
            pz: place.z,
            vx: way.x,
            vz: way.z,
            life: f32::INFINITY,
            size: drawn_size(self.size, draws),
            id,
            key: id,
            ..BodyRow::default()
        };
        self.bodies.push(&row);
        let off = place - middle;
        let origin = libm::atan2f(off.z, off.x) / std::f32::consts::TAU + 0.5;
        // Each at its own place of a stride.
        let stride = unit(hash3(id, self.seed, 31)[0]) * 64.0;
        let own = CrowdRow { gx, gz, way: stride, gap: f32::INFINITY, origin, ..CrowdRow::default() };
        self.own.push(&own);
        self.before[0].push(way.x);
        self.before[1].push(way.z);
    }

    /// Gauges of the last step.
    pub fn gauges(&self) -> CrowdGauges {
        self.gauges
    }

    /// Number of units.
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
    pub fn own_columns(&self) -> &CrowdColumns {
        &self.own
    }

    /// Length of the last step, in seconds; 0 before the first.
    pub fn last_step(&self) -> f32 {
        self.last
    }

    /// How the units stand for drawing: along their heading, which turns evenly from step to step.
    pub fn poses(&self) -> Poses<'_> {
        let [x, z] = &self.before;
        let heading = Heading {
            before: [x, &self.bodies.vy, z],
            step: self.last,
            bank: None,
            way: Some(&self.own.way),
        };
        Poses { heading: Some(heading), ..self.bodies.poses() }
    }

    /// The spec it was built from.
    pub fn spec(&self) -> &CrowdSpec {
        &self.spec
    }

    /// Event records of the last step.
    pub fn happened(&self) -> &[EventRecord] {
        self.integrator.happened()
    }

    /// Number of units that each collector of the world picked up in the last step.
    pub fn picked(&self) -> &[u64] {
        self.integrator.caught()
    }

    /// Memory that it holds, in bytes.
    pub fn bytes(&self) -> u64 {
        let columns = BodyColumns::BYTES_PER_ELEMENT + CrowdColumns::BYTES_PER_ELEMENT;
        let room = 14 * size_of::<f32>() + CrowdColumns::BYTES_PER_ELEMENT;
        self.bodies.px.capacity() as u64 * (columns + room) as u64 + self.near.bytes()
    }
}

/// Priority of a unit that does not wait.
fn priority(spec: &CrowdSpec, seed: u32, key: u32) -> f32 {
    spec.priority.at(unit(hash3(key, seed, 0x7072)[0]))
}

/// How a crowd looks for neighbours.
fn space(spec: &CrowdSpec) -> NeighbourSpec {
    KeepTo::neighbours(Some(KeepTo::Flat), NeighbourSpec::new(spec.sight))
}

/// How a crowd moves as bodies of the world.
fn motion() -> MotionSpec {
    let mut motion = MotionSpec::new(0.0, 0.0);
    motion.keep_to = Some(KeepTo::Flat);
    motion
}
