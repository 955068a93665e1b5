//! Light sources for kernels, and the response of surfaces.

use fearless_simd::f32x8;
use fearless_simd::prelude::*;
use frolic_simd::kernel;
use glam::Vec3;

use crate::points::{add, dot, splat, unit};

/// A point light. Its light falls off as `power / (distance² + radius²)`.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Lamp {
    /// Position, in metres.
    pub position: [f32; 3],
    /// Linear colour.
    pub colour: [f32; 3],
    /// Light on a facing wall at 1 m.
    pub power: f32,
    /// Radius of the source, in metres.
    pub radius: f32,
}

impl Lamp {
    /// Fraction of the light that arrives over eight distances, given as vectors in metres.
    #[inline(always)]
    pub fn fall_off<S: Simd>(&self, way: [f32x8<S>; 3]) -> f32x8<S> {
        self.power / (dot(way, way) + self.radius * self.radius)
    }
}

/// All light sources of a picture.
#[derive(Debug, Clone, Copy)]
pub struct Light<'a> {
    /// Lamps.
    pub lamps: &'a [Lamp],
    /// Sunlight on a facing wall; none without a sun.
    pub sun: Option<Vec3>,
    /// Direction towards the sun, unit length. Unused without a sun.
    pub towards_sun: Vec3,
    /// Light from the sky, on surfaces that face up.
    pub ambient: Vec3,
    /// Light reflected by ground or water, on surfaces that face down.
    pub bounce: Vec3,
    /// Haze colour, and the reciprocal of the distance at which two thirds of a colour are gone, in 1/m.
    pub haze: (Vec3, f32),
}

/// How a solid surface responds to light.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Surface {
    /// Fraction of the colour that comes from light.
    pub lit: f32,
    /// Strength of rim light.
    pub rim: f32,
    /// Translucency: fraction of light from behind that shines through thin surfaces.
    pub translucency: f32,
    /// Whether both sides are lit.
    pub two_sided: bool,
    /// Strength of the sun's reflection.
    pub gloss: f32,
}

kernel! {
    /// Light on a surface as factors on its colour: first without the sun, then unshadowed sunlight.
    pub fn on_surface(simd, light: &Light<'_>, surface: Surface, at: Vec3, normal: Vec3, eye: Vec3) -> [Vec3; 2] {
        light
            .on_surfaces(simd, surface, splat(simd, at), splat(simd, normal), eye)
            .map(|light| Vec3::from(light.map(|channel| channel.to_array()[0])))
    }
}

impl Light<'_> {
    /// Light on a round soft element: sky light, and the sun at half its strength.
    pub fn soft_ambient(&self) -> Vec3 {
        self.sun.map_or(self.ambient, |sun| self.ambient + sun * 0.5)
    }

    /// Light on surfaces at eight positions as factors on their colours: first without the sun, then unshadowed sunlight.
    /// Lambert, "Photometria" (1760), with the sky's light from above and the ground's from below.
    #[inline(always)]
    pub fn on_surfaces<S: Simd>(
        &self,
        simd: S,
        surface: Surface,
        at: [f32x8<S>; 3],
        normal: [f32x8<S>; 3],
        eye: Vec3,
    ) -> [[f32x8<S>; 3]; 2] {
        let (zero, one) = (f32x8::splat(simd, 0.0), f32x8::splat(simd, 1.0));
        if surface.lit == 0.0 {
            return [[one; 3], [zero; 3]];
        }
        let view = unit(simd, [eye.x - at[0], eye.y - at[1], eye.z - at[2]]);
        let [mut x, mut y, mut z] = normal;
        if surface.two_sided {
            let away = dot(normal, view).simd_lt(zero);
            (x, y, z) = (away.select(zero - x, x), away.select(zero - y, y), away.select(zero - z, z));
        }
        let normal = [x, y, z];
        let up = y * 0.5 + 0.5;
        let (bounce, ambient) = (splat(simd, self.bounce), splat(simd, self.ambient));
        let mut light = [zero; 3];
        for channel in 0..3 {
            light[channel] = bounce[channel] + (ambient[channel] - bounce[channel]) * up;
        }
        for lamp in self.lamps {
            let [px, py, pz] = lamp.position;
            let to = [px - at[0], py - at[1], pz - at[2]];
            let fall = lamp.fall_off(to);
            let share = facing(simd, dot(normal, unit(simd, to)), surface.translucency) * fall;
            light[0] += share * lamp.colour[0];
            light[1] += share * lamp.colour[1];
            light[2] += share * lamp.colour[2];
        }
        let edge = one - dot(normal, view).abs().min(one);
        let rim = edge * edge * edge * surface.rim;
        let mut sunlight = [zero; 3];
        if let Some(sun) = self.sun {
            let to = splat(simd, self.towards_sun);
            // Against the light the rim glows with it.
            let share =
                facing(simd, dot(normal, to), surface.translucency) + rim * (zero - dot(view, to)).max(zero);
            let share = if surface.gloss > 0.0 {
                share + reflection(dot(normal, unit(simd, add(view, to))).max(zero)) * surface.gloss
            } else {
                share
            };
            let sun = splat(simd, sun);
            for channel in 0..3 {
                sunlight[channel] = sun[channel] * share * surface.lit;
            }
        }
        for channel in 0..3 {
            light[channel] = (light[channel] + ambient[channel] * rim) * surface.lit + (1.0 - surface.lit);
        }
        [light, sunlight]
    }
}

/// Sharpness of a reflection: the cosine of half the angle to the power of 16 (Blinn, "Models of Light Reflection for Computer Synthesized Pictures", 1977).
#[inline(always)]
fn reflection<S: Simd>(cos: f32x8<S>) -> f32x8<S> {
    let square = cos * cos;
    let fourth = square * square;
    let eighth = fourth * fourth;
    eighth * eighth
}

/// Share of light that a surface receives at this cosine; from behind, its translucency.
#[inline(always)]
fn facing<S: Simd>(simd: S, cos: f32x8<S>, translucency: f32) -> f32x8<S> {
    let zero = f32x8::splat(simd, 0.0);
    cos.simd_ge(zero).select(cos, (zero - cos) * translucency)
}
