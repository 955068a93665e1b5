//! Lighting: lamps, the sun, the sky's ambient light, and how surfaces reflect them.

pub use frolic_raster::light::Surface;
use frolic_raster::light::{self, Lamp, Light};
use frolic_simd::Level;
use glam::Vec3;

use crate::backdrop::BackdropSpec;
use crate::camera::View;
use crate::image::ImageSize;
use crate::lamps::{LightSpec, SunSpec};

/// Light sources for instances with a lit look.
#[derive(Debug, Clone, Copy)]
#[non_exhaustive]
pub struct Lighting<'a> {
    /// Lamps.
    pub lights: &'a [LightSpec],
    /// Lamps in the layout that kernels read.
    pub(crate) lamps: &'a [Lamp],
    /// The sun.
    pub sun: Option<&'a SunSpec>,
    /// Direction towards the sun, unit length. Unused without a sun.
    pub towards_sun: Vec3,
    /// Light from the sky on surfaces that face up.
    pub ambient: Vec3,
    /// Light reflected by ground or water onto surfaces that face down.
    pub bounce: Vec3,
    /// Haze colour, and one over the distance in metres at which two thirds of an element's colour are gone.
    pub haze: (Vec3, f32),
}

impl<'a> Lighting<'a> {
    /// Collects the light sources. `room` is scratch memory for the lamps in the layout that kernels read.
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

    /// Whether shadows are drawn. If so, sunlight is kept apart from other light.
    pub fn shadows(&self) -> bool {
        self.sun.is_some_and(|sun| sun.shadow_map > 0 && sun.power > 0.0)
    }

    /// Light on a round, soft element: a factor on its colour, sunlight included.
    pub(crate) fn on_soft(&self, lit: f32, at: Vec3) -> Vec3 {
        if lit == 0.0 {
            return Vec3::ONE;
        }
        let received = self.lights.iter().fold(self.plain().soft_ambient(), |sum, light| sum + light.at(at));
        Vec3::splat(1.0 - lit) + received * lit
    }

    /// Light on a surface as factors on its colour: first without the sun, then unshadowed sunlight.
    pub(crate) fn on_surface(&self, surface: Surface, at: Vec3, normal: Vec3, eye: Vec3) -> [Vec3; 2] {
        light::on_surface(Level::baseline(), &self.plain(), surface, at, normal, eye)
    }

    /// All light sources in the layout that kernels read.
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

/// Size of a texel over the smallest with which the map covers the view, where the map is new; and the most while a map is kept.
const MARGIN: f32 = 1.02;
const MOST_MARGIN: f32 = 1.12;

/// Where a shadow map lies. Texels are those of a grid that depends on the sun and the size of a texel alone, so that the map of another place has the
/// same texels wherever the two overlap.
#[derive(Debug, Clone, Copy)]
pub(crate) struct SunPlace {
    /// Side of a texel in metres.
    pub(crate) texel: f32,
    /// Column and row, in the grid, of the first texel.
    pub(crate) first: [i64; 2],
    towards: Vec3,
}

impl SunPlace {
    /// The place that covers the camera's view up to the sun's shadow reach with `side` texels across and down; with texels of the size of
    /// `kept`, in metres, where that does.
    pub(crate) fn new(sun: &SunSpec, camera: &View, side: usize, kept: Option<f32>) -> Self {
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
        // Shadows are not needed far below the ground, so rays towards it end a little below height 0.
        let floor = camera.eye.y.min(0.0) - 4.0;
        for corner in &mut corners {
            if corner.y < floor {
                let share = (camera.eye.y - floor) / (camera.eye.y - corner.y).max(1e-6);
                *corner = camera.eye + (*corner - camera.eye) * share.clamp(0.0, 1.0);
            }
        }
        let level = View::side_by_side(ImageSize::default(), Vec3::ZERO, -towards, 1.0);
        let local = corners.map(|corner| level.local(corner));
        let low = local.iter().fold(Vec3::INFINITY, |low, at| low.min(*at));
        let high = local.iter().fold(Vec3::NEG_INFINITY, |high, at| high.max(*at));
        let least = (high.x - low.x).max(high.y - low.y).max(0.01);
        let fits = |texel: &f32| (least..least * MOST_MARGIN).contains(&(texel * (side - 1) as f32));
        let texel = kept.filter(fits).unwrap_or(least * MARGIN / side as f32);
        let middle = (low + high) * 0.5 / texel;
        let first = [middle.x.round(), -middle.y.round()].map(|middle| middle as i64 - (side / 2) as i64);
        Self { texel, first, towards }
    }

    /// The view of the texels from a first one on.
    pub(crate) fn view(&self, first: [i64; 2], size: ImageSize) -> View {
        let level = View::side_by_side(size, Vec3::ZERO, -self.towards, 1.0);
        let [cx, cy] = level.middle();
        let (across, down) = (first[0] as f32 + cx, first[1] as f32 + cy);
        let eye = (level.right * across - level.up * down) * self.texel;
        View { eye, focal: 1.0 / self.texel, ..level }
    }
}

/// View of the shadow map, covering the camera's view up to the sun's shadow reach, and the side of a texel in metres.
pub fn shadow_view(sun: &SunSpec, camera: &View, size: ImageSize) -> (View, f32) {
    let place = SunPlace::new(sun, camera, size.width(), None);
    (place.view(place.first, size), place.texel)
}
