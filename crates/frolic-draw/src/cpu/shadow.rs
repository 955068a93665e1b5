//! Shadows of the sun: a shadow map of the solid elements, fitted to the view of the camera.
//!
//! The map is a depth buffer with the sun as an orthographic camera, filled by the same bins and polygons as the picture
//! (Williams, "Casting Curved Shadows on Curved Surfaces", 1978). It covers the part of the view up to the sun's `shadow_reach`, and holds every
//! element that casts a shadow into that part, at any count.

use frolic_core::{Counter, Meter, Stage, trace};
use frolic_raster::picture::Blit;
use frolic_raster::samples::Samples;
use frolic_raster::solid::{self, Style};
pub use frolic_raster::sun::AS_DEEP;
use frolic_raster::sun::{ShadowMap, Sunlight};
use frolic_raster::tile::Grid;
use frolic_simd::Level;
use glam::Vec3;
use rayon::prelude::*;
use smallvec::SmallVec;

use super::TILE_LOG2;
use super::bin::{Bin, ChunkStart};
use super::pass::{Pass, split};
use super::project::Scope;
use super::style::casting;
use super::tiled::Pictures;
use crate::camera::View;
use crate::image::ImageSize;
use crate::lamps::SunSpec;
use crate::light::shadow_view;
use crate::list::DrawList;
use crate::vertices::Seen;

/// The shadow map.
#[derive(Debug)]
pub(super) struct Shadow {
    view: Option<View>,
    grid: Grid,
    /// Nearness to the sun, tile after tile, column after column.
    tiles: Vec<f32>,
    /// Depth bias between a surface and its own shadow, in metres.
    bias: f32,
    bins: Vec<Bin>,
    starts: Vec<ChunkStart>,
    passes: Vec<Pass>,
    /// Chunks of solid records.
    chunks: Vec<usize>,
    blits: Vec<Blit>,
}

/// Maximum bias of a slanting surface, in texels.
const MOST_SLOPE: f32 = 16.0;

/// Chunks in a round.
const ROUND: usize = 64;

impl Default for Shadow {
    fn default() -> Self {
        Self {
            view: None,
            grid: Grid::new(ImageSize::default().sides(), TILE_LOG2),
            tiles: Vec::new(),
            bias: 0.0,
            bins: Vec::new(),
            starts: Vec::new(),
            passes: Vec::new(),
            chunks: Vec::new(),
            blits: Vec::new(),
        }
    }
}

/// The sun, if it casts any shadows.
fn casts<'a>(list: &DrawList<'a>) -> Option<&'a SunSpec> {
    let sun = list.lighting.sun.filter(|sun| sun.shadow_map > 0 && sun.power > 0.0);
    sun.filter(|_| list.batches().iter().any(|batch| batch.solid) || list.is_grouped())
}

impl Shadow {
    /// Tiles of the map for a list.
    pub(super) fn tiles_for(list: &DrawList<'_>) -> usize {
        let size = casts(list).and_then(|sun| ImageSize::new(sun.shadow_map, sun.shadow_map).ok());
        size.map_or(0, |size| Grid::new(size.sides(), TILE_LOG2).tiles())
    }

    /// Draws the map of the solid elements of a list; returns whether there is one.
    pub(super) fn cast(
        &mut self,
        list: &DrawList<'_>,
        camera: &View,
        level: Level,
        pictures: &mut Pictures,
        meter: &mut Meter,
    ) -> bool {
        let Some(sun) = casts(list) else {
            self.view = None;
            return false;
        };
        let Ok(size) = ImageSize::new(sun.shadow_map, sun.shadow_map) else { return false };
        let (view, texel) = shadow_view(sun, camera, size);
        self.view = Some(view);
        self.bias = texel * 2.0;
        self.grid = Grid::new(size.sides(), TILE_LOG2);
        pictures.find(list, &view, Some((camera, texel * MOST_SLOPE)), level, &mut self.blits, meter);
        let Self { grid, tiles, bins, starts, passes, chunks, blits, .. } = self;
        let (pictures, blits) = (&*pictures, &blits[..]);
        let texels = grid.tiles() * grid.tile_width() * grid.rows();
        tiles.clear();
        tiles.resize(texels, f32::NEG_INFINITY);
        split(list, starts, passes);
        chunks.clear();
        chunks.extend(passes.iter().filter(|pass| pass.solid).flat_map(|pass| pass.chunks.clone()));
        let seen = Seen { list, view: &view, camera, shadows: false, lit: false };
        let scope = Scope { level, seen, grid, stage: Stage::Shadow };
        let styles: SmallVec<[Style<'_>; 32]> =
            list.sources.iter().map(|source| casting(source.look)).collect();
        let tile_texels = grid.tile_width() * grid.rows();
        if !blits.is_empty() {
            tiles.par_chunks_mut(tile_texels).enumerate().for_each(|(nth, near)| {
                let _part = trace::part(Stage::Shadow);
                let rect = grid.rect(nth);
                let place = [rect.x as i32, rect.y as i32, grid.tile_width() as i32, grid.rows() as i32];
                blits.iter().for_each(|blit| blit.cast(pictures.of(blit), near, place));
            });
        }
        for round in chunks.chunks(ROUND) {
            if bins.len() < round.len() {
                bins.resize_with(round.len(), Bin::default);
            }
            let bins = &mut bins[..round.len()];
            bins.par_iter_mut().zip(round).for_each(|(bin, &chunk)| bin.fill(&scope, starts[chunk]));
            let bins = &*bins;
            tiles.par_chunks_mut(tile_texels).enumerate().for_each(|(nth, near)| {
                let _part = trace::part(Stage::Shadow);
                let rect = grid.rect(nth);
                let mut samples = Samples {
                    near,
                    base: &mut [],
                    sun: &mut [],
                    x: rect.x as i32,
                    y: rect.y as i32,
                    width: grid.tile_width(),
                    height: grid.rows(),
                    samples: 1,
                    spans: Default::default(),
                    most_slope: texel * MOST_SLOPE,
                };
                for bin in bins {
                    let [across, down] = grid.place(nth);
                    let mut triangles = bin.triangles.tile(nth, across, down);
                    triangles.runs(|triangles| solid::triangles(level, &mut samples, triangles, 0, &styles));
                    let mut facets = bin.facets.tile(nth, across, down);
                    facets.runs(|facets| solid::facets(level, &mut samples, facets, &styles));
                    let mut strips = bin.strips.tile(nth, across, down);
                    strips.runs(|strips| solid::strips(level, &mut samples, strips, &styles));
                }
            });
            let cast: usize = bins.iter().map(Bin::solids).sum();
            meter.add(Counter::ShadowRecords, cast as u64);
        }
        true
    }

    /// Share of the sun's light that reaches a point, 0..1: the mean of the four nearest texels, each compared on its own
    /// (Reeves, Salesin and Cook, "Rendering Antialiased Shadows with Depth Maps", 1987). Points beyond the map are lit.
    #[inline]
    pub(super) fn light_at(&self, point: Vec3) -> f32 {
        let Some(view) = &self.view else { return 1.0 };
        let local = view.local(point);
        let at = view.screen(local) - 0.5;
        self.map().lit(at.to_array(), self.bias - local.z)
    }

    /// Light at the points of a picture; none without a map.
    pub(super) fn through(&self, view: &View) -> Option<Sunlight<'_>> {
        let sun = self.view.as_ref()?;
        let [cx, cy] = view.middle();
        // The ray through pixel (x, y), for each metre of depth: x times the first vector, y times the second, plus the third.
        let ray = [
            view.right / view.focal,
            -view.up / view.focal,
            view.forward - view.right * (cx / view.focal) + view.up * (cy / view.focal),
        ];
        let from = view.eye - sun.eye;
        let [sx, sy] = sun.middle();
        let line = |axis: Vec3, scale: f32, add: f32| {
            [
                ray[0].dot(axis) * scale,
                ray[1].dot(axis) * scale,
                ray[2].dot(axis) * scale,
                from.dot(axis) * scale + add,
            ]
        };
        let lines = [
            line(sun.right, sun.focal, sx - 0.5),
            line(sun.up, -sun.focal, sy - 0.5),
            line(sun.forward, -1.0, self.bias),
        ];
        Some(Sunlight { map: self.map(), lines })
    }

    fn map(&self) -> ShadowMap<'_> {
        ShadowMap { grid: self.grid, nearness: &self.tiles }
    }

    /// Side of the map, and the nearness at each place: 0 where it is empty, else 0..1 from far to near.
    pub(super) fn picture(&self) -> (usize, Vec<f32>) {
        let some = self.tiles.iter().filter(|near| near.is_finite());
        let (low, high) =
            some.fold((f32::INFINITY, f32::NEG_INFINITY), |(l, h), near| (l.min(*near), h.max(*near)));
        let share = |near: f32| {
            if near.is_finite() { 0.15 + 0.85 * (near - low) / (high - low).max(1e-6) } else { 0.0 }
        };
        let side = if self.view.is_some() { self.grid.width } else { 0 };
        let texel = |at: usize| share(self.tiles[self.grid.texel(at % side, at / side)]);
        (side, (0..side * side).map(texel).collect())
    }

    pub(super) fn bytes(&self) -> usize {
        self.tiles.capacity() * size_of::<f32>() + self.bins.iter().map(Bin::bytes).sum::<usize>()
    }
}
