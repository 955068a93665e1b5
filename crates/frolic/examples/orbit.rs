//! What does a moving camera cost? It circles a shipped scene, after it stood: frame times, stage by stage.
//!
//! `cargo run --release -p frolic --example orbit [SCENE] [PICTURE.png]` prints medians of 40 frames of each, at the size of the scene, and writes eight of
//! the views onto one sheet. SCENE is `beacon` if not given.

use frolic::prelude::*;
use frolic::scene::write_sheet;

/// Frames of each kind, and those of them that become pictures.
const FRAMES: usize = 40;
const PICTURES: [u32; 2] = [4, 2];

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let name = std::env::args().nth(1).unwrap_or_else(|| "beacon".to_owned());
    let spec = SceneSpec::find(&name)?;
    let mut scene = Scene::new(&spec)?;
    let mut meter = Meter::new();
    scene.run_to(f64::from(spec.draw.at), &mut meter);
    scene.draw(&mut meter)?;

    let (mut still, mut moving, mut pictures) = (Vec::new(), Vec::new(), Vec::new());
    for nth in 0..FRAMES * 2 {
        let moves = nth >= FRAMES;
        if moves {
            scene.set_camera(turned(&spec.camera, (nth - FRAMES) as f32 / FRAMES as f32))?;
        }
        meter.begin_frame();
        scene.tick(1.0 / 60.0, &mut meter);
        scene.draw(&mut meter)?;
        let frame = meter.end_frame();
        if !moves {
            still.push(frame);
            continue;
        }
        moving.push(frame);
        let every = FRAMES / (PICTURES[0] * PICTURES[1]) as usize;
        if (nth - FRAMES).is_multiple_of(every) {
            pictures.push(scene.draw(&mut meter)?.clone());
        }
    }

    println!("{:<12} {:>9} {:>9}", "stage", "still ms", "moving ms");
    let row = |name: &str, value: &dyn Fn(&Frame) -> std::time::Duration| {
        let [still, moving] = [&still, &moving].map(|frames| {
            let mut times: Vec<f64> = frames.iter().map(|frame| value(frame).as_secs_f64() * 1e3).collect();
            times.sort_by(f64::total_cmp);
            times[times.len() / 2]
        });
        if still.max(moving) > 0.05 {
            println!("{name:<12} {still:>9.1} {moving:>9.1}");
        }
    };
    for stage in Stage::all() {
        row(stage.name(), &|frame| frame.stage(stage));
    }
    row("frame", &Frame::total);
    if let Some(path) = std::env::args().nth(2) {
        write_sheet(&path, &pictures, PICTURES, 1.0, 0.0)?;
        println!("wrote {path}");
    }
    Ok(())
}

/// The camera after a share of a whole turn about its target.
fn turned(camera: &CameraSpec, share: f32) -> CameraSpec {
    let mut turned = *camera;
    let ([x, y, z], [tx, _, tz]) = (camera.position, camera.target);
    let (sin, cos) = (share * std::f32::consts::TAU).sin_cos();
    turned.position = [tx + (x - tx) * cos - (z - tz) * sin, y, tz + (x - tx) * sin + (z - tz) * cos];
    turned
}
