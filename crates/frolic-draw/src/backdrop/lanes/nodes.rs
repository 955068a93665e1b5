//! Every sixteenth pixel of a row: what changes slowly is worked out there.

use fearless_simd::f32x8;
use fearless_simd::prelude::*;
use frolic_simd::Simd;

use super::noise::exp;
use super::{Lanes, ROW, Three, WIDE, unit_ways};

/// Pixels between [`Nodes`].
pub(super) const STEP: usize = 16;

/// Values at every sixteenth pixel of a row, between which they are as good as straight.
pub(super) struct Nodes<const COUNT: usize>(pub(super) [[f32; WIDE]; COUNT]);

/// Places of nodes in a row.
#[inline(always)]
pub(super) fn nodes<S: Simd>(simd: S) -> f32x8<S> {
    f32x8::load_array(simd, [0.0, 1.0, 2.0, 3.0, 4.0, 4.0, 4.0, 4.0]) * STEP as f32
}

/// Eight pixels of a row between two [`Nodes`].
#[derive(Clone, Copy)]
pub(super) struct Spot<S: Simd> {
    pub(super) nth: usize,
    /// Pixels after that node.
    pub(super) offset: f32x8<S>,
    /// Pixels after the first of the row.
    pub(super) across: f32x8<S>,
}

impl<S: Simd> Spot<S> {
    /// Pixels from `from` on, a multiple of eight; or every second one from `2 * from` on.
    #[inline(always)]
    pub(super) fn of(simd: S, from: usize, every_second: bool) -> Self {
        let lanes = f32x8::load_array(simd, [0.0, 1.0, 2.0, 3.0, 4.0, 5.0, 6.0, 7.0]);
        let (first, lanes) = if every_second { (2 * from, lanes * 2.0) } else { (from, lanes) };
        Self { nth: first / STEP, offset: lanes + (first % STEP) as f32, across: lanes + first as f32 }
    }
}

impl<const COUNT: usize> Nodes<COUNT> {
    #[inline(always)]
    pub(super) fn at<S: Simd>(&self, spot: Spot<S>, which: usize) -> f32x8<S> {
        let [a, b] = [self.0[which][spot.nth], self.0[which][spot.nth + 1]];
        spot.offset * ((b - a) * (1.0 / STEP as f32)) + a
    }
}

/// The longest step between the values of nodes.
#[inline(always)]
pub(super) fn longest<S: Simd>(nodes: f32x8<S>) -> f32 {
    let (nodes, mut longest) = (nodes.to_array(), 0.0f32);
    for nth in 0..ROW / STEP {
        longest = longest.max((nodes[nth + 1] - nodes[nth]).abs());
    }
    longest
}

/// A row on a plane. Its nodes: how many rays long it is to the plane, size of two pixels across and of half a pixel along, the haze's
/// transmittance and its light.
pub(super) struct Plane(pub(super) Nodes<7>);

impl Plane {
    /// Sizes on the plane in metres: of two pixels across, and of half a pixel along.
    #[inline(always)]
    pub(super) fn sizes<S: Simd>(&self, spot: Spot<S>) -> [f32x8<S>; 2] {
        [self.0.at(spot, 1), self.0.at(spot, 2)]
    }

    /// Light through the haze.
    #[inline(always)]
    pub(super) fn hazed<S: Simd>(&self, spot: Spot<S>, light: Three<S>) -> Three<S> {
        let clear = self.clear(spot);
        let mut hazed = light;
        for channel in 0..3 {
            let haze = self.0.at(spot, 4 + channel);
            hazed[channel] = haze + (light[channel] - haze) * clear;
        }
        hazed
    }

    #[inline(always)]
    pub(super) fn clear<S: Simd>(&self, spot: Spot<S>) -> f32x8<S> {
        self.0.at(spot, 3)
    }
}

impl Lanes<'_> {
    /// What rays down to a plane have in common between [`Nodes`].
    #[inline(always)]
    pub(super) fn plane<S: Simd>(&self, simd: S, [x, y]: [f32; 2], level: f32) -> Plane {
        let rays = self.rays_at(nodes(simd) + (x + 0.5), y + 0.5);
        let ([wx, wy, wz], per_ray) = unit_ways(simd, &rays);
        let reach = f32x8::splat(simd, level - self.eye[1]) / rays[1];
        let far = reach / per_ray;
        let clear = exp(simd, far * -self.haze);
        let [r, g, b] = self.haze_of(simd, wx, wz);
        let slant = (wy * -1.0).max(f32x8::splat(simd, 0.01));
        let size = far * (2.0 / self.focal);
        let values = [reach, size, size * 0.25 / slant, clear, r, g, b];
        let mut nodes = [[0.0; WIDE]; 7];
        for (nodes, values) in nodes.iter_mut().zip(values) {
            *nodes = values.to_array();
        }
        Plane(Nodes(nodes))
    }

    /// Where rays meet a plane: x and z.
    #[inline(always)]
    pub(super) fn place<S: Simd>(&self, plane: &Plane, at: [f32; 2], spot: Spot<S>) -> [f32x8<S>; 2] {
        self.reached(at, spot.across, plane.0.at(spot, 0))
    }

    /// Where rays of [`Nodes`] meet a plane.
    #[inline(always)]
    pub(super) fn places_of_nodes<S: Simd>(&self, simd: S, plane: &Plane, at: [f32; 2]) -> [f32x8<S>; 2] {
        self.reached(at, nodes(simd), f32x8::load_array(simd, plane.0.0[0]))
    }

    /// Ends of rays through pixels `across` of the row that begins at `x`, `y`, so many rays long.
    #[inline(always)]
    fn reached<S: Simd>(&self, [x, y]: [f32; 2], across: f32x8<S>, reach: f32x8<S>) -> [f32x8<S>; 2] {
        let [a, _, c] = self.rays_at(across + (x + 0.5), y + 0.5);
        [a * reach + self.eye[0], c * reach + self.eye[2]]
    }
}
