//! Boards, badges and labels in three layers, thousands of them, in as few draw calls as there are layers: pictures, plain boards and
//! letters share one atlas, so nothing but a layer breaks a batch.
//!
//! `cargo run --release -p frolic --example sprite_layers [FOLDER]` prints the draw calls of each technique and writes
//! `sprite_layers.png` into FOLDER, or here.

use frolic::drawing::{ListScratch, ListSpec, Surroundings};
use frolic::looks::{Align, AtlasBuilder, Fill, Font, Library, Picture, Sprite, TextStyle};
use frolic::prelude::*;

/// Notices of the boat race: a board each, with a badge and a label.
const ACROSS: usize = 16;
const DOWN: usize = 20;

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let mut builder = AtlasBuilder::default();
    let burgee = builder.picture("burgee", burgee()?);
    let font = Font::add(&mut builder, "font", Font::shipped(), &[12.0, 15.0])?;
    let library = Library { atlas: builder.build()?.into(), ..Library::default() };

    let (mut boards, mut badges, mut labels) = (Vec::new(), Vec::new(), Vec::new());
    let tones = [[0.010, 0.050, 0.085], [0.130, 0.022, 0.018], [0.012, 0.065, 0.035], [0.090, 0.050, 0.008]];
    let lights = [[0.80, 0.42, 0.08], [0.85, 0.75, 0.55], [0.12, 0.45, 0.48], [0.72, 0.12, 0.08]];
    for nth in 0..ACROSS * DOWN {
        let (i, j) = (nth % ACROSS, nth / ACROSS);
        let (x, y) = (14.0 + i as f32 * 78.5, 13.0 + j as f32 * 39.0);
        let [r, g, b] = tones[(i + j * 3) % 4];
        let [lr, lg, lb] = lights[(i * 7 + j * 5) % 4];
        boards.push(Sprite {
            position: [x, y, 0.0],
            size: [72.0, 33.0],
            pivot: [0.0, 0.0],
            tint: [r, g, b, 1.0],
            corner: 7.0,
            border: 1.5,
            border_tint: [lr * 1.5, lg * 1.5, lb * 1.5, 1.0],
            ..Sprite::default()
        });
        badges.push(Sprite {
            position: [x + 16.0, y + 16.5, 0.0],
            size: [22.0, 22.0],
            turn: ((i + j) % 3) as f32 * 0.2 - 0.2,
            tint: [lr * 3.0, lg * 3.0, lb * 3.0, 1.0],
            fill: Fill::Picture(burgee.frame(0)),
            ..Sprite::default()
        });
        let style = TextStyle { size: 15.0, align: Align::Left, tint: [5.0, 4.7, 4.2, 1.0] };
        font.on_screen(&format!("{}", nth + 1), [x + 31.0, y + 3.0], &style, &mut labels);
        let small = TextStyle { size: 12.0, tint: [1.6, 1.8, 1.8, 1.0], ..style };
        font.on_screen(&format!("lane {}", nth % 6 + 1), [x + 31.0, y + 17.0], &small, &mut labels);
    }

    let looks: Vec<Look> =
        (0..3).map(|layer| LookSpec::sprites(true, layer).build_with(&library)).collect::<Result<_, _>>()?;
    let mut camera = CameraSpec::default();
    camera.bloom = 0.0; // letters on boards should not shine
    let view = camera.view(ImageSize::default())?;
    let mut backdrop = BackdropSpec::default();
    (backdrop.sky.zenith, backdrop.sky.horizon) =
        (Colour::new(0.25, 0.42, 0.6), Colour::new(0.8, 0.84, 0.86));
    let (mut scratch, mut renderer, mut meter) = (ListScratch::default(), Renderer::new(), Meter::new());
    let mut image = Image::new(view.size());
    for technique in [Technique::Each, Technique::Instanced] {
        meter.begin_frame();
        let layers = [&boards, &badges, &labels].map(|sprites| Instances::sprites(sprites));
        let around = Surroundings::new(&backdrop);
        let list = scratch.list(
            layers.into_iter().zip(&looks),
            &ListSpec::new(technique),
            &view,
            &around,
            &mut meter,
        );
        renderer.render(&list, &view, &backdrop, &mut image, &mut meter);
        let frame = meter.end_frame();
        println!(
            "{technique:?}: {} sprites in {} draw calls, {} of which began with a layer",
            frame.count(Counter::Instances),
            frame.count(Counter::DrawCalls),
            frame.count(Counter::BreaksLayer),
        );
    }
    let folder = std::env::args().nth(1).unwrap_or_default();
    write_png(std::path::Path::new(&folder).join("sprite_layers.png"), &image)?;
    Ok(())
}

/// A small swallow-tailed flag on its staff, white, to be tinted.
fn burgee() -> Result<Picture, SpecError> {
    Picture::paint([64, 64], |x, y| {
        let (x, y) = (x as f32 + 0.5, y as f32 + 0.5);
        let staff = (8.0..12.0).contains(&x);
        let half = 18.0 - (x - 12.0) * 0.16;
        let notch = (x - 38.0).max(0.0) * 0.9;
        let cloth = (12.0..58.0).contains(&x) && (y - 26.0).abs() < half && (y - 26.0).abs() > notch;
        let stripe = (y - 26.0).abs() < 5.0;
        match (staff, cloth, stripe) {
            (true, ..) => [190, 180, 160, 255],
            (_, true, false) => [255, 255, 255, 255],
            (_, true, true) => [120, 120, 130, 255],
            _ => [255, 255, 255, 0],
        }
    })
}
