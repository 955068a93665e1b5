//! Camera, sun, lights and haze of a frame. Read by `shaders/frame.wgsl`.

use frolic_draw::View;
use frolic_draw::backend::{
    AS_DEEP, FADE, LEAST_RISE, Lighting, MOST_LEAN, NEAR, NEAR_FADE, PLACES, THINNEST, ViewParts,
};
use frolic_draw::cpu::SMALLEST;
use glam::Vec3;

use crate::shared::{Shared, constant, flag, listed, shared};

/// Most lights of a frame.
const MOST_LAMPS: usize = 16;

shared! {
    /// A light.
    struct Lamp {
        place: [f32; 3],
        power: f32,
        colour: [f32; 3],
        /// Radius squared.
        radius_square: f32,
    }

    /// A viewpoint: its place and axes.
    struct Eye {
        place: [f32; 3],
        /// Pixels of a radian; pixels of a metre if all rays are parallel.
        focal: f32,
        right: [f32; 3],
        /// Half the width of the picture, in pixels.
        half_width: f32,
        up: [f32; 3],
        /// Half the height of the picture, in pixels.
        half_height: f32,
        forward: [f32; 3],
        /// Nearest depth, in metres.
        near: f32,
    }

    /// What all batches of a frame share.
    struct Frame {
        /// The viewpoint that is drawn from: the camera, or the sun for its shadow map.
        view: Eye,
        /// The camera, in both cases.
        camera: Eye,
        /// The sun, as its map was drawn; its focal is texels a metre.
        sun_view: Eye,
        /// z in clip space is `z_scale` times the depth, plus `z_offset`.
        z_scale: f32,
        z_offset: f32,
        /// 1 if all rays are parallel.
        parallel: u32,
        has_shadows: u32,
        /// The same for the shadow map; depth between a surface and its shadow, in metres; texels a side.
        map_scale: f32,
        map_offset: f32,
        map_bias: f32,
        map_side: f32,
        /// Light from the sky.
        ambient: [f32; 3],
        /// Seconds.
        time: f32,
        /// Light from below.
        bounce: [f32; 3],
        lamp_count: u32,
        to_sun: [f32; 3],
        has_sun: u32,
        sun: [f32; 3],
        /// Exposure, for a pass of the program's own.
        exposure: f32,
        /// Colour at infinite distance.
        haze: [f32; 3],
        /// 1 over the distance at which two thirds of the light are lost, in 1/m.
        per_haze: f32,
        /// Most that a shadow map moves a surface off, in its z.
        most_slope: f32,
        lamps: [Lamp; MOST_LAMPS],
    }
}

/// Bytes of a frame's uniform.
pub(crate) const FRAME_BYTES: u64 = Frame::WORDS as u64 * 4;

/// Depth of the sky, in metres.
pub(crate) const FARTHEST: f32 = 1e30;

/// Limits of the CPU backend that shaders use too, in WGSL.
pub(crate) fn limits() -> String {
    listed!(NEAR, NEAR_FADE, SMALLEST, FADE, THINNEST, AS_DEEP, LEAST_RISE, MOST_LEAN, FARTHEST)
        + &constant("SAMPLE_PLACES", &&PLACES[..])
}

/// z in clip space as a function of depth: `x` times the depth, plus `y`.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(crate) struct ClipZ {
    pub(crate) x: f32,
    pub(crate) y: f32,
}

/// Reversed and infinite: 1 at the near plane, 0 at infinity.
pub(crate) const ENDLESS: ClipZ = ClipZ { x: 0.0, y: NEAR };

/// The shadow map of a frame.
#[derive(Debug, Clone, Copy)]
pub(crate) struct SunMap {
    pub(crate) view: View,
    /// Side of a texel, in metres.
    pub(crate) texel: f32,
    pub(crate) z: ClipZ,
}

impl SunMap {
    /// A map of depths from `-reach` to `reach` metres around the sun's viewpoint.
    pub(crate) fn new(view: View, texel: f32, reach: f32) -> Self {
        Self { view, texel, z: ClipZ { x: -0.5 / reach, y: 0.5 } }
    }

    /// Most slope bias, sixteen texels, in the map's z.
    pub(crate) fn most_slope(&self) -> f32 {
        self.texel * 16.0 * self.z.x.abs()
    }
}

/// A viewpoint of a frame: the camera's, or the sun's.
pub(crate) struct FrameView<'a> {
    pub(crate) view: &'a View,
    pub(crate) camera: &'a View,
    pub(crate) z: ClipZ,
    /// The shadow map, if there are shadows.
    pub(crate) map: Option<&'a SunMap>,
    pub(crate) lighting: &'a Lighting<'a>,
    pub(crate) time: f32,
    /// For an external pass.
    pub(crate) exposure: f32,
    /// Most slope bias in a shadow map, in its z.
    pub(crate) most_slope: f32,
}

impl Eye {
    fn of(view: &View) -> Self {
        let ViewParts { eye, right, up, forward, focal, .. } = view.parts();
        let [half_width, half_height] =
            [view.size().width(), view.size().height()].map(|side| side as f32 * 0.5);
        let [place, right, up, forward] = [eye, right, up, forward].map(|axis| axis.to_array());
        Self { place, focal, right, half_width, up, half_height, forward, near: NEAR }
    }
}

impl Lamp {
    const NONE: Self = Self { place: [0.0; 3], power: 0.0, colour: [0.0; 3], radius_square: 0.0 };
}

impl FrameView<'_> {
    pub(crate) fn frame(&self) -> Frame {
        let light = self.lighting;
        let map = self.map;
        let (haze, per_haze) = light.haze;
        Frame {
            view: Eye::of(self.view),
            camera: Eye::of(self.camera),
            sun_view: Eye::of(map.map_or(self.view, |map| &map.view)),
            z_scale: self.z.x,
            z_offset: self.z.y,
            parallel: flag(self.view.parts().level),
            has_shadows: flag(map.is_some()),
            map_scale: map.map_or(0.0, |map| map.z.x),
            map_offset: map.map_or(0.0, |map| map.z.y),
            map_bias: map.map_or(0.0, |map| map.texel * 2.0),
            map_side: map.map_or(0.0, |map| map.view.size().width() as f32),
            ambient: light.ambient.to_array(),
            time: self.time,
            bounce: light.bounce.to_array(),
            lamp_count: light.lights.len().min(MOST_LAMPS) as u32,
            to_sun: light.towards_sun.to_array(),
            has_sun: flag(light.sun.is_some()),
            sun: light.sun.map_or(Vec3::ZERO, |sun| sun.light()).to_array(),
            exposure: self.exposure,
            haze: haze.to_array(),
            per_haze,
            most_slope: self.most_slope,
            lamps: std::array::from_fn(|nth| {
                light.lights.get(nth).map_or(Lamp::NONE, |lamp| Lamp {
                    place: lamp.position,
                    power: lamp.power,
                    colour: [lamp.colour.r, lamp.colour.g, lamp.colour.b],
                    radius_square: lamp.radius * lamp.radius,
                })
            }),
        }
    }
}
