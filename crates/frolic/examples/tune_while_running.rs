//! What does a change cost while a scene runs, and which elements stay? A scripted hand moves ten sliders of the shipped fire, one a frame.
//!
//! `cargo run --release -p frolic --example tune_while_running [COUNT] [PICTURE.png]` prints a line for each change: the key, its effect, the time
//! that the change took, and the frame after it. COUNT is the number of embers, 20000 if not given.

use std::time::Instant;

use frolic::prelude::*;
use frolic::scene::ChangeEffect;

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let count = std::env::args().nth(1).map_or(Ok(20_000), |text| text.parse())?;
    let spec = SceneSpec::find("beacon")?.scaled(count);
    let mut scene = Scene::new(&spec)?;
    let mut meter = Meter::new();
    scene.run_to(3.0, &mut meter);
    scene.draw(&mut meter)?;

    println!("{:<30} {:>8} {:>10} {:>10} {:>9}", "key", "effect", "change ms", "frame ms", "alive");
    for (path, value) in [
        ("world.wind", "[5, 0, 0]"),
        ("embers.emitter.0.rate", "9000"),
        ("embers.motion.drag", "0.9"),
        ("embers.look.glow", "6"),
        ("smoke.look.opacity_over_age", "[[0.0, 0.0], [0.4, 0.09], [1.0, 0.0]]"),
        ("camera.exposure", "1.4"),
        ("sky.horizon", "\"#40506a\""),
        ("light.0.power", "12"),
        ("embers.count", "30000"),
        ("seed", "7"),
    ] {
        let started = Instant::now();
        let change = scene.set(path, value)?;
        let took = started.elapsed();

        meter.begin_frame();
        scene.tick(1.0 / 60.0, &mut meter);
        scene.draw(&mut meter)?;
        let frame = meter.end_frame();

        let effect = match change.keys.first() {
            None => "none",
            Some((_, ChangeEffect::Live)) => "live",
            Some((_, ChangeEffect::Rebuilt(name))) => name,
            Some(_) => "all anew",
        };
        let ms = |time: std::time::Duration| time.as_secs_f64() * 1e3;
        println!(
            "{path:<30} {effect:>8} {:>10.2} {:>10.1} {:>9}",
            ms(took),
            ms(frame.total()),
            scene.alive()
        );
    }
    if let Some(path) = std::env::args().nth(2) {
        scene.run_to(scene.time() + 2.0, &mut meter);
        write_png(&path, scene.draw(&mut meter)?)?;
    }
    Ok(())
}
