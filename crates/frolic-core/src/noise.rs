//! Smooth vector noise for gusts.

use crate::random::{hash3, unit};

/// Adding this rounds a float of magnitude below 2^22 to an integer, held in the low bits; one addition, no
/// conversion, the same on every instruction set.
const ROUND: f32 = 12_582_912.0;

/// Three independent smooth noises in -1..1 at a point of the unit lattice; 0 on average, correlated over
/// about one unit. Value noise on hashed lattice points with a quintic fade (Perlin, "Improving Noise", 2002).
/// Coordinates beyond 2^22 are folded to 0. Eight hashes.
///
/// ```
/// let [a, ..] = frolic_core::gust_noise([0.2, 0.7, 3.1], 7);
/// let [b, ..] = frolic_core::gust_noise([0.2001, 0.7, 3.1], 7);
/// assert!(a.abs() <= 1.0 && (a - b).abs() < 0.01);
/// ```
#[inline(always)]
pub fn gust_noise(point: [f32; 3], seed: u32) -> [f32; 3] {
    let (ix, fx) = cell(point[0]);
    let (iy, fy) = cell(point[1]);
    let (iz, fz) = cell(point[2]);
    let corner = |dx: u32, dy: u32, dz: u32| {
        hash3(ix.wrapping_add(dx) ^ seed, iy.wrapping_add(dy), iz.wrapping_add(dz))
            .map(|bits| unit(bits) * 2.0 - 1.0)
    };
    let edge = |dy, dz| mix(corner(0, dy, dz), corner(1, dy, dz), fx);
    let face = |dz| mix(edge(0, dz), edge(1, dz), fy);
    mix(face(0), face(1), fz)
}

#[inline(always)]
fn cell(x: f32) -> (u32, f32) {
    let x = if x.abs() < 4_000_000.0 { x } else { 0.0 };
    let shifted = (x - 0.5) + ROUND;
    let f = x - (shifted - ROUND);
    (shifted.to_bits().wrapping_sub(ROUND.to_bits()), f * f * f * (f * (f * 6.0 - 15.0) + 10.0))
}

#[inline(always)]
fn mix(a: [f32; 3], b: [f32; 3], t: f32) -> [f32; 3] {
    [a[0] + (b[0] - a[0]) * t, a[1] + (b[1] - a[1]) * t, a[2] + (b[2] - a[2]) * t]
}
