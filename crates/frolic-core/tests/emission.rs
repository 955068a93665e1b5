//! Births: how many, when, where, and which way.

use frolic_core::{Counter, EmitterSpec, Meter, ParticleSpec, Particles, ShapeSpec, World, WorldSpec};
use proptest::prelude::*;

fn still() -> World {
    let mut world = WorldSpec::default();
    world.gravity = [0.0; 3];
    world.build().unwrap()
}

/// What `count` newborn of an emitter look like, at the moment of a burst.
fn newborn(emitter: EmitterSpec, count: u32) -> Particles {
    let spec = ParticleSpec::new(count).life(10.0, 20.0).emitter(emitter);
    let mut particles = Particles::new(&spec, 11).unwrap();
    particles.step(&still(), 1e-6, 1, &mut Meter::new());
    particles
}

fn places(particles: &Particles) -> Vec<[f32; 3]> {
    let [x, y, z] = particles.columns().position();
    (0..particles.len()).map(|i| [x[i], y[i], z[i]]).collect()
}

proptest! {
    /// A stream gives rate times time, to within the one that is still owed, at any step.
    #[test]
    fn a_rate_is_kept(rate in 0.0f32..5000.0, step in 0.001f32..0.2, steps in 1u32..100) {
        let spec = ParticleSpec::new(200_000).life(1e5, 1e6).emitter(EmitterSpec::rate(rate));
        let mut particles = Particles::new(&spec, 3).unwrap();
        particles.step(&still(), step, steps, &mut Meter::new());
        let due = f64::from(rate) * f64::from(step) * f64::from(steps);
        prop_assert!((particles.len() as f64 - due).abs() <= 1.001, "{} for {}", particles.len(), due);
    }

    /// Newborn are spread evenly over the step they are born in, not bunched at its end.
    #[test]
    fn a_stream_is_even_within_a_step(rate in 100.0f32..2000.0) {
        let spec = ParticleSpec::new(10_000).life(100.0, 200.0).emitter(EmitterSpec::rate(rate).speed(4.0, 4.0));
        let mut particles = Particles::new(&spec, 3).unwrap();
        particles.step(&still(), 0.5, 2, &mut Meter::new());
        let ages = particles.columns().age();
        for pair in ages.windows(2) {
            prop_assert!((pair[0] - pair[1] - 1.0 / rate).abs() < 1e-4, "{:?}", pair);
        }
        for (age, y) in ages.iter().zip(particles.columns().py()) {
            prop_assert!((y - 4.0 * age).abs() < 1e-4, "each has moved for as long as it lived");
        }
    }
}

#[test]
fn a_burst_comes_once_at_its_time() {
    let spec = ParticleSpec::new(500).life(50.0, 60.0).emitter(EmitterSpec::burst(120, 0.25));
    let mut particles = Particles::new(&spec, 3).unwrap();
    let counts: Vec<usize> = (0..6)
        .map(|_| {
            particles.step(&still(), 0.1, 1, &mut Meter::new());
            particles.len()
        })
        .collect();
    assert_eq!(counts, [0, 0, 120, 120, 120, 120]);
    let age = particles.columns().age()[0];
    assert!((age - 0.35).abs() < 1e-6, "{age}");
}

#[test]
fn what_finds_no_room_is_counted_and_comes_back_as_nothing() {
    let spec = ParticleSpec::new(10).life(50.0, 60.0).emitter(EmitterSpec::burst(25, 0.0));
    let mut particles = Particles::new(&spec, 3).unwrap();
    let mut meter = Meter::new();
    meter.begin_frame();
    particles.step(&still(), 0.1, 2, &mut meter);
    let frame = meter.end_frame();
    assert_eq!(particles.len(), 10);
    assert_eq!(frame.count(Counter::Emitted), 10);
    assert_eq!(frame.count(Counter::Refused), 15);
}

#[test]
fn a_population_of_none_steps() {
    let spec =
        ParticleSpec::new(0).emitter(EmitterSpec::rate(1e9)).emitter(EmitterSpec::burst(u32::MAX, 0.0));
    let mut particles = Particles::new(&spec, 3).unwrap();
    particles.step(&still(), 0.1, 3, &mut Meter::new());
    assert!(particles.is_empty());
}

#[test]
fn shapes_are_filled_evenly_and_not_left() {
    let n = 4000;
    let at = [1.0, -2.0, 3.0];
    let off = |shape| -> Vec<[f32; 3]> {
        let particles = newborn(EmitterSpec::burst(n, 0.0).at(at).shape(shape).speed(0.0, 0.0), n);
        places(&particles).iter().map(|p| [p[0] - at[0], p[1] - at[1], p[2] - at[2]]).collect()
    };
    let length = |p: &[f32; 3]| (p[0] * p[0] + p[1] * p[1] + p[2] * p[2]).sqrt();
    let mean = |values: Vec<f32>| values.iter().sum::<f32>() / values.len() as f32;

    assert!(off(ShapeSpec::Point).iter().all(|p| length(p) < 1e-5));

    let sphere = off(ShapeSpec::Sphere { radius: 2.0 });
    assert!(sphere.iter().all(|p| length(p) < 2.0 + 1e-4));
    // Mean distance in a ball is three quarters of its radius.
    assert!((mean(sphere.iter().map(length).collect()) - 1.5).abs() < 0.03);

    let skin = off(ShapeSpec::SphereSurface { radius: 2.0 });
    assert!(skin.iter().all(|p| (length(p) - 2.0).abs() < 1e-4));
    // Archimedes: heights on a sphere are even.
    assert!((mean(skin.iter().map(|p| p[1].abs()).collect()) - 1.0).abs() < 0.04);

    let disc = off(ShapeSpec::Disc { radius: 3.0, normal: [0.0, 0.0, 5.0] });
    assert!(disc.iter().all(|p| p[2].abs() < 1e-5 && length(p) < 3.0 + 1e-4));
    assert!((mean(disc.iter().map(length).collect()) - 2.0).abs() < 0.04);

    let cube = off(ShapeSpec::Box { size: [1.0, 2.0, 0.0] });
    assert!(cube.iter().all(|p| p[0].abs() <= 0.5 + 1e-5 && p[1].abs() <= 1.0 + 1e-5 && p[2].abs() < 1e-5));
    assert!((mean(cube.iter().map(|p| p[1].abs()).collect()) - 0.5).abs() < 0.02);
}

#[test]
fn aim_stays_within_its_spread() {
    for spread in [0.0f32, 15.0, 90.0, 180.0] {
        let direction = [0.3f32, -0.5, 0.8];
        let particles = newborn(EmitterSpec::burst(3000, 0.0).aim(direction, spread).speed(2.0, 2.0), 3000);
        let [vx, vy, vz] = particles.columns().velocity();
        let norm = direction.iter().map(|d| d * d).sum::<f32>().sqrt();
        let cosines: Vec<f32> = (0..particles.len())
            .map(|i| (vx[i] * direction[0] + vy[i] * direction[1] + vz[i] * direction[2]) / (2.0 * norm))
            .collect();
        let rim = spread.to_radians().cos();
        assert!(cosines.iter().all(|&cos| cos >= rim - 1e-4), "{spread}");
        // Even over the cap: the mean cosine is half way between the middle and the rim.
        let mean = cosines.iter().sum::<f32>() / cosines.len() as f32;
        assert!((mean - (1.0 + rim) / 2.0).abs() < 0.03, "{spread}: {mean}");
    }
}

#[test]
fn ranges_are_filled_to_their_ends() {
    let spec = ParticleSpec::new(5000).life(2.0, 4.0).size(0.1, 0.3).emitter(EmitterSpec::burst(5000, 0.0));
    let mut particles = Particles::new(&spec, 9).unwrap();
    particles.step(&still(), 1e-6, 1, &mut Meter::new());
    for (values, low, high) in
        [(particles.columns().life(), 2.0, 4.0), (particles.columns().size(), 0.1, 0.3)]
    {
        let (least, most) = values.iter().fold((f32::MAX, f32::MIN), |(l, m), &v| (l.min(v), m.max(v)));
        assert!(least >= low && least < low + 0.01 * high, "{least}");
        assert!(most <= high && most > high - 0.01 * high, "{most}");
    }
}
