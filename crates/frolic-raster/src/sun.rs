//! The sun's light at points of a picture, looked up in a shadow map; and the sunlit ground behind a tile.

use fearless_simd::prelude::*;
use fearless_simd::{f32x8, i32x8, mask32x8};
use frolic_simd::kernel;

use crate::LANES;
use crate::tile::{Grid, Row, STRIDE, TILE_WIDTH};

/// The shadow map: a depth buffer in tiles.
#[derive(Debug, Clone, Copy)]
pub struct ShadowMap<'a> {
    /// Tiles of the map.
    pub grid: Grid,
    /// Nearness to the sun, tile after tile, column after column.
    pub nearness: &'a [f32],
}

/// Sunlight at points of a picture. Position and depth in the map are linear in the depth and in pixels times the depth.
#[derive(Debug, Clone, Copy)]
pub struct Sunlight<'a> {
    /// Shadow map.
    pub map: ShadowMap<'a>,
    /// Lines for column, row, and nearness to the sun: change for each pixel across, for each pixel down and for each metre of depth, and the constant.
    pub lines: [[f32; 4]; 3],
}

impl Sunlight<'_> {
    /// Sunlight for a picture of a 2^`log2`th of the resolution.
    pub fn coarser(&self, log2: u32) -> Self {
        let by = (1u32 << log2) as f32;
        Self { lines: self.lines.map(|[x, y, a, c]| [x * by, y * by, a, c]), ..*self }
    }

    /// Fraction of sunlight at eight points, 0 to 1, given in pixels and metres of depth; 1 where it is not `wanted`.
    #[inline(always)]
    pub fn at<S: Simd>(
        &self,
        simd: S,
        x: f32x8<S>,
        y: f32x8<S>,
        depth: f32x8<S>,
        wanted: mask32x8<S>,
    ) -> f32x8<S> {
        let mut of = [depth; 3];
        for line in 0..3 {
            let [ax, ay, a, c] = self.lines[line];
            of[line] = (x * ax + y * ay + a) * depth + c;
        }
        self.map.lit_lanes(simd, [of[0], of[1]], of[2], wanted)
    }
}

/// Relative difference of depth below which neighbouring samples share one shadow lookup.
pub const AS_DEEP: f32 = 1e-3;

impl ShadowMap<'_> {
    /// Fraction of sunlight at a position of the map, in pixels, for a nearness to the sun. Everything outside the map is lit.
    #[inline(always)]
    pub fn lit(&self, at: [f32; 2], near: f32) -> f32 {
        let (w, h) = (self.grid.width, self.grid.height);
        // Written so that NaN is lit.
        let within = at[0] >= 0.0 && at[1] >= 0.0 && at[0] < (w - 1) as f32 && at[1] < (h - 1) as f32;
        if !within {
            return 1.0;
        }
        let (x, y) = (at[0] as usize, at[1] as usize);
        let (fx, fy) = (at[0] - x as f32, at[1] - y as f32);
        let first = self.grid.texel(x, y);
        let [wide, high] = [self.grid.tile_width() - 1, self.grid.rows() - 1];
        // Mostly all four are of one tile.
        let (right, below, across) = if x & wide != wide && y & high != high {
            (first + high + 1, first + 1, first + high + 2)
        } else {
            (self.grid.texel(x + 1, y), self.grid.texel(x, y + 1), self.grid.texel(x + 1, y + 1))
        };
        let lit = |at: usize| if self.nearness[at] > near { 0.0 } else { 1.0 };
        let upper = lit(first) * (1.0 - fx) + lit(right) * fx;
        let lower = lit(below) * (1.0 - fx) + lit(across) * fx;
        upper * (1.0 - fy) + lower * fy
    }

    /// Nearness at eight places, and at those after them.
    #[inline(always)]
    fn pairs(&self, places: [i32; LANES]) -> [[f32; LANES]; 2] {
        let mut pairs = [[f32::NEG_INFINITY; LANES]; 2];
        for lane in 0..LANES {
            let at = places[lane] as usize;
            if let Some([upper, lower]) = self.nearness.get(at..at + 2).and_then(|pair| pair.first_chunk()) {
                (pairs[0][lane], pairs[1][lane]) = (*upper, *lower);
            }
        }
        pairs
    }

    /// [`ShadowMap::lit`] for eight; 1 where it is not `wanted`.
    #[inline(always)]
    fn lit_lanes<S: Simd>(
        &self,
        simd: S,
        at: [f32x8<S>; 2],
        near: f32x8<S>,
        wanted: mask32x8<S>,
    ) -> f32x8<S> {
        let (zero, one) = (f32x8::splat(simd, 0.0), f32x8::splat(simd, 1.0));
        let most = [self.grid.width, self.grid.height].map(|side| f32x8::splat(simd, side as f32 - 1.0));
        let within =
            at[0].simd_ge(zero) & at[1].simd_ge(zero) & at[0].simd_lt(most[0]) & at[1].simd_lt(most[1]);
        let wanted = wanted & within;
        if !wanted.any_true() {
            return one;
        }
        let [w, h] = self.grid.tile_log2;
        let [wide, high] = [self.grid.tile_width() as i32 - 1, self.grid.rows() as i32 - 1];
        let held = [wanted.select(at[0], zero), wanted.select(at[1], zero)];
        let (x, y): (i32x8<S>, i32x8<S>) = (held[0].to_int(), held[1].to_int());
        let (fx, fy) = (held[0] - x.to_float::<f32x8<S>>(), held[1] - y.to_float::<f32x8<S>>());
        // Places are the sum of a part that depends on the column and one that depends on the row.
        let across = self.grid.across as i32;
        let column = |x: i32x8<S>| ((x >> w) << (w + h)) + ((x & wide) << h);
        let row = |y: i32x8<S>| (((y >> h) * across) << (w + h)) + (y & high);
        let (left, right, upper, lower) = (column(x), column(x + 1), row(y), row(y + 1));
        let (from_left, from_top) = (one - fx, one - fy);
        let last = i32x8::splat(simd, high);
        if !(y & high).simd_eq(last).any_true() {
            // The two rows are neighbours in memory.
            let [left_above, left_below] = self.pairs((left + upper).to_array());
            let [right_above, right_below] = self.pairs((right + upper).to_array());
            let mut lit = [one; 4];
            for (lit, nearness) in lit.iter_mut().zip([left_above, right_above, left_below, right_below]) {
                *lit = f32x8::load_array(simd, nearness).simd_gt(near).select(zero, one);
            }
            let above = lit[0] * from_left + lit[1] * fx;
            let below = lit[2] * from_left + lit[3] * fx;
            return wanted.select(above * from_top + below * fy, one);
        }
        let lit = |place: i32x8<S>| {
            let place = place.to_array();
            let mut nearness = [0.0; LANES];
            for lane in 0..LANES {
                nearness[lane] =
                    self.nearness.get(place[lane] as usize).copied().unwrap_or(f32::NEG_INFINITY);
            }
            f32x8::load_array(simd, nearness).simd_gt(near).select(zero, one)
        };
        let above = lit(left + upper) * from_left + lit(right + upper) * fx;
        let below = lit(left + lower) * from_left + lit(right + lower) * fx;
        wanted.select(above * from_top + below * fy, one)
    }
}

/// The sun on the ground behind a row of a tile.
#[derive(Debug, Clone, Copy)]
pub struct SunnyRow<'a> {
    /// Sunlight of each pixel without shadows.
    pub sun: &'a Row,
    /// Depth of the ground along the view, in metres.
    pub depth: &'a [f32; STRIDE],
    /// First pixel in the picture.
    pub at: [usize; 2],
    /// Pixels to light, one bit each.
    pub open: u64,
}

kernel! {
    /// Adds sunlight to the ground behind a row of a tile, where it is not in shadow.
    pub fn light_ground(simd, ground: SunnyRow<'_>, sunlight: Option<&Sunlight<'_>>, row: &mut Row) {
        ground.add(simd, sunlight, row);
    }
}

impl SunnyRow<'_> {
    /// Adds it to the pixels that are open and not in shadow.
    #[inline(always)]
    fn add<S: Simd>(self, simd: S, sunlight: Option<&Sunlight<'_>>, row: &mut Row) {
        let middles = f32x8::load_array(simd, [0.5, 1.5, 2.5, 3.5, 4.5, 5.5, 6.5, 7.5]);
        let zero = f32x8::splat(simd, 0.0);
        let [x, y] = self.at;
        for i in (0..TILE_WIDTH).step_by(LANES) {
            let open = self.open >> i & 0xff;
            if open == 0 {
                continue;
            }
            let mut sun = [zero; 3];
            for channel in 0..3 {
                sun[channel] = f32x8::from_slice(simd, &self.sun[channel][i..i + LANES]);
            }
            let dark = (sun[0] + sun[1] + sun[2]).simd_eq(zero);
            let wanted = mask32x8::from_bitmask(simd, open) & !dark;
            if !wanted.any_true() {
                continue;
            }
            let mut share = zero + 1.0;
            if let Some(sunlight) = sunlight {
                let depth = f32x8::from_slice(simd, &self.depth[i..i + LANES]);
                let y = f32x8::splat(simd, y as f32 + 0.5);
                share = sunlight.at(simd, middles + (x + i) as f32, y, depth, wanted);
            }
            let share = wanted.select(share, zero);
            for channel in 0..3 {
                let under = &mut row[channel][i..i + LANES];
                let sum = f32x8::from_slice(simd, under) + sun[channel] * share;
                under.copy_from_slice(&sum.to_array());
            }
        }
    }
}
