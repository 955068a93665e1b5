//! Move, draw and measure huge numbers of small elements.
//!
//! Frolic keeps elements as columns of numbers and steps them on all cores, hands them to the renderer as few large
//! batches, and meters every stage of every frame, so that you know what a frame costs as the count grows. It needs no GPU and
//! no display.
//!
//! ```
//! use frolic::prelude::*;
//!
//! # fn main() -> Result<(), Box<dyn std::error::Error>> {
//! let sparks = ParticleSpec::new(5_000)
//!     .life(1.0, 3.0)
//!     .size(0.004, 0.012)
//!     .motion(0.9, -0.12)
//!     .emitter(EmitterSpec::rate(1_500.0).aim([0.0, 1.0, 0.0], 20.0).speed(1.0, 4.0));
//! let look = LookSpec::glowing(8.0, [(0.0, "#ffd9a0"), (0.5, "#ff6418"), (1.0, "#3a0602")])?;
//! let mut scene = Scene::new(&SceneSpec::new("sparks").with("sparks", sparks, look))?;
//!
//! let mut meter = Meter::new();
//! meter.begin_frame();
//! scene.run_to(2.0, &mut meter);
//! let picture = scene.draw(&mut meter)?;
//! # let folder = tempfile::tempdir()?;
//! # let path = folder.path().join("sparks.png");
//! write_png(&path, picture)?;
//!
//! let frame = meter.end_frame();
//! assert_eq!(frame.count(Counter::DrawCalls), 1);
//! println!("{} alive, {:?} to fill pixels", frame.count(Counter::Alive), frame.stage(Stage::Raster));
//! # Ok(())
//! # }
//! ```
//!
//! | you want to | start at |
//! | --- | --- |
//! | describe particles | [`ParticleSpec`](core::ParticleSpec), [`EmitterSpec`](core::EmitterSpec), [`WorldSpec`](core::WorldSpec) |
//! | step them in a loop of your own | [`Particles`](core::Particles), [`Clock`](core::Clock), `examples/own_loop.rs` |
//! | put things that stay, or hang and swing | [`FixtureSpec`](core::FixtureSpec) |
//! | put elements somewhere: patterns, clumps, on meshes and height maps | [`Placement`](core::Placement), `examples/place_anything.rs` |
//! | grow grass that bends | [`BladeSpec`](core::BladeSpec), `examples/walk_through_grass.rs`, `examples/endless_field.rs` |
//! | grow ten million of something | [`GrowSpec`](core::GrowSpec), `examples/ten_million.rs` |
//! | say what they look like | [`LookSpec`](draw::LookSpec), [`Shape`](draw::Shape), [`CameraSpec`](draw::CameraSpec), [`SunSpec`](draw::SunSpec) |
//! | use textures, fonts, meshes of your own | [`AtlasBuilder`](draw::AtlasBuilder), [`Font`](draw::Font), [`Mesh`](draw::Mesh), [`Library`](draw::Library), `examples/sprite_layers.rs` |
//! | see why batches break, or take the list to a backend of your own | [`DrawList`](draw::DrawList), [`Break`](draw::Break), `examples/read_the_batches.rs` |
//! | paint what a frame did | [`Show`](diagnostics::Show) |
//! | read or write a scene file | [`SceneSpec`](scene::SceneSpec), `docs/scene-format.md` |
//! | know what a frame did and cost | [`Meter`](core::Meter), [`Counter`](core::Counter), [`Stage`](core::Stage) |
//! | measure frame time against count | [`sweep`](profile::sweep), `examples/count_ladder.rs`; of your own loop `examples/profile_my_own_loop.rs` |
//! | see it while it runs, or see every thread | [`Readout`](diagnostics::Readout), [`Trace`](core::trace::Trace) |
//! | hold frames under a time | [`Keeper`](core::Keeper), `examples/keep_the_budget.rs` |
//!
//! The parts: [`core`] moves, [`draw`] draws, `gpu` (a feature) does both on a graphics device, [`scene`] reads and runs scenes, [`profile`] measures. Each
//! is a crate of its own; this one only joins them.

#![warn(clippy::unwrap_used, clippy::print_stdout, clippy::print_stderr)]

pub use frolic_core as core;
pub use frolic_diagnostics as diagnostics;
pub use frolic_draw as draw;
#[cfg(feature = "gpu")]
pub use frolic_gpu as gpu;
pub use frolic_list as list;
pub use frolic_profile as profile;
pub use frolic_scene as scene;

/// Everything that a program needs to build a scene, step it, draw it and read the meter.
pub mod prelude {
    pub use frolic_core::{
        AimBy, AimSpec, AreaSpec, AroundSpec, AttractorSpec, BakeSpec, BladeColumns, BladeMotion, BladeSpec,
        Blades, BodyColumns, BodyRow, BrushSpec, BurstSpec, Clock, ClockSpec, ClumpSpec, CollectorSpec,
        Counter, CourseSpec, CurlSpec, DistanceGrid, EachSpec, EmitterSpec, EventSpec, Falloff, Field,
        FieldChunk, FieldKind, FieldSpec, FixtureSpec, Fixtures, Form, Forms, Frame, GrowSpec, Growing,
        GustSpec, Happening, HarvestSpec, KeepTo, Keeper, KeeperSpec, Lever, LineSpec, MaskLie, MeshPart,
        Meter, Moment, MotionSpec, ObstacleShape, ObstacleSpec, On, ParticleSet, ParticleSpec, Particles,
        PathEnds, PathSpec, PatternSpec, PlaceSpec, PlacedColumns, PlacedRow, Placement, PlacementSpec,
        Plane, PusherSpec, Ramp, Region, ShapeFieldSpec, ShapeSpec, SieveBy, SieveSpec, Span, SpecError,
        StackSpec, Stage, Storage, Surface, SwingSpec, TearSpec, TerrainSpec, Threads, Tick, Touch, Trail,
        TrailSpec, VolumePart, VortexSpec, WalkSpec, Weather, World, WorldSpec,
    };
    pub use frolic_diagnostics::{Corner, Readout, Show};
    pub use frolic_draw::{
        Align, Atlas, AtlasBuilder, BackdropSpec, Blend, Break, CameraSpec, CardSpec, Colour, DepthOrder,
        DetailSpec, DrawList, Facing, Fill, Font, GroundSpec, Image, ImageSize, Instances, LandSpec, Library,
        LightSpec, Look, LookSpec, Mesh, Picture, Play, Renderer, RibbonSpec, Shape, SkySpec, Sprite, Stand,
        SunSpec, Technique, TextStyle, TileMap, TuftSpec, View, WaterSpec,
    };
    pub use frolic_list::{ListScratch, ListSpec, Surroundings};
    pub use frolic_profile::{Ladder, Plan, Profile, Variation, sweep, write_profile};
    pub use frolic_scene::{
        Backend, FormSource, FormSpec, HillsSpec, LandPart, PopulationSpec, PutSpec, Residence, Scene,
        SceneError, SceneSpec, SpriteSpec, StandSpec, TextSpec, TextureSpec, read_grid, read_mesh,
        read_places, write_grid, write_places, write_png,
    };
}
