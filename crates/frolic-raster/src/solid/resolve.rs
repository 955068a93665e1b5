//! From samples to pixels: the mean of their colours, those of visible triangles worked out here, with sunlight only where no shadow falls.

use fearless_simd::prelude::*;
use fearless_simd::{f32x8, u32x8};
use glam::Vec3;

use super::Visible;
use super::triangles::Colours;
use crate::LANES;
use crate::colour9::{EMPTY, unpack, unpack_lanes};
use crate::samples::{SAMPLES, Samples};
use crate::sun::{AS_DEEP, Sunlight};
use crate::tile::{Row, STRIDE};

impl Samples<'_> {
    /// Eight pixels down a column at once. Samples of one colour and depth are lit once for all of them.
    #[inline(always)]
    pub(super) fn resolve<S: Simd>(
        &mut self,
        simd: S,
        visible: &Visible<'_>,
        rows: &mut [Row],
        depth: &mut [[f32; STRIDE]],
        sunlight: Option<&Sunlight<'_>>,
    ) -> f32 {
        let mut nearest = f32::INFINITY;
        let (zero, one, empty) =
            (f32x8::splat(simd, 0.0), f32x8::splat(simd, 1.0), u32x8::splat(simd, EMPTY));
        let (quarter, none) = (f32x8::splat(simd, 1.0 / SAMPLES as f32), u32x8::splat(simd, 0));
        let middles = f32x8::load_array(simd, [0.5, 1.5, 2.5, 3.5, 4.5, 5.5, 6.5, 7.5]);
        let (nears, _) = self.near.as_chunks::<LANES>();
        let (bases, _) = self.base.as_chunks_mut::<LANES>();
        let (suns, _) = self.sun.as_chunks::<LANES>();
        let (bases, _) = bases.as_chunks_mut::<SAMPLES>();
        let (nears, _) = nears.as_chunks::<SAMPLES>();
        let (suns, _) = suns.as_chunks::<SAMPLES>();
        let blocks = self.height / LANES;
        let mut colours = Colours::new(visible, sunlight.is_some());
        for (at, (bases, nears)) in bases.iter_mut().zip(nears).enumerate() {
            let mut any = empty;
            for base in bases.iter() {
                any &= u32x8::load_array(simd, *base);
            }
            if any.simd_eq(empty).all_true() {
                continue;
            }
            let (i, top) = (at / blocks, at % blocks * LANES);
            let base = by_sample(bases.map(|base| u32x8::load_array(simd, base)));
            *bases = [[EMPTY; LANES]; SAMPLES];
            let near = by_sample(nears.map(|near| f32x8::load_array(simd, near).bitcast::<u32x8<S>>()));
            let sun = suns.get(at).filter(|_| sunlight.is_some());
            let sun = sun.map_or(base, |sun| by_sample(sun.map(|sun| u32x8::load_array(simd, sun))));
            let x = f32x8::splat(simd, (self.x + i as i32) as f32 + 0.5);
            let y = middles + (self.y + top as i32) as f32;
            let [base, sun] = colours.of(simd, [base, sun], [x, y]);
            // Samples that are not done yet.
            let mut left = [empty.simd_eq(empty); SAMPLES];
            for s in 0..SAMPLES {
                left[s] = !base[s].simd_eq(empty);
            }
            // Neighbouring samples of one surface share one lookup of the shadow map, in the middle of their pixel.
            let (mut lit, mut lit_depth) = (one, f32x8::splat(simd, f32::INFINITY));
            let (mut sums, mut met, mut close) = ([zero; 3], zero, zero);
            for s in 0..SAMPLES {
                let mine = left[s];
                if !mine.any_true() {
                    continue;
                }
                let near_here: f32x8<S> = near[s].bitcast();
                let mut colour = unpack_lanes(base[s]);
                let mut share = mine.select(quarter, zero);
                close = close.max(mine.select(near_here, zero));
                for other in s + 1..SAMPLES {
                    let near_other: f32x8<S> = near[other].bitcast();
                    let mut same = mine & left[other] & base[other].simd_eq(base[s]);
                    if sunlight.is_some() {
                        let alike = (near_other - near_here).abs().simd_le(near_other * AS_DEEP);
                        same &= alike & sun[other].simd_eq(sun[s]);
                    }
                    share += same.select(quarter, zero);
                    close = close.max(same.select(near_other, zero));
                    left[other] &= !same;
                }
                if let Some(sunlight) = sunlight {
                    let depth = one / near_here;
                    let lightless = sun[s].simd_eq(none);
                    let wanted = mine & !(lightless | (lit_depth - depth).abs().simd_le(depth * AS_DEEP));
                    if wanted.any_true() {
                        lit = wanted.select(sunlight.at(simd, x, y, depth, wanted), lit);
                    }
                    lit_depth = (mine & !lightless).select(depth, lit_depth);
                    let sun = unpack_lanes(sun[s]);
                    for channel in 0..3 {
                        colour[channel] += sun[channel] * lit;
                    }
                }
                for channel in 0..3 {
                    sums[channel] += colour[channel] * share;
                }
                met += share;
            }
            let (sums, met) = ([sums[0].to_array(), sums[1].to_array(), sums[2].to_array()], met.to_array());
            let far = (one / close).to_array();
            let below = rows[top..].iter_mut().zip(&mut depth[top..]).take(LANES);
            for (lane, (row, depth)) in below.enumerate() {
                if met[lane] > 0.0 {
                    for channel in 0..3 {
                        row[channel][i] = row[channel][i] * (1.0 - met[lane]) + sums[channel][lane];
                    }
                    // Samples without a depth are infinitely far.
                    depth[i] = depth[i].min(far[lane]);
                    nearest = nearest.min(depth[i]);
                }
            }
        }
        self.shaded += colours.shaded;
        nearest
    }

    /// Blends one transparent instance of a mesh or ribbon: only its nearest surface, by its opacity. `bounds` limits where it can be.
    pub fn flatten(&mut self, rows: &mut [Row], opacity: f32, glow: bool, bounds: [i32; 4]) {
        for i in (bounds[0] - self.x) as usize..=(bounds[2] - self.x) as usize {
            for j in (bounds[1] - self.y) as usize..=(bounds[3] - self.y) as usize {
                let at = (i * self.height + j) * SAMPLES;
                let mut sum = Vec3::ZERO;
                let mut met = 0.0f32;
                for here in at..at + SAMPLES {
                    if self.base[here] != EMPTY {
                        sum += Vec3::from(unpack(self.base[here]));
                        met += 0.25;
                        self.base[here] = EMPTY;
                    }
                }
                if met > 0.0 {
                    let share = if glow { 1.0 } else { opacity };
                    let keep = if glow { 1.0 } else { 1.0 - met * opacity };
                    for channel in 0..3 {
                        let pixel = &mut rows[j][channel][i];
                        *pixel = *pixel * keep + sum[channel] * (0.25 * share);
                    }
                }
            }
        }
    }
}

/// From the samples of two pixels a vector to one sample of eight pixels a vector.
#[inline(always)]
fn by_sample<S: Simd>([a, b, c, d]: [u32x8<S>; SAMPLES]) -> [u32x8<S>; SAMPLES] {
    let (even, even_below) = (a.unzip_low(b), c.unzip_low(d));
    let (odd, odd_below) = (a.unzip_high(b), c.unzip_high(d));
    [
        even.unzip_low(even_below),
        odd.unzip_low(odd_below),
        even.unzip_high(even_below),
        odd.unzip_high(odd_below),
    ]
}
