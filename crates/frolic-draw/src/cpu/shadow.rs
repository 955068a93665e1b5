//! Shadows of the sun: a shadow map of the solid elements, fitted to the view of the camera.
//!
//! The map is a depth buffer with the sun as an orthographic camera, filled by the same bins and polygons as the picture
//! (Williams, "Casting Curved Shadows on Curved Surfaces", 1978). It covers the part of the view up to the sun's `shadow_reach`, and holds every
//! element that casts a shadow into that part, at any count.
//!
//! While a scene runs, a frame draws some tiles of the map and those near the camera, and keeps the others: all are new within `shadow_frames`
//! frames. The texels are those of a grid that stays while the camera moves, so the map moves on by whole tiles, and those that come
//! into it are drawn. Tiles that only unchanged casters reach are kept (`casters.rs`). A picture of a scene that does not run, or in which
//! anything else changed, has all of them drawn.

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
use super::casters::Casters;
use super::pass::{ChunkStart, Pass, split};
use super::project::Scope;
use super::style::casting;
use super::tiled::Pictures;
use crate::camera::View;
use crate::image::ImageSize;
use crate::lamps::SunSpec;
use crate::light::SunPlace;
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
    casters: Casters,
    /// Column and row of the first texel that the view needs, and how many there are across and down.
    window: ([usize; 2], usize),
    /// Whether groups were drawn into the map.
    grouped: bool,
    /// Tiles that this frame draws.
    due: Vec<bool>,
}

/// What a map was drawn for: with it another frame of a running scene can keep some of its tiles.
#[derive(Debug, Clone, Copy)]
struct Kept {
    sun: SunSpec,
    /// Side of a texel in metres.
    texel: f32,
    /// Column and row of the first tile among those of the grid of texels.
    first: [i64; 2],
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

    /// Without a place.
    fn new(list: &DrawList<'_>, sun: &SunSpec) -> Self {
        let mut looks = DefaultHasher::new();
        list.sources.iter().for_each(|source| source.look.key.hash(&mut looks));
        Self { sun: *sun, texel: 0.0, first: [0; 2], looks: looks.finish(), time: list.time, frames: 0 }
    }

    /// Whether another is of the same sun and looks.
    fn is_like(&self, other: &Self) -> bool {
        (&self.sun, self.looks) == (&other.sun, other.looks)
    }

    /// Whether it is that of the next frame of a running scene.
    fn follows(&self, before: &Self) -> bool {
        self.time > before.time && self.time - before.time <= Self::STEP
    }
}

/// Moves the tiles of a map, each of some values, on by a number of tiles across and down.
fn scroll<T: Copy>(tiles: &mut [T], each: usize, [wide, high]: [usize; 2], by: [i64; 2]) {
    let [across, down] = by;
    let (w, h) = (wide as i64, high as i64);
    let away = down * w + across;
    for nth in 0..w * h {
        // Away from the side that the tiles come from, so that none is lost before it was moved.
        let to = if away > 0 { nth } else { w * h - 1 - nth };
        let [x, y] = [to % w + across, to / w + down];
        if (0..w).contains(&x) && (0..h).contains(&y) {
            let from = (to + away) as usize * each;
            tiles.copy_within(from..from + each, to as usize * each);
        }
    }
}

/// Share of the shadow reach in which shadows are drawn in every frame.
const ALWAYS: f32 = 0.1;

/// Marks the tiles that a frame draws: all of them, or those that came into a map that moved on by some tiles, and of those that are stale each in its turn, and all near the camera.
fn mark(
    due: &mut Vec<bool>,
    stale: &mut [bool],
    grid: &Grid,
    kept: &Kept,
    moved: [i64; 2],
    (view, camera): (&View, &View),
) {
    let at = view.screen(view.local(camera.eye));
    let reach = kept.sun.shadow_reach * ALWAYS * view.focal;
    let near = grid.cover([at.x - reach, at.y - reach, at.x + reach, at.y + reach]);
    let turns = i64::from(kept.sun.shadow_frames.max(1));
    let (wide, high) = (grid.across as i64, grid.down as i64);
    due.clear();
    due.extend((0..grid.tiles()).map(|nth| {
        let place = grid.place(nth);
        let [across, down] = place.map(i64::from);
        let is_new = !(0..wide).contains(&(across + moved[0])) || !(0..high).contains(&(down + moved[1]));
        // Neighbours have different turns.
        let turn = (across + kept.first[0] + 2 * (down + kept.first[1])).rem_euclid(turns);
        let is_near = || near.is_some_and(|near| near.contains(place[0], place[1]));
        let is_turn = turn == i64::from(kept.frames) % turns;
        let is_due = kept.frames == 0 || is_new || (stale[nth] && (is_turn || is_near()));
        stale[nth] &= !is_due;
        is_due
    }));
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
            casters: Casters::default(),
            window: ([0; 2], 0),
            grouped: false,
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

/// Size of the map: whole tiles, one more than the sun asks for, as its first texel is that of a tile.
fn map_size(sun: &SunSpec) -> Option<ImageSize> {
    let tile = 1 << TILE_LOG2[0];
    let side = (sun.shadow_map.div_ceil(tile) + 1) * tile;
    ImageSize::new(side, side).ok()
}

impl Shadow {
    /// Tiles of the map for a list.
    pub(super) fn tiles_for(list: &DrawList<'_>, quality: Quality) -> usize {
        casts(list, quality)
            .and_then(|sun| map_size(&sun))
            .map_or(0, |size| Grid::new(size.sides(), TILE_LOG2).tiles())
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
        let Some(size) = map_size(&sun) else { return false };
        let mut kept = Kept::new(list, &sun);
        let before = self.kept.filter(|before| kept.is_like(before));
        let runs = before.filter(|before| kept.follows(before));
        let place = SunPlace::new(&sun, camera, sun.shadow_map as usize, runs.map(|before| before.texel));
        let (texel, tile) = (place.texel, 1 << TILE_LOG2[0]);
        let first = place.first.map(|first| first.div_euclid(tile));
        let view = place.view(first.map(|first| first * tile), size);
        self.window = (place.first.map(|texel| texel.rem_euclid(tile) as usize), sun.shadow_map as usize);
        self.view = Some(view);
        self.bias = texel * 2.0;
        self.grid = Grid::new(size.sides(), TILE_LOG2);
        pictures.find(list, &view, Some((camera, texel * MOST_SLOPE)), level, &mut self.blits, meter);
        (kept.texel, kept.first) = (texel, first);
        if before.is_none_or(|before| before.texel != texel) {
            self.casters.renew();
        }
        let before = runs.filter(|before| before.texel == texel);
        kept.frames = before.map_or(0, |before| before.frames + 1);
        self.kept = Some(kept);
        let before = before.unwrap_or(kept);
        // No farther than all tiles are new.
        let most = size.width() as i64;
        let moved = [0, 1].map(|axis| (kept.first[axis] - before.first[axis]).clamp(-most, most));
        let Self { grid, tiles, bins, starts, passes, chunks, blits, due, casters, grouped, .. } = self;
        let (pictures, blits) = (&*pictures, &blits[..]);
        let tile_texels = grid.tile_width() * grid.rows();
        tiles.resize(grid.tiles() * tile_texels, f32::NEG_INFINITY);
        casters.stale.resize(grid.tiles(), true);
        if moved != [0, 0] {
            scroll(tiles, tile_texels, [grid.across, grid.down], moved);
            scroll(&mut casters.stale, 1, [grid.across, grid.down], moved);
        }
        split(list, &[], starts, passes);
        chunks.clear();
        chunks.extend(passes.iter().filter(|pass| pass.rule.solid).flat_map(|pass| pass.chunks.clone()));
        let mut seen = Seen { list, view: &view, camera, shadows: false, lit: false, spots: true, due: None };
        casters.update(&seen, grid, first, starts, chunks);
        if std::mem::replace(grouped, !blits.is_empty()) || *grouped {
            // Groups sway.
            casters.stale.fill(true);
        }
        mark(due, &mut casters.stale, grid, &kept, moved, (&view, camera));
        let due = &due[..];
        meter.add(Counter::ShadowKept, due.iter().filter(|due| !**due).count() as u64);
        if kept.frames > 0 {
            seen.due = Some(Due { grid, tiles: due });
            let mut nth = 0..;
            chunks.retain(|_| nth.next().is_some_and(|nth| casters.reaches(nth, grid, first, due)));
        }
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

    /// Side of the part of the map that the view needs, and the nearness at each place: 0 where it is empty, else 0..1 from far to near.
    pub(super) fn picture(&self) -> (usize, Vec<f32>) {
        let ([x, y], side) = if self.view.is_some() { self.window } else { ([0; 2], 0) };
        let some = self.tiles.iter().filter(|near| near.is_finite());
        let (low, high) =
            some.fold((f32::INFINITY, f32::NEG_INFINITY), |(l, h), near| (l.min(*near), h.max(*near)));
        let share = |near: f32| {
            if near.is_finite() { 0.15 + 0.85 * (near - low) / (high - low).max(1e-6) } else { 0.0 }
        };
        let texel = |at: usize| share(self.tiles[self.grid.texel(x + at % side, y + at / side)]);
        (side, (0..side * side).map(texel).collect())
    }

    /// Tiles that the last picture drew, and all.
    pub(super) fn drawn(&self) -> [usize; 2] {
        let of = if self.view.is_some() { &self.due[..] } else { &[] };
        [of.iter().filter(|due| **due).count(), of.len()]
    }

    pub(super) fn bytes(&self) -> usize {
        self.tiles.capacity() * size_of::<f32>()
            + self.bins.iter().map(Bin::bytes).sum::<usize>()
            + self.casters.bytes()
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        /// A map that moves on holds what it held, in its new place.
        #[test]
        fn tiles_move_with_the_map(wide in 1usize..7, high in 1usize..7, across in -8i64..8, down in -8i64..8) {
            let held: Vec<[i64; 2]> = (0..wide * high).map(|nth| [(nth % wide) as i64, (nth / wide) as i64]).collect();
            let mut tiles: Vec<i64> = held.iter().flatten().copied().collect();
            scroll(&mut tiles, 2, [wide, high], [across, down]);
            for [x, y] in held {
                let from = [x + across, y + down];
                let within = (0..wide as i64).contains(&from[0]) && (0..high as i64).contains(&from[1]);
                let at = (y as usize * wide + x as usize) * 2;
                prop_assert!(!within || tiles[at..at + 2] == from, "{x} {y}: {:?}", &tiles[at..at + 2]);
            }
        }
    }
}
