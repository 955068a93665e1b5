//! Rectangles: eight pixels at a time as one by one.

use frolic_raster::quads::{Frame, Quad, QuadTile, Shown, TileRows, draw};
use frolic_raster::texture::{LEVELS, Page, Region, Textures};
use frolic_raster::tile::{Row, STRIDE};
use frolic_simd::levels;
use proptest::prelude::*;

const SIDE: usize = 32;

/// A page of noise with smaller copies, and two regions of it.
fn textures(seed: u32) -> Textures {
    let noise = |n: usize| {
        [1u32, 2, 3, 4]
            .map(|k| ((n as u32).wrapping_mul(2_654_435_761) ^ (seed * k)).wrapping_mul(97 * k) as u16)
    };
    let level = |level: usize| (0..(SIDE >> level) * (SIDE >> level)).map(noise).collect();
    let region = |x, y, w, h| Region { page: 0, x, y, w, h };
    Textures {
        pages: vec![Page { side: SIDE, levels: (0..LEVELS).map(level).collect() }],
        regions: vec![region(0, 0, 9, 16), region(16, 8, 9, 16)],
    }
}

/// A row of pixels of a picture, and depths behind it.
fn tile() -> (Vec<Row>, Vec<[f32; STRIDE]>) {
    let light = |n: usize| (n * 37 % 101) as f32 / 50.0;
    let rows = (0..16).map(|j| [0, 1, 2].map(|c| std::array::from_fn(|i| light(i * 3 + j * 71 + c))));
    (rows.collect(), (0..16).map(|j| std::array::from_fn(|i| 2.0 + light(i + j * 5))).collect())
}

fn coefficients() -> impl Strategy<Value = [f32; 3]> {
    (-0.2f32..0.2, -0.2f32..0.2, -2f32..3.0).prop_map(|(x, y, c)| [x, y, c])
}

proptest! {
    /// Every pixel has the bits of the plain form, and no other pixel is touched.
    #[test]
    fn lanes_are_the_plain_form(
        u in coefficients(), v in coefficients(), q in coefficients(), is_level in any::<bool>(), seed in 1u32..999, kind in 0usize..5,
        left in 0f32..40.0, wide in 0f32..70.0, cover in prop_oneof![Just(0f32), 0f32..1.0], corner in 0f32..0.6, border in 0f32..0.3,
        per_soft in prop::option::of(0.1f32..9.0),
    ) {
        let textures = textures(seed);
        let map = [0, 1, TileRows::EMPTY, 1, 1, 0];
        let shown = match kind {
            0 => Shown::Plain,
            1 => Shown::Picture(&textures, &textures.regions[0]),
            2 => Shown::Mixed(&textures, [&textures.regions[0], &textures.regions[1]], 0.3),
            _ => Shown::Tiles(TileRows { textures: &textures, size: [3, 2], tiles: &map, frames: [0, 2] }),
        };
        let frame = Frame { size: [1.5, 1.0], corner: corner.min(0.5), border, paint: [0.3, 0.2, 0.1, 0.9] };
        let q = if is_level { [0.0, 0.0, 0.8] } else { q };
        let quad = Quad {
            u, v, q,
            extent: [left, 1.0, left + wide, 13.0],
            near: 0.05,
            light: [0.9, 0.5, 0.2],
            sun: [0.4, 0.4, 0.3],
            cover,
            shown,
            frame: (kind == 4 || corner < 0.2).then_some(frame),
            per_soft,
        };
        let (before, depth) = tile();
        let mut wanted = before.clone();
        for (j, row) in wanted.iter_mut().enumerate().filter(|(j, _)| (1..13).contains(j)) {
            for i in 0..64 {
                let (x, y) = (i as f32 + 0.5, j as f32 + 0.5);
                let Some(touch) = quad.at(x, y, |_| 1.0).filter(|_| (left..=left + wide).contains(&x)) else { continue };
                let soft = per_soft.map_or(1.0, |per| ((depth[j][i] - touch.depth) * per).clamp(0.0, 1.0));
                let share = touch.share * soft;
                let keep = 1.0 - touch.paint[3] * share;
                for channel in 0..3 {
                    row[channel][i] = row[channel][i] * keep + touch.paint[channel] * share;
                }
            }
        }
        for level in levels() {
            let mut rows = before.clone();
            draw(level, &mut QuadTile { rows: &mut rows, depth: &depth, x: 0, y: 0, from: 0, width: 64, sunlight: None, apart: Default::default(), order_depth: 1.0, touched: 0 }, &quad);
            for (j, (row, wanted)) in rows.iter().zip(&wanted).enumerate() {
                for i in 0..64 {
                    let of = |row: &Row| row.map(|channel| channel[i].to_bits());
                    prop_assert_eq!(of(row), of(wanted), "pixel {}, {}", i, j);
                }
            }
        }
    }
}

/// A page that is opaque but for one texel, and a region of it.
fn holed(hole: [usize; 2]) -> Textures {
    let mut level: Vec<[u16; 4]> = vec![[30_000, 20_000, 10_000, u16::MAX]; SIDE * SIDE];
    level[hole[1] * SIDE + hole[0]] = [0; 4];
    let mut levels = vec![level];
    for step in 1..LEVELS {
        let (side, wide) = (SIDE >> step, SIDE >> (step - 1));
        let from = &levels[step - 1];
        let mean = |at: usize| {
            let first = at / side * 2 * wide + at % side * 2;
            let of = [first, first + 1, first + wide, first + wide + 1].map(|at| from[at]);
            [0, 1, 2, 3].map(|c| ((of.iter().map(|texel| u32::from(texel[c])).sum::<u32>() + 2) / 4) as u16)
        };
        let next = (0..side * side).map(mean).collect();
        levels.push(next);
    }
    let region = Region { page: 0, x: 0, y: 0, w: SIDE as u32, h: SIDE as u32 };
    Textures { pages: vec![Page { side: SIDE, levels }], regions: vec![region] }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(1024))]

    /// Where a rectangle hides everything, two backgrounds give the same pixels.
    #[test]
    fn what_hides_lets_nothing_through(
        u in (-0.02f32..0.05, -0.02f32..0.02, -0.1f32..0.6), v in (-0.02f32..0.02, -0.02f32..0.06, -0.1f32..0.6), tilt in (-0.002f32..0.002, -0.002f32..0.002),
        cover in prop_oneof![4 => Just(1f32), 1 => 0f32..1.0], kind in 0usize..3, hole in [0..SIDE, 0..SIDE], per_soft in prop::option::of(0.1f32..9.0),
        rect in [0i32..60, 0i32..14, 0i32..60, 0i32..14],
    ) {
        let textures = holed(hole);
        let shown = if kind == 0 { Shown::Plain } else { Shown::Picture(&textures, &textures.regions[0]) };
        let quad = Quad {
            u: [u.0, u.1, u.2], v: [v.0, v.1, v.2], q: [tilt.0, tilt.1, 1.0], extent: [-9.0, -9.0, 99.0, 99.0], near: 0.05,
            light: [0.9, 0.5, 0.2], sun: [0.0; 3], cover, shown, frame: None, per_soft,
        };
        let [i0, i1, j0, j1] = [rect[0].min(rect[2]), rect[0].max(rect[2]), rect[1].min(rect[3]), rect[1].max(rect[3])];
        let (before, depth) = tile();
        if quad.hides([i0, j0, i1, j1], 2.0) {
            for level in levels() {
                let [mut one, mut other] = [before.clone(), vec![[[0f32; STRIDE]; 3]; before.len()]];
                for rows in [&mut one, &mut other] {
                    draw(level, &mut QuadTile { rows, depth: &depth, x: 0, y: 0, from: 0, width: 64, sunlight: None, apart: Default::default(), order_depth: 1.0, touched: 0 }, &quad);
                }
                for j in j0..=j1 {
                    for i in i0..=i1 {
                        let of = |rows: &[Row]| rows[j as usize].map(|channel| channel[i as usize].to_bits());
                        prop_assert_eq!(of(&one), of(&other), "pixel {}, {}", i, j);
                    }
                }
            }
        }
    }
}

/// What hides, and by how little it does not.
#[test]
fn only_what_is_opaque_and_whole_hides() {
    let textures = holed([31, 31]);
    let quad = Quad {
        u: [0.01, 0.0, 0.1],
        v: [0.0, 0.02, 0.1],
        q: [0.0, 0.0, 1.0],
        extent: [0.0, 0.0, 64.0, 16.0],
        near: 0.05,
        light: [1.0; 3],
        sun: [0.0; 3],
        cover: 1.0,
        shown: Shown::Picture(&textures, &textures.regions[0]),
        frame: None,
        per_soft: Some(1.0),
    };
    let rect = [0, 0, 20, 8];
    assert!(quad.hides(rect, f32::INFINITY) && quad.hides(rect, 2.1));
    // Not enough room in front of the solid surfaces; its edge; the hole in its lower right corner; its opacity; its frame.
    assert!(!quad.hides(rect, 1.9));
    assert!(!quad.hides([0, 0, 90, 8], f32::INFINITY));
    assert!(!quad.hides([20, 8, 88, 40], f32::INFINITY));
    assert!(!Quad { cover: 0.999, ..quad }.hides(rect, f32::INFINITY));
    let frame = Frame { size: [1.0; 2], corner: 0.1, border: 0.0, paint: [0.0; 4] };
    assert!(!Quad { frame: Some(frame), ..quad }.hides(rect, f32::INFINITY));
    assert!(Quad { shown: Shown::Plain, ..quad }.hides([20, 8, 88, 40], f32::INFINITY));
}
