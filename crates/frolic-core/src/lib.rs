//! What small elements are and how they move; pure computation, no files, no pictures, no devices.
//!
//! **In:** specs ([`ParticleSpec`], [`WorldSpec`]), plain data with checked ranges. **Out:** columns of numbers
//! ([`BodyColumns`]) that a renderer, ours or a caller's own, reads in place, and a [`Meter`] that says what each
//! stage of the step cost.
//!
//! | question | file |
//! | --- | --- |
//! | what is stored for an element, how are the dead taken out? | `foundations/columns.rs` |
//! | how do free bodies move, whatever their family? | `world/bodies/`; the hot loop `world/bodies/step.rs` |
//! | how is a population of particles described? | `families/particles/spec.rs` |
//! | where and when do particles appear? | `families/particles/emit.rs` |
//! | what stands or hangs in its place, and swings? | `families/fixed/sway.rs` |
//! | what goes where a pusher goes? | `families/walkers.rs` |
//! | what is rooted, bends in the wind and where something treads? | `families/blades/`, `world/pushers.rs` |
//! | what steers by those around it? | `families/flock/`, `neighbours/` |
//! | what goes to a goal, around others? | `families/crowd/` |
//! | what grows from seed to full size, and is harvested? | `families/growing/` |
//! | what does drawing borrow of a family? | `poses.rs` |
//! | where are elements put, how do they stand? | `placement/` |
//! | what pushes them? | `world/mod.rs`, `world/fields/`, `world/gusts.rs`; noises `foundations/noise.rs`, `world/curl.rs` |
//! | what do they bounce off? | `world/obstacles/` |
//! | what keeps bodies apart that touch each other? | `world/apart/` |
//! | what picks them up? | `world/collectors.rs` |
//! | which elements are near each other? | `neighbours/` |
//! | what is there around a moving middle? | `world/endless.rs` |
//! | what does one start in another? | `world/events.rs`, `families/particles/set.rs` |
//! | meshes, pictures, distance grids that all of these name | `assets/` |
//! | what do emitters and collectors follow? | `foundations/paths.rs` |
//! | how does a frame become fixed steps? | `foundations/clock.rs` |
//! | what did it cost? | `foundations/meter.rs`; which thread did what when `foundations/trace.rs` |
//! | what can the machine do at most? | `foundations/limits.rs` |
//! | what is saved of a running thing, and how is it encoded? | `foundations/state.rs` |
//! | what is lowered when frames take too long? | `foundations/frame_budget.rs` |
//! | what does a device need to know? | `backend/` |
//! | random numbers, instruction sets | `foundations/random.rs`, `foundations/simd.rs` |
//!
//! Within the crate arrows go one way: `foundations <- assets <- placement <- world <- families`; `neighbours` needs `foundations` alone.
//!
//! Conventions: metres, seconds, radians unless a name says degrees; y points up; a result depends on the spec and
//! the seed alone, never on thread count, chunk size or instruction set.
//!
//! ```
//! use frolic_core::{EmitterSpec, Meter, ParticleSpec, Particles, WorldSpec};
//!
//! let spec = ParticleSpec::new(1_000).life(1.0, 2.0).emitter(EmitterSpec::rate(500.0));
//! let world = WorldSpec::default().build()?;
//! let mut sparks = Particles::new(&spec, 7)?;
//! let mut meter = Meter::new();
//! for _ in 0..60 {
//!     sparks.step(&world, 1.0 / 60.0, 1, &mut meter);
//! }
//! assert_eq!(sparks.len(), 500);
//! # Ok::<(), frolic_core::SpecError>(())
//! ```

#![warn(clippy::unwrap_used, clippy::print_stdout, clippy::print_stderr)]

pub mod assets;
pub mod backend;
mod families;
mod foundations;
pub mod neighbours;
mod placement;
mod poses;
mod world;

pub use assets::{Asset, Assets, BakeSpec, DistanceGrid, Plane, Surface};
pub use families::blades::{
    AroundSpec, BladeColumns, BladeLayouts, BladeMotion, BladeRow, BladeSpec, Blades, Chunk, GroupSpec,
    MOST_LEAN, TearSpec, Torn, Weather, along_curve, blade_curve, curve_length,
};
pub use families::crowd::{
    AvoidanceTechnique, Crowd, CrowdColumns, CrowdGauges, CrowdRow, CrowdSpec, CrowdTint, GoalSpec,
};
pub use families::fixed::{
    FillSpec, FixedColumns, FixedInstances, FixedSpec, LineSpec, PlaceSpec, SwaySpec, SwingSpec,
};
pub use families::flock::{
    AlarmSpec, Catch, Flock, FlockColumns, FlockGauges, FlockRow, FlockSpec, HuntSpec, OtherElements,
    RuleSpec, Space, Target, TargetSpec, TintSpec,
};
pub use families::growing::{Cluster, GrowSpec, Growing, HarvestSpec, ShownColumns, ShownRow, StackSpec};
pub use families::particles::{
    BurstSpec, CourseSpec, EmitterSpec, Order, ParticleSet, ParticleSpec, Particles, Storage, Trail,
    TrailSpec, check_events,
};
pub use families::walkers::WalkSpec;
pub use foundations::change::Change;
pub use foundations::clock::{Clock, ClockSpec, Tick};
pub use foundations::columns::MEMORY_LIMIT;
pub use foundations::custom::{CustomNumber, MOST_CUSTOM};
pub use foundations::edit::{Column, ColumnsEdit};
pub use foundations::error::{SpecError, at_most, listed, vector_within, within};
pub use foundations::frame_budget::{FrameBudget, FrameBudgetSpec, QualityChange, QualitySetting};
pub use foundations::meter::{Counter, Frame, Meter, Stage, Started};
pub use foundations::noise::gust_noise;
pub use foundations::paths::{Path, PathEnds, PathSpec};
pub use foundations::ramp::{Ramp, RampValue};
pub use foundations::span::Span;
pub use foundations::state::SavedState;
pub use foundations::threads::Threads;
pub use foundations::{limits, meter, random, simd, trace};
pub use placement::{
    AimSpec, AreaSpec, Clump, ClumpSpec, EachSpec, Filter, FilterBy, FilterSpec, Footing, MOST_KINDS,
    MOST_PLACED, MeshPart, On, PatternSpec, PlacedColumns, PlacedRow, Placement, PlacementSpec, ShapeSpec,
    Terrain, TerrainSpec, VolumePart, check_layers,
};
pub use poses::{Group, Heading, Layouts, Posed, Poses};
pub use world::World;
pub use world::apart::{ApartSpec, PushApart};
pub use world::bodies::{Bodies, BodyColumns, BodyRow, Integrator, KeepTo, MotionSpec};
pub use world::collectors::CollectorSpec;
pub use world::endless::{Cells, CellsSpec, EndlessSpec, KeepOffSpec, ScatterSpec};
pub use world::events::{AimBy, EventRecord, EventSpec, Moment, Region};
pub use world::fields::spec::{
    AttractorSpec, CurlSpec, Falloff, FieldKind, FieldSpec, ShapeFieldSpec, VortexSpec,
};
pub use world::fields::{Field, FieldChunk, FieldPopulation};
pub use world::obstacles::{Mask, MaskOrientation, ObstacleShape, ObstacleSpec, Solid, Touch};
pub use world::pushers::{BlastSpec, PusherSpec, Pushing};
pub use world::spec::{BrushSpec, GustSpec, WorldSpec};
