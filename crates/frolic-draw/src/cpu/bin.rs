//! One chunk's splats sorted to tiles: a counting sort that keeps their order.
//!
//! 1. Project the chunk, noting the tiles each splat touches and counting per tile.
//! 2. Prefix sums give each tile its stretch of the chunk's records.
//! 3. Scatter: a splat is copied into the stretch of every tile it touches.
//!
//! A splat that touches more than [`MANY`] tiles is not copied to each; it is kept once in a list that every tile looks
//! through, merged in order by rank. So a chunk never holds more than `CHUNK * MANY` records.

use std::cell::RefCell;

use frolic_core::simd::{Level, Simd, dispatch};
use frolic_core::{Counter, Meter};

use super::ChunkStart;
use super::project::{Projected, Splat};
use super::tile::{Grid, Tiles};
use crate::camera::View;
use crate::list::DrawList;

/// Instances a chunk; ranks within it fit 16 bits.
pub(super) const CHUNK: usize = 8192;

/// Most tiles that a splat is copied to.
const MANY: u32 = 16;

thread_local! {
    /// The splats of the chunk in hand: written, then read once, so it should stay in this core's cache.
    static PROJECTED: RefCell<Projected> = RefCell::default();
}

/// A chunk's records, tile after tile.
#[derive(Debug, Default)]
pub(super) struct Bin {
    /// Grown, never shrunk; only what `starts` tells is of this frame.
    records: Vec<Splat>,
    /// Where each tile's stretch ends, after a leading 0.
    starts: Vec<u32>,
    /// Splats that touch many tiles, in order.
    pub(super) large: Vec<(Splat, Tiles)>,
    culled: u64,
    kept: u64,
    pixels: u64,
}

impl Bin {
    /// Takes in a chunk.
    pub(super) fn fill(
        &mut self,
        list: &DrawList<'_>,
        view: &View,
        grid: &Grid,
        start: ChunkStart,
        level: Level,
    ) {
        PROJECTED.with_borrow_mut(|projected| {
            dispatch!(level, simd => {
                project(simd, projected, list, view, grid, start);
                self.sort(projected, grid);
            });
        });
    }

    /// Sorts the chunk's splats to tiles.
    #[inline(always)]
    fn sort(&mut self, projected: &mut Projected, grid: &Grid) {
        let Projected { splats, next, .. } = projected;
        (self.culled, self.pixels, self.kept) = (projected.culled, projected.pixels, splats.len() as u64);
        self.large.clear();
        self.starts.clear();
        self.starts.resize(grid.tiles() + 1, 0);
        for (_, tiles) in &*splats {
            if tiles.count() <= MANY {
                tiles.each(grid, |tile| self.starts[tile + 1] += 1);
            }
        }
        let mut end = 0;
        for start in &mut self.starts {
            end += *start;
            *start = end;
        }
        if self.records.len() < end as usize {
            self.records.resize(end as usize, Splat::default());
        }
        next.clear();
        next.extend_from_slice(&self.starts);
        for (splat, tiles) in &*splats {
            if tiles.count() <= MANY {
                tiles.each(grid, |tile| {
                    let to = &mut next[tile];
                    self.records[*to as usize] = *splat;
                    *to += 1;
                });
            } else {
                self.large.push((*splat, *tiles));
            }
        }
    }

    /// The records of a tile, in order.
    #[inline(always)]
    pub(super) fn tile(&self, nth: usize) -> &[Splat] {
        &self.records[self.starts[nth] as usize..self.starts[nth + 1] as usize]
    }

    pub(super) fn count(&self, meter: &mut Meter) {
        meter.add(Counter::Culled, self.culled);
        meter.add(Counter::Triangles, self.kept * 2);
        meter.add(Counter::Vertices, (self.kept + self.culled) * 4);
        meter.add(Counter::PixelsTouched, self.pixels);
        let records = self.starts.last().map_or(0, |&end| u64::from(end)) + self.large.len() as u64;
        meter.add(Counter::BinRecords, records);
    }

    pub(super) fn bytes(&self) -> usize {
        self.records.capacity() * size_of::<Splat>()
            + self.starts.capacity() * size_of::<u32>()
            + self.large.capacity() * size_of::<(Splat, Tiles)>()
    }
}

/// Projects a chunk, which may span many draw calls.
#[inline(always)]
fn project<S: Simd>(
    simd: S,
    projected: &mut Projected,
    list: &DrawList<'_>,
    view: &View,
    grid: &Grid,
    start: ChunkStart,
) {
    projected.splats.clear();
    projected.splats.reserve(CHUNK);
    (projected.culled, projected.pixels) = (0, 0);
    let mut left = start.count;
    let mut skip = start.skip;
    for batch in &list.batches[start.batch as usize..] {
        let count = left.min(batch.count - skip);
        projected.run(simd, list, view, grid, batch.source, (batch.first + skip) as usize, count as usize);
        left -= count;
        skip = 0;
        if left == 0 {
            break;
        }
    }
}
