//! Blocks: elements that follow each other in the order of cells and share their candidates, for kernels that test one candidate against eight elements.

use std::ops::Range;

use fearless_simd::prelude::*;
use fearless_simd::{f32x8, i32x8};

use super::Neighbours;
pub(crate) use super::grid::Runs;
use super::spec::NeighbourTechnique;
use crate::foundations::simd::Simd;

/// Elements of a block.
pub(crate) const BLOCK: usize = 8;

/// A value of each element of a block.
pub(crate) type Lanes = [f32; BLOCK];

/// A value where a mask is set, else 0. Quicker than a choice, as it is known to be all or nothing.
#[inline(always)]
pub(crate) fn kept<S: Simd>(mask: i32x8<S>, value: f32x8<S>) -> f32x8<S> {
    (mask & value.bitcast::<i32x8<S>>()).bitcast()
}

/// Cells along x that a block may span, beyond its first: of elements with many around each.
pub(crate) const SPAN: u32 = 8;

/// The same of elements with few around each, whose blocks would have empty lanes.
pub(crate) const WIDE_SPAN: u32 = 32;

/// Candidates of a block: runs of places in the order of cells, rising.
#[derive(Debug, Clone, Default)]
pub(crate) struct Candidates {
    pub(crate) runs: Runs,
    /// How many there are.
    pub(crate) count: u32,
}

impl Neighbours {
    /// End of the block that begins at a place: its elements lie in one row of cells, at most so many cells from the first.
    pub(crate) fn block_end(&self, population: usize, from: usize, end: usize, span: u32) -> usize {
        let Some(sorted) = self.populations.get(population) else { return from };
        let cell = |place: usize| self.grid.in_row([0, 1, 2].map(|axis| sorted.at[axis][place]));
        let most = (from + BLOCK).min(end).min(sorted.order.len());
        let [row, first] = cell(from);
        let folds = self.grid.folds().map(|fold| fold * (span / SPAN) as f32);
        let near = |place: &usize| {
            let [its_row, nth] = cell(*place);
            let together =
                |axis: usize| (sorted.at[axis][*place] - sorted.at[axis][from]).abs() <= folds[axis];
            its_row == row && nth - first <= span && (0..3).all(together)
        };
        (from + 1..most).take_while(near).last().map_or(from, |last| last) + 1
    }

    /// The smallest box around elements at some places, none of which is empty.
    pub(crate) fn bounds(&self, population: usize, places: Range<usize>) -> [[f32; 3]; 2] {
        let (mut low, mut high) = ([f32::INFINITY; 3], [f32::NEG_INFINITY; 3]);
        let Some(sorted) = self.populations.get(population) else { return [low, high] };
        for axis in 0..3 {
            for value in &sorted.at[axis][places.clone()] {
                (low[axis], high[axis]) = (low[axis].min(*value), high[axis].max(*value));
            }
        }
        [low, high]
    }

    /// All of a population that may be within a radius of a box.
    pub(crate) fn around(
        &self,
        population: usize,
        bounds: [[f32; 3]; 2],
        radius: f32,
        into: &mut Candidates,
    ) {
        (into.count, _) = (0, into.runs.clear());
        let Some(sorted) = self.populations.get(population) else { return };
        match self.spec.technique {
            NeighbourTechnique::Grid => {
                self.grid.around(bounds, radius, &mut into.runs);
                for run in &mut into.runs {
                    *run = run.map(|cell| sorted.starts[cell as usize]);
                }
                into.runs.retain(|run| run[0] < run[1]);
            }
            NeighbourTechnique::AllPairs => into.runs.push([0, sorted.order.len() as u32]),
        }
        into.count = into.runs.iter().map(|run| run[1] - run[0]).sum();
    }

    /// Positions of a population in the order of cells, within a space that wraps, with 0 along axes that do not count; then eight more values.
    pub(crate) fn sorted_positions(&self, population: usize) -> [&[f32]; 3] {
        self.populations.get(population).map_or([&[]; 3], |it| it.at.each_ref().map(|column| &column[..]))
    }

    /// Lengths in metres after which space begins again; 0 where it does not.
    pub(crate) fn lengths(&self) -> [f32; 3] {
        self.grid.lengths()
    }
}
