//! Pictures from a few lines of code: the sheet of paving stones that the scene `pennants` lays, the rock of `blowhole`, cut open,
//! the bush of `heather`, and the light of `shoal`.
//!
//! `cargo run --release -p frolic --example paint_textures [FOLDER]` writes `paving.png` (4 by 2 stones of 64 pixels) and `rock.png`
//! (720 by 400, white where it is solid) and `rock_behind.png` (what is seen through its holes), `petal.png`,
//! `shaft.png` and `bush.obj` into FOLDER, or here.

use frolic::assets::Surface;
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

    // 40 pixels a metre; x from -9 m, y from 8 m down to -2 m.
    let place = |x: u32, y: u32| (x as f32 / 40.0 - 9.0, 8.0 - y as f32 / 40.0);
    let rock = |x: u32, y: u32| {
        let (x, y) = place(x, y);
        [if is_headland(x, y) && !is_hole(x, y) { 255 } else { 0 }; 3]
    };
    save(folder, "rock.png", [720, 400], rock)?;
    // The far side of the cut, in the dark: a little lighter towards the openings.
    let mut behind = Image::new(ImageSize::new(720, 400)?);
    behind.paint(|x, y| {
        let (x, y) = place(x, y);
        let inside = is_headland(x, y + 0.12) && is_headland(x - 0.1, y) && is_headland(x + 0.1, y);
        let [stain, grain, _] = gust_noise([x * 1.3, y * 2.1, 1.0], 31);
        let light =
            17.0 + 5.0 * stain + 3.0 * grain + (y * 2.2).clamp(0.0, 10.0) + (-6.0 - x).clamp(0.0, 2.0) * 9.0;
        let [r, g, b] = [light * 0.96, light * 1.02, light * 1.16].map(|v| v.clamp(0.0, 255.0) as u8);
        [r, g, b, if inside { 255 } else { 0 }]
    });
    write_png(folder.join("rock_behind.png"), &behind)?;

    // A bell from the side, as it falls.
    let mut petal = Image::new(ImageSize::new(64, 64)?);
    petal.paint(|x, y| {
        let (u, v) = ((x as f32 - 31.5) / 32.0, (y as f32 - 4.0) / 56.0);
        let wide = if v < 0.0 { 0.0 } else { 0.62 * (v * 3.0).min(1.0).sqrt() * (1.08 - 0.25 * v) };
        let rim = 1.0 + 0.06 * (u * 14.0).cos();
        let shade = 255.0 * (0.72 + 0.28 * (1.0 - (u / wide.max(0.01)).powi(2)).max(0.0));
        let inside = u.abs() < wide && v < rim;
        [shade as u8, shade as u8, shade as u8, if inside { 255 } else { 0 }]
    });
    write_png(folder.join("petal.png"), &petal)?;

    // A shaft of light under water: soft across, of finer rays, bright above and fading downwards.
    let mut shaft = Image::new(ImageSize::new(96, 256)?);
    shaft.paint(|x, y| {
        let (u, v) = ((x as f32 - 47.5) / 48.0, y as f32 / 255.0);
        let spread = 0.35 + 0.25 * v;
        let body = (-(u / spread) * (u / spread) * 2.0).exp() * (1.0 - u * u).max(0.0);
        let [rays, fine, _] = gust_noise([u / spread * 2.4, v * 0.25, 7.0], 3);
        let rays = (0.62 + 0.5 * rays + 0.25 * fine).clamp(0.0, 1.2);
        let along = (v * 6.0).min(1.0) * (1.0 - v).powf(1.4);
        let light = (255.0 * body * rays * along).clamp(0.0, 255.0);
        [255, 255, 255, light as u8]
    });
    write_png(folder.join("shaft.png"), &shaft)?;

    // A ball, flattened below and lumpy.
    let ball = Surface::ball(9);
    let lumpy = ball.corners().iter().map(|corner| {
        let [x, y, z] = corner.to_array();
        let [lump, fine, _] = gust_noise([x * 1.6 + 3.0, y * 1.6, z * 1.6], 61);
        let out = 1.0 + 0.16 * lump + 0.05 * fine;
        // The lower half is pressed flat: it stands broad on the ground.
        let up = if y > 0.0 { y * 0.86 } else { y * 0.30 };
        [x * out * 0.86, (up * out + 0.22).max(-0.02), z * out * 0.74]
    });
    let mut text = String::from("# The heather bush of Tern Holm, made by examples/paint_textures.rs\n");
    lumpy.for_each(|[x, y, z]| text += &format!("v {x:.4} {y:.4} {z:.4}\n"));
    for [a, b, c] in ball.triangles() {
        text += &format!("f {} {} {}\n", a + 1, b + 1, c + 1);
    }
    std::fs::write(folder.join("bush.obj"), text)?;
    Ok(())
}

/// Whether a place, m, is within the headland's cut face, holes or not.
fn is_headland(x: f32, y: f32) -> bool {
    let worn = worn(x, y);
    // Ledges that step up to the right, with hollows that hold water; to the left it falls into the sea.
    let [bend, fine, _] = gust_noise([x * 0.8, 0.0, 7.0], 23);
    let steps = [(-9.0, 2.9), (-5.2, 3.25), (-2.4, 3.5), (0.1, 3.75), (3.4, 3.95), (6.6, 4.5)];
    let ledge = steps.iter().fold(2.9, |top, (from, height)| {
        let share = ((x - from + bend * 0.3) / 0.35).clamp(0.0, 1.0);
        top + (height - top) * share * share * (3.0 - 2.0 * share)
    });
    let hollow = |at: f32, wide: f32, deep: f32| deep * (1.0 - ((x - at) / wide).powi(2)).max(0.0);
    let top = ledge + bend * 0.07 + fine * 0.05 + worn * 0.2
        - hollow(2.0, 0.85, 0.62)
        - hollow(5.35, 0.95, 0.6)
        - hollow(-4.0, 0.8, 0.42);
    let [side, ..] = gust_noise([0.0, y * 1.1, 3.0], 25);
    y <= top && x > -7.3 + 0.45 * (y - 1.0).sin() + side * 0.3 + worn * 0.5
}

fn worn(x: f32, y: f32) -> f32 {
    let [rough, ..] = gust_noise([x * 0.9, y * 0.9, 0.0], 21);
    let [fine, ..] = gust_noise([x * 3.1, y * 3.1, 4.0], 22);
    rough * 0.24 + fine * 0.07
}

/// The cave that the sea runs into, the shaft up from its end, a tunnel that leaves it half way up, and a pocket.
fn is_hole(x: f32, y: f32) -> bool {
    let worn = worn(x, y);
    let cave = near(x, y, &[[-9.5, 0.1], [-5.0, 0.2], [-2.6, 0.55], [-1.3, 0.55]]) < 0.66 + worn;
    let shaft = near(x, y, &[[-1.35, 0.5], [-1.15, 1.7], [-1.25, 2.7], [-1.15, 5.0]]) < 0.33 + worn * 0.35;
    let tunnel = near(x, y, &[[-1.1, 1.6], [0.3, 1.8], [1.5, 1.55], [2.4, 1.95]]) < 0.24 + worn * 0.3;
    let pocket = near(x, y, &[[4.6, 0.7], [5.9, 0.5], [6.7, 1.05]]) < 0.35 + worn * 0.6;
    cave || shaft || tunnel || pocket
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
