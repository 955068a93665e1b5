//! Ground out to its shore.

use fearless_simd::f32x8;
use fearless_simd::prelude::*;
use frolic_raster::tile::Row;
use frolic_simd::Simd;

use super::nodes::{Nodes, Spot, longest};
use super::{GroundLight, Lanes, ROW, WIDE, is_closed, keep, kept, put, three};
use crate::backdrop::lattice::{MOTTLING, SHORE, SHORE_ROUGH, straight, sum_of_lanes};
use crate::backdrop::outline::Outlines;
use crate::backdrop::painter::RAYS;

impl Lanes<'_> {
    /// Share of the ground in each pixel of a row across the shore; returns those of the open pixels that have ground, and those that have anything else, by groups.
    #[inline(always)]
    pub(super) fn ashore<S: Simd>(
        &self,
        simd: S,
        ground: &GroundLight,
        [x, y]: [f32; 2],
        open: u64,
        into: &mut [f32; ROW],
    ) -> (u64, u64) {
        let (mut dry, mut beyond) = (0, 0);
        for from in (0..ROW).step_by(WIDE) {
            if is_closed(open, from) {
                continue;
            }
            let share = self.ashore_of(simd, ground, x + from as f32, y);
            into[from..from + WIDE].copy_from_slice(&share.to_array());
            dry |= if share.reduce_max() > 0.0 { 0xff << from } else { 0 };
            beyond |= if share.reduce_min() < 1.0 { 0xff << from } else { 0 };
        }
        (dry, beyond)
    }

    /// Share of each pixel that lies within the shore, by four rays.
    #[inline(always)]
    pub(super) fn ashore_of<S: Simd>(&self, simd: S, ground: &GroundLight, x: f32, y: f32) -> f32x8<S> {
        let outlines = Outlines::shared();
        let [ex, ey, ez] = self.eye;
        let [a, b, c] = self.rays(simd, x + 0.5, y + 0.5);
        let t = f32x8::splat(simd, -ey) / b;
        let zero = f32x8::splat(simd, 0.0);
        let rough = sum_of_lanes(simd, self.lattice, (&SHORE, 0, SHORE.len()), a * t + ex, c * t + ez, zero);
        let rough = (rough * SHORE_ROUGH).to_array();
        let mut share = [0.0f32; WIDE];
        for [dx, dy] in RAYS {
            let [a, b, c] = self.rays(simd, x + dx, y + dy);
            let t = f32x8::splat(simd, -ey) / b;
            let (px, pz) = (a * t + ex, c * t + ez);
            let far = ((px * px + pz * pz).sqrt() * (1.0 / ground.radius)).to_array();
            let (px, pz) = (px.to_array(), pz.to_array());
            for i in 0..WIDE {
                let edge = 1.0 + outlines.shore(px[i], pz[i]) + rough[i];
                share[i] += if far[i] < edge { 0.25 } else { 0.0 };
            }
        }
        f32x8::load_array(simd, share)
    }

    /// Paints ground over a row by its share of each pixel, and sunlight on it.
    #[inline(always)]
    pub(super) fn ground<S: Simd>(
        &self,
        simd: S,
        at: [f32; 2],
        open: u64,
        share: &[f32; ROW],
        into: &mut Row,
        into_sun: &mut Row,
    ) {
        let Some(ground) = &self.ground else { return };
        let plane = self.plane(simd, at, 0.0);
        let one = f32x8::splat(simd, 1.0);
        // Coarse octaves are worked out at nodes alone.
        let ([px, pz], size) =
            (self.places_of_nodes(simd, &plane, at), f32x8::load_array(simd, plane.0.0[1]));
        let first = straight(&MOTTLING, longest(px).max(longest(pz)));
        let coarse = sum_of_lanes(simd, self.lattice, (&MOTTLING, 0, first), px, pz, size);
        let coarse = Nodes([coarse.to_array()]);
        // In two loops, as short ones overlap.
        let (mut places, mut tones) = ([[0.0; ROW]; 2], [0.0; ROW]);
        for from in (0..ROW).step_by(WIDE) {
            if is_closed(open, from) {
                continue;
            }
            let spot = Spot::of(simd, from, false);
            let [px, pz] = self.place(&plane, at, spot);
            let size = plane.sizes(spot)[0];
            let patches = coarse.at(spot, 0)
                + sum_of_lanes(simd, self.lattice, (&MOTTLING, first, MOTTLING.len()), px, pz, size);
            let tone = (patches * ground.mottled + 1.0).max(f32x8::splat(simd, 0.08));
            keep(&mut tones, from, tone);
            keep(&mut places[0], from, px);
            keep(&mut places[1], from, pz);
        }
        for from in (0..ROW).step_by(WIDE) {
            if is_closed(open, from) {
                continue;
            }
            let spot = Spot::of(simd, from, false);
            let [px, pz] = [kept(simd, &places[0], from), kept(simd, &places[1], from)];
            let mut lit = three(simd, self.ambient);
            for lamp in &self.lamps {
                let [lx, ly, lz] = lamp.position;
                let (dx, dz) = (f32x8::splat(simd, lx) - px, f32x8::splat(simd, lz) - pz);
                let off = dx * dx + dz * dz + ly * ly;
                let height = f32x8::splat(simd, ly.max(0.0));
                let facing = height / off.sqrt().max(f32x8::splat(simd, 1e-3));
                let light = f32x8::splat(simd, lamp.power) / (off + lamp.square) * facing;
                for channel in 0..3 {
                    lit[channel] += light * lamp.colour[channel];
                }
            }
            let (tone, share) = (kept(simd, &tones, from), kept(simd, share, from));
            let albedo = [tone * ground.colour[0], tone * ground.colour[1], tone * ground.colour[2]];
            let own = plane.hazed(spot, [albedo[0] * lit[0], albedo[1] * lit[1], albedo[2] * lit[2]]);
            for channel in 0..3 {
                let under = f32x8::from_slice(simd, &into[channel][from..from + WIDE]);
                let light = under * (one - share) + own[channel] * share;
                into[channel][from..from + WIDE].copy_from_slice(&light.to_array());
            }
            if let Some(sun) = &self.sun {
                let clear = plane.clear(spot) * share;
                let mut sunlit = albedo;
                for channel in 0..3 {
                    sunlit[channel] = albedo[channel] * clear * (sun.light[channel] * sun.towards[1]);
                }
                put(into_sun, from, sunlit);
            }
        }
    }
}
