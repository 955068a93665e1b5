//! Discs of a tile against the formula of `dots.rs`, one pixel after the other.

use fearless_simd::Level;
use frolic_raster::dots::{DotStyle, DotTile, by_key, in_order};
use frolic_raster::record::{Dot, Label, Splat};
use frolic_raster::tile::{Grid, Row, STRIDE};
use frolic_simd::levels;
use proptest::prelude::*;

/// Values that a dot holds without rounding.
fn eighths() -> impl Strategy<Value = f32> {
    (0u32..=8).prop_map(|n| n as f32 / 8.0)
}

prop_compose! {
    fn splat()(
        x in -20f32..90.0, y in -20f32..70.0, radius in 0.3f32..12.0, depth in 0.5f32..20.0,
        light in [eighths(), eighths(), eighths()], cover in eighths(),
    ) -> Splat {
        Splat { x, y, radius, depth, light, cover }
    }
}

fn dots(splats: &[Splat]) -> Vec<Dot> {
    let label = |nth: usize| Label { rank: nth as u16, tag: (nth % 2) as u16 };
    splats.iter().enumerate().map(|(nth, splat)| Dot::new(splat, label(nth))).collect()
}

/// Draws dots over grey into all tiles of a picture, with a solid wall at a depth.
fn drawn(level: Level, grid: &Grid, dots: &[Dot], styles: &[DotStyle], wall: f32) -> Vec<[f32; 3]> {
    let mut picture = vec![[0.0; 3]; grid.width * grid.height];
    for nth in 0..grid.tiles() {
        let rect = grid.rect(nth);
        let mut rows: Vec<Row> = vec![[[0.25; STRIDE]; 3]; grid.rows()];
        let depth = vec![[wall; STRIDE]; grid.rows()];
        let (x, y) = (rect.x as i32, rect.y as i32);
        let mut tile = DotTile {
            rows: &mut rows,
            depth: &depth,
            x,
            y,
            from: 0,
            width: rect.w,
            styles,
            apart: Default::default(),
            coarser: 0,
        };
        in_order(level, &mut tile, dots);
        for (i, j) in (0..rect.h).flat_map(|j| (0..rect.w).map(move |i| (i, j))) {
            picture[(rect.y + j) * grid.width + rect.x + i] = rows[j].map(|channel| channel[i]);
        }
    }
    picture
}

/// The same by the formula of the module, one pixel after the other.
fn modelled(grid: &Grid, splats: &[Splat], styles: &[DotStyle], wall: f32) -> Vec<[f64; 3]> {
    let mut picture = vec![[0.25; 3]; grid.width * grid.height];
    for (nth, splat) in splats.iter().enumerate() {
        let style = &styles[nth % 2];
        let [cx, cy, radius] = [splat.x, splat.y, splat.radius].map(f64::from);
        for (at, pixel) in picture.iter_mut().enumerate() {
            let (dx, dy) = ((at % grid.width) as f64 + 0.5 - cx, (at / grid.width) as f64 + 0.5 - cy);
            let t = (1.0 - (dx * dx + dy * dy) / (radius * radius)).max(0.0);
            let fade = f64::from((wall - splat.depth) * style.per_soft).clamp(0.0, 1.0);
            let coverage = t * t * if splat.depth > style.in_front { fade } else { 1.0 };
            for (channel, light) in pixel.iter_mut().zip(splat.light) {
                let keep = if style.covers { 1.0 - coverage * f64::from(splat.cover) } else { 1.0 };
                *channel = *channel * keep + coverage * f64::from(light);
            }
        }
    }
    picture
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(96))]

    /// Discs match the formula, to the bit the same at any instruction set and in tiles of any size.
    #[test]
    fn discs_match_their_formula(
        splats in proptest::collection::vec(splat(), 1..12), wall in 1f32..20.0, per_soft in 0.1f32..4.0, covers in any::<[bool; 2]>(),
    ) {
        let styles = covers.map(|covers| DotStyle { covers, per_soft, in_front: wall - 1.0 / per_soft });
        let dots = dots(&splats);
        let size = [71, 53];
        let once = drawn(levels()[0], &Grid::new(size, [6, 6]), &dots, &styles, wall);
        for (pixel, model) in once.iter().zip(modelled(&Grid::new(size, [6, 6]), &splats, &styles, wall)) {
            for (channel, model) in pixel.iter().zip(model) {
                prop_assert!((f64::from(*channel) - model).abs() < 1e-3, "{channel} is not {model}");
            }
        }
        for (level, log2) in levels().into_iter().flat_map(|level| [[3, 3], [4, 6], [6, 4]].map(|log2| (level, log2))) {
            prop_assert!(drawn(level, &Grid::new(size, log2), &dots, &styles, wall) == once);
        }
    }

    /// Keys give the order of drawing; a key beyond the list is passed over.
    #[test]
    fn discs_are_drawn_in_the_order_of_keys(
        splats in proptest::collection::vec(splat(), 1..12), keys in proptest::collection::vec(0u64..20, 0..20),
    ) {
        let styles = [DotStyle { covers: true, per_soft: 1.0, in_front: f32::INFINITY }; 2];
        let dots = dots(&splats);
        let depth = vec![[f32::INFINITY; STRIDE]; 64];
        let draw = |draw: &dyn Fn(&mut DotTile<'_>)| {
            let mut rows: Vec<Row> = vec![[[0.25; STRIDE]; 3]; 64];
            draw(&mut DotTile { rows: &mut rows, depth: &depth, x: 0, y: 0, from: 0, width: 64, styles: &styles, apart: Default::default(), coarser: 0 });
            rows
        };
        for level in levels() {
            let picked: Vec<Dot> = keys.iter().filter_map(|key| dots.get(*key as usize)).copied().collect();
            let upper = |key: &u64| key | 7 << 32;
            let by = draw(&|tile| by_key(level, tile, &dots, &keys.iter().map(upper).collect::<Vec<_>>()));
            prop_assert!(by == draw(&|tile| in_order(level, tile, &picked)));
        }
    }
}
