//! What is read from grids on the device, against the processor: masks, grounds, distance grids, shapes; and newborn that are written down.

use crate::common::gpu;
use crate::common::stepped::{Both, agree, alike, both_in};
use frolic_core::backend::why_not_on_device;
use frolic_core::{
    AimSpec, Asset, Assets, BakeSpec, CellsSpec, CollectorSpec, EmitterSpec, EndlessSpec, FieldSpec,
    MaskOrientation, MeshPart, Meter, ObstacleShape, ObstacleSpec, ParticleSpec, Plane, ScatterSpec,
    ShapeSpec, Span, Surface, Touch, VolumePart, World, WorldSpec,
};
use frolic_gpu::{GpuParticles, Recorder};

/// Slanting walls with a gap, hills, and a ball.
fn assets() -> Assets {
    let mut assets = Assets::default();
    let (w, h) = (120usize, 80usize);
    let rock = |x: usize, y: usize| {
        let (x, y) = (x as f32 / w as f32, y as f32 / h as f32);
        let wall = (y - 0.3 - 0.5 * x).abs() < 0.06 && !(0.45..0.6).contains(&x);
        f32::from(u8::from(wall || y < 0.08 || !(0.03..0.97).contains(&x)))
    };
    let rock = (0..w * h).map(|nth| rock(nth % w, nth / w)).collect();
    assets.insert("rock", Asset::Plane(Plane::new(w, h, rock).unwrap().into()));
    let hill = |nth: usize| {
        let (x, y) = ((nth % 40) as f32, (nth / 40) as f32);
        0.5 + 0.3 * (x * 0.3).sin() * (y * 0.25).cos()
    };
    assets.insert("hills", Asset::Plane(Plane::new(40, 30, (0..1200).map(hill).collect()).unwrap().into()));
    assets.insert("ball", Asset::Surface(Surface::ball(8).into()));
    assets.insert("stone", Asset::Distance(BakeSpec::new(24).bake(&Surface::ball(8)).unwrap().into()));
    assets
}

fn rock(touch: Touch) -> ObstacleSpec {
    ObstacleSpec::mask("rock", [0.0, 1.5, 0.0], 6.0).bounce(0.4, 0.15).touch(touch)
}

fn hills(touch: Touch) -> ObstacleSpec {
    let shape = ObstacleShape::Heights {
        asset: "hills".to_owned(),
        position: [0.0; 3],
        size: [5.0, 4.0],
        height: 1.0,
    };
    ObstacleSpec::new(shape).bounce(0.5, 0.1).touch(touch)
}

fn stone(touch: Touch) -> ObstacleSpec {
    ObstacleSpec::distance("stone").bounce(0.6, 0.05).touch(touch)
}

/// A shower from above.
fn shower() -> ParticleSpec {
    let emitter = EmitterSpec::rate(1_500.0)
        .shape(ShapeSpec::Box { size: [4.0, 0.2, 3.0] })
        .position([0.0, 2.6, 0.0])
        .cone([0.0, -1.0, 0.0], 50.0)
        .speed(0.5, 5.0);
    ParticleSpec::new(6_000).life(1.0, 2.5).motion(0.3, 1.0).emitter(emitter)
}

/// Within one in a hundred; births to the digit.
fn about_as_many(counted: [[u64; 6]; 2], what: &str) {
    let [here, there] = counted;
    assert_eq!(here[..2], there[..2], "{what}");
    for (nth, name) in [(2, "retired"), (3, "hits"), (4, "picked"), (5, "alive")] {
        let (a, b) = (here[nth] as f64, there[nth] as f64);
        assert!((a - b).abs() <= a * 0.02 + 2.0, "{what}, {name}: {a} and {b}");
    }
}

fn run(obstacles: Vec<ObstacleSpec>, steps: u32) -> Both {
    let (spec, assets) = (shower(), assets());
    let mut world = WorldSpec::default();
    world.obstacle = obstacles;
    assert_eq!(why_not_on_device(&spec, &world.build_with(&assets).unwrap(), &assets), None);
    both_in(&gpu(), &spec, &world, &assets, steps, None)
}

#[test]
fn every_grid_collides_by_every_touch() {
    for (name, obstacle) in [("mask", rock as fn(Touch) -> _), ("ground", hills), ("stone", stone)] {
        for touch in [Touch::Bounce, Touch::Slide, Touch::Stick, Touch::Die, Touch::Pass] {
            let what = format!("{name}, {touch:?}");
            let (rows, counted) = run(vec![obstacle(touch)], 60);
            assert!(counted[0][3] > 100, "{what}: {} hits", counted[0][3]);
            about_as_many(counted, &what);
            let same = alike(&rows, 5e-3);
            assert!(same > 0.96, "{what}: {same}");
            if matches!(touch, Touch::Die | Touch::Stick) {
                assert!(counted[0][2] > 100 || touch == Touch::Stick, "{what}");
            }
        }
    }
}

/// Grids among themselves are marched through; with a plane beside them each is met by its own rule. Nobody ends inside.
#[test]
fn grids_and_others_stand_together() {
    let floor = ObstacleSpec::plane([0.0, -0.5, 0.0], [0.0, 1.0, 0.0]);
    let worlds = [
        ("grids alone", vec![rock(Touch::Bounce), stone(Touch::Slide)]),
        ("with a plane", vec![stone(Touch::Bounce), hills(Touch::Bounce), floor]),
    ];
    let assets = assets();
    for (what, obstacles) in worlds {
        let mut spec = WorldSpec::default();
        spec.obstacle = obstacles.clone();
        let world = spec.build_with(&assets).unwrap();
        let (rows, counted) = run(obstacles, 70);
        about_as_many(counted, what);
        let same = alike(&rows, 5e-3);
        assert!(same > 0.95, "{what}: {same}");
        let [here, there] = rows.map(|rows| {
            rows.iter()
                .filter(|row| row.age > 0.02 && world.distance([row.px, row.py, row.pz]) < -0.01)
                .count()
        });
        assert!(there <= here + 3, "{what}: {there} inside, {here} on the processor");
    }
}

/// A mask that lies, and collectors behind it.
#[test]
fn a_horizontal_mask_collides() {
    let shape = ObstacleShape::Mask {
        asset: "rock".to_owned(),
        position: [0.0; 3],
        width: 5.0,
        orientation: MaskOrientation::Flat,
        threshold: 0.5,
    };
    let mut world = WorldSpec::default().obstacle(ObstacleSpec::new(shape).bounce(0.7, 0.0));
    world.gravity = [0.0; 3];
    world.collector =
        vec![CollectorSpec::new([1.4, 0.0, 0.5], 0.5), CollectorSpec::new([-1.0, 0.0, 1.2], 0.4)];
    let emitter =
        EmitterSpec::rate(2_000.0).position([0.4, 0.0, 0.4]).cone([1.0, 0.0, 0.0], 180.0).speed(1.0, 4.0);
    let mut spec = ParticleSpec::new(4_000).life(0.6, 1.5).emitter(emitter);
    spec.motion.keep_to = Some(frolic_core::KeepTo::Flat);
    let (rows, counted) = both_in(&gpu(), &spec, &world, &assets(), 60, None);
    assert!(counted[0][3] > 300 && counted[0][4] > 100, "{counted:?}");
    about_as_many(counted, "flat");
    let same = alike(&rows, 5e-3);
    assert!(same > 0.96, "{same}");
}

/// Dug and filled before every step, several steps to a submission: each step meets the mask of its own time.
#[test]
fn a_mask_is_dug_between_steps() {
    let dig = |world: &mut World, nth: u32| {
        let along = nth as f32 / 60.0;
        assert!(world.dig(0, [along * 4.0 - 2.0, 0.9 + along * 2.0, 0.0], 0.35) < 10_000);
        if nth.is_multiple_of(7) {
            world.fill(0, [1.8 - along * 3.0, 2.0, 0.0], 0.2);
        }
    };
    let world = WorldSpec::default().obstacle(rock(Touch::Bounce));
    let mut spec = shower();
    spec.motion.keep_to = Some(frolic_core::KeepTo::Upright);
    let (rows, counted) = both_in(&gpu(), &spec, &world, &assets(), 60, Some(&dig));
    about_as_many(counted, "dug");
    let same = alike(&rows, 5e-3);
    assert!(same > 0.95, "{same}");
    // Not the same as if nobody had dug.
    let (still, _) = both_in(&gpu(), &spec, &world, &assets(), 60, None);
    let moved = alike(&[still[1].clone(), rows[1].clone()], 5e-3);
    assert!(moved < 0.9, "{moved}");
}

/// Posts without end around a middle that moves: bounced off, beside a floor; they come and go in one and the same step.
#[test]
fn an_endless_world_is_the_same() {
    let mut world = WorldSpec::default().obstacle(ObstacleSpec::plane([0.0, -1.0, 0.0], [0.0, 1.0, 0.0]));
    world.gravity = [0.0, -1.0, 0.0];
    let mut endless = EndlessSpec::new(1.5, 9.0, Span::new(0.2, 0.7));
    (endless.bounce, endless.friction, endless.share) = (0.9, 0.02, 0.7);
    world.endless = Some(endless);
    let emitter = EmitterSpec::rate(1_500.0)
        .shape(ShapeSpec::Box { size: [8.0, 0.5, 6.0] })
        .cone([1.0, 0.1, 0.3], 100.0)
        .speed(1.0, 12.0);
    let spec = ParticleSpec::new(4_000).life(0.5, 2.0).emitter(emitter);
    assert_eq!(why_not_on_device(&spec, &world.build().unwrap(), &Assets::default()), None);
    let go = |world: &mut World, nth: u32| world.recentre([nth as f32 * 0.12, nth as f32 * -0.05]);
    let (rows, counted) = both_in(&gpu(), &spec, &world, &Assets::default(), 70, Some(&go));
    assert!(counted[0][3] > 1_000, "{counted:?}");
    about_as_many(counted, "endless");
    let same = alike(&rows, 5e-3);
    assert!(same > 0.95, "{same}");
}

/// Another world at another step: the grids are that one's.
#[test]
fn the_world_can_be_replaced() {
    let (gpu, assets) = (gpu(), assets());
    let build = |obstacle| WorldSpec::default().obstacle(obstacle).build_with(&assets).unwrap();
    let worlds = [build(rock(Touch::Bounce)), build(stone(Touch::Bounce)), build(rock(Touch::Slide))];
    let mut here = frolic_core::Particles::new(&shower(), 7).unwrap();
    let mut there = GpuParticles::new(&gpu, &shower(), 7).unwrap();
    let mut recorder = Recorder::new(&gpu);
    for nth in 0..60 {
        let world = &worlds[nth / 7 % 3];
        here.step(world, 1.0 / 60.0, 1, &mut Meter::new());
        there.step(&mut recorder, world, 1.0 / 60.0, 1).unwrap();
    }
    let mut rows = there.read(&mut recorder).unwrap();
    rows.sort_by_key(|row| row.id);
    let own = (0..here.len()).filter_map(|nth| here.columns().row(nth)).collect();
    let same = alike(&[own, rows], 5e-3);
    assert!(same > 0.95, "{same}");
}

#[test]
fn shapes_draw_and_hold() {
    let plain = shower();
    for (what, field) in [
        ("drawn", FieldSpec::shape("stone", 30.0, 3.0)),
        ("near alone", FieldSpec::shape("stone", 30.0, 3.0).reach(1.2).during(0.2, 0.9)),
        ("held", FieldSpec::hold("stone")),
    ] {
        let assets = assets();
        let world = WorldSpec::default().wind([0.4, 0.0, 0.1]);
        for (whose, spec, world) in [
            ("world's", plain.clone(), world.clone().field(field.clone())),
            ("own", plain.clone().field(field.clone()), world),
        ] {
            let (rows, counted) = both_in(&gpu(), &spec, &world, &assets, 70, None);
            assert_eq!(counted[0], counted[1], "{what}, {whose}");
            let same = alike(&rows, 5e-3);
            assert!(same > 0.98, "{what}, {whose}: {same}");
        }
    }
}

/// From assets, evenly aimed, from the surface, scattered: to the bit where they are born, as the processor writes them down; beside a stream that
/// the device draws by itself, and with less room than births.
#[test]
fn newborn_from_assets_are_the_same() {
    let asset = |asset: &str| asset.to_owned();
    let shapes = [
        ShapeSpec::Heights { asset: asset("hills"), size: [4.0, 3.0], height: 1.0 },
        ShapeSpec::Mesh { asset: asset("ball"), part: MeshPart::Surface },
        ShapeSpec::Volume { asset: asset("stone"), part: VolumePart::Surface },
        ShapeSpec::Picture { asset: asset("hills"), width: 2.0, orientation: MaskOrientation::Upright },
    ];
    let mut aim = AimSpec::default();
    (aim.from_surface, aim.spread_degrees) = (true, 20.0);
    let mut spec = ParticleSpec::new(1_300).life(0.4, 1.2).motion(0.5, 0.8);
    for (nth, shape) in shapes.into_iter().enumerate() {
        let mut emitter =
            EmitterSpec::rate(400.0 + 100.0 * nth as f32).shape(shape).position([nth as f32, 0.0, 0.0]);
        emitter.aim = aim;
        spec = spec.emitter(emitter.speed(0.5, 2.0));
    }
    let mut even = EmitterSpec::burst(300, 0.05).speed(2.0, 3.0).cone([0.0, 1.0, 0.0], 180.0);
    even.aim.even = true;
    let scattered = EmitterSpec::rate(20.0).scatter(ScatterSpec::new(CellsSpec::new(2.0, 5.0), 2));
    spec = spec.emitter(EmitterSpec::rate(500.0).speed(1.0, 2.0)).emitter(even).emitter(scattered);
    let assets = assets();
    let world = WorldSpec::default();
    assert_eq!(why_not_on_device(&spec, &world.build().unwrap(), &assets), None);
    for steps in [1, 3, 40, 90] {
        let (rows, counted) = both_in(&gpu(), &spec, &world, &assets, steps, None);
        assert_eq!(counted[0], counted[1], "after {steps}");
        agree(&rows, 1e-3);
        assert!(steps < 90 || counted[0][1] > 100, "room must run out for this test");
    }
    spec.count = 2_600_000;
    let told = GpuParticles::with_assets(&gpu(), &spec, 1, &assets).unwrap_err().to_string();
    assert!(told.starts_with("count: ") && told.contains("2500000"), "{told}");
    assert!(why_not_on_device(&spec, &world.build().unwrap(), &assets).unwrap().contains("2 500 000"));
    assert!(GpuParticles::new(&gpu(), &shower().field(FieldSpec::hold("nothing")), 1).is_err());
}
