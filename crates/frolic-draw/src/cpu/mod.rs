//! The CPU backend: a draw list in, an [`Image`] out.
//!
//! ```text
//! shadow   shadow map of the solid elements, by the same steps as the picture; tiles that stay are kept   shadow.rs, casters.rs
//! tiled    groups of blades: cached pictures, and those to be drawn                                    tiled/
//! project  chunks of 8192 instances, in drawing order: project, light, find the tiles of each, and put its records
//!          into the bins of the chunk (a counting sort)                                     project.rs, record.rs, bin.rs
//!          chunks in which nothing changed keep their records                                                   kept.rs
//! raster   one task a tile: start from the backdrop, then pass by pass (pass.rs, tile.rs):
//!          solid records by samples, the nearest wins                                                          front.rs
//!          transparent records in order, or far to near                                                        blend.rs
//!          large ones at a lower resolution, or mixed by weights, laid over the tile                         overlay.rs
//! resolve  bloom, tone curve, dither, eight bits; a draft is enlarged
//! ```
//!
//! These files decide the place and order of all drawing; the arithmetic is in the kernels of `frolic-raster`.
//! `walk.rs` visits the records instance by instance, for diagnostics and the plain rasteriser.
//!
//! Order is kept by construction (chunks in order, records in order within a chunk), so the picture is the same to the last
//! bit at any thread count, tile size and instruction set. Instances are drawn in rounds of at most
//! `ROUND` chunks, which bounds the memory of the bins at any count.

mod bin;
mod blend;
mod casters;
mod front;
mod kept;
mod overlay;
mod pass;
mod project;
mod record;
mod shadow;
mod style;
mod tile;
mod tiled;
mod walk;

use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;

use frolic_core::{Counter, Meter, Stage, trace};
use frolic_raster::enlarge::{self, Small};
pub use frolic_raster::finish::WHITE;
use frolic_raster::finish::{self, Bloom, ResolveBand};
use frolic_raster::overlay::Depths;
use frolic_raster::picture::Blit;
pub use frolic_raster::record::Splat;
pub use frolic_raster::samples::{PLACES, SAMPLES};
pub use frolic_raster::sections::{LEAST_RISE, MOST_LEAN, THINNEST};
use frolic_raster::solid::Style;
use frolic_raster::tile::{Grid, Row, STRIDE};
use frolic_simd::{self as simd, Level};
use glam::Vec3;
use rayon::prelude::*;
use smallvec::SmallVec;

use crate::backdrop::{Backdrop, BackdropSpec};
use crate::camera::View;
use crate::image::{Image, ImageSize};
use crate::light::Lighting;
use crate::list::DrawList;
use crate::quality::Quality;
use crate::vertices::Seen;
use bin::Bin;
use kept::Common;
use pass::{ChunkStart, Pass, PassPart};
pub use project::{NEAR_FADE, SMALLEST};
use project::{Need, Scope};
pub use record::{Quad, Shapes};
pub use shadow::AS_DEEP;
use shadow::Shadow;
use style::drawing;
use tile::{DoneTile, SolidTile, TileSamples, TileTally};
use tiled::Pictures;
pub use walk::{Instance, walk};

/// Chunks in a round: about a million instances, whose records still fit a large last-level cache.
const ROUND: usize = 128;

/// Logarithms of the usual width and height of a tile.
const TILE_LOG2: [u32; 2] = [6, 6];

/// Renders draw lists into pictures, and keeps its buffers from frame to frame.
///
/// ```
/// use frolic_core::Meter;
/// use frolic_draw::{BackdropSpec, CameraSpec, Image, ImageSize, Renderer};
/// use frolic_list::{ListScratch, ListSpec, Surroundings};
///
/// let size = ImageSize::new(64, 40)?;
/// let (view, backdrop) = (CameraSpec::default().view(size)?, BackdropSpec::default());
/// let (mut scratch, mut meter) = (ListScratch::default(), Meter::new());
/// let around = Surroundings::new(&backdrop);
/// let list = scratch.list([], &ListSpec::default(), &view, &around, &mut meter);
/// let mut image = Image::new(size);
/// Renderer::new().render(&list, &view, &backdrop, &mut image, &mut meter);
/// assert_ne!(image.pixels()[0], [0, 0, 0, 255]); // the sky is never black
/// # Ok::<(), frolic_core::SpecError>(())
/// ```
#[derive(Debug)]
pub struct Renderer {
    level: Level,
    tile_log2: [u32; 2],
    round: usize,
    backdrop: Option<Backdrop>,
    /// The rows of all tiles, tile after tile.
    rows: Vec<Row>,
    /// Whether the rows of each tile hold the light of the backdrop and nothing else.
    clean: Vec<bool>,
    /// The rows over white, of a transparent picture.
    covered: Vec<Row>,
    solid: Solid,
    shadow: Shadow,
    bins: Vec<Bin>,
    /// What the records in the bins were projected for.
    common: Common,
    starts: Vec<ChunkStart>,
    passes: Vec<Pass>,
    parts: Vec<PassPart>,
    bloom: Bloom,
    pictures: Pictures,
    blits: Vec<Blit>,
    /// Memory reserved on every thread.
    need: Need,
    /// Whether the disc of the sun is left out of the sky.
    plain: bool,
    quality: Quality,
    /// A draft, before it is enlarged.
    draft: Option<Image>,
}

/// Depths and samples of solid records, for every tile; empty without any.
#[derive(Debug, Default)]
struct Solid {
    depth: Vec<[f32; STRIDE]>,
    nearest: Vec<f32>,
    /// Empty where the picture has one round: then each thread draws its tiles into samples that stay in its cache.
    samples: Vec<TileSamples>,
}

impl Solid {
    fn resize(&mut self, grid: &Grid, wanted: bool, rounds: usize) {
        let tiles = if wanted { grid.tiles() } else { 0 };
        let count = if rounds > 1 { SAMPLES * grid.tile_width() * grid.rows() } else { 0 };
        self.depth.resize(tiles * grid.rows(), [0.0; STRIDE]);
        self.nearest.resize(tiles, 0.0);
        self.samples.resize_with(tiles, TileSamples::default);
        self.samples.iter_mut().for_each(|samples| samples.resize(count));
    }

    /// The part of each tile.
    fn tiles(&mut self, grid: &Grid) -> impl IndexedParallelIterator<Item = SolidTile<'_>> {
        let depths = self.depth.par_chunks_mut(grid.rows()).zip(&mut self.nearest);
        depths.zip(&mut self.samples).map(|((depth, nearest), samples)| SolidTile { depth, nearest, samples })
    }

    /// The part of each tile, finished.
    fn done(&self, grid: &Grid, nth: usize) -> DoneTile<'_> {
        DoneTile {
            depth: &self.depth[nth * grid.rows()..][..grid.rows()],
            nearest: self.nearest[nth],
            near: self.samples[nth].near(),
        }
    }

    fn bytes(&self) -> usize {
        self.depth.capacity() * size_of::<[f32; STRIDE]>()
            + self.samples.iter().map(TileSamples::bytes).sum::<usize>()
    }
}

impl Default for Renderer {
    fn default() -> Self {
        Self::new()
    }
}

impl Renderer {
    /// A renderer for this machine: tiles of 64 by 64 pixels.
    pub fn new() -> Self {
        Self::tuned(TILE_LOG2, ROUND, simd::detect())
    }

    /// A renderer with tiles of 2^`tile_log2` pixels across (3 to 6) and down (3 to 10), `round` chunks in a round (at least 1) and kernels
    /// of `level`. None of these changes the picture. For tests and benches.
    pub fn tuned(tile_log2: [u32; 2], round: usize, level: Level) -> Self {
        Self {
            level,
            tile_log2: [tile_log2[0].clamp(3, 6), tile_log2[1].clamp(3, 10)],
            round: round.max(1),
            backdrop: None,
            rows: Vec::new(),
            clean: Vec::new(),
            covered: Vec::new(),
            solid: Solid::default(),
            shadow: Shadow::default(),
            bins: Vec::new(),
            common: Common::default(),
            starts: Vec::new(),
            passes: Vec::new(),
            parts: Vec::new(),
            bloom: Bloom::default(),
            pictures: Pictures::default(),
            blits: Vec::new(),
            need: Need::default(),
            plain: false,
            quality: Quality::Full,
            draft: None,
        }
    }

    /// Sets the quality of the pictures that follow. Transparent ones are drawn at full quality.
    pub fn set_quality(&mut self, quality: Quality) {
        self.quality = quality;
    }

    /// Draws the list over the backdrop into `image`, and resizes the image to the view if needed.
    ///
    /// Sky and ground are cached while view, backdrop, lamps and sun stay the same.
    pub fn render(
        &mut self,
        list: &DrawList<'_>,
        view: &View,
        backdrop: &BackdropSpec,
        image: &mut Image,
        meter: &mut Meter,
    ) {
        if image.size() != view.size() {
            *image = Image::new(view.size());
        }
        if self.quality == Quality::Full {
            self.draft = None;
            self.render_all(list, view, backdrop, image, meter);
        } else {
            let view = view.halved();
            let mut small = self.draft.take().filter(|small| small.size() == view.size());
            let draft = small.get_or_insert_with(|| Image::new(view.size()));
            self.render_all(list, &view, backdrop, draft, meter);
            let started = meter.start(Stage::Resolve);
            let [width, height] = view.size().sides();
            let (small_rows, level) = (Small { pixels: draft.pixels(), width, height }, self.level);
            let across = image.size().width();
            image.pixels_mut().par_chunks_mut(across).enumerate().for_each(|(y, row)| {
                enlarge::row(level, small_rows, y, row);
            });
            meter.moved(Stage::Resolve, (draft.bytes().len() + image.bytes().len()) as u64);
            meter.stop(started);
            self.draft = small;
        }
        meter.add(Counter::DrawBytes, self.bytes() as u64);
    }

    /// Draws the list over the backdrop into an image of the size of the view.
    fn render_all(
        &mut self,
        list: &DrawList<'_>,
        view: &View,
        backdrop: &BackdropSpec,
        image: &mut Image,
        meter: &mut Meter,
    ) {
        let grid = self.fill(list, view, backdrop, meter);
        let started = meter.start(Stage::Resolve);
        let Self { bloom, rows, level, .. } = &mut *self;
        if view.bloom > 0.0 {
            bloom.spread(&grid);
        }
        let (bloom, level) = (&*bloom, *level);
        let bands = image.pixels_mut().par_chunks_mut(grid.width * grid.rows());
        bands.zip(rows.par_chunks(grid.rows() * grid.across)).enumerate().for_each(
            |(row, (pixels, tiles))| {
                let _part = trace::part(Stage::Resolve);
                let (glare, exposure) = (view.bloom, view.exposure);
                let band = ResolveBand { grid: &grid, row, pixels, tiles, bloom, glare, exposure };
                finish::resolve_band(level, band);
            },
        );
        meter.moved(Stage::Resolve, (size_of_val(&rows[..]) + image.bytes().len()) as u64);
        meter.stop(started);
    }

    /// Draws the list without a backdrop into `image`, as straight (not premultiplied) RGBA.
    ///
    /// It is drawn over black and over white; the difference gives the opacity. Additive light without cover gets an opacity equal to its
    /// brightness, so that the picture looks right over dark grounds.
    pub fn render_transparent(
        &mut self,
        list: &DrawList<'_>,
        view: &View,
        image: &mut Image,
        meter: &mut Meter,
    ) {
        if image.size() != view.size() {
            *image = Image::new(view.size());
        }
        self.plain = true;
        let quality = std::mem::take(&mut self.quality);
        // The picture over white counts as rasterising, with all its stages: counters are those of one picture.
        let started = meter.start(Stage::Raster);
        let grid = self.fill(list, view, &BackdropSpec::plain(1.0), &mut Meter::new());
        let mut covered = std::mem::take(&mut self.covered);
        std::mem::swap(&mut covered, &mut self.rows);
        meter.stop(started);
        let _ = self.fill(list, view, &BackdropSpec::plain(0.0), meter);
        (self.plain, self.quality) = (false, quality);
        let started = meter.start(Stage::Resolve);
        let (rows, level, wide) = (&self.rows, self.level, grid.tile_width());
        let pixels = image.pixels_mut().par_chunks_mut(grid.width).enumerate();
        pixels.for_each(|(y, line)| {
            for (nth, line) in line.chunks_mut(wide).enumerate() {
                let (row, _) = grid.row_of(nth * wide, y);
                finish::resolve_straight(level, &rows[row], &covered[row], view.exposure, line);
            }
        });
        meter.moved(Stage::Resolve, (2 * size_of_val(&rows[..]) + image.bytes().len()) as u64);
        meter.stop(started);
        self.covered = covered;
    }

    /// Depth of the ground or water at each pixel of the last picture, which had this size, in metres; infinite in the sky.
    pub fn backdrop_depths(&self, size: ImageSize) -> Vec<f32> {
        let [wide, high] = size.sides();
        let grid = Grid::new([wide, high], self.tile_log2);
        let at = |x, y| self.backdrop.as_ref().map_or(f32::INFINITY, |backdrop| backdrop.depth(&grid, x, y));
        (0..wide * high).map(|pixel| at(pixel % wide, pixel / wide)).collect()
    }

    /// Share of the sun's light, 0 to 1, that reached a point in the last picture; 1 without shadows.
    pub fn sunlight_at(&self, point: Vec3) -> f32 {
        self.shadow.light_at(point)
    }

    /// The shadow map of the last picture: side of the square map, and the nearness at each place: 0 where it is empty, else 0..1 from far to near.
    pub fn sun_map(&self) -> (usize, Vec<f32>) {
        self.shadow.picture()
    }

    /// Tiles of the shadow map of the last picture: those that were drawn for it, and all.
    pub fn shadow_tiles(&self) -> [usize; 2] {
        self.shadow.drawn()
    }

    /// Fills the rows of all tiles with linear light, and the reduced picture for bloom.
    fn fill(&mut self, list: &DrawList<'_>, view: &View, backdrop: &BackdropSpec, meter: &mut Meter) -> Grid {
        let grid = Grid::new(view.size().sides(), self.tile_log2);
        let tiles = grid.tiles().max(Shadow::tiles_for(list, self.quality));
        let need = Need::of(list, tiles, self.need);
        if need != self.need {
            self.need = need;
            bin::make_room(&need);
        }
        self.pictures.start(list);
        let started = meter.start(Stage::Shadow);
        let shadowed = self.shadow.cast(list, view, (self.level, self.quality), &mut self.pictures, meter);
        if shadowed {
            meter.stop(started);
        }
        let started = meter.start(Stage::Project);
        self.pictures.find(list, view, None, self.level, &mut self.blits, meter);
        meter.stop(started);
        self.paint_backdrop(&grid, view, backdrop, &list.lighting, meter);
        // With one draw call for each element this takes time.
        let started = meter.start(Stage::Project);
        let coarser = overlay::resolutions(list, view);
        pass::split(list, &coarser, &mut self.starts, &mut self.passes);
        pass::cut(&self.passes, self.round, &mut self.parts);
        if !self.blits.is_empty() {
            pass::begin_solid(&mut self.parts);
        }
        self.common.update(list, view, &grid);
        meter.stop(started);
        let Self {
            backdrop: Some(backdrop),
            rows,
            clean,
            solid,
            shadow,
            bins,
            common,
            starts,
            parts,
            bloom,
            level,
            pictures,
            blits,
            ..
        } = self
        else {
            return grid;
        };
        let (pictures, blits) = (&*pictures, &blits[..]);
        let (level, shadow, backdrop) = (*level, shadowed.then_some(&*shadow), &*backdrop);
        let brush = backdrop.brush(level);
        let (light, painting) = (backdrop.light(brush.as_ref()), AtomicU64::new(0));
        let tally = TileTally::default();
        rows.resize(grid.tiles() * grid.rows(), [[0.0; STRIDE]; 3]);
        let any_solid = parts.iter().any(|part| part.rule.solid);
        let rounds = parts.last().map_or(1, |part| part.round + 1);
        solid.resize(&grid, any_solid, rounds);
        bloom.resize(&grid);
        let scope = Scope {
            level,
            seen: Seen {
                list,
                view,
                camera: view,
                shadows: list.lighting.shadows(),
                lit: true,
                spots: true,
                due: None,
            },
            grid: &grid,
            coarser: &coarser,
            stage: Stage::Project,
        };
        let styles: SmallVec<[Style<'_>; 32]> =
            list.sources.iter().map(|source| drawing(source.look, shadow.is_some())).collect();
        // At least one round, for the backdrop, which comes after the first solid pass, if that is first of all.
        let (mut next, mut is_bare, mut boxes) = (0, true, 0);
        loop {
            let round = parts.get(next).map_or(0, |part| part.round);
            let end = next + parts[next..].iter().take_while(|part| part.round == round).count();
            let now = &parts[next..end];
            let first_chunk = now.first().map_or(0, |part| part.chunks.start);
            let chunks = &starts[first_chunk..now.last().map_or(0, |part| part.chunks.end)];
            // Each chunk has its own bins while they are few enough; then they may be kept for the next frame.
            let own = if starts.len() <= 2 * ROUND { first_chunk } else { 0 };
            if bins.len() < own + chunks.len() {
                bins.resize_with(own + chunks.len(), Bin::default);
            }
            let bins = &mut bins[own..own + chunks.len()];
            let (started, version) = (meter.start(Stage::Project), common.version);
            bins.par_iter_mut().zip(chunks).for_each(|(bin, start)| bin.renew(&scope, version, *start));
            bins.iter().for_each(|bin| bin.count(meter));
            boxes += bins.iter().map(Bin::boxes).sum::<u64>();
            meter.stop(started);

            let started = meter.start(Stage::Raster);
            let (bins, last) = (&*bins, end == parts.len());
            // Parts of a lower resolution read depths beside their tile, which no tile may then write.
            let is_done = any_solid && next > 0 && now.iter().any(|part| part.rule.coarser > 0);
            let raster = |nth: usize,
                          (rows, is_clean): (&mut [Row], &mut bool),
                          small: &mut [f32],
                          solid: Option<SolidTile<'_>>,
                          (done, depths): (Option<DoneTile<'_>>, &[[f32; STRIDE]])| {
                let _part = trace::part(Stage::Raster);
                let task = tile::RasterTile {
                    level,
                    grid: &grid,
                    nth,
                    rows: &mut *rows,
                    behind: backdrop.tile(nth),
                    light: &light,
                    painting: &painting,
                    tally: &tally,
                    solid,
                    done,
                    depths: Depths { grid: &grid, rows: depths },
                    bins,
                    first_chunk,
                    parts: now,
                    list,
                    view,
                    shadow,
                    styles: &styles,
                    groups: if next == 0 { blits } else { &[] },
                    pictures,
                    first: next == 0,
                    is_bare,
                    is_clean,
                };
                task.run();
                if view.bloom > 0.0 && last {
                    finish::average_blocks(level, &grid, nth, rows, small);
                }
            };
            let tiles = rows.par_chunks_mut(grid.rows()).zip(&mut *clean).zip(bloom.tiles(&grid));
            let behind = backdrop.depths();
            if is_done {
                let solid = &*solid;
                tiles.enumerate().for_each(|(nth, (rows, small))| {
                    raster(nth, rows, small, None, (Some(solid.done(&grid, nth)), &solid.depth));
                });
            } else if any_solid {
                tiles.zip(solid.tiles(&grid)).enumerate().for_each(|(nth, ((rows, small), solid))| {
                    raster(nth, rows, small, Some(solid), (None, behind));
                });
            } else {
                tiles.enumerate().for_each(|(nth, (rows, small))| {
                    raster(nth, rows, small, None, (None, behind));
                });
            }
            // Light is written over the backdrop, or over the result of the earlier rounds.
            let light = size_of::<Row>() * 2;
            let solid_bytes = if any_solid && rounds > 1 { SAMPLES * grid.tile_width() * 12 * 2 } else { 0 };
            meter.moved(Stage::Raster, (rows.len() * (light + solid_bytes)) as u64);
            meter.stop(started);
            let painting = painting.swap(0, Ordering::Relaxed) / rayon::current_num_threads() as u64;
            meter.move_time(Stage::Raster, Stage::Backdrop, Duration::from_nanos(painting));
            is_bare &= now.first().is_some_and(|part| part.rule.solid && !part.ends);
            next = end;
            if last {
                break;
            }
        }
        tally.count(meter);
        // Discs cover a part of the boxes around them.
        meter.add(Counter::PixelsTouched, (boxes as f64 * std::f64::consts::FRAC_PI_4 / 16.0) as u64);
        grid
    }

    fn paint_backdrop(
        &mut self,
        grid: &Grid,
        view: &View,
        spec: &BackdropSpec,
        lighting: &Lighting<'_>,
        meter: &mut Meter,
    ) {
        let started = meter.start(Stage::Backdrop);
        let (lights, sun) = (lighting.lights, lighting.sun.filter(|_| !self.plain));
        let before = self.backdrop.take();
        let (backdrop, is_kept) = Backdrop::next(before, grid, view, spec, lights, sun, self.level);
        if is_kept {
            meter.add(Counter::BackdropHits, 1);
        } else {
            meter.add(Counter::BackdropMisses, 1);
            meter.moved(Stage::Backdrop, backdrop.written() as u64);
            self.clean.clear();
        }
        self.clean.resize(grid.tiles(), false);
        self.backdrop = Some(backdrop);
        meter.stop(started);
    }

    fn bytes(&self) -> usize {
        self.backdrop.as_ref().map_or(0, Backdrop::bytes)
            + self.rows.capacity() * size_of::<Row>()
            + self.solid.bytes()
            + self.shadow.bytes()
            + self.pictures.bytes()
            + self.draft.as_ref().map_or(0, |draft| draft.bytes().len())
            + self.bins.iter().map(Bin::bytes).sum::<usize>()
            + self.starts.capacity() * size_of::<ChunkStart>()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn grid_covers_the_picture_once() {
        let grid = Grid::new([130, 33], [6, 5]);
        assert_eq!((grid.across, grid.down), (3, 2));
        let inside: usize = (0..grid.tiles())
            .map(|nth| grid.rect(nth))
            .map(|frolic_raster::tile::Rect { w, h, .. }| w * h)
            .sum();
        assert_eq!(inside, 130 * 33);
    }
}
