//! Points of a mesh, or of up to eight ribbons side by side, eight at a time: placed, lit, and put on the screen.

use fearless_simd::f32x8;
use fearless_simd::prelude::*;
use frolic_simd::kernel;
use glam::Vec3;

use crate::camera::Camera;
use crate::colour9::pack_lanes;
use crate::{LANES, Lanes};

/// Eight points, column by column.
#[derive(Debug, Clone, Copy, Default)]
pub struct Eight {
    /// Position, in metres.
    pub at: [Lanes; 3],
    /// Normal, unit length.
    pub normal: [Lanes; 3],
    /// Texture coordinates; along a ribbon the second is the fraction of its length.
    pub corner: [Lanes; 2],
    /// Half the width of a ribbon, in metres.
    pub radius: Lanes,
    /// Colour times opacity, without the sun where sunlight is kept apart.
    pub colour: [Lanes; 3],
    /// Sunlight times colour and opacity.
    pub sun: [Lanes; 3],
    /// Column on the screen, in pixels.
    pub x: Lanes,
    /// Row on the screen, in pixels.
    pub y: Lanes,
    /// Depth along the view, in metres.
    pub depth: Lanes,
    /// Value of the depth test: greater is nearer.
    pub near: Lanes,
    /// Pixels a metre.
    pub scale: Lanes,
    /// Packed colour of the surface without the sun.
    pub base: [u32; LANES],
    /// Packed sunlight on the surface.
    pub sunny: [u32; LANES],
}

/// Points of one mesh, or of several ribbons of one length.
#[derive(Debug, Default)]
pub struct Skin {
    /// Points. Those beyond [`Skin::used`] are unused.
    pub eights: Vec<Eight>,
    /// Points of each instance.
    pub len: usize,
    /// Number of ribbons side by side, one in each lane; 0 for a mesh, whose points fill all lanes. Unused lanes are filled too.
    pub ribbons: usize,
    /// Opacity of each lane's instance; 0 for additive ones.
    pub opacity: Lanes,
    /// Colour times opacity of each lane's instance.
    pub own: [Lanes; 3],
    /// 1 if all points of a lane are in front of the camera. [`project`] computes it.
    pub in_front: Lanes,
}

kernel! {
    /// Computes a skin's positions on the screen and depths, and its packed colours if they are wanted.
    pub fn project(simd, skin: &mut Skin, view: &Camera, coloured: bool) {
        skin.project(simd, view, coloured);
    }
}

impl Skin {
    /// Reserves `len` points of a mesh, or of each of some ribbons. Their values are undefined.
    #[inline(always)]
    pub fn start(&mut self, len: usize, ribbons: usize) {
        (self.len, self.ribbons) = (len, ribbons);
        let eights = self.used();
        if self.eights.len() < eights {
            self.eights.resize(eights, Eight::default());
        }
    }

    #[inline(always)]
    /// Number of eights that hold its points.
    pub fn used(&self) -> usize {
        if self.ribbons > 0 { self.len } else { self.len.div_ceil(LANES) }
    }

    /// The eights that hold its points.
    #[inline(always)]
    pub fn eights(&mut self) -> &mut [Eight] {
        let used = self.used();
        &mut self.eights[..used]
    }

    /// Returns a point as its eight and lane. A mesh has one instance.
    #[inline(always)]
    pub fn point(&self, instance: usize, nth: usize) -> (&Eight, usize) {
        if self.ribbons > 0 {
            (&self.eights[nth], instance % LANES)
        } else {
            (&self.eights[nth / LANES], nth % LANES)
        }
    }

    #[inline(always)]
    fn project<S: Simd>(&mut self, simd: S, view: &Camera, coloured: bool) {
        let [cx, cy] = view.middle;
        let (right, up, forward, eye) = (view.right, view.up, view.forward, view.eye);
        let near = f32x8::splat(simd, view.near);
        let (zero, one) = (f32x8::splat(simd, 0.0), f32x8::splat(simd, 1.0));
        let opacity = f32x8::load_array(simd, self.opacity);
        let per = opacity.simd_gt(zero).select(opacity, one);
        let mut in_front = one;
        for eight in self.eights() {
            let [x, y, z] = load(simd, &eight.at);
            let (dx, dy, dz) = (x - eye.x, y - eye.y, z - eye.z);
            let depth = dx * forward.x + dy * forward.y + dz * forward.z;
            let focal = f32x8::splat(simd, view.focal);
            let (scale, nearness) =
                if view.level { (focal, zero - depth) } else { (focal / depth, one / depth) };
            (cx + (dx * right.x + dy * right.y + dz * right.z) * scale).store_slice(&mut eight.x);
            (cy - (dx * up.x + dy * up.y + dz * up.z) * scale).store_slice(&mut eight.y);
            depth.store_slice(&mut eight.depth);
            nearness.store_slice(&mut eight.near);
            scale.store_slice(&mut eight.scale);
            // Written so that not a number is in front of nothing.
            in_front = depth.simd_gt(near).select(in_front, zero);
            if !coloured {
                continue;
            }
            let [r, g, b] = load(simd, &eight.colour);
            pack_lanes(simd, [r / per, g / per, b / per]).store_slice(&mut eight.base);
            let [r, g, b] = load(simd, &eight.sun);
            pack_lanes(simd, [r / per, g / per, b / per]).store_slice(&mut eight.sunny);
        }
        self.in_front = in_front.to_array();
    }
}

/// Three columns.
#[inline(always)]
pub(crate) fn load<S: Simd>(simd: S, columns: &[Lanes; 3]) -> [f32x8<S>; 3] {
    let [x, y, z] = columns;
    [f32x8::load_array(simd, *x), f32x8::load_array(simd, *y), f32x8::load_array(simd, *z)]
}

/// Stores three columns.
#[inline(always)]
pub(crate) fn keep<S: Simd>(value: [f32x8<S>; 3], columns: &mut [Lanes; 3]) {
    let [x, y, z] = columns;
    value[0].store_slice(x);
    value[1].store_slice(y);
    value[2].store_slice(z);
}

#[inline(always)]
/// A vector in every lane.
pub(crate) fn splat<S: Simd>(simd: S, v: Vec3) -> [f32x8<S>; 3] {
    [f32x8::splat(simd, v.x), f32x8::splat(simd, v.y), f32x8::splat(simd, v.z)]
}

/// Sums.
#[inline(always)]
pub(crate) fn add<S: Simd>(a: [f32x8<S>; 3], b: [f32x8<S>; 3]) -> [f32x8<S>; 3] {
    [a[0] + b[0], a[1] + b[1], a[2] + b[2]]
}

#[inline(always)]
/// Scalar products.
pub(crate) fn dot<S: Simd>(a: [f32x8<S>; 3], b: [f32x8<S>; 3]) -> f32x8<S> {
    a[0] * b[0] + a[1] * b[1] + a[2] * b[2]
}

#[inline(always)]
/// Vector products.
pub(crate) fn cross<S: Simd>(a: [f32x8<S>; 3], b: [f32x8<S>; 3]) -> [f32x8<S>; 3] {
    [a[1] * b[2] - a[2] * b[1], a[2] * b[0] - a[0] * b[2], a[0] * b[1] - a[1] * b[0]]
}

/// Vectors made one long; up where they have no direction.
#[inline(always)]
pub(crate) fn unit<S: Simd>(simd: S, v: [f32x8<S>; 3]) -> [f32x8<S>; 3] {
    let (zero, one) = (f32x8::splat(simd, 0.0), f32x8::splat(simd, 1.0));
    let per = one / dot(v, v).sqrt();
    let sound = per.simd_gt(zero) & per.simd_lt(f32x8::splat(simd, f32::INFINITY));
    [sound.select(v[0] * per, zero), sound.select(v[1] * per, one), sound.select(v[2] * per, zero)]
}
