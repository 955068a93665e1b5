//! Shadow maps and sunlit ground against plain look-ups.

use frolic_raster::colour9::EMPTY;
use frolic_raster::samples::{SAMPLES, Samples, open_pixels};
use frolic_raster::sun::{ShadowMap, Sunlight, SunnyRow, light_ground};
use frolic_raster::tile::{Grid, Row, STRIDE};
use frolic_simd::levels;
use proptest::prelude::*;

/// A shadow map whose nearness is that of a function of the texel.
fn map(grid: &Grid, near: impl Fn(usize, usize) -> f32) -> Vec<f32> {
    let mut nearness = vec![0.0; grid.tiles() * grid.tile_width() * grid.rows()];
    for y in 0..grid.height {
        for x in 0..grid.width {
            nearness[grid.texel(x, y)] = near(x, y);
        }
    }
    nearness
}

/// A shadow in the lower left of a diagonal.
fn shaded(x: usize, y: usize) -> bool {
    x < y
}

proptest! {
    /// The four texels around a place weigh by their distance, across tiles as within them; outside the map all is lit.
    #[test]
    fn light_is_blended_from_four_texels(
        width in 2usize..90, height in 2usize..90, across in 3u32..6, down in 3u32..6, x in -5f32..95.0, y in -5f32..95.0, near in 0.1f32..0.9,
    ) {
        let grid = Grid::new([width, height], [across, down]);
        let nearness = map(&grid, |x, y| if shaded(x, y) { 1.0 } else { 0.0 });
        let map = ShadowMap { grid, nearness: &nearness };
        let lit = map.lit([x, y], near);
        if x < 0.0 || y < 0.0 || x >= (width - 1) as f32 || y >= (height - 1) as f32 {
            prop_assert_eq!(lit, 1.0);
            return Ok(());
        }
        let (i, j) = (x as usize, y as usize);
        let (fx, fy) = (x.fract(), y.fract());
        let mut sum = 0.0;
        for (dx, dy, weight) in [
            (0, 0, (1.0 - fx) * (1.0 - fy)), (1, 0, fx * (1.0 - fy)), (0, 1, (1.0 - fx) * fy), (1, 1, fx * fy),
        ] {
            sum += if shaded(i + dx, j + dy) { 0.0 } else { weight };
        }
        prop_assert!((lit - sum).abs() < 1e-5, "{lit} {sum}");
    }

    /// Eight places at once are the same to the bit as one by one, wherever they fall in the map.
    #[test]
    fn lanes_are_the_plain_look_up(
        size in [2usize..90, 2usize..90], log2 in [3u32..6, 3u32..6], slope in prop::array::uniform4(-1.5f32..1.5), start in -5f32..60.0, near in -1f32..2.0,
    ) {
        let grid = Grid::new(size, log2);
        let nearness = map(&grid, |x, y| if (x * 3 + y * 5) % 4 < 2 { 1.0 } else { 0.0 });
        let map = ShadowMap { grid, nearness: &nearness };
        let lines = [[slope[0], slope[1], 0.5, start], [slope[2], slope[3], 0.5, start], [0.0, 0.0, 0.0, near]];
        let sunlight = Sunlight { map, lines };
        for level in levels() {
            let mut row: Row = [[0.0; STRIDE]; 3];
            let ground = SunnyRow { sun: &[[1.0; STRIDE]; 3], depth: &[1.0; STRIDE], at: [0, 7], open: u64::MAX };
            light_ground(level, ground, Some(&sunlight), &mut row);
            for x in 0..64 {
                let along = |[ax, ay, a, c]: [f32; 4]| ((x as f32 + 0.5) * ax + 7.5 * ay + a) * 1.0 + c;
                let lit = map.lit([along(lines[0]), along(lines[1])], along(lines[2]));
                prop_assert_eq!(row[0][x].to_bits(), lit.to_bits(), "pixel {}", x);
            }
        }
    }

    /// Ground takes its sunlight where a sample has nothing solid before it and no shadow falls; elsewhere it stays as it is.
    #[test]
    fn ground_is_sunlit_where_it_shows(
        width in 1usize..33, pairs in 1usize..17, cover in 0u32..4, samples in 1usize..=SAMPLES, shadows in any::<bool>(), before in 0f32..2.0,
    ) {
        let (height, grid) = (pairs * 2, Grid::new([64, 64], [5, 5]));
        let nearness = map(&grid, |x, y| if shaded(x, y) { 1.0 } else { 0.0 });
        // Places of the map are pixels, at any depth.
        let lines = [[1.0, 0.0, -0.5, 0.0], [0.0, 1.0, -0.5, 0.0], [0.0, 0.0, 0.0, 0.5]];
        let sunlight = Sunlight { map: ShadowMap { grid, nearness: &nearness }, lines };
        let touched = |x: usize, y: usize| (x as u32 * 7 + y as u32 * 3) % 4 < cover;
        let covered = |x: usize, y: usize| samples == SAMPLES && touched(x, y);
        let count = width * height * SAMPLES;
        let (mut near, mut base, mut sun) = (vec![0.0; count], vec![EMPTY; count], vec![0; count]);
        for (x, y) in (0..width).flat_map(|x| (0..height).map(move |y| (x, y))).filter(|&(x, y)| touched(x, y)) {
            // The last ones, of which the first may be empty.
            base[(x * height + y + 1) * SAMPLES - samples..][..samples].fill(0);
        }
        let samples = Samples {
            near: &mut near, base: &mut base, sun: &mut sun,
            x: 0, y: 0, width, height, shown: [width, height], samples: SAMPLES, spans: Default::default(), most_slope: 0.0,
            passed: 0,
            shaded: 0,
        };
        for level in levels() {
            let mut open = vec![u64::MAX; height];
            open_pixels(level, &samples, &mut open);
            for (y, open) in open.into_iter().enumerate() {
                let expected: u64 = (0..width).filter(|x| !covered(*x, y)).map(|x| 1 << x).sum();
                prop_assert_eq!(open, expected, "row {}", y);
                let sun: Row = std::array::from_fn(|channel| std::array::from_fn(|x| (1 + channel + x + y) as f32));
                let mut row: Row = [[before; STRIDE]; 3];
                let ground = SunnyRow { sun: &sun, depth: &[1.0; STRIDE], at: [0, y], open };
                light_ground(level, ground, shadows.then_some(&sunlight), &mut row);
                for x in 0..width {
                    let hidden = covered(x, y) || (shadows && shaded(x, y));
                    for channel in 0..3 {
                        let expected = before + if hidden { 0.0 } else { sun[channel][x] };
                        prop_assert!((row[channel][x] - expected).abs() < 1e-4, "{x} {y}: {} {expected}", row[channel][x]);
                    }
                }
            }
        }
    }
}
