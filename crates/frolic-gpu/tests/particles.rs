//! Populations on the device against those on the processor: the same elements, the same numbers.

mod common;

use common::gpu;
use frolic_core::{
    BurstSpec, CollectorSpec, Counter, EmitterSpec, Meter, ObstacleSpec, ParticleRow, ParticleSpec,
    Particles, ShapeSpec, WorldSpec,
};
use frolic_gpu::{Gpu, GpuParticles, GpuSpec, Recorder};
use proptest::prelude::*;

/// Rows of both, by id, after some steps; and what each counted.
fn both(
    gpu: &Gpu,
    spec: &ParticleSpec,
    world: &WorldSpec,
    steps: u32,
) -> ([Vec<ParticleRow>; 2], [[u64; 6]; 2]) {
    let world = world.build().unwrap();
    let dt = 1.0 / 60.0;
    let mut meter = Meter::new();
    meter.begin_frame();
    let mut here = Particles::new(spec, 7).unwrap();
    here.step(&world, dt, steps, &mut meter);
    let frame = meter.end_frame();
    let counters = [Counter::Emitted, Counter::Refused, Counter::Retired, Counter::Hits, Counter::Picked];
    let mut counted = counters.map(|counter| frame.count(counter)).to_vec();
    counted.push(here.len() as u64);
    let mut recorder = Recorder::new(gpu);
    let mut there = GpuParticles::new(gpu, spec, 7).unwrap();
    there.step(&mut recorder, &world, dt, steps).unwrap();
    let mut rows = there.read(&mut recorder).unwrap();
    let news = there.news();
    assert_eq!(news.steps, u64::from(steps));
    assert_eq!(news.alive, rows.len() as u64);
    rows.sort_by_key(|row| row.id);
    let mut own: Vec<ParticleRow> = (0..here.len()).filter_map(|nth| here.columns().row(nth)).collect();
    own.sort_by_key(|row| row.id);
    let heard = [news.emitted, news.refused, news.retired, news.hits, news.picked, news.alive];
    ([own, rows], [counted.try_into().unwrap(), heard])
}

/// Places and velocities agree within `tolerance` of their own size or a unit.
fn agree(rows: &[Vec<ParticleRow>; 2], tolerance: f32) {
    let [own, there] = rows;
    assert_eq!(own.len(), there.len());
    for (a, b) in own.iter().zip(there) {
        assert_eq!(a.id, b.id);
        let pairs = [
            (a.px, b.px),
            (a.py, b.py),
            (a.pz, b.pz),
            (a.vx, b.vx),
            (a.vy, b.vy),
            (a.vz, b.vz),
            (a.age, b.age),
            (a.life, b.life),
            (a.size, b.size),
        ];
        for (nth, (a, b)) in pairs.into_iter().enumerate() {
            assert!((a - b).abs() <= tolerance * a.abs().max(1.0), "attribute {nth}: {a} and {b}");
        }
    }
}

#[test]
fn a_fire_burns_the_same_on_the_device() {
    let spec = ParticleSpec::new(700)
        .life(0.5, 2.5)
        .size(0.01, 0.2)
        .motion(0.9, -0.2)
        .emitter(EmitterSpec::rate(400.0).shape(ShapeSpec::Sphere { radius: 0.3 }).speed(1.0, 4.0))
        .emitter(EmitterSpec::burst(250, 1.01).aim([1.0, 1.0, 0.2], 60.0).speed(0.5, 2.0));
    let world = WorldSpec::default().wind([1.0, 0.0, 0.3]).gusts(1.5, 1.2);
    let (rows, counted) = both(&gpu(), &spec, &world, 300);
    assert_eq!(counted[0], counted[1]);
    assert!(counted[0][1] > 0, "room must run out for this test");
    agree(&rows, 2e-3);
}
