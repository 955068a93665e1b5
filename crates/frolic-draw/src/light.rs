//! What shines: lamps, the sun, the sky's ambient light, and what a surface makes of them.

pub use frolic_raster::light::Surface;
use frolic_raster::light::{self, Lamp, Light};
use frolic_simd::Level;
use glam::Vec3;

use crate::backdrop::BackdropSpec;
use crate::camera::View;
use crate::image::ImageSize;
use crate::lamps::{LightSpec, SunSpec};

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
