//! From the points of ribbons to strips: the cross sections of up to eight ribbons at once.

use fearless_simd::f32x8;
use fearless_simd::prelude::*;
use frolic_simd::kernel;
use glam::Vec2;

use crate::points::Skin;
use crate::record::{SEGMENTS, Strip};
use crate::{LANES, Lanes};

/// Least half width of a ribbon except at a pointed end, in pixels. A thinner one would slip between the samples, which lie on lines
/// 0.56 pixels apart, and look dotted.
pub const THINNEST: f32 = 0.3;

/// Least height of a segment of an upright strip, in pixels.
pub const LEAST_RISE: f32 = 0.02;
/// Most pixels aside for each pixel down of an upright strip.
pub const MOST_LEAN: f32 = 1.5;

/// Distance from the corner of the picture beyond which nothing is drawn, in pixels, as rounding would be coarse.
const FARTHEST: f32 = 1e7;

/// Most straight pieces of a ribbon.
pub const MOST_SEGMENTS: usize = 12;

/// Points of a ribbon.
const MOST: usize = MOST_SEGMENTS + 1;

/// Cross sections of ribbons side by side: square to each at its ends, and between segments along the bisector, so that neighbours
/// share an edge. Those of upright ribbons are level.
#[derive(Debug, Clone, Default)]
pub struct Sections {
    /// Middle, in pixels.
    x: [Lanes; MOST],
    y: [Lanes; MOST],
    /// Half the width, in pixels.
    half: [Lanes; MOST],
    /// From the middle to one side.
    across: [Lanes; MOST],
    along: [Lanes; MOST],
    /// 1 if a ribbon is mostly upright: it then covers a span on each row, which widens with its lean.
    upright: Lanes,
    /// 1 if every number of the ribbon can be drawn.
    sound: Lanes,
}

kernel! {
    /// Measures all points of a skin's ribbons.
    pub fn take(simd, sections: &mut Sections, skin: &Skin) {
        sections.take(simd, skin);
    }

    /// Appends the strips of one of the skin's ribbons; nothing nearer than `near`, in metres, is drawn.
    pub fn append(simd, sections: &Sections, near: f32, skin: &Skin, ribbon: usize, order_depth: f32, into: &mut Vec<Strip>) {
        sections.strips(simd, near, skin, ribbon, order_depth, into);
    }
}

impl Sections {
    #[inline(always)]
    fn take<S: Simd>(&mut self, simd: S, skin: &Skin) {
        for (nth, eight) in skin.eights[..skin.len].iter().enumerate() {
            (self.x[nth], self.y[nth]) = (eight.x, eight.y);
            let half = f32x8::load_array(simd, eight.radius) * f32x8::load_array(simd, eight.scale);
            self.half[nth] = half.to_array();
        }
        self.measure(simd, skin.len);
    }

    #[inline(always)]
    fn measure<S: Simd>(&mut self, simd: S, count: usize) {
        let of = |column: &Lanes| f32x8::load_array(simd, *column);
        let (zero, one) = (f32x8::splat(simd, 0.0), f32x8::splat(simd, 1.0));
        let farthest = f32x8::splat(simd, FARTHEST);
        let down = (of(&self.y[count - 1]) - of(&self.y[0])).simd_ge(zero).select(one, zero - one);
        let (mut sound, mut upright) = (one, one);
        for k in 0..count {
            let (x, y) = (of(&self.x[k]), of(&self.y[k]));
            // Written so that NaN is refused.
            sound = (x.abs().simd_lt(farthest) & y.abs().simd_lt(farthest)).select(sound, zero);
            if k + 1 < count {
                let way = [of(&self.x[k + 1]) - x, of(&self.y[k + 1]) - y];
                let rise = way[1] * down;
                let stands =
                    rise.simd_gt(f32x8::splat(simd, LEAST_RISE)) & (rise * MOST_LEAN).simd_gt(way[0].abs());
                upright = stands.select(upright, zero);
                let way = direction(simd, way, [zero, one]);
                (self.across[k], self.along[k]) = (way[0].to_array(), way[1].to_array());
            }
        }
        (self.sound, self.upright) = (sound.to_array(), upright.to_array());
        let upright = upright.simd_gt(zero);
        let mut before = [of(&self.across[0]), of(&self.along[0])];
        for k in 0..count {
            // So far these columns held the directions from point to point.
            let after = if k + 1 < count { [of(&self.across[k]), of(&self.along[k])] } else { before };
            let along = direction(simd, [before[0] + after[0], before[1] + after[1]], after);
            let half = of(&self.half[k]);
            let half = half.simd_gt(zero).select(half.max(f32x8::splat(simd, THINNEST)), zero);
            let bend = along[0] * after[0] + along[1] * after[1];
            let square = half / bend.max(f32x8::splat(simd, 0.5));
            self.across[k] = upright.select(half / along[1].abs(), zero - along[1] * square).to_array();
            self.along[k] = upright.select(zero, along[0] * square).to_array();
            before = after;
        }
    }

    #[inline(always)]
    fn strips<S: Simd>(
        &self,
        simd: S,
        near: f32,
        skin: &Skin,
        ribbon: usize,
        order_depth: f32,
        into: &mut Vec<Strip>,
    ) {
        if skin.in_front[ribbon % LANES] > 0.0 {
            return self.cut(skin, ribbon, ribbon % LANES, &ALL[..skin.len.min(MOST)], order_depth, into);
        }
        // Points behind the camera are left out; a blade there is not worth keeping.
        let (mut kept, mut left, mut count) = (Self::default(), ALL, 0);
        for nth in 0..skin.len.min(MOST) {
            let (eight, lane) = skin.point(ribbon, nth);
            if eight.depth[lane] > near {
                kept.x[count] = [eight.x[lane]; LANES];
                kept.y[count] = [eight.y[lane]; LANES];
                kept.half[count] = [eight.radius[lane] * eight.scale[lane]; LANES];
                left[count] = nth;
                count += 1;
            }
        }
        if count > 1 {
            kept.measure(simd, count);
            kept.cut(skin, ribbon, 0, &left[..count], order_depth, into);
        }
    }

    /// Cuts the ribbon of a lane into strips; `of` maps cross sections to points of the skin.
    #[inline(always)]
    fn cut(
        &self,
        skin: &Skin,
        ribbon: usize,
        lane: usize,
        of: &[usize],
        order_depth: f32,
        into: &mut Vec<Strip>,
    ) {
        let count = of.len();
        if self.sound[lane] == 0.0 {
            return;
        }
        // Upright ones from the upper end down.
        let upright = self.upright[lane] > 0.0;
        let turned = upright && self.y[count - 1][lane] < self.y[0][lane];
        let opacity = skin.opacity[ribbon % LANES];
        let mut first = 0;
        while first + 1 < count {
            let mut strip = Strip { opacity, order_depth, upright, ..Strip::default() };
            let taken = (count - first).min(SEGMENTS + 1);
            for k in 0..=SEGMENTS {
                let nth = first + k.min(taken - 1);
                let at = if turned { count - 1 - nth } else { nth };
                let (eight, own) = skin.point(ribbon, of[at]);
                strip.p[k] = Vec2::new(self.x[at][lane], self.y[at][lane]);
                strip.n[k] = Vec2::new(self.across[at][lane], self.along[at][lane]);
                strip.near[k] = eight.near[own];
                strip.base[k] = eight.base[own];
                strip.sun[k] = eight.sunny[own];
            }
            strip.count = taken as u16;
            into.push(strip);
            first += taken - 1;
        }
    }
}

/// All points, in order.
const ALL: [usize; MOST] = {
    let mut all = [0; MOST];
    let mut nth = 0;
    while nth < MOST {
        all[nth] = nth;
        nth += 1;
    }
    all
};

/// Normalises vectors. `otherwise` replaces those without a direction.
#[inline(always)]
fn direction<S: Simd>(simd: S, v: [f32x8<S>; 2], otherwise: [f32x8<S>; 2]) -> [f32x8<S>; 2] {
    let per = f32x8::splat(simd, 1.0) / (v[0] * v[0] + v[1] * v[1]).sqrt();
    let some = per.simd_gt(f32x8::splat(simd, 0.0)) & per.simd_lt(f32x8::splat(simd, f32::INFINITY));
    [some.select(v[0] * per, otherwise[0]), some.select(v[1] * per, otherwise[1])]
}
