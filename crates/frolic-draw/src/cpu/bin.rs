//! Sorts the records of one chunk into tiles: a stable counting sort.
//!
//! 1. Project the chunk, noting the tiles that each record touches and counting per tile ([`Queue`]).
//! 2. Prefix sums give each tile its range of the chunk's records.
//! 3. Scatter: each record is copied into the range of every tile that it touches.
//!
//! A record that touches more than [`MANY`] tiles is not copied to each. It is kept once, in a list that every tile
//! reads and merges in order by rank. So a chunk never holds more than `CHUNK * MANY` records.

use std::cell::RefCell;

use frolic_core::{Counter, Meter, Stage, trace};
use frolic_raster::record::{Dot, Facet, Record, Strip, Triangle};
use frolic_raster::tile::{Grid, Tiles};

use super::kept::Inputs;
use super::pass::{CHUNK, ChunkStart};
use super::project::{Need, Projected, Queue, Scope};
use super::record::Quad;
use crate::list::BYTES_SEEN;
use crate::room;

/// Maximum number of tiles that a record is copied to.
pub(super) const MANY: u32 = 16;

thread_local! {
    /// Records of the present chunk: written, then read once, so they should stay in the cache of this core.
    static PROJECTED: RefCell<Projected> = RefCell::default();
}

/// Reserves memory on every thread for the chunks of a list.
pub(super) fn make_room(need: &Need) {
    rayon::broadcast(|_| PROJECTED.with_borrow_mut(|projected| projected.make_room(need)));
}

/// The records of a chunk, by kind.
#[derive(Debug, Default)]
pub(super) struct Bin {
    pub(super) dots: Binned<Dot>,
    pub(super) quads: Binned<Quad>,
    pub(super) triangles: Binned<Triangle>,
    pub(super) facets: Binned<Facet>,
    pub(super) strips: Binned<Strip>,
    /// What the records were projected from.
    pub(super) inputs: Inputs,
    tally: Tally,
    /// Instances in the chunk, visible or not.
    asked: u32,
}

/// Counts of a chunk.
#[derive(Debug, Default, Clone, Copy)]
pub(super) struct Tally {
    pub(super) culled: u64,
    pub(super) thinned: u64,
    pub(super) coarse: u64,
    pub(super) tiny: u64,
    /// Pixels in the boxes around discs, in sixteenths.
    pub(super) boxes: u64,
    pub(super) triangles: u64,
    pub(super) vertices: u64,
}

impl Bin {
    /// Projects a chunk, unless its records can be kept; `version` is that of what all chunks depend on.
    pub(super) fn renew(&mut self, scope: &Scope<'_, '_>, version: u64, start: ChunkStart) {
        if !self.inputs.keep(scope.seen.list, scope.coarser, version, start) {
            self.fill(scope, start);
        }
    }

    /// Projects a chunk.
    pub(super) fn fill(&mut self, scope: &Scope<'_, '_>, start: ChunkStart) {
        let _part = trace::part(scope.stage);
        PROJECTED.with_borrow_mut(|projected| {
            projected.chunk(scope, start);
            self.dots.sort(&mut projected.dots, scope.grid);
            self.quads.sort(&mut projected.quads, scope.grid);
            self.triangles.sort(&mut projected.triangles, scope.grid);
            self.facets.sort(&mut projected.facets, scope.grid);
            self.strips.sort(&mut projected.strips, scope.grid);
            self.tally = projected.tally;
            self.asked = start.count;
        });
    }

    pub(super) fn count(&self, meter: &mut Meter) {
        let Tally { culled, thinned, coarse, tiny, triangles, vertices, .. } = self.tally;
        meter.add(Counter::ChunksKept, u64::from(self.inputs.is_kept));
        meter.add(Counter::Culled, culled);
        meter.add(Counter::Thinned, thinned);
        meter.add(Counter::Coarse, coarse);
        meter.add(Counter::Tiny, tiny);
        meter.add(Counter::Triangles, triangles);
        meter.add(Counter::Vertices, vertices);
        let solid = self.triangles.records() + self.facets.records() + self.strips.records();
        let records = self.dots.records() + self.quads.records() + solid;
        meter.add(Counter::BinRecords, records);
        meter.add(Counter::Records, (self.dots.distinct + self.quads.distinct + self.solids()) as u64);
        // Each record is read again by its tiles.
        let solid = self.triangles.moved() + self.facets.moved() + self.strips.moved();
        let bytes = self.dots.moved() + self.quads.moved() + solid;
        let projected = if self.inputs.is_kept { 0 } else { bytes };
        meter.moved(Stage::Project, projected + u64::from(self.asked) * BYTES_SEEN);
        meter.moved(Stage::Raster, bytes);
    }

    pub(super) fn bytes(&self) -> usize {
        self.dots.bytes()
            + self.quads.bytes()
            + self.triangles.bytes()
            + self.facets.bytes()
            + self.strips.bytes()
            + self.inputs.bytes()
    }

    /// Pixels in the boxes around discs, in sixteenths.
    pub(super) fn boxes(&self) -> u64 {
        self.tally.boxes
    }

    /// Whether a tile has any records.
    pub(super) fn holds(&self, nth: usize, across: u16, down: u16) -> bool {
        self.dots.is_in(nth, across, down)
            || self.quads.is_in(nth, across, down)
            || self.triangles.is_in(nth, across, down)
            || self.facets.is_in(nth, across, down)
            || self.strips.is_in(nth, across, down)
    }

    /// Records of solid shapes, before the sort.
    pub(super) fn solids(&self) -> usize {
        self.triangles.distinct + self.facets.distinct + self.strips.distinct
    }

    /// Records of solid shapes that were copied to a tile.
    pub(super) fn solids_in_tile(&self, nth: usize) -> usize {
        self.triangles.in_tile(nth) + self.facets.in_tile(nth) + self.strips.in_tile(nth)
    }
}

/// Records of one kind, tile after tile.
#[derive(Debug, Default)]
pub(super) struct Binned<R> {
    /// Grown, never shrunk; only the part up to the last of `starts` belongs to this frame.
    records: Vec<R>,
    /// Ends of the tiles' ranges, after a leading 0; empty if the chunk has no such records.
    starts: Vec<u32>,
    /// Records that touch many tiles, in order.
    large: Vec<(R, Tiles)>,
    /// Records before the sort.
    pub(super) distinct: usize,
}

impl<R: Record> Binned<R> {
    /// Sorts records into tiles.
    fn sort(&mut self, queue: &mut Queue<R>, grid: &Grid) {
        self.large.clear();
        self.starts.clear();
        self.distinct = queue.kept.len();
        if queue.kept.is_empty() {
            return;
        }
        let mut end = 0;
        self.starts.push(0);
        for next in &mut queue.next {
            let start = end;
            end += *next;
            *next = start;
            self.starts.push(end);
        }
        // Memory for a full chunk, reserved at once.
        let usual = if queue.kept.len() > CHUNK / 64 { CHUNK * 3 / 2 } else { CHUNK / 8 };
        room::at_least(&mut self.records, (end as usize).max(usual));
        // Written once in order: the scatter that follows is faster with the lines in the cache.
        let records = &mut self.records[..end as usize];
        records.fill(R::default());
        if queue.many > 0 {
            room::for_more(&mut self.large, queue.many.max(CHUNK / 4));
        }
        let next = &mut queue.next;
        for (record, place) in queue.kept.iter().zip(&queue.places) {
            let mut copy = |tile: usize| {
                let to = &mut next[tile];
                records[*to as usize] = *record;
                *to += 1;
            };
            match place.span() {
                Ok(tile) => copy(tile),
                Err(span) => {
                    let tiles = queue.spans[span];
                    if tiles.count() <= MANY {
                        tiles.each(grid, copy);
                    } else {
                        self.large.push((*record, tiles));
                    }
                }
            }
        }
    }

    /// The records that were copied to a tile, in order.
    #[inline(always)]
    fn small(&self, nth: usize) -> &[R] {
        if self.starts.is_empty() {
            return &[];
        }
        &self.records[self.starts[nth] as usize..self.starts[nth + 1] as usize]
    }

    /// Whether any record touches a tile.
    fn is_in(&self, nth: usize, across: u16, down: u16) -> bool {
        self.in_tile(nth) > 0 || self.large(across, down).next().is_some()
    }

    /// The records that touch many tiles and this one.
    pub(super) fn large(&self, across: u16, down: u16) -> impl Iterator<Item = &R> {
        let there = self.large.iter().filter(move |(_, tiles)| tiles.contains(across, down));
        there.map(|(record, _)| record)
    }

    /// Number of records that were copied to a tile.
    fn in_tile(&self, nth: usize) -> usize {
        self.small(nth).len()
    }

    /// A record by its place.
    #[inline(always)]
    pub(super) fn get(&self, nth: usize, at: Found) -> &R {
        match at {
            Found::Small(at) => &self.small(nth)[at as usize],
            Found::Large(at) => &self.large[at as usize].0,
        }
    }

    /// All records of a tile, in order of rank.
    #[inline(always)]
    pub(super) fn tile(&self, nth: usize, across: u16, down: u16) -> InTile<'_, R> {
        InTile { small: self.small(nth), large: &self.large, at: [0; 2], across, down }
    }

    fn records(&self) -> u64 {
        self.starts.last().map_or(0, |&end| u64::from(end)) + self.large.len() as u64
    }

    /// Bytes of this chunk's records.
    fn moved(&self) -> u64 {
        self.records() * size_of::<R>() as u64
    }

    fn bytes(&self) -> usize {
        self.records.capacity() * size_of::<R>()
            + self.starts.capacity() * size_of::<u32>()
            + self.large.capacity() * size_of::<(R, Tiles)>()
    }
}

/// Place of a record of a tile: among those copied to the tile, or among those that touch many.
#[derive(Debug, Clone, Copy)]
pub(super) enum Found {
    Small(u32),
    Large(u32),
}

/// The records of one tile and chunk, merged by rank.
#[derive(Clone)]
pub(super) struct InTile<'a, R> {
    small: &'a [R],
    large: &'a [(R, Tiles)],
    /// Number of records of each sort already passed.
    at: [u32; 2],
    across: u16,
    down: u16,
}

impl<'a, R: Record> InTile<'a, R> {
    /// Rank of the next record, and whether it is among those that touch many tiles.
    #[inline(always)]
    fn next(&mut self) -> Option<(u16, bool)> {
        while let Some((_, tiles)) = self.large.get(self.at[1] as usize)
            && !tiles.contains(self.across, self.down)
        {
            self.at[1] += 1;
        }
        let small = self.small.get(self.at[0] as usize).map(|record| record.label().rank);
        let large = self.large.get(self.at[1] as usize).map(|(record, _)| record.label().rank);
        match (small, large) {
            (Some(a), Some(b)) if a < b => Some((a, false)),
            (_, Some(b)) => Some((b, true)),
            (a, None) => a.map(|a| (a, false)),
        }
    }

    /// Rank of the next record.
    #[inline(always)]
    pub(super) fn rank(&mut self) -> Option<u16> {
        self.next().map(|(rank, _)| rank)
    }

    /// The next record.
    #[inline(always)]
    pub(super) fn take(&mut self) -> Option<(&'a R, Found)> {
        let (_, large) = self.next()?;
        let at = self.at[usize::from(large)];
        self.at[usize::from(large)] += 1;
        if large {
            self.large.get(at as usize).map(|(record, _)| (record, Found::Large(at)))
        } else {
            self.small.get(at as usize).map(|record| (record, Found::Small(at)))
        }
    }

    /// All remaining records, if none touches many tiles; marks them as passed.
    #[inline(always)]
    pub(super) fn alone(&mut self) -> Option<&'a [R]> {
        let all = &self.small[self.at[0] as usize..];
        self.large.is_empty().then(|| {
            self.at[0] = self.small.len() as u32;
            all
        })
    }

    /// Passes on all remaining records, in order: usually at once, else one by one.
    pub(super) fn runs(&mut self, mut each: impl FnMut(&'a [R])) {
        if let Some(all) = self.alone() {
            return each(all);
        }
        while let Some((record, _)) = self.take() {
            each(std::slice::from_ref(record));
        }
    }

    /// The records of one rank.
    pub(super) fn of_rank(mut self, rank: u16) -> impl Iterator<Item = &'a R> + Clone {
        // Ranks ascend, so the copied records can be searched.
        let passed = self.small[self.at[0] as usize..].partition_point(|record| record.label().rank < rank);
        self.at[0] += passed as u32;
        while self.rank().is_some_and(|next| next < rank) {
            self.at[1] += 1;
        }
        OfRank { records: self, rank }
    }

    /// Passes the records of one rank.
    pub(super) fn pass(&mut self, rank: u16) {
        while self.rank() == Some(rank) {
            self.take();
        }
    }
}

#[derive(Clone)]
struct OfRank<'a, R> {
    records: InTile<'a, R>,
    rank: u16,
}

impl<'a, R: Record> Iterator for OfRank<'a, R> {
    type Item = &'a R;

    fn next(&mut self) -> Option<&'a R> {
        let next = self.records.rank() == Some(self.rank);
        next.then(|| self.records.take()).flatten().map(|(record, _)| record)
    }
}

impl Projected {
    /// Projects a chunk, which may span many draw calls.
    pub(super) fn chunk(&mut self, scope: &Scope<'_, '_>, start: ChunkStart) {
        self.clear();
        let list = scope.seen.list;
        let mut left = start.count;
        let mut skip = start.skip;
        let mut run = start.run;
        for batch in list.batches().iter().skip(start.batch as usize) {
            let end = batch.first_run + batch.runs;
            while run < end && left > 0 {
                let stretch = &list.runs[run as usize];
                let count = left.min(stretch.count - skip);
                self.run(scope, stretch, skip, count);
                left -= count;
                skip = 0;
                run += 1;
            }
            if left == 0 {
                break;
            }
        }
    }
}
