//! Smooth vector noise for gusts.

use fearless_simd::f32x8;
use fearless_simd::prelude::*;

use crate::foundations::random::{hash3, unit};

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
    within_cell([ix, iy, iz], [fx, fy, fz], seed)
}

/// The noise in a lattice cell, interpolated step by step towards its other corners.
#[inline(always)]
fn within_cell([ix, iy, iz]: [i32; 3], [fx, fy, fz]: [f32; 3], seed: u32) -> [f32; 3] {
    // No closures and no array methods from here on: this is inlined into vectorised loops.
    let near = face(ix, iy, iz, fx, fy, seed);
    let far = face(ix, iy, iz + 1, fx, fy, seed);
    mix(near, far, fz)
}

/// Interpolates between the four corners of a face of a lattice cell.
#[inline(always)]
fn face(x: i32, y: i32, z: i32, fx: f32, fy: f32, seed: u32) -> [f32; 3] {
    let low = mix(corner(x, y, z, seed), corner(x + 1, y, z, seed), fx);
    let high = mix(corner(x, y + 1, z, seed), corner(x + 1, y + 1, z, seed), fx);
    mix(low, high, fy)
}

/// The three values of a lattice point, -1..1.
#[inline(always)]
fn corner(x: i32, y: i32, z: i32, seed: u32) -> [f32; 3] {
    let [a, b, c] = hash3(x as u32 ^ seed, y as u32, z as u32);
    [unit(a) * 2.0 - 1.0, unit(b) * 2.0 - 1.0, unit(c) * 2.0 - 1.0]
}

#[inline(always)]
fn cell(x: f32) -> (i32, f32) {
    let x = if x.abs() < 4_000_000.0 { x } else { 0.0 };
    let shifted = (x - 0.5) + ROUND;
    let f = x - (shifted - ROUND);
    (shifted.to_bits().wrapping_sub(ROUND.to_bits()) as i32, f * f * f * (f * (f * 6.0 - 15.0) + 10.0))
}

#[inline(always)]
fn mix(a: [f32; 3], b: [f32; 3], t: f32) -> [f32; 3] {
    [a[0] + (b[0] - a[0]) * t, a[1] + (b[1] - a[1]) * t, a[2] + (b[2] - a[2]) * t]
}

/// Maximum number of places for [`gust_noises`].
pub(crate) const PLACES: usize = 256;

/// Maximum number of pairs of lattice points, one above the other along z, that a call of [`gust_noises`] shares between places.
const PAIRS: usize = 128;

/// [`gust_noise`] at the first places of a slice, to the bit; the fourth number is unused. Where places lie in few cells, the corners
/// of those cells are hashed once for all places. Overwrites the places.
#[inline(always)]
pub(crate) fn gust_noises<S: Simd>(
    simd: S,
    places: &mut [[f32; PLACES]; 3],
    count: usize,
    seed: u32,
    into: &mut [[f32; 4]; PLACES],
) {
    let mut cells = [[0; PLACES]; 3];
    let mut low = [0; 3];
    let mut across = [0; 3];
    for axis in 0..3 {
        let (places, cells) = (&mut places[axis][..count], &mut cells[axis][..count]);
        let (mut least, mut most) = (i32::MAX, i32::MIN);
        for i in 0..count {
            let (at, faded) = cell(places[i]);
            (cells[i], places[i]) = (at, faded);
            (least, most) = (least.min(at), most.max(at));
        }
        (low[axis], across[axis]) = (least, most.abs_diff(least) as usize + 2);
    }
    let [wide, high, deep] = across;
    let points = wide.saturating_mul(high).saturating_mul(deep);
    let [fx, fy, fz] = places;
    let (fx, fy, fz) = (&fx[..count], &fy[..count], &fz[..count]);
    // One point alone costs as much as three side by side.
    if points > count * 3 || points - wide * high > PAIRS {
        let [x, y, z] = &cells;
        let (x, y, z, into) = (&x[..count], &y[..count], &z[..count], &mut into[..count]);
        for i in 0..count {
            let [a, b, c] = within_cell([x[i], y[i], z[i]], [fx[i], fy[i], fz[i]], seed);
            into[i] = [a, b, c, 0.0];
        }
        return;
    }
    let mut pairs = [[0.0; 8]; PAIRS];
    let layer = wide * high;
    for k in 0..deep {
        for j in 0..high {
            for i in 0..wide {
                let [x, y, z] = [low[0] + i as i32, low[1] + j as i32, low[2] + k as i32];
                let [a, b, c] = corner(x, y, z, seed);
                let at = k * layer + j * wide + i;
                if k + 1 < deep {
                    pairs[at][..3].copy_from_slice(&[a, b, c]);
                }
                if k > 0 {
                    pairs[at - layer][4..7].copy_from_slice(&[a, b, c]);
                }
            }
        }
    }
    let [x, y, z] = &mut cells;
    let (x, y, z, into) = (&mut x[..count], &y[..count], &z[..count], &mut into[..count]);
    for i in 0..count {
        x[i] = ((z[i] - low[2]) * high as i32 + (y[i] - low[1])) * wide as i32 + (x[i] - low[0]);
    }
    for i in 0..count {
        let (one, two) = (x[i] as usize, x[i] as usize + wide);
        let (fx, fy) = (f32x8::splat(simd, fx[i]), f32x8::splat(simd, fy[i]));
        let low = pair(simd, &pairs, one);
        let low = low + (pair(simd, &pairs, one + 1) - low) * fx;
        let high = pair(simd, &pairs, two);
        let high = high + (pair(simd, &pairs, two + 1) - high) * fx;
        let (near, far) = (low + (high - low) * fy).split();
        into[i] = (near + (far - near) * fz[i]).into();
    }
}

/// A pair in the list: the remainder only tells the compiler that it is in range.
#[inline(always)]
fn pair<S: Simd>(simd: S, pairs: &[[f32; 8]; PAIRS], at: usize) -> f32x8<S> {
    f32x8::load_array_ref(simd, &pairs[at % PAIRS])
}
