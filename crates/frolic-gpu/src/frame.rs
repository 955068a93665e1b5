//! What a whole frame shares, packed as `shaders/frame.wgsl` lays it out.

use frolic_draw::View;
use frolic_draw::backend::{Lighting, NEAR, ViewParts};
use glam::Vec3;

use crate::device::Words;

/// How depths become the z of clip space: `x` times the depth and `y`.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(crate) struct ClipZ {
    pub(crate) x: f32,
    pub(crate) y: f32,
}

/// Reversed and endless: the near plane at 1, and 0 infinitely far.
pub(crate) const ENDLESS: ClipZ = ClipZ { x: 0.0, y: NEAR };

/// The sun's map, made ready.
#[derive(Debug, Clone, Copy)]
pub(crate) struct SunMap {
    pub(crate) view: View,
    /// Side of a texel, m.
    pub(crate) texel: f32,
    pub(crate) z: ClipZ,
}

impl SunMap {
    /// Depths from `-reach` to `reach` m about the sun's eye fall into the map.
    pub(crate) fn new(view: View, texel: f32, reach: f32) -> Self {
        Self { view, texel, z: ClipZ { x: -0.5 / reach, y: 0.5 } }
    }

    /// Most that a slanting surface is moved off, sixteen texels, in the map's z.
    pub(crate) fn most_slope(&self) -> f32 {
        self.texel * 16.0 * self.z.x.abs()
    }
}

/// Who sees: the camera's own view, or the sun's.
pub(crate) struct Seen<'a> {
    pub(crate) view: &'a View,
    pub(crate) camera: &'a View,
    pub(crate) z: ClipZ,
    /// The map, where shadows fall.
    pub(crate) map: Option<&'a SunMap>,
    pub(crate) lighting: &'a Lighting<'a>,
    pub(crate) time: f32,
    /// For a pass of somebody else's.
    pub(crate) exposure: f32,
    /// Most that a slanting surface is moved off in a map, in its z.
    pub(crate) most_slope: f32,
}

fn eye(words: &mut Words, view: &View, near: f32) {
    let ViewParts { eye, right, up, forward, focal, .. } = view.parts();
    let [w, h] = [view.size().width(), view.size().height()].map(|side| side as f32 * 0.5);
    words.vec(eye, focal).vec(right, w).vec(up, h).vec(forward, near);
}

impl Seen<'_> {
    pub(crate) fn words(&self) -> Words {
        let mut words = Words::default();
        let level = self.view.parts().level;
        eye(&mut words, self.view, NEAR);
        eye(&mut words, self.camera, NEAR);
        eye(&mut words, self.map.map_or(self.view, |map| &map.view), NEAR);
        let flag = |on: bool| if on { 1.0 } else { 0.0 };
        words.float(&[self.z.x, self.z.y, flag(level), flag(self.map.is_some())]);
        match self.map {
            Some(map) => {
                let side = map.view.size().width() as f32;
                words.float(&[map.z.x, map.z.y, map.texel * 2.0, side])
            }
            None => words.float(&[0.0; 4]),
        };
        let light = self.lighting;
        words.vec(light.ambient, self.time).vec(light.bounce, light.lights.len().min(16) as f32);
        words.vec(light.towards_sun, flag(light.sun.is_some()));
        words.vec(light.sun.map_or(Vec3::ZERO, |sun| sun.light()), 0.0);
        words.float(&[self.exposure, self.most_slope, 0.0, 0.0]);
        let (tone, per_haze) = light.haze;
        words.vec(tone, per_haze);
        for nth in 0..16 {
            match light.lights.get(nth) {
                Some(lamp) => {
                    let colour = Vec3::new(lamp.colour.r, lamp.colour.g, lamp.colour.b);
                    words.vec(lamp.position.into(), lamp.power).vec(colour, lamp.radius * lamp.radius);
                }
                None => {
                    words.float(&[0.0; 8]);
                }
            }
        }
        words
    }
}
