//! From linear light to bytes: bloom, tone curve, dither.

use fearless_simd::Level;
use frolic_raster::finish::{Bloom, ResolveBand, average_blocks, resolve_band};
use frolic_raster::tile::{Grid, Row, STRIDE};
use frolic_simd::levels;
use proptest::prelude::*;
use rayon::prelude::*;

/// Rows of all tiles, with the light of each pixel.
fn rows(grid: &Grid, light: impl Fn(usize, usize) -> [f32; 3]) -> Vec<Row> {
    let mut rows = vec![[[7.0; STRIDE]; 3]; grid.tiles() * grid.rows()];
    for (x, y) in (0..grid.height).flat_map(|y| (0..grid.width).map(move |x| (x, y))) {
        let (row, column) = grid.row_of(x, y);
        for (channel, light) in rows[row].iter_mut().zip(light(x, y)) {
            channel[column] = light;
        }
    }
    rows
}

fn bloom(level: Level, grid: &Grid, rows: &[Row]) -> Bloom {
    let mut bloom = Bloom::default();
    bloom.resize(grid);
    let tiles = bloom.tiles(grid).zip(rows.par_chunks(grid.rows())).enumerate();
    tiles.for_each(|(nth, (small, rows))| average_blocks(level, grid, nth, rows, small));
    bloom.spread(grid);
    bloom
}

fn picture(level: Level, grid: &Grid, rows: &[Row], glare: f32, exposure: f32) -> Vec<[u8; 4]> {
    let bloom = bloom(level, grid, rows);
    let mut pixels = vec![[0; 4]; grid.width * grid.height];
    let bands = pixels.chunks_mut(grid.width * grid.rows()).zip(rows.chunks(grid.rows() * grid.across));
    for (row, (pixels, tiles)) in bands.enumerate() {
        resolve_band(level, ResolveBand { grid, row, pixels, tiles, bloom: &bloom, glare, exposure });
    }
    pixels
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(48))]

    /// The tile size and the instruction set make no difference to any byte.
    #[test]
    fn pictures_are_the_same_in_any_tiles(
        width in 1usize..90, height in 1usize..70, seed in 1u32..1000, glare in 0f32..1.0, exposure in 0.1f32..4.0,
    ) {
        let light = |x: usize, y: usize| {
            [1u32, 2, 3].map(|n| ((x as u32 * 31 + y as u32 * 17) * n * seed % 101) as f32 / 40.0)
        };
        let draw = |level, log2| {
            let grid = Grid::new([width, height], log2);
            picture(level, &grid, &rows(&grid, light), glare, exposure)
        };
        let once = draw(levels()[0], [6, 6]);
        prop_assert!(once.iter().all(|pixel| pixel[3] == 255));
        for (level, log2) in levels().into_iter().flat_map(|level| [[3, 3], [4, 5], [6, 4]].map(|log2| (level, log2))) {
            prop_assert!(draw(level, log2) == once);
        }
    }

    /// Glare spreads light and adds none: an even picture stays as it is.
    #[test]
    fn an_even_picture_has_no_glare(width in 1usize..90, height in 1usize..70, light in [0f32..4.0, 0f32..4.0, 0f32..4.0]) {
        let grid = Grid::new([width, height], [5, 5]);
        let rows = rows(&grid, |_, _| light);
        for level in levels() {
            let (plain, glaring) = (picture(level, &grid, &rows, 0.0, 1.0), picture(level, &grid, &rows, 0.8, 1.0));
            for (plain, glaring) in plain.iter().flatten().zip(glaring.iter().flatten()) {
                prop_assert!(plain.abs_diff(*glaring) <= 1);
            }
        }
    }

    /// More light never makes a darker byte.
    #[test]
    fn bytes_rise_with_light(from in 0f32..9.0, more in 0f32..3.0, exposure in 0.1f32..4.0) {
        let grid = Grid::new([24, 16], [4, 4]);
        for level in levels() {
            let draw = |light: f32| picture(level, &grid, &rows(&grid, |_, _| [light, 0.0, light * 0.5]), 0.0, exposure);
            let (less, more) = (draw(from), draw(from + more));
            prop_assert!(less.iter().flatten().zip(more.iter().flatten()).all(|(less, more)| less <= more));
            prop_assert!(less.iter().all(|pixel| pixel[1] <= 1));
        }
    }

    /// A block holds the mean of its pixels of the picture; what a row has beyond the picture does not count.
    #[test]
    fn blocks_are_means(width in 1usize..40, height in 1usize..40) {
        let grid = Grid::new([width, height], [4, 4]);
        let light = |x: usize, y: usize| [x as f32, y as f32, 1.0];
        let rows = rows(&grid, light);
        for (level, nth) in levels().into_iter().flat_map(|level| (0..grid.tiles()).map(move |nth| (level, nth))) {
            let mut small = [0.0; 2 * 2 * 3];
            average_blocks(level, &grid, nth, &rows[nth * grid.rows()..][..grid.rows()], &mut small);
            let rect = grid.rect(nth);
            for (bx, by) in [(0, 0), (1, 0), (0, 1), (1, 1)] {
                let inside = |x: &usize, from: usize, size: usize, b: usize| (from + b * 8..from + (b * 8 + 8).min(size)).contains(x);
                let xs: Vec<usize> = (0..width).filter(|x| inside(x, rect.x, rect.w, bx)).collect();
                let ys: Vec<usize> = (0..height).filter(|y| inside(y, rect.y, rect.h, by)).collect();
                if xs.is_empty() || ys.is_empty() {
                    continue;
                }
                let mean = |of: &[usize]| of.iter().sum::<usize>() as f32 / of.len() as f32;
                for (channel, wanted) in [mean(&xs), mean(&ys), 1.0].into_iter().enumerate() {
                    let got = small[channel * 4 + by * 2 + bx];
                    prop_assert!((got - wanted).abs() < 1e-4, "{got} is not {wanted}");
                }
            }
        }
    }
}
