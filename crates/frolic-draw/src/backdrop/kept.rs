//! The backdrop of a picture in tiles: kept from frame to frame, or painted with them.

use frolic_core::{Stage, trace};
use frolic_raster::tile::{Grid, Row, STRIDE};
use frolic_simd::Level;
use rayon::prelude::*;

use super::BackdropSpec;
use super::brush::{Brush, first_pixels};
use super::lanes::Sunny;
use super::stars::SeenStars;
use crate::camera::View;
use crate::lamps::{LightSpec, SunSpec};

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
        let mut it = before.unwrap_or_else(|| Self {
            key: BackdropKey::new(view, spec, lights, sun),
            is_new: false,
            keeps_light: false,
            height: 0,
            rows: Vec::new(),
            sunlit: Vec::new(),
            depth: Vec::new(),
            nearest: Vec::new(),
            stars: SeenStars::default(),
        });
        let fits = it.height > 0 && it.key.fits(view, spec, lights, sun);
        let is_even = spec.one_colour(sun).is_some();
        if fits && (is_even || it.keeps_light) {
            it.is_new = false;
            return (it, true);
        }
        // Changed twice in a row: it moves, and is not worth keeping.
        let moves = !fits && it.is_new;
        (it.is_new, it.keeps_light) = (!fits && it.height > 0, !moves && !is_even);
        it.key.set(view, spec, lights, sun);
        it.height = grid.rows();
        let count = grid.tiles() * it.height;
        it.depth.resize(count, [f32::INFINITY; STRIDE]);
        it.nearest.resize(grid.tiles(), f32::INFINITY);
        if is_even {
            it.depth.fill([f32::INFINITY; STRIDE]);
            it.nearest.fill(f32::INFINITY);
            return (it, false);
        }
        it.stars.see(view, spec.sky.stars);
        let Self { key, rows, sunlit, depth, nearest, keeps_light, stars, .. } = &mut it;
        let brush = key.brush(stars, level);
        paint_depths(&brush, grid, depth, nearest);
        if *keeps_light {
            let dark = [[0.0; STRIDE]; 3];
            rows.resize(count, dark);
            sunlit.resize(if sun.is_some() { count } else { 0 }, dark);
            paint_light(&brush, grid, rows, sunlit);
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

    /// Depths of all tiles, row after row.
    pub(crate) fn depths(&self) -> &[[f32; STRIDE]] {
        &self.depth
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

/// Paints the depths of all tiles, and the least of each.
fn paint_depths(brush: &Brush<'_>, grid: &Grid, depth: &mut [[f32; STRIDE]], nearest: &mut [f32]) {
    let tiles = depth.par_chunks_mut(grid.rows()).zip(nearest).enumerate();
    tiles.for_each(|(nth, (rows, nearest))| {
        let _part = trace::part(Stage::Backdrop);
        let rect = grid.rect(nth);
        *nearest = f32::INFINITY;
        for (j, row) in rows.iter_mut().enumerate().take(rect.h) {
            *nearest = nearest.min(brush.depths(rect.x, rect.y + j, rect.w, row));
        }
    });
}

/// Paints the light of all tiles, and their unshadowed sunlight if there are rows for it.
fn paint_light(brush: &Brush<'_>, grid: &Grid, rows: &mut [Row], sunlit: &mut [Row]) {
    let mut sun_tiles: Vec<&mut [Row]> = sunlit.chunks_mut(grid.rows()).collect();
    sun_tiles.resize_with(grid.tiles(), Default::default);
    let tiles = rows.par_chunks_mut(grid.rows()).zip(sun_tiles).enumerate();
    tiles.for_each(|(nth, (rows, sunlit))| {
        let _part = trace::part(Stage::Backdrop);
        let rect = grid.rect(nth);
        let mut none = [[0.0; STRIDE]; 3];
        for (j, row) in rows.iter_mut().enumerate().take(rect.h) {
            let sun = sunlit.get_mut(j).unwrap_or(&mut none);
            brush.light(rect.x, rect.y + j, first_pixels(rect.w), row, sun);
        }
    });
}

impl BackdropKey {
    /// Becomes the key of another backdrop, in its own memory.
    fn set(&mut self, view: &View, spec: &BackdropSpec, lights: &[LightSpec], sun: Option<&SunSpec>) {
        (self.view, self.sun) = (*view, sun.copied());
        self.spec.clone_from(spec);
        self.lights.clear();
        self.lights.extend_from_slice(lights);
    }

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

    /// Whether it is that of earlier frames.
    pub(crate) fn is_kept(&self) -> bool {
        matches!(self, Self::Kept(..))
    }

    /// Whether it is painted while tiles are drawn.
    pub(crate) fn is_painted(&self) -> bool {
        matches!(self, Self::Painted(_))
    }
}
