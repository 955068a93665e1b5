//! A texture from a few lines of code: the sheet of paving stones that the scene `pennants` lays.
//!
//! `cargo run --release -p frolic --example paint_textures [FOLDER]` writes `paving.png` (4 by 2 stones of 64 pixels) into FOLDER,
//! or here.

use frolic::core::gust_noise;
use frolic::prelude::*;

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let folder = std::env::args().nth(1).unwrap_or_default();
    let folder = std::path::Path::new(&folder);

    const STONE: u32 = 64;
    let paving = |x: u32, y: u32| {
        let (stone, u, v) = (x / STONE + y / STONE * 4, (x % STONE) as f32 + 0.5, (y % STONE) as f32 + 0.5);
        // A joint around each stone, wider here and there.
        let [wear, tone, grain] = gust_noise([x as f32 * 0.13, y as f32 * 0.13, 0.0], 5);
        let [_, _, fine] = gust_noise([x as f32 * 0.9, y as f32 * 0.9, 3.0], 9);
        let edge = u.min(v).min(STONE as f32 - u).min(STONE as f32 - v);
        let joint = (edge - 1.6 - wear * 0.8).clamp(0.0, 1.5) / 1.5;
        let base = 128.0 + [12.0, -9.0, 4.0, -16.0, 18.0, 0.0, -5.0, 9.0][stone as usize];
        let grey = (base + tone * 9.0 + grain * 7.0 + fine * 8.0) * (0.55 + 0.45 * joint);
        [grey * 1.02, grey * 0.97, grey * 0.90].map(|v| v.clamp(0.0, 255.0) as u8)
    };
    save(folder, "paving.png", [STONE * 4, STONE * 2], paving)?;
    Ok(())
}

fn save(
    folder: &std::path::Path,
    name: &str,
    size: [u32; 2],
    paint: impl Fn(u32, u32) -> [u8; 3],
) -> Result<(), Box<dyn std::error::Error>> {
    let mut image = Image::new(ImageSize::new(size[0], size[1])?);
    image.paint(|x, y| {
        let [r, g, b] = paint(x, y);
        [r, g, b, 255]
    });
    write_png(folder.join(name), &image)?;
    println!("wrote {}", folder.join(name).display());
    Ok(())
}
