//! Samples of a tile, written and read by solid surfaces.

use std::ops::Range;

use fearless_simd::prelude::*;
use fearless_simd::{f32x8, u32x8};
use frolic_simd::kernel;

use crate::LANES;
use crate::colour9::EMPTY;
use crate::tile::STRIDE;

/// Samples of a pixel.
pub const SAMPLES: usize = 4;

/// Sample positions: a rotated grid, so that nearly vertical and nearly horizontal edges have four steps too.
pub const PLACES: [[f32; 2]; SAMPLES] = [[-0.125, -0.375], [0.375, -0.125], [-0.375, 0.125], [0.125, 0.375]];

/// Vectors of rows whose spans are worked out before they are filled.
pub(crate) const PIECE: usize = 16;

/// Coverage of a strip on some rows: at each sample the ends, in columns, and nearness; least first column twice and most last twice, negated.
#[derive(Debug, Clone, Copy, Default)]
pub struct Span {
    pub(crate) start: [f32; LANES],
    pub(crate) end: [f32; LANES],
    pub(crate) near: [f32; LANES],
    pub(crate) columns: [i32; LANES / 2],
}

/// One tile's samples: column after column, down each column, those of a pixel together.
#[derive(Debug, Default)]
pub struct Samples<'a> {
    /// Nearness of each sample.
    pub near: &'a mut [f32],
    /// Colour without the sun; [`EMPTY`] where no solid surface of this layer covers the sample.
    pub base: &'a mut [u32],
    /// Packed sunlight of each sample.
    pub sun: &'a mut [u32],
    /// First column of the tile.
    pub x: i32,
    /// First row of the tile.
    pub y: i32,
    /// Columns of the tile.
    pub width: usize,
    /// Rows of the tile.
    pub height: usize,
    /// Columns and rows of it that are in the picture: nothing is drawn in others.
    pub shown: [usize; 2],
    /// Samples of a pixel: [`SAMPLES`], or 1 in the middle for a shadow map.
    pub samples: usize,
    /// Values of some rows of a strip.
    pub spans: [Span; PIECE],
    /// Of a shadow map: most that a slanting surface is moved away from the sun, in metres.
    pub most_slope: f32,
    /// Samples so far that a record was nearest at, when it was drawn.
    pub passed: u64,
    /// Pixels so far in which the colour of a visible triangle was worked out.
    pub shaded: u64,
}

impl Samples<'_> {
    /// Some of its columns.
    pub fn columns(&mut self, columns: Range<usize>) -> Samples<'_> {
        fn part<T>(all: &mut [T], part: Range<usize>) -> &mut [T] {
            all.get_mut(part).unwrap_or_default()
        }
        let own = columns.start * self.height * self.samples..columns.end * self.height * self.samples;
        Samples {
            near: part(self.near, own.clone()),
            base: part(self.base, own.clone()),
            sun: part(self.sun, own),
            x: self.x + columns.start as i32,
            y: self.y,
            width: columns.len(),
            height: self.height,
            shown: [self.shown[0].saturating_sub(columns.start).min(columns.len()), self.shown[1]],
            samples: self.samples,
            most_slope: self.most_slope,
            ..Samples::default()
        }
    }

    /// Of a shadow map: most that a slanting surface is moved away from the sun, in metres.
    pub(crate) fn slope(&self) -> Option<f32> {
        (self.samples == 1).then_some(self.most_slope)
    }
}

kernel! {
    /// Starts all samples of a tile of `width` columns at the depths of what is behind, given row by row.
    pub fn start(simd, near: &mut [f32], depth: &[[f32; STRIDE]], width: usize) {
        let one = f32x8::splat(simd, 1.0);
        let (groups, height) = (near.as_chunks_mut::<{ 4 * LANES }>().0, depth.len());
        for (nth, rows) in depth.chunks_exact(LANES).enumerate() {
            for i in (0..width).step_by(LANES) {
                let mut block = [[0.0; LANES]; LANES];
                for (row, into) in rows.iter().zip(&mut block) {
                    // In the sky 1/inf is 0, the farthest nearness.
                    *into = (one / f32x8::from_slice(simd, &row[i..i + LANES])).to_array();
                }
                for column in 0..LANES {
                    let Some(group) = groups.get_mut(((i + column) * height) / LANES + nth) else { break };
                    let (pixels, _) = group.as_chunks_mut::<SAMPLES>();
                    for (pixel, row) in pixels.iter_mut().zip(&block) {
                        *pixel = [row[column]; SAMPLES];
                    }
                }
            }
        }
    }

    /// Finds the pixels that solid surfaces do not cover whole: one bit for each column in each row of `open`, set where a sample has no surface.
    pub fn open_pixels(simd, samples: &Samples<'_>, open: &mut [u64]) {
        open.fill(0);
        let empty = u32x8::splat(simd, EMPTY);
        let (pairs, _) = samples.base.as_chunks::<LANES>();
        let pairs = pairs.chunks_exact((samples.height * SAMPLES / LANES).max(1)).take(samples.width);
        for (i, column) in pairs.enumerate() {
            for (base, rows) in column.iter().zip(open.chunks_exact_mut(2)) {
                // Two pixels of four samples each.
                let bits = u32x8::load_array(simd, *base).simd_eq(empty).to_bitmask();
                rows[0] |= u64::from(bits & 0x0f != 0) << i;
                rows[1] |= u64::from(bits & 0xf0 != 0) << i;
            }
        }
    }
}
