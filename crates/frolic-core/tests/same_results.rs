//! The same spec gives the same numbers, whatever steps them: threads, chunk size, instruction set, storage.

use frolic_core::simd::{Level, levels};
use frolic_core::{
    AttractorSpec, Counter, EmitterSpec, Meter, ParticleColumns, ParticleSpec, Particles, ShapeSpec, Storage,
    Threads, World, WorldSpec,
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
                .emitter(EmitterSpec::rate(rate).shape(shape).aim([0.2, 1.0, 0.1], 70.0).speed(0.5, 6.0))
                .emitter(EmitterSpec::burst(burst, 0.1));
            let mut world = WorldSpec::default().wind([2.0, 0.0, -0.5]);
            if gusts {
                world = world.gusts(3.0, 0.8);
            }
            if attractor {
                world = world.attractor(AttractorSpec::new([0.5, 2.0, 0.0], 9.0, 0.4));
            }
            (spec, world.build().unwrap(), seed)
        },
    )
}

fn run(particles: Result<Particles, frolic_core::SpecError>, world: &World, threads: u32) -> ParticleColumns {
    let mut particles = particles.unwrap();
    let mut meter = Meter::new();
    Threads::new(threads).run(|| particles.step(world, 1.0 / 60.0, 40, &mut meter));
    particles.columns().clone()
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(40))]

    #[test]
    fn threads_and_chunks_do_not_matter((spec, world, seed) in scenes(), chunk in 1usize..700) {
        let plain = run(Particles::new(&spec, seed), &world, 1);
        for threads in [1, 2, 7] {
            let tuned = Particles::new(&spec, seed).and_then(|p| p.tuned(chunk, Level::new()));
            prop_assert_eq!(&plain, &run(tuned, &world, threads), "{} threads, chunks of {}", threads, chunk);
        }
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
    fn nobody_is_lost_or_doubled((spec, world, seed) in scenes()) {
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
