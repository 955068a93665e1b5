//! Squares of ground that share layouts.
//!
//! A layout is one square of a pattern. Each square of ground has one of a few layouts, at random, so results for a layout hold for
//! all its squares. Filters and height maps still use the true position, so squares at the edge of a path
//! differ.

use rayon::prelude::*;

use super::clumps::Clump;
use super::patterns::Pattern;
use crate::foundations::random::hash3;

/// Sharing of layouts between squares.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(crate) struct Repeat {
    /// Side of a square, in metres.
    pub(crate) side: f32,
    /// Number of layouts, at least 1.
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
    /// Its clump, if that was computed: the share of elements that remain, and the attributes.
    pub(super) clump: Option<(f32, Option<Clump>)>,
}

/// The places of a layout, relative to the least corner of its square, with their clumps.
pub(super) type Layout = Vec<Spot>;

impl Repeat {
    /// Layout of a square, by its coordinates in sides from the origin.
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

    /// The square of the pattern that a layout is taken from.
    fn source(&self, layout: u32) -> [i32; 2] {
        [layout as i32, 0]
    }

    /// Position of a place in the square that its layout is taken from.
    pub(super) fn home(&self, at: [f32; 2]) -> [f32; 2] {
        let cell = self.cell(at);
        let (here, there) = (self.corner(cell), self.corner(self.source(self.of(cell))));
        [at[0] - here[0] + there[0], at[1] - here[1] + there[1]]
    }

    /// All layouts of a pattern; `clump` returns the clump at a position in the square that the layout is taken from.
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

    /// Calls `put` with each place in a rectangle, including its least edges and excluding its greatest.
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

/// Separates the choice of layouts from other draws.
const REPEAT_SEED: u32 = 0x1a70_0751;
