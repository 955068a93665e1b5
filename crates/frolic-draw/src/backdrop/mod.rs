//! The backdrop: sky, ground and water.
//!
//! The backdrop is painted once for a view and cached. Four rays a pixel hit the sky, a far coast, the flat ground out to its shore, or the
//! water beyond. Each of these is shaded once a pixel and weighted by its rays, which smooths all edges. Depths of solid parts are kept too, so that
//! elements fade softly into them. A moving camera paints it in each frame, behind what is solid: rows of pixels are painted
//! together, and only those that the horizon crosses pixel by pixel.

mod lanes;
mod lattice;
mod outline;
mod painter;
mod stars;

use derive_setters::Setters;
use frolic_core::{SpecError, Stage, trace, within};
use glam::Vec3;
use rayon::prelude::*;
use serde::{Deserialize, Serialize};

use crate::camera::View;
use crate::colour::Colour;
use crate::lamps::{LightSpec, SunSpec};
use frolic_raster::tile::{Grid, Row, STRIDE};

use frolic_simd::{Level, detect};
use lanes::{Lanes, ROW, Sunny};
use painter::Painter;
use stars::SeenStars;

/// Everything behind the elements.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize, Setters)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
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
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
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
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
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
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
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

    /// Its light, if it is the same in all directions.
    fn one_colour(&self, sun: Option<&SunSpec>) -> Option<[f32; 3]> {
        let sky = &self.sky;
        let even = sky.zenith == sky.horizon && sky.afterglow == Colour::default() && sky.stars == 0.0;
        let empty = sky.coast_degrees == 0.0 && self.ground.is_none() && self.water.is_none();
        (even && empty && sun.is_none()).then(|| sky.zenith.vec().to_array())
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
        let same = self.spec == *spec && self.sun.as_ref() == sun;
        // A backdrop of one colour is the same in all views of a size.
        let even = spec.one_colour(sun).is_some() && self.view.size() == view.size();
        same && (even || (self.view == *view && self.lights == lights))
    }
}

/// A backdrop, tile by tile in the layout of the rasteriser.
///
/// Depths are there for all tiles. Light is kept too while the picture stays the same; while a camera moves it is painted tile by tile as these are drawn, and only
/// where nothing covers it.
#[derive(Debug)]
pub(crate) struct Backdrop {
    pub(crate) key: BackdropKey,
    /// Whether it is not the one of the frame before.
    is_new: bool,
    keeps_light: bool,
    /// Rows of each tile.
    height: usize,
    rows: Vec<Row>,
    /// Unshadowed sunlight; empty without a sun.
    sunlit: Vec<Row>,
    depth: Vec<[f32; STRIDE]>,
    nearest: Vec<f32>,
    stars: SeenStars,
}

/// Depths of one tile of a backdrop.
#[derive(Debug, Clone, Copy)]
pub(crate) struct BackdropTile<'a> {
    /// Depth of solid parts along the view in metres; infinite in the sky.
    pub(crate) depth: &'a [[f32; STRIDE]],
    /// Least of these depths.
    pub(crate) nearest: f32,
}

/// Light of a backdrop.
#[derive(Debug)]
pub(crate) enum BackdropLight<'a> {
    /// The same everywhere.
    Even([f32; 3]),
    /// Rows of all tiles, and their unshadowed sunlight if there is a sun.
    Kept(&'a [Row], Option<&'a [Row]>),
    /// To be painted.
    Painted(&'a Brush<'a>),
}

impl Backdrop {
    /// The backdrop of a picture, made on all cores in the memory of that of the frame before, if there is one. `true` if that one is shown again.
    pub(crate) fn next(
        before: Option<Self>,
        grid: &Grid,
        view: &View,
        spec: &BackdropSpec,
        lights: &[LightSpec],
        sun: Option<&SunSpec>,
        level: Level,
    ) -> (Self, bool) {
        let key = BackdropKey::new(view, spec, lights, sun);
        let first = Self {
            key: key.clone(),
            is_new: false,
            keeps_light: false,
            height: 0,
            rows: Vec::new(),
            sunlit: Vec::new(),
            depth: Vec::new(),
            nearest: Vec::new(),
            stars: SeenStars::default(),
        };
        let mut it = before.unwrap_or(first);
        let fits = it.height > 0 && it.key.fits(view, spec, lights, sun);
        let is_even = spec.one_colour(sun).is_some();
        if fits && (is_even || it.keeps_light) {
            it.is_new = false;
            return (it, true);
        }
        // Changed twice in a row: it moves, and is not worth keeping.
        let moves = !fits && it.is_new;
        (it.is_new, it.keeps_light) = (!fits && it.height > 0, !moves && !is_even);
        (it.key, it.height) = (key, grid.rows());
        let count = grid.tiles() * it.height;
        it.depth.resize(count, [f32::INFINITY; STRIDE]);
        it.nearest.resize(grid.tiles(), f32::INFINITY);
        if is_even {
            it.depth.fill([f32::INFINITY; STRIDE]);
            it.nearest.fill(f32::INFINITY);
            return (it, false);
        }
        it.stars.see(view, spec.sky.stars);
        let Self { key, rows, sunlit, depth, nearest, height, keeps_light, stars, .. } = &mut it;
        let brush = key.brush(stars, level);
        let depths = depth.par_chunks_mut(*height).zip(nearest).enumerate();
        depths.for_each(|(nth, (rows, nearest))| {
            let _part = trace::part(Stage::Backdrop);
            let rect = grid.rect(nth);
            *nearest = f32::INFINITY;
            for (j, row) in rows.iter_mut().enumerate().take(rect.h) {
                *nearest = nearest.min(brush.depths(rect.x, rect.y + j, rect.w, row));
            }
        });
        if *keeps_light {
            let dark = [[0.0; STRIDE]; 3];
            rows.resize(count, dark);
            sunlit.resize(if sun.is_some() { count } else { 0 }, dark);
            let mut sun_tiles: Vec<&mut [Row]> = sunlit.chunks_mut(*height).collect();
            sun_tiles.resize_with(grid.tiles(), Default::default);
            let tiles = rows.par_chunks_mut(*height).zip(sun_tiles).enumerate();
            tiles.for_each(|(nth, (rows, sunlit))| {
                let _part = trace::part(Stage::Backdrop);
                let rect = grid.rect(nth);
                let mut none = dark;
                for (j, row) in rows.iter_mut().enumerate().take(rect.h) {
                    let sun = sunlit.get_mut(j).unwrap_or(&mut none);
                    brush.light(rect.x, rect.y + j, first_pixels(rect.w), row, sun);
                }
            });
        }
        (it, false)
    }

    /// What paints its light while tiles are drawn, if it is not kept.
    pub(crate) fn brush(&self, level: Level) -> Option<Brush<'_>> {
        let is_even = self.key.spec.one_colour(self.key.sun.as_ref()).is_some();
        (!is_even && !self.keeps_light).then(|| self.key.brush(&self.stars, level))
    }

    /// Its light, with what [`Backdrop::brush`] gave.
    pub(crate) fn light<'a>(&'a self, brush: Option<&'a Brush<'a>>) -> BackdropLight<'a> {
        let sun = self.key.sun.as_ref();
        match (self.key.spec.one_colour(sun), brush) {
            (Some(light), _) => BackdropLight::Even(light),
            (None, Some(brush)) => BackdropLight::Painted(brush),
            (None, None) => BackdropLight::Kept(&self.rows, sun.map(|_| &self.sunlit[..])),
        }
    }

    pub(crate) fn tile(&self, nth: usize) -> BackdropTile<'_> {
        let part = nth * self.height..(nth + 1) * self.height;
        BackdropTile { depth: &self.depth[part], nearest: self.nearest[nth] }
    }

    /// Depth of solid parts at a pixel, in metres.
    pub(crate) fn depth(&self, grid: &Grid, x: usize, y: usize) -> f32 {
        let (row, column) = grid.row_of(x, y);
        self.depth[row][column]
    }

    /// Bytes that were written to make it.
    pub(crate) fn written(&self) -> usize {
        let kept = size_of_val(&self.rows[..]) + size_of_val(&self.sunlit[..]);
        size_of_val(&self.depth[..]) + if self.keeps_light { kept } else { 0 }
    }

    pub(crate) fn bytes(&self) -> usize {
        size_of_val(&self.rows[..])
            + size_of_val(&self.sunlit[..])
            + size_of_val(&self.depth[..])
            + size_of_val(&self.nearest[..])
    }
}

impl BackdropKey {
    fn brush<'a>(&'a self, stars: &'a SeenStars, level: Level) -> Brush<'a> {
        Brush::new(&self.view, &self.spec, &self.lights, self.sun.as_ref(), stars, level)
    }
}

impl BackdropLight<'_> {
    /// Writes the light of the pixels `open` of row `nth` of all tiles, which begins at pixel `at` of the picture; returns unshadowed sunlight on the ground there, where there
    /// is any, with `scratch` as its memory.
    pub(crate) fn row<'s>(
        &'s self,
        nth: usize,
        at: [usize; 2],
        open: u64,
        into: &mut Row,
        scratch: &'s mut Row,
    ) -> Option<&'s Row> {
        match self {
            Self::Even(light) => {
                *into = light.map(|channel| [channel; STRIDE]);
                None
            }
            Self::Kept(rows, sunlit) => {
                *into = rows[nth];
                sunlit.map(|sunlit| &sunlit[nth])
            }
            Self::Painted(brush) => match brush.light(at[0], at[1], open, into, scratch) {
                Sunny::Yes => Some(scratch),
                Sunny::No => None,
            },
        }
    }

    /// Whether it is painted while tiles are drawn.
    pub(crate) fn is_painted(&self) -> bool {
        matches!(self, Self::Painted(_))
    }
}

/// The first `count` pixels of a row, one bit each.
pub(crate) fn first_pixels(count: usize) -> u64 {
    if count >= ROW { u64::MAX } else { (1 << count) - 1 }
}

/// What paints rows of pixels: many at once, or one by one where the horizon crosses them.
#[derive(Debug)]
pub(crate) struct Brush<'a> {
    painter: Painter<'a>,
    lanes: Lanes<'a>,
    level: Level,
}

impl<'a> Brush<'a> {
    fn new(
        view: &'a View,
        spec: &'a BackdropSpec,
        lights: &'a [LightSpec],
        sun: Option<&'a SunSpec>,
        stars: &'a SeenStars,
        level: Level,
    ) -> Self {
        let painter = Painter::new(view, spec, lights, sun);
        Self { lanes: Lanes::new(&painter, stars), painter, level }
    }

    /// Paints the pixels `open` of the row that begins at `x`, `y`. Where there is sunlight on the ground, `sun` holds what would fall there without shadows.
    fn light(&self, x: usize, y: usize, open: u64, light: &mut Row, sun: &mut Row) -> Sunny {
        if open == 0 {
            return Sunny::No;
        }
        let off = x % ROW;
        if off != 0 {
            // Rows begin where those of the widest tiles do, so that the picture does not depend on tiles.
            let dark = [[0.0; STRIDE]; 3];
            let (mut wide, mut wide_sun) = (dark, dark);
            let sunny = self.light(x - off, y, open << off, &mut wide, &mut wide_sun);
            for channel in 0..3 {
                light[channel][..ROW - off].copy_from_slice(&wide[channel][off..ROW]);
                sun[channel][..ROW - off].copy_from_slice(&wide_sun[channel][off..ROW]);
            }
            return sunny;
        }
        if let Some(sunny) = self.lanes.light(self.level, [x, y], open, light, sun) {
            return sunny;
        }
        let mut rest = open;
        while rest != 0 {
            let i = rest.trailing_zeros() as usize;
            rest &= rest - 1;
            let (own, own_sun) = self.painter.light(x + i, y);
            for channel in 0..3 {
                (light[channel][i], sun[channel][i]) = (own[channel], own_sun[channel]);
            }
        }
        if self.painter.sun.is_some() { Sunny::Yes } else { Sunny::No }
    }

    /// Depths of the first `count` pixels of a row, and the least of them.
    fn depths(&self, x: usize, y: usize, count: usize, into: &mut [f32; STRIDE]) -> f32 {
        let off = x % ROW;
        if off != 0 {
            let mut wide = [0.0; STRIDE];
            self.depths(x - off, y, off + count, &mut wide);
            into[..count].copy_from_slice(&wide[off..off + count]);
            return into[..count].iter().fold(f32::INFINITY, |least, depth| least.min(*depth));
        }
        match self.lanes.depths(self.level, [x, y], into) {
            // Beyond the picture nothing counts.
            Some(_) if count < ROW => {}
            Some(least) => return least,
            None => (0..count).for_each(|i| into[i] = self.painter.depth(x + i, y)),
        }
        into[..count].iter().fold(f32::INFINITY, |least, depth| least.min(*depth))
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
    /// Paints the backdrop on all cores.
    pub fn paint(view: &View, spec: &BackdropSpec, lights: &[LightSpec], sun: Option<&SunSpec>) -> Self {
        let mut stars = SeenStars::default();
        stars.see(view, spec.sky.stars);
        let brush = Brush::new(view, spec, lights, sun, &stars, detect());
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
            let dark = [[0.0; STRIDE]; 3];
            let (mut row, mut sun_row, mut depths) = (dark, dark, [0.0; STRIDE]);
            for from in (0..width).step_by(ROW) {
                let count = ROW.min(width - from);
                let sunny = brush.light(from, y, first_pixels(count), &mut row, &mut sun_row);
                brush.depths(from, y, count, &mut depths);
                depth[from..from + count].copy_from_slice(&depths[..count]);
                for i in 0..count {
                    light[from + i] = row.each_ref().map(|line| line[i]);
                    if sunny == Sunny::Yes {
                        sun[from + i] = sun_row.each_ref().map(|line| line[i]);
                    }
                }
            }
        });
        planes
    }
}
