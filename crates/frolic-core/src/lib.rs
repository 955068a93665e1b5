//! What small elements are and how they move; pure computation, no files, no pictures, no devices.
//!
//! **In:** specs ([`ParticleSpec`], [`WorldSpec`]), plain data with checked ranges. **Out:** columns of numbers
//! ([`BodyColumns`]) that a renderer, ours or a caller's own, reads in place, and a [`Meter`] that says what each
//! stage of the step cost.
//!
//! | question | file |
//! | --- | --- |
//! | what is stored for an element, how are the dead taken out? | `columns.rs`, `bodies/mod.rs` |
//! | how is a population described? | `particles/spec.rs` |
//! | where and when do elements appear? | `particles/emit.rs` |
//! | what stands or hangs in its place, and swings? | `fixtures.rs` |
//! | who goes where a pusher goes? | `walkers.rs` |
//! | where are elements put, how do they stand? | `placement/` |
//! | what is rooted, bends in the wind and where something treads? | `blades/`, `pushers.rs` |
//! | what does drawing borrow of a family? | `poses.rs` |
//! | what grows from seed to full size, and is harvested? | `growing/` |
//! | what pushes them? | `world.rs`, `fields.rs`; noises `noise.rs`, `curl.rs` |
//! | what do they bounce off? | `obstacles/` |
//! | what picks them up? | `collectors.rs` |
//! | what is there around a moving middle? | `endless.rs` |
//! | what does one start in another? | `events.rs`, `particles/set.rs` |
//! | meshes, pictures, distance grids that all of these name | `forms/` |
//! | what do emitters and collectors follow? | `paths.rs` |
//! | how do free bodies move, whatever their family? | `bodies/`; the hot loop `bodies/step.rs`; its classic twin in `particles/objects.rs` |
//! | how does a frame become fixed steps? | `clock.rs` |
//! | what did it cost? | `meter.rs`; who did what when `trace.rs` |
//! | what can the machine do at most? | `limits.rs` |
//! | what is lowered when frames take too long? | `keeper.rs` |
//! | what does a device need to know? | `backend.rs` |
//! | random numbers, instruction sets | `random.rs`, `simd.rs` |
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

pub mod backend;
mod blades;
mod bodies;
mod clock;
mod collectors;
mod columns;
mod curl;
mod endless;
mod error;
mod events;
mod fields;
mod fixtures;
pub mod forms;
mod growing;
mod keeper;
pub mod limits;
pub mod meter;
mod noise;
mod obstacles;
mod particles;
mod paths;
mod placement;
mod poses;
mod pushers;
mod ramp;
pub mod random;
pub mod simd;
mod span;
mod threads;
pub mod trace;
mod walkers;
mod world;

pub use blades::{
    AroundSpec, BladeColumns, BladeLayouts, BladeMotion, BladeRow, BladeSpec, Blades, Chunk, GroupSpec,
    MOST_LEAN, TearSpec, Torn, Weather, along_curve, blade_curve, curve_length,
};
pub use bodies::{Bodies, BodyColumns, BodyRow, Integrator, KeepTo, MotionSpec};
pub use clock::{Clock, ClockSpec, Tick};
pub use collectors::CollectorSpec;
pub use endless::{Cells, CellsSpec, EndlessSpec, KeepOffSpec, ScatterSpec};
pub use error::{SpecError, at_most, listed, vector_within, within};
pub use events::{AimBy, EventSpec, Happening, Moment, Region};
pub use fields::{
    AttractorSpec, CurlSpec, Falloff, Field, FieldChunk, FieldKind, FieldSpec, ShapeFieldSpec, VortexSpec,
};
pub use fixtures::{
    FillSpec, FixtureColumns, FixtureSpec, Fixtures, LineSpec, PlaceSpec, SwaySpec, SwingSpec,
};
pub use forms::{BakeSpec, DistanceGrid, Form, Forms, Plane, Surface};
pub use growing::{Cluster, GrowSpec, Growing, HarvestSpec, ShownColumns, ShownRow, StackSpec};
pub use keeper::{Keeper, KeeperSpec, Lever, Lowered};
pub use meter::{Counter, Frame, Meter, Stage, Started};
pub use noise::gust_noise;
pub use obstacles::{Mask, MaskLie, ObstacleShape, ObstacleSpec, Solid, Touch};
pub use particles::{
    AimSpec, BurstSpec, CourseSpec, EmitterSpec, MEMORY_LIMIT, MeshPart, Order, ParticleSet, ParticleSpec,
    Particles, ShapeSpec, Storage, Trail, TrailSpec, VolumePart, check_events,
};
pub use paths::{Path, PathEnds, PathSpec};
pub use placement::{
    AreaSpec, Clump, ClumpSpec, EachSpec, Footing, MOST_KINDS, MOST_PLACED, On, PatternSpec, PlacedColumns,
    PlacedRow, Placement, PlacementSpec, Sieve, SieveBy, SieveSpec, Terrain, TerrainSpec, check_layers,
};
pub use poses::{Group, Layouts, Posed, Poses};
pub use pushers::{BlastSpec, PusherSpec, Pushing};
pub use ramp::{Ramp, RampValue};
pub use span::Span;
pub use threads::Threads;
pub use walkers::WalkSpec;
pub use world::{BrushSpec, GustSpec, World, WorldSpec};
