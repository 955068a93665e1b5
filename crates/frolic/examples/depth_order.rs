//! Smoke through embers through smoke: two populations that fill the same room, put into depth order four ways. As they come, embers
//! shine through all smoke; each population for itself, too; all together, those behind smoke are dimmed by just what is before
//! them, at the price of a draw call for every change of look. Weighted, nothing is sorted: smoke mixes with
//! smoke by its depth, and embers shine through all of it.
//!
//! `cargo run --release -p frolic --example depth_order [FOLDER]` prints what each order costs and writes `depth_order.png` (the four side
//! by side) into FOLDER, or here.

use frolic::drawing::DepthOrder;
use frolic::prelude::*;
use frolic::scene::{PutSpec, SpriteSpec, TextSpec};

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let size = ImageSize::new(320, 800)?;
    let room = ShapeSpec::Box { size: [2.4, 4.6, 3.0] };
    let smoke =
        ParticleSpec::new(260).life(60.0, 90.0).size(0.30, 0.62).motion(0.4, -0.002).emitter(
            EmitterSpec::burst(260, 0.0).shape(room.clone()).position([0.0, 2.4, 0.0]).speed(0.0, 0.05),
        );
    let embers = ParticleSpec::new(2_600)
        .life(60.0, 90.0)
        .size(0.010, 0.030)
        .motion(0.4, -0.002)
        .emitter(EmitterSpec::burst(2_600, 0.0).shape(room).position([0.0, 2.4, 0.0]).speed(0.0, 0.2));
    let grey = LookSpec::covering([(0.0, "#7d8794")])?.opacity_over_age([(0.0, 0.42)]);
    let glow = LookSpec::glowing(26.0, [(0.0, "#ff8a2c")])?;

    let mut whole = Image::new(ImageSize::new(size.width() as u32 * 4 + 3, size.height() as u32)?);
    let orders = [
        ("none", DepthOrder::None),
        ("population", DepthOrder::Population),
        ("all", DepthOrder::All),
        ("weighted", DepthOrder::Weighted),
    ];
    for (nth, (name, order)) in orders.into_iter().enumerate() {
        let mut spec = SceneSpec::new(name).with("smoke", smoke.clone(), grey.clone()).with(
            "embers",
            embers.clone(),
            glow.clone(),
        );
        (spec.draw.size, spec.draw.depth_order) = (size, order);
        spec.camera = CameraSpec::new([0.0, 2.3, 7.2], [0.0, 2.35, 0.0], 40.0);
        spec.light = vec![LightSpec::new([0.0, -0.5, 0.4], Colour::new(1.0, 0.42, 0.12), 6.0)];
        let mut label = TextSpec::new(&format!("depth order: {name}"), [28.0, 22.0, 0.0], 20.0);
        label.put = PutSpec::on_screen([0.0, 0.0], 11).glow(3.0);
        spec.text = vec![label];
        let mut board = SpriteSpec::default();
        (board.position, board.size, board.pivot) = ([14.0, 14.0, 0.0], [258.0, 40.0], [0.0, 0.0]);
        (board.colour, board.opacity, board.corner) = (Colour::new(0.01, 0.012, 0.02), 0.85, 8.0);
        board.put = PutSpec::on_screen([0.0, 0.0], 10);
        spec.sprite = vec![board];

        let (mut scene, mut meter) = (Scene::new(&spec)?, Meter::new());
        scene.run_to(1.0, &mut meter);
        scene.draw(&mut meter)?;
        meter.begin_frame();
        whole.put(scene.draw(&mut meter)?, nth * (size.width() + 1), 0);
        let frame = meter.end_frame();
        println!(
            "{name:10} {} draw calls, {} of them for another look; {} put into one order; drawn in {:.1?}",
            frame.count(Counter::DrawCalls),
            frame.count(Counter::BreaksLook),
            frame.count(Counter::Sorted),
            frame.total(),
        );
    }
    let folder = std::env::args().nth(1).unwrap_or_default();
    write_png(std::path::Path::new(&folder).join("depth_order.png"), &whole)?;
    Ok(())
}
