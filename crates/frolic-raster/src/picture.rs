//! Pictures of groups of elements, kept with depth, drawn into tiles in place of their elements.

use fearless_simd::prelude::*;
use fearless_simd::{f32x4, f32x8, u32x4, u32x8};
use frolic_simd::kernel;

use crate::LANES;
use crate::samples::{SAMPLES, Samples};

/// A picture of a group, column by column.
#[derive(Debug, Default)]
pub struct Picture {
    /// Size in which it was drawn, with the group's middle at its centre.
    pub frame: [usize; 2],
    /// First column and row with content. Empty margins are not stored.
    pub first: [usize; 2],
    /// Columns.
    pub width: usize,
    /// Rows.
    pub height: usize,
    /// First row with content of each column, and the one after the last.
    pub spans: Vec<[u16; 2]>,
    /// Covered samples (lower bits), and the distance behind the group's middle (upper half, see [`Picture::unit`]).
    pub depths: Vec<u32>,
    /// Colour without the sun, and the sunlight.
    pub colours: Vec<[u32; 2]>,
    /// Metres of one step of the depths.
    pub unit: f32,
}

impl Picture {
    /// Returns the row at a position down the picture; beyond the last if there is none.
    #[inline(always)]
    fn row(&self, at: f32) -> usize {
        if at >= 0.0 && at < self.height as f32 { at as usize } else { usize::MAX }
    }
}

/// Offset of depth steps, so that they are never negative.
pub const DEPTH_MIDDLE: i32 = 1 << 15;

/// Distance of a depth behind the group's middle, in units of its picture.
#[inline(always)]
fn behind(depth: u32) -> f32 {
    ((depth >> 16) as i32 - DEPTH_MIDDLE) as f32
}

/// A group on the screen.
#[derive(Debug, Clone, Copy)]
pub struct Blit {
    /// Index of the cached picture.
    pub slot: u32,
    /// Position of its middle, in pixels; once its picture is there, the left and upper edge of the stored part.
    pub corner: [f32; 2],
    /// Pixels of the picture for each pixel of the screen.
    pub per: [f32; 2],
    /// Depth of its middle, in metres.
    pub depth: f32,
    /// Greatest nearness of any of its samples.
    pub nearest: f32,
    /// First and last column, first and last row that it may touch.
    pub extent: [i32; 4],
}

kernel! {
    /// Draws a picture into the columns of a tile, first and last, that it touches.
    pub fn draw(simd, samples: &mut Samples<'_>, picture: &Picture, blit: &Blit, columns: [i32; 2]) {
        samples.blit(simd, picture, blit, columns);
    }
}

/// Term added to nearness: 0 for a covered sample, and large enough to fail any depth test for an uncovered one.
const COVERED: [[f32; SAMPLES]; 1 << SAMPLES] = {
    let mut all = [[f32::NEG_INFINITY; SAMPLES]; 1 << SAMPLES];
    let mut mask = 0;
    while mask < 1 << SAMPLES {
        let mut nth = 0;
        while nth < SAMPLES {
            if mask >> nth & 1 == 1 {
                all[mask][nth] = 0.0;
            }
            nth += 1;
        }
        mask += 1;
    }
    all
};

impl Blit {
    /// First and last column of a tile that it touches; none if it does not touch the tile.
    #[inline(always)]
    pub fn columns(&self, [x, y, w, h]: [i32; 4]) -> Option<[i32; 2]> {
        let [i0, i1, j0, j1] = self.extent;
        let inside = i0 < x + w && i1 >= x && j0 < y + h && j1 >= y;
        inside.then(|| [i0.max(x), i1.min(x + w - 1)])
    }

    /// Column of the picture shown by a column of the screen, and the first and last row of the screen that it fills.
    #[inline(always)]
    fn rows(&self, picture: &Picture, column: i32, [y, h]: [i32; 2]) -> Option<(usize, [i32; 2])> {
        let from = (column as f32 + 0.5 - self.corner[0]) * self.per[0];
        if !(from >= 0.0 && from < picture.width as f32) {
            return None;
        }
        let from = from as usize;
        let [first, after] = picture.spans[from];
        if first == after {
            return None;
        }
        let row = |at: u16| self.corner[1] + f32::from(at) / self.per[1] - 0.5;
        let rows = [(row(first).ceil() as i32).max(y), (row(after).ceil() as i32 - 1).min(y + h - 1)];
        (rows[0] <= rows[1]).then_some((from, rows))
    }

    /// Row of the picture shown by a row of the screen.
    #[inline(always)]
    fn row(&self, row: i32) -> f32 {
        (row as f32 + 0.5 - self.corner[1]) * self.per[1]
    }

    /// Draws it into a tile of a shadow map.
    pub fn cast(&self, picture: &Picture, near: &mut [f32], place: [i32; 4]) {
        let [x, y, _, h] = place;
        let Some([first, last]) = self.columns(place) else { return };
        for column in first..=last {
            let Some((from, [top, bottom])) = self.rows(picture, column, [y, h]) else { continue };
            let depths = &picture.depths[from * picture.height..][..picture.height];
            let texels = &mut near[((column - x) * h) as usize..][..h as usize];
            for row in top..=bottom {
                let Some(&depth) = depths.get(self.row(row) as usize) else { continue };
                let texel = &mut texels[(row - y) as usize];
                if depth & 1 == 1 {
                    *texel = texel.max(-(self.depth + behind(depth) * picture.unit));
                }
            }
        }
    }
}

impl Samples<'_> {
    #[inline(always)]
    fn blit<S: Simd>(&mut self, simd: S, picture: &Picture, blit: &Blit, [first, last]: [i32; 2]) {
        if picture.depths.is_empty() {
            return;
        }
        let (y, height) = (self.y, self.height as i32);
        let stride = self.height * SAMPLES / LANES;
        let (nears, _) = self.near.as_chunks_mut::<LANES>();
        let (bases, _) = self.base.as_chunks_mut::<LANES>();
        let (suns, _) = self.sun.as_chunks_mut::<LANES>();
        let per_depth = 1.0 / blit.depth;
        let unit = picture.unit * per_depth;
        for column in first..=last {
            let Some((from, [top, bottom])) = blit.rows(picture, column, [y, height]) else { continue };
            let depths = &picture.depths[from * picture.height..][..picture.height];
            let colours = &picture.colours[from * picture.height..][..picture.height];
            let column = (column - self.x) as usize * stride;
            for pair in (top - y) / 2..=(bottom - y) / 2 {
                let row = blit.row(y + pair * 2);
                let (upper, lower) = (picture.row(row), picture.row(row + blit.per[1]));
                let a = depths.get(upper).copied().unwrap_or_default();
                let b = depths.get(lower).copied().unwrap_or_default();
                if (a | b) & 15 == 0 {
                    continue;
                }
                let near: f32x8<S> =
                    nearness(simd, a, per_depth, unit).combine(nearness(simd, b, per_depth, unit));
                let at = column + pair as usize;
                let Some(slot) = nears.get_mut(at) else { break };
                let kept = f32x8::load_array(simd, *slot);
                let met = near.simd_gt(kept);
                if !met.any_true() {
                    continue;
                }
                met.select(near, kept).store_slice(slot);
                let a = colours.get(upper).copied().unwrap_or_default();
                let b = colours.get(lower).copied().unwrap_or_default();
                let own: u32x8<S> = u32x4::splat(simd, a[0]).combine(u32x4::splat(simd, b[0]));
                let sunny: u32x8<S> = u32x4::splat(simd, a[1]).combine(u32x4::splat(simd, b[1]));
                met.select(own, u32x8::load_array(simd, bases[at])).store_slice(&mut bases[at]);
                met.select(sunny, u32x8::load_array(simd, suns[at])).store_slice(&mut suns[at]);
            }
        }
    }
}

/// Nearness of the samples of a pixel: 1/(depth + behind), to the third power of the quotient.
#[inline(always)]
fn nearness<S: Simd>(simd: S, depth: u32, per_depth: f32, unit: f32) -> f32x4<S> {
    let x = behind(depth) * unit;
    f32x4::load_array(simd, COVERED[(depth & 15) as usize]) + per_depth * (1.0 - x * (1.0 - x))
}
