//! A field of one's own: one trait with one method over a chunk of columns. Here a spiral that lifts leaves up a tower of air.
//!
//! `cargo run --release -p frolic --example my_own_field [FOLDER]` writes `my_own_field.png` into FOLDER, or here, and prints what the field
//! costs beside a built-in one.

use std::time::Instant;

use frolic::prelude::*;
use frolic::world::{Field, FieldChunk};

/// Air that climbs in a helix: fastest at a radius that breathes with height.
#[derive(Debug)]
struct Tower {
    speed: f32,
}

impl Field for Tower {
    fn act(&self, chunk: &mut FieldChunk<'_>) {
        let n = chunk.len();
        // Re-sliced to one length, so that the loop has no checks and is vectorised.
        let [x, y, z] = chunk.position.map(|axis| &axis[..n]);
        let [ax, ay, az] = &mut chunk.air;
        let (ax, ay, az) = (&mut ax[..n], &mut ay[..n], &mut az[..n]);
        for i in 0..n {
            let radius = 0.55 + 0.16 * y[i];
            let square = (x[i] * x[i] + z[i] * z[i]) / (radius * radius);
            let near = self.speed / (1.0 + square);
            // Around, and inwards where it is too wide.
            let inwards = (square - 1.0).min(2.0) * 0.35;
            ax[i] += (-z[i] - x[i] * inwards) * near / radius;
            az[i] += (x[i] - z[i] * inwards) * near / radius;
            ay[i] += near * 0.85;
        }
    }
}

fn leaves(count: u32) -> ParticleSpec {
    ParticleSpec::new(count).life(4.0, 7.0).size(0.010, 0.028).motion(4.0, 0.12).emitter(
        EmitterSpec::rate(count as f32 / 5.5).shape(ShapeSpec::Disc { radius: 1.3, normal: [0.0, 1.0, 0.0] }),
    )
}

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let folder = std::env::args().nth(1).unwrap_or_default();
    let mut spec = SceneSpec::new("a tower of air");
    spec.world = WorldSpec::default().field(FieldSpec::curl(0.35, 0.8));
    (spec.camera.position, spec.camera.target) = ([0.0, 2.0, 9.5], [0.0, 2.35, 0.0]);
    spec.sky.zenith = Colour::new(0.010, 0.018, 0.036);
    spec.sky.horizon = Colour::new(0.070, 0.055, 0.060);
    let mut look = LookSpec::glowing(2.4, [(0.0, "#ffcf80"), (0.5, "#e08838"), (1.0, "#803018")])?
        .opacity_over_age([(0.0, 0.0), (0.1, 0.9), (0.8, 0.7), (1.0, 0.0)]);
    look.tints = ["#ffffff", "#ffd0a0", "#d8ff98"].into_iter().filter_map(Colour::hex).collect();
    let spec = spec.with("leaves", leaves(9_000), look);
    let mut scene = Scene::new(&spec)?;
    // In a scene, the world takes it in after it was built.
    *scene.world_mut() = scene.world().clone().with_field(Tower { speed: 2.6 });
    let mut meter = Meter::new();
    scene.run_to(8.0, &mut meter);
    let path = std::path::Path::new(&folder).join("my_own_field.png");
    write_png(&path, scene.draw(&mut meter)?)?;
    println!("wrote {}", path.display());

    let shipped = WorldSpec::default().field(FieldSpec::vortex([0.0; 3], 2.6, 1.0)).build()?;
    let own = WorldSpec::default().build()?.with_field(Tower { speed: 2.6 });
    for (name, world) in [("a built-in vortex", &shipped), ("our own field", &own)] {
        let mut many = Particles::new(&leaves(500_000), 1)?;
        many.step(world, 1.0 / 20.0, 60, &mut meter);
        let started = Instant::now();
        many.step(world, 1.0 / 60.0, 20, &mut meter);
        let each = started.elapsed().as_secs_f64() * 1e9 / 20.0 / many.len() as f64;
        println!("{name:20} {each:5.1} ns an element and step, {} elements", many.len());
    }
    Ok(())
}
