//! One tile: the backdrop, then every record of every chunk, in order.
//!
//! ```text
//! for each dot, for each vector of pixels of its box:
//!     t = max(0, 1 - dy²/R² - dx²/R²),  coverage = t²,  a = coverage cover
//!     rgb = rgb (1 - a) + light coverage
//! ```
//!
//! A vector is eight neighbours of a row; for a dot of up to four by four pixels, as most of a million are, four of a row and four of the
//! next: two vectors, without a loop or a branch.
//!
//! 1. Red, green and blue of a row lie one after the other, so that eight neighbours are one vector, no channel is
//!    shuffled, and a row is one stretch of memory.
//! 2. The `dx²/R²` of the columns are worked out once and kept in a register down the rows.
//! 3. A row is eight pixels longer than the tile: a vector may run over the right edge, where it writes what nobody reads.
//!    So small splats need no masks.
//! 4. Distances are counted from the dot's own first pixel, which makes a pixel the same whatever tile it is in.
//!
//! PERF (`cargo bench -p frolic --bench billboards`): evaluating the round profile takes the place of tables of separable
//! coverage: two more multiplications cost less than the loads, nothing is rounded to sub-pixel places, and every
//! size is round. Arrays of eight left to the compiler were four times slower than explicit vectors, as it
//! vectorised across colour channels.

use fearless_simd::prelude::*;
use fearless_simd::{f32x4, f32x8, u32x8};

use super::bin::Bin;
use super::phase::Part;
use super::record::Dot;
use super::shadow::Shadow;
use super::solid::{SAMPLES, Samples};
use super::tiled::{Blit, Pictures};
use crate::backdrop::BackdropTile;
use crate::camera::View;
use crate::image::ImageSize;
use crate::list::DrawList;
use crate::look::{Blend, Look};

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

    /// Number of the first tile.
    #[inline(always)]
    pub(super) fn first(self, grid: &Grid) -> usize {
        usize::from(self.y0) * grid.across + usize::from(self.x0)
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
    /// Groups to draw, nearest first, among the first of what is solid.
    pub(super) groups: &'a [Blit],
    pub(super) pictures: &'a Pictures,
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

impl SolidTile<'_> {
    /// Its samples, of a tile with this first pixel and size; its depth and the least of that.
    fn open(
        &mut self,
        [x, y]: [i32; 2],
        [width, height]: [usize; 2],
    ) -> (Samples<'_>, &mut [[f32; STRIDE]], &mut f32) {
        let samples = Samples {
            near: &mut *self.near,
            base: &mut *self.base,
            sun: &mut *self.sun,
            x,
            y,
            width,
            height,
            samples: SAMPLES,
            spans: Default::default(),
            most_slope: 0.0,
        };
        (samples, &mut *self.depth, &mut *self.nearest)
    }
}

impl RasterTile<'_, '_> {
    #[inline(always)]
    pub(super) fn run<S: Simd>(mut self, simd: S) {
        if self.first {
            self.start();
        }
        let [across, down] = self.grid.place(self.nth);
        let (x, y) = (self.grid.rect(self.nth).x as i32, self.grid.rect(self.nth).y as i32);
        let Self {
            grid,
            nth,
            rows,
            behind,
            mut solid,
            bins,
            first_chunk,
            parts,
            list,
            view,
            shadow,
            groups,
            pictures,
            first,
        } = self;
        let (width, height) = (grid.tile_width(), grid.rows());
        // What is solid mostly covers the ground: where it comes first, the sun on the ground is worked out only where that is seen.
        let mut ground = first.then_some(Sunny { behind, rect: grid.rect(nth), shadow, view });
        if !parts.first().is_some_and(|part| part.solid && part.ends)
            && let Some(ground) = ground.take()
        {
            ground.add(simd, rows, None);
        }
        let mut groups = groups;
        for part in parts {
            let bins = &bins[part.chunks.start - first_chunk..part.chunks.end - first_chunk];
            if part.solid {
                let Some(solid) = &mut solid else { continue };
                let (mut samples, depth, nearest) = solid.open([x, y], [width, height]);
                let records = |bin: &Bin| bin.facets.in_tile(nth) + bin.strips.in_tile(nth);
                let crowded = bins.iter().map(records).sum::<usize>() > width * height;
                if part.nearest_wins && crowded {
                    samples.nearest_first(simd, list, shadow.is_some(), bins, nth, [across, down]);
                } else {
                    for bin in bins {
                        samples.in_order(simd, list, shadow.is_some(), bin, nth, [across, down]);
                    }
                }
                samples.groups(simd, pictures, std::mem::take(&mut groups));
                if part.ends {
                    if let Some(ground) = ground.take() {
                        ground.add(simd, rows, Some(&samples));
                    }
                    *nearest = nearest.min(samples.resolve(simd, rows, depth, view, shadow));
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
                in_front: 0.0,
                covers: true,
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

    /// Starts from the backdrop, without the sun.
    fn start(&mut self) {
        self.rows.copy_from_slice(self.behind.rows);
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
                        solid.near[(i * height + j) * SAMPLES + s] = near;
                    }
                }
            }
        }
    }
}

/// The sun on the backdrop of a tile.
#[derive(Clone, Copy)]
struct Sunny<'a> {
    behind: BackdropTile<'a>,
    rect: Rect,
    shadow: Option<&'a Shadow>,
    view: &'a View,
}

impl Sunny<'_> {
    /// Adds it where it is not in shadow, and not wholly covered by what is solid.
    #[inline(always)]
    fn add<S: Simd>(self, simd: S, rows: &mut [Row], over: Option<&Samples<'_>>) {
        let Some(sun) = self.behind.sun else { return };
        let sunlight = self.shadow.and_then(|shadow| shadow.through(self.view));
        let middles = f32x8::load_array(simd, [0.5, 1.5, 2.5, 3.5, 4.5, 5.5, 6.5, 7.5]);
        for (j, (row, sun)) in rows.iter_mut().zip(sun).enumerate().take(self.rect.h) {
            for i in (0..self.rect.w).step_by(LANES) {
                let mut wanted = [false; LANES];
                let depth = f32x8::from_slice(simd, &self.behind.depth[j][i..i + LANES]);
                for lane in 0..LANES {
                    let at = i + lane;
                    let shines = at < self.rect.w && sun[0][at] + sun[1][at] + sun[2][at] != 0.0;
                    wanted[lane] = shines && !over.is_some_and(|samples| samples.cover(at, j));
                }
                if wanted == [false; LANES] {
                    continue;
                }
                let lit = match &sunlight {
                    Some(sunlight) => {
                        let x = middles + (self.rect.x + i) as f32;
                        let y = f32x8::splat(simd, (self.rect.y + j) as f32 + 0.5);
                        sunlight.at(simd, x, y, depth, wanted, 1)
                    }
                    None => [1.0; LANES],
                };
                for lane in 0..LANES {
                    if wanted[lane] {
                        for channel in 0..3 {
                            row[channel][i + lane] += sun[channel][i + lane] * lit[lane];
                        }
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
    /// Depth up to which its discs are in front of everything solid.
    pub(super) in_front: f32,
    /// Whether its discs cover what is behind them.
    pub(super) covers: bool,
}

impl Tile<'_, '_> {
    /// One chunk's records, by rank.
    #[inline(always)]
    fn in_order<S: Simd>(&mut self, simd: S, bin: &Bin, nth: usize, across: u16, down: u16) {
        let mut dots = bin.dots.tile(nth, across, down);
        if bin.quads.distinct + bin.facets.distinct + bin.strips.distinct == 0 {
            // Most often there is nothing to merge.
            if let Some(dots) = dots.alone() {
                for dot in dots {
                    self.dot(simd, dot);
                }
            }
            while let Some((dot, _)) = dots.take() {
                self.dot(simd, dot);
            }
            return;
        }
        let mut quads = bin.quads.tile(nth, across, down);
        let mut facets = bin.facets.tile(nth, across, down);
        let mut strips = bin.strips.tile(nth, across, down);
        loop {
            let ranks = [dots.rank(), quads.rank(), facets.rank(), strips.rank()];
            let Some(rank) = ranks.into_iter().flatten().min() else { break };
            // Loops, not closures handed to the standard library: those would be compiled without the instruction set of `simd`, which made
            // discs among ribbons five times as slow.
            while dots.rank() == Some(rank) {
                let Some((dot, _)) = dots.take() else { break };
                self.dot(simd, dot);
            }
            // All pieces of one instance have its rank.
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
    fn dot<S: Simd>(&mut self, simd: S, dot: &Dot) {
        // Looked up anew only where the source changes.
        if self.source != Some(dot.label.tag) {
            self.source = Some(dot.label.tag);
            self.take_look(self.list.sources[usize::from(dot.label.tag)].look);
        }
        if self.covers { self.disc::<S, true>(simd, dot) } else { self.disc::<S, false>(simd, dot) }
    }

    /// Fills dots of one look.
    #[inline(always)]
    pub(super) fn dots<'r, S: Simd>(&mut self, simd: S, dots: impl Iterator<Item = &'r Dot> + Clone) {
        let Some(first) = dots.clone().next() else { return };
        self.take_look(self.list.sources[usize::from(first.label.tag)].look);
        if self.covers {
            for dot in dots {
                self.disc::<S, true>(simd, dot);
            }
        } else {
            for dot in dots {
                self.disc::<S, false>(simd, dot);
            }
        }
    }

    fn take_look(&mut self, look: &Look) {
        self.covers = look.blend == Blend::Alpha;
        self.per_soft = look.per_soft;
        // A hair nearer than where anything of a disc fades.
        let fades = self.nearest * 0.999_999 - 1.000_001 / look.per_soft;
        self.in_front = if look.depth.test { fades } else { f32::INFINITY };
    }

    #[inline(always)]
    fn disc<S: Simd, const COVERS: bool>(&mut self, simd: S, dot: &Dot) {
        // Only what reaches behind the nearest solid thing of the tile looks at depths pixel by pixel.
        if dot.depth > self.in_front {
            self.fill::<S, true, COVERS>(simd, dot);
        } else {
            self.fill::<S, false, COVERS>(simd, dot);
        }
    }

    #[inline(always)]
    fn fill<S: Simd, const SOLID: bool, const COVERS: bool>(&mut self, simd: S, dot: &Dot) {
        let left = i32::from(dot.first[0]) - self.x;
        let top = i32::from(dot.first[1]) - self.y;
        let paint = Paint::new(simd, dot, self.per_soft);
        // Whether the fifth column and row from the first are beyond the radius.
        let fifth = dot.offset[0].min(dot.offset[1]) + QUAD as f32;
        if fifth * fifth * dot.per_r2 > 1.0 {
            // Four whole rows of the tile: those before the first are beyond the radius too.
            let (i, j) = (left.max(0), top.max(0).min(self.rows.len() as i32 - QUAD as i32));
            let within = j as usize..j as usize + QUAD;
            let Some(Ok(rows)) = self.rows.get_mut(within.clone()).map(TryInto::try_into) else { return };
            let depths = if SOLID { self.depth.get(within).unwrap_or_default() } else { &[] };
            return paint.four_by_four::<SOLID, COVERS>(simd, rows, depths, i, [i - left, j - top]);
        }
        // A hair farther than the radius, where nothing is covered.
        let reach = (1.0 / dot.per_r2).sqrt() * 1.000_001;
        let (i1, j1) = ((reach - dot.offset[0]) as i32, (reach - dot.offset[1]) as i32);
        let (i0, i1) = ((-left).max(0), i1.min(self.width as i32 - 1 - left));
        let (j0, j1) = ((-top).max(0), j1.min(self.rows.len() as i32 - 1 - top));
        if i0 > i1 || j0 > j1 {
            return;
        }
        let within = (j0 + top) as usize..=(j1 + top) as usize;
        let (rows, depths) = (&mut self.rows[within.clone()], &self.depth[within]);
        let count = f32x8::load_array(simd, [0.0, 1.0, 2.0, 3.0, 4.0, 5.0, 6.0, 7.0]);
        for i in (i0..=i1).step_by(LANES) {
            let u = paint.across(simd, count + i as f32);
            // Always true; said so that no row checks its bounds.
            let at = ((i + left) as usize).min(TILE_WIDTH);
            let mut down = j0 as f32;
            for (row, depth) in rows.iter_mut().zip(depths) {
                let before = if SOLID { f32x8::from_slice(simd, &depth[at..at + LANES]) } else { u };
                let coverage = paint.coverage::<SOLID>(simd, u, f32x8::splat(simd, down), before);
                let [r, g, b] = row;
                let (r, g, b) = (&mut r[at..at + LANES], &mut g[at..at + LANES], &mut b[at..at + LANES]);
                let under =
                    [f32x8::from_slice(simd, r), f32x8::from_slice(simd, g), f32x8::from_slice(simd, b)];
                let [over_r, over_g, over_b] = paint.over::<COVERS>(simd, under, coverage);
                over_r.store_slice(r);
                over_g.store_slice(g);
                over_b.store_slice(b);
                down += 1.0;
            }
        }
    }
}

/// Rows and columns of what is filled at once.
const QUAD: usize = LANES / 2;

/// A dot in lanes. The two ways of filling one share every formula, so a pixel is the same in both.
struct Paint<S: Simd> {
    offset: [f32; 2],
    per_r2: f32,
    depth: f32,
    per_soft: f32,
    light: [f32x8<S>; 3],
    cover: f32x8<S>,
}

impl<S: Simd> Paint<S> {
    #[inline(always)]
    fn new(simd: S, dot: &Dot, per_soft: f32) -> Self {
        let Dot { offset, per_r2, depth, paint: [red_green, blue_cover], .. } = *dot;
        let (red_green, blue_cover) = (u32x8::splat(simd, red_green), u32x8::splat(simd, blue_cover));
        let red = (red_green & 0xffff_0000).bitcast();
        let green = (red_green << 16).bitcast();
        let blue = (blue_cover & 0xffff_0000).bitcast();
        let cover = (blue_cover << 16).bitcast();
        Self { offset, per_r2, depth, per_soft, light: [red, green, blue], cover }
    }

    /// What is left of 1 after `dx²/R²`, columns from the first on.
    #[inline(always)]
    fn across(&self, simd: S, columns: f32x8<S>) -> f32x8<S> {
        let dx = columns + self.offset[0];
        f32x8::splat(simd, 1.0) - dx * dx * self.per_r2
    }

    /// The share covered, rows from the first on, before what is solid at depth `before`.
    #[inline(always)]
    fn coverage<const SOLID: bool>(
        &self,
        simd: S,
        across: f32x8<S>,
        rows: f32x8<S>,
        before: f32x8<S>,
    ) -> f32x8<S> {
        let (zero, one) = (f32x8::splat(simd, 0.0), f32x8::splat(simd, 1.0));
        let dy = rows + self.offset[1];
        let t = (across - dy * dy * self.per_r2).max(zero);
        let coverage = t * t;
        if SOLID { coverage * ((before - self.depth) * self.per_soft).max(zero).min(one) } else { coverage }
    }

    #[inline(always)]
    fn over<const COVERS: bool>(
        &self,
        simd: S,
        mut under: [f32x8<S>; 3],
        coverage: f32x8<S>,
    ) -> [f32x8<S>; 3] {
        if COVERS {
            let keep = f32x8::splat(simd, 1.0) - coverage * self.cover;
            under = [under[0] * keep, under[1] * keep, under[2] * keep];
        }
        let [r, g, b] = self.light;
        [under[0] + coverage * r, under[1] + coverage * g, under[2] + coverage * b]
    }

    /// Fills what touches no more than four rows and columns: two rows a vector, no loop and no branch.
    #[inline(always)]
    fn four_by_four<const SOLID: bool, const COVERS: bool>(
        &self,
        simd: S,
        rows: &mut [Row; QUAD],
        depths: &[[f32; STRIDE]],
        at: i32,
        [i, j]: [i32; 2],
    ) {
        // Always true; said so that no row checks its bounds.
        let at = (at as usize).min(TILE_WIDTH);
        let count = f32x8::load_array(simd, [0.0, 1.0, 2.0, 3.0, 0.0, 1.0, 2.0, 3.0]);
        let u = self.across(simd, count + i as f32);
        let count = f32x8::load_array(simd, [0.0, 0.0, 0.0, 0.0, 1.0, 1.0, 1.0, 1.0]) + j as f32;
        let (rows, _) = rows.as_chunks_mut::<2>();
        let (depths, _) = depths.as_chunks::<2>();
        for pair in 0..QUAD / 2 {
            let before = if SOLID { two_rows(simd, &depths[pair][0], &depths[pair][1], at) } else { u };
            let coverage = self.coverage::<SOLID>(simd, u, count + (2 * pair) as f32, before);
            let [upper, lower] = &mut rows[pair];
            let under = [
                two_rows(simd, &upper[0], &lower[0], at),
                two_rows(simd, &upper[1], &lower[1], at),
                two_rows(simd, &upper[2], &lower[2], at),
            ];
            let over = self.over::<COVERS>(simd, under, coverage);
            for channel in 0..3 {
                let (a, b) = over[channel].split();
                a.store_slice(&mut upper[channel][at..at + QUAD]);
                b.store_slice(&mut lower[channel][at..at + QUAD]);
            }
        }
    }
}

/// Four neighbours of one row, then the same four of another.
#[inline(always)]
fn two_rows<S: Simd>(simd: S, upper: &[f32; STRIDE], lower: &[f32; STRIDE], at: usize) -> f32x8<S> {
    f32x4::from_slice(simd, &upper[at..at + QUAD]).combine(f32x4::from_slice(simd, &lower[at..at + QUAD]))
}
