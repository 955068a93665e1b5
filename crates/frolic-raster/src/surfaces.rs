//! Points of meshes and ribbons: placed and lit, eight at a time.

use fearless_simd::f32x8;
use fearless_simd::prelude::*;
use frolic_simd::kernel;
use glam::{Mat3, Vec3};

use crate::light::{Light, Surface};
use crate::points::{Skin, cross, keep, load, splat, unit};
use crate::{LANES, Lanes};

/// Eight vertices of a mesh.
#[derive(Debug, Clone, PartialEq)]
pub struct MeshEight {
    /// Places, in the mesh's own axes.
    pub position: [Lanes; 3],
    /// Normals, unit length.
    pub normal: [Lanes; 3],
    /// Places in a texture, 0..1.
    pub uv: [Lanes; 2],
}

/// How points are lit and coloured.
#[derive(Debug, Clone, Copy)]
pub struct Paint<'a> {
    /// How the surface takes light.
    pub surface: Surface,
    /// True if sunlight is kept apart, as shadows may fall on it.
    pub apart: bool,
    /// Strength of the haze, 0 to 1.
    pub hazed: f32,
    /// Factors on the colour from root to tip, evenly spaced; none for a constant colour.
    pub along: Option<&'a [[f32; 3]]>,
    /// Viewpoint, in metres.
    pub eye: Vec3,
    /// Lights.
    pub light: Light<'a>,
}

impl Paint<'_> {
    #[inline(always)]
    fn factor(gradient: &[[f32; 3]], share: f32) -> [f32; 3] {
        let row = (share.clamp(0.0, 1.0) * (gradient.len() - 1) as f32 + 0.5) as usize;
        gradient[row.min(gradient.len() - 1)]
    }
}

/// Ribbons of one look and length that are computed side by side.
#[derive(Debug, Clone, Copy, Default)]
pub struct Sheaf {
    /// Number of ribbons.
    pub len: usize,
    /// Root, control point and tip. The last two are relative to the root.
    pub curve: [[Lanes; 3]; 3],
    /// Half the width at the root, in metres.
    pub size: Lanes,
    /// Colour times opacity.
    pub own: [Lanes; 3],
    /// Opacity; 0 for additive ribbons.
    pub opacity: Lanes,
    /// Direction that blades face, along x and z; 0 for ribbons that face the viewpoint.
    pub facing: [Lanes; 2],
}

/// Shape of a ribbon.
#[derive(Debug, Clone, Copy)]
pub struct RibbonForm {
    /// Points along it.
    pub points: usize,
    /// Width of the tip over that of the root.
    pub tip: f32,
    /// Fraction by which a blade's normals turn towards the viewpoint.
    pub round: f32,
}

/// Transform of a mesh.
#[derive(Debug, Clone, Copy)]
pub struct Pose {
    /// Rotation.
    pub turn: Mat3,
    /// Scale.
    pub size: f32,
    /// Its origin, in metres.
    pub at: Vec3,
    /// Waves that run along it.
    pub wave: Option<Wave>,
}

/// Waves that run along a mesh from its front (+z) to its back, and grow on the way, in the units of the mesh.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Wave {
    /// Where the front is along z, and 1 over the length from there to the back.
    pub front: f32,
    /// See `front`.
    pub per_length: f32,
    /// Waves along the length.
    pub count: f32,
    /// Swing at the back, along x.
    pub swing: f32,
    /// Turns that the wave has made at the front.
    pub turns: f32,
}

/// A curve that a mesh is bent along.
#[derive(Debug, Clone, Copy)]
pub struct Bend {
    /// Root, control point and tip. The last two are relative to the root, in metres.
    pub curve: [Vec3; 3],
    /// Turn about y, in radians.
    pub turn: f32,
    /// Length from its origin to height 1, in metres.
    pub length: f32,
    /// Factor on its width.
    pub wide: f32,
}

kernel! {
    /// Places the points of a mesh, which `skin` has room for, and lights them with a paint.
    pub fn mesh(simd, skin: &mut Skin, eights: &[MeshEight], pose: &Pose, paint: Option<&Paint<'_>>) {
        for (eight, own) in skin.eights().iter_mut().zip(eights) {
            let (mut place, mut normal) = (load(simd, &own.position), load(simd, &own.normal));
            if let Some(wave) = &pose.wave {
                swing(simd, wave, &mut place, &mut normal);
            }
            let [x, y, z] = turned(&pose.turn, place);
            let size = pose.size;
            let at = [x * size + pose.at.x, y * size + pose.at.y, z * size + pose.at.z];
            keep(at, &mut eight.at);
            keep(turned(&pose.turn, normal), &mut eight.normal);
            eight.corner = own.uv;
        }
        if let Some(paint) = paint {
            light(simd.level(), skin, paint);
        }
    }

    /// Places the points of a mesh that is bent along a curve, and lights them with a paint.
    pub fn bent_mesh(simd, skin: &mut Skin, eights: &[MeshEight], bend: &Bend, paint: Option<&Paint<'_>>) {
        bent(simd, skin, eights, bend);
        if let Some(paint) = paint {
            light(simd.level(), skin, paint);
        }
    }

    /// Places the points of ribbons that face `eye`, and lights them with a paint.
    pub fn ribbons(simd, skin: &mut Skin, sheaf: &Sheaf, form: RibbonForm, eye: Vec3, paint: Option<&Paint<'_>>) {
        place_ribbons(simd, skin, sheaf, &form, eye);
        if let Some(paint) = paint {
            light(simd.level(), skin, paint);
        }
    }

    /// Computes the colours of points.
    fn light(simd, skin: &mut Skin, paint: &Paint<'_>) {
        light_points(simd, skin, paint);
    }
}

/// Swings points of a mesh to the side, and turns their normals along.
#[inline(always)]
fn swing<S: Simd>(simd: S, wave: &Wave, place: &mut [f32x8<S>; 3], normal: &mut [f32x8<S>; 3]) {
    let (zero, one) = (f32x8::splat(simd, 0.0), f32x8::splat(simd, 1.0));
    // 0 at the front, 1 at the back.
    let along = ((place[2] * -1.0 + wave.front) * wave.per_length).max(zero).min(one);
    // The head yaws a little against the tail; from a third on the swing grows by the square.
    let (sin, cos) =
        (sine(simd, along * -wave.count + wave.turns), sine(simd, along * -wave.count + (wave.turns + 0.25)));
    let grown = along * along * 0.85 + along * 0.1 + 0.05;
    let slope = along * 1.7 + 0.1;
    place[0] += grown * sin * wave.swing;
    // Derivative by z: along falls with z.
    let lean =
        (cos * grown * (wave.count * std::f32::consts::TAU) - slope * sin) * (wave.swing * wave.per_length);
    normal[2] -= normal[0] * lean;
    *normal = unit(simd, *normal);
}

/// Sine of an angle in turns, to a thousandth: a parabola, corrected once.
#[inline(always)]
fn sine<S: Simd>(simd: S, turns: f32x8<S>) -> f32x8<S> {
    // Between -0.5 and 0.5. Rounds by adding a number whose last place is 1.
    let whole = (turns + 12_582_912.0) - 12_582_912.0;
    let part = turns - whole;
    let rough = part * (f32x8::splat(simd, 8.0) - part.abs() * 16.0);
    rough * (rough.abs() * 0.225 + 0.775)
}

/// Bends a mesh along a curve, from its origin to height 1.
#[inline(always)]
fn bent<S: Simd>(simd: S, skin: &mut Skin, eights: &[MeshEight], bend: &Bend) {
    let [root, middle, tip] = bend.curve.map(|at| splat(simd, at));
    let (sin, cos) = libm::sincosf(bend.turn);
    let side = splat(simd, Vec3::new(cos, 0.0, -sin));
    let length = bend.length;
    let (zero, one) = (f32x8::splat(simd, 0.0), f32x8::splat(simd, 1.0));
    for (eight, own) in skin.eights().iter_mut().zip(eights) {
        let [x, y, z] = load(simd, &own.position);
        let t = y.max(zero).min(one);
        let (mut at, along) = on_curve(simd, [root, middle, tip], t);
        // Its own axes there: along the curve, and square to it.
        let along = unit(simd, along);
        let front = unit(simd, cross(side, along));
        let right = cross(along, front);
        let (x, z, beyond) = (x * (length * bend.wide), z * (length * bend.wide), (y - t) * length);
        let [nx, ny, nz] = load(simd, &own.normal);
        let mut normal = along;
        for axis in 0..3 {
            at[axis] = at[axis] + right[axis] * x + front[axis] * z + along[axis] * beyond;
            normal[axis] = right[axis] * nx + along[axis] * ny + front[axis] * nz;
        }
        keep(at, &mut eight.at);
        keep(normal, &mut eight.normal);
        eight.corner = own.uv;
    }
}

/// Colours of points.
#[inline(always)]
fn light_points<S: Simd>(simd: S, skin: &mut Skin, paint: &Paint<'_>) {
    let own = load(simd, &skin.own);
    let Paint { surface, apart, hazed, along, eye, .. } = *paint;
    let is_ribbon = skin.ribbons > 0;
    let opacity = skin.opacity;
    for eight in skin.eights() {
        let (at, normal) = (load(simd, &eight.at), load(simd, &eight.normal));
        let [light, sun] = paint.light.on_surfaces(simd, surface, at, normal, eye);
        let mut factor = [f32x8::splat(simd, 1.0); 3];
        if let Some(gradient) = along.filter(|_| is_ribbon) {
            // All lanes are as far along.
            factor = splat(simd, Vec3::from(Paint::factor(gradient, eight.corner[1][0])));
        } else if let Some(gradient) = along {
            let mut lanes = [[0.0; LANES]; 3];
            for lane in 0..LANES {
                // A mesh runs from the lower edge of its texture to the upper.
                let own = Paint::factor(gradient, 1.0 - eight.corner[1][lane]);
                (lanes[0][lane], lanes[1][lane], lanes[2][lane]) = (own[0], own[1], own[2]);
            }
            factor = load(simd, &lanes);
        }
        let (mut colour, mut sunlit) = (light, sun);
        for channel in 0..3 {
            let own = factor[channel] * own[channel];
            if apart {
                colour[channel] = own * light[channel];
                sunlit[channel] = own * sun[channel];
            } else {
                colour[channel] = own * (light[channel] + sun[channel]);
                sunlit[channel] = f32x8::splat(simd, 0.0);
            }
        }
        if hazed > 0.0 {
            let (tone, per) = paint.light.haze;
            let off = [at[0] - eye.x, at[1] - eye.y, at[2] - eye.z];
            let x = (off[0] * off[0] + off[1] * off[1] + off[2] * off[2]).sqrt() * (per * hazed);
            // An approximation of e^-x, to a fiftieth where it is visible.
            let one = f32x8::splat(simd, 1.0);
            let left = one / (one + x * (one + x * (x * (x * (1.0 / 24.0) + 1.0 / 6.0) + 0.5)));
            let veil = (one - left) * f32x8::load_array(simd, opacity);
            for (channel, tone) in tone.to_array().into_iter().enumerate() {
                colour[channel] = colour[channel] * left + veil * tone;
                sunlit[channel] *= left;
            }
        }
        keep(colour, &mut eight.colour);
        keep(sunlit, &mut eight.sun);
    }
}

/// The points of ribbons.
#[inline(always)]
fn place_ribbons<S: Simd>(simd: S, skin: &mut Skin, sheaf: &Sheaf, form: &RibbonForm, eye: Vec3) {
    skin.start(form.points, sheaf.len);
    (skin.own, skin.opacity) = (sheaf.own, sheaf.opacity);
    let last = (skin.len - 1) as f32;
    let [root, middle, tip] = &sheaf.curve;
    let (root, middle, tip) = (load(simd, root), load(simd, middle), load(simd, tip));
    let size = f32x8::load_array(simd, sheaf.size);
    let one = f32x8::splat(simd, 1.0);
    let faces = sheaf.facing != [[0.0; LANES]; 2];
    for (nth, eight) in skin.eights().iter_mut().enumerate() {
        let t = f32x8::splat(simd, nth as f32 / last);
        let (at, tangent) = on_curve(simd, [root, middle, tip], t);
        let side = cross(tangent, [eye.x - at[0], eye.y - at[1], eye.z - at[2]]);
        keep(at, &mut eight.at);
        let to_eye = unit(simd, cross(side, tangent));
        let normal = if faces {
            // The blade's flat side, perpendicular to its curve and to its width, turned towards the viewpoint where it is round.
            let [x, z] = [f32x8::load_array(simd, sheaf.facing[0]), f32x8::load_array(simd, sheaf.facing[1])];
            let zero = f32x8::splat(simd, 0.0);
            let flat = unit(simd, cross([z, zero, zero - x], tangent));
            let seen = flat[0] * to_eye[0] + flat[1] * to_eye[1] + flat[2] * to_eye[2];
            let sign = seen.simd_lt(zero).select(zero - one, one);
            let (own, round) = (sign * (1.0 - form.round), f32x8::splat(simd, form.round));
            unit(simd, [0, 1, 2].map(|axis| flat[axis] * own + to_eye[axis] * round))
        } else {
            to_eye
        };
        keep(normal, &mut eight.normal);
        t.store_slice(&mut eight.corner[1]);
        ((one + t * (form.tip - 1.0)) * size).store_slice(&mut eight.radius);
    }
}

/// Places on quadratic curves of root, control point and tip (the last two from the root), and half the derivative there.
#[inline(always)]
fn on_curve<S: Simd>(
    simd: S,
    [root, middle, tip]: [[f32x8<S>; 3]; 3],
    t: f32x8<S>,
) -> ([f32x8<S>; 3], [f32x8<S>; 3]) {
    let one = f32x8::splat(simd, 1.0);
    let (of_middle, of_tip, way) = (t * 2.0 * (one - t), t * t, one - t * 2.0);
    let (mut at, mut tangent) = (root, tip);
    for axis in 0..3 {
        at[axis] = root[axis] + middle[axis] * of_middle + tip[axis] * of_tip;
        tangent[axis] = middle[axis] * way + tip[axis] * t;
    }
    (at, tangent)
}

#[inline(always)]
fn turned<S: Simd>(turn: &Mat3, v: [f32x8<S>; 3]) -> [f32x8<S>; 3] {
    let Mat3 { x_axis: x, y_axis: y, z_axis: z } = turn;
    [
        v[0] * x.x + v[1] * y.x + v[2] * z.x,
        v[0] * x.y + v[1] * y.y + v[2] * z.y,
        v[0] * x.z + v[1] * y.z + v[2] * z.z,
    ]
}
