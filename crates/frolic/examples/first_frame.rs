//! A fire in under thirty lines: describe it, let it run for three seconds, draw it, read the meter.
//!
//! `cargo run --release -p frolic --example first_frame [FOLDER]` writes `first_frame.png` into FOLDER, or here.

use frolic::drawing::GroundSpec;
use frolic::prelude::*;

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let stream = EmitterSpec::rate(4_000.0).shape(ShapeSpec::Sphere { radius: 0.3 }).speed(1.5, 4.5);
    let embers = ParticleSpec::new(12_000)
        .life(1.5, 4.0)
        .size(0.004, 0.012)
        .motion(0.9, -0.12)
        .emitter(stream.cone([0.0, 1.0, 0.0], 20.0));
    let look = LookSpec::glowing(9.0, [(0.0, "#ffcf8a"), (0.4, "#ff6418"), (1.0, "#3a0602")])?;
    let mut spec =
        SceneSpec::new("first frame").with("embers", embers, look.opacity_over_age([(0.0, 1.0), (1.0, 0.0)]));
    spec.world = WorldSpec::default().wind([1.2, 0.0, 0.0]).gusts(1.5, 1.5);
    spec.camera = CameraSpec::new([1.5, 1.3, 9.0], [1.6, 2.6, 0.0], 38.0);
    spec.ground = Some(GroundSpec::default());
    spec.light = vec![LightSpec::new([0.0, 0.8, 0.0], Colour::new(1.0, 0.4, 0.1), 4.0)];

    let (mut scene, mut meter) = (Scene::new(&spec)?, Meter::new());
    meter.begin_frame();
    scene.run_to(3.0, &mut meter);
    let folder = std::env::args().nth(1).unwrap_or_default();
    write_png(std::path::Path::new(&folder).join("first_frame.png"), scene.draw(&mut meter)?)?;
    let frame = meter.end_frame();
    println!("{} embers in {} draw call", frame.count(Counter::Instances), frame.count(Counter::DrawCalls));
    println!("{:?} to fill {} pixels", frame.stage(Stage::Raster), frame.count(Counter::PixelsTouched));
    Ok(())
}
