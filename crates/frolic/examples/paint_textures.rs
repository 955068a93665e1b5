//! Pictures from a few lines of code: the sheet of paving stones that the scene `pennants` lays, and the rock of `blowhole`, cut open.
//!
//! `cargo run --release -p frolic --example paint_textures [FOLDER]` writes `paving.png` (4 by 2 stones of 64 pixels) and `rock.png`
//! (720 by 360, white where it is solid) into FOLDER, or here.

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

    // 40 pixels a metre; x from -9 m, y from 8 m down to -1 m.
    let rock = |x: u32, y: u32| {
        let (x, y) = (x as f32 / 40.0 - 9.0, 8.0 - y as f32 / 40.0);
        [if is_rock(x, y) { 255 } else { 0 }; 3]
    };
    save(folder, "rock.png", [720, 360], rock)?;
    Ok(())
}

/// Whether there is rock at a place of the headland's cut face, m.
fn is_rock(x: f32, y: f32) -> bool {
    let [rough, ..] = gust_noise([x * 0.9, y * 0.9, 0.0], 21);
    let [fine, side, _] = gust_noise([x * 3.1, y * 3.1, 4.0], 22);
    let worn = rough * 0.28 + fine * 0.09;
    // The upper face: ledges that step up to the right, with hollows that hold water; to the left it falls into the sea.
    let [step, ..] = gust_noise([x * 0.45, 0.0, 7.0], 23);
    let ledge = ((x * 0.55 + step * 1.2).floor() / 0.55 - step * 1.2).mul_add(0.1, 3.55);
    let hollow = |at: f32, wide: f32, deep: f32| deep * (1.0 - ((x - at) / wide).powi(2)).max(0.0);
    let top = ledge + worn * 0.8 - hollow(2.5, 0.95, 0.75) - hollow(5.9, 1.1, 0.7) - hollow(-4.3, 0.8, 0.5);
    let shore = x > -7.4 + 0.5 * (y - 1.0).sin() + side * 0.25;
    if y > top || !shore {
        return false;
    }
    // The cave that the sea runs into, the shaft up from its end, and a tunnel that leaves it half way up.
    let cave = near(x, y, &[[-9.0, 0.35], [-5.0, 0.3], [-2.6, 0.75], [-1.3, 0.7]]) < 0.62 + worn;
    let shaft = near(x, y, &[[-1.5, 0.7], [-1.05, 1.7], [-1.35, 2.7], [-1.15, 5.0]]) < 0.30 + worn * 0.45;
    let tunnel = near(x, y, &[[-1.2, 1.75], [0.2, 1.95], [1.3, 1.7], [2.3, 2.1]]) < 0.20 + worn * 0.35;
    let pocket = near(x, y, &[[4.4, 1.0], [5.8, 0.8], [6.6, 1.35]]) < 0.35 + worn * 0.6;
    !(cave || shaft || tunnel || pocket)
}

/// Distance to a line through points.
fn near(x: f32, y: f32, points: &[[f32; 2]]) -> f32 {
    let to = |pair: &[[f32; 2]]| {
        let ([ax, ay], [bx, by]) = (pair[0], pair[1]);
        let (dx, dy) = (bx - ax, by - ay);
        let share = (((x - ax) * dx + (y - ay) * dy) / (dx * dx + dy * dy)).clamp(0.0, 1.0);
        (x - ax - dx * share).hypot(y - ay - dy * share)
    };
    points.windows(2).map(to).fold(f32::INFINITY, f32::min)
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
