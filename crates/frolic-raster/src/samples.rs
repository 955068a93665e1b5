//! Samples of a tile, written and read by solid surfaces.

use crate::LANES;

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
#[derive(Debug)]
pub struct Samples<'a> {
    /// Nearness of each sample.
    pub near: &'a mut [f32],
    /// Colour without the sun; [`EMPTY`](crate::colour9::EMPTY) where no solid surface of this layer covers the sample.
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
    /// Samples of a pixel: [`SAMPLES`], or 1 in the middle for a shadow map.
    pub samples: usize,
    /// Values of some rows of a strip.
    pub spans: [Span; PIECE],
    /// Of a shadow map: most that a slanting surface is moved away from the sun, in metres.
    pub most_slope: f32,
}
