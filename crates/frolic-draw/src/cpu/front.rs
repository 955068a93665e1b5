//! The order in which the solid records of a tile are drawn: drawing order, or front to back, so that hidden records are
//! skipped whole.
//!
//! Where the nearest wins, order has no effect on the picture. So a tile with more records than pixels sorts them, nearest
//! first (`frolic_raster::cells`).

use std::cell::RefCell;

use frolic_raster::record::{Facet, Strip, keyed};
use frolic_raster::samples::Samples;
use frolic_raster::solid::{self, FACET, Style};
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
    facets: Vec<Facet>,
    strips: Vec<Strip>,
    /// Nearness below which the tile hides records.
    cells: Vec<f32>,
}

/// Draws the solid records of a chunk in drawing order: at equal depth, or without a depth test, the first or the last wins.
pub(super) fn in_order(
    level: Level,
    samples: &mut Samples<'_>,
    styles: &[Style<'_>],
    bin: &Bin,
    nth: usize,
    [across, down]: [u16; 2],
) {
    let mut facets = bin.facets.tile(nth, across, down);
    let mut strips = bin.strips.tile(nth, across, down);
    // Usually there is nothing to merge.
    if strips.rank().is_none()
        && let Some(all) = facets.alone()
    {
        return solid::facets(level, samples, all, styles);
    }
    if facets.rank().is_none()
        && let Some(all) = strips.alone()
    {
        return solid::strips(level, samples, all, styles);
    }
    loop {
        let (f, s) = (facets.rank(), strips.rank());
        if f.is_some_and(|f| s.is_none_or(|s| f <= s)) {
            let Some((facet, _)) = facets.take() else { break };
            solid::facets(level, samples, std::slice::from_ref(facet), styles);
        } else {
            let Some((strip, _)) = strips.take() else { break };
            solid::strips(level, samples, std::slice::from_ref(strip), styles);
        }
    }
}

/// Draws the solid records of some chunks, nearest first.
pub(super) fn nearest_first(
    level: Level,
    samples: &mut Samples<'_>,
    styles: &[Style<'_>],
    bins: &[Bin],
    nth: usize,
    [across, down]: [u16; 2],
) {
    let Scratch { mut keys, mut swap, mut facets, mut strips, mut cells } = SCRATCH.take();
    keys.clear();
    swap.clear();
    facets.clear();
    strips.clear();
    let of = |count: fn(&Bin) -> usize| room::likely(bins.iter().map(count).sum());
    let [most_facets, most_strips] = [of(|bin| bin.facets.distinct), of(|bin| bin.strips.distinct)];
    room::for_more(&mut facets, most_facets);
    room::for_more(&mut strips, most_strips);
    room::for_more(&mut keys, most_facets + most_strips);
    room::for_more(&mut swap, most_facets + most_strips);
    for bin in bins {
        let mut here = bin.facets.tile(nth, across, down);
        while let Some((facet, _)) = here.take() {
            keys.push(keyed(facet.nearest(), FACET | facets.len() as u32));
            facets.push(*facet);
        }
        let mut here = bin.strips.tile(nth, across, down);
        while let Some((strip, _)) = here.take() {
            keys.push(keyed(strip.nearest(), strips.len() as u32));
            strips.push(*strip);
        }
    }
    // Greatest nearness first.
    sort::by_key(&mut keys, &mut swap);
    solid::nearest_first(level, samples, &keys, &facets, &strips, styles, &mut cells);
    SCRATCH.set(Scratch { keys, swap, facets, strips, cells });
}
