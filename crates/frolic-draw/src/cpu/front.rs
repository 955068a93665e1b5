//! The order in which solid records of a tile are drawn: as they come, or from front to back, so that what is hidden is passed over
//! whole.
//!
//! Where the nearest wins, order does not matter to the picture. So a tile that holds more records than pixels sorts them, nearest
//! first, and now and then notes of each cell of 4 by 8 pixels how far its farthest sample is. What lies behind that in every cell it
//! touches cannot be seen (Greene, Kass and Miller, "Hierarchical Z-Buffer Visibility", 1993, of one level).

use std::cell::RefCell;

use fearless_simd::f32x8;
use fearless_simd::prelude::*;

use super::LANES;
use super::bin::Bin;
use super::record::{Facet, Outlined, Strip};
use super::solid::{SAMPLES, Samples, Style};
use crate::list::DrawList;
use crate::room;
use crate::sort;

thread_local! {
    static SCRATCH: RefCell<Scratch> = RefCell::default();
}

#[derive(Debug, Default)]
struct Scratch {
    /// Nearness key above, which record below.
    keys: Vec<u64>,
    swap: Vec<u64>,
    facets: Vec<Facet>,
    strips: Vec<Strip>,
    /// Least nearness of each cell, column after column.
    cells: Vec<f32>,
}

/// Columns and rows of a cell.
const CELL: [usize; 2] = [4, 8];

/// Records that are drawn before the cells are looked at anew.
const PATIENCE: usize = 64;

/// Marks a key as that of a facet.
const FACET: u32 = 1 << 31;

impl Samples<'_> {
    /// Draws a chunk's solid records as they come: where depths are equal or not compared, the first or the last wins. `shaded` says
    /// whether shadows may fall.
    #[inline(always)]
    pub(super) fn in_order<S: Simd>(
        &mut self,
        simd: S,
        list: &DrawList<'_>,
        shaded: bool,
        bin: &Bin,
        nth: usize,
        [across, down]: [u16; 2],
    ) {
        let mut facets = bin.facets.tile(nth, across, down);
        let mut strips = bin.strips.tile(nth, across, down);
        loop {
            let (f, s) = (facets.rank(), strips.rank());
            if f.is_some_and(|f| s.is_none_or(|s| f <= s)) {
                let Some((facet, _)) = facets.take() else { break };
                self.facet(simd, facet, &Style::of(list, facet.label, shaded));
            } else {
                let Some((strip, _)) = strips.take() else { break };
                self.strip(simd, strip, &Style::of(list, strip.label, shaded));
            }
        }
    }

    /// Draws the solid records of some chunks, the nearest first.
    #[inline(always)]
    pub(super) fn nearest_first<S: Simd>(
        &mut self,
        simd: S,
        list: &DrawList<'_>,
        shaded: bool,
        bins: &[Bin],
        nth: usize,
        [across, down]: [u16; 2],
    ) {
        // Taken out: what a closure does is compiled for the baseline.
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
                keys.push(sort::keyed(facet.nearest(), FACET | facets.len() as u32));
                facets.push(*facet);
            }
            let mut here = bin.strips.tile(nth, across, down);
            while let Some((strip, _)) = here.take() {
                keys.push(sort::keyed(strip.nearest(), strips.len() as u32));
                strips.push(*strip);
            }
        }
        // Greatest first, which of nearness is the nearest.
        sort::by_key(&mut keys, &mut swap);
        cells.clear();
        let mut drawn = 0;
        for key in &keys {
            let nearness = sort::depth_of(*key);
            let which = (*key as u32 & !FACET) as usize;
            if *key as u32 & FACET != 0 {
                let facet = &facets[which];
                if self.hides(&cells, facet.bounds(), nearness) {
                    continue;
                }
                self.facet(simd, facet, &Style::of(list, facet.label, shaded));
            } else {
                let strip = &strips[which];
                if self.hides(&cells, strip.bounds(), nearness) {
                    continue;
                }
                self.strip(simd, strip, &Style::of(list, strip.label, shaded));
            }
            drawn += 1;
            if drawn % PATIENCE == 0 {
                self.look_at_cells(simd, &mut cells);
            }
        }
        SCRATCH.set(Scratch { keys, swap, facets, strips, cells });
    }

    /// Notes how near the farthest sample of each cell is.
    #[inline(always)]
    pub(super) fn look_at_cells<S: Simd>(&self, simd: S, cells: &mut Vec<f32>) {
        cells.clear();
        let (eights, _) = self.near.as_chunks::<LANES>();
        // Eights of a column, and of a cell in it.
        let (column, part) = (self.height * SAMPLES / LANES, CELL[1] * SAMPLES / LANES);
        for columns in eights.chunks_exact(column * CELL[0]) {
            for cell in (0..column).step_by(part) {
                let mut least = f32x8::splat(simd, f32::INFINITY);
                for one in columns.chunks_exact(column) {
                    for eight in &one[cell..cell + part] {
                        least = least.min(f32x8::load_array(simd, *eight));
                    }
                }
                let (a, b) = least.split();
                let [a, b, c, d] = a.min(b).to_array();
                cells.push(a.min(b).min(c.min(d)));
            }
        }
    }

    /// Whether all that is within bounds is nearer than this.
    #[inline(always)]
    pub(super) fn hides(&self, cells: &[f32], bounds: [f32; 4], nearness: f32) -> bool {
        if cells.is_empty() {
            return false;
        }
        let down = self.height / CELL[1];
        // Pixels whose middle is within bounds, and one more on each side.
        let cell = |at: f32, from: i32, most: usize, axis: usize| {
            ((at - from as f32).max(0.0) as usize / CELL[axis]).min(most / CELL[axis] - 1)
        };
        let (i0, i1) =
            (cell(bounds[0] - 1.5, self.x, self.width, 0), cell(bounds[2] + 0.5, self.x, self.width, 0));
        let (j0, j1) =
            (cell(bounds[1] - 1.5, self.y, self.height, 1), cell(bounds[3] + 0.5, self.y, self.height, 1));
        // A hair nearer: nearness between corners is rounded.
        let nearness = nearness * 1.000_01;
        for i in i0..=i1 {
            for cell in &cells[i * down + j0..=i * down + j1] {
                if *cell <= nearness {
                    return false;
                }
            }
        }
        true
    }
}
