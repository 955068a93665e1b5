//! Parts of a picture that are drawn by themselves and laid over it: large soft elements at a lower resolution, and elements mixed by weights.
//!
//! ```text
//! open    depths of blocks of pixels: the nearest and the farthest in turn, like the squares of a chessboard
//! draw    dots.rs, quads.rs: light, and the share of the background that is left
//! lay     each pixel takes of the four around it those that are about as deep as itself
//! ```
//!
//! A pixel in front of an edge thus takes nothing from what is drawn behind it, and edges of solid things stay clean (joint bilateral
//! upsampling: Kopf et al. 2007). Depths in turn keep both sides of an edge within reach.
//!
//! A part has a border of a pixel, so that a pixel is the same whatever tile it is in. A quarter of the resolution is laid over a half, and
//! that over the picture.

use fearless_simd::prelude::*;
use fearless_simd::{f32x4, f32x8};
use frolic_simd::kernel;

use crate::LANES;
use crate::tile::{Grid, Row, STRIDE};

/// Relative difference of depth beyond which a pixel takes nothing of another.
const APART: f32 = 1.0 / 8.0;

/// Share that a pixel of another depth keeps, for places where none fits.
const LEAST: f32 = 1e-3;

/// Depth that stands for the sky, in metres.
const SKY: f32 = 1e9;

/// Where light is drawn by itself: what it leaves of the background.
#[derive(Debug, Default)]
pub struct Apart<'a> {
    /// Share of the background that is left in each pixel; empty where the background is drawn over.
    pub left: &'a mut [[f32; STRIDE]],
    /// Sum of opacities times weights, of elements that are mixed by weights; else empty.
    pub weights: &'a mut [[f32; STRIDE]],
}

impl Apart<'_> {
    /// Lends it for a while.
    pub fn lend(&mut self) -> Apart<'_> {
        Apart { left: self.left, weights: self.weights }
    }
}

/// Weight of an element at a depth in metres among those that are mixed in any order: equation 7 of McGuire and Bavoil, "Weighted Blended
/// Order-Independent Transparency", 2013.
#[inline(always)]
pub fn weight(depth: f32) -> f32 {
    let (near, far) = (depth * (1.0 / 5.0), depth * (1.0 / 200.0));
    let far = far * far * far;
    (10.0 / (1e-5 + near * near + far * far)).clamp(1e-2, 3e3)
}

/// Part of a picture that is drawn by itself: at a lower resolution, or by weights.
#[derive(Debug, Default)]
pub struct Overlay {
    /// Light that is drawn.
    pub rows: Vec<Row>,
    /// Share of the background that is left.
    pub left: Vec<[f32; STRIDE]>,
    /// Sum of opacities times weights; empty where elements are drawn in order.
    pub weights: Vec<[f32; STRIDE]>,
    /// Depth of solid surfaces, in metres.
    pub depth: Vec<[f32; STRIDE]>,
    /// One over the depth.
    nearness: Vec<[f32; STRIDE]>,
    /// First column, a multiple of eight.
    pub x: i32,
    /// First row.
    pub y: i32,
    /// Columns that are wanted, counted from the first.
    pub columns: [usize; 2],
    /// Logarithm of the pixels of the picture across one of these.
    pub log2: u32,
}

/// Part of a picture that another, of half its resolution, is laid over.
#[derive(Debug)]
pub struct Under<'a> {
    /// Light.
    pub rows: &'a mut [Row],
    /// Share of the background that is left; empty where `rows` hold the background.
    pub left: &'a mut [[f32; STRIDE]],
    /// Depth of solid surfaces, in metres.
    pub depth: &'a [[f32; STRIDE]],
    /// First column, a multiple of eight.
    pub x: i32,
    /// First row.
    pub y: i32,
    /// Columns that are wanted, counted from the first.
    pub columns: [usize; 2],
}

/// Depths of all tiles of a picture.
#[derive(Debug, Clone, Copy)]
pub struct Depths<'a> {
    /// The tiles.
    pub grid: &'a Grid,
    /// Depth of solid surfaces in each row of each tile, in metres; infinite in the sky.
    pub rows: &'a [[f32; STRIDE]],
}

kernel! {
    /// Lays a part over one of twice the resolution. `covers` is whether anything in it takes of the background.
    pub fn lay(simd, over: &Overlay, under: &mut Under<'_>, covers: bool) {
        over.lay(simd, under, covers);
    }

    /// Lays a part of the picture's own resolution over it.
    pub fn lay_alike(simd, over: &Overlay, rows: &mut [Row]) {
        over.lay_alike(simd, rows);
    }

    /// Turns sums by weights into the light of a part.
    pub fn mix(simd, part: &mut Overlay) {
        part.mix(simd);
    }
}

impl Overlay {
    /// Starts a part for a tile, or for a part of twice the resolution: its first column and row, its columns that are wanted, and its rows.
    /// Nothing is drawn in it.
    pub fn open(
        &mut self,
        depths: Depths<'_>,
        log2: u32,
        [x, y]: [i32; 2],
        columns: [usize; 2],
        height: usize,
    ) {
        let [from, to] = columns.map(|column| x + column as i32);
        self.log2 = log2;
        // Vectors of the finer part begin at multiples of eight.
        self.x = ((from & -(LANES as i32)) / 2 - 1) & -(LANES as i32);
        self.y = (y >> 1) - 1;
        self.columns = [(from >> 1) - 1, ((to - 1) >> 1) + 2].map(|column| (column - self.x) as usize);
        let height = (((y + height as i32 - 1) >> 1) + 2 - self.y) as usize;
        self.clear(height);
        self.depth.resize(height, [0.0; STRIDE]);
        self.nearness.resize(height, [0.0; STRIDE]);
        for row in 0..height {
            self.find_depths(depths, row);
        }
    }

    /// Starts a part at the resolution of the picture, for a tile with this first column and row.
    pub fn open_full(&mut self, [x, y]: [i32; 2], width: usize, depth: &[[f32; STRIDE]]) {
        (self.log2, self.x, self.y, self.columns) = (0, x, y, [0, width]);
        self.clear(depth.len());
        self.depth.clear();
        self.depth.extend_from_slice(depth);
    }

    /// Makes room for sums of weights, for elements that are mixed by them.
    pub fn weigh(&mut self) {
        self.weights.resize(self.rows.len(), [0.0; STRIDE]);
    }

    fn clear(&mut self, height: usize) {
        self.rows.clear();
        self.rows.resize(height, [[0.0; STRIDE]; 3]);
        self.left.clear();
        self.left.resize(height, [1.0; STRIDE]);
        self.weights.clear();
    }

    /// Nearest of its depths, in metres.
    pub fn nearest(&self) -> f32 {
        let [from, to] = self.columns;
        self.depth.iter().flat_map(|row| &row[from..to]).fold(f32::INFINITY, |least, depth| depth.min(least))
    }

    /// Depths of a row: of each block the nearest or the farthest; beyond the picture those of its edge.
    fn find_depths(&mut self, Depths { grid, rows }: Depths<'_>, row: usize) {
        let side = 1usize << self.log2;
        let last = [grid.width, grid.height].map(|pixels| (pixels - 1) >> self.log2);
        let down = (self.y + row as i32).clamp(0, last[1] as i32) as usize;
        let mut tile = usize::MAX;
        let mut blocks = [&rows[0]; 4];
        for at in self.columns[0]..self.columns[1] {
            let across = (self.x + at as i32).clamp(0, last[0] as i32) as usize;
            let first = across << self.log2;
            if first >> grid.tile_log2[0] != tile {
                tile = first >> grid.tile_log2[0];
                for (nth, block) in blocks.iter_mut().enumerate().take(side) {
                    // Blocks at the lower edge repeat the last row.
                    let y = ((down << self.log2) + nth).min(grid.height - 1);
                    *block = &rows[grid.row_of(first, y).0];
                }
            }
            let column = first & (grid.tile_width() - 1);
            let end = column + side.min(grid.width - first);
            let (mut least, mut most) = (f32::INFINITY, 0.0f32);
            for block in &blocks[..side] {
                for depth in &block[column..end] {
                    (least, most) = (least.min(*depth), most.max(*depth));
                }
            }
            let depth = if (across + down).is_multiple_of(2) { least } else { most };
            self.depth[row][at] = depth;
            self.nearness[row][at] = 1.0 / depth.min(SKY);
        }
    }

    /// Repeats the outermost pixels beyond the edge of a picture, given in pixels of it.
    pub fn repeat_edges(&mut self, picture: [usize; 2]) {
        let [last_x, last_y] = picture.map(|pixels| ((pixels - 1) >> self.log2) as i32);
        for (row, left) in self.rows.iter_mut().zip(&mut self.left) {
            for column in row.iter_mut().chain(std::iter::once(left)) {
                for at in self.columns[0]..self.columns[1] {
                    let x = self.x + at as i32;
                    if x < 0 || x > last_x {
                        column[at] = column[(x.clamp(0, last_x) - self.x) as usize];
                    }
                }
            }
        }
        for at in 0..self.rows.len() {
            let y = self.y + at as i32;
            let from = y.clamp(0, last_y) - self.y;
            // A part at the lower edge may reach farther than its first row beyond it.
            if y != from + self.y && (0..self.rows.len() as i32).contains(&from) {
                (self.rows[at], self.left[at]) = (self.rows[from as usize], self.left[from as usize]);
            }
        }
    }

    /// Turns sums by weights into light: their mean, times the share of the background that they cover.
    #[inline(always)]
    fn mix<S: Simd>(&mut self, simd: S) {
        let (one, least) = (f32x8::splat(simd, 1.0), f32x8::splat(simd, 1e-9));
        for ((row, left), weights) in self.rows.iter_mut().zip(&self.left).zip(&self.weights) {
            for column in (0..STRIDE).step_by(LANES) {
                let eight = column..column + LANES;
                let covered = one - f32x8::from_slice(simd, &left[eight.clone()]);
                let per = covered / f32x8::from_slice(simd, &weights[eight.clone()]).max(least);
                for channel in row.iter_mut() {
                    let pixels = &mut channel[eight.clone()];
                    (f32x8::from_slice(simd, pixels) * per).store_slice(pixels);
                }
            }
        }
    }

    /// Lays a part of the picture's own resolution over it.
    #[inline(always)]
    fn lay_alike<S: Simd>(&self, simd: S, rows: &mut [Row]) {
        for ((under, row), left) in rows.iter_mut().zip(&self.rows).zip(&self.left) {
            for column in (0..STRIDE).step_by(LANES) {
                let eight = column..column + LANES;
                let keep = f32x8::from_slice(simd, &left[eight.clone()]);
                for channel in 0..3 {
                    let pixels = &mut under[channel][eight.clone()];
                    let light = f32x8::from_slice(simd, &row[channel][eight.clone()]);
                    (f32x8::from_slice(simd, pixels) * keep + light).store_slice(pixels);
                }
            }
        }
    }

    #[inline(always)]
    fn lay<S: Simd>(&self, simd: S, under: &mut Under<'_>, covers: bool) {
        let (one, least) = (f32x8::splat(simd, 1.0), f32x8::splat(simd, LEAST));
        let sky = f32x8::splat(simd, SKY);
        let [from, to] = under.columns;
        for (row, depths) in under.depth.iter().enumerate().take(under.rows.len()) {
            let y = under.y + row as i32;
            // The nearer row of the coarser part weighs three quarters.
            let near = (y >> 1) - self.y;
            let rows = [near, near + if y & 1 == 1 { 1 } else { -1 }].map(|at| at as usize);
            if rows.iter().any(|&at| at >= self.rows.len()) {
                continue;
            }
            for column in (from & !(LANES - 1)..to).step_by(LANES) {
                let at = ((under.x + column as i32) / 2 - self.x) as usize;
                let depth = f32x8::from_slice(simd, &depths[column..column + LANES]).min(sky);
                let (nearness, per) = (one / depth, depth * (1.0 / APART));
                // Weights of the near and the far column in the near row, then in the far row.
                let mut weights = [one; 4];
                let mut sum = f32x8::splat(simd, 0.0);
                for (nth, share) in [9.0 / 16.0, 3.0 / 16.0, 3.0 / 16.0, 1.0 / 16.0].into_iter().enumerate() {
                    let other = taps(simd, &self.nearness[rows[nth / 2]], at)[nth % 2];
                    let alike = (one - (other - nearness).abs() * per).max(least);
                    weights[nth] = alike * share;
                    sum += weights[nth];
                }
                let per = one / sum;
                for weight in &mut weights {
                    *weight *= per;
                }
                let [near, far] = rows;
                let mut keep = one;
                if covers {
                    keep = mixed(simd, [&self.left[near], &self.left[far]], at, weights);
                }
                for channel in 0..3 {
                    let light = [&self.rows[near][channel], &self.rows[far][channel]];
                    let light = mixed(simd, light, at, weights);
                    let pixels = &mut under.rows[row][channel][column..column + LANES];
                    (f32x8::from_slice(simd, pixels) * keep + light).store_slice(pixels);
                }
                if let Some(left) = under.left.get_mut(row) {
                    let pixels = &mut left[column..column + LANES];
                    (f32x8::from_slice(simd, pixels) * keep).store_slice(pixels);
                }
            }
        }
    }
}

/// Two rows, by the weights of their pixels.
#[inline(always)]
fn mixed<S: Simd>(simd: S, rows: [&[f32; STRIDE]; 2], at: usize, weights: [f32x8<S>; 4]) -> f32x8<S> {
    let ([a, b], [c, d]) = (taps(simd, rows[0], at), taps(simd, rows[1], at));
    a * weights[0] + b * weights[1] + c * weights[2] + d * weights[3]
}

/// The columns on and beside which eight finer ones lie, the first of which is the left half of column `at`.
#[inline(always)]
fn taps<S: Simd>(simd: S, row: &[f32; STRIDE], at: usize) -> [f32x8<S>; 2] {
    let on = f32x4::from_slice(simd, &row[at..at + LANES / 2]);
    let before = f32x4::from_slice(simd, &row[at - 1..at - 1 + LANES / 2]);
    let after = f32x4::from_slice(simd, &row[at + 1..at + 1 + LANES / 2]);
    let (a, b) = on.interleave(on);
    let (c, d) = before.interleave(after);
    [a.combine(b), c.combine(d)]
}
