//! The CPU backend: a draw list in, an [`Image`] out.
//!
//! ```text
//! project  chunks of 8192 instances, in drawing order: project, light, find the tiles each touches, and put its record
//!          into the chunk's own bins (a counting sort)                                  project.rs, bin.rs
//! raster   one tile a task: start from the backdrop, walk every chunk's bin in order, blend       tile.rs
//! resolve  bloom, tone curve, dither, eight bits                                                  resolve.rs
//! ```
//!
//! Order is kept by construction (chunks in order, records in order within a chunk), so the picture is the same to the last
//! bit at any thread count, tile size and instruction set. Instances go through in rounds of at most
//! `ROUND` chunks, which bounds the memory of the bins at any count.

mod bin;
pub(crate) mod project;
pub mod reference;
mod resolve;
mod tile;

use frolic_core::simd::{Level, dispatch};
use frolic_core::{Counter, Meter, Stage};
use rayon::prelude::*;

use crate::backdrop::{Backdrop, BackdropSpec};
use crate::camera::View;
use crate::image::Image;
use crate::list::DrawList;
use crate::look::LightSpec;
use bin::{Bin, CHUNK};
pub use project::{SMALLEST, Splat};
use resolve::Bloom;
#[cfg(test)]
use tile::Rect;
pub(crate) use tile::{Grid, Row, STRIDE};

/// Chunks a round: about a million instances, whose records then still fit a large last-level cache.
const ROUND: usize = 128;

/// Turns draw lists into pictures, keeping its buffers from frame to frame.
///
/// ```
/// use frolic_core::Meter;
/// use frolic_draw::{BackdropSpec, CameraSpec, Image, ImageSize, ListScratch, Renderer, Technique};
///
/// let size = ImageSize::new(64, 40)?;
/// let (view, backdrop) = (CameraSpec::default().view(size)?, BackdropSpec::default());
/// let (mut scratch, mut meter) = (ListScratch::default(), Meter::new());
/// let list = scratch.list([], Technique::Instanced, &view, &backdrop, &[], &mut meter);
/// let mut image = Image::new(size);
/// Renderer::new().render(&list, &view, &backdrop, &mut image, &mut meter);
/// assert_ne!(image.pixels()[0], [0, 0, 0, 255]); // the sky is never black
/// # Ok::<(), frolic_core::SpecError>(())
/// ```
#[derive(Debug)]
pub struct Renderer {
    level: Level,
    height_log2: u32,
    round: usize,
    backdrop: Option<Backdrop>,
    /// The rows of every tile, tile after tile.
    rows: Vec<Row>,
    bins: Vec<Bin>,
    starts: Vec<ChunkStart>,
    bloom: Bloom,
}

/// Where in the draw list a chunk of instances starts.
#[derive(Debug, Clone, Copy)]
struct ChunkStart {
    batch: u32,
    /// Instances of that batch that belong to chunks before.
    skip: u32,
    count: u32,
}

impl Default for Renderer {
    fn default() -> Self {
        Self::new()
    }
}

impl Renderer {
    /// A renderer for this machine: tiles of 64 by 32 pixels.
    pub fn new() -> Self {
        Self::tuned(5, ROUND, Level::new())
    }

    /// A renderer with tiles of 2^`height_log2` rows (3 to 10), `round` chunks a round (at least 1) and kernels of `level`.
    /// The picture does not depend on any of them. For tests and benches.
    pub fn tuned(height_log2: u32, round: usize, level: Level) -> Self {
        Self {
            level,
            height_log2: height_log2.clamp(3, 10),
            round: round.max(1),
            backdrop: None,
            rows: Vec::new(),
            bins: Vec::new(),
            starts: Vec::new(),
            bloom: Bloom::default(),
        }
    }

    /// Draws the list over the backdrop into `image`, which takes on the view's size if it has another.
    ///
    /// The sky and ground are kept while view, backdrop and lights stay the same.
    pub fn render(
        &mut self,
        list: &DrawList<'_>,
        view: &View,
        backdrop: &BackdropSpec,
        image: &mut Image,
        meter: &mut Meter,
    ) {
        let grid = Grid::new(view.size(), self.height_log2);
        if image.size() != view.size() {
            *image = Image::new(view.size());
        }
        self.paint_backdrop(&grid, view, backdrop, list.lighting.lights, meter);
        let Self { backdrop: Some(backdrop), rows, bins, starts, bloom, level, round, .. } = self else {
            return;
        };
        let level = *level;

        split(list, starts);
        rows.resize(grid.tiles() * grid.rows(), [[0.0; STRIDE]; 3]);
        bloom.resize(&grid);
        let rounds = starts.len().div_ceil(*round).max(1);
        if bins.len() < starts.len().min(*round) {
            bins.resize_with(starts.len().min(*round), Bin::default);
        }
        for nth_round in 0..rounds {
            let chunks = starts.chunks(*round).nth(nth_round).unwrap_or_default();
            let bins = &mut bins[..chunks.len()];
            let started = meter.start();
            bins.par_iter_mut()
                .zip(chunks)
                .for_each(|(bin, start)| bin.fill(list, view, &grid, *start, level));
            bins.iter().for_each(|bin| bin.count(meter));
            meter.stop(Stage::Project, started);

            let started = meter.start();
            let (bins, backdrop) = (&*bins, &*backdrop);
            let tiles = rows.par_chunks_mut(grid.rows()).zip(bloom.tiles(&grid)).enumerate();
            tiles.for_each(|(nth, (rows, small))| {
                let behind = backdrop.tile(nth);
                let first = nth_round == 0;
                let task = tile::RasterTile { grid: &grid, nth, rows: &mut *rows, behind, bins, list, first };
                dispatch!(level, simd => task.run(simd));
                if view.bloom > 0.0 && nth_round + 1 == rounds {
                    dispatch!(level, simd => resolve::average_blocks(simd, &grid, nth, rows, small));
                }
            });
            meter.stop(Stage::Raster, started);
        }

        let started = meter.start();
        if view.bloom > 0.0 {
            bloom.spread(&grid);
        }
        let bloom = &*bloom;
        let bands = image.pixels_mut().par_chunks_mut(grid.width * grid.rows());
        bands.zip(rows.par_chunks(grid.rows() * grid.across)).enumerate().for_each(
            |(row, (pixels, tiles))| {
                let task = resolve::ResolveBand { grid: &grid, row, pixels, tiles, bloom, view };
                dispatch!(level, simd => task.run(simd));
            },
        );
        meter.stop(Stage::Resolve, started);
        meter.add(Counter::DrawBytes, self.bytes() as u64);
    }

    fn paint_backdrop(
        &mut self,
        grid: &Grid,
        view: &View,
        spec: &BackdropSpec,
        lights: &[LightSpec],
        meter: &mut Meter,
    ) {
        let started = meter.start();
        if self.backdrop.as_ref().is_some_and(|kept| kept.shows(view, spec, lights)) {
            meter.add(Counter::BackdropHits, 1);
        } else {
            self.backdrop = Some(Backdrop::paint(grid, view, spec, lights));
            meter.add(Counter::BackdropMisses, 1);
        }
        meter.stop(Stage::Backdrop, started);
    }

    fn bytes(&self) -> usize {
        self.backdrop.as_ref().map_or(0, Backdrop::bytes)
            + self.rows.capacity() * size_of::<Row>()
            + self.bins.iter().map(Bin::bytes).sum::<usize>()
            + self.starts.capacity() * size_of::<ChunkStart>()
    }
}

/// Cuts the instances of all batches, in drawing order, into chunks of [`CHUNK`]; a chunk may span many small batches.
fn split(list: &DrawList<'_>, starts: &mut Vec<ChunkStart>) {
    starts.clear();
    let mut room = 0;
    for (batch, run) in list.batches.iter().enumerate() {
        let mut skip = 0;
        while skip < run.count {
            if room == 0 {
                starts.push(ChunkStart { batch: batch as u32, skip, count: 0 });
                room = CHUNK as u32;
            }
            let taken = room.min(run.count - skip);
            if let Some(last) = starts.last_mut() {
                last.count += taken;
            }
            skip += taken;
            room -= taken;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A record is what a chunk writes and a tile reads for every instance: its size is the memory traffic.
    #[test]
    fn a_record_stays_small() {
        assert_eq!(size_of::<project::Splat>(), 36);
    }

    #[test]
    fn grid_covers_the_picture_once() {
        let grid = Grid::new(crate::ImageSize::new(130, 33).unwrap(), 5);
        assert_eq!((grid.across, grid.down), (3, 2));
        let inside: usize = (0..grid.tiles()).map(|nth| grid.rect(nth)).map(|Rect { w, h, .. }| w * h).sum();
        assert_eq!(inside, 130 * 33);
    }
}
