//! A solid picture that is dug while grains pour onto it: what an edit costs, and that nobody is left inside.
//!
//! `cargo run --release -p frolic --example dig_the_mask` prints a line for each half second.

use std::time::Instant;

use frolic::assets::{Asset, Assets, Plane};
use frolic::bodies::KeepTo;
use frolic::prelude::*;

fn main() -> Result<(), Box<dyn std::error::Error>> {
    // A slab of 512 by 256 cells, 10 m wide, solid in its lower two thirds.
    let (wide, high) = (512, 256);
    let solid = |k: usize| if k / wide < high * 2 / 3 { 1.0 } else { 0.0 };
    let mut assets = Assets::default();
    assets
        .insert("slab", Asset::Plane(Plane::new(wide, high, (0..wide * high).map(solid).collect())?.into()));
    let slab = ObstacleSpec::mask("slab", [0.0, 2.5, 0.0], 10.0).bounce(0.2, 0.2);
    let mut world = WorldSpec::default().obstacle(slab).build_with(&assets)?;

    let mut motion = ParticleSpec::new(40_000).life(30.0, 40.0).motion(0.2, 1.0);
    motion.motion.keep_to = Some(KeepTo::Upright);
    let stream =
        EmitterSpec::rate(12_000.0).position([0.0, 4.8, 0.0]).shape(ShapeSpec::Box { size: [6.0, 0.1, 0.0] });
    let mut grains = Particles::new(&motion.emitter(stream.cone([0.0, -1.0, 0.0], 5.0)), 3)?;

    let mut meter = Meter::new();
    println!("   s   grains   at rest   deepest inside   cells dug   ms an edit   ms a step");
    for half in 1..=8u32 {
        let (mut dug, mut digging, mut stepping) = (0, 0.0, 0.0);
        for step in 0..30 {
            // The pick swings to and fro, deeper each time.
            let x = 3.0 * (f64::from(half * 30 + step) * 0.06).sin();
            let started = Instant::now();
            dug += world.dig(0, [x as f32, 3.3 - half as f32 * 0.25, 0.0], 0.18);
            digging += started.elapsed().as_secs_f64();
            let started = Instant::now();
            grains.step(&world, 1.0 / 60.0, 1, &mut meter);
            stepping += started.elapsed().as_secs_f64();
        }
        let [x, y, z] = grains.columns().position();
        let deepest = (0..grains.len()).map(|i| world.distance([x[i], y[i], z[i]])).fold(0.0f32, f32::min);
        let [vx, vy, _] = grains.columns().velocity();
        let still = (0..grains.len()).filter(|&i| vx[i] == 0.0 && vy[i] == 0.0).count();
        println!(
            "{:4.1} {:8} {still:9} {:13.4} m {dug:11} {:12.3} {:11.3}",
            f64::from(half) * 0.5,
            grains.len(),
            deepest.abs(),
            digging * 1e3 / 30.0,
            stepping * 1e3 / 30.0
        );
    }
    Ok(())
}
