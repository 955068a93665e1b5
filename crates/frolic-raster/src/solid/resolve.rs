//! From samples to pixels: the mean of their colours, with sunlight only where no shadow falls.

use fearless_simd::prelude::*;
use fearless_simd::{f32x8, u32x8};
use glam::Vec3;

use super::plane::Places;
use crate::LANES;
use crate::colour9::{EMPTY, unpack, unpack_lanes};
use crate::samples::{SAMPLES, Samples};
use crate::sun::Sunlight;
use crate::tile::{Row, STRIDE};

impl Samples<'_> {
    #[inline(always)]
    pub(super) fn resolve<S: Simd>(
        &mut self,
        simd: S,
        rows: &mut [Row],
        depth: &mut [[f32; STRIDE]],
        sunlight: &Sunlight<'_>,
    ) -> f32 {
        let mut nearest = f32::INFINITY;
        let places = Places::of(simd, SAMPLES);
        let (one, zero, empty) =
            (f32x8::splat(simd, 1.0), f32x8::splat(simd, 0.0), u32x8::splat(simd, EMPTY));
        let pairs = self.height * SAMPLES / LANES;
        let (nears, _) = self.near.as_chunks::<LANES>();
        let (bases, _) = self.base.as_chunks_mut::<LANES>();
        let (suns, _) = self.sun.as_chunks::<LANES>();
        for (at, ((bases, nears), suns)) in bases.iter_mut().zip(nears).zip(suns).enumerate() {
            let base = u32x8::load_array(simd, *bases);
            let none = base.simd_eq(empty);
            if none.all_true() {
                continue;
            }
            let (i, j) = (at / pairs, at % pairs * 2);
            let near = f32x8::load_array(simd, *nears);
            // Samples of one surface share one lookup of the shadow map, at the centre of their pixel.
            let x = f32x8::splat(simd, (self.x + i as i32) as f32 + 0.5);
            let y = places.middle + (self.y + j as i32) as f32;
            let mut wanted = [false; LANES];
            for lane in 0..LANES {
                wanted[lane] = bases[lane] != EMPTY;
            }
            let lit = f32x8::load_array(simd, sunlight.at(simd, x, y, one / near, wanted, SAMPLES));
            let (own, sun) = (unpack_lanes(base), unpack_lanes(u32x8::load_array(simd, *suns)));
            let mut light = [[0.0; LANES]; 3];
            for channel in 0..3 {
                light[channel] = none.select(zero, own[channel] + sun[channel] * lit).to_array();
            }
            for (pixel, row) in rows[j..].iter_mut().take(2).enumerate() {
                let from = pixel * SAMPLES;
                let mut met = 0.0f32;
                let mut close = 0.0f32;
                for lane in from..from + SAMPLES {
                    if wanted[lane] {
                        met += 0.25;
                        close = close.max(nears[lane]);
                    }
                }
                if met == 0.0 {
                    continue;
                }
                for channel in 0..3 {
                    let of = &light[channel];
                    let sum = (of[from] + of[from + 1]) + (of[from + 2] + of[from + 3]);
                    row[channel][i] = row[channel][i] * (1.0 - met) + sum * 0.25;
                }
                if close > 0.0 {
                    let depth = &mut depth[j + pixel][i];
                    *depth = depth.min(1.0 / close);
                    nearest = nearest.min(*depth);
                }
            }
            *bases = [EMPTY; LANES];
        }
        nearest
    }

    /// [`Samples::resolve`] where no shadow falls: eight pixels down a column at once.
    #[inline(always)]
    pub(super) fn resolve_unshadowed<S: Simd>(
        &mut self,
        simd: S,
        rows: &mut [Row],
        depth: &mut [[f32; STRIDE]],
    ) -> f32 {
        let mut nearest = f32::INFINITY;
        let (zero, empty) = (f32x8::splat(simd, 0.0), u32x8::splat(simd, EMPTY));
        let (nears, _) = self.near.as_chunks::<LANES>();
        let (bases, _) = self.base.as_chunks_mut::<LANES>();
        let (bases, _) = bases.as_chunks_mut::<SAMPLES>();
        let (nears, _) = nears.as_chunks::<SAMPLES>();
        let blocks = self.height / LANES;
        for (at, (bases, nears)) in bases.iter_mut().zip(nears).enumerate() {
            let mut any = u32x8::splat(simd, EMPTY);
            for base in bases.iter() {
                any &= u32x8::load_array(simd, *base);
            }
            if any.simd_eq(empty).all_true() {
                continue;
            }
            // Of each sample: red, green, blue, its share of the pixel, nearness.
            let mut of = [[zero; SAMPLES]; 5];
            for part in 0..SAMPLES {
                let base = u32x8::load_array(simd, bases[part]);
                let none = base.simd_eq(empty);
                let [r, g, b] = unpack_lanes(base);
                of[0][part] = none.select(zero, r);
                of[1][part] = none.select(zero, g);
                of[2][part] = none.select(zero, b);
                of[3][part] = none.select(zero, f32x8::splat(simd, 0.25));
                of[4][part] = none.select(zero, f32x8::load_array(simd, nears[part]));
                bases[part] = [EMPTY; LANES];
            }
            let mut sums = [[0.0; LANES]; 4];
            for quantity in 0..4 {
                let [a, b, c, d] = of[quantity];
                sums[quantity] = by_pairs(by_pairs(a, b), by_pairs(c, d)).to_array();
            }
            let [a, b, c, d] = of[4];
            let (a, b) = (a.unzip_low(b).max(a.unzip_high(b)), c.unzip_low(d).max(c.unzip_high(d)));
            let close = a.unzip_low(b).max(a.unzip_high(b));
            let far = (f32x8::splat(simd, 1.0) / close).to_array();
            let (i, top) = (at / blocks, at % blocks * LANES);
            let below = rows[top..].iter_mut().zip(&mut depth[top..]).take(LANES);
            for (lane, (row, depth)) in below.enumerate() {
                let met = sums[3][lane];
                if met > 0.0 {
                    for channel in 0..3 {
                        row[channel][i] = row[channel][i] * (1.0 - met) + sums[channel][lane] * 0.25;
                    }
                    // Samples without a depth are infinitely far.
                    depth[i] = depth[i].min(far[lane]);
                    nearest = nearest.min(depth[i]);
                }
            }
        }
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

/// Sums of neighbours.
#[inline(always)]
fn by_pairs<S: Simd>(a: f32x8<S>, b: f32x8<S>) -> f32x8<S> {
    a.unzip_low(b) + a.unzip_high(b)
}
