//! From instances to discs on the screen, a block at a time.
//!
//! A disc covers a pixel whose centre is at distance d from its middle by `(1 - d²/R²)²`, and not at all beyond the
//! radius R: round at every size, without an edge. R is at least [`SMALLEST`] pixels; below that the light is
//! scaled so that its sum stays, and a distant ember fades and does not twinkle.

use fearless_simd::prelude::*;
use fearless_simd::{f32x8, i32x8, mask32x8, u32x8};
use frolic_simd::kernel;

use crate::LANES;
use crate::camera::{Camera, NEAR};
use crate::light::Light;
use crate::record::{Dot, FARTHEST, HALF_STEP, Label};
use crate::tile::Grid;

/// Smallest radius that is filled, in pixels. The sum over pixel centres then varies by at most 4 % with the sub-pixel
/// place (`frolic-draw/tests/it/billboards.rs` measures it).
pub const SMALLEST: f32 = 1.5;

/// Depth over which elements near the camera fade, in metres.
pub const NEAR_FADE: f32 = 0.5;

/// Radius in pixels beyond which nothing is drawn: its arithmetic would overflow.
pub const LARGEST: f32 = 1e9;

/// Parameters that all discs of a block share.
#[derive(Debug, Clone, Copy)]
pub struct DiscLook {
    /// Fraction of the colour that comes from light, 0 to 1.
    pub lit: f32,
    /// True if discs cover their background; false if they add light.
    pub covers: bool,
    /// Pixels beyond its edge from which a tile needs a disc; 0 at the resolution of the picture.
    pub margin: f32,
}

kernel! {
    /// Computes positions on the screen and rows of the look's table. `last_row` is the last row of the table.
    pub fn place(simd, block: &mut Block, view: &Camera, last_row: f32, n: usize) {
        block.place(simd, view, last_row, n);
    }

    /// Computes radius, light, and the touched part of the picture.
    pub fn finish(simd, block: &mut Block, grid: &Grid, look: DiscLook, light: &Light<'_>, n: usize) {
        block.finish(simd, grid, &look, light, n);
    }
}

/// Instances that are projected together; their columns fit the first-level cache beside the look's table.
pub const BLOCK: usize = 64;

/// A column of a block.
pub type Lane<T> = [T; BLOCK];

/// Columns of a block: inputs, then the results of each stage.
#[derive(Debug)]
pub struct Block {
    /// Age over life.
    pub age: Lane<f32>,
    /// Size, in metres, before its look.
    pub own: Lane<f32>,
    /// Identity number.
    pub id: Lane<u32>,
    /// Tint, 0 to 1; below 0 for a random one.
    pub tint: Lane<f32>,
    /// Place, in metres.
    pub at: [Lane<f32>; 3],
    /// Column on the screen, in pixels.
    pub x: Lane<f32>,
    /// Row on the screen, in pixels.
    pub y: Lane<f32>,
    /// Depth along the view, in metres.
    pub depth: Lane<f32>,
    /// Pixels a metre there.
    pub scale: Lane<f32>,
    /// Row of the look's table; -1 before birth and after death.
    pub row: Lane<i32>,
    /// Factor on the size at its age.
    pub size: Lane<f32>,
    /// Opacity at its age.
    pub opacity: Lane<f32>,
    /// Red at its age.
    pub red: Lane<f32>,
    /// Green at its age.
    pub green: Lane<f32>,
    /// Blue at its age.
    pub blue: Lane<f32>,
    /// Records of the discs.
    pub dots: Lane<Dot>,
    /// Index of the tile it touches, or -1 for several.
    pub tile: Lane<i32>,
    /// First column of tiles it touches.
    pub x0: Lane<i32>,
    /// Last column of tiles it touches.
    pub x1: Lane<i32>,
    /// First row of tiles it touches.
    pub y0: Lane<i32>,
    /// Last row of tiles it touches.
    pub y1: Lane<i32>,
    /// Pixels of the box around it.
    pub pixels: Lane<i32>,
    /// 1 if any part of it is in the picture.
    pub seen: Lane<i32>,
}

impl Default for Block {
    fn default() -> Self {
        let (f, i) = ([0.0; BLOCK], [0; BLOCK]);
        Self {
            age: f,
            own: f,
            id: [0; BLOCK],
            tint: f,
            at: [f; 3],
            x: f,
            y: f,
            depth: f,
            scale: f,
            row: i,
            size: f,
            opacity: f,
            red: f,
            green: f,
            blue: f,
            dots: [Dot::default(); BLOCK],
            tile: i,
            x0: i,
            x1: i,
            y0: i,
            y1: i,
            pixels: i,
            seen: i,
        }
    }
}

/// Loads the lanes from index `i`.
#[inline(always)]
fn get<S: Simd>(simd: S, column: &Lane<f32>, i: usize) -> f32x8<S> {
    f32x8::from_slice(simd, &column[i..i + LANES])
}

#[inline(always)]
fn put<S: Simd>(column: &mut Lane<f32>, i: usize, value: f32x8<S>) {
    value.store_slice(&mut column[i..i + LANES]);
}

impl Block {
    /// Position on the screen and row of the look's table. Lanes past `n` hold values of the previous block, and are not read.
    #[inline(always)]
    fn place<S: Simd>(&mut self, simd: S, view: &Camera, last_row: f32, n: usize) {
        let [cx, cy] = view.middle;
        let (right, up, forward, eye) = (view.right, view.up, view.forward, view.eye);
        for i in (0..n).step_by(LANES) {
            let x = get(simd, &self.at[0], i);
            let y = get(simd, &self.at[1], i);
            let z = get(simd, &self.at[2], i);
            let (dx, dy, dz) = (x - eye.x, y - eye.y, z - eye.z);
            let depth = dx * forward.x + dy * forward.y + dz * forward.z;
            let scale = f32x8::splat(simd, view.focal) / depth;
            put(&mut self.x, i, cx + (dx * right.x + dy * right.y + dz * right.z) * scale);
            put(&mut self.y, i, cy - (dx * up.x + dy * up.y + dz * up.z) * scale);
            put(&mut self.depth, i, depth);
            put(&mut self.scale, i, scale);
            let age = get(simd, &self.age, i);
            let alive = age.simd_ge(f32x8::splat(simd, 0.0)) & age.simd_lt(f32x8::splat(simd, 1.0));
            let row: i32x8<S> = alive.select(age * last_row + 0.5, f32x8::splat(simd, -1.0)).to_int();
            row.store_slice(&mut self.row[i..i + LANES]);
        }
    }

    /// Radius, light, and the touched part of the picture.
    #[inline(always)]
    fn finish<S: Simd>(&mut self, simd: S, grid: &Grid, look: &DiscLook, light: &Light<'_>, n: usize) {
        let zero = f32x8::splat(simd, 0.0);
        let covers = if look.covers { 1.0 } else { 0.0 };
        for i in (0..n).step_by(LANES) {
            let depth = get(simd, &self.depth, i);
            let wanted = get(simd, &self.own, i) * get(simd, &self.size, i) * get(simd, &self.scale, i);
            let seen = depth.simd_gt(f32x8::splat(simd, NEAR))
                & wanted.simd_gt(zero)
                & wanted.simd_lt(f32x8::splat(simd, LARGEST));
            let radius = wanted.max(f32x8::splat(simd, SMALLEST));
            let share = wanted / radius;
            let near = ((depth - NEAR) * (1.0 / NEAR_FADE)).min(f32x8::splat(simd, 1.0));
            let weight = share * share * near;
            let opacity = get(simd, &self.opacity, i);
            let mut paint = [get(simd, &self.red, i), get(simd, &self.green, i), get(simd, &self.blue, i)];
            if look.lit != 0.0 {
                let at = [get(simd, &self.at[0], i), get(simd, &self.at[1], i), get(simd, &self.at[2], i)];
                light_lanes(simd, &mut paint, look.lit, light, at);
            }
            let paint =
                [paint[0] * opacity * weight, paint[1] * opacity * weight, paint[2] * opacity * weight];
            let cover = opacity * covers * weight;
            let strength = paint[0] + paint[1] + paint[2] + cover;
            let seen = seen & strength.simd_gt(zero) & strength.simd_lt(f32x8::splat(simd, f32::INFINITY));
            let ([dx, dy], first) = self.touch(simd, grid, [radius, radius + look.margin], seen, i);
            let per_r2 = f32x8::splat(simd, 1.0) / (radius * radius);
            let paint = [halves(paint[0], paint[1]), halves(paint[2], cover)];
            let rows = transpose([
                dx,
                dy,
                per_r2,
                depth,
                paint[0].bitcast(),
                paint[1].bitcast(),
                first.bitcast(),
                depth,
            ]);
            for k in 0..LANES {
                let [dx, dy, per_r2, depth, red_green, blue_cover, first, _] = rows[k].to_array();
                let first = first.to_bits();
                self.dots[i + k] = Dot {
                    offset: [dx, dy],
                    per_r2,
                    depth,
                    paint: [red_green.to_bits(), blue_cover.to_bits()],
                    first: [first as i16, (first >> 16) as i16],
                    label: Label::default(),
                };
            }
        }
    }

    /// Tiles and pixels within the picture that bounds touch, by the radius itself and by that which tiles need: [`Grid::cover`] for eight. Returns the offset to the first pixel, and that pixel's
    /// column in the lower half and row in the upper half.
    #[inline(always)]
    fn touch<S: Simd>(
        &mut self,
        simd: S,
        grid: &Grid,
        [radius, reach]: [f32x8<S>; 2],
        seen: mask32x8<S>,
        i: usize,
    ) -> ([f32x8<S>; 2], u32x8<S>) {
        let (x, y) = (get(simd, &self.x, i), get(simd, &self.y, i));
        let (zero, farthest) = (f32x8::splat(simd, 0.0), f32x8::splat(simd, FARTHEST));
        let whole = |v: f32x8<S>| -> i32x8<S> { v.to_int() };
        let first_x = (x - 0.5 - radius).ceil().max(-farthest).min(farthest);
        let first_y = (y - 0.5 - radius).ceil().max(-farthest).min(farthest);
        let first = (whole(first_x) & 0xffff) | (whole(first_y) << 16);
        let from = |v: f32x8<S>| (v - 0.5 - reach).ceil().max(zero).min(farthest);
        let (i0, j0) = (from(x), from(y));
        let last = |v: f32x8<S>, most: usize| (v - 0.5).floor().min(f32x8::splat(simd, most as f32 - 1.0));
        let (i1, j1) = (last(x + reach, grid.width), last(y + reach, grid.height));
        let seen = seen & i0.simd_le(i1) & j0.simd_le(j1);
        let (i0, i1, j0, j1) = (whole(i0), whole(i1), whole(j0), whole(j1));
        let [w, h] = grid.tile_log2;
        let (x0, x1, y0, y1) = (i0 >> w, i1 >> w, j0 >> h, j1 >> h);
        x0.store_slice(&mut self.x0[i..i + LANES]);
        x1.store_slice(&mut self.x1[i..i + LANES]);
        y0.store_slice(&mut self.y0[i..i + LANES]);
        y1.store_slice(&mut self.y1[i..i + LANES]);
        let one = x0.simd_eq(x1) & y0.simd_eq(y1);
        let tile = one.select(y0 * grid.across as i32 + x0, i32x8::splat(simd, -1));
        tile.store_slice(&mut self.tile[i..i + LANES]);
        ((i1 - i0 + 1) * (j1 - j0 + 1)).store_slice(&mut self.pixels[i..i + LANES]);
        let flag = seen.select(i32x8::splat(simd, 1), i32x8::splat(simd, 0));
        flag.store_slice(&mut self.seen[i..i + LANES]);
        ([first_x + 0.5 - x, first_y + 0.5 - y], first.bitcast())
    }
}

/// The upper halves of floats that are not negative.
#[inline(always)]
fn halves<S: Simd>(upper: f32x8<S>, lower: f32x8<S>) -> u32x8<S> {
    let (upper, lower): (u32x8<S>, u32x8<S>) = (upper.bitcast(), lower.bitcast());
    ((upper + HALF_STEP) & 0xffff_0000) | ((lower + HALF_STEP) >> 16)
}

/// Eight columns to eight rows, by three perfect shuffles.
#[inline(always)]
fn transpose<S: Simd>(v: [f32x8<S>; LANES]) -> [f32x8<S>; LANES] {
    let mut v = v;
    for _ in 0..3 {
        let (a, b) = v[0].interleave(v[4]);
        let (c, d) = v[1].interleave(v[5]);
        let (e, f) = v[2].interleave(v[6]);
        let (g, h) = v[3].interleave(v[7]);
        v = [a, b, c, d, e, f, g, h];
    }
    v
}

/// Multiplies the light on round soft elements into eight colours.
#[inline(always)]
fn light_lanes<S: Simd>(simd: S, colour: &mut [f32x8<S>; 3], lit: f32, light: &Light<'_>, at: [f32x8<S>; 3]) {
    let [r, g, b] = light.soft_ambient().to_array();
    let mut received = [f32x8::splat(simd, r), f32x8::splat(simd, g), f32x8::splat(simd, b)];
    for lamp in light.lamps {
        let [x, y, z] = lamp.position;
        let fall = lamp.fall_off([x - at[0], y - at[1], z - at[2]]);
        received[0] += lamp.colour[0] * fall;
        received[1] += lamp.colour[1] * fall;
        received[2] += lamp.colour[2] * fall;
    }
    let own = 1.0 - lit;
    for channel in 0..3 {
        colour[channel] *= own + received[channel] * lit;
    }
}

#[cfg(test)]
mod tests {
    use frolic_simd::levels;

    use super::*;

    kernel! {
        fn transposed(simd) -> [[f32; LANES]; LANES] {
            let mut columns = [f32x8::splat(simd, 0.0); LANES];
            for k in 0..LANES {
                let mut lanes = [0.0; LANES];
                for lane in 0..LANES {
                    lanes[lane] = (k * 10 + lane) as f32;
                }
                columns[k] = f32x8::load_array(simd, lanes);
            }
            transpose(columns).map(|row| row.to_array())
        }
    }

    #[test]
    fn columns_become_rows() {
        for level in levels() {
            for (lane, row) in transposed(level).iter().enumerate() {
                for (k, value) in row.iter().enumerate() {
                    assert_eq!(*value, (k * 10 + lane) as f32, "{level:?}");
                }
            }
        }
    }
}
