//! More elements than a frame can hold, and a frame budget that holds it anyway: it lowers detail, then the share that is drawn, then the steps a
//! second, says what it lowered, and gives it back when the load goes. A read-out shows it in the picture.
//!
//! `cargo run --release -p frolic --example keep_the_budget [FILE] [COUNT]` prints what the frame budget does and, given FILE, writes a picture of a
//! frame that was kept. COUNT is the number of elements, 600 000 if not given.

use frolic::core::{FrameBudget, FrameBudgetSpec, QualitySetting};
use frolic::diagnostics::{Corner, Readout};
use frolic::prelude::*;

/// Shares of the frame without a frame_budget: what it is to keep to, in turn.
const BUDGETS: [f32; 2] = [0.75, 2.0];

/// Frames of each part.
const FRAMES: usize = 240;

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let count = std::env::args().nth(2).map_or(Ok(600_000), |text| text.parse())?;
    let scene = SceneSpec::find("beacon")?.scaled(count).set("draw.size", "[960, 600]")?;
    let usual = median_frame(&scene)?;
    println!("a frame takes {:.1} ms without a frame budget", usual * 1e3);

    let mut picture = None;
    for budget in BUDGETS.map(|share| share * usual) {
        let mut kept = scene.clone();
        kept.frame_budget = Some(FrameBudgetSpec::new(budget).order([
            QualitySetting::Detail,
            QualitySetting::Density,
            QualitySetting::Rate,
        ]));
        let mut scene = Scene::new(&kept)?;
        let (mut meter, mut readout) = (Meter::new(), Readout::new(budget));
        scene.run_to(4.0, &mut meter);
        let mut late = 0;
        let mut changes = 0;
        for nth in 0..FRAMES {
            meter.begin_frame();
            scene.tick(1.0 / 60.0, &mut meter);
            scene.draw(&mut meter)?;
            let frame = meter.end_frame();
            readout.add(&frame);
            if let Some(change) = scene.keep_budget(&frame) {
                println!("  frame {nth}: {change}");
                changes += 1;
            }
            late += usize::from(nth >= FRAMES / 3 * 2 && frame.total().as_secs_f32() > budget);
        }
        let left = readout.lines()[3].clone();
        let spent = scene.frame_budget().is_some_and(FrameBudget::is_spent);
        println!(
            "to {:.1} ms: {changes} changes; of the last {} frames {late} were late; {left}{}",
            budget * 1e3,
            FRAMES / 3,
            if spent { "; all was lowered that may be" } else { "" }
        );
        if picture.is_none() {
            let mut image = scene.draw(&mut meter)?.clone();
            readout.paint(&mut image, Corner::TopLeft);
            picture = Some(image);
        }
    }
    if let (Some(path), Some(picture)) = (std::env::args().nth(1), picture) {
        write_png(&path, &picture)?;
        println!("wrote {path}");
    }
    Ok(())
}

/// Seconds that a frame of the scene takes, once it has settled.
fn median_frame(spec: &SceneSpec) -> Result<f32, Box<dyn std::error::Error>> {
    let (mut scene, mut meter) = (Scene::new(spec)?, Meter::new());
    scene.run_to(4.0, &mut meter);
    let mut times = Vec::new();
    for _ in 0..40 {
        meter.begin_frame();
        scene.tick(1.0 / 60.0, &mut meter);
        scene.draw(&mut meter)?;
        times.push(meter.end_frame().total().as_secs_f32());
    }
    times.sort_by(f32::total_cmp);
    Ok(times[times.len() / 2])
}
