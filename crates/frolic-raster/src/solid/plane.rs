//! Linear functions over the picture: edges, nearness and colours of polygons, and paths along upright strips.

use fearless_simd::prelude::*;
use fearless_simd::{f32x8, u32x8};
use glam::Vec2;

use crate::LANES;
use crate::colour9::unpack_lanes;
use crate::record::{SEGMENTS, Strip};
use crate::samples::{PLACES, SAMPLES};

/// A linear function over the picture.
#[derive(Debug, Clone, Copy, Default)]
pub struct Plane {
    /// Change for a pixel to the right.
    pub dx: f32,
    /// Change for a pixel down.
    pub dy: f32,
    /// Value in the corner of the picture.
    pub c: f32,
}

impl Plane {
    /// Through three values at three places; `per` is one over twice the signed area.
    pub(super) fn through(x: [f32; 3], y: [f32; 3], v: [f32; 3], per: f32) -> Self {
        let (v1, v2) = (v[1] - v[0], v[2] - v[0]);
        let dx = (v1 * (y[2] - y[0]) - v2 * (y[1] - y[0])) * per;
        let dy = (v2 * (x[1] - x[0]) - v1 * (x[2] - x[0])) * per;
        Self { dx, dy, c: v[0] - dx * x[0] - dy * y[0] }
    }

    /// From `a` at one place to `b` at another, level across.
    pub(super) fn along(from: Vec2, step: Vec2, a: f32, b: f32) -> Self {
        let (dx, dy) = ((b - a) * step.x, (b - a) * step.y);
        Self { dx, dy, c: a - dx * from.x - dy * from.y }
    }

    /// At eight places.
    #[inline(always)]
    pub(super) fn at<S: Simd>(self, x: f32x8<S>, y: f32x8<S>) -> f32x8<S> {
        (y * self.dy + x * self.dx) + self.c
    }
}

/// An edge: positive inside.
#[derive(Debug, Clone, Copy, Default)]
pub struct Edge {
    /// Distance from it, in units of its own; positive inside.
    pub plane: Plane,
    /// Least value that is inside: 0, or the least above 0 where a sample on the edge belongs to the neighbour.
    pub least: f32,
}

impl Edge {
    /// The edge from `a` to `b`, inside on its right as seen with y down; `sign` turns it about.
    pub(super) fn new(a: Vec2, b: Vec2, sign: f32) -> Self {
        // Worked out from the same end whichever way it runs.
        let (from, to, turn) = if (a.x, a.y) < (b.x, b.y) { (a, b, sign) } else { (b, a, -sign) };
        let (dx, dy) = (from.y - to.y, to.x - from.x);
        let c = -(dx * from.x + dy * from.y);
        let plane = Plane { dx: dx * turn, dy: dy * turn, c: c * turn };
        // Two equal corners, as at a tip, make no edge: everything is inside.
        let mine = plane.dx > 0.0 || (plane.dx == 0.0 && plane.dy >= 0.0);
        Self { plane, least: if mine { 0.0 } else { f32::MIN_POSITIVE } }
    }
}

/// Positions of the lanes of a vector of samples, from the upper left of its first pixel.
#[derive(Clone, Copy)]
pub(super) struct Places<S: Simd> {
    pub(super) x: f32x8<S>,
    pub(super) y: f32x8<S>,
    /// The middles of their pixels, down.
    pub(super) middle: f32x8<S>,
}

impl<S: Simd> Places<S> {
    #[inline(always)]
    pub(super) fn of(simd: S, samples: usize) -> Self {
        let [mut x, mut y, mut middle] = [[0.5f32; LANES]; 3];
        for lane in 0..LANES {
            middle[lane] = (lane / samples) as f32 + 0.5;
            let [ox, oy] = if samples == 1 { [0.0; 2] } else { PLACES[lane % SAMPLES] };
            (x[lane], y[lane]) = (0.5 + ox, middle[lane] + oy);
        }
        Self {
            x: f32x8::load_array(simd, x),
            y: f32x8::load_array(simd, y),
            middle: f32x8::load_array(simd, middle),
        }
    }
}

/// A quantity along an upright strip: its value at the upper end and its slope there, and how the slope turns at each cross section
/// within.
#[derive(Debug, Clone, Copy, Default)]
pub(super) struct Path {
    pub(super) start: f32,
    slope: f32,
    turns: [f32; SEGMENTS - 1],
}

impl Path {
    /// Through values at the cross sections; `per` is one over each segment's height, 0 for one that is not there.
    #[inline(always)]
    pub(super) fn new(values: [f32; SEGMENTS + 1], per: [f32; SEGMENTS]) -> Self {
        let mut slopes = [0.0; SEGMENTS];
        for k in 0..SEGMENTS {
            slopes[k] = (values[k + 1] - values[k]) * per[k];
        }
        let turns = [slopes[1] - slopes[0], slopes[2] - slopes[1]];
        Self { start: values[0], slope: slopes[0], turns }
    }

    /// Red, green and blue, then the sun's part if it is kept apart.
    #[inline(always)]
    pub(super) fn of_colours<S: Simd>(simd: S, strip: &Strip, per: [f32; SEGMENTS], sun: bool) -> [Self; 6] {
        let mut packed = [0; LANES];
        packed[..SEGMENTS + 1].copy_from_slice(&strip.base);
        packed[SEGMENTS + 1..].copy_from_slice(&strip.sun);
        let mut paths = [Self::default(); 6];
        for (channel, lanes) in unpack_lanes(u32x8::load_array(simd, packed)).into_iter().enumerate() {
            let [a, b, c, d, e, f, g, h] = lanes.to_array();
            paths[channel] = Self::new([a, b, c, d], per);
            if sun {
                paths[channel + 3] = Self::new([e, f, g, h], per);
            }
        }
        paths
    }

    #[inline(always)]
    pub(super) fn at<S: Simd>(&self, simd: S, below: &[f32x8<S>; SEGMENTS]) -> f32x8<S> {
        let [turn, last] = self.turns;
        f32x8::splat(simd, self.start) + below[0] * self.slope + below[1] * turn + below[2] * last
    }
}

/// How far rows are below the upper end, and below each cross section within if they are.
#[inline(always)]
pub(super) fn below<S: Simd>(simd: S, y: f32x8<S>, from: [f32; SEGMENTS]) -> [f32x8<S>; SEGMENTS] {
    let zero = f32x8::splat(simd, 0.0);
    [y - from[0], (y - from[1]).max(zero), (y - from[2]).max(zero)]
}

#[inline(always)]
/// Greatest whole number that is not above.
pub fn floor(v: f32) -> i32 {
    let whole = v as i32;
    whole.saturating_sub(i32::from(whole as f32 > v))
}

#[inline(always)]
/// Least whole number that is not below.
pub fn ceil(v: f32) -> i32 {
    let whole = v as i32;
    whole.saturating_add(i32::from((whole as f32) < v))
}
