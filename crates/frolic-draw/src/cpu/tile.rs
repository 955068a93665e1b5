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

use fearless_simd::prelude::*;
use fearless_simd::{f32x4, f32x8, i32x4};

use super::bin::Bin;
use super::phase::Part;
use super::record::Splat;
use super::shadow::Shadow;
use super::solid::{SAMPLES, Samples, Style};
use crate::backdrop::BackdropTile;
use crate::camera::View;
use crate::image::ImageSize;
use crate::list::DrawList;

/// Pixels, or points, of a vector.
pub(crate) const LANES: usize = 8;

/// Most pixels across a tile.
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
        if self.x0 == self.x1 && self.y0 == self.y1 {
            // Most often.
            return visit(usize::from(self.y0) * grid.across + usize::from(self.x0));
        }
        let (x0, x1) = (usize::from(self.x0), usize::from(self.x1) + 1);
        for y in usize::from(self.y0)..usize::from(self.y1) + 1 {
            for tile in y * grid.across + x0..y * grid.across + x1 {
                visit(tile);
            }
        }
    }

    #[inline(always)]
    pub(super) fn contains(self, across: u16, down: u16) -> bool {
        self.x0 <= across && across <= self.x1 && self.y0 <= down && down <= self.y1
    }
}

impl Grid {
    /// Tiles of 2^`tile_log2` pixels across (3 to 6) and down (3 and up).
    pub(crate) fn new(size: ImageSize, tile_log2: [u32; 2]) -> Self {
        let (width, height) = (size.width(), size.height());
        let (across, down) = (width.div_ceil(1 << tile_log2[0]), height.div_ceil(1 << tile_log2[1]));
        Self { width, height, tile_log2, across, down }
    }

    pub(crate) fn tiles(&self) -> usize {
        self.across * self.down
    }

    /// Rows of a tile.
    pub(crate) fn rows(&self) -> usize {
        1 << self.tile_log2[1]
    }

    /// Columns of a tile.
    pub(crate) fn tile_width(&self) -> usize {
        1 << self.tile_log2[0]
    }

    /// Where a tile is, counted across and down.
    pub(super) fn place(&self, nth: usize) -> [u16; 2] {
        [(nth % self.across) as u16, (nth / self.across) as u16]
    }

    /// Which row of all tiles, and which place in it, a pixel is.
    pub(crate) fn row_of(&self, x: usize, y: usize) -> (usize, usize) {
        let [w, h] = self.tile_log2;
        let tile = (y >> h) * self.across + (x >> w);
        ((tile << h) + (y & (self.rows() - 1)), x & (self.tile_width() - 1))
    }

    /// Where a pixel lies among those of all tiles, each column by column.
    pub(super) fn texel(&self, x: usize, y: usize) -> usize {
        let [w, h] = self.tile_log2;
        let tile = (y >> h) * self.across + (x >> w);
        (((tile << w) + (x & (self.tile_width() - 1))) << h) + (y & (self.rows() - 1))
    }

    pub(crate) fn rect(&self, nth: usize) -> Rect {
        let (x, y) = (nth % self.across * self.tile_width(), nth / self.across * self.rows());
        Rect { x, y, w: (self.width - x).min(self.tile_width()), h: (self.height - y).min(self.rows()) }
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
pub(super) fn first_pixel(x: f32, least: i32) -> i32 {
    let from = if x - 0.5 > 0.0 { x - 0.5 } else { 0.0 };
    let whole = from as i32;
    (whole + i32::from(whole as f32 != from)).max(least)
}

/// Last pixel up to `most` whose centre is at or left of `x`; negative when there is none.
#[inline(always)]
pub(super) fn last_pixel(x: f32, most: i32) -> i32 {
    let to = x - 0.5;
    if to >= 0.0 { (to as i32).min(most) } else { -1 }
}

/// Fills one tile.
pub(super) struct RasterTile<'a, 'l> {
    pub(super) grid: &'a Grid,
    pub(super) nth: usize,
    pub(super) rows: &'a mut [Row],
    pub(super) behind: BackdropTile<'a>,
    /// Depth of what is solid, and samples: only where solid things are drawn.
    pub(super) solid: Option<SolidTile<'a>>,
    /// The round's chunks, the first of which is `first_chunk`.
    pub(super) bins: &'a [Bin],
    pub(super) first_chunk: usize,
    pub(super) parts: &'a [Part],
    pub(super) list: &'a DrawList<'l>,
    pub(super) view: &'a View,
    pub(super) shadow: Option<&'a Shadow>,
    /// Whether to start from the backdrop, or go on from the round before.
    pub(super) first: bool,
}

/// What a tile keeps of solid things from round to round.
pub(super) struct SolidTile<'a> {
    pub(super) depth: &'a mut [[f32; STRIDE]],
    pub(super) nearest: &'a mut f32,
    pub(super) near: &'a mut [f32],
    pub(super) base: &'a mut [u32],
    pub(super) sun: &'a mut [u32],
}

impl RasterTile<'_, '_> {
    #[inline(always)]
    pub(super) fn run<S: Simd>(mut self, simd: S) {
        if self.first {
            self.start();
        }
        let [across, down] = self.grid.place(self.nth);
        let (x, y) = (self.grid.rect(self.nth).x as i32, self.grid.rect(self.nth).y as i32);
        let Self { grid, nth, rows, behind, mut solid, bins, first_chunk, parts, list, view, shadow, .. } =
            self;
        for part in parts {
            let bins = &bins[part.chunks.start - first_chunk..part.chunks.end - first_chunk];
            if part.solid {
                let Some(solid) = &mut solid else { continue };
                let SolidTile { depth, nearest, near, base, sun } = solid;
                let (width, height) = (grid.tile_width(), grid.rows());
                let mut samples =
                    Samples { near, base, sun, x, y, width, height, samples: SAMPLES, most_slope: 0.0 };
                for bin in bins {
                    let mut facets = bin.facets.tile(nth, across, down);
                    let mut strips = bin.strips.tile(nth, across, down);
                    // In order: where depths are equal or not compared, the first or the last wins.
                    loop {
                        let (f, s) = (facets.rank(), strips.rank());
                        if f.is_some_and(|f| s.is_none_or(|s| f <= s)) {
                            let Some((facet, _)) = facets.take() else { break };
                            samples.facet(simd, facet, &Style::of(list, facet.label, shadow.is_some()));
                        } else {
                            let Some((strip, _)) = strips.take() else { break };
                            samples.strip(simd, strip, &Style::of(list, strip.label, shadow.is_some()));
                        }
                    }
                }
                if part.ends {
                    let least = samples.resolve(simd, rows, depth, view, shadow);
                    **nearest = nearest.min(least);
                }
                continue;
            }
            let (depth, nearest) = match &solid {
                Some(solid) => (&*solid.depth, *solid.nearest),
                None => (behind.depth, behind.nearest),
            };
            let near = solid.as_ref().map(|solid| &*solid.near);
            let mut tile = Tile {
                rows: &mut *rows,
                depth,
                nearest,
                near,
                x,
                y,
                width: grid.tile_width(),
                list,
                view,
                shadow,
                source: None,
                per_soft: 0.0,
            };
            if part.far_to_near {
                tile.far_to_near(simd, bins, nth, across, down);
            } else {
                for bin in bins {
                    tile.in_order(simd, bin, nth, across, down);
                }
            }
        }
    }

    /// Starts from the backdrop, with the sun where it is not in shadow.
    fn start(&mut self) {
        self.rows.copy_from_slice(self.behind.rows);
        let rect = self.grid.rect(self.nth);
        if let Some(sun) = self.behind.sun {
            for (j, (row, sun)) in self.rows.iter_mut().zip(sun).enumerate() {
                for i in 0..rect.w {
                    let lit = self.shadow.map_or(1.0, |shadow| {
                        let depth = self.behind.depth[j][i];
                        if depth.is_infinite() || sun[0][i] + sun[1][i] + sun[2][i] == 0.0 {
                            return 1.0;
                        }
                        let (x, y) = ((rect.x + i) as f32 + 0.5, (rect.y + j) as f32 + 0.5);
                        shadow.light_at(self.view.point(x, y, depth))
                    });
                    for channel in 0..3 {
                        row[channel][i] += sun[channel][i] * lit;
                    }
                }
            }
        }
        if let Some(solid) = &mut self.solid {
            solid.depth.copy_from_slice(self.behind.depth);
            *solid.nearest = self.behind.nearest;
            // No sample holds a colour: what was drawn before has been resolved.
            let (width, height) = (self.grid.tile_width(), self.grid.rows());
            if self.behind.nearest.is_infinite() {
                solid.near.fill(0.0);
                return;
            }
            for i in 0..width {
                for j in 0..height {
                    // In the sky 1/inf is 0, the farthest there is.
                    let near = 1.0 / self.behind.depth[j][i];
                    for s in 0..SAMPLES {
                        solid.near[(s * width + i) * height + j] = near;
                    }
                }
            }
        }
    }
}

/// A tile being filled with what is transparent.
pub(super) struct Tile<'a, 'l> {
    pub(super) rows: &'a mut [Row],
    /// Depth of what is solid, and the least of it.
    pub(super) depth: &'a [[f32; STRIDE]],
    pub(super) nearest: f32,
    /// Nearness of what is solid at each sample, where that is known.
    pub(super) near: Option<&'a [f32]>,
    /// Its first pixel.
    pub(super) x: i32,
    pub(super) y: i32,
    pub(super) width: usize,
    pub(super) list: &'a DrawList<'l>,
    pub(super) view: &'a View,
    pub(super) shadow: Option<&'a Shadow>,
    /// Source of the last disc, and one over its soft depth.
    pub(super) source: Option<u16>,
    pub(super) per_soft: f32,
}

impl Tile<'_, '_> {
    /// One chunk's records, by rank.
    #[inline(always)]
    fn in_order<S: Simd>(&mut self, simd: S, bin: &Bin, nth: usize, across: u16, down: u16) {
        let mut splats = bin.splats.tile(nth, across, down);
        if bin.quads.distinct + bin.facets.distinct + bin.strips.distinct == 0 {
            // Most often there is nothing to merge.
            if let Some(splats) = splats.alone() {
                for splat in splats {
                    self.splat(simd, splat);
                }
            }
            while let Some((splat, _)) = splats.take() {
                self.splat(simd, splat);
            }
            return;
        }
        let mut quads = bin.quads.tile(nth, across, down);
        let mut facets = bin.facets.tile(nth, across, down);
        let mut strips = bin.strips.tile(nth, across, down);
        loop {
            let ranks = [splats.rank(), quads.rank(), facets.rank(), strips.rank()];
            let Some(rank) = ranks.into_iter().flatten().min() else { break };
            // All pieces of one instance have its rank.
            while splats.rank() == Some(rank) {
                splats.take().into_iter().for_each(|(splat, _)| self.splat(simd, splat));
            }
            while quads.rank() == Some(rank) {
                quads.take().into_iter().for_each(|(quad, _)| self.quad(quad));
            }
            if facets.rank() == Some(rank) || strips.rank() == Some(rank) {
                let (f, s) = (facets.clone(), strips.clone());
                self.pieces(simd, f.of_rank(rank), s.of_rank(rank));
                facets.pass(rank);
                strips.pass(rank);
            }
        }
    }

    #[inline(always)]
    pub(super) fn splat<S: Simd>(&mut self, simd: S, splat: &Splat) {
        // Looked up anew only where the source changes.
        if self.source != Some(splat.label.tag) {
            self.source = Some(splat.label.tag);
            let look = self.list.sources[usize::from(splat.label.tag)].look;
            // Without a test nothing is ever near enough to look at depths.
            self.per_soft = if look.depth.test { look.per_soft } else { f32::INFINITY };
        }
        // Only what reaches behind the nearest solid thing of the tile looks at depths pixel by pixel.
        if (self.nearest - splat.depth) * self.per_soft < 1.0 && self.per_soft.is_finite() {
            self.disc::<S, true, true>(simd, splat, self.per_soft);
        } else if splat.cover == 0.0 {
            self.disc::<S, false, false>(simd, splat, self.per_soft);
        } else {
            self.disc::<S, false, true>(simd, splat, self.per_soft);
        }
    }

    #[inline(always)]
    fn disc<S: Simd, const SOLID: bool, const COVERS: bool>(
        &mut self,
        simd: S,
        splat: &Splat,
        per_soft: f32,
    ) {
        // All four ends at once: first pixels as they are, last pixels negated, so that each is rounded up and held to the tile.
        let (x, y, radius) = (splat.x, splat.y, splat.radius);
        let ends = f32x4::load_array(simd, [x - 0.5, y - 0.5, 0.5 - x, 0.5 - y]) - radius;
        let (right, bottom) = (self.x + self.width as i32 - 1, self.y + self.rows.len() as i32 - 1);
        let held = [self.x as f32, self.y as f32, -right as f32, -bottom as f32];
        let ends: i32x4<S> = ends.ceil().max(f32x4::load_array(simd, held)).to_int();
        let [i0, j0, i1, j1] = ends.to_array();
        let (i1, j1) = (-i1, -j1);
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
                let [r, g, b] = row;
                let (r, g, b) = (&mut r[at..at + LANES], &mut g[at..at + LANES], &mut b[at..at + LANES]);
                let (mut under_r, mut under_g, mut under_b) =
                    (f32x8::from_slice(simd, r), f32x8::from_slice(simd, g), f32x8::from_slice(simd, b));
                if COVERS {
                    let keep = one - coverage * cover;
                    (under_r, under_g, under_b) = (under_r * keep, under_g * keep, under_b * keep);
                }
                (under_r + coverage * red).store_slice(r);
                (under_g + coverage * green).store_slice(g);
                (under_b + coverage * blue).store_slice(b);
                centre += 1.0;
            }
            i += LANES as i32;
        }
    }
}
