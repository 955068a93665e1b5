//! Specs that cannot be used are refused by name; whatever is accepted steps without trouble.

use frolic_core::{
    EmitterSpec, FieldSpec, MEMORY_LIMIT, Meter, ParticleSpec, Particles, Ramp, ShapeSpec, Storage, WorldSpec,
};
use proptest::prelude::*;

fn refused(spec: &ParticleSpec, key: &str) {
    let error = Particles::new(spec, 1).unwrap_err();
    assert_eq!(error.key, key, "{error}");
    assert!(!error.problem.is_empty() && error.instead.starts_with("write"), "{error}");
}

#[test]
fn bad_numbers_are_refused_with_their_key() {
    let good = || ParticleSpec::new(10);
    for bad in [f32::NAN, f32::INFINITY, f32::NEG_INFINITY, -1.0] {
        refused(&good().life(bad, 1.0), "life");
        refused(&good().size(bad, 1.0), "size");
        refused(&good().motion(bad, 1.0), "motion.drag");
        refused(&good().emitter(EmitterSpec::rate(bad)), "emitter.0.rate");
        refused(&good().emitter(EmitterSpec::burst(1, bad)), "emitter.0.burst.at");
        refused(&good().emitter(EmitterSpec::rate(1.0).speed(bad, 2.0)), "emitter.0.speed");
        let sphere = EmitterSpec::rate(1.0).shape(ShapeSpec::Sphere { radius: bad });
        refused(&good().emitter(sphere), "emitter.0.shape.sphere.radius");
        refused(
            &good().emitter(EmitterSpec::rate(1.0).cone([0.0, 1.0, 0.0], bad)),
            "emitter.0.aim.spread_degrees",
        );
    }
    refused(&good().life(2.0, 1.0), "life");
    refused(&good().motion(0.0, f32::NAN), "motion.weight");
    refused(&good().emitter(EmitterSpec::rate(1.0).cone([0.0; 3], 5.0)), "emitter.0.aim.direction");
    refused(&good().emitter(EmitterSpec::rate(1.0).position([f32::NAN, 0.0, 0.0])), "emitter.0.position");
    let flat = ShapeSpec::Disc { radius: 1.0, normal: [0.0; 3] };
    refused(&good().emitter(EmitterSpec::rate(1.0).shape(flat)), "emitter.0.shape.disc.normal");
}

#[test]
fn counts_over_the_memory_limit_are_refused() {
    for storage in [Storage::Columns, Storage::Objects] {
        let error = Particles::with_storage(&ParticleSpec::new(u32::MAX), 1, storage).unwrap_err();
        assert_eq!(error.key, "count");
        let most: u64 = error.instead.rsplit(' ').next().unwrap().parse().unwrap();
        let each = Particles::bytes_per_element(storage);
        assert!(most * each <= MEMORY_LIMIT && (most + 1) * each > MEMORY_LIMIT, "{error}");
    }
}

#[test]
fn bad_worlds_are_refused_with_their_key() {
    let key = |world: WorldSpec| world.build().unwrap_err().key;
    assert_eq!(key(WorldSpec::default().wind([f32::NAN, 0.0, 0.0])), "wind");
    assert_eq!(key(WorldSpec::default().gusts(-1.0, 1.0)), "gusts.strength");
    assert_eq!(key(WorldSpec::default().gusts(1.0, 0.0)), "gusts.size");
    assert_eq!(
        key(WorldSpec::default().field(FieldSpec::attractor([0.0; 3], 1.0, 0.0))),
        "field.0.kind.attractor.radius"
    );
    let mut heavy = WorldSpec::default();
    heavy.gravity = [0.0, f32::NEG_INFINITY, 0.0];
    assert_eq!(key(heavy), "gravity");
}

proptest! {
    /// Between its stops a ramp stays between their values, and it meets each stop.
    #[test]
    fn ramps_pass_through_their_stops(values in prop::collection::vec(0.0f32..10.0, 1..12), age in -1.0f32..2.0) {
        let last = (values.len().max(2) - 1) as f32;
        let stops: Vec<(f32, f32)> = values.iter().enumerate().map(|(i, &v)| (i as f32 / last, v)).collect();
        let ramp = Ramp::new(stops.clone());
        prop_assert!(ramp.check("ramp").is_ok());
        let (low, high) = values.iter().fold((f32::MAX, f32::MIN), |(l, h), &v| (l.min(v), h.max(v)));
        prop_assert!((low - 1e-4..=high + 1e-4).contains(&ramp.at(age)));
        for (at, value) in stops {
            prop_assert!((ramp.at(at) - value).abs() < 1e-4);
        }
    }

    /// What is accepted keeps every attribute finite.
    #[test]
    fn accepted_specs_stay_finite(
        life in 0.001f32..1e6, drag in 0.0f32..1e4, weight in -100.0f32..100.0, speed in 0.0f32..1e5, dt in 1e-4f32..0.1,
    ) {
        let spec = ParticleSpec::new(200)
            .life(life, life)
            .motion(drag, weight)
            .emitter(EmitterSpec::rate(3000.0).cone([1.0, 1.0, 0.0], 180.0).speed(speed, speed));
        let world = WorldSpec::default()
            .wind([1e4, -1e4, 1e4])
            .gusts(1000.0, 0.001)
            .field(FieldSpec::attractor([1.0; 3], 1e6, 0.001))
            .build()
            .unwrap();
        let mut particles = Particles::new(&spec, 7).unwrap();
        particles.step(&world, dt, 30, &mut Meter::new());
        for column in particles.columns().position().into_iter().chain(particles.columns().velocity()) {
            prop_assert!(column.iter().all(|value| value.is_finite()));
        }
    }
}

#[test]
fn backward_and_empty_ramps_are_refused() {
    for stops in [
        vec![],
        vec![(0.5, 1.0), (0.5, 1.0)],
        vec![(0.9, 1.0), (0.1, 1.0)],
        vec![(1.5, 1.0)],
        vec![(f32::NAN, 1.0)],
    ] {
        assert!(Ramp::new(stops.clone()).check("ramp").is_err(), "{stops:?}");
    }
    assert!(Ramp::constant(f32::NAN).check("ramp").is_err());
    assert!(Ramp::constant(-1.0).check("ramp").is_err());
}
