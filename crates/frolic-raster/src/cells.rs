//! Occlusion within a tile: the farthest sample of each cell of pixels, so that hidden records are skipped whole.
//!
//! Cells are 4 by 8 pixels. A record behind the farthest sample of every cell it touches is invisible (Greene, Kass and
//! Miller, "Hierarchical Z-Buffer Visibility", 1993, of one level).

use fearless_simd::f32x8;
use fearless_simd::prelude::*;
use frolic_simd::kernel;

use crate::LANES;
use crate::samples::{SAMPLES, Samples};

/// Columns and rows of a cell.
const CELL: [usize; 2] = [4, 8];

kernel! {
    /// Records the nearness of the farthest sample of each cell, column after column.
    pub fn note(simd, samples: &Samples<'_>, cells: &mut Vec<f32>) {
        samples.note_cells(simd, cells);
    }
}

impl Samples<'_> {
    /// Records the nearness of the farthest sample of each cell.
    #[inline(always)]
    fn note_cells<S: Simd>(&self, simd: S, cells: &mut Vec<f32>) {
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
}

/// Returns whether all cells within bounds are nearer than a value.
#[inline(always)]
pub fn hides(samples: &Samples<'_>, cells: &[f32], bounds: [f32; 4], nearness: f32) -> bool {
    if cells.is_empty() {
        return false;
    }
    let down = samples.height / CELL[1];
    // Pixels whose middle is within bounds, and one more on each side.
    let cell = |at: f32, from: i32, most: usize, axis: usize| {
        ((at - from as f32).max(0.0) as usize / CELL[axis]).min(most / CELL[axis] - 1)
    };
    let (i0, i1) = (
        cell(bounds[0] - 1.5, samples.x, samples.width, 0),
        cell(bounds[2] + 0.5, samples.x, samples.width, 0),
    );
    let (j0, j1) = (
        cell(bounds[1] - 1.5, samples.y, samples.height, 1),
        cell(bounds[3] + 0.5, samples.y, samples.height, 1),
    );
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
