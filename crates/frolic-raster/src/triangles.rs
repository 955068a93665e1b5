//! From the points of a mesh to its plain triangles on the screen, eight at a time: those that face away, lie edge-on or reach no sample are
//! left out.

use fearless_simd::f32x8;
use fearless_simd::prelude::*;
use frolic_simd::kernel;

use crate::LANES;
use crate::points::{Skin, load};
use crate::record::Triangle;
use crate::samples::SAMPLES;

/// Pixels that an outline is widened by, for rounding, before the samples in it are counted.
const ROUNDING: f32 = 1e-3;

/// Which triangles of a mesh are wanted, for which picture.
#[derive(Debug, Clone, Copy)]
pub struct Wanted<'a> {
    /// Corners of each triangle, among the points of the skin.
    pub triangles: &'a [[u16; 3]],
    /// Whether those that face away are left out.
    pub turned_away: bool,
    /// Samples of a pixel: [`SAMPLES`], or 1 for a shadow map.
    pub samples: usize,
    /// Width and height of the picture, in pixels.
    pub size: [usize; 2],
}

kernel! {
    /// Appends the triangles of a skin that reach a sample of the picture. All of its points must be in front of the camera.
    pub fn append(simd, skin: &Skin, wanted: &Wanted<'_>, into: &mut Vec<Triangle>) {
        for eight in wanted.triangles.chunks(LANES) {
            add(simd, skin, eight, wanted, into);
        }
    }
}

#[inline(always)]
fn add<S: Simd>(simd: S, skin: &Skin, triangles: &[[u16; 3]], wanted: &Wanted<'_>, into: &mut Vec<Triangle>) {
    let [mut x, mut y] = [[[0.0f32; LANES]; 3]; 2];
    for (lane, corners) in triangles.iter().take(LANES).enumerate() {
        for k in 0..3 {
            let (eight, own) = skin.point(0, usize::from(corners[k]));
            (x[k][lane], y[k][lane]) = (eight.x[own], eight.y[own]);
        }
    }
    let ([ax, bx, cx], [ay, by, cy]) = (load(simd, &x), load(simd, &y));
    let zero = f32x8::splat(simd, 0.0);
    // Anticlockwise in space is clockwise on the screen, whose y runs down.
    let flat = (bx - ax) * (cy - ay) - (cx - ax) * (by - ay);
    let mut seen = if wanted.turned_away { flat.simd_lt(zero) } else { !flat.simd_eq(zero) };
    let (x0, y0, x1, y1) = (ax.min(bx).min(cx), ay.min(by).min(cy), ax.max(bx).max(cx), ay.max(by).max(cy));
    // Columns and rows of samples are a quarter of a pixel apart, from an eighth on; of a shadow map a texel, from a half on.
    let (per, first) = if wanted.samples == SAMPLES { (4.0, 0.125) } else { (1.0, 0.5) };
    let (low, high) = ([x0, y0], [x1, y1]);
    for axis in 0..2 {
        let (low, high) = (low[axis] - (first + ROUNDING), high[axis] - (first - ROUNDING));
        seen &= (low * per).ceil().simd_le((high * per).floor());
    }
    // And within the picture; written so that what is not a number is not.
    let [w, h] = wanted.size.map(|side| side as f32 + 1.0);
    seen &= x1.simd_gt(zero - 1.0) & y1.simd_gt(zero - 1.0);
    seen &= x0.simd_lt(f32x8::splat(simd, w)) & y0.simd_lt(f32x8::splat(simd, h));
    let infinite = f32x8::splat(simd, f32::INFINITY);
    seen &= x1.simd_lt(infinite)
        & y1.simd_lt(infinite)
        & (zero - x0).simd_lt(infinite)
        & (zero - y0).simd_lt(infinite);
    let mut left = seen.to_bitmask();
    while left != 0 {
        let lane = left.trailing_zeros() as usize % LANES;
        left &= left - 1;
        let mut triangle = Triangle::default();
        for k in 0..3 {
            let (eight, own) = skin.point(0, usize::from(triangles[lane][k]));
            (triangle.x[k], triangle.y[k], triangle.near[k]) = (x[k][lane], y[k][lane], eight.near[own]);
            (triangle.base[k], triangle.sun[k]) = (eight.base[own], eight.sunny[own]);
        }
        into.push(triangle);
    }
}
