//! Water, which mirrors the sky in its waves.

use fearless_simd::f32x8;
use fearless_simd::prelude::*;
use frolic_raster::tile::Row;
use frolic_simd::Simd;

use super::nodes::{Nodes, STEP, Spot, longest};
use super::{Lanes, ROW, Three, WIDE, WaterLight, is_closed, keep, kept, put, square, unit_ways};
use crate::backdrop::lattice::{Octave, RIPPLES, straight};

/// Error of the water's slope that is not seen: the light that it reflects changes by less than a step of colour.
const SLOPE_OFF: f32 = 0.006;

/// Whether every second pixel is enough for all ripples that are larger than a pixel, whose size is at least `finest`, with `step` from node to node.
#[inline(always)]
fn are_wide(waves: f32, step: f32, finest: f32) -> bool {
    let mut are_wide = true;
    for ripple in &RIPPLES {
        // Between two pixels a ripple is off by about the square of its share of a cell, times its slope.
        let share = ripple.scale * step * (2.0 / STEP as f32);
        let is_wide = share < 1.0 && share * share * ripple.weight * waves < SLOPE_OFF;
        are_wide &= is_wide || finest * ripple.scale >= 1.0;
    }
    are_wide
}

/// Whether none of the open pixels needs those that [`Spot::of`] has here.
#[inline(always)]
fn is_unused(open: u64, from: usize, every_second: bool) -> bool {
    if !every_second {
        return is_closed(open, from);
    }
    // Sixteen pixels, and the one before, which lies between two.
    let all = u128::from(open) << 1;
    (all >> (2 * from)) & 0x1_ffff == 0
}

impl Lanes<'_> {
    /// Adds to a slope of the water that of ripples from `first` up to `last`.
    #[inline(always)]
    pub(super) fn ripple<S: Simd>(
        &self,
        simd: S,
        waves: f32,
        (first, last): (usize, usize),
        [px, pz]: [f32x8<S>; 2],
        size: f32x8<S>,
        slope: [f32x8<S>; 2],
    ) -> [f32x8<S>; 2] {
        let finest = size.reduce_min();
        let [mut nx, mut nz] = slope;
        for Octave { scale, weight } in &RIPPLES[first..last] {
            if finest * scale >= 1.0 {
                break;
            }
            let fade = (size * -scale + 1.0).max(size * 0.0) * (weight * waves);
            let [a, c] = self.lattice.lanes(simd, px * *scale, pz * (scale * 2.0));
            (nx, nz) = (nx + a * fade, nz + c * fade);
        }
        [nx, nz]
    }

    /// Paints water: where all ripples are wide, every second pixel, and those between from both beside.
    #[inline(always)]
    pub(super) fn water<S: Simd>(
        &self,
        simd: S,
        water: &WaterLight,
        at: [f32; 2],
        open: u64,
        into: &mut Row,
    ) {
        let plane = self.plane(simd, at, water.level);
        // Coarse ripples are worked out at nodes alone.
        let places @ [px, pz] = self.places_of_nodes(simd, &plane, at);
        let (size, zero) = (f32x8::load_array(simd, plane.0.0[2]), f32x8::splat(simd, 0.0));
        let (step, finest) = (longest(px).max(longest(pz) * 2.0), size.reduce_min());
        let first = straight(&RIPPLES, step);
        let [nx, nz] = self.ripple(simd, water.waves, (0, first), places, size, [zero; 2]);
        let coarse = Nodes([nx.to_array(), nz.to_array()]);
        let every_second = self.focal > 400.0 && are_wide(water.waves, step, finest);
        // In loops of their own, as short ones overlap.
        let end = if every_second { ROW / 2 + WIDE } else { ROW };
        let (mut places, mut slopes) = ([[0.0; ROW]; 2], [[0.0; ROW]; 2]);
        for from in (0..end).step_by(WIDE) {
            if is_unused(open, from, every_second) {
                continue;
            }
            let spot = Spot::of(simd, from, every_second);
            let [px, pz] = self.place(&plane, at, spot);
            let slope = [coarse.at(spot, 0), coarse.at(spot, 1)];
            let (finer, size) = ((first, RIPPLES.len()), plane.sizes(spot)[1]);
            let [nx, nz] = self.ripple(simd, water.waves, finer, [px, pz], size, slope);
            keep(&mut slopes[0], from, nx);
            keep(&mut slopes[1], from, nz);
            keep(&mut places[0], from, px);
            keep(&mut places[1], from, pz);
        }
        let mut half = [[0.0; ROW]; 3];
        for from in (0..end).step_by(WIDE) {
            if is_unused(open, from, every_second) {
                continue;
            }
            let spot = Spot::of(simd, from, every_second);
            let slope = [kept(simd, &slopes[0], from), kept(simd, &slopes[1], from)];
            let place = [kept(simd, &places[0], from), kept(simd, &places[1], from)];
            // Exact, as the sun's glitter is narrow.
            let way = unit_ways(simd, &self.rays_at(spot.across + (at[0] + 0.5), at[1] + 0.5)).0;
            let light = plane.hazed(spot, self.reflected(simd, water, &way, place, slope));
            if every_second {
                for channel in 0..3 {
                    keep(&mut half[channel], from, light[channel]);
                }
            } else {
                put(into, from, light);
            }
        }
        if !every_second {
            return;
        }
        for from in (0..ROW).step_by(WIDE) {
            if is_closed(open, from) {
                continue;
            }
            let mut light = [zero; 3];
            for channel in 0..3 {
                let line = &half[channel];
                let here = kept(simd, line, from / 2);
                let between = (here + kept(simd, line, from / 2 + 1)) * 0.5;
                light[channel] = here.zip_low(between);
            }
            put(into, from, light);
        }
    }

    /// Light of water at a place, whose surface has this slope, towards the eye.
    #[inline(always)]
    pub(super) fn reflected<S: Simd>(
        &self,
        simd: S,
        water: &WaterLight,
        way: &Three<S>,
        [px, pz]: [f32x8<S>; 2],
        [nx, nz]: [f32x8<S>; 2],
    ) -> Three<S> {
        let (zero, one) = (f32x8::splat(simd, 0.0), f32x8::splat(simd, 1.0));
        let [wx, wy, wz] = *way;
        // The way of light mirrored to the eye.
        let ny = one / (nx * nx + nz * nz + 1.0).sqrt();
        let (nx, nz) = (nx * ny, nz * ny);
        let along = wx * nx + wy * ny + wz * nz;
        let twice = along * 2.0;
        let (mx, my, mz) = (wx - nx * twice, (wy - ny * twice).abs(), wz - nz * twice);
        // Schlick, "An Inexpensive BRDF Model" (1994), for water.
        let facing = one - (zero - along).max(zero).min(one);
        let fresnel = square(square(facing)) * facing * 0.98 + 0.02;
        let mut mirrored = self.sky.light(simd, mx, my, mz);
        for lamp in &self.lamps {
            let [lx, ly, lz] = lamp.position;
            let height = ly - water.level;
            let (dx, dz) = (f32x8::splat(simd, lx) - px, f32x8::splat(simd, lz) - pz);
            let off = (dx * dx + dz * dz + height * height).sqrt().max(f32x8::splat(simd, 1e-9));
            let along = ((dx * mx + my * height + dz * mz) / off).max(f32x8::splat(simd, 0.3));
            let a4 = square(square(along));
            let a16 = square(square(a4));
            let share = square(a16) * a16 * square(a4) * a4 * (lamp.power * 0.01);
            for channel in 0..3 {
                mirrored[channel] += share * lamp.colour[channel];
            }
        }
        // The sun in the waves: a broad sheen, as far ripples are smaller than a pixel.
        if let Some(sun) = &self.sun {
            let [tx, ty, tz] = sun.towards;
            let along = mx * tx + my * ty + mz * tz;
            let near = along.max(f32x8::splat(simd, 0.1));
            let a2 = square(near);
            let a8 = square(square(a2));
            let n30 = square(a8) * a8 * square(a2) * a2;
            let near = along.max(f32x8::splat(simd, 0.7));
            let n4 = square(square(near));
            let n64 = square(square(square(square(n4))));
            let n220 = square(n64) * n64 * square(square(n4)) * square(n4) * n4;
            let share = n220 * 3.0 + n30 * 0.15;
            for channel in 0..3 {
                mirrored[channel] += share * sun.light[channel];
            }
        }
        let deep = 1.0 + self.sun.map_or(0.0, |sun| sun.power * 0.6);
        for channel in 0..3 {
            let below = f32x8::splat(simd, water.colour[channel] * deep);
            mirrored[channel] = below + (mirrored[channel] - below) * fresnel;
        }
        mirrored
    }
}
