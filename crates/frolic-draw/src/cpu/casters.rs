//! Chunks that cast shadows: which of them stayed as they were, and the tiles of the shadow map that the others reach.
//!
//! Inputs are compared as those of the picture are ([`Inputs`]). A chunk that did not stay leaves tiles stale where it was and where it is now.

use frolic_raster::tile::Grid;
use rayon::prelude::*;

use super::kept::{Inputs, runs_of};
use super::pass::ChunkStart;
use crate::camera::View;
use crate::vertices::{Seen, ball, farthest};

/// Tiles of the grid of texels: the first and last column, the first and last row.
type Area = [i64; 4];

/// Everything, of a chunk whose reach is not known.
const ALL: Area = [i64::MIN, i64::MAX, i64::MIN, i64::MAX];

/// Nothing, of a chunk without elements.
const NONE: Area = [0, -1, 0, -1];

/// A chunk of the frame before.
#[derive(Debug)]
struct Caster {
    inputs: Inputs,
    area: Area,
    /// Where it was before it changed.
    left: Option<Area>,
}

impl Default for Caster {
    fn default() -> Self {
        Self { inputs: Inputs::default(), area: ALL, left: None }
    }
}

/// The chunks that cast shadows, and the tiles that they left stale.
#[derive(Debug, Default)]
pub(super) struct Casters {
    chunks: Vec<Caster>,
    /// One for each tile of the map: whether what it shows may have changed.
    pub(super) stale: Vec<bool>,
    /// Count changes of all that the shapes of elements depend on, and also of the camera, which decides their detail.
    versions: [u64; 2],
    camera: Option<View>,
}

impl Casters {
    /// Everything is to be drawn anew.
    pub(super) fn renew(&mut self) {
        self.versions = self.versions.map(|version| version + 1);
    }

    /// Finds the chunks that did not stay, and marks the tiles that they reach as stale. `first` is the first tile of the map.
    pub(super) fn update(
        &mut self,
        seen: &Seen<'_, '_>,
        grid: &Grid,
        first: [i64; 2],
        starts: &[ChunkStart],
        chunks: &[usize],
    ) {
        if self.camera != Some(*seen.camera) {
            self.camera = Some(*seen.camera);
            self.versions[1] += 1;
        }
        let gone = self.chunks.len().min(chunks.len())..self.chunks.len();
        for caster in self.chunks.drain(gone) {
            mark(&mut self.stale, grid, first, caster.area);
        }
        self.chunks.resize_with(chunks.len(), Caster::default);
        let [shapes, detail] = self.versions;
        self.chunks.par_iter_mut().zip(chunks).for_each(|(caster, &chunk)| {
            let start = starts[chunk];
            // Those that thin out or lose detail do so by their distance to the camera.
            let thins = |source: u32| seen.list.sources[source as usize].detail().is_active();
            let version =
                if runs_of(seen.list, start).any(|(run, ..)| thins(run.source)) { detail } else { shapes };
            caster.left = None;
            if !caster.inputs.keep(seen.list, &[], version, start) {
                caster.left = Some(caster.area);
                caster.area = area(seen, grid, first, start);
            }
        });
        for caster in &self.chunks {
            if let Some(left) = caster.left {
                mark(&mut self.stale, grid, first, left);
                mark(&mut self.stale, grid, first, caster.area);
            }
        }
    }

    /// Whether the `nth` chunk reaches one of the tiles that are drawn.
    pub(super) fn reaches(&self, nth: usize, grid: &Grid, first: [i64; 2], due: &[bool]) -> bool {
        let mut any = false;
        within(grid, first, self.chunks[nth].area, |tile| any |= due[tile]);
        any
    }

    pub(super) fn bytes(&self) -> usize {
        self.chunks.iter().map(|caster| caster.inputs.bytes()).sum()
    }
}

fn mark(stale: &mut [bool], grid: &Grid, first: [i64; 2], area: Area) {
    within(grid, first, area, |tile| stale[tile] = true);
}

/// Visits the tiles of an area that are in the map.
fn within(grid: &Grid, [column, row]: [i64; 2], [x0, x1, y0, y1]: Area, mut visit: impl FnMut(usize)) {
    let part = |from: i64, to: i64, first: i64, count: usize| {
        let [from, to] = [from, to].map(|at| at.saturating_sub(first).clamp(-1, count as i64));
        from.max(0) as usize..(to + 1).clamp(0, count as i64) as usize
    };
    for y in part(y0, y1, row, grid.down) {
        for x in part(x0, x1, column, grid.across) {
            visit(y * grid.across + x);
        }
    }
}

/// Tiles that the elements of a chunk may reach.
fn area(seen: &Seen<'_, '_>, grid: &Grid, first: [i64; 2], start: ChunkStart) -> Area {
    let list = seen.list;
    let [mut low, mut high] = [[f32::INFINITY; 2], [f32::NEG_INFINITY; 2]];
    for (run, skip, count) in runs_of(list, start) {
        for nth in skip..skip + count {
            let entry = list.entry(&run, run.first + nth);
            let (source, element) = (&list.sources[entry.source as usize], entry.element as usize);
            let Some(reach) = farthest(source, element) else { return ALL };
            let [x0, y0, x1, y1] = ball(seen.view, source.instances.place(element).into(), reach);
            (low, high) = ([low[0].min(x0), low[1].min(y0)], [high[0].max(x1), high[1].max(y1)]);
        }
    }
    if low[0] > high[0] {
        return NONE;
    }
    let sides = [grid.tile_width(), grid.rows()].map(|side| side as f32);
    let tile = |at: [f32; 2], axis: usize| (at[axis] / sides[axis]).floor() as i64 + first[axis];
    [tile(low, 0), tile(high, 0), tile(low, 1), tile(high, 1)]
}
