//! Shadows of the sun: a shadow map of the solid elements, fitted to the view of the camera.
//!
//! The map is a depth buffer with the sun as an orthographic camera, filled by the same bins and polygons as the picture
//! (Williams, "Casting Curved Shadows on Curved Surfaces", 1978). It covers the part of the view up to the sun's `shadow_reach`, and holds every
//! element that casts a shadow into that part, at any count.
//!
//! While a scene runs before a still camera, a frame draws some tiles of the map and those near the camera, and keeps the others: all are new
//! within `shadow_frames` frames. A picture of a scene that does not run, or in which anything else changed, has all of them drawn.

use std::hash::{DefaultHasher, Hash, Hasher};

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
use super::bin::Bin;
use super::pass::{ChunkStart, Pass, split};
use super::project::Scope;
use super::style::casting;
use super::tiled::Pictures;
use crate::camera::View;
use crate::image::ImageSize;
use crate::lamps::SunSpec;
use crate::light::shadow_view;
use crate::list::DrawList;
use crate::quality::Quality;
use crate::vertices::{Due, Seen};

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
    /// What the tiles were drawn for.
    kept: Option<Kept>,
    /// Tiles that this frame draws.
    due: Vec<bool>,
}

/// What a map was drawn for: with it another frame of a running scene can keep some of its tiles.
#[derive(Debug, Clone, Copy, PartialEq)]
struct Kept {
    sun: SunSpec,
    view: View,
    /// Looks of the sources.
    looks: u64,
    /// Time of the scene, in seconds.
    time: f32,
    /// Frames since all tiles were drawn.
    frames: u32,
}

impl Kept {
    /// Most seconds from one frame of a running scene to the next.
    const STEP: f32 = 0.1;

    /// The next frame: it goes on from this one where the scene runs, and nothing else changed.
    fn next(before: Option<Self>, list: &DrawList<'_>, sun: &SunSpec, view: &View) -> Self {
        let mut looks = DefaultHasher::new();
        list.sources.iter().for_each(|source| source.look.key.hash(&mut looks));
        let next = Self { sun: *sun, view: *view, looks: looks.finish(), time: list.time, frames: 0 };
        match before {
            Some(Self { time, frames, .. }) => {
                let runs = list.time > time && list.time - time <= Self::STEP;
                let same = before == Some(Self { time, frames, ..next });
                Self { frames: if runs && same { frames + 1 } else { 0 }, ..next }
            }
            None => next,
        }
    }
}

/// Share of the shadow reach in which shadows are drawn in every frame.
const ALWAYS: f32 = 0.1;

/// Marks the tiles that a frame draws: all of them, or each in its turn and those near the camera.
fn mark(due: &mut Vec<bool>, grid: &Grid, kept: &Kept, camera: &View) {
    let turns = kept.sun.shadow_frames.max(1);
    due.clear();
    // Neighbours have different turns.
    due.extend((0..grid.tiles()).map(|nth| {
        let [across, down] = grid.place(nth);
        kept.frames == 0 || (u32::from(across) + 2 * u32::from(down)) % turns == kept.frames % turns
    }));
    let at = kept.view.screen(kept.view.local(camera.eye));
    let reach = kept.sun.shadow_reach * ALWAYS * kept.view.focal;
    if let Some(tiles) = grid.cover([at.x - reach, at.y - reach, at.x + reach, at.y + reach]) {
        tiles.each(grid, |tile| due[tile] = true);
    }
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
            kept: None,
            due: Vec::new(),
        }
    }
}

/// The sun, if it casts any shadows.
fn casts(list: &DrawList<'_>, quality: Quality) -> Option<SunSpec> {
    let sun = list.lighting.sun.filter(|sun| sun.shadow_map > 0 && sun.power > 0.0);
    let sun = sun.filter(|_| list.batches().iter().any(|batch| batch.solid) || list.is_grouped())?;
    let shadow_map = if quality == Quality::Draft { sun.shadow_map / 2 } else { sun.shadow_map };
    Some(SunSpec { shadow_map, ..*sun })
}

impl Shadow {
    /// Tiles of the map for a list.
    pub(super) fn tiles_for(list: &DrawList<'_>, quality: Quality) -> usize {
        let size = casts(list, quality).and_then(|sun| ImageSize::new(sun.shadow_map, sun.shadow_map).ok());
        size.map_or(0, |size| Grid::new(size.sides(), TILE_LOG2).tiles())
    }

    /// Draws the map of the solid elements of a list; returns whether there is one.
    pub(super) fn cast(
        &mut self,
        list: &DrawList<'_>,
        camera: &View,
        (level, quality): (Level, Quality),
        pictures: &mut Pictures,
        meter: &mut Meter,
    ) -> bool {
        let Some(sun) = casts(list, quality) else {
            (self.view, self.kept) = (None, None);
            return false;
        };
        let Ok(size) = ImageSize::new(sun.shadow_map, sun.shadow_map) else { return false };
        let (view, texel) = shadow_view(&sun, camera, size);
        self.view = Some(view);
        self.bias = texel * 2.0;
        self.grid = Grid::new(size.sides(), TILE_LOG2);
        pictures.find(list, &view, Some((camera, texel * MOST_SLOPE)), level, &mut self.blits, meter);
        let kept = Kept::next(self.kept, list, &sun, &view);
        self.kept = Some(kept);
        let Self { grid, tiles, bins, starts, passes, chunks, blits, due, .. } = self;
        let (pictures, blits) = (&*pictures, &blits[..]);
        mark(due, grid, &kept, camera);
        let due = &due[..];
        let tile_texels = grid.tile_width() * grid.rows();
        tiles.resize(grid.tiles() * tile_texels, f32::NEG_INFINITY);
        meter.add(Counter::ShadowKept, due.iter().filter(|due| !**due).count() as u64);
        split(list, &[], starts, passes);
        chunks.clear();
        chunks.extend(passes.iter().filter(|pass| pass.rule.solid).flat_map(|pass| pass.chunks.clone()));
        let due_tiles = (kept.frames > 0).then_some(Due { grid, tiles: due });
        let seen =
            Seen { list, view: &view, camera, shadows: false, lit: false, spots: true, due: due_tiles };
        let scope = Scope { level, seen, grid, coarser: &[], stage: Stage::Shadow };
        let styles: SmallVec<[Style<'_>; 32]> =
            list.sources.iter().map(|source| casting(source.look)).collect();
        tiles.par_chunks_mut(tile_texels).zip(due).enumerate().filter(|(_, (_, due))| **due).for_each(
            |(nth, (near, _))| {
                let _part = trace::part(Stage::Shadow);
                near.fill(f32::NEG_INFINITY);
                let rect = grid.rect(nth);
                let place = [rect.x as i32, rect.y as i32, grid.tile_width() as i32, grid.rows() as i32];
                blits.iter().for_each(|blit| blit.cast(pictures.of(blit), near, place));
            },
        );
        for round in chunks.chunks(ROUND) {
            if bins.len() < round.len() {
                bins.resize_with(round.len(), Bin::default);
            }
            let bins = &mut bins[..round.len()];
            bins.par_iter_mut().zip(round).for_each(|(bin, &chunk)| bin.fill(&scope, starts[chunk]));
            let bins = &*bins;
            let drawn = tiles.par_chunks_mut(tile_texels).zip(due).enumerate().filter(|(_, (_, due))| **due);
            drawn.for_each(|(nth, (near, _))| {
                let _part = trace::part(Stage::Shadow);
                let rect = grid.rect(nth);
                let mut samples = Samples {
                    near,
                    x: rect.x as i32,
                    y: rect.y as i32,
                    width: grid.tile_width(),
                    height: grid.rows(),
                    shown: [rect.w, rect.h],
                    samples: 1,
                    most_slope: texel * MOST_SLOPE,
                    ..Samples::default()
                };
                for bin in bins {
                    let [across, down] = grid.place(nth);
                    let mut triangles = bin.triangles.tile(nth, across, down);
                    triangles.runs(|triangles| solid::triangles(level, &mut samples, triangles, 0, &styles));
                    let mut facets = bin.facets.tile(nth, across, down);
                    facets.runs(|facets| solid::facets(level, &mut samples, facets, 0, &styles));
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

    /// Tiles that the last picture drew, and all.
    pub(super) fn drawn(&self) -> [usize; 2] {
        let of = if self.view.is_some() { &self.due[..] } else { &[] };
        [of.iter().filter(|due| **due).count(), of.len()]
    }

    pub(super) fn bytes(&self) -> usize {
        self.tiles.capacity() * size_of::<f32>() + self.bins.iter().map(Bin::bytes).sum::<usize>()
    }
}
