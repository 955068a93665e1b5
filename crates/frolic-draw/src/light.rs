//! What shines: lamps, the sun, the sky's ambient light, and what a surface makes of them.

use frolic_core::{SpecError, vector_within, within};
pub use frolic_raster::light::Surface;
use frolic_raster::light::{self, Lamp, Light};
use frolic_simd::Level;
use glam::Vec3;
use serde::{Deserialize, Serialize};

use crate::backdrop::BackdropSpec;
use crate::camera::View;
use crate::colour::Colour;
use crate::image::ImageSize;
use crate::instances::Bounds;

/// A point light. Its light falls off as `power / (distance² + radius²)`.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
#[non_exhaustive]
pub struct LightSpec {
    /// Where, m.
    pub position: [f32; 3],
    /// Colour. Default white.
    pub colour: Colour,
    /// Light on a wall 1 m away that faces it, 0 to 1e6. Default 1.
    pub power: f32,
    /// Radius of what shines, m, 0.001 to 1e4: closer than that the light grows no more. Default 0.5.
    pub radius: f32,
}

impl Default for LightSpec {
    fn default() -> Self {
        Self { position: [0.0; 3], colour: Colour::WHITE, power: 1.0, radius: 0.5 }
    }
}

impl LightSpec {
    /// A light at a place, m, of a colour and power.
    pub fn new(position: [f32; 3], colour: Colour, power: f32) -> Self {
        Self { position, colour, power, ..Self::default() }
    }

    /// Whether the values are in range.
    ///
    /// # Errors
    /// Names the key that is not.
    pub fn check(&self) -> Result<(), SpecError> {
        vector_within("position", self.position, 1e6, "m")?;
        self.colour.check("colour")?;
        within("power", self.power, 0.0, 1e6, "")?;
        within("radius", self.radius, 0.001, 1e4, "m")
    }

    /// The lamp as kernels read it.
    pub(crate) fn lamp(&self) -> Lamp {
        let Self { position, colour, power, radius } = *self;
        Lamp { position, colour: [colour.r, colour.g, colour.b], power, radius }
    }

    /// Whether more of its light than can be neglected, a 64th of white, falls anywhere into a box.
    pub fn reaches(&self, bounds: &Bounds) -> bool {
        let far = bounds.distance(self.position.into());
        self.arriving(far * far) * self.colour.vec().max_element() > 1.0 / 64.0
    }

    /// Share of its colour that arrives over a squared distance, m².
    #[inline(always)]
    fn arriving(&self, square: f32) -> f32 {
        self.power / (square + self.radius * self.radius)
    }

    /// Light that arrives at a point, facing it.
    #[inline(always)]
    pub(crate) fn at(&self, point: Vec3) -> Vec3 {
        let d = Vec3::from(self.position) - point;
        self.colour.vec() * self.arriving(d.dot(d))
    }
}

/// The sun, or the moon: light from one direction, with shadows.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
#[non_exhaustive]
pub struct SunSpec {
    /// How high it stands, degrees above the horizon, 1 to 90. Default 35.
    pub height_degrees: f32,
    /// Where along the horizon, degrees from -z towards x. Default 40.
    pub bearing_degrees: f32,
    /// Colour. Default white.
    pub colour: Colour,
    /// Light on a wall that faces it, 0 to 1e6. Default 1.
    pub power: f32,
    /// Side of the shadow map, texels, 64 to 8192, or 0 for no shadows. Default 2048. Memory 4 bytes a texel.
    pub shadow_map: u32,
    /// Distance from the camera up to which shadows fall, m, 0.1 to 1e5. Default 80.
    pub shadow_reach: f32,
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
        }
    }
}

impl SunSpec {
    /// A sun at a height above the horizon and a bearing from -z towards x, degrees, of a colour and power.
    pub fn new(height_degrees: f32, bearing_degrees: f32, colour: Colour, power: f32) -> Self {
        Self { height_degrees, bearing_degrees, colour, power, ..Self::default() }
    }

    /// Whether the values are in range.
    ///
    /// # Errors
    /// Names the key that is not.
    pub fn check(&self) -> Result<(), SpecError> {
        within("height_degrees", self.height_degrees, 1.0, 90.0, "degrees")?;
        within("bearing_degrees", self.bearing_degrees, -360.0, 360.0, "degrees")?;
        self.colour.check("colour")?;
        within("power", self.power, 0.0, 1e6, "")?;
        if self.shadow_map != 0 {
            within("shadow_map", self.shadow_map as f32, 64.0, 8192.0, "texels, or 0 for no shadows")?;
        }
        within("shadow_reach", self.shadow_reach, 0.1, 1e5, "m")
    }

    /// Towards the sun, unit length.
    pub(crate) fn towards(&self) -> Vec3 {
        let (sin, cos) = libm::sincosf(self.height_degrees.to_radians());
        let (east, north) = libm::sincosf(self.bearing_degrees.to_radians());
        Vec3::new(cos * east, sin, -cos * north)
    }

    /// The way that a shadow falls for each metre of height, if shadows fall.
    pub(crate) fn fall(&self) -> Option<Vec3> {
        let towards = self.towards();
        (self.shadow_map > 0 && self.power > 0.0).then(|| -towards / towards.y.max(0.02))
    }

    /// Its light on a wall that faces it.
    pub fn light(&self) -> Vec3 {
        self.colour.vec() * self.power
    }
}

/// Light that reaches instances whose look is lit.
#[derive(Debug, Clone, Copy)]
#[non_exhaustive]
pub struct Lighting<'a> {
    /// Lamps.
    pub lights: &'a [LightSpec],
    /// The same as kernels read them.
    pub(crate) lamps: &'a [Lamp],
    /// The sun.
    pub sun: Option<&'a SunSpec>,
    /// Unit length; no matter without a sun.
    pub towards_sun: Vec3,
    /// Light from the sky, on what faces up.
    pub ambient: Vec3,
    /// Light sent back by ground or water, on what faces down.
    pub bounce: Vec3,
    /// Colour that distance fades to, and one over the distance at which two thirds are gone, 1/m.
    pub haze: (Vec3, f32),
}

impl<'a> Lighting<'a> {
    /// What shines of these; `room` is filled with the lamps as kernels read them.
    pub fn new(
        backdrop: &BackdropSpec,
        lights: &'a [LightSpec],
        sun: Option<&'a SunSpec>,
        room: &'a mut Vec<Lamp>,
    ) -> Self {
        room.clear();
        room.extend(lights.iter().map(LightSpec::lamp));
        Self {
            lights,
            lamps: room,
            sun,
            towards_sun: sun.map_or(Vec3::Y, SunSpec::towards),
            ambient: backdrop.ambient(),
            bounce: backdrop.bounce(sun),
            haze: (backdrop.sky.horizon.vec(), 1.0 / backdrop.sky.haze),
        }
    }

    /// Whether shadows may fall, so that the sun's part is kept apart.
    pub fn shadows(&self) -> bool {
        self.sun.is_some_and(|sun| sun.shadow_map > 0 && sun.power > 0.0)
    }

    /// Light from all sides and lamps on something round and soft: a factor on its colour, the sun's included.
    pub(crate) fn on_soft(&self, lit: f32, at: Vec3) -> Vec3 {
        if lit == 0.0 {
            return Vec3::ONE;
        }
        let received = self.lights.iter().fold(self.plain().soft_ambient(), |sum, light| sum + light.at(at));
        Vec3::splat(1.0 - lit) + received * lit
    }

    /// Light on a surface: factors on its colour, first without the sun, then the sun's if nothing is in its way.
    pub(crate) fn on_surface(&self, surface: Surface, at: Vec3, normal: Vec3, eye: Vec3) -> [Vec3; 2] {
        light::on_surface(Level::baseline(), &self.plain(), surface, at, normal, eye)
    }

    /// All that shines, as kernels read it.
    pub(crate) fn plain(&self) -> Light<'_> {
        Light {
            lamps: self.lamps,
            sun: self.sun.map(SunSpec::light),
            towards_sun: self.towards_sun,
            ambient: self.ambient,
            bounce: self.bounce,
            haze: self.haze,
        }
    }
}

/// The sun's view over the part of the camera's view up to its reach, onto a shadow map of this size, and the side of a texel, m.
pub fn shadow_view(sun: &SunSpec, camera: &View, size: ImageSize) -> (View, f32) {
    let towards = sun.towards();
    let [cx, cy] = camera.middle();
    let (near, far) = (0.0, sun.shadow_reach);
    let mut corners = [camera.eye; 8];
    for (nth, corner) in corners.iter_mut().enumerate() {
        let depth = if nth < 4 { near } else { far };
        let (x, y) = [(-cx, -cy), (cx, -cy), (-cx, cy), (cx, cy)][nth % 4];
        let scale = depth / camera.focal;
        *corner += camera.forward * depth + camera.right * (x * scale) - camera.up * (y * scale);
    }
    // Nothing under the lowest thing there is to see takes shadows: rays towards the ground end there, a little below height 0.
    let floor = camera.eye.y.min(0.0) - 4.0;
    for corner in &mut corners {
        if corner.y < floor {
            let share = (camera.eye.y - floor) / (camera.eye.y - corner.y).max(1e-6);
            *corner = camera.eye + (*corner - camera.eye) * share.clamp(0.0, 1.0);
        }
    }
    let level = View::side_by_side(size, Vec3::ZERO, -towards, 1.0);
    let local = corners.map(|corner| level.local(corner));
    let low = local.iter().fold(Vec3::INFINITY, |low, at| low.min(*at));
    let high = local.iter().fold(Vec3::NEG_INFINITY, |high, at| high.max(*at));
    let side = (high.x - low.x).max(high.y - low.y).max(0.01) * 1.02;
    let texel = side / size.width() as f32;
    // Whole texels, so that shadows of still things do not crawl as the camera moves.
    let middle = ((low + high) * 0.5 / texel).round() * texel;
    let eye = level.right * middle.x + level.up * middle.y;
    (View::side_by_side(size, eye, -towards, 1.0 / texel), texel)
}
