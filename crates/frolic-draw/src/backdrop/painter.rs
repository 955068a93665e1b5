//! Sky, ground and water along a ray. Rows of pixels beside each other are those of `lanes/`.

use crate::camera::View;
use crate::lamps::{LightSpec, SunSpec};
use frolic_core::gust_noise;
use glam::Vec3;

use super::lattice::{self, Lattice, MOTTLING, Octave, RIPPLES, SHORE, SHORE_ROUGH};
use super::outline::{Outlines, SHORE_MOST};
use super::{BackdropSpec, GroundSpec, WaterSpec};

/// Scene that rays are traced through.
#[derive(Debug)]
pub(super) struct Painter<'a> {
    pub(super) view: &'a View,
    pub(super) spec: &'a BackdropSpec,
    pub(super) lights: &'a [LightSpec],
    pub(super) sun: Option<&'a SunSpec>,
    pub(super) ambient: Vec3,
    pub(super) afterglow_way: Vec3,
    /// Sine of a pixel's angle.
    pixel: f32,
}

/// Kinds of surfaces that a ray can hit.
#[derive(Debug, Clone, Copy)]
enum Hit {
    Sky,
    Coast,
    Ground,
    Water,
}

/// Offsets of a pixel's four rays: a rotated grid.
pub(super) const RAYS: [[f32; 2]; 4] = [[0.375, 0.125], [0.875, 0.375], [0.125, 0.625], [0.625, 0.875]];

impl<'a> Painter<'a> {
    pub(super) fn new(
        view: &'a View,
        spec: &'a BackdropSpec,
        lights: &'a [LightSpec],
        sun: Option<&'a SunSpec>,
    ) -> Self {
        let (sin, cos) = libm::sincosf(spec.sky.afterglow_degrees.to_radians());
        Self {
            view,
            spec,
            lights,
            sun,
            ambient: spec.ambient(),
            afterglow_way: Vec3::new(sin, 0.0, -cos),
            pixel: 1.0 / view.focal,
        }
    }

    /// Kinds of surfaces in a pixel, each with its share and the middle of the rays that hit it.
    fn surfaces(&self, x: usize, y: usize) -> impl Iterator<Item = (Hit, f32, Vec3)> {
        let mut shares = [0.0; 4];
        let mut rays = [Vec3::ZERO; 4];
        for [dx, dy] in RAYS {
            let ray = self.view.ray(x as f32 + dx, y as f32 + dy);
            let kind = self.hit(ray) as usize;
            shares[kind] += 0.25;
            rays[kind] += ray;
        }
        let kinds = [Hit::Sky, Hit::Coast, Hit::Ground, Hit::Water].into_iter();
        kinds
            .zip(shares)
            .zip(rays)
            .filter(|((_, share), _)| *share > 0.0)
            .map(|((kind, share), ray)| (kind, share, ray.normalize()))
    }

    /// Colour without sunlight on the ground, and sunlight.
    pub(super) fn light(&self, x: usize, y: usize) -> (Vec3, Vec3) {
        let (mut sum, mut sunlit) = (Vec3::ZERO, Vec3::ZERO);
        for (kind, share, ray) in self.surfaces(x, y) {
            let (colour, sun) = self.colour(kind, ray);
            sum += colour * share;
            sunlit += sun * share;
        }
        (sum, sunlit)
    }

    /// Depth of solid parts along the view in metres; infinite in the sky.
    pub(super) fn depth(&self, x: usize, y: usize) -> f32 {
        let depth = |(kind, _, ray): (Hit, f32, Vec3)| {
            let level = match kind {
                Hit::Sky | Hit::Coast => return f32::INFINITY,
                Hit::Ground => 0.0,
                Hit::Water => self.spec.water.as_ref().map_or(0.0, |water| water.level),
            };
            self.meet(ray, level).map_or(f32::INFINITY, |(_, distance)| distance * ray.dot(self.view.forward))
        };
        self.surfaces(x, y).map(depth).fold(f32::INFINITY, f32::min)
    }

    /// First surface that a ray hits.
    fn hit(&self, ray: Vec3) -> Hit {
        if let Some(ground) = &self.spec.ground
            && let Some((at, _)) = self.meet(ray, 0.0)
            && self.ashore(ground, at)
        {
            return Hit::Ground;
        }
        if let Some(water) = &self.spec.water
            && self.meet(ray, water.level).is_some()
        {
            return Hit::Water;
        }
        if self.spec.sky.coast_degrees > 0.0 && self.on_coast(ray) { Hit::Coast } else { Hit::Sky }
    }

    /// Colour through the haze without sunlight on the ground, and sunlight.
    fn colour(&self, hit: Hit, ray: Vec3) -> (Vec3, Vec3) {
        let dark = (Vec3::ZERO, Vec3::ZERO);
        match hit {
            // Air hides all stars at the horizon, which alone is painted so.
            Hit::Sky => (self.sky(ray) + self.sun_in_sky(ray), Vec3::ZERO),
            Hit::Coast => (self.coast(ray), Vec3::ZERO),
            Hit::Ground => {
                let ground = self.spec.ground.as_ref().zip(self.meet(ray, 0.0));
                ground.map_or(dark, |(ground, (at, distance))| {
                    let albedo = self.albedo(ground, at, distance);
                    let sun = self.sun.map_or(Vec3::ZERO, |sun| sun.light() * sun.towards().y);
                    let clear = self.clear(distance);
                    (self.haze(albedo * self.lamps(at), ray, distance), albedo * sun * clear)
                })
            }
            Hit::Water => {
                let water =
                    self.spec.water.as_ref().and_then(|water| Some((water, self.meet(ray, water.level)?)));
                water.map_or(dark, |(water, (at, distance))| {
                    (self.haze(self.water(water, at, ray, distance), ray, distance), Vec3::ZERO)
                })
            }
        }
    }

    /// Colour of the far coast: dark, or sunlit hills, through haze.
    fn coast(&self, ray: Vec3) -> Vec3 {
        let sky = self.sky(ray);
        let Some(sun) = self.sun else { return sky * 0.42 };
        let level = Vec3::new(ray.x, 0.0, ray.z).normalize_or(Vec3::X);
        let rough = fractal(Vec3::new(level.x * 60.0, ray.y * 90.0, level.z * 60.0), 4);
        let hills =
            self.spec.sky.coast_colour.vec() * (self.ambient + sun.light() * (0.35 + rough * 0.3).max(0.05));
        sky.lerp(hills, 0.55)
    }

    /// The sun itself and the bright air around it.
    fn sun_in_sky(&self, ray: Vec3) -> Vec3 {
        let Some(sun) = self.sun else { return Vec3::ZERO };
        let near = ray.dot(sun.towards()).max(0.0);
        sun.light() * (libm::powf(near, 900.0) * 6.0 + libm::powf(near, 24.0) * 0.10)
    }

    /// Intersection of a ray with a horizontal plane from above, and its distance.
    fn meet(&self, ray: Vec3, level: f32) -> Option<(Vec3, f32)> {
        let distance = (level - self.view.eye.y) / ray.y;
        (ray.y < 0.0 && distance > 0.0 && distance.is_finite())
            .then(|| (self.view.eye + ray * distance, distance))
    }

    fn haze(&self, colour: Vec3, ray: Vec3, distance: f32) -> Vec3 {
        let level = Vec3::new(ray.x, 0.0, ray.z).normalize_or(Vec3::X);
        self.sky(level).lerp(colour, self.clear(distance))
    }

    /// Transmittance of the air.
    fn clear(&self, distance: f32) -> f32 {
        libm::expf(-distance / self.spec.sky.haze)
    }

    /// Whether a point is within the ragged shore, whose radius varies with direction.
    fn ashore(&self, ground: &GroundSpec, at: Vec3) -> bool {
        let share = at.length() / ground.radius;
        // Further in or out than the roughness reaches: no need to work it out.
        let most = SHORE_MOST + SHORE_ROUGH;
        if (share - 1.0).abs() > most {
            return share < 1.0;
        }
        let rough = lattice::sum(&SHORE, at.x, at.z, 0.0) * SHORE_ROUGH;
        share < 1.0 + Outlines::shared().shore(at.x, at.z) + rough
    }

    /// Albedo of the ground.
    fn albedo(&self, ground: &GroundSpec, at: Vec3, distance: f32) -> Vec3 {
        // Detail smaller than a pixel is left out: it would only sparkle.
        let patches = lattice::sum(&MOTTLING, at.x, at.z, distance * self.pixel * 2.0);
        ground.colour.vec() * (1.0 + patches * ground.mottled).max(0.08)
    }

    /// Light of sky and lamps on level ground.
    fn lamps(&self, at: Vec3) -> Vec3 {
        self.lights.iter().fold(self.ambient, |sum, light| {
            let to = Vec3::from(light.position) - at;
            sum + light.at(at) * (to.y / to.length().max(1e-3)).max(0.0)
        })
    }

    fn water(&self, water: &WaterSpec, at: Vec3, ray: Vec3, distance: f32) -> Vec3 {
        let size = distance * self.pixel / (-ray.y).max(0.01);
        let mut tilt = Vec3::ZERO;
        for Octave { scale, weight } in RIPPLES {
            let [x, z] = Lattice::shared().at(at.x * scale, at.z * (scale * 2.0));
            tilt += Vec3::new(x, 0.0, z) * ((1.0 - size * scale * 0.5).max(0.0) * weight * water.waves);
        }
        let normal = (Vec3::Y + tilt).normalize();
        let mut mirrored = ray - normal * (2.0 * ray.dot(normal));
        mirrored.y = mirrored.y.abs();
        // Schlick, "An Inexpensive BRDF Model" (1994), for water.
        let facing = 1.0 - (-ray.dot(normal)).clamp(0.0, 1.0);
        let fresnel = 0.02 + 0.98 * facing * facing * facing * facing * facing;
        // Fire on the water: a track of light below each lamp, wide as the waves are steep.
        let track = self.lights.iter().fold(Vec3::ZERO, |sum, light| {
            let to = Vec3::from(light.position) - at;
            let along = to.normalize_or(Vec3::Y).dot(mirrored.normalize_or(Vec3::Y)).max(0.0);
            sum + light.colour.vec() * (light.power * 0.01 * libm::powf(along, 60.0))
        });
        let mirrored = mirrored.normalize_or(Vec3::Y);
        // The sun in the waves: a broad sheen, as far ripples are smaller than a pixel.
        let sun = self.sun.map_or(Vec3::ZERO, |sun| {
            let along = sun.towards().dot(mirrored).max(0.0);
            sun.light() * (libm::powf(along, 220.0) * 3.0 + libm::powf(along, 30.0) * 0.15)
        });
        let depth = water.colour.vec() * (1.0 + self.sun.map_or(0.0, |sun| sun.power * 0.6));
        depth.lerp(self.sky(mirrored) + track + sun, fresnel)
    }

    fn sky(&self, ray: Vec3) -> Vec3 {
        let sky = &self.spec.sky;
        // A branch of a hyperbola: as good as 0 well below the horizon, the height well above it.
        let soft = sky.soft_degrees.to_radians();
        let up = (ray.y + libm::sqrtf(ray.y * ray.y + soft * soft)) * 0.5;
        let towards = ray.dot(self.afterglow_way).max(0.0);
        sky.horizon.vec().lerp(sky.zenith.vec(), 1.0 - libm::expf(-up * 5.0))
            + sky.afterglow.vec() * (towards * towards * towards * libm::expf(-up * 11.0))
    }

    fn on_coast(&self, ray: Vec3) -> bool {
        let height = self.spec.sky.coast_degrees.to_radians();
        ray.y < Outlines::shared().coast(ray.x, ray.z) * height
    }
}

/// Sum of octaves of smooth noise, about -1..1.
pub(super) fn fractal(at: Vec3, octaves: u32) -> f32 {
    let (mut sum, mut weight, mut at) = (0.0, 0.5, at);
    for octave in 0..octaves {
        sum += gust_noise(at.to_array(), 0x7e44 + octave)[0] * weight;
        weight *= 0.5;
        at = Vec3::new(at.z, at.y, -at.x) * 2.03 + 17.1;
    }
    sum
}
