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
