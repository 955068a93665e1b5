//! Why are there so many draw calls? The meter says what broke each batch; the list shows its runs; a diagnostic paints them. Here one
//! scene is put right step by step.
//!
//! `cargo run --release -p frolic --example read_the_batches [FOLDER]` prints a line a step and writes `read_the_batches.png`, the
//! first and the last step's draw calls in colour, into FOLDER, or here.

use frolic::prelude::*;

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let harbour = SceneSpec::find("pennants")?.set("draw.size", "[640, 800]")?;
    let steps = [
        ("one draw call an element", vec![("draw.technique", "each")]),
        ("batches, far too small", vec![("draw.technique", "batched"), ("draw.capacity", "64")]),
        ("batches", vec![("draw.technique", "batched")]),
        ("instances that borrow their columns", vec![("draw.technique", "instanced")]),
    ];
    let mut shown = Vec::new();
    for (says, settings) in &steps {
        let mut spec = harbour.clone();
        for (key, value) in settings {
            spec = spec.set(key, value)?;
        }
        let (mut scene, mut meter) = (Scene::new(&spec)?, Meter::new());
        scene.run_to(6.0, &mut meter);
        scene.draw(&mut meter)?;
        meter.begin_frame();
        scene.draw(&mut meter)?;
        let frame = meter.end_frame();
        let breaks = [
            (Counter::BreaksMesh, "mesh"),
            (Counter::BreaksLook, "look"),
            (Counter::BreaksAtlas, "atlas"),
            (Counter::BreaksLayer, "layer"),
            (Counter::BreaksCapacity, "capacity"),
        ];
        let told: Vec<String> = breaks
            .iter()
            .filter(|(counter, _)| frame.count(*counter) > 0)
            .map(|(counter, why)| format!("{} on {why}", frame.count(*counter)))
            .collect();
        println!("{says:36} {:5} draw calls; broke {}", frame.count(Counter::DrawCalls), told.join(", "));
        shown.push(scene.show(Show::Batches, &mut meter)?.clone());
    }

    // The list itself: what the last step's draw calls hold.
    let (mut scene, mut meter) = (Scene::new(&harbour)?, Meter::new());
    scene.run_to(6.0, &mut meter);
    let list = scene.draw_list(&mut meter);
    for batch in list.batches() {
        let kind = if batch.solid { "solid" } else { "transparent" };
        let runs = list.runs(batch).len();
        println!(
            "  layer {:2}, {kind:11} {:5} instances in {runs} runs, {}",
            batch.layer,
            batch.count,
            batch.why.name()
        );
    }

    let (first, last) = (&shown[0], &shown[shown.len() - 1]);
    let (w, h) = (first.size().width(), first.size().height());
    let mut both = Image::new(ImageSize::new(2 * w as u32, h as u32)?);
    both.put(first, 0, 0);
    both.put(last, w, 0);
    let folder = std::env::args().nth(1).unwrap_or_default();
    write_png(std::path::Path::new(&folder).join("read_the_batches.png"), &both)?;
    Ok(())
}
