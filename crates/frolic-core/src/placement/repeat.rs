//! Squares of ground that share what lies on them.
//!
//! A layout is what a pattern puts on one square. Each square of ground has one of a few layouts, chosen by chance: whatever is worked out for
//! a layout holds for every square that has it. Filters and height maps still go by where a place really is, so squares at a path's edge
//! differ.

use rayon::prelude::*;

use super::clumps::Clump;
use super::patterns::Pattern;
use crate::foundations::random::hash3;

/// How squares share layouts.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(crate) struct Repeat {
    /// Side of a square, in metres.
    pub(crate) side: f32,
    /// How many layouts there are, at least 1.
    pub(crate) layouts: u32,
    pub(crate) seed: u32,
}

/// A place of a pattern.
#[derive(Debug, Clone, Copy)]
pub(super) struct Spot {
    /// x and z, in metres.
    pub(super) at: [f32; 2],
    /// Key of its random numbers.
    pub(super) id: u32,
    /// The clump that it is in, where that is known: the share that clumps leave, and what is taken from it.
    pub(super) clump: Option<(f32, Option<Clump>)>,
}

/// What lies on a square of a layout: spots from its least corner, with clumps that are known.
pub(super) type Layout = Vec<Spot>;

impl Repeat {
    /// Which layout a square has, counted in sides from the origin.
    pub(crate) fn of(&self, [x, z]: [i32; 2]) -> u32 {
        hash3(x as u32, z as u32, self.seed ^ REPEAT_SEED)[0] % self.layouts
    }

    /// Least x and z of a square, in metres.
    fn corner(&self, cell: [i32; 2]) -> [f32; 2] {
        cell.map(|at| at as f32 * self.side)
    }

    fn cell(&self, at: [f32; 2]) -> [i32; 2] {
        at.map(|at| (at / self.side).floor() as i32)
    }

    /// The square that a layout is taken from.
    fn source(&self, layout: u32) -> [i32; 2] {
        [layout as i32, 0]
    }

    /// Where a place is in its layout's own square.
    pub(super) fn home(&self, at: [f32; 2]) -> [f32; 2] {
        let cell = self.cell(at);
        let (here, there) = (self.corner(cell), self.corner(self.source(self.of(cell))));
        [at[0] - here[0] + there[0], at[1] - here[1] + there[1]]
    }

    /// All layouts of a pattern; `clump` tells of a place in a layout's own square.
    pub(super) fn layouts(
        &self,
        pattern: &Pattern,
        clump: impl Fn([f32; 2]) -> (f32, Option<Clump>) + Sync,
    ) -> Vec<Layout> {
        let of = |nth| {
            let source = self.corner(self.source(nth));
            let mut layout = Layout::new();
            pattern.within(source, source.map(|at| at + self.side), |(home, id)| {
                let at = [home[0] - source[0], home[1] - source[1]];
                layout.push(Spot { at, id, clump: Some(clump(home)) });
            });
            layout
        };
        (0..self.layouts).into_par_iter().map(of).collect()
    }

    /// Calls `put` with each place in a rectangle, least corner in, greatest out.
    pub(super) fn within(
        &self,
        layouts: &[Layout],
        low: [f32; 2],
        high: [f32; 2],
        mut put: impl FnMut(Spot),
    ) {
        let (first, last) = (self.cell(low), self.cell(high));
        for z in first[1]..=last[1] {
            for x in first[0]..=last[0] {
                let here = self.corner([x, z]);
                let end = self.corner([x + 1, z + 1]).map(f32::next_down);
                let Some(layout) = layouts.get(self.of([x, z]) as usize) else { continue };
                for spot in layout {
                    let at = [(here[0] + spot.at[0]).min(end[0]), (here[1] + spot.at[1]).min(end[1])];
                    if at[0] >= low[0] && at[0] < high[0] && at[1] >= low[1] && at[1] < high[1] {
                        put(Spot { at, ..*spot });
                    }
                }
            }
        }
    }
}

/// Sets the choice of layouts apart from other draws.
const REPEAT_SEED: u32 = 0x1a70_0751;
