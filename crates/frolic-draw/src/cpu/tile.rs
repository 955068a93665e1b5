//! One tile: the backdrop, then every record of every chunk, in order.
//!
//! ```text
//! for each splat, for each 8 columns of its box, for each row:
//!     t = max(0, 1 - dy²/R² - dx²/R²),  coverage = t²,  a = coverage cover
//!     rgb = rgb (1 - a) + light coverage
//! ```
//!
//! 1. Red, green and blue of a row lie one after the other, so that eight neighbours are one vector, no channel is
//!    shuffled, and a row is one stretch of memory.
//! 2. The `dx²/R²` of eight columns are worked out once and kept in a register down the rows.
//! 3. A row is eight pixels longer than the tile: a vector may run over the right edge, where it writes what nobody reads.
//!    So small splats need no masks.
//! 4. Positions are compared in picture coordinates, which makes a pixel the same whatever tile it is in.
//!
//! PERF (`cargo bench -p frolic --bench billboards`): evaluating the round profile takes the place of tables of separable
//! coverage: two more multiplications cost less than the loads, nothing is rounded to sub-pixel places, and every
//! size is round. Arrays of eight left to the compiler were four times slower than explicit vectors, as it
//! vectorised across colour channels.

use fearless_simd::f32x8;
use fearless_simd::prelude::*;

use super::bin::Bin;
use super::project::Splat;
use crate::backdrop::BackdropTile;
use crate::image::ImageSize;
use crate::list::DrawList;

/// Pixels of a vector.
pub(crate) const LANES: usize = 8;

/// Pixels across a tile.
pub(crate) const TILE_WIDTH: usize = 64;

/// Floats of a channel of a row.
pub(crate) const STRIDE: usize = TILE_WIDTH + LANES;

/// Red, green and blue of one row of a tile.
pub(crate) type Row = [[f32; STRIDE]; 3];

/// How the picture is cut into tiles.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Grid {
    pub(crate) width: usize,
    pub(crate) height: usize,
    /// Logarithms of a tile's width and height.
    pub(crate) tile_log2: [u32; 2],
    pub(crate) across: usize,
    pub(crate) down: usize,
}

/// A tile's part of the picture, pixels.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Rect {
    pub(crate) x: usize,
    pub(crate) y: usize,
    pub(crate) w: usize,
    pub(crate) h: usize,
}

/// First and last tile, across and down, that something touches.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Tiles {
    x0: u16,
    y0: u16,
    x1: u16,
    y1: u16,
}

impl Tiles {
    #[inline(always)]
    pub(super) fn new(x0: i32, x1: i32, y0: i32, y1: i32) -> Self {
        Self { x0: x0 as u16, y0: y0 as u16, x1: x1 as u16, y1: y1 as u16 }
    }

    #[inline(always)]
    pub(super) fn count(self) -> u32 {
        (u32::from(self.x1 - self.x0) + 1) * (u32::from(self.y1 - self.y0) + 1)
    }

    /// Calls `visit` with the number of each tile.
    #[inline(always)]
    pub(super) fn each(self, grid: &Grid, mut visit: impl FnMut(usize)) {
        let (x0, x1) = (usize::from(self.x0), usize::from(self.x1) + 1);
        for y in usize::from(self.y0)..usize::from(self.y1) + 1 {
            for tile in y * grid.across + x0..y * grid.across + x1 {
                visit(tile);
            }
        }
    }

    #[inline(always)]
    fn contains(self, across: u16, down: u16) -> bool {
        self.x0 <= across && across <= self.x1 && self.y0 <= down && down <= self.y1
    }
}

impl Grid {
    /// Tiles of [`TILE_WIDTH`] by 2^`height_log2` pixels.
    pub(crate) fn new(size: ImageSize, height_log2: u32) -> Self {
        let (width, height) = (size.width(), size.height());
        let tile_log2 = [TILE_WIDTH.ilog2(), height_log2];
        let (across, down) = (width.div_ceil(TILE_WIDTH), height.div_ceil(1 << height_log2));
        Self { width, height, tile_log2, across, down }
    }

    pub(crate) fn tiles(&self) -> usize {
        self.across * self.down
    }

    /// Rows of a tile.
    pub(crate) fn rows(&self) -> usize {
        1 << self.tile_log2[1]
    }

    pub(crate) fn rect(&self, nth: usize) -> Rect {
        let (x, y) = (nth % self.across * TILE_WIDTH, nth / self.across * self.rows());
        Rect { x, y, w: (self.width - x).min(TILE_WIDTH), h: (self.height - y).min(self.rows()) }
    }

    /// The tiles that bounds touch, and how many pixel centres of the picture are inside; `None` when none is.
    #[inline(always)]
    pub(super) fn cover(&self, [x0, y0, x1, y1]: [f32; 4]) -> Option<(Tiles, u64)> {
        let (i0, i1) = (first_pixel(x0, 0), last_pixel(x1, self.width as i32 - 1));
        let (j0, j1) = (first_pixel(y0, 0), last_pixel(y1, self.height as i32 - 1));
        if i0 > i1 || j0 > j1 {
            return None;
        }
        let [w, h] = self.tile_log2;
        let pixels = u64::from((i1 - i0 + 1).unsigned_abs()) * u64::from((j1 - j0 + 1).unsigned_abs());
        Some((Tiles::new(i0 >> w, i1 >> w, j0 >> h, j1 >> h), pixels))
    }
}

/// First pixel from `least` (0 or more) whose centre is at or right of `x`.
#[inline(always)]
fn first_pixel(x: f32, least: i32) -> i32 {
    let from = if x - 0.5 > 0.0 { x - 0.5 } else { 0.0 };
    let whole = from as i32;
    (whole + i32::from(whole as f32 != from)).max(least)
}

/// Last pixel up to `most` whose centre is at or left of `x`; negative when there is none.
#[inline(always)]
fn last_pixel(x: f32, most: i32) -> i32 {
    let to = x - 0.5;
    if to >= 0.0 { (to as i32).min(most) } else { -1 }
}

/// Fills one tile.
pub(super) struct RasterTile<'a, 'l> {
    pub(super) grid: &'a Grid,
    pub(super) nth: usize,
    pub(super) rows: &'a mut [Row],
    pub(super) behind: BackdropTile<'a>,
    pub(super) bins: &'a [Bin],
    pub(super) list: &'a DrawList<'l>,
    /// Whether to start from the backdrop, or go on from the round before.
    pub(super) first: bool,
}

impl RasterTile<'_, '_> {
    #[inline(always)]
    pub(super) fn run<S: Simd>(self, simd: S) {
        let Self { grid, nth, rows, behind, bins, list, first } = self;
        if first {
            rows.copy_from_slice(behind.rows);
        }
        let (across, down) = ((nth % grid.across) as u16, (nth / grid.across) as u16);
        let (x, y) = (i32::from(across) * TILE_WIDTH as i32, i32::from(down) << grid.tile_log2[1]);
        let mut tile = Tile { rows, depth: behind.depth, x, y };
        for bin in bins {
            let (small, large) = (bin.tile(nth), &bin.large[..]);
            let (mut next_small, mut next_large) = (0, 0);
            // Merged by rank, from one place, so that there is one inlined copy of the fill.
            loop {
                while next_large < large.len() && !large[next_large].1.contains(across, down) {
                    next_large += 1;
                }
                let splat = match (small.get(next_small), large.get(next_large)) {
                    (Some(splat), Some((large, _))) if splat.rank < large.rank => {
                        next_small += 1;
                        splat
                    }
                    (_, Some((large, _))) => {
                        next_large += 1;
                        large
                    }
                    (Some(splat), None) => {
                        next_small += 1;
                        splat
                    }
                    (None, None) => break,
                };
                let per_soft = list.sources[splat.source as usize].look.per_soft;
                // Only what reaches behind the nearest solid thing of the tile looks at depths pixel by pixel.
                if (behind.nearest - splat.depth) * per_soft < 1.0 {
                    tile.fill::<S, true>(simd, splat, per_soft);
                } else {
                    tile.fill::<S, false>(simd, splat, per_soft);
                }
            }
        }
    }
}

/// A tile being filled.
struct Tile<'a> {
    rows: &'a mut [Row],
    depth: &'a [[f32; STRIDE]],
    /// Its first pixel.
    x: i32,
    y: i32,
}

impl Tile<'_> {
    #[inline(always)]
    fn fill<S: Simd, const SOLID: bool>(&mut self, simd: S, splat: &Splat, per_soft: f32) {
        let [x0, y0, x1, y1] = splat.bounds();
        let (i0, i1) = (first_pixel(x0, self.x), last_pixel(x1, self.x + TILE_WIDTH as i32 - 1));
        let (j0, j1) = (first_pixel(y0, self.y), last_pixel(y1, self.y + self.rows.len() as i32 - 1));
        if i0 > i1 || j0 > j1 {
            return;
        }
        let per_r2 = 1.0 / (splat.radius * splat.radius);
        let [red, green, blue] = splat.light.map(|channel| f32x8::splat(simd, channel));
        let (one, zero) = (f32x8::splat(simd, 1.0), f32x8::splat(simd, 0.0));
        let cover = f32x8::splat(simd, splat.cover);
        let count = f32x8::load_array(simd, [0.5, 1.5, 2.5, 3.5, 4.5, 5.5, 6.5, 7.5]);
        let (top, bottom) = ((j0 - self.y) as usize, (j1 - self.y) as usize);
        let rows = &mut self.rows[top..=bottom];
        let depths = &self.depth[top..=bottom];
        let mut i = i0;
        while i <= i1 {
            let dx = count + i as f32 - splat.x;
            let u = one - dx * dx * per_r2;
            // Always true; said so that no row checks its bounds.
            let at = ((i - self.x) as usize).min(TILE_WIDTH);
            let mut centre = j0 as f32 + 0.5;
            for (row, depth) in rows.iter_mut().zip(depths) {
                let dy = centre - splat.y;
                let t = (u - f32x8::splat(simd, dy * dy * per_r2)).max(zero);
                let mut coverage = t * t;
                if SOLID {
                    let before = (f32x8::from_slice(simd, &depth[at..at + LANES]) - splat.depth) * per_soft;
                    coverage *= before.max(zero).min(one);
                }
                let keep = one - coverage * cover;
                let [r, g, b] = row;
                let (r, g, b) = (&mut r[at..at + LANES], &mut g[at..at + LANES], &mut b[at..at + LANES]);
                (f32x8::from_slice(simd, r) * keep + coverage * red).store_slice(r);
                (f32x8::from_slice(simd, g) * keep + coverage * green).store_slice(g);
                (f32x8::from_slice(simd, b) * keep + coverage * blue).store_slice(b);
                centre += 1.0;
            }
            i += LANES as i32;
        }
    }
}
