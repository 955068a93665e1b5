//! Blades, growing things, land and places in scenes and files.

use frolic_core::{
    AreaSpec, AroundSpec, BladeSpec, Counter, GroupSpec, GrowSpec, Meter, On, PathSpec, PatternSpec,
    PlacedColumns, PlacementSpec, PusherSpec, Span, TearSpec, TerrainSpec, Weather,
};
use frolic_diagnostics::Show;
use frolic_draw::{Colour, ImageSize, LightSpec, LookSpec, Mesh, RibbonSpec, Shape, Technique};
use frolic_scene::{
    AssetSource, AssetSpec, HillsSpec, PlacementAsset, Places, PopulationSpec, Scene, SceneError, SceneSpec,
    TerrainPart, read_places, read_places_bytes, write_places,
};
use proptest::prelude::*;

fn meadow(count: u32) -> SceneSpec {
    let layer = PlacementSpec::new(On::Ground(PatternSpec::BlueNoise { distance: 0.0 }))
        .area(AreaSpec::new([0.0; 2], [6.0; 2]));
    let look = LookSpec::solid(Shape::Ribbon(RibbonSpec::new(10.0, 0.0, 3)), "#a0a850").unwrap();
    let blades = PopulationSpec::blades("grass", BladeSpec::new(layer), count, Span::new(0.004, 0.008), look);
    let mut spec = SceneSpec::new("a meadow").with_population(blades);
    spec.draw.size = ImageSize::new(160, 100).unwrap();
    spec
}

fn grass(spec: &mut SceneSpec) -> &mut BladeSpec {
    spec.population[0].blades.as_mut().unwrap()
}

fn run(spec: &SceneSpec, seconds: f64) -> (Scene, frolic_core::Frame) {
    let mut scene = Scene::new(spec).unwrap();
    let mut meter = Meter::new();
    meter.begin_frame();
    scene.run_to(seconds, &mut meter);
    scene.draw(&mut meter).unwrap();
    (scene, meter.end_frame())
}

/// On endless ground the count is a mean: a scene goes on where there are more blades.
#[test]
fn endless_ground_may_hold_more_than_the_mean() {
    let mut spec = meadow(2_000);
    let layer = PlacementSpec::new(On::Ground(PatternSpec::Scattered));
    *grass(&mut spec) = BladeSpec::new(layer).chunk(1.0).endless(AroundSpec::new(8.0));
    spec.travel = Some(PathSpec::new([[0.0; 3], [0.0, 0.0, -400.0]], 40.0));
    let (mut scene, mut meter) = (Scene::new(&spec).unwrap(), Meter::new());
    let mut most = 0;
    for second in 1..=20 {
        scene.run_to(f64::from(second), &mut meter);
        scene.draw(&mut meter).unwrap();
        most = most.max(scene.alive());
    }
    assert!((2_001..3_000).contains(&most), "{most}");
}

#[test]
fn a_scene_of_blades_reads_back_as_it_was_written() {
    let mut spec = meadow(100);
    spec.weather = Some(Weather::Storm);
    spec.world.pusher.push(PusherSpec::new([0.0; 3], 0.4));
    let text = spec.to_toml();
    assert_eq!(SceneSpec::parse(&text, "meadow").unwrap(), spec);
    assert!(text.contains("weather = \"storm\""));
}

#[test]
fn weather_bends_the_blades_of_a_scene() {
    let lean = |weather: Option<Weather>| {
        let mut spec = meadow(400);
        spec.weather = weather;
        let (mut scene, _) = run(&spec, 2.0);
        let placed = scene.snapshot("grass").unwrap().0.elements;
        placed.tilt().iter().sum::<f32>() / placed.len() as f32
    };
    let [still, storm] = [None, Some(Weather::Storm)].map(lean);
    assert!(storm > still + 0.2, "{storm} {still}");
}

/// Squares that a lamp shines on are drawn blade by blade, so that its light is seen on them: the others stay groups.
#[test]
fn lamps_light_squares_that_could_be_groups() {
    let mut spec = meadow(3_000);
    grass(&mut spec).chunk = 1.0;
    grass(&mut spec).groups = Some(GroupSpec::new(3, 2).beyond(1.0));
    spec.draw.technique = Technique::Tiled;
    spec.sun = None;
    let grouped = |lamp: Option<LightSpec>| {
        let mut spec = spec.clone();
        spec.light.extend(lamp);
        let (mut scene, frame) = run(&spec, 0.2);
        let image = scene.draw(&mut Meter::new()).unwrap().clone();
        (frame.count(Counter::SquaresGrouped), image, spec)
    };
    let near = |power: f32| LightSpec::new([0.0, 0.4, 0.0], Colour::new(1.0, 0.6, 0.2), power);
    let (all, dark, _) = grouped(None);
    let (some, _, _) = grouped(Some(near(0.03)));
    let (none, lit, mut spec) = grouped(Some(near(30.0)));
    assert!(all > 10 && some > 0 && some < all && none == 0, "{all} {some} {none}");
    assert!(lit != dark);
    spec.draw.technique = Technique::Instanced;
    assert!(*run(&spec, 0.2).0.draw(&mut Meter::new()).unwrap() == lit);
}

/// What a storm tears off flies on as particles.
#[test]
fn torn_blades_become_particles() {
    let mut spec = meadow(600);
    spec.weather = Some(Weather::Storm);
    let mut tear = TearSpec::new(40.0, "chaff");
    tear.rate = 3.0;
    grass(&mut spec).tear = Some(tear);
    assert_eq!(Scene::new(&spec).unwrap_err().key, "population.0.blades.tear.start");
    let chaff = frolic_core::ParticleSpec::new(300).life(5.0, 6.0);
    let spec = spec.with("chaff", chaff, LookSpec::default());
    let (scene, frame) = run(&spec, 3.0);
    let flying = scene.particles("chaff").unwrap().len();
    assert!(flying > 50 && flying as u64 <= frame.count(Counter::Emitted), "{flying}");
}

#[test]
fn terrain_lies_under_its_blades() {
    let mut spec = meadow(300);
    spec.asset.push(AssetSpec::new("hill", AssetSource::Hills(HillsSpec::default())));
    let terrain = TerrainSpec::new("hill", [8.0, 8.0], 2.0);
    grass(&mut spec).placement[0].terrain = Some(terrain.clone());
    let mut land = TerrainPart::new(terrain);
    land.paint.texels = 64;
    land.grown_by = Some("nobody".into());
    spec.terrain.push(land);
    assert_eq!(Scene::new(&spec).unwrap_err().key, "terrain.0.grown_by");
    spec.terrain[0].grown_by = Some("grass".into());
    let (mut scene, frame) = run(&spec, 0.2);
    assert_eq!(frame.count(Counter::DrawCalls), 2);
    let placed = scene.snapshot("grass").unwrap().0.elements;
    let (low, high) = placed.py().iter().fold((f32::MAX, f32::MIN), |(l, h), y| (l.min(*y), h.max(*y)));
    assert!(low >= 0.0 && high <= 2.0 && high - low > 0.3, "{low} {high}");
}

/// Growth in a scene: elements out of view grow as if they were seen, and only those in view are drawn.
#[test]
fn a_scene_grows_what_it_does_not_show() {
    let patch = PlacementSpec::default().area(AreaSpec::new([0.0; 2], [0.9; 2]));
    let beds =
        PlacementSpec::new(On::Ground(PatternSpec::Scattered)).area(AreaSpec::new([0.0; 2], [60.0; 2]));
    let grow = GrowSpec::new(patch, 20, beds).seconds(3.0, 6.0);
    let mut look = LookSpec::solid(Shape::mesh("ball"), "#405060").unwrap();
    look.size_over_age = frolic_core::Ramp::new([(0.0, 0.1), (1.0, 1.0)]);
    let mut spec = SceneSpec::new("beds").with_population(PopulationSpec::growing(
        "kelp",
        grow,
        8000,
        Span::from(0.05),
        look,
    ));
    spec.draw.size = ImageSize::new(160, 100).unwrap();
    let (mut scene, frame) = run(&spec, 3.0);
    assert_eq!(frame.count(Counter::Alive), 8000);
    let drawn = frame.count(Counter::Instances);
    assert!(drawn > 100 && drawn < 5000, "{drawn}");
    let (places, mesh) = scene.snapshot("kelp").unwrap();
    let placed = places.elements;
    assert_eq!(placed.len(), 8000);
    // Half to fully grown, wherever they are.
    assert!(placed.size().iter().all(|size| (0.024..=0.05).contains(size)));
    assert!(mesh.triangles().len() > 8);
    scene.draw(&mut Meter::new()).unwrap();
}

#[test]
fn plans_show_what_is_there_and_say_what_is_not() {
    let (mut scene, _) = run(&meadow(300), 0.1);
    let plan = scene.show(Show::Placement, &mut Meter::new()).unwrap().clone();
    let wind = scene.show(Show::Wind, &mut Meter::new()).unwrap().clone();
    assert!(plan != wind && plan.size() == wind.size());
    let bare = SceneSpec::new("bare").with("sparks", frolic_core::ParticleSpec::new(5), LookSpec::default());
    let told = Scene::new(&bare).unwrap().show(Show::Placement, &mut Meter::new()).unwrap_err();
    assert!(matches!(told, SceneError::Missing(_)) && told.to_string().contains("no placed elements"));
}

fn same(a: &PlacedColumns, b: &PlacedColumns) {
    assert_eq!(a.len(), b.len());
    for nth in 0..a.len() {
        let (a, b) = (a.row(nth).unwrap(), b.row(nth).unwrap());
        let place = (a.px - b.px).abs() + (a.py - b.py).abs() + (a.pz - b.pz).abs();
        assert!(place < 1e-4 && (a.size - b.size).abs() < 1e-4 * (1.0 + a.size), "{a:?} {b:?}");
        assert!((a.turn - b.turn).sin().abs() < 1e-3 && (a.turn - b.turn).cos() > 0.9, "{a:?} {b:?}");
        assert!((a.tilt - b.tilt).abs() < 1e-3 && (a.tint, a.kind, a.id) == (b.tint, b.kind, b.id));
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(20))]

    /// What is written to a file of any kind is read back: tint, kind and id to the bit, velocity and age too where there are any.
    #[test]
    fn places_survive_every_format(rows in prop::collection::vec(
        (prop::array::uniform3(-1e3f32..1e3), -3.1f32..3.1, -1.5f32..1.5, 0.001f32..50.0), 0..40,
    ), moves in any::<bool>(), ages in any::<bool>()) {
        let motion: Vec<[f32; 3]> = rows.iter().map(|(at, ..)| at.map(|v| v * 0.37)).collect();
        let placed = PlacedColumns::of(rows.into_iter().map(|(at, turn, tilt, size)| (at, [turn, tilt], size)));
        let mut places = Places::from(placed);
        let some = !motion.is_empty();
        places.velocity = (moves && some).then(|| [0, 1, 2].map(|axis| motion.iter().map(|v| v[axis]).collect()));
        places.age = (ages && some).then(|| motion.iter().map(|v| v[0].abs()).collect());
        let folder = tempfile::tempdir().unwrap();
        let mesh = Mesh::named("cone").unwrap();
        for name in ["field.glb", "field.ply", "field.csv"] {
            let path = folder.path().join(name);
            write_places(&path, &places, &mesh).unwrap();
            let back = read_places(&path).unwrap();
            same(&places.elements, &back.elements);
            prop_assert_eq!((&places.velocity, &places.age), (&back.velocity, &back.age), "{}", name);
        }
    }

    /// Files that are cut off or spoilt end in an error or in fewer places, never in a failure.
    #[test]
    fn damaged_files_are_refused(kind in 0usize..3, cut in 0f32..1.0, at in 0f32..1.0, byte in any::<u8>()) {
        let placed = PlacedColumns::of((0..12).map(|n| ([n as f32, 0.0, 1.0], [0.1, 0.2], 1.0)));
        let folder = tempfile::tempdir().unwrap();
        let name = ["field.glb", "field.ply", "field.csv"][kind];
        let path = folder.path().join(name);
        write_places(&path, &placed.into(), &Mesh::named("cone").unwrap()).unwrap();
        let mut bytes = std::fs::read(&path).unwrap();
        let spoil = (at * bytes.len() as f32) as usize;
        bytes[spoil] = byte;
        bytes.truncate((cut * 1.3 * bytes.len() as f32) as usize);
        let _ = read_places_bytes(&bytes, name);
    }
}

/// An exported placement is placed again.
#[test]
fn exported_places_can_be_placed() {
    let (mut scene, _) = run(&meadow(200), 0.1);
    let (places, mesh) = scene.snapshot("grass").unwrap();
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("grass.glb");
    write_places(&path, &places, &mesh).unwrap();
    let placed = places.elements;
    let mut again = meadow(200);
    again.asset.push(AssetSpec::new("read", AssetSource::Places(path.display().to_string())));
    grass(&mut again).placement = vec![PlacementSpec::new(On::Places { asset: "read".into() })];
    let (mut scene, _) = run(&again, 0.1);
    let back = scene.snapshot("grass").unwrap().0.elements;
    assert_eq!(back.len(), 200);
    let sum = |columns: &PlacedColumns| columns.px().iter().map(|x| f64::from(*x)).sum::<f64>();
    assert!((sum(&back) - sum(&placed)).abs() < 1e-2);
}

/// The binary glTF is one that a strict reader takes: one mesh, instanced by the extension, all accessors within their buffer.
#[test]
fn an_exported_field_is_valid_gltf() {
    let placed = PlacedColumns::of((0..5).map(|n| ([n as f32, 0.0, 0.0], [0.3, 0.1], 2.0)));
    let placed = Places::from(placed);
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("field.glb");
    write_places(&path, &placed, &Mesh::named("post").unwrap()).unwrap();
    let bytes = std::fs::read(&path).unwrap();
    let gltf = gltf::Gltf::from_slice(&bytes).unwrap();
    assert_eq!(bytes.len() % 4, 0);
    assert!(gltf.extensions_used().any(|name| name == "EXT_mesh_gpu_instancing"));
    assert_eq!(gltf.extensions_required().count(), 0);
    let blob = gltf.blob.as_ref().unwrap();
    for view in gltf.views() {
        assert!(view.offset() + view.length() <= blob.len());
    }
    for accessor in gltf.accessors() {
        let view = accessor.view().unwrap();
        assert!(
            accessor.offset() + accessor.count() * accessor.size() <= view.length() && accessor.count() > 0
        );
    }
    // A viewer that knows no instancing sees the mesh once.
    assert_eq!(gltf.nodes().count(), 1);
    assert!(matches!(read_places(folder.path().join("none.glb")), Err(SceneError::Read { .. })));
    assert!(write_places(folder.path().join("field.xyz"), &placed, &Mesh::named("post").unwrap()).is_err());
}

/// Any population is put by a placement: instances by its layers, particles by an asset of places.
#[test]
fn static_instances_and_particles_are_placed_too() {
    let ring = |radius: f32| {
        let corners = (0..40).map(|k| (k as f32 * 0.157_08).sin_cos()).map(|(s, c)| [s * radius, c * radius]);
        let by =
            frolic_core::FilterBy::Path { points: corners.collect(), closed: true, width: 0.0, soft: 0.0 };
        PlacementSpec::new(On::Ground(PatternSpec::Scattered)).filter(frolic_core::FilterSpec::new(by))
    };
    let mut posts = frolic_core::FixedSpec::default();
    posts.placement = vec![ring(2.0)];
    let look = LookSpec::solid(Shape::mesh("post"), "#806040").unwrap();
    let mut spec = SceneSpec::new("placed").with_population(PopulationSpec::fixed(
        "posts",
        posts,
        150,
        Span::from(0.2),
        look,
    ));
    spec.asset.push(AssetSpec::new("spots", AssetSource::Placement(PlacementAsset::new(90, [ring(1.0)]))));
    let shape = frolic_core::ShapeSpec::Places { asset: "spots".into() };
    let still = frolic_core::EmitterSpec::burst(500, 0.0).shape(shape).speed(0.0, 0.0);
    let sparks = frolic_core::ParticleSpec::new(500).life(9.0, 9.0).motion(0.0, 0.0).emitter(still);
    let mut spec = spec.with("sparks", sparks, LookSpec::default());
    spec.draw.size = ImageSize::new(80, 50).unwrap();
    let (mut scene, _) = run(&spec, 0.2);
    let within = |placed: &PlacedColumns, radius: f32| {
        (0..placed.len()).all(|n| placed.px()[n].hypot(placed.pz()[n]) < radius * 1.01)
    };
    let posts = scene.snapshot("posts").unwrap().0.elements;
    assert!(posts.len() == 150 && within(&posts, 2.0) && !within(&posts, 1.5));
    let sparks = scene.snapshot("sparks").unwrap().0.elements;
    assert!(sparks.len() == 500 && within(&sparks, 1.0));
    // No more places than there are.
    let mut places: Vec<u32> = sparks.px().iter().map(|x| x.to_bits()).collect();
    places.sort_unstable();
    places.dedup();
    assert!((60..=90).contains(&places.len()), "{}", places.len());
}

/// A fault once: exports left out how elements move and how old they are.
#[test]
fn exports_carry_velocity_age_id_and_tint() {
    let sparks = frolic_core::ParticleSpec::new(400)
        .life(3.0, 5.0)
        .emitter(frolic_core::EmitterSpec::rate(200.0).cone([0.3, 1.0, 0.0], 40.0).speed(1.0, 4.0));
    let mut spec = SceneSpec::new("sparks").with("sparks", sparks, LookSpec::default());
    spec.draw.size = ImageSize::new(32, 20).unwrap();
    let (mut scene, _) = run(&spec, 1.0);
    let columns = scene.particles("sparks").unwrap().columns().clone();
    let (places, mesh) = scene.snapshot("sparks").unwrap();
    let folder = tempfile::tempdir().unwrap();
    for name in ["sparks.glb", "sparks.ply", "sparks.csv"] {
        write_places(folder.path().join(name), &places, &mesh).unwrap();
        let back = read_places(folder.path().join(name)).unwrap();
        assert_eq!(back.elements.id(), columns.key(), "{name}");
        assert_eq!(back.elements.tint(), places.elements.tint(), "{name}");
        assert_eq!(back.velocity.unwrap().each_ref().map(|axis| &axis[..]), columns.velocity(), "{name}");
        // As old as they are in the picture.
        let ages = back.age.unwrap();
        assert!(ages.iter().zip(columns.age()).all(|(a, b)| (a - b).abs() < 1e-6), "{name}");
    }
}

/// A fault once: fixed elements lost tint and id of the places that they were read from, and `places` of an emitter left some out.
#[test]
fn places_from_a_file_keep_tint_and_id_and_none_is_left_out() {
    let rows = (0..70u32).map(|n| frolic_core::PlacedRow {
        px: n as f32,
        tint: n as f32 / 70.0,
        id: n * 977 + 5,
        ..frolic_core::PlacedRow::UPRIGHT
    });
    let placed = Places::from(PlacedColumns::from_rows(rows));
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("read.ply");
    write_places(&path, &placed, &Mesh::named("post").unwrap()).unwrap();
    let mut instances = frolic_core::FixedSpec::default();
    instances.placement = vec![PlacementSpec::new(On::Places { asset: "read".into() })];
    let look = LookSpec::solid(frolic_draw::Shape::mesh("post"), "#808080").unwrap();
    let sparks = frolic_core::ParticleSpec::new(70).life(9.0, 9.0).emitter(
        frolic_core::EmitterSpec::burst(70, 0.0)
            .shape(frolic_core::ShapeSpec::Places { asset: "read".into() })
            .speed(0.0, 0.0),
    );
    let mut spec = SceneSpec::new("read")
        .with_population(PopulationSpec::fixed("posts", instances, 70, Span::from(0.1), look))
        .with("sparks", sparks, LookSpec::default());
    spec.world.gravity = [0.0; 3];
    spec.draw.size = ImageSize::new(32, 20).unwrap();
    spec.asset.push(AssetSpec::new("read", AssetSource::Places(path.display().to_string())));
    let (mut scene, _) = run(&spec, 0.1);
    let posts = scene.snapshot("posts").unwrap().0.elements;
    assert_eq!((posts.tint(), posts.id()), (placed.elements.tint(), placed.elements.id()));
    let mut at: Vec<u32> =
        scene.particles("sparks").unwrap().columns().px().iter().map(|x| *x as u32).collect();
    at.sort_unstable();
    assert_eq!(at, (0..70).collect::<Vec<_>>(), "each place once");
}
