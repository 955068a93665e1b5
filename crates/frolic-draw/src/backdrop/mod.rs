//! The backdrop: sky, ground and water.
//!
//! The backdrop is painted once for a view and cached. Four rays a pixel hit the sky, a far coast, the flat ground out to its shore, or the
//! water beyond. Each of these is shaded once a pixel and weighted by its rays, which smooths all edges. Depths of solid parts are kept too, so that
//! elements fade softly into them. A moving camera paints it in each frame: rows of pixels are painted together, and only those that the horizon
//! crosses pixel by pixel.

mod lanes;
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
use lanes::{Lanes, PaintedRow, ROW};
use painter::Painter;

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
    /// Paints the backdrop on all cores, into the memory of an earlier one if there is one.
    pub(crate) fn paint(
        before: Option<Self>,
        grid: &Grid,
        view: &View,
        spec: &BackdropSpec,
        lights: &[LightSpec],
        sun: Option<&SunSpec>,
        level: Level,
    ) -> Self {
        let key = BackdropKey::new(view, spec, lights, sun);
        let mut kept = before.unwrap_or_else(|| Self {
            key: key.clone(),
            height: 0,
            rows: Vec::new(),
            sunlit: Vec::new(),
            depth: Vec::new(),
            nearest: Vec::new(),
        });
        let height = grid.rows();
        let dark = [[0.0; STRIDE]; 3];
        let count = grid.tiles() * height;
        (kept.key, kept.height) = (key, height);
        kept.rows.resize(count, dark);
        kept.sunlit.resize(if sun.is_some() { count } else { 0 }, dark);
        kept.depth.resize(count, [f32::INFINITY; STRIDE]);
        kept.nearest.resize(grid.tiles(), f32::INFINITY);
        if let Some(light) = spec.one_colour(sun) {
            let row = light.map(|channel| [channel; STRIDE]);
            kept.rows.par_iter_mut().for_each(|into| *into = row);
            kept.depth.fill([f32::INFINITY; STRIDE]);
            kept.nearest.fill(f32::INFINITY);
            return kept;
        }
        let painter = Painter::new(view, spec, lights, sun);
        let lanes = Lanes::new(&painter);
        let mut sun_tiles: Vec<&mut [Row]> = kept.sunlit.chunks_mut(height).collect();
        sun_tiles.resize_with(grid.tiles(), Default::default);
        let tiles = kept
            .rows
            .par_chunks_mut(height)
            .zip(kept.depth.par_chunks_mut(height))
            .zip(&mut kept.nearest)
            .zip(sun_tiles)
            .enumerate();
        tiles.for_each(|(nth, (((rows, depth), nearest), sunlit))| {
            let _part = trace::part(Stage::Backdrop);
            let (rect, wide) = (grid.rect(nth), grid.tile_width());
            let mut row = PaintedRow::default();
            *nearest = f32::INFINITY;
            for j in 0..height {
                paint_row(&painter, &lanes, level, [rect.x, rect.y + j], wide, &mut row);
                for channel in 0..3 {
                    rows[j][channel][..wide].copy_from_slice(&row.light[channel][..wide]);
                    if let Some(into) = sunlit.get_mut(j) {
                        into[channel][..wide].copy_from_slice(&row.sun[channel][..wide]);
                    }
                }
                depth[j][..wide].copy_from_slice(&row.depth[..wide]);
                *nearest = row.depth[..wide].iter().fold(*nearest, |least, depth| least.min(*depth));
            }
        });
        kept
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

/// Paints the first `count` pixels of a row: all at once, or one by one where the horizon crosses it.
fn paint_row(
    painter: &Painter<'_>,
    lanes: &Lanes,
    level: Level,
    [x, y]: [usize; 2],
    count: usize,
    row: &mut PaintedRow,
) {
    if lanes.paint(level, x, y, row) {
        return;
    }
    for i in 0..count {
        let (light, sun, depth) = painter.pixel(x + i, y);
        for channel in 0..3 {
            (row.light[channel][i], row.sun[channel][i]) = (light[channel], sun[channel]);
        }
        row.depth[i] = depth;
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
        let painter = Painter::new(view, spec, lights, sun);
        let lanes = Lanes::new(&painter);
        let level = detect();
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
            let mut row = PaintedRow::default();
            for from in (0..width).step_by(ROW) {
                let count = ROW.min(width - from);
                paint_row(&painter, &lanes, level, [from, y], count, &mut row);
                for i in 0..count {
                    light[from + i] = row.light.each_ref().map(|line| line[i]);
                    sun[from + i] = row.sun.each_ref().map(|line| line[i]);
                    depth[from + i] = row.depth[i];
                }
            }
        });
        planes
    }
}
