//! Textures as the kernels read them: pages of texels, each with its smaller copies, and regions on them.

use std::ops::{Add, Mul, Sub};

use fearless_simd::prelude::*;
use fearless_simd::{f32x8, i32x8, u32x4, u32x8};
use glam::Vec4;

use crate::LANES;

/// Number of mip levels of a page.
pub const LEVELS: usize = 4;

/// A picture's place in an atlas.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default)]
pub struct RegionId(pub u32);

impl RegionId {
    /// Index in the atlas's list of regions.
    pub fn number(self) -> u32 {
        self.0
    }
}

/// Location of a picture on its page, in texels at full size.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Region {
    /// Index of the page.
    pub page: u16,
    /// Left end.
    pub x: u32,
    /// Upper end.
    pub y: u32,
    /// Width.
    pub w: u32,
    /// Height.
    pub h: u32,
}

/// One page and its smaller copies.
#[derive(Debug, Clone, PartialEq)]
pub struct Page {
    /// Texels along a side at full size.
    pub side: usize,
    /// Linear light times opacity, 65535 is 1; row after row from the top, [`LEVELS`] sizes once they are made.
    pub levels: Vec<Vec<[u16; 4]>>,
}

/// Packed pictures.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Textures {
    /// Pages.
    pub pages: Vec<Page>,
    /// Pictures on them.
    pub regions: Vec<Region>,
}

impl Textures {
    /// Returns the location of a picture.
    pub fn region(&self, id: RegionId) -> Option<&Region> {
        self.regions.get(id.0 as usize)
    }

    /// Whether each look-up between these places of a region, from the least u and v to the greatest, is opaque at any size. Pictures have
    /// 256 steps of opacity.
    pub fn is_opaque(&self, region: &Region, [u0, v0, u1, v1]: [f32; 4]) -> bool {
        /// Beyond it, looking is not worth it.
        const MOST: usize = 4096;
        // A mean of eight by eight texels is opaque only if all of them are. Look-ups mix the two around a place, half a texel from the middle.
        const LAST: usize = LEVELS - 1;
        let Some(page) = self.pages.get(usize::from(region.page)) else { return false };
        let (Some(means), side) = (page.levels.get(LAST), page.side >> LAST) else { return false };
        let along = |from: u32, length: u32, share: [f32; 2]| {
            let [first, last] = [from, from + length - 1].map(|texel| (texel >> LAST) as usize);
            let at = share.map(|share| (from as f32 + share * length as f32) / (1u32 << LAST) as f32);
            first.max((at[0] - 1.6).max(0.0) as usize)..last.min((at[1] + 0.6).max(0.0) as usize) + 1
        };
        let (columns, rows) = (along(region.x, region.w, [u0, u1]), along(region.y, region.h, [v0, v1]));
        columns.len() * rows.len() <= MOST
            && rows.into_iter().all(|row| {
                let row = means.get(row * side..).and_then(|row| row.get(columns.clone()));
                row.is_some_and(|row| row.iter().all(|[.., opacity]| *opacity == u16::MAX))
            })
    }

    /// Returns colour times opacity, and opacity, at u, v of a region: 0..1 from its upper left. `texels` is how many of the picture's
    /// texels a pixel covers. Bilinear, on the copy of the nearest size.
    #[inline]
    pub fn look_up(&self, region: &Region, u: f32, v: f32, texels: f32) -> Vec4 {
        self.texels(region, texels).at(u, v)
    }

    /// The mip level of a region for pixels that cover this number of its texels.
    #[inline]
    pub fn texels(&self, region: &Region, texels: f32) -> Texels<'_> {
        let page = &self.pages[region.page as usize];
        // A copy is taken when its texels are at most 1.4 pixels large.
        let mut level = 0;
        let mut size = texels;
        while size > 1.42 && level + 1 < LEVELS {
            size *= 0.5;
            level += 1;
        }
        let scale = 1.0 / (1u32 << level) as f32;
        let along = |from: u32, length: u32| Along {
            from: from as f32 * scale,
            length: length as f32 * scale,
            first: (from >> level) as i32,
            last: ((from + length - 1) >> level) as i32,
        };
        let (x, y) = (along(region.x, region.w), along(region.y, region.h));
        Texels { x, y, side: page.side >> level, texels: &page.levels[level] }
    }
}

/// A region's texels at one size.
#[derive(Debug, Clone, Copy)]
pub struct Texels<'a> {
    x: Along,
    y: Along,
    side: usize,
    texels: &'a [[u16; 4]],
}

/// A region along one axis of its page, texels.
#[derive(Debug, Clone, Copy)]
struct Along {
    from: f32,
    length: f32,
    first: i32,
    last: i32,
}

impl Along {
    /// The texels before and after a share of the region, and how far from one to the other.
    #[inline(always)]
    fn around(self, share: f32) -> ([usize; 2], f32) {
        let at = self.from + share * self.length - 0.5;
        let whole = at.floor();
        let first = whole as i32;
        let held = |texel: i32| texel.clamp(self.first, self.last) as usize;
        ([held(first), held(first + 1)], at - whole)
    }

    /// The texel before a share of the region that has a neighbour after it within the region, if any has, and how far from one to the
    /// other: at the ends, where both are the last texel, 0 or 1.
    #[inline(always)]
    fn pair_lanes<S: Simd>(self, simd: S, share: f32x8<S>) -> (i32x8<S>, f32x8<S>) {
        let ([before, _], between) = self.around_lanes(simd, share);
        let at = share * self.length + self.from - 0.5;
        let (least, most) = (self.first as f32, self.last as f32);
        let (zero, one) = (f32x8::splat(simd, 0.0), f32x8::splat(simd, 1.0));
        let between = at.simd_lt(f32x8::splat(simd, least)).select(zero, between);
        if self.first == self.last {
            return (before, zero);
        }
        let between = at.simd_ge(f32x8::splat(simd, most)).select(one, between);
        (before.min(i32x8::splat(simd, self.last - 1)), between)
    }

    /// [`Along::around`] for eight.
    #[inline(always)]
    fn around_lanes<S: Simd>(self, simd: S, share: f32x8<S>) -> ([i32x8<S>; 2], f32x8<S>) {
        let at = share * self.length + self.from - 0.5;
        // SSE2 cannot round down: towards zero, then one less where that is above.
        let first: i32x8<S> = at.to_int();
        let (zero, one) = (i32x8::splat(simd, 0), i32x8::splat(simd, 1));
        let first = first - first.to_float::<f32x8<S>>().simd_gt(at).select(one, zero);
        let whole = first.to_float::<f32x8<S>>();
        let (least, most) = (i32x8::splat(simd, self.first), i32x8::splat(simd, self.last));
        ([first.max(least).min(most), (first + 1).max(least).min(most)], at - whole)
    }
}

impl Texels<'_> {
    /// Colour times opacity, and opacity, at u, v: between the four texels around.
    #[inline(always)]
    pub fn at(&self, u: f32, v: f32) -> Vec4 {
        self.between(u, v, |[r, g, b, a]| Vec4::new(f32::from(r), f32::from(g), f32::from(b), f32::from(a)))
    }

    /// The opacity alone.
    #[inline(always)]
    pub fn opacity(&self, u: f32, v: f32) -> f32 {
        self.between(u, v, |[.., opacity]| f32::from(opacity))
    }

    /// Bilinear mix of the four texels around u, v; 65535 is 1.
    #[inline(always)]
    fn between<T>(&self, u: f32, v: f32, read: impl Fn([u16; 4]) -> T) -> T
    where
        T: Copy + Add<Output = T> + Sub<Output = T> + Mul<f32, Output = T>,
    {
        let (([x0, x1], fx), ([y0, y1], fy)) = (self.x.around(u), self.y.around(v));
        let mix = |one: T, two: T, share: f32| one + (two - one) * share;
        let row = |y: usize| {
            let row = &self.texels[y * self.side..];
            mix(read(row[x0]), read(row[x1]), fx)
        };
        mix(row(y0), row(y1), fy) * (1.0 / 65_535.0)
    }
}

impl Texels<'_> {
    /// Colour times opacity, and opacity, at eight places: [`Texels::at`] in lanes. Texels are read in pairs, a texel and
    /// its right neighbour in 128 bits, then turned and unpacked.
    #[inline(always)]
    pub fn eight<S: Simd>(&self, simd: S, u: f32x8<S>, v: f32x8<S>) -> [f32x8<S>; 4] {
        let ([y0, y1], fy) = self.y.around_lanes(simd, v);
        let side = self.side as i32;
        let (x, fx) = self.x.pair_lanes(simd, u);
        let upper = self.pairs(simd, y0 * side + x, fx);
        let lower = self.pairs(simd, y1 * side + x, fx);
        let mut texel = mixed(upper, lower, fy);
        for channel in 0..4 {
            texel[channel] *= 1.0 / 65_535.0;
        }
        texel
    }

    /// Eight mixes of a texel and its right neighbour; 65535 is 1.
    #[inline(always)]
    fn pairs<S: Simd>(&self, simd: S, places: i32x8<S>, share: f32x8<S>) -> [f32x8<S>; 4] {
        let places = places.to_array();
        // Red and green, blue and opacity of the left texel, then of the right.
        let mut rows = [u32x4::splat(simd, 0); LANES];
        for lane in 0..LANES {
            let from = places[lane] as usize;
            // A region may be the last texel of its page, alone.
            let pair = match self.texels.get(from..).and_then(|texels| texels.first_chunk::<2>()) {
                Some(pair) => *pair,
                None => [self.texels.get(from).copied().unwrap_or_default(); 2],
            };
            let [left, right] = pair;
            let word = |low: u16, high: u16| u32::from(low) | u32::from(high) << 16;
            let words = [
                word(left[0], left[1]),
                word(left[2], left[3]),
                word(right[0], right[1]),
                word(right[2], right[3]),
            ];
            rows[lane] = u32x4::load_array(simd, words);
        }
        let [a, b, c, d, e, f, g, h] = rows;
        let (first, second) = (turned([a, b, c, d]), turned([e, f, g, h]));
        let left = unpacked(first[0].combine(second[0]), first[1].combine(second[1]));
        let right = unpacked(first[2].combine(second[2]), first[3].combine(second[3]));
        mixed(left, right, share)
    }
}

/// Columns of four rows.
#[inline(always)]
fn turned<S: Simd>([a, b, c, d]: [u32x4<S>; 4]) -> [u32x4<S>; 4] {
    let (low, high) = (a.zip_low(c), b.zip_low(d));
    let (low_right, high_right) = (a.zip_high(c), b.zip_high(d));
    [low.zip_low(high), low.zip_high(high), low_right.zip_low(high_right), low_right.zip_high(high_right)]
}

/// Red, green, blue and opacity from two words.
#[inline(always)]
fn unpacked<S: Simd>(red_green: u32x8<S>, blue_opacity: u32x8<S>) -> [f32x8<S>; 4] {
    [
        float(red_green & 0xffff),
        float(red_green >> 16),
        float(blue_opacity & 0xffff),
        float(blue_opacity >> 16),
    ]
}

#[inline(always)]
fn float<S: Simd>(word: u32x8<S>) -> f32x8<S> {
    word.bitcast::<i32x8<S>>().to_float()
}

#[inline(always)]
fn mixed<S: Simd>(one: [f32x8<S>; 4], other: [f32x8<S>; 4], share: f32x8<S>) -> [f32x8<S>; 4] {
    let mut mixed = one;
    for channel in 0..4 {
        mixed[channel] += (other[channel] - one[channel]) * share;
    }
    mixed
}
