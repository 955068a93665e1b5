//! The backdrop: sky, ground and water.
//!
//! The backdrop is painted once for a view and cached, as its pixels cost far more than those of elements. Four rays a pixel hit the
//! sky, a far coast, the flat ground out to its shore, or the water beyond. Each of these is shaded once a pixel and weighted by its
//! rays, which smooths all edges. Depths of solid parts are kept too, so that elements fade softly into them.

use derive_setters::Setters;
use frolic_core::random::{hash3, unit};
use frolic_core::{SpecError, Stage, gust_noise, trace, within};
use glam::Vec3;
use rayon::prelude::*;
use serde::{Deserialize, Serialize};

use crate::camera::View;
use crate::colour::Colour;
use crate::lamps::{LightSpec, SunSpec};
use frolic_raster::tile::{Grid, Row, STRIDE};

/// Everything behind the elements.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize, Setters)]
#[serde(deny_unknown_fields, default)]
#[non_exhaustive]
pub struct BackdropSpec {
    /// The sky.
    pub sky: SkySpec,
    /// Flat ground. Default: none.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[setters(into)]
    pub ground: Option<GroundSpec>,
    /// Water out to the horizon. Default: none.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[setters(into)]
    pub water: Option<WaterSpec>,
}

/// A sky gradient with an afterglow.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, Setters)]
#[serde(deny_unknown_fields, default)]
#[non_exhaustive]
pub struct SkySpec {
    /// Colour at the zenith. Default: a dusk blue.
    pub zenith: Colour,
    /// Colour at the horizon, and of the haze.
    pub horizon: Colour,
    /// Angle in degrees over which the sky blends into the horizon's colour on both sides, 0 to 90: hides the horizon in mist or under
    /// water. Default: 0.
    pub soft_degrees: f32,
    /// Colour of the afterglow at the horizon. Default: none.
    pub afterglow: Colour,
    /// Bearing of the afterglow in degrees, from -z towards x.
    pub afterglow_degrees: f32,
    /// Brightness of stars, 0 to 100. Default: 0.
    pub stars: f32,
    /// Distance in metres at which haze hides two thirds of an object's colour, 1 to 1e6. Default: 4000.
    pub haze: f32,
    /// Height of a far coast above the horizon in degrees, 0 to 45. Default: 0: open sea.
    pub coast_degrees: f32,
    /// Albedo of the coast in sunlight; without a sun it is dark. Default: a muted green.
    pub coast_colour: Colour,
}

impl Default for SkySpec {
    fn default() -> Self {
        Self {
            zenith: Colour::new(0.02, 0.04, 0.10),
            horizon: Colour::new(0.16, 0.18, 0.24),
            soft_degrees: 0.0,
            afterglow: Colour::default(),
            afterglow_degrees: 0.0,
            stars: 0.0,
            haze: 4000.0,
            coast_degrees: 0.0,
            coast_colour: Colour::new(0.10, 0.14, 0.08),
        }
    }
}

/// Flat ground at height 0.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, Setters)]
#[serde(deny_unknown_fields, default)]
#[non_exhaustive]
pub struct GroundSpec {
    /// Albedo. Default: dark turf.
    pub colour: Colour,
    /// Distance from the origin to the ragged shore in metres, 0.1 to 1e6. Default: 1e6.
    pub radius: f32,
    /// Strength of mottling, 0 to 1. Default: 0.5.
    pub mottled: f32,
}

impl Default for GroundSpec {
    fn default() -> Self {
        Self { colour: Colour::new(0.10, 0.11, 0.08), radius: 1e6, mottled: 0.5 }
    }
}

/// Still water that reflects the sky.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, Setters)]
#[serde(deny_unknown_fields, default)]
#[non_exhaustive]
pub struct WaterSpec {
    /// Height of the surface in metres, -1e4 to 0. Default: -1.
    pub level: f32,
    /// Colour seen from straight above.
    pub colour: Colour,
    /// Slope of the waves, 0 to 1. Default: 0.05.
    pub waves: f32,
}

impl Default for WaterSpec {
    fn default() -> Self {
        Self { level: -1.0, colour: Colour::new(0.01, 0.02, 0.03), waves: 0.05 }
    }
}

impl BackdropSpec {
    /// A sky of one colour and nothing else, for transparent images.
    pub fn plain(light: f32) -> Self {
        let mut backdrop = Self::default();
        backdrop.sky.zenith = Colour::new(light, light, light);
        backdrop.sky.horizon = backdrop.sky.zenith;
        backdrop
    }

    /// Checks that all values are in range.
    ///
    /// # Errors
    /// Names the key that is out of range.
    pub fn check(&self) -> Result<(), SpecError> {
        let sky = &self.sky;
        sky.zenith.check("sky.zenith")?;
        sky.horizon.check("sky.horizon")?;
        within("sky.soft_degrees", sky.soft_degrees, 0.0, 90.0, "degrees")?;
        sky.afterglow.check("sky.afterglow")?;
        within("sky.afterglow_degrees", sky.afterglow_degrees, -360.0, 360.0, "degrees")?;
        within("sky.stars", sky.stars, 0.0, 100.0, "")?;
        within("sky.haze", sky.haze, 1.0, 1e6, "m")?;
        within("sky.coast_degrees", sky.coast_degrees, 0.0, 45.0, "degrees")?;
        sky.coast_colour.check("sky.coast_colour")?;
        if let Some(ground) = &self.ground {
            ground.colour.check("ground.colour")?;
            within("ground.radius", ground.radius, 0.1, 1e6, "m")?;
            within("ground.mottled", ground.mottled, 0.0, 1.0, "")?;
        }
        if let Some(water) = &self.water {
            water.colour.check("water.colour")?;
            within("water.level", water.level, -1e4, 0.0, "m")?;
            within("water.waves", water.waves, 0.0, 1.0, "")?;
        }
        Ok(())
    }

    /// Light from the sky on surfaces that face up.
    pub(crate) fn ambient(&self) -> Vec3 {
        self.sky.zenith.vec() * 0.6 + self.sky.horizon.vec() * 0.4
    }

    /// Light reflected by ground or water onto surfaces that face down.
    pub(crate) fn bounce(&self, sun: Option<&SunSpec>) -> Vec3 {
        let received = self.ambient() + sun.map_or(Vec3::ZERO, |sun| sun.light() * sun.towards().y);
        match (&self.ground, &self.water) {
            (Some(ground), _) => ground.colour.vec() * received,
            // Water mirrors more than it sends back.
            (None, Some(water)) => water.colour.vec() * received + self.ambient() * 0.3,
            (None, None) => self.ambient() * 0.5,
        }
    }
}

/// All that the picture of a backdrop depends on, kept beside a cached one.
#[derive(Debug, Clone, PartialEq)]
pub struct BackdropKey {
    view: View,
    spec: BackdropSpec,
    lights: Vec<LightSpec>,
    sun: Option<SunSpec>,
}

impl BackdropKey {
    /// The key of a backdrop.
    pub fn new(view: &View, spec: &BackdropSpec, lights: &[LightSpec], sun: Option<&SunSpec>) -> Self {
        Self { view: *view, spec: spec.clone(), lights: lights.to_vec(), sun: sun.copied() }
    }

    /// Whether a cached backdrop with this key can be shown.
    pub fn fits(
        &self,
        view: &View,
        spec: &BackdropSpec,
        lights: &[LightSpec],
        sun: Option<&SunSpec>,
    ) -> bool {
        self.view == *view && self.spec == *spec && self.lights == lights && self.sun.as_ref() == sun
    }
}

/// A painted backdrop, tile by tile in the layout of the rasteriser.
#[derive(Debug)]
pub(crate) struct Backdrop {
    pub(crate) key: BackdropKey,
    /// Rows of each tile.
    height: usize,
    rows: Vec<Row>,
    /// Unshadowed sunlight; empty without a sun.
    sunlit: Vec<Row>,
    depth: Vec<[f32; STRIDE]>,
    nearest: Vec<f32>,
}

/// One tile of a backdrop.
#[derive(Debug, Clone, Copy)]
pub(crate) struct BackdropTile<'a> {
    pub(crate) rows: &'a [Row],
    /// Unshadowed sunlight.
    pub(crate) sun: Option<&'a [Row]>,
    /// Depth of solid parts along the view in metres; infinite in the sky.
    pub(crate) depth: &'a [[f32; STRIDE]],
    /// Least of these depths.
    pub(crate) nearest: f32,
}

impl Backdrop {
    /// Paints the backdrop with four rays a pixel, on all cores.
    pub(crate) fn paint(
        grid: &Grid,
        view: &View,
        spec: &BackdropSpec,
        lights: &[LightSpec],
        sun: Option<&SunSpec>,
    ) -> Self {
        let height = grid.rows();
        let dark = [[0.0; STRIDE]; 3];
        let mut rows = vec![dark; grid.tiles() * height];
        let mut sunlit = vec![dark; if sun.is_some() { rows.len() } else { 0 }];
        let mut depth = vec![[f32::INFINITY; STRIDE]; rows.len()];
        let mut nearest = vec![f32::INFINITY; grid.tiles()];
        let painter = Painter::new(view, spec, lights, sun);
        let mut sun_tiles: Vec<&mut [Row]> = sunlit.chunks_mut(height).collect();
        sun_tiles.resize_with(grid.tiles(), Default::default);
        let tiles = rows
            .par_chunks_mut(height)
            .zip(depth.par_chunks_mut(height))
            .zip(&mut nearest)
            .zip(sun_tiles)
            .enumerate();
        tiles.for_each(|(nth, (((rows, depth), nearest), sunlit))| {
            let _part = trace::part(Stage::Backdrop);
            let rect = grid.rect(nth);
            for j in 0..height {
                for i in 0..grid.tile_width() {
                    let (colour, sun, solid) = painter.pixel(rect.x + i, rect.y + j);
                    for channel in 0..3 {
                        rows[j][channel][i] = colour[channel];
                        if let Some(row) = sunlit.get_mut(j) {
                            row[channel][i] = sun[channel];
                        }
                    }
                    depth[j][i] = solid;
                    *nearest = nearest.min(solid);
                }
            }
        });
        Self { key: BackdropKey::new(view, spec, lights, sun), height, rows, sunlit, depth, nearest }
    }

    pub(crate) fn tile(&self, nth: usize) -> BackdropTile<'_> {
        let part = nth * self.height..(nth + 1) * self.height;
        BackdropTile {
            rows: &self.rows[part.clone()],
            sun: self.key.sun.is_some().then(|| &self.sunlit[part.clone()]),
            depth: &self.depth[part],
            nearest: self.nearest[nth],
        }
    }

    /// Depth of solid parts at a pixel, in metres.
    pub(crate) fn depth(&self, grid: &Grid, x: usize, y: usize) -> f32 {
        let (row, column) = grid.row_of(x, y);
        self.depth[row][column]
    }

    pub(crate) fn bytes(&self) -> usize {
        size_of_val(&self.rows[..])
            + size_of_val(&self.sunlit[..])
            + size_of_val(&self.depth[..])
            + size_of_val(&self.nearest[..])
    }
}

/// A backdrop for a backend that uploads textures: planes of pixels, rows from the top.
#[derive(Debug, Clone, PartialEq)]
#[non_exhaustive]
pub struct BackdropPlanes {
    /// Light without sunlight on the ground.
    pub light: Vec<[f32; 3]>,
    /// Unshadowed sunlight.
    pub sun: Vec<[f32; 3]>,
    /// Depth of solid parts along the view in metres; infinite in the sky.
    pub depth: Vec<f32>,
}

impl BackdropPlanes {
    /// Paints the backdrop with four rays a pixel, on all cores.
    pub fn paint(view: &View, spec: &BackdropSpec, lights: &[LightSpec], sun: Option<&SunSpec>) -> Self {
        let painter = Painter::new(view, spec, lights, sun);
        let (width, height) = (view.size().width(), view.size().height());
        let mut planes = Self {
            light: vec![[0.0; 3]; width * height],
            sun: vec![[0.0; 3]; width * height],
            depth: vec![f32::INFINITY; width * height],
        };
        let rows = planes
            .light
            .par_chunks_mut(width)
            .zip(planes.sun.par_chunks_mut(width))
            .zip(planes.depth.par_chunks_mut(width));
        rows.enumerate().for_each(|(y, ((light, sun), depth))| {
            for x in 0..width {
                let (colour, sunlit, solid) = painter.pixel(x, y);
                (light[x], sun[x], depth[x]) = (colour.to_array(), sunlit.to_array(), solid);
            }
        });
        planes
    }
}

/// Scene that rays are traced through.
struct Painter<'a> {
    view: &'a View,
    spec: &'a BackdropSpec,
    lights: &'a [LightSpec],
    sun: Option<&'a SunSpec>,
    ambient: Vec3,
    afterglow_way: Vec3,
    /// Sine of a pixel's angle.
    pixel: f32,
}

/// Kinds of surfaces that a ray can hit.
#[derive(Debug, Clone, Copy)]
enum Met {
    Sky,
    Coast,
    Ground,
    Water,
}

/// Offsets of a pixel's four rays: a rotated grid.
const RAYS: [[f32; 2]; 4] = [[0.375, 0.125], [0.875, 0.375], [0.125, 0.625], [0.625, 0.875]];

impl<'a> Painter<'a> {
    fn new(
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

    /// Colour without sunlight on the ground, sunlight, and depth of solid parts.
    fn pixel(&self, x: usize, y: usize) -> (Vec3, Vec3, f32) {
        let mut shares = [0.0; 4];
        let mut rays = [Vec3::ZERO; 4];
        for [dx, dy] in RAYS {
            let ray = self.view.ray(x as f32 + dx, y as f32 + dy);
            let met = self.met(ray) as usize;
            shares[met] += 0.25;
            rays[met] += ray;
        }
        let (mut sum, mut sunlit) = (Vec3::ZERO, Vec3::ZERO);
        let mut nearest = f32::INFINITY;
        for met in [Met::Sky, Met::Coast, Met::Ground, Met::Water] {
            let share = shares[met as usize];
            if share > 0.0 {
                // The middle of the rays that met it.
                let ray = rays[met as usize].normalize();
                let (colour, sun, distance) = self.colour(met, ray);
                sum += colour * share;
                sunlit += sun * share;
                nearest = nearest.min(distance * ray.dot(self.view.forward));
            }
        }
        (sum, sunlit, nearest)
    }

    /// First surface that a ray hits.
    fn met(&self, ray: Vec3) -> Met {
        if let Some(ground) = &self.spec.ground
            && let Some((at, _)) = self.meet(ray, 0.0)
            && self.ashore(ground, at)
        {
            return Met::Ground;
        }
        if let Some(water) = &self.spec.water
            && self.meet(ray, water.level).is_some()
        {
            return Met::Water;
        }
        if self.spec.sky.coast_degrees > 0.0 && self.on_coast(ray) { Met::Coast } else { Met::Sky }
    }

    /// Colour through the haze without sunlight on the ground, sunlight, and distance.
    fn colour(&self, met: Met, ray: Vec3) -> (Vec3, Vec3, f32) {
        let away = (Vec3::ZERO, Vec3::ZERO, f32::INFINITY);
        match met {
            Met::Sky => (self.sky(ray) + self.stars(ray) + self.sun_in_sky(ray), Vec3::ZERO, f32::INFINITY),
            Met::Coast => (self.coast(ray), Vec3::ZERO, f32::INFINITY),
            Met::Ground => {
                let ground = self.spec.ground.as_ref().zip(self.meet(ray, 0.0));
                ground.map_or(away, |(ground, (at, distance))| {
                    let albedo = self.albedo(ground, at, distance);
                    let sun = self.sun.map_or(Vec3::ZERO, |sun| sun.light() * sun.towards().y);
                    let clear = self.clear(distance);
                    (self.haze(albedo * self.lamps(at), ray, distance), albedo * sun * clear, distance)
                })
            }
            Met::Water => {
                let water =
                    self.spec.water.as_ref().and_then(|water| Some((water, self.meet(ray, water.level)?)));
                water.map_or(away, |(water, (at, distance))| {
                    (self.haze(self.water(water, at, ray, distance), ray, distance), Vec3::ZERO, distance)
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
        if !(0.72..1.28).contains(&share) {
            return share < 1.0;
        }
        let way = at.normalize_or(Vec3::X) * 4.0;
        share < 1.0 + fractal(way, 5) * 0.22 + fractal(at * 0.35, 3) * 0.015
    }

    /// Albedo of the ground.
    fn albedo(&self, ground: &GroundSpec, at: Vec3, distance: f32) -> Vec3 {
        // Detail smaller than a pixel is left out: it would only sparkle.
        let size = distance * self.pixel;
        let detail =
            |scale: f32, octaves| fractal(at * scale, octaves) * (1.0 - size * scale * 2.0).clamp(0.0, 1.0);
        // Patches stretched along the ground, tufts, and blades.
        let patches = detail(0.6, 3) * 0.9 + detail(5.0, 2) * 0.7 + detail(36.0, 2) * 0.8;
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
        let ripple = |scale: f32| {
            let [x, _, z] = gust_noise((at * Vec3::new(scale, 0.0, scale * 2.0)).to_array(), 3);
            Vec3::new(x, 0.0, z) * (1.0 - size * scale * 0.5).clamp(0.0, 1.0)
        };
        let tilt = (ripple(0.13) + ripple(0.6) * 0.7 + ripple(2.1) * 0.5) * water.waves;
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
        if ray.y > height * 2.1 {
            return false;
        }
        let level = Vec3::new(ray.x, 0.0, ray.z).normalize_or(Vec3::X);
        ray.y < (0.55 + fractal(level * 3.0, 6) * 1.5).max(0.0) * height
    }

    /// Stars: at most one in a cell of a lattice over the sphere, few of them bright.
    fn stars(&self, ray: Vec3) -> Vec3 {
        const CELLS: f32 = 90.0;
        if self.spec.sky.stars == 0.0 {
            return Vec3::ZERO;
        }
        let cell = (ray * CELLS).floor();
        let [a, b, c] = hash3(cell.x as i32 as u32, cell.y as i32 as u32, cell.z as i32 as u32);
        let [d, tint, chance] = hash3(a, b, c).map(unit);
        if chance > 0.2 {
            return Vec3::ZERO;
        }
        let place = (cell + Vec3::new(unit(a), unit(b), unit(c)) * 0.8 + 0.1).normalize_or(Vec3::Y);
        let off = (place - ray).length() / self.pixel;
        let through = 1.0 - libm::expf(-ray.y.max(0.0) * 7.0);
        let bright = libm::powf(d, 10.0) * 2.6 + 0.07;
        let colour = Vec3::new(0.85, 0.92, 1.0).lerp(Vec3::new(1.0, 0.86, 0.7), tint);
        colour * (self.spec.sky.stars * bright * through * (1.0 - off * off * 0.45).max(0.0))
    }
}

/// Sum of octaves of smooth noise, about -1..1.
fn fractal(at: Vec3, octaves: u32) -> f32 {
    let (mut sum, mut weight, mut at) = (0.0, 0.5, at);
    for octave in 0..octaves {
        sum += gust_noise(at.to_array(), 0x7e44 + octave)[0] * weight;
        weight *= 0.5;
        at = Vec3::new(at.z, at.y, -at.x) * 2.03 + 17.1;
    }
    sum
}
