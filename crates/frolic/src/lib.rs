//! Move, draw and measure huge numbers of small elements.
//!
//! Frolic keeps elements as columns of numbers and steps them on all cores, hands them to the renderer as few large
//! batches, and meters every stage of every frame, so that you know what a frame costs as the count grows. It needs no GPU and
//! no display.
//!
//! ![Dune grass in the afternoon wind, with trodden paths](../../../docs/screenshots/draw-dunes.png)
//!
//! ```
//! use frolic::prelude::*;
//!
//! # fn main() -> Result<(), Box<dyn std::error::Error>> {
//! let sparks = ParticleSpec::new(5_000)
//!     .life(1.0, 3.0)
//!     .size(0.004, 0.012)
//!     .motion(0.9, -0.12)
//!     .emitter(EmitterSpec::rate(1_500.0).cone([0.0, 1.0, 0.0], 20.0).speed(1.0, 4.0));
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
//! | describe particles, and what they start | [`particles`] |
//! | step them in a loop of your own | [`Particles`](particles::Particles), [`Clock`](prelude::Clock), `examples/own_loop.rs` |
//! | let wind, fields and obstacles act on columns of your own | [`bodies`] |
//! | add a family of elements of your own | [`families`], `examples/my_own_family.rs` |
//! | put things that stay, or hang and swing | [`fixed`] |
//! | put elements somewhere: patterns, clumps, on meshes and height maps | [`placement`], `examples/place_anything.rs` |
//! | grow grass that bends | [`blades`], `examples/walk_through_grass.rs`, `examples/endless_field.rs` |
//! | grow ten million of something | [`growing`], `examples/ten_million.rs` |
//! | send units to goals, around each other | [`crowd`], `examples/circle_of_goals.rs` |
//! | let elements steer by those around them, seek, flee and hunt | [`flock`], `examples/school.rs`, `examples/hunter_and_prey.rs` |
//! | keep bodies apart, in piles and crowds | [`PushApart`](bodies::PushApart), `examples/pile_of_pebbles.rs` |
//! | find the elements near each other, for a rule of your own | [`neighbours`](core::neighbours), `examples/who_is_near.rs`, `examples/my_own_rule.rs` |
//! | say what acts on them | [`world`] |
//! | say what they look like; use textures, fonts, meshes of your own | [`looks`], `examples/sprite_layers.rs` |
//! | see why batches break, or take the list to a backend of your own | [`drawing`], `examples/read_the_batches.rs` |
//! | bake, read and write meshes, distance grids and places | [`assets`] |
//! | read or write a scene file | [`SceneSpec`](scene::SceneSpec), `docs/scene-format.md` |
//! | know what a frame did and cost, or paint it | [`Meter`](prelude::Meter), [`Show`](diagnostics::Show), [`Readout`](diagnostics::Readout), [`Trace`](core::trace::Trace) |
//! | measure frame time against count | [`profile`], `examples/count_ladder.rs`; of your own loop `examples/profile_my_own_loop.rs` |
//! | change, save, undo while a scene runs | `docs/live.md`, `examples/tune_while_running.rs`, `examples/snapshot_and_undo.rs` |
//! | hold frames under a time | [`FrameBudget`](core::FrameBudget), `examples/keep_the_budget.rs` |
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

/// Particles: emitted, moved by the world, retired; populations that start one another.
///
/// ![A flare over a night sea: embers, sparks and smoke](../../../../docs/screenshots/draw.png)
///
/// A stream or a burst of an emitter gives elements a place, a velocity, a life and a size. The world moves them from then on: gravity, wind, fields,
/// obstacles. Events (birth, death, a hit, a catch, an age, a region) start elements of other populations. `docs/particles.md` has a chapter for each theme.
///
/// ```
/// use frolic::prelude::*;
///
/// let fountain = ParticleSpec::new(2_000)
///     .life(4.0, 6.0)
///     .motion(0.2, 1.0)
///     .emitter(EmitterSpec::rate(900.0).cone([0.0, 1.0, 0.0], 12.0).speed(6.0, 7.0));
/// let mut drops = Particles::new(&fountain, 7)?;
/// drops.step(&WorldSpec::default().build()?, 1.0 / 60.0, 60, &mut Meter::new());
/// assert_eq!(drops.len(), 900);
/// # Ok::<(), SpecError>(())
/// ```
pub mod particles {
    pub use frolic_core::{
        AimBy, AimSpec, BurstSpec, CourseSpec, EmitterSpec, EventRecord, EventSpec, MeshPart, Moment, Order,
        ParticleSet, ParticleSpec, Particles, Region, ShapeSpec, Storage, Trail, TrailSpec, VolumePart,
        check_events,
    };
}

/// Free bodies: what the world does to columns of any family, one of your own included.
///
/// ![Spray that collects in buckets, and rock that is dug](../../../../docs/screenshots/draw-blowhole.png)
///
/// ```
/// use frolic::bodies::{BodyColumns, BodyRow, Integrator, MotionSpec};
/// use frolic::prelude::*;
///
/// let mut stones = BodyColumns::default();
/// stones.push(&BodyRow { py: 10.0, life: f32::INFINITY, ..BodyRow::default() });
/// let mut integrator = Integrator::new(&MotionSpec::default())?;
/// integrator.step(stones.bodies(), &WorldSpec::default().build()?, 0.1, &mut Meter::new())?;
/// assert!(stones.py()[0] < 10.0);
/// # Ok::<(), SpecError>(())
/// ```
pub mod bodies {
    pub use frolic_core::{
        ApartSpec, Bodies, BodyColumns, BodyRow, Integrator, KeepTo, MotionSpec, PushApart,
    };
}

/// Elements that stay where they are put: they hang from lines, fill a volume, swing, sway, or go with a pusher.
///
/// ![Pennants on lines in the wind](../../../../docs/screenshots/draw-pennants.png)
///
/// ```
/// use frolic::fixed::{FixedInstances, LineSpec, SwingSpec};
/// use frolic::prelude::*;
///
/// let line = LineSpec::new([0.0, 3.0, 0.0], [10.0, 3.0, 0.0], 0.5);
/// let mut flags = FixedInstances::new(&FixedSpec::hung([line], Some(SwingSpec::default())), 40, Span::from(0.2), 1)?;
/// let world = WorldSpec::default().wind([0.0, 0.0, 4.0]).build()?;
/// flags.step(&world, 1.0 / 60.0, 60, &mut Meter::new());
/// assert!(flags.columns().tilt().iter().all(|tilt| *tilt < 0.0));
/// # Ok::<(), SpecError>(())
/// ```
pub mod fixed {
    pub use frolic_core::{
        FillSpec, FixedColumns, FixedInstances, FixedSpec, LineSpec, PlaceSpec, SwaySpec, SwingSpec, WalkSpec,
    };
}

/// Blades: rooted, bent by the wind, pressed down by what treads on them. `docs/growing.md` tells how they grow.
///
/// ![Dune grass bent by gusts, with trodden paths](../../../../docs/screenshots/draw-dunes.png)
///
/// ```
/// use frolic::blades::Blades;
/// use frolic::prelude::*;
///
/// let meadow = PlacementSpec::new(On::Ground(PatternSpec::Scattered));
/// let mut blades = Blades::new(&BladeSpec::new(meadow), 1_000, Span::from(0.004), 3)?;
/// let world = WorldSpec::default().wind([6.0, 0.0, 0.0]).build()?;
/// blades.step(&world, 1.0 / 60.0, 60, &mut Meter::new());
/// assert_eq!(blades.len(), 1_000);
/// # Ok::<(), SpecError>(())
/// ```
pub mod blades {
    pub use frolic_core::{
        AroundSpec, BladeColumns, BladeLayouts, BladeMotion, BladeRow, BladeSpec, Blades, GroupSpec,
        TearSpec, Torn, Weather, blade_curve,
    };
}

/// Elements that grow in clusters, ten million and more: from seed to full size, harvested, sown anew.
///
/// ![Mussels that grow in clusters](../../../../docs/screenshots/draw-mussels.png)
///
/// ```
/// use frolic::growing::Growing;
/// use frolic::prelude::*;
///
/// let spec = GrowSpec::new(PlacementSpec::default(), 100, PlacementSpec::default()).seconds(1.0, 1.0);
/// let mut beds = Growing::new(&spec, 1_000, Span::from(0.1), 3)?;
/// beds.step(1.0 / 60.0, 30, &mut Meter::new());
/// assert!(beds.growth(17).is_some_and(|growth| (growth - 0.5).abs() < 1e-3));
/// # Ok::<(), SpecError>(())
/// ```
pub mod growing {
    pub use frolic_core::{Cluster, GrowSpec, Growing, HarvestSpec, ShownColumns, StackSpec};
}

/// Flocks: elements that steer by those around them. `docs/flocks.md` tells of rules and what goes wrong.
///
/// ![A school of sand eels turns around a lure and parts before a seal](../../../../docs/screenshots/draw-shoal.png)
///
/// ```
/// use frolic::flock::{Flock, FlockSpec, Space};
/// use frolic::prelude::*;
///
/// let tank = Space::Box { position: [0.0; 3], size: [3.0, 2.0, 2.0] };
/// let mut school = Flock::new(&FlockSpec::school(0.1).within(tank), 500, Span::from(0.1), 7)?;
/// let (world, mut meter) = (WorldSpec::default().build()?, Meter::new());
/// for _ in 0..60 {
///     school.step(&world, &[], 1.0 / 30.0, &mut meter)?;
/// }
/// println!("order {:.2}, {:.0} mm to the nearest", school.gauges().order, school.gauges().nearest * 1e3);
/// # Ok::<(), SpecError>(())
/// ```
pub mod flock {
    pub use frolic_core::{
        AlarmSpec, Catch, Flock, FlockColumns, FlockGauges, FlockRow, FlockSpec, HuntSpec, OtherElements,
        RuleSpec, Space, Target, TargetSpec, TintSpec,
    };
}

/// Crowds: units that each go to a goal and avoid each other. `docs/crowds.md` describes techniques of avoidance and common problems.
///
/// ![Paths of a crowd that crosses a circle](../../../../docs/screenshots/circle-of-goals.png)
///
/// ```
/// use frolic::crowd::{Crowd, CrowdSpec, GoalSpec};
/// use frolic::prelude::*;
///
/// let spec = CrowdSpec::default().goal(GoalSpec::Across([0.0; 3]));
/// let mut crowd = Crowd::new(&spec, 60, Span::from(0.25), 7)?;
/// let (world, mut meter) = (WorldSpec::default().build()?, Meter::new());
/// for _ in 0..100 {
///     crowd.step(&world, 0.1, &mut meter)?;
/// }
/// println!("{} arrived, {} wait", crowd.gauges().arrived, crowd.gauges().waiting);
/// # Ok::<(), SpecError>(())
/// ```
pub mod crowd {
    pub use frolic_core::{
        AvoidanceTechnique, Crowd, CrowdColumns, CrowdGauges, CrowdRow, CrowdSpec, CrowdTint, GoalSpec,
    };
}

/// Where elements are put and how they stand: patterns, clumps, filters, ground with a shape, surfaces, volumes, places from a file.
///
/// ![Flowers and grass in clumps](../../../../docs/screenshots/draw-machair.png)
///
/// ```
/// use frolic::placement::Placement;
/// use frolic::prelude::*;
///
/// let even = PlacementSpec::new(On::Ground(PatternSpec::BlueNoise { distance: 0.0 }));
/// let placed = Placement::new(&[even], Some(500), 7, &Default::default())?.all();
/// assert_eq!(placed.len(), 500);
/// # Ok::<(), SpecError>(())
/// ```
pub mod placement {
    pub use frolic_core::{
        AreaSpec, Clump, ClumpSpec, EachSpec, Filter, FilterBy, FilterSpec, Footing, On, PatternSpec,
        PlacedColumns, PlacedRow, Placement, PlacementSpec, Terrain, TerrainSpec,
    };
}

/// What acts on elements: wind and gusts, fields, obstacles, collectors, pushers, brushes, cells without end.
///
/// ![Elements that the sound of a foghorn moves](../../../../docs/screenshots/draw-foghorn.png)
///
/// ```
/// use frolic::prelude::*;
///
/// let world = WorldSpec::default()
///     .wind([2.0, 0.0, 0.0])
///     .field(FieldSpec::vortex([0.0, 1.0, 0.0], 3.0, 0.5))
///     .obstacle(ObstacleSpec::plane([0.0; 3], [0.0, 1.0, 0.0]).bounce(0.5, 0.1))
///     .build()?;
/// assert!(world.distance([0.0, 2.0, 0.0]) > 1.9);
/// # Ok::<(), SpecError>(())
/// ```
pub mod world {
    pub use frolic_core::{
        AttractorSpec, BlastSpec, BrushSpec, Cells, CellsSpec, CollectorSpec, CurlSpec, EndlessSpec, Falloff,
        Field, FieldChunk, FieldKind, FieldPopulation, FieldSpec, GustSpec, KeepOffSpec, Mask,
        MaskOrientation, ObstacleShape, ObstacleSpec, Path, PathEnds, PathSpec, PusherSpec, Pushing,
        ScatterSpec, ShapeFieldSpec, Touch, VortexSpec, World, WorldSpec,
    };
}

/// Meshes, pictures and distance grids that specs name.
///
/// ![A mesh and slices of its distance grid](../../../../docs/screenshots/bake.png)
///
/// ```
/// use frolic::assets::{BakeSpec, Surface};
///
/// let ball = Surface::ball(16).placed(0.8, 0.3, [0.0, 1.0, 0.0])?;
/// let grid = BakeSpec::new(32).bake(&ball)?;
/// assert!(grid.sample([0.0, 1.0, 0.0].into()).0 < 0.0);
/// # Ok::<(), frolic::prelude::SpecError>(())
/// ```
pub mod assets {
    pub use frolic_core::{Asset, Assets, BakeSpec, DistanceGrid, Plane, Surface};
    pub use frolic_scene::{
        AssetSource, AssetSpec, HillsSpec, MemoryFile, Places, read_grid, read_mesh, read_places, write_grid,
        write_places,
    };
}

/// What elements look like: shapes, textures, colour over age, light, detail.
///
/// ![A heather bush: bells and leaves, each in its own colour](../../../../docs/screenshots/draw-heather.png)
///
/// ```
/// use frolic::prelude::*;
///
/// let mut look = LookSpec::glowing(8.0, [(0.0, "#ffd9a0"), (1.0, "#3a0602")])?;
/// look.shape = Shape::Ribbon(RibbonSpec::new(6.0, 0.2, 3));
/// assert!(!look.build()?.is_solid());
/// # Ok::<(), SpecError>(())
/// ```
pub mod looks {
    pub use frolic_draw::{
        Align, Atlas, AtlasBuilder, BillboardSpec, Blend, Colour, DetailSpec, Facing, Fill, Font, Library,
        LightSpec, Look, LookSpec, Mesh, Orientation, Picture, Play, Resolution, RibbonSpec, Shape, Sprite,
        SunSpec, TerrainPaintSpec, TextStyle, TileMap, TuftSpec, WaveSpec,
    };
}

/// From instances to pixels: views, backdrops, draw lists, batches, the CPU renderer.
///
/// ![The batches of a frame, each in its colour](../../../../docs/screenshots/show-batches.png)
///
/// ```
/// use frolic::drawing::{ListScratch, ListSpec, Surroundings};
/// use frolic::prelude::*;
///
/// let (x, y, z) = ([0.0f32; 3], [0.5, 1.0, 1.5], [0.0; 3]);
/// let look = LookSpec::glowing(4.0, [(0.0, "#80c0ff")])?.build()?;
/// let (view, mut image) = (CameraSpec::default().view(ImageSize::new(64, 40)?)?, Image::new(ImageSize::new(64, 40)?));
/// let (mut scratch, mut meter) = (ListScratch::default(), Meter::new());
/// meter.begin_frame();
/// let instances = [(Instances::at([&x, &y, &z])?, &look)];
/// let backdrop = BackdropSpec::default();
/// let around = Surroundings::new(&backdrop);
/// let list = scratch.list(instances, &ListSpec::default(), &view, &around, &mut meter);
/// Renderer::new().render(&list, &view, &backdrop, &mut image, &mut meter);
/// assert_eq!(meter.end_frame().count(Counter::DrawCalls), 1);
/// # Ok::<(), SpecError>(())
/// ```
pub mod drawing {
    pub use frolic_core::{Group, Heading, Layouts, Posed, Poses};
    pub use frolic_draw::{
        BackdropSpec, Break, CameraSpec, DepthOrder, DrawList, GroundSpec, Image, ImageSize, Instances, Part,
        PlacedGroup, Renderer, SkySpec, Technique, View, WaterSpec,
    };
    pub use frolic_list::{ListScratch, ListSpec, Surroundings};
}

/// A family of your own: what is written of it, its elements, and how a scene steps and draws them. `examples/my_own_family.rs` is a whole one.
///
/// ![Heather in flower: static instances that sway, and petals that fall](../../../../docs/screenshots/draw-heather.png)
///
/// ```
/// use frolic::families::{BuildContext, CheckContext, DrawContext, Drawables, Elements, FamilySpec};
/// use frolic::prelude::*;
///
/// /// Elements in a row.
/// #[derive(Debug)]
/// struct Row;
///
/// impl FamilySpec for Row {
///     fn key(&self) -> &'static str {
///         "row"
///     }
///
///     fn check(&self, _population: &PopulationSpec, _context: &CheckContext<'_>) -> Result<(), SpecError> {
///         Ok(())
///     }
///
///     fn warm_up_seconds(&self, _population: &PopulationSpec) -> f32 {
///         0.0
///     }
///
///     fn build(&self, context: &mut BuildContext<'_>) -> Result<Box<dyn Elements>, SpecError> {
///         Ok(Box::new(Placed { x: (0..context.count).map(|nth| nth as f32).collect(), zero: vec![0.0; context.count as usize] }))
///     }
/// }
///
/// #[derive(Debug)]
/// struct Placed {
///     x: Vec<f32>,
///     zero: Vec<f32>,
/// }
///
/// impl Elements for Placed {
///     fn len(&self, _context: DrawContext<'_>) -> usize {
///         self.x.len()
///     }
///
///     fn bytes(&self, _context: DrawContext<'_>) -> u64 {
///         (self.x.len() * 8) as u64
///     }
///
///     fn instances<'a>(&'a self, _context: DrawContext<'a>) -> Result<Drawables<'a>, SpecError> {
///         Ok(Drawables::one(Instances::at([&self.x, &self.zero, &self.zero])?))
///     }
/// }
///
/// let row = PopulationSpec::of("row", Row, 12, Span::from(0.1), LookSpec::default());
/// let scene = Scene::new(&SceneSpec::new("a row").with_population(row))?;
/// assert_eq!(scene.alive(), 12);
/// # Ok::<(), SpecError>(())
/// ```
pub mod families {
    pub use frolic_core::{Bodies, Integrator, Layouts, Poses, SavedState};
    pub use frolic_scene::{
        BuildContext, CheckContext, DrawContext, Drawables, Elements, FamilySpec, GroundPlan, OwnFamily,
        RetuneContext, SightPlan, StepContext,
    };
}

/// What a first program needs: build a scene, step it, draw it, read the meter, profile it. The rest is in the modules.
pub mod prelude {
    pub use frolic_core::{
        AreaSpec, BladeSpec, Clock, ClockSpec, CollectorSpec, Counter, EmitterSpec, EventSpec, FieldSpec,
        FixedSpec, Frame, GrowSpec, Meter, Moment, ObstacleSpec, On, ParticleSpec, Particles, PatternSpec,
        PlacementSpec, Ramp, ShapeSpec, Span, SpecError, Stage, Storage, Threads, World, WorldSpec,
    };
    pub use frolic_diagnostics::Show;
    pub use frolic_draw::{
        BackdropSpec, BillboardSpec, Blend, CameraSpec, Colour, Image, ImageSize, Instances, LightSpec, Look,
        LookSpec, Quality, Renderer, RibbonSpec, Shape, SunSpec, Technique, View,
    };
    pub use frolic_profile::{Plan, Profile, sweep, write_profile};
    pub use frolic_scene::{PopulationSpec, Scene, SceneError, SceneSpec, write_png};
}
