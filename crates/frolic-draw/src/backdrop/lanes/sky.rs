//! Sky, stars, sun and coast.

use fearless_simd::f32x8;
use fearless_simd::prelude::*;
use frolic_raster::tile::Row;
use frolic_simd::Simd;

use super::nodes::{Nodes, Spot, nodes};
use super::noise::{exp, fractal};
use super::{Coast, Lanes, Outline, ROW, Three, WIDE, is_closed, level_of, put, square, three, unit_ways};
use crate::backdrop::outline::Outlines;
use crate::backdrop::painter::RAYS;
use crate::backdrop::stars::{PER_SQUARE, SeenStar};

/// Cosine of the angle to the sun within which its glare bends too much to be drawn as straight pieces.
pub(super) const NEAR_SUN: f32 = 0.95;

#[derive(Debug, Clone, Copy)]
pub(super) struct SkyLight {
    pub(super) zenith: [f32; 3],
    pub(super) horizon: [f32; 3],
    pub(super) afterglow: [f32; 3],
    pub(super) way: [f32; 2],
    pub(super) soft: f32,
    /// Light at the horizon without the afterglow, and the afterglow's share there.
    pub(super) level: [f32; 3],
    pub(super) level_glow: f32,
}

/// Adds a star to the pixels around it, in the row that begins at `x`, `y`.
#[inline(always)]
pub(super) fn add_star<S: Simd>(simd: S, star: &SeenStar, [x, y]: [f32; 2], light: &mut Row) {
    // Eight pixels around it, of which it touches three or four.
    let from = (star.x - x - 3.0).max(0.0).min((ROW - WIDE) as f32) as usize;
    let across =
        f32x8::load_array(simd, [0.5, 1.5, 2.5, 3.5, 4.5, 5.5, 6.5, 7.5]) + (x + from as f32 - star.x);
    let down = y + 0.5 - star.y;
    let share =
        (f32x8::splat(simd, 1.0) - (across * across + down * down) * PER_SQUARE).max(f32x8::splat(simd, 0.0));
    for channel in 0..3 {
        let under = f32x8::from_slice(simd, &light[channel][from..from + WIDE]);
        let sum = under + share * star.light[channel];
        light[channel][from..from + WIDE].copy_from_slice(&sum.to_array());
    }
}

impl SkyLight {
    #[inline(always)]
    pub(super) fn light<S: Simd>(&self, simd: S, x: f32x8<S>, y: f32x8<S>, z: f32x8<S>) -> Three<S> {
        let up = (y + (y * y + self.soft).sqrt()) * 0.5;
        let one = f32x8::splat(simd, 1.0);
        let high = one - exp(simd, up * -5.0);
        let ([zr, zg, zb], [hr, hg, hb]) = (self.zenith, self.horizon);
        let [r, g, b] = [high * (zr - hr) + hr, high * (zg - hg) + hg, high * (zb - hb) + hb];
        if self.afterglow == [0.0; 3] {
            return [r, g, b];
        }
        let towards = (x * self.way[0] + z * self.way[1]).max(one * 0.0);
        let glow = towards * towards * towards * exp(simd, up * -11.0);
        let [ar, ag, ab] = self.afterglow;
        [r + glow * ar, g + glow * ag, b + glow * ab]
    }
}

impl Lanes<'_> {
    /// Paints a row of sky between [`Nodes`]. `false` near the sun, where it bends too much.
    #[inline(always)]
    pub(super) fn sky_between<S: Simd>(&self, simd: S, x: f32, y: f32, light: &mut Row) -> bool {
        let way = unit_ways(simd, &self.rays_at(nodes(simd) + (x + 0.5), y + 0.5)).0;
        if let Some(sun) = self.sun {
            let [tx, ty, tz] = sun.towards;
            if (way[0] * tx + way[1] * ty + way[2] * tz).reduce_max() > NEAR_SUN {
                return false;
            }
        }
        let [r, g, b] = self.sky_and_sun(simd, &way);
        let sky = Nodes([r.to_array(), g.to_array(), b.to_array()]);
        for from in (0..ROW).step_by(WIDE) {
            let spot = Spot::of(simd, from, false);
            put(light, from, [sky.at(spot, 0), sky.at(spot, 1), sky.at(spot, 2)]);
        }
        true
    }

    #[inline(always)]
    pub(super) fn sky_and_sun<S: Simd>(&self, simd: S, way: &Three<S>) -> Three<S> {
        let [x, y, z] = *way;
        let [mut r, mut g, mut b] = self.sky.light(simd, x, y, z);
        if let Some(sun) = self.sun {
            let [tx, ty, tz] = sun.towards;
            let along = x * tx + y * ty + z * tz;
            // Far from the sun powers would be denormal, which is slow.
            let near = along.max(f32x8::splat(simd, 0.05));
            let n4 = square(square(near));
            let n24 = square(square(n4)) * square(n4);
            let near = along.max(f32x8::splat(simd, 0.92));
            let n4 = square(square(near));
            let n128 = square(square(square(square(square(n4)))));
            let n256 = square(n128);
            let share = square(n256) * n256 * n128 * n4 * 6.0 + n24 * 0.10;
            let [lr, lg, lb] = sun.light;
            (r, g, b) = (r + share * lr, g + share * lg, b + share * lb);
        }
        [r, g, b]
    }

    /// Draws the coast over the sky, by four rays a pixel.
    #[inline(always)]
    pub(super) fn coast_over<S: Simd>(
        &self,
        simd: S,
        x: f32,
        y: f32,
        way: &Three<S>,
        outline: Outline,
        behind: Three<S>,
    ) -> Three<S> {
        let Some(coast) = self.coast else { return behind };
        let mut share = [1.0f32; WIDE];
        if outline == Outline::Across {
            share = self.below_outline(simd, coast, x, y);
            if share == [0.0; WIDE] {
                return behind;
            }
        }
        let share = f32x8::load_array(simd, share);
        let [wx, wy, wz] = *way;
        let [sr, sg, sb] = self.sky.light(simd, wx, wy, wz);
        let hills = match self.sun {
            None => [sr * 0.42, sg * 0.42, sb * 0.42],
            Some(sun) => {
                let level = level_of(simd, wx, wz) * 60.0;
                let rough = fractal::<S, 4>(simd, [wx * level, wy * 90.0, wz * level]);
                let lit = (rough * 0.3 + 0.35).max(f32x8::splat(simd, 0.05));
                let mut hills = [sr, sg, sb];
                for channel in 0..3 {
                    let sky = hills[channel];
                    let lit = (lit * sun.light[channel] + self.ambient[channel]) * coast.colour[channel];
                    hills[channel] = sky + (lit - sky) * 0.55;
                }
                hills
            }
        };
        let rest = f32x8::splat(simd, 1.0) - share;
        let [r, g, b] = behind;
        let [hr, hg, hb] = hills;
        [r * rest + hr * share, g * rest + hg * share, b * rest + hb * share]
    }

    /// Share of each pixel that lies below the outline of the coast, by four rays.
    #[inline(always)]
    pub(super) fn below_outline<S: Simd>(&self, simd: S, coast: Coast, x: f32, y: f32) -> [f32; WIDE] {
        let outlines = Outlines::shared();
        let mut share = [0.0f32; WIDE];
        for [dx, dy] in RAYS {
            let [a, b, c] = self.rays(simd, x + dx, y + dy);
            let up = (b / (a * a + b * b + c * c).sqrt()).to_array();
            let (a, c) = (a.to_array(), c.to_array());
            for i in 0..WIDE {
                share[i] += if up[i] < outlines.coast(a[i], c[i]) * coast.height { 0.25 } else { 0.0 };
            }
        }
        share
    }

    /// Sky and coast of a row below the horizon without water.
    #[inline(always)]
    pub(super) fn sky_beyond<S: Simd>(&self, simd: S, [x, y]: [f32; 2], open: u64, into: &mut Row) {
        for from in (0..ROW).step_by(WIDE) {
            if is_closed(open, from) {
                continue;
            }
            let left = x + from as f32;
            let way = self.middle(simd, left, y);
            let sky = self.sky_and_sun(simd, &way);
            put(into, from, self.coast_over(simd, left, y, &way, Outline::Across, sky));
        }
    }

    /// Light of the sky at the horizon, which haze has.
    #[inline(always)]
    pub(super) fn haze_of<S: Simd>(&self, simd: S, wx: f32x8<S>, wz: f32x8<S>) -> Three<S> {
        let ([r, g, b], sky) = (self.sky.level, &self.sky);
        if sky.afterglow == [0.0; 3] {
            return three(simd, [r, g, b]);
        }
        let towards =
            (wx * sky.way[0] + wz * sky.way[1]).max(f32x8::splat(simd, 0.0)) * level_of(simd, wx, wz);
        let glow = towards * towards * towards * sky.level_glow;
        let [ar, ag, ab] = sky.afterglow;
        [glow * ar + r, glow * ag + g, glow * ab + b]
    }
}
