//! Lamps and the sun: plain data, checked before use.

use derive_setters::Setters;
use frolic_core::{SpecError, vector_within, within};
use frolic_raster::light::Lamp;
use glam::Vec3;
use serde::{Deserialize, Serialize};

use crate::bounds::Bounds;
use crate::colour::Colour;

/// A point light. Its light falls off as `power / (distance² + radius²)`.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, Setters)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields, default)]
#[non_exhaustive]
pub struct LightSpec {
    /// Position in metres.
    pub position: [f32; 3],
    /// Colour. Default: white.
    pub colour: Colour,
    /// Light on a facing wall 1 m away, 0 to 1e6. Default: 1.
    pub power: f32,
    /// Radius of the lamp in metres, 0.001 to 1e4. Within it the light hardly grows further. Default: 0.5.
    pub radius: f32,
}

impl Default for LightSpec {
    fn default() -> Self {
        Self { position: [0.0; 3], colour: Colour::WHITE, power: 1.0, radius: 0.5 }
    }
}

impl LightSpec {
    /// A light with a position in metres, a colour and a power.
    pub fn new(position: [f32; 3], colour: Colour, power: f32) -> Self {
        Self { position, colour, power, ..Self::default() }
    }

    /// Checks that all values are in range.
    ///
    /// # Errors
    /// Names the key that is out of range.
    pub fn check(&self) -> Result<(), SpecError> {
        vector_within("position", self.position, 1e6, "m")?;
        self.colour.check("colour")?;
        within("power", self.power, 0.0, 1e6, "")?;
        within("radius", self.radius, 0.001, 1e4, "m")
    }

    /// The lamp in the layout that kernels read.
    pub(crate) fn lamp(&self) -> Lamp {
        let Self { position, colour, power, radius } = *self;
        Lamp { position, colour: [colour.r, colour.g, colour.b], power, radius }
    }

    /// Whether the light in a box exceeds a 64th of white, below which lamps are neglected.
    pub fn reaches(&self, bounds: &Bounds) -> bool {
        let far = bounds.distance(self.position.into());
        self.arriving(far * far) * self.colour.vec().max_element() > 1.0 / 64.0
    }

    /// Attenuation over a squared distance, in m².
    #[inline(always)]
    fn arriving(&self, square: f32) -> f32 {
        self.power / (square + self.radius * self.radius)
    }

    /// Light on a surface at a point that faces the lamp.
    #[inline(always)]
    pub(crate) fn at(&self, point: Vec3) -> Vec3 {
        let d = Vec3::from(self.position) - point;
        self.colour.vec() * self.arriving(d.dot(d))
    }
}

/// The sun, or the moon: light from one direction, with shadows.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, Setters)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields, default)]
#[non_exhaustive]
pub struct SunSpec {
    /// Height above the horizon in degrees, 1 to 90. Default: 35.
    pub height_degrees: f32,
    /// Bearing along the horizon in degrees, from -z towards x. Default: 40.
    pub bearing_degrees: f32,
    /// Colour. Default: white.
    pub colour: Colour,
    /// Light on a facing wall, 0 to 1e6. Default: 1.
    pub power: f32,
    /// Side of the shadow map in texels, 64 to 8192, or 0 for no shadows; 4 bytes a texel. Default: 2048.
    pub shadow_map: u32,
    /// Distance from the camera up to which shadows are drawn, in metres, 0.1 to 1e5. Default: 80.
    pub shadow_reach: f32,
    /// Frames over which the shadows of a running scene are drawn anew, a part of the map each frame; those near the camera are in every
    /// frame. 1 draws all shadows in every frame. 1 to 16. Default: 4.
    pub shadow_frames: u32,
}

impl Default for SunSpec {
    fn default() -> Self {
        Self {
            height_degrees: 35.0,
            bearing_degrees: 40.0,
            colour: Colour::WHITE,
            power: 1.0,
            shadow_map: 2048,
            shadow_reach: 80.0,
            shadow_frames: 4,
        }
    }
}

impl SunSpec {
    /// A sun with a height above the horizon and a bearing from -z towards x, both in degrees, a colour and a power.
    pub fn new(height_degrees: f32, bearing_degrees: f32, colour: Colour, power: f32) -> Self {
        Self { height_degrees, bearing_degrees, colour, power, ..Self::default() }
    }

    /// Checks that all values are in range.
    ///
    /// # Errors
    /// Names the key that is out of range.
    pub fn check(&self) -> Result<(), SpecError> {
        within("height_degrees", self.height_degrees, 1.0, 90.0, "degrees")?;
        within("bearing_degrees", self.bearing_degrees, -360.0, 360.0, "degrees")?;
        self.colour.check("colour")?;
        within("power", self.power, 0.0, 1e6, "")?;
        if self.shadow_map != 0 {
            within("shadow_map", self.shadow_map as f32, 64.0, 8192.0, "texels, or 0 for no shadows")?;
        }
        within("shadow_reach", self.shadow_reach, 0.1, 1e5, "m")?;
        within("shadow_frames", self.shadow_frames as f32, 1.0, 16.0, "")
    }

    /// Direction towards the sun, unit length.
    pub(crate) fn towards(&self) -> Vec3 {
        let (sin, cos) = libm::sincosf(self.height_degrees.to_radians());
        let (east, north) = libm::sincosf(self.bearing_degrees.to_radians());
        Vec3::new(cos * east, sin, -cos * north)
    }

    /// Offset of a shadow for each metre of height, or `None` without shadows.
    pub(crate) fn fall(&self) -> Option<Vec3> {
        let towards = self.towards();
        (self.shadow_map > 0 && self.power > 0.0).then(|| -towards / towards.y.max(0.02))
    }

    /// Light on a facing wall.
    pub fn light(&self) -> Vec3 {
        self.colour.vec() * self.power
    }
}
