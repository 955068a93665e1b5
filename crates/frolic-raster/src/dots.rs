//! Discs of one tile: round soft billboards, each blended into its background.
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
//! 1. Red, green and blue of a row are stored one after the other, so that eight neighbours are one vector, no channel is
//!    shuffled, and a row is one stretch of memory.
//! 2. The `dx²/R²` of the columns are worked out once and kept in a register down the rows.
//! 3. A row is eight pixels longer than the tile: a vector may run over the right edge, into pixels that are never read.
//!    So small splats need no masks.
//! 4. Distances are counted from the dot's own first pixel, which makes a pixel the same whatever tile it is in.
//!
//! PERF (`cargo bench -p frolic --bench billboards`): evaluating the round profile takes the place of tables of separable
//! coverage: two more multiplications cost less than the loads, nothing is rounded to sub-pixel places, and every
//! size is round. Arrays of eight left to the compiler were four times slower than explicit vectors, as it
//! vectorised across colour channels.

use fearless_simd::prelude::*;
use fearless_simd::{f32x4, f32x8, u32x8};
use frolic_simd::kernel;

use crate::LANES;
use crate::overlay::{Apart, weight};
use crate::record::Dot;
use crate::tile::{Row, STRIDE, TILE_WIDTH};

/// How the discs of one source are blended.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct DotStyle {
    /// True if they cover their background; false if they add light.
    pub covers: bool,
    /// Reciprocal of the depth over which they fade into solid surfaces, in 1/m.
    pub per_soft: f32,
    /// Depth up to which they are in front of all solid surfaces, in metres.
    pub in_front: f32,
}

/// A tile that discs are drawn into.
#[derive(Debug)]
pub struct DotTile<'a> {
    /// Its pixels.
    pub rows: &'a mut [Row],
    /// Depth of solid surfaces, in metres.
    pub depth: &'a [[f32; STRIDE]],
    /// First column.
    pub x: i32,
    /// First row.
    pub y: i32,
    /// Column of the tile from which on pixels are wanted; 0 or more.
    pub from: i32,
    /// Column of the tile up to which pixels are wanted.
    pub width: usize,
    /// Style of each source, by the tag of a label.
    pub styles: &'a [DotStyle],
    /// Where `rows` hold only what is drawn over the background.
    pub apart: Apart<'a>,
    /// Logarithm of the pixels of the picture across one of this tile: 0, or more at a lower resolution.
    pub coarser: u32,
}

kernel! {
    /// Draws discs one after the other.
    pub fn in_order(simd, tile: &mut DotTile<'_>, dots: &[Dot]) {
        for dot in dots {
            tile.dot(simd, dot);
        }
    }

    /// Draws discs in the order of keys, whose lower half is a place in `dots`.
    pub fn by_key(simd, tile: &mut DotTile<'_>, dots: &[Dot], keys: &[u64]) {
        for key in keys {
            if let Some(dot) = dots.get(*key as u32 as usize) {
                tile.dot(simd, dot);
            }
        }
    }
}

impl DotTile<'_> {
    #[inline(always)]
    fn dot<S: Simd>(&mut self, simd: S, dot: &Dot) {
        let Some(style) = self.styles.get(usize::from(dot.label.tag)) else { return };
        let solid = dot.depth > style.in_front;
        if !self.apart.left.is_empty() {
            let dot = if self.coarser > 0 { dot.coarser(self.coarser) } else { *dot };
            match solid {
                true => self.fill_apart::<S, true>(simd, &dot, style.per_soft),
                false => self.fill_apart::<S, false>(simd, &dot, style.per_soft),
            }
            return;
        }
        // Only discs that reach behind the nearest solid surface of the tile test depths pixel by pixel.
        match (style.covers, solid) {
            (true, true) => self.fill::<S, true, true>(simd, dot, style.per_soft),
            (true, false) => self.fill::<S, false, true>(simd, dot, style.per_soft),
            (false, true) => self.fill::<S, true, false>(simd, dot, style.per_soft),
            (false, false) => self.fill::<S, false, false>(simd, dot, style.per_soft),
        }
    }

    #[inline(always)]
    fn fill<S: Simd, const SOLID: bool, const COVERS: bool>(&mut self, simd: S, dot: &Dot, per_soft: f32) {
        let left = i32::from(dot.first[0]) - self.x;
        let top = i32::from(dot.first[1]) - self.y;
        let paint = Paint::new(simd, dot, per_soft);
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
        let Some([i0, j0, i1, j1]) = self.reached(dot, [left, top]) else { return };
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

impl DotTile<'_> {
    /// First column and row, last column and row that a disc reaches, counted from its first pixel.
    #[inline(always)]
    fn reached(&self, dot: &Dot, [left, top]: [i32; 2]) -> Option<[i32; 4]> {
        // A hair farther than the radius, where nothing is covered.
        let reach = (1.0 / dot.per_r2).sqrt() * 1.000_001;
        let (i1, j1) = ((reach - dot.offset[0]) as i32, (reach - dot.offset[1]) as i32);
        let (i0, i1) = ((self.from - left).max(0), i1.min(self.width as i32 - 1 - left));
        let (j0, j1) = ((-top).max(0), j1.min(self.rows.len() as i32 - 1 - top));
        (i0 <= i1 && j0 <= j1).then_some([i0, j0, i1, j1])
    }

    /// Fills a disc into rows that hold no background.
    #[inline(always)]
    fn fill_apart<S: Simd, const SOLID: bool>(&mut self, simd: S, dot: &Dot, per_soft: f32) {
        let left = i32::from(dot.first[0]) - self.x;
        let top = i32::from(dot.first[1]) - self.y;
        let Some([i0, j0, i1, j1]) = self.reached(dot, [left, top]) else { return };
        let paint = Paint::new(simd, dot, per_soft);
        let within = (j0 + top) as usize..=(j1 + top) as usize;
        let Some(kept) = self.apart.left.get_mut(within.clone()) else { return };
        let mut weights = self.apart.weights.get_mut(within.clone());
        let weight = if weights.is_some() { weight(dot.depth) } else { 1.0 };
        let (rows, depths) = (&mut self.rows[within.clone()], &self.depth[within]);
        let count = f32x8::load_array(simd, [0.0, 1.0, 2.0, 3.0, 4.0, 5.0, 6.0, 7.0]);
        for i in (i0..=i1).step_by(LANES) {
            let u = paint.across(simd, count + i as f32);
            let at = ((i + left) as usize).min(TILE_WIDTH);
            let mut down = j0 as f32;
            for (nth, ((row, depth), kept)) in rows.iter_mut().zip(depths).zip(&mut *kept).enumerate() {
                let before = if SOLID { f32x8::from_slice(simd, &depth[at..at + LANES]) } else { u };
                let coverage = paint.coverage::<SOLID>(simd, u, f32x8::splat(simd, down), before);
                let keep = f32x8::splat(simd, 1.0) - coverage * paint.cover;
                let mut under = keep;
                if let Some(weights) = &mut weights {
                    let sum = &mut weights[nth][at..at + LANES];
                    (f32x8::from_slice(simd, sum) + coverage * paint.cover * weight).store_slice(sum);
                    under = f32x8::splat(simd, 1.0);
                }
                let share = coverage * weight;
                for (channel, light) in row.iter_mut().zip(paint.light) {
                    let pixels = &mut channel[at..at + LANES];
                    (f32x8::from_slice(simd, pixels) * under + share * light).store_slice(pixels);
                }
                let kept = &mut kept[at..at + LANES];
                (f32x8::from_slice(simd, kept) * keep).store_slice(kept);
                down += 1.0;
            }
        }
    }
}

/// Rows and columns that are filled at once.
const QUAD: usize = LANES / 2;

/// A dot in lanes. Both ways of filling share every formula, so they give the same pixels.
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

    /// 1 - `dx²/R²` for each column, clamped to 0.
    #[inline(always)]
    fn across(&self, simd: S, columns: f32x8<S>) -> f32x8<S> {
        let dx = columns + self.offset[0];
        f32x8::splat(simd, 1.0) - dx * dx * self.per_r2
    }

    /// Coverage of each row, without samples hidden by solid surfaces.
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

    /// Fills a disc of at most four rows and columns: two rows a vector, no loop and no branch.
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
