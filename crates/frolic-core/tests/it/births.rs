//! Births as a device is told of them: as many, as old, along the same axes as those that the processor makes.

use frolic_core::backend::{EmitterAxes, Emitters, Motion};
use frolic_core::{
    Assets, Counter, EmitterSpec, FieldSpec, Meter, ParticleSpec, Particles, ShapeSpec, WorldSpec,
};
use proptest::prelude::*;

proptest! {
    /// What is due over some steps is what is born where there is room; ages fall from the first to the last and stay within the step.
    #[test]
    fn due_elements_are_emitted(
        rates in prop::collection::vec(0f32..5_000.0, 1..4), burst in 0u32..500, at in 0f32..0.3, dt in 0.001f32..0.1, steps in 1u32..20,
    ) {
        let mut spec = ParticleSpec::new(200_000).life(100.0, 100.0);
        spec.emitter = rates.iter().map(|&rate| EmitterSpec::rate(rate)).collect();
        spec.emitter[0].burst = EmitterSpec::burst(burst, at).burst;
        let mut emitters = Emitters::new(&spec.emitter, &Assets::default()).unwrap();
        let (mut due, mut time) = (0, 0.0);
        for _ in 0..steps {
            let mut all = Vec::new();
            emitters.due(&spec.emitter, time, dt, |now, _| all.push(now));
            for now in all {
                due += now.count;
                let ages: Vec<f64> = (0..now.count).map(|nth| now.age(nth)).collect();
                prop_assert!(ages.iter().all(|age| (0.0..=f64::from(dt)).contains(age)), "{ages:?}");
                prop_assert!(ages.windows(2).all(|pair| pair[0] >= pair[1]));
                // The short form that a device works with.
                for (nth, age) in ages.iter().enumerate() {
                    prop_assert!((now.first_age - nth as f64 * now.age_step - age).abs() < 1e-9);
                }
            }
            time += f64::from(dt);
        }
        let mut particles = Particles::new(&spec, 1).unwrap();
        let mut meter = Meter::new();
        meter.begin_frame();
        particles.step(&WorldSpec::default().build().unwrap(), dt, steps, &mut meter);
        prop_assert_eq!(meter.end_frame().count(Counter::Emitted), due);
    }

    /// Three directions at right angles, the third the one asked for.
    #[test]
    fn axes_are_square(direction in prop::array::uniform3(-1f32..1.0), spread in 0f32..180.0) {
        prop_assume!(glam::Vec3::from(direction).length() > 0.05);
        let shape = ShapeSpec::Disc { radius: 1.0, normal: direction };
        let axes = EmitterAxes::of(&EmitterSpec::rate(1.0).shape(shape).cone(direction, spread));
        for [x, y, z] in [axes.aim, axes.face] {
            for (a, b, want) in [(x, x, 1.0), (y, y, 1.0), (z, z, 1.0), (x, y, 0.0), (y, z, 0.0), (z, x, 0.0)] {
                prop_assert!((a.dot(b) - want).abs() < 1e-4);
            }
            prop_assert!(z.dot(glam::Vec3::from(direction).normalize()) > 0.9999);
        }
        prop_assert!((axes.cos_spread - spread.to_radians().cos()).abs() < 1e-5);
    }
}

/// The constants of a step say what acts: a device makes its pipelines by them.
#[test]
fn motion_lists_its_columns() {
    let spec = ParticleSpec::new(1).motion(2.0, 0.5);
    let still = Motion::new(&spec.motion, &WorldSpec::default().build().unwrap(), 0.0, 0.1);
    assert!(still.gusts.is_none() && still.attractor.is_none());
    assert!(
        (still.keep - (-0.2f32).exp()).abs() < 1e-6 && (still.reach - (1.0 - still.keep) / 2.0).abs() < 1e-6
    );
    assert_eq!(still.push, [0.0, 0.5 * -9.81, 0.0]);
    let world = WorldSpec::default().wind([1.0, 0.0, 0.0]).gusts(1.0, 2.0);
    let world = world.field(FieldSpec::attractor([1.0, 2.0, 3.0], 4.0, 0.5)).build().unwrap();
    let windy = Motion::new(&spec.motion, &world, 3.0, 0.1);
    assert_eq!(windy.attractor.unwrap().position, [1.0, 2.0, 3.0]);
    assert_eq!(windy.gusts.unwrap().per_metre, 0.5);
    assert_eq!(windy.push[0], 2.0);
    // Without drag the air is not felt.
    let free = Motion::new(&ParticleSpec::new(1).motion, &world, 3.0, 0.1);
    assert!(free.gusts.is_none() && free.keep == 1.0);
}
