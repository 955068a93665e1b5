//! Populations on the device against those on the processor: the same elements, the same numbers.

use crate::common::gpu;
use crate::common::stepped::{agree, both};
use frolic_core::backend::why_not_on_device;
use frolic_core::{
    Assets, AttractorSpec, CollectorSpec, Counter, EmitterSpec, Falloff, Field, FieldChunk, FieldKind,
    FieldSpec, KeepTo, Meter, ObstacleShape, ObstacleSpec, ParticleSpec, Particles, PathSpec, ShapeSpec,
    Touch, VortexSpec, WorldSpec,
};
use frolic_gpu::{Gpu, GpuParticles, GpuSpec, Recorder};
use proptest::prelude::*;

#[test]
fn a_fire_burns_the_same_on_the_device() {
    let spec = ParticleSpec::new(700)
        .life(0.5, 2.5)
        .size(0.01, 0.2)
        .motion(0.9, -0.2)
        .emitter(EmitterSpec::rate(400.0).shape(ShapeSpec::Sphere { radius: 0.3 }).speed(1.0, 4.0))
        .emitter(EmitterSpec::burst(250, 1.01).cone([1.0, 1.0, 0.2], 60.0).speed(0.5, 2.0));
    let world = WorldSpec::default().wind([1.0, 0.0, 0.3]).gusts(1.5, 1.2);
    let (rows, counted) = both(&gpu(), &spec, &world, 300);
    assert_eq!(counted[0], counted[1]);
    assert!(counted[0][1] > 0, "room must run out for this test");
    agree(&rows, 2e-3);
}

/// A fault once: in the step of its birth an element met no wall and no collector. Emitters that the device knows, and one that the
/// processor writes down.
#[test]
fn newborn_pass_through_no_walls() {
    let plate = ObstacleShape::Box { position: [0.05, 0.0, 0.0], size: [0.002, 9.0, 9.0], turn_degrees: 0.0 };
    let gpu = gpu();
    for even in [false, true] {
        let mut emitter = EmitterSpec::rate(1_500.0).cone([1.0, 0.0, 0.0], 20.0).speed(6.0, 60.0);
        emitter.aim.even = even;
        let spec = ParticleSpec::new(2000).life(0.3, 0.9).motion(0.5, 1.0).emitter(emitter);
        let walled = WorldSpec::default().obstacle(ObstacleSpec::new(plate.clone()).bounce(0.4, 0.0));
        let (rows, counted) = both(&gpu, &spec, &walled, 20);
        assert_eq!(counted[0], counted[1]);
        assert!(rows.iter().all(|rows| rows.len() > 400 && rows.iter().all(|row| row.px <= 0.05)));
        agree(&rows, 2e-3);
        let bucket = WorldSpec::default().collector(CollectorSpec::new([0.2, 0.0, 0.0], 0.15));
        let end = WorldSpec::default().obstacle(ObstacleSpec::new(plate.clone()).touch(Touch::Die));
        for (world, counter) in [(bucket, 4), (end, 3)] {
            let (mut rows, counted) = both(&gpu, &spec, &world, 20);
            assert_eq!(counted[0][counter], counted[1][counter]);
            assert!(counted[0][counter] > 400);
            // What ended in the step of its birth is still there, unseen, until the next.
            rows[1].retain(|row| row.age < 1e30);
            agree(&rows, 2e-3);
        }
    }
}

/// Counts around the size of a thread group, and none at all; more steps than one submission holds.
#[test]
fn odd_counts_are_kept() {
    for count in [0u32, 1, 2, 255, 256, 257, 1000] {
        let spec = ParticleSpec::new(count)
            .life(0.3, 1.1)
            .emitter(EmitterSpec::burst(count, 0.0).shape(ShapeSpec::Box { size: [1.0, 2.0, 3.0] }))
            .emitter(EmitterSpec::rate(count as f32 * 0.7 + 1.0).speed(0.5, 1.0));
        for steps in [1, 33, 150] {
            let (rows, counted) = both(&gpu(), &spec, &WorldSpec::default(), steps);
            assert_eq!(counted[0], counted[1], "{count} after {steps}");
            agree(&rows, 1e-3);
        }
    }
}

/// A population that is larger than what a shader sees of a buffer is split: shards fill up one after the other, and nothing is refused that
/// would have had room.
#[test]
fn a_population_over_the_binding_limit_is_split() {
    let small = Gpu::open(GpuSpec::default().binding(64 << 10)).unwrap();
    // Four thousand and some to a shard.
    let spec = ParticleSpec::new(10_019)
        .life(0.4, 1.6)
        .motion(0.5, 0.7)
        .emitter(EmitterSpec::rate(9_000.0).speed(1.0, 3.0).cone([0.2, 1.0, 0.0], 40.0));
    let there = GpuParticles::new(&small, &spec, 1).unwrap();
    assert_eq!(there.instances(0.0).count(), 3);
    let (rows, counted) = both(&small, &spec, &WorldSpec::default().gusts(1.0, 2.0), 120);
    assert!(rows[0].len() > 8_000, "{} of three shards", rows[0].len());
    assert_eq!(counted[0], counted[1]);
    agree(&rows, 2e-3);
}

/// Ten million and nineteen, over the 128 MiB that WebGPU promises for a binding.
#[test]
fn ten_million_and_nineteen_are_born_and_die() {
    const COUNT: u32 = 10_000_019;
    let gpu = gpu();
    let spec = ParticleSpec::new(COUNT).life(0.02, 0.02).emitter(EmitterSpec::burst(COUNT, 0.0));
    let mut there = GpuParticles::new(&gpu, &spec, 3).unwrap();
    assert_eq!(there.instances(0.0).count(), 2);
    let (world, mut recorder) = (WorldSpec::default().build().unwrap(), Recorder::new(&gpu));
    there.step(&mut recorder, &world, 0.015, 1).unwrap();
    let born = there.wait(&mut recorder, &mut Meter::new()).unwrap();
    assert_eq!((born.alive, born.emitted, born.refused), (u64::from(COUNT), u64::from(COUNT), 0));
    there.step(&mut recorder, &world, 0.015, 1).unwrap();
    let dead = there.wait(&mut recorder, &mut Meter::new()).unwrap();
    assert_eq!((dead.alive, dead.retired), (0, u64::from(COUNT)));
}

fn any_spec() -> impl Strategy<Value = (ParticleSpec, WorldSpec)> {
    let shape = prop_oneof![
        Just(ShapeSpec::Point),
        (0f32..2.0).prop_map(|radius| ShapeSpec::Disc { radius, normal: [0.3, 1.0, -0.2] }),
        (0f32..2.0).prop_map(|radius| ShapeSpec::Sphere { radius }),
        (0f32..2.0).prop_map(|radius| ShapeSpec::SphereSurface { radius }),
        prop::array::uniform3(0f32..3.0).prop_map(|size| ShapeSpec::Box { size }),
        prop::array::uniform3(-2f32..2.0).prop_map(|to| ShapeSpec::Line { to }),
        (0f32..2.0).prop_map(|radius| ShapeSpec::Ring { radius, normal: [0.1, 0.4, 1.0] }),
    ];
    let aim = (0f32..180.0, 0f32..1.0, any::<bool>());
    let way = (any::<bool>(), any::<bool>(), -1f32..2.0);
    let emitter = (shape, 0f32..900.0, 0u32..300, 0f32..1.0, aim, prop::array::uniform3(-1f32..1.0), way)
        .prop_map(|(shape, rate, burst, at, (spread, hollow, fan), place, (moves, turns, keep))| {
            let mut emitter =
                EmitterSpec::rate(rate).shape(shape).position(place).cone([0.3, 1.0, 0.1], spread);
            emitter.burst = EmitterSpec::burst(burst, at).burst;
            emitter.aim.hollow_degrees = spread * hollow;
            emitter.aim.fan = fan.then_some([0.2, -0.1, 1.0]);
            emitter.keep_velocity = keep;
            if moves {
                let mut path = PathSpec::new([[0.0; 3], [1.0, 0.5, 0.0], [0.0, 1.0, 1.0]], 1.3);
                path.turns = turns;
                emitter.path = Some(path);
            }
            emitter.speed(0.0, 5.0)
        });
    let population = (0u32..900, prop::collection::vec(emitter, 0..4), 0f32..6.0, -1f32..1.5, 0.05f32..3.0);
    let world = (
        prop::array::uniform3(-2f32..2.0),
        prop::option::of((0.1f32..3.0, 0.5f32..4.0)),
        prop::option::of((-3f32..3.0, 0.3f32..2.0)),
    );
    (population, world).prop_map(|((count, emitters, drag, weight, life), (wind, gusts, pull))| {
        let mut spec = ParticleSpec::new(count).life(life * 0.5, life).size(0.01, 0.3).motion(drag, weight);
        spec.emitter = emitters;
        let mut world = WorldSpec::default().wind(wind);
        if let Some((strength, size)) = gusts {
            world = world.gusts(strength, size);
        }
        if let Some((strength, radius)) = pull {
            world = world.field(FieldSpec::attractor([0.5, 1.0, 0.0], strength, radius));
        }
        (spec, world)
    })
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(12))]

    /// Any emitters, shapes, fields: who lives is the same to the digit, and where they are within two thousandths.
    #[test]
    fn any_population_is_the_same_on_the_device((spec, world) in any_spec(), steps in 1u32..90) {
        let (rows, counted) = both(&gpu(), &spec, &world, steps);
        prop_assert_eq!(counted[0], counted[1]);
        agree(&rows, 2e-3);
    }
}

/// Bounced off a floor and a ball, picked up in a bucket: nobody is inside of anything, and everyone is accounted for.
#[test]
fn obstacles_and_collectors_work_on_both() {
    let spec = ParticleSpec::new(4_000).life(2.0, 4.0).emitter(
        EmitterSpec::rate(900.0).position([0.0, 2.0, 0.0]).cone([0.0, 1.0, 0.0], 80.0).speed(0.5, 3.0),
    );
    let world = WorldSpec::default()
        .obstacle(ObstacleSpec::plane([0.0, 0.0, 0.0], [0.1, 1.0, 0.0]).bounce(0.5, 0.05))
        .obstacle(ObstacleSpec::sphere([0.4, 0.3, 0.2], 0.5).bounce(0.8, 0.0))
        .collector(CollectorSpec::new([-0.8, 0.4, 0.1], 0.45));
    let (rows, counted) = both(&gpu(), &spec, &world, 240);
    for ([emitted, _, retired, hits, picked, alive], rows) in counted.into_iter().zip(&rows) {
        assert_eq!(emitted, retired + alive);
        assert!(picked > 50 && hits > 1_000 && retired >= picked, "{picked} picked, {hits} hits");
        let normal = glam::Vec3::new(0.1, 1.0, 0.0).normalize();
        for row in rows.iter().filter(|row| row.age > 0.02) {
            let at = glam::Vec3::new(row.px, row.py, row.pz);
            assert!(at.dot(normal) > -1e-4, "{at} is under the floor");
            // The ball stands in the floor; what the one brings out the other may push back by a step.
            assert!(at.distance(glam::Vec3::new(-0.8, 0.4, 0.1)) > 0.4499, "{at} is in the bucket");
        }
    }
    let [here, there] = counted;
    // Who touches and who just passes by is decided by the last bit: within one in a hundred.
    for (nth, what) in [(2, "retired"), (3, "hits"), (4, "picked"), (5, "alive")] {
        let (a, b) = (here[nth] as f64, there[nth] as f64);
        assert!((a - b).abs() <= a * 0.01 + 2.0, "{what}: {a} and {b}");
    }
}

/// Frame after frame without a wait: statistics come late, never twice, and in the end none is missing.
#[test]
fn readback_totals_are_exact() {
    let gpu = gpu();
    let spec = ParticleSpec::new(800).life(0.1, 0.4).emitter(EmitterSpec::rate(1_500.0));
    let (world, mut recorder) = (WorldSpec::default().build().unwrap(), Recorder::new(&gpu));
    let mut there = GpuParticles::new(&gpu, &spec, 5).unwrap();
    let (mut meter, mut born, mut retired, mut oldest) = (Meter::new(), 0, 0, 0);
    for _ in 0..80 {
        meter.begin_frame();
        there.step(&mut recorder, &world, 1.0 / 60.0, 1).unwrap();
        there.record(&mut recorder);
        recorder.submit();
        there.request_readback();
        there.read_back(&mut recorder, &mut meter);
        oldest = oldest.max(there.readback_age());
        let frame = meter.end_frame();
        born += frame.count(Counter::Emitted);
        retired += frame.count(Counter::Retired);
    }
    meter.begin_frame();
    let statistics = there.wait(&mut recorder, &mut meter).unwrap();
    let frame = meter.end_frame();
    born += frame.count(Counter::Emitted);
    retired += frame.count(Counter::Retired);
    assert_eq!((statistics.steps, statistics.emitted, statistics.retired), (80, born, retired));
    assert_eq!(statistics.emitted, statistics.retired + statistics.alive);
    // The processor counts as many.
    let mut here = Particles::new(&spec, 5).unwrap();
    meter.begin_frame();
    here.step(&world, 1.0 / 60.0, 80, &mut meter);
    assert_eq!(meter.end_frame().count(Counter::Emitted), born);
    assert!(oldest >= 1, "nothing was late, so nothing was waited for");
}

/// A device that goes away ends in an error that says so, on every way.
#[test]
fn a_lost_device_is_an_error() {
    let gpu = Gpu::open(GpuSpec::default().timed(false)).unwrap();
    assert!(!gpu.is_timed());
    let spec = ParticleSpec::new(100).emitter(EmitterSpec::rate(100.0));
    let (world, mut recorder) = (WorldSpec::default().build().unwrap(), Recorder::new(&gpu));
    let mut there = GpuParticles::new(&gpu, &spec, 5).unwrap();
    there.step(&mut recorder, &world, 0.1, 3).unwrap();
    assert!(there.wait(&mut recorder, &mut Meter::new()).unwrap().emitted > 20);
    gpu.device().destroy();
    let told = there
        .step(&mut recorder, &world, 0.1, 200)
        .and_then(|()| there.wait(&mut recorder, &mut Meter::new()))
        .unwrap_err();
    assert!(told.to_string().contains("lost") || told.to_string().contains("refused"), "{told}");
    assert!(GpuParticles::new(&gpu, &spec, 5).is_err());
}

/// A field that the program wrote itself is an error on the device, and a reason to keep a population on the CPU.
#[test]
fn the_device_refuses_a_custom_field() {
    #[derive(Debug)]
    struct Still;
    impl Field for Still {
        fn act(&self, _chunk: &mut FieldChunk<'_>) {}
    }
    let (gpu, spec) = (gpu(), ParticleSpec::new(10));
    let world = WorldSpec::default().build().unwrap().with_field(Still);
    let mut there = GpuParticles::new(&gpu, &spec, 1).unwrap();
    let told = there.step(&mut Recorder::new(&gpu), &world, 0.1, 1).unwrap_err().to_string();
    assert!(told.contains("custom field") && told.contains("residence"), "{told}");
    let why = why_not_on_device(&spec, &world, &Assets::default()).unwrap();
    assert!(why.contains("fields of the caller's own act"), "{why}");
}

#[test]
fn bad_specs_are_refused() {
    let told = GpuParticles::new(&gpu(), &ParticleSpec::new(u32::MAX), 1).unwrap_err().to_string();
    assert!(told.starts_with("count: ") && told.contains("write at most"), "{told}");
    let told = GpuParticles::new(&gpu(), &ParticleSpec::new(5).life(-1.0, 2.0), 1).unwrap_err().to_string();
    assert!(told.starts_with("life"), "{told}");
}

/// Every field that the device knows, alone and together, with windows of time and reaches; drag of the square, limits, planes to keep to.
#[test]
fn fields_act_alike_on_the_device() {
    let gpu = gpu();
    let falloff = |falloff| {
        let mut pull = AttractorSpec::default();
        (pull.strength, pull.falloff) = (4.0, falloff);
        FieldSpec::new(FieldKind::Attractor(pull)).position([0.4, 0.6, -0.2])
    };
    let mut inward = VortexSpec::default();
    (inward.axis, inward.inward, inward.along) = ([0.3, 1.0, 0.1], 0.7, 0.5);
    let fields = [
        FieldSpec::new(FieldKind::Push { acceleration: [1.0, 4.0, -2.0] })
            .reach(2.0)
            .position([0.0, 1.0, 0.0]),
        FieldSpec::new(FieldKind::Wind { velocity: [3.0, 0.0, 1.0] }).during(0.3, 0.8),
        falloff(Falloff::Square),
        falloff(Falloff::Linear).reach(1.5),
        falloff(Falloff::None),
        falloff(Falloff::Spring).during(0.0, 0.5),
        FieldSpec::new(FieldKind::Vortex(inward)).position([0.2, 0.0, 0.1]),
        FieldSpec::curl(1.5, 0.9),
    ];
    let plain = ParticleSpec::new(900)
        .life(0.4, 2.0)
        .motion(1.1, 0.6)
        .emitter(EmitterSpec::rate(600.0).shape(ShapeSpec::Box { size: [2.0, 1.0, 2.0] }).speed(0.5, 3.0));
    let check = |spec: &ParticleSpec, world: &WorldSpec, what: &str| {
        assert!(why_not_on_device(spec, &world.build().unwrap(), &Assets::default()).is_none(), "{what}");
        let (rows, counted) = both(&gpu, spec, world, 90);
        assert_eq!(counted[0], counted[1], "{what}");
        agree(&rows, 3e-3);
    };
    let windy = WorldSpec::default().wind([0.5, 0.0, 0.2]).gusts(0.8, 1.3);
    for field in &fields {
        check(&plain, &windy.clone().field(field.clone()), &format!("{field:?}"));
    }
    // All of them, half as the population's own; with all that motion can be.
    let mut all = windy.clone();
    let mut spec = plain.clone().drag_square(0.2).speed_limits(0.1, 5.0);
    for (nth, field) in fields.into_iter().enumerate() {
        if nth % 2 == 0 { all.field.push(field) } else { spec = spec.field(field) }
    }
    check(&spec, &all, "all");
    for keep in [KeepTo::Upright, KeepTo::Flat] {
        spec.motion.keep_to = Some(keep);
        check(&spec, &all, &format!("{keep:?}"));
    }
    // Collectors that pull, before they catch.
    let pulling = windy.collector(CollectorSpec::new([0.3, 1.5, 0.2], 0.35).pulling(15.0, 1.4));
    let (rows, counted) = both(&gpu, &plain, &pulling, 90);
    assert_eq!(counted[0], counted[1]);
    assert!(counted[0][4] > 20, "{} were caught", counted[0][4]);
    agree(&rows, 3e-3);
    // And what it does not know stays at home, with a reason.
    let mut many = WorldSpec::default();
    many.field = vec![FieldSpec::curl(1.0, 1.0); 3];
    assert_eq!(
        why_not_on_device(&plain, &many.build().unwrap(), &Assets::default()).unwrap(),
        "over 2 fields of curl noise act on it"
    );
    many.field = vec![FieldSpec::vortex([0.0; 3], 1.0, 1.0); 17];
    assert_eq!(
        why_not_on_device(&plain, &many.build().unwrap(), &Assets::default()).unwrap(),
        "over 16 fields and attractors act on it"
    );
}

/// Each collector's count is the processor's, to the digit, and is handed out once.
#[test]
fn every_collector_counts_for_itself() {
    let gpu = gpu();
    let mut world = WorldSpec::default();
    for nth in 0..5u8 {
        let at = f32::from(nth);
        let path = PathSpec::new([[0.0; 3], [0.5, 0.4, 0.0]], 0.7);
        world = world.collector(CollectorSpec::new([at * 0.5 - 1.0, 1.0 + at * 0.2, 0.0], 0.3).path(path));
    }
    let spec = ParticleSpec::new(4_000)
        .life(0.5, 1.5)
        .emitter(EmitterSpec::rate(2_500.0).cone([0.0, 1.0, 0.0], 40.0).speed(3.0, 6.0));
    let world = world.build().unwrap();
    let mut here = Particles::new(&spec, 7).unwrap();
    here.step(&world, 1.0 / 60.0, 100, &mut Meter::new());
    let mut recorder = Recorder::new(&gpu);
    let mut there = GpuParticles::new(&gpu, &spec, 7).unwrap();
    there.step(&mut recorder, &world, 1.0 / 60.0, 100).unwrap();
    there.wait(&mut recorder, &mut Meter::new()).unwrap();
    let mut caught = [0u64; 5];
    there.take_caught(&mut caught);
    assert_eq!(&caught[..], here.caught());
    assert!(caught.iter().filter(|count| **count > 20).count() >= 2, "{caught:?}");
    there.take_caught(&mut caught);
    assert_eq!(&caught[..], here.caught());
}
