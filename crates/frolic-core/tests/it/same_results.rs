//! The same spec gives the same numbers, whatever steps them: threads, chunk size, instruction set, storage.

use crate::common::assets;
use frolic_core::simd::{Level, detect, levels};
use frolic_core::{
    AttractorSpec, BodyColumns, CollectorSpec, Counter, EmitterSpec, EventRecord, EventSpec, Falloff,
    FieldKind, FieldSpec, Meter, Moment, ObstacleShape, ObstacleSpec, Order, ParticleSpec, Particles, Region,
    ShapeSpec, Storage, Threads, Touch, World, WorldSpec,
};
use proptest::prelude::*;

/// A population with everything that the step can do, and a world to match.
fn scenes() -> impl Strategy<Value = (ParticleSpec, World, u32)> {
    let numbers = (1u32..600, 0.0f32..4000.0, 0u32..300, 0.0f32..5.0, -1.5f32..1.5);
    let shape = prop_oneof![
        Just(ShapeSpec::Point),
        Just(ShapeSpec::Sphere { radius: 0.7 }),
        Just(ShapeSpec::SphereSurface { radius: 0.7 }),
        Just(ShapeSpec::Disc { radius: 0.5, normal: [0.3, 1.0, -0.2] }),
        Just(ShapeSpec::Box { size: [1.0, 0.2, 3.0] }),
    ];
    (numbers, shape, any::<bool>(), any::<bool>(), any::<u32>()).prop_map(
        |((count, rate, burst, drag, weight), shape, gusts, attractor, seed)| {
            let spec = ParticleSpec::new(count)
                .life(0.05, 0.6)
                .motion(drag, weight)
                .emitter(EmitterSpec::rate(rate).shape(shape).cone([0.2, 1.0, 0.1], 70.0).speed(0.5, 6.0))
                .emitter(EmitterSpec::burst(burst, 0.1));
            let mut world = WorldSpec::default().wind([2.0, 0.0, -0.5]);
            if gusts {
                world = world.gusts(3.0, 0.8);
            }
            if attractor {
                world = world.field(FieldSpec::attractor([0.5, 2.0, 0.0], 9.0, 0.4));
            }
            (spec, world.build().unwrap(), seed)
        },
    )
}

/// The same with fields, obstacles, collectors and events of every kind, some of each.
pub(crate) fn full_scenes() -> impl Strategy<Value = (ParticleSpec, World, u32)> {
    let order = prop_oneof![Just(Order::Birth), Just(Order::Any)];
    let chosen = (any::<u16>(), any::<u16>(), any::<u8>(), any::<bool>(), 0f32..0.5, order);
    (scenes(), chosen).prop_map(
        |((mut spec, world, seed), (fields, obstacles, events, limits, square, order))| {
            spec.order = order;
            let mut world = world.spec().clone();
            let pick = |bits: u16, nth: usize| bits >> nth & 1 == 1;
            let falloff = |falloff| {
                let mut pull = AttractorSpec::default();
                (pull.falloff, pull.strength) = (falloff, 3.0);
                FieldSpec::new(FieldKind::Attractor(pull)).position([0.3, 1.0, 0.2])
            };
            let all = [
                FieldSpec::new(FieldKind::Push { acceleration: [1.0, 0.0, 2.0] })
                    .reach(2.0)
                    .position([0.0, 1.0, 0.0]),
                FieldSpec::new(FieldKind::Wind { velocity: [3.0, 0.0, 0.0] }).during(0.1, 0.4),
                falloff(Falloff::Linear),
                falloff(Falloff::None).reach(1.5),
                falloff(Falloff::Spring),
                FieldSpec::vortex([0.2, 0.0, 0.0], 4.0, 0.7),
                FieldSpec::curl(2.0, 0.6),
                FieldSpec::shape("ball", 30.0, 3.0),
            ];
            for (nth, field) in all.into_iter().enumerate().filter(|(nth, _)| pick(fields, *nth)) {
                if nth % 3 == 0 {
                    spec.field.push(field);
                } else {
                    world.field.push(field);
                }
            }
            let at = |x: f32, y: f32| [x, y, 0.1];
            let all = [
                ObstacleSpec::plane([0.0, -0.6, 0.0], [0.1, 1.0, 0.0]).touch(Touch::Slide),
                ObstacleSpec::sphere(at(0.7, 1.0), 0.4),
                ObstacleSpec::new(ObstacleShape::Capsule {
                    from: at(-1.0, 0.4),
                    to: at(0.5, 1.6),
                    radius: 0.15,
                }),
                ObstacleSpec::new(ObstacleShape::Box {
                    position: at(-0.6, 1.4),
                    size: [0.5, 0.2, 2.0],
                    turn_degrees: 30.0,
                })
                .touch(Touch::Stick),
                ObstacleSpec::mask("mask", [0.5, 1.5, 0.0], 4.0).bounce(0.6, 0.2),
                ObstacleSpec::distance("ball"),
                ObstacleSpec::sphere(at(1.4, 1.6), 0.5).touch(Touch::Pass),
                ObstacleSpec::sphere(at(-1.3, 0.9), 0.3).touch(Touch::Die),
                ObstacleSpec::new(ObstacleShape::Heights {
                    asset: "hills".into(),
                    position: [0.0, -1.0, 0.0],
                    size: [6.0, 6.0],
                    height: 0.6,
                }),
            ];
            world.obstacle.extend(
                all.into_iter()
                    .enumerate()
                    .filter(|(nth, _)| pick(obstacles, *nth))
                    .map(|(_, obstacle)| obstacle),
            );
            if pick(obstacles, 12) {
                world.collector = vec![
                    CollectorSpec::new([0.4, 1.2, 0.0], 0.3).pulling(20.0, 0.8),
                    CollectorSpec::new([0.6, 1.3, 0.0], 0.3),
                ];
            }
            if pick(obstacles, 13) {
                let many = |k: u8| CollectorSpec::new([f32::from(k) * 0.1 - 1.0, 1.2, 0.0], 0.05);
                world.collector.extend((0..20).map(many));
            }
            let region = Region::Sphere { position: [0.0, 1.0, 0.0], radius: 0.4 };
            let moments = [
                Moment::Birth,
                Moment::Death,
                Moment::Hit { speed: 0.3 },
                Moment::Caught,
                Moment::Age(0.2),
                Moment::Enter(region),
            ];
            for (_, moment) in moments.into_iter().enumerate().filter(|(nth, _)| pick(events.into(), *nth)) {
                spec = spec.event(EventSpec::note(moment));
            }
            spec.motion.drag_square = if pick(fields, 9) { square } else { 0.0 };
            if limits {
                spec = spec.speed_limits(0.5, 4.0);
            }
            (spec, world.build_with(&assets()).unwrap(), seed)
        },
    )
}

/// What is left, what happened, and what was caught.
type Outcome = (BodyColumns, Vec<EventRecord>, Vec<u64>);

fn run(particles: Result<Particles, frolic_core::SpecError>, world: &World, threads: u32) -> Outcome {
    let mut particles = particles.unwrap();
    let mut meter = Meter::new();
    Threads::new(threads).run(|| particles.step(world, 1.0 / 60.0, 40, &mut meter));
    (particles.columns().clone(), particles.happened().to_vec(), particles.caught().to_vec())
}

fn made(spec: &ParticleSpec, seed: u32, storage: Storage) -> Result<Particles, frolic_core::SpecError> {
    Particles::with_assets(spec, seed, storage, &assets())
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(40))]

    #[test]
    fn threads_and_chunks_do_not_matter((spec, world, seed) in scenes(), chunk in 1usize..700) {
        let plain = run(Particles::new(&spec, seed), &world, 1);
        for threads in [1, 2, 7] {
            let tuned = Particles::new(&spec, seed).and_then(|p| p.tuned(chunk, detect()));
            prop_assert_eq!(&plain, &run(tuned, &world, threads), "{} threads, chunks of {}", threads, chunk);
        }
    }

    /// With everything at once too; and events are told in the same order.
    #[test]
    fn groups_do_not_depend_on_the_rest_of_a_scene((spec, world, seed) in full_scenes(), chunk in 1usize..700) {
        let plain = run(made(&spec, seed, Storage::Columns), &world, 1);
        let tuned = made(&spec, seed, Storage::Columns).and_then(|p| p.tuned(chunk, Level::baseline()));
        prop_assert_eq!(&plain, &run(tuned, &world, 7));
        for level in levels() {
            let tuned = made(&spec, seed, Storage::Columns).and_then(|p| p.tuned(8192, level));
            prop_assert_eq!(&plain, &run(tuned, &world, 2), "{:?}", level);
        }
        prop_assert_eq!(&plain, &run(made(&spec, seed, Storage::Objects), &world, 2));
    }

    /// In any order all that live are the same to the bit as in order of birth.
    #[test]
    fn order_changes_no_number((mut spec, world, seed) in full_scenes(), storage in prop_oneof![Just(Storage::Columns), Just(Storage::Objects)]) {
        let rows = |outcome: Outcome| {
            let (columns, mut happened, caught) = outcome;
            // Told in the order of the elements, whatever that is.
            happened.sort_by_key(|it| (it.event, it.element.id, it.element.age.to_bits()));
            let mut rows: Vec<_> = (0..columns.len()).filter_map(|nth| columns.row(nth)).collect();
            rows.sort_by_key(|row| row.id);
            (rows, happened, caught)
        };
        spec.order = Order::Birth;
        let birth = rows(run(made(&spec, seed, storage), &world, 2));
        spec.order = Order::Any;
        prop_assert_eq!(birth, rows(run(made(&spec, seed, storage), &world, 2)));
    }

    /// The stated tolerance is none: no kernel fuses or estimates, so every level gives the same bits.
    #[test]
    fn instruction_sets_do_not_matter((spec, world, seed) in scenes()) {
        let baseline = run(Particles::new(&spec, seed).and_then(|p| p.tuned(8192, Level::baseline())), &world, 1);
        for level in levels() {
            let tuned = Particles::new(&spec, seed).and_then(|p| p.tuned(8192, level));
            prop_assert_eq!(&baseline, &run(tuned, &world, 2), "{:?}", level);
        }
    }

    #[test]
    fn objects_give_the_numbers_of_columns((spec, world, seed) in scenes()) {
        let columns = run(Particles::new(&spec, seed), &world, 2);
        let objects = run(Particles::with_storage(&spec, seed, Storage::Objects), &world, 2);
        prop_assert_eq!(columns, objects);
    }

    /// Compaction loses and duplicates nothing: births less deaths are alive, each once, in order of birth.
    #[test]
    fn no_element_is_lost_or_doubled((spec, world, seed) in scenes()) {
        let mut particles = Particles::new(&spec, seed).unwrap();
        let mut meter = Meter::new();
        for _ in 0..60 {
            let mut before = particles.columns().id().to_vec();
            let ages: Vec<(f32, f32)> =
                particles.columns().age().iter().copied().zip(particles.columns().life().iter().copied()).collect();
            meter.begin_frame();
            particles.step(&world, 1.0 / 60.0, 1, &mut meter);
            let frame = meter.end_frame();
            let mut survivor = ages.iter().map(|&(age, life)| age + 1.0 / 60.0 < life);
            before.retain(|_| survivor.next().unwrap());
            let after = particles.columns().id();
            prop_assert_eq!(&before[..], &after[..before.len()], "survivors keep their order");
            prop_assert!(after.windows(2).all(|pair| pair[0] < pair[1]));
            prop_assert_eq!(after.len() - before.len(), frame.count(Counter::Emitted) as usize);
            prop_assert_eq!(frame.count(Counter::Retired) as usize, ages.len() - before.len());
            prop_assert!(particles.len() <= spec.count as usize);
        }
    }
}
