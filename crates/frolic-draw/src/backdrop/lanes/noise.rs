//! Noise and exponentials of eight numbers at once.

use fearless_simd::prelude::*;
use fearless_simd::{f32x8, i32x8, u32x8};
use frolic_simd::Simd;

use super::Three;
use crate::backdrop::lattice::{ROUND, cell_of_lanes, whole};

/// The exponential function of a number of at most 80, to five digits: 2 to a whole power, times a polynomial (Cody and Waite, 1980). Nearly 0 far below 0.
#[inline(always)]
pub(super) fn exp<S: Simd>(simd: S, x: f32x8<S>) -> f32x8<S> {
    let x = x.max(f32x8::splat(simd, -86.0));
    let shifted = x * std::f32::consts::LOG2_E + ROUND;
    let near = shifted - ROUND;
    let r = x - near * 0.693_359_4 + near * 2.121_944_4e-4;
    let p = r * 0.008_333_3 + 0.041_666_6;
    let p = (((p * r + 0.166_666_67) * r + 0.5) * r + 1.0) * r + 1.0;
    let power: f32x8<S> = ((whole(simd, shifted) + 127) << 23).bitcast();
    p * power
}

/// [`frolic_core::random::hash3`] of lanes.
#[inline(always)]
pub(super) fn hash<S: Simd>(simd: S, x: u32x8<S>, y: u32x8<S>, z: u32x8<S>) -> [u32x8<S>; 3] {
    let (factor, more) = (u32x8::splat(simd, 1_664_525), u32x8::splat(simd, 1_013_904_223));
    let (mut x, mut y, mut z) = (x * factor + more, y * factor + more, z * factor + more);
    x += y * z;
    y += z * x;
    z += x * y;
    x ^= x >> 16;
    y ^= y >> 16;
    z ^= z >> 16;
    x += y * z;
    y += z * x;
    z += x * y;
    [x, y, z]
}

/// [`frolic_core::random::unit`] of lanes.
#[inline(always)]
pub(super) fn unit<S: Simd>(bits: u32x8<S>) -> f32x8<S> {
    (bits >> 8).bitcast::<i32x8<S>>().to_float::<f32x8<S>>() * (1.0 / 16_777_216.0)
}

/// [`frolic_core::gust_noise`] of lanes, to the bit.
#[inline(always)]
pub(super) fn noise<S: Simd>(simd: S, [x, y, z]: Three<S>, seed: u32) -> Three<S> {
    let (ix, fx) = cell_of_lanes(simd, x);
    let (iy, fy) = cell_of_lanes(simd, y);
    let (iz, fz) = cell_of_lanes(simd, z);
    let near = face(simd, ix, iy, iz, fx, fy, seed);
    let far = face(simd, ix, iy, iz + 1, fx, fy, seed);
    mix(near, far, fz)
}

#[inline(always)]
pub(super) fn face<S: Simd>(
    simd: S,
    x: u32x8<S>,
    y: u32x8<S>,
    z: u32x8<S>,
    fx: f32x8<S>,
    fy: f32x8<S>,
    seed: u32,
) -> Three<S> {
    let low = mix(corner(simd, x, y, z, seed), corner(simd, x + 1, y, z, seed), fx);
    let high = mix(corner(simd, x, y + 1, z, seed), corner(simd, x + 1, y + 1, z, seed), fx);
    mix(low, high, fy)
}

#[inline(always)]
pub(super) fn corner<S: Simd>(simd: S, x: u32x8<S>, y: u32x8<S>, z: u32x8<S>, seed: u32) -> Three<S> {
    let [a, b, c] = hash(simd, x ^ u32x8::splat(simd, seed), y, z);
    [unit(a) * 2.0 - 1.0, unit(b) * 2.0 - 1.0, unit(c) * 2.0 - 1.0]
}

#[inline(always)]
pub(super) fn mix<S: Simd>(a: Three<S>, b: Three<S>, t: f32x8<S>) -> Three<S> {
    [a[0] + (b[0] - a[0]) * t, a[1] + (b[1] - a[1]) * t, a[2] + (b[2] - a[2]) * t]
}

/// Sum of octaves of smooth noise: as [`super::painter::fractal`].
#[inline(always)]
pub(super) fn fractal<S: Simd, const OCTAVES: u32>(simd: S, [mut x, mut y, mut z]: Three<S>) -> f32x8<S> {
    let (mut sum, mut weight) = (f32x8::splat(simd, 0.0), 0.5);
    for octave in 0..OCTAVES {
        let [value, ..] = noise(simd, [x, y, z], 0x7e44 + octave);
        sum += value * weight;
        weight *= 0.5;
        (x, y, z) = (z * 2.03 + 17.1, y * 2.03 + 17.1, x * -2.03 + 17.1);
    }
    sum
}

#[cfg(test)]
mod tests {
    use frolic_simd::kernel;
    use proptest::prelude::*;

    use super::*;
    use crate::backdrop::lanes::WIDE;

    kernel! {
        /// Exponentials and noise of some numbers.
        fn values(simd, at: &[[f32; WIDE]; 3], into: &mut [[f32; WIDE]; 4]) {
            let at = at.map(|axis| f32x8::load_array(simd, axis));
            let [a, b, c] = noise(simd, at, 7);
            let all = [exp(simd, at[0]), a, b, c];
            for (into, value) in into.iter_mut().zip(all) {
                *into = value.to_array();
            }
        }
    }

    proptest! {
        /// Against the plain functions: noise to the bit, exponentials to five digits.
        #[test]
        fn lanes_are_plain_functions(at in prop::array::uniform3(prop::array::uniform8(-80f32..80.0))) {
            for level in frolic_simd::levels() {
                let mut found = [[0.0; WIDE]; 4];
                values(level, &at, &mut found);
                for i in 0..WIDE {
                    let exact = libm::expf(at[0][i]);
                    prop_assert!((found[0][i] / exact - 1.0).abs() < 6e-6, "{} of {exact}", found[0][i]);
                    let [x, y, z] = at.map(|axis| axis[i]);
                    prop_assert_eq!([found[1][i], found[2][i], found[3][i]], frolic_core::gust_noise([x, y, z], 7));
                }
            }
        }
    }
}
