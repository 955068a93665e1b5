//! The sun's shadows: what the sun sees of the solid shapes, fitted to what the camera sees.
//!
//! The map is a depth buffer with the sun as camera, rays side by side, filled by the same bins and polygons as the picture
//! (Williams, "Casting Curved Shadows on Curved Surfaces", 1978). It covers the part of the view up to the sun's `shadow_reach`, so every
//! element that throws a shadow into it is in it, whatever the count.

use fearless_simd::f32x8;
use fearless_simd::prelude::*;
use frolic_core::simd::{Level, dispatch};
use frolic_core::{Counter, Meter, Stage, trace};
use glam::Vec3;
use rayon::prelude::*;

use super::TILE_LOG2;
use super::bin::{Bin, ChunkStart};
use super::phase::{Phase, split};
use super::project::{Scope, Tag};
use super::solid::{Samples, Style};
use super::tile::{Grid, LANES};
use super::tiled::{Blit, Pictures};
use crate::camera::View;
use crate::image::ImageSize;
use crate::light::{SunSpec, shadow_view};
use crate::list::DrawList;
use crate::vertices::Seen;

/// What the sun sees.
#[derive(Debug)]
pub(super) struct Shadow {
    view: Option<View>,
    grid: Grid,
    /// Nearness to the sun, tile after tile, column after column.
    tiles: Vec<f32>,
    /// Depth left between a surface and its own shadow, m.
    bias: f32,
    bins: Vec<Bin>,
    starts: Vec<ChunkStart>,
    phases: Vec<Phase>,
    /// Chunks of solid things.
    chunks: Vec<usize>,
    blits: Vec<Blit>,
}

/// The sun's light at points of a picture: place and depth in the map are linear in the depth and in pixels times the depth.
#[derive(Debug, Clone, Copy)]
pub(super) struct Sunlight<'a> {
    shadow: &'a Shadow,
    /// Of column, row, and nearness to the sun: what each pixel across and down and each metre of depth adds, and what is there.
    lines: [[f32; 4]; 3],
}

impl Sunlight<'_> {
    /// Share of the sun's light that reaches eight points, 0..1: pixels and depth, m. Asked only of `wanted`; neighbours in a group of
    /// `alike` lanes that are as deep as the one before share its answer.
    #[inline(always)]
    pub(super) fn at<S: Simd>(
        &self,
        _simd: S,
        x: f32x8<S>,
        y: f32x8<S>,
        depth: f32x8<S>,
        wanted: [bool; LANES],
        alike: usize,
    ) -> [f32; LANES] {
        // Loops, not closures: those would be compiled without the instruction set of `simd`.
        let mut lines = [[0.0; LANES]; 3];
        for (lanes, [ax, ay, a, c]) in lines.iter_mut().zip(self.lines) {
            *lanes = ((x * ax + y * ay + a) * depth + c).to_array();
        }
        let [column, row, near] = lines;
        let depth = depth.to_array();
        let mut light = [1.0; LANES];
        let mut before: Option<usize> = None;
        for lane in 0..LANES {
            if lane % alike == 0 {
                before = None;
            }
            if !wanted[lane] {
                continue;
            }
            light[lane] = match before {
                Some(before) if (depth[before] - depth[lane]).abs() <= depth[lane] * AS_DEEP => light[before],
                _ => self.shadow.lit([column[lane], row[lane]], near[lane]),
            };
            before = Some(lane);
        }
        light
    }
}

/// Neighbouring samples whose depths differ by less than this share take the sun alike.
pub const AS_DEEP: f32 = 1e-3;

/// Texels that a slanting surface is moved away from the sun at most.
const MOST_SLOPE: f32 = 16.0;

/// Chunks a round.
const ROUND: usize = 64;

impl Default for Shadow {
    fn default() -> Self {
        Self {
            view: None,
            grid: Grid::new(ImageSize::default(), TILE_LOG2),
            tiles: Vec::new(),
            bias: 0.0,
            bins: Vec::new(),
            starts: Vec::new(),
            phases: Vec::new(),
            chunks: Vec::new(),
            blits: Vec::new(),
        }
    }
}

/// The sun, if it throws shadows of anything.
fn casts<'a>(list: &DrawList<'a>) -> Option<&'a SunSpec> {
    let sun = list.lighting.sun.filter(|sun| sun.shadow_map > 0 && sun.power > 0.0);
    sun.filter(|_| list.batches().iter().any(|batch| batch.solid) || list.is_grouped())
}

impl Shadow {
    /// Tiles of the map that a list takes.
    pub(super) fn tiles_for(list: &DrawList<'_>) -> usize {
        let size = casts(list).and_then(|sun| ImageSize::new(sun.shadow_map, sun.shadow_map).ok());
        size.map_or(0, |size| Grid::new(size, TILE_LOG2).tiles())
    }

    /// Draws the map of a list's solid shapes; returns whether there is one.
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
        self.grid = Grid::new(size, TILE_LOG2);
        pictures.find(list, &view, Some((camera, texel * MOST_SLOPE)), level, &mut self.blits, meter);
        let Self { grid, tiles, bins, starts, phases, chunks, blits, .. } = self;
        let (pictures, blits) = (&*pictures, &blits[..]);
        let texels = grid.tiles() * grid.tile_width() * grid.rows();
        tiles.clear();
        tiles.resize(texels, f32::NEG_INFINITY);
        split(list, starts, phases);
        chunks.clear();
        chunks.extend(phases.iter().filter(|phase| phase.solid).flat_map(|phase| phase.chunks.clone()));
        let seen = Seen { list, view: &view, camera, shadows: false };
        let scope = Scope { seen, grid, tag: Tag::Source };
        let tile_texels = grid.tile_width() * grid.rows();
        if !blits.is_empty() {
            tiles.par_chunks_mut(tile_texels).enumerate().for_each(|(nth, near)| {
                let _part = trace::part(Stage::Shadow);
                let rect = grid.rect(nth);
                let place = [rect.x as i32, rect.y as i32, grid.tile_width() as i32, grid.rows() as i32];
                blits.iter().for_each(|blit| blit.cast(pictures, near, place));
            });
        }
        for round in chunks.chunks(ROUND) {
            if bins.len() < round.len() {
                bins.resize_with(round.len(), Bin::default);
            }
            let bins = &mut bins[..round.len()];
            bins.par_iter_mut().zip(round).for_each(|(bin, &chunk)| bin.fill(&scope, starts[chunk], level));
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
                dispatch!(level, simd => {
                    for bin in bins {
                        let [across, down] = grid.place(nth);
                        let mut facets = bin.facets.tile(nth, across, down);
                        while let Some((facet, _)) = facets.take() {
                            samples.facet(simd, facet, &Style::casting(list, facet.label));
                        }
                        let mut strips = bin.strips.tile(nth, across, down);
                        while let Some((strip, _)) = strips.take() {
                            samples.strip(simd, strip, &Style::casting(list, strip.label));
                        }
                    }
                });
            });
            let cast: usize = bins.iter().map(|bin| bin.facets.distinct + bin.strips.distinct).sum();
            meter.add(Counter::ShadowRecords, cast as u64);
        }
        true
    }

    /// Share of the sun's light that reaches a point, 0..1: the mean of the four texels around it, each compared on its own
    /// (Reeves, Salesin and Cook, "Rendering Antialiased Shadows with Depth Maps", 1987). Beyond the map all is lit.
    #[inline]
    pub(super) fn light_at(&self, point: Vec3) -> f32 {
        let Some(view) = &self.view else { return 1.0 };
        let local = view.local(point);
        let at = view.screen(local) - 0.5;
        self.lit(at.to_array(), self.bias - local.z)
    }

    /// The light at points of a picture; none without a map.
    pub(super) fn through(&self, view: &View) -> Option<Sunlight<'_>> {
        let sun = self.view.as_ref()?;
        let [cx, cy] = view.middle();
        // The ray through pixel (x, y) is x times the first, y times the second, and the third, for each metre of depth.
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
        Some(Sunlight { shadow: self, lines })
    }

    /// Share of the sun's light at a place of the map, pixels; the nearness to the sun that is compared. Beyond the map all is lit.
    #[inline(always)]
    fn lit(&self, at: [f32; 2], near: f32) -> f32 {
        let (w, h) = (self.grid.width, self.grid.height);
        // Written so that what is not a number is lit.
        let within = at[0] >= 0.0 && at[1] >= 0.0 && at[0] < (w - 1) as f32 && at[1] < (h - 1) as f32;
        if !within {
            return 1.0;
        }
        let (x, y) = (at[0] as usize, at[1] as usize);
        let (fx, fy) = (at[0] - x as f32, at[1] - y as f32);
        let first = self.grid.texel(x, y);
        let [wide, high] = [self.grid.tile_width() - 1, self.grid.rows() - 1];
        // Mostly all four are of one tile.
        let (right, below, across) = if x & wide != wide && y & high != high {
            (first + high + 1, first + 1, first + high + 2)
        } else {
            (self.grid.texel(x + 1, y), self.grid.texel(x, y + 1), self.grid.texel(x + 1, y + 1))
        };
        let lit = |at: usize| if self.tiles[at] > near { 0.0 } else { 1.0 };
        let upper = lit(first) * (1.0 - fx) + lit(right) * fx;
        let lower = lit(below) * (1.0 - fx) + lit(across) * fx;
        upper * (1.0 - fy) + lower * fy
    }

    /// Side of the map, and at each place how deep the sun sees: 0 nowhere, else 0..1 from far to near.
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
