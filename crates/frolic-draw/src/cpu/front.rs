//! The solid records of a tile: in drawing order, or front to back, so that hidden records are skipped whole.
//!
//! Where the nearest wins, order has no effect on the picture. So a tile with more records than pixels sorts them, nearest
//! first (`frolic_raster::cells`). Samples keep the places of triangles among those of the tile, whose colours are worked out in the end.

use std::cell::RefCell;

use frolic_raster::record::{Facet, Strip, Triangle, keyed};
use frolic_raster::samples::Samples;
use frolic_raster::solid::{self, FACET, Records, STRIP, Style, Visible};
use frolic_simd::Level;

use super::bin::Bin;
use crate::room;
use crate::sort;

thread_local! {
    static SCRATCH: RefCell<Scratch> = RefCell::default();
}

#[derive(Debug, Default)]
struct Scratch {
    /// Nearness key in the upper bits, record in the lower.
    keys: Vec<u64>,
    swap: Vec<u64>,
    triangles: Vec<Triangle>,
    facets: Vec<Facet>,
    strips: Vec<Strip>,
    /// Nearness below which the tile hides records.
    cells: Vec<f32>,
}

/// Solid records of some chunks in one tile.
#[derive(Debug, Clone, Copy)]
pub(super) struct Front<'a> {
    pub(super) level: Level,
    pub(super) styles: &'a [Style<'a>],
    pub(super) bins: &'a [Bin],
    /// The tile, and where it is.
    pub(super) nth: usize,
    pub(super) place: [u16; 2],
}

impl Front<'_> {
    /// Draws them nearest first, or in drawing order: then, at equal depth or without a depth test, the first or the last wins. `then` gets
    /// the samples, some of which hold places of visible triangles.
    pub(super) fn draw(
        &self,
        samples: &mut Samples<'_>,
        nearest_first: bool,
        then: impl FnOnce(&mut Samples<'_>, &Visible<'_>),
    ) {
        let mut scratch = SCRATCH.take();
        scratch.clear();
        scratch.make_room(self.bins, nearest_first);
        if nearest_first {
            self.nearest_first(samples, &mut scratch);
        } else {
            self.bins.iter().for_each(|bin| self.in_order(samples, bin, &mut scratch));
        }
        let Scratch { triangles, facets, .. } = &scratch;
        then(samples, &Visible { triangles, facets, styles: self.styles });
        SCRATCH.set(scratch);
    }

    /// Draws the records of a chunk, and keeps its triangles.
    fn in_order(&self, samples: &mut Samples<'_>, bin: &Bin, scratch: &mut Scratch) {
        let Scratch { triangles: kept, facets: kept_facets, .. } = scratch;
        let &Self { level, styles, nth, place: [across, down], .. } = self;
        let mut triangles = bin.triangles.tile(nth, across, down);
        let mut facets = bin.facets.tile(nth, across, down);
        let mut strips = bin.strips.tile(nth, across, down);
        // Usually there is nothing to merge.
        let ranks = [triangles.rank(), facets.rank(), strips.rank()];
        match ranks.map(|rank| rank.is_some()) {
            [true, false, false] => {
                let first = kept.len();
                triangles.runs(|all| kept.extend_from_slice(all));
                solid::triangles(level, samples, &kept[first..], first as u32, styles);
            }
            [false, true, false] => facets.runs(|all| {
                let first = kept_facets.len() as u32;
                kept_facets.extend_from_slice(all);
                solid::facets(level, samples, all, first, styles);
            }),
            [false, false, true] => strips.runs(|all| solid::strips(level, samples, all, styles)),
            _ => loop {
                let ranks = [triangles.rank(), facets.rank(), strips.rank()];
                let Some(rank) = ranks.into_iter().flatten().min() else { break };
                if ranks[0] == Some(rank) {
                    let first = kept.len();
                    while triangles.rank() == Some(rank) {
                        kept.extend(triangles.take().map(|(triangle, _)| *triangle));
                    }
                    solid::triangles(level, samples, &kept[first..], first as u32, styles);
                } else if ranks[1] == Some(rank) {
                    let Some((facet, _)) = facets.take() else { break };
                    let first = kept_facets.len() as u32;
                    kept_facets.push(*facet);
                    solid::facets(level, samples, std::slice::from_ref(facet), first, styles);
                } else {
                    let Some((strip, _)) = strips.take() else { break };
                    solid::strips(level, samples, std::slice::from_ref(strip), styles);
                }
            },
        }
    }

    fn nearest_first(&self, samples: &mut Samples<'_>, scratch: &mut Scratch) {
        let &Self { level, styles, bins, nth, place: [across, down], .. } = self;
        let Scratch { keys, swap, triangles, facets, strips, cells } = scratch;
        for bin in bins {
            let first = triangles.len();
            bin.triangles.tile(nth, across, down).runs(|all| triangles.extend_from_slice(all));
            let own = triangles[first..].iter().enumerate();
            keys.extend(own.map(|(at, triangle)| keyed(triangle.nearest(), (first + at) as u32)));
            bin.facets.tile(nth, across, down).runs(|all| {
                let own = all.iter().enumerate();
                keys.extend(
                    own.map(|(at, facet)| keyed(facet.nearest(), FACET | (facets.len() + at) as u32)),
                );
                facets.extend_from_slice(all);
            });
            bin.strips.tile(nth, across, down).runs(|all| {
                let own = all.iter().enumerate();
                keys.extend(
                    own.map(|(at, strip)| keyed(strip.nearest(), STRIP | (strips.len() + at) as u32)),
                );
                strips.extend_from_slice(all);
            });
        }
        // Greatest nearness first.
        sort::by_key(keys, swap);
        solid::nearest_first(level, samples, &Records { keys, triangles, facets, strips }, styles, cells);
    }
}

impl Scratch {
    fn clear(&mut self) {
        self.keys.clear();
        self.swap.clear();
        self.triangles.clear();
        self.facets.clear();
        self.strips.clear();
    }

    /// Reserves memory for the fullest tile: any thread may get it.
    fn make_room(&mut self, bins: &[Bin], keys: bool) {
        let of = |count: fn(&Bin) -> usize| room::likely(bins.iter().map(count).sum());
        room::for_more(&mut self.triangles, of(|bin| bin.triangles.distinct));
        room::for_more(&mut self.facets, of(|bin| bin.facets.distinct));
        if keys {
            room::for_more(&mut self.strips, of(|bin| bin.strips.distinct));
            room::for_more(&mut self.keys, of(Bin::solids));
            room::for_more(&mut self.swap, of(Bin::solids));
        }
    }
}
