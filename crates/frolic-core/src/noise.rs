//! Smooth vector noise for gusts.

use crate::random::{hash3, unit};

/// Adding this rounds a float of magnitude below 2^22 to an integer, held in the low bits; one addition, no
/// conversion, the same on every instruction set.
pub(crate) const ROUND: f32 = 12_582_912.0;

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
    // No closures and no array methods from here on: this is inlined into vectorised loops.
    let (x0, x1) = (ix ^ seed, ix.wrapping_add(1) ^ seed);
    let (y1, z1) = (iy.wrapping_add(1), iz.wrapping_add(1));
    let near = face(x0, x1, iy, y1, iz, fx, fy);
    let far = face(x0, x1, iy, y1, z1, fx, fy);
    mix(near, far, fz)
}

/// Between the four corners of a lattice cell's face.
#[inline(always)]
fn face(x0: u32, x1: u32, y0: u32, y1: u32, z: u32, fx: f32, fy: f32) -> [f32; 3] {
    let low = mix(corner(x0, y0, z), corner(x1, y0, z), fx);
    let high = mix(corner(x0, y1, z), corner(x1, y1, z), fx);
    mix(low, high, fy)
}

/// The three values of a lattice point, -1..1.
#[inline(always)]
fn corner(x: u32, y: u32, z: u32) -> [f32; 3] {
    let [a, b, c] = hash3(x, y, z);
    [unit(a) * 2.0 - 1.0, unit(b) * 2.0 - 1.0, unit(c) * 2.0 - 1.0]
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
