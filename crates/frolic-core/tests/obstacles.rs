//! What elements bounce off and what picks them up, against closed forms.

use frolic_core::{
    CollectorSpec, Counter, EmitterSpec, Meter, ObstacleSpec, ParticleSpec, Particles, ShapeSpec, Storage,
    WorldSpec,
};
use proptest::prelude::*;

/// One element that falls from a height onto a floor that sends back a share.
fn fallen(bounce: f32, friction: f32, side: f32, steps: u32) -> (Particles, u64) {
    let floor = ObstacleSpec::plane([0.0; 3], [0.0, 2.0, 0.0]).bounce(bounce, friction);
    let world = WorldSpec::default().obstacle(floor).build().unwrap();
    let emitter = EmitterSpec::burst(1, 0.0).at([0.0, 2.0, 0.0]).aim([1.0, 0.0, 0.0], 0.0).speed(side, side);
    let mut one = Particles::new(&ParticleSpec::new(1).life(1e3, 1e3).emitter(emitter), 1).unwrap();
    let mut meter = Meter::new();
    meter.begin_frame();
    one.step(&world, 0.001, steps, &mut meter);
    (one, meter.end_frame().count(Counter::Hits))
}

#[test]
fn a_bounce_rises_as_high_as_its_share_squared() {
    // From 2 m it takes 0.639 s to the floor, then rises for half as long at a share of a half.
    let (top, hits) = fallen(0.5, 0.0, 0.0, 639 + 319);
    let height = top.columns().py()[0];
    assert!((height - 0.5).abs() < 0.02, "{height}");
    assert_eq!(hits, 1);
    // Without a share it lies where it fell.
    let (lain, hits) = fallen(0.0, 0.0, 0.0, 1_500);
    assert!(lain.columns().py()[0].abs() < 1e-4 && hits > 100);
}

#[test]
fn friction_takes_its_share_of_what_leads_along() {
    let (slid, hits) = fallen(0.9, 0.25, 3.0, 700);
    assert_eq!(hits, 1);
    assert!((slid.columns().vx()[0] - 3.0 * 0.75).abs() < 1e-3, "{}", slid.columns().vx()[0]);
}

proptest! {
    /// Nobody is inside of a floor or ball after a step, whatever the ball and the speed; and both storages agree to the bit.
    #[test]
    fn nobody_stays_inside(
        place in prop::array::uniform3(-1f32..1.0), radius in 0.2f32..1.5, bounce in 0f32..1.0, speed in 0f32..8.0, seed in 0u32..50,
    ) {
        let world = WorldSpec::default()
            .obstacle(ObstacleSpec::sphere(place, radius).bounce(bounce, 0.1))
            .collector(CollectorSpec::new([0.0, -3.0, 0.0], 1.0))
            .build()
            .unwrap();
        let emitter = EmitterSpec::rate(600.0)
            .shape(ShapeSpec::Box { size: [4.0, 3.0, 4.0] })
            .aim([0.0, 1.0, 0.0], 180.0)
            .speed(0.0, speed);
        let spec = ParticleSpec::new(500).life(0.5, 2.0).emitter(emitter);
        let mut frames = Vec::new();
        let mut all = Vec::new();
        for storage in [Storage::Columns, Storage::Objects] {
            let mut particles = Particles::with_storage(&spec, seed, storage).unwrap();
            let mut meter = Meter::new();
            meter.begin_frame();
            particles.step(&world, 1.0 / 60.0, 90, &mut meter);
            frames.push(meter.end_frame());
            all.push(particles);
        }
        prop_assert_eq!(all[0].columns(), all[1].columns());
        for counter in [Counter::Hits, Counter::Picked, Counter::Emitted, Counter::Retired] {
            prop_assert_eq!(frames[0].count(counter), frames[1].count(counter));
        }
        let frame = &frames[0];
        prop_assert_eq!(frame.count(Counter::Emitted), frame.count(Counter::Retired) + all[0].len() as u64);
        prop_assert!(frame.count(Counter::Picked) <= frame.count(Counter::Retired));
        let columns = all[0].columns();
        let [x, y, z] = columns.position();
        for i in 0..columns.len() {
            let off = |p: [f32; 3]| {
                ((x[i] - p[0]).powi(2) + (y[i] - p[1]).powi(2) + (z[i] - p[2]).powi(2)).sqrt()
            };
            // The newborn have not met anything yet.
            if columns.age()[i] > 1.0 / 60.0 {
                prop_assert!(off(place) > radius - 1e-4, "{} of {}", off(place), radius);
                prop_assert!(off([0.0, -3.0, 0.0]) > 1.0 - 1e-4);
            }
        }
    }
}

#[test]
fn worlds_that_cannot_be_are_refused() {
    let told = |world: WorldSpec| world.build().unwrap_err().to_string();
    let flat = ObstacleSpec::plane([0.0; 3], [0.0; 3]);
    assert!(
        told(WorldSpec::default().obstacle(flat)).starts_with("obstacle.0.shape.plane.normal: has no length")
    );
    let hard = ObstacleSpec::sphere([0.0; 3], 1.0).bounce(1.5, 0.0);
    assert!(told(WorldSpec::default().obstacle(hard)).starts_with("obstacle.0.bounce: 1.5 is out of range"));
    let many =
        (0..17).fold(WorldSpec::default(), |world, _| world.collector(CollectorSpec::new([0.0; 3], 1.0)));
    assert!(told(many).contains("keep to 16"));
}
