//! From linear light to eight bits: bloom, exposure, tone curve, sRGB, dither.

use fearless_simd::prelude::*;
use fearless_simd::{f32x4, f32x8, i32x8};
use frolic_simd::{kernel, rounds};
use rayon::prelude::*;

use crate::LANES;
use crate::tile::{Grid, Row, TILE_WIDTH};

/// Light that the tone curve maps to full white: Reinhard et al., "Photographic Tone Reproduction" (2002), equation 4, each
/// channel on its own, so that very bright colours turn towards white, as embers do.
pub const WHITE: f32 = 9.0;

/// Pixels along a side of a block whose mean goes into the bloom picture.
const BLOCK: usize = LANES;

/// The picture at an eighth of its size, and its bloom.
#[derive(Debug, Default)]
pub struct Bloom {
    /// Means of blocks as tiles wrote them: tile after tile, three planes each.
    by_tile: Vec<f32>,
    /// Three planes of the whole picture with a border of one block.
    planes: [Vec<f32>; 3],
    swap: [Vec<f32>; 3],
    wide: [Vec<f32>; 3],
    across: usize,
    down: usize,
}

/// Blocks of a tile, across and down.
fn blocks(grid: &Grid) -> [usize; 2] {
    grid.tile_log2.map(|log2| (1usize << log2) / BLOCK)
}

impl Bloom {
    /// Adapts to the size of a picture.
    pub fn resize(&mut self, grid: &Grid) {
        let [across, down] = blocks(grid);
        self.by_tile.resize(grid.tiles() * across * down * 3, 0.0);
        (self.across, self.down) = (grid.width.div_ceil(BLOCK) + 2, grid.height.div_ceil(BLOCK) + 2);
        for planes in [&mut self.planes, &mut self.swap, &mut self.wide] {
            // Vectors of the last row reach beyond it.
            planes.iter_mut().for_each(|plane| plane.resize(self.across * self.down + BLOOM_ROW, 0.0));
        }
    }

    /// Where each tile writes its blocks.
    pub fn tiles(&mut self, grid: &Grid) -> rayon::slice::ChunksMut<'_, f32> {
        let [across, down] = blocks(grid);
        self.by_tile.par_chunks_mut(across * down * 3)
    }

    /// Spreads the light: half of it near, half of it far.
    pub fn spread(&mut self, grid: &Grid) {
        let (across, down) = (self.across, self.down);
        let [tile_across, tile_down] = blocks(grid);
        let by_tile = &self.by_tile;
        let channels = self.planes.par_iter_mut().zip(&mut self.swap).zip(&mut self.wide).enumerate();
        channels.for_each(|(channel, ((plane, swap), wide))| {
            for j in 0..down {
                for i in 0..across {
                    // The border repeats the edge.
                    let x = i.clamp(1, across - 2) - 1;
                    let y = j.clamp(1, down - 2) - 1;
                    let tile = y / tile_down * grid.across + x / tile_across;
                    let within = (y % tile_down) * tile_across + x % tile_across;
                    plane[j * across + i] = by_tile[(tile * 3 + channel) * tile_across * tile_down + within];
                }
            }
            let len = across * down;
            let (plane, swap, wide) = (&mut plane[..len], &mut swap[..len], &mut wide[..len]);
            // Down the columns, then along the rows as columns of the turned picture: sums of neighbours are vectors.
            blur_thrice(plane, swap, across, NEAR);
            plane.copy_from_slice(swap);
            blur_thrice(plane, wide, across, FAR);
            turn(swap, plane, across);
            turn(wide, swap, across);
            blur_thrice(plane, wide, down, NEAR);
            blur_thrice(swap, plane, down, FAR);
            swap.iter_mut().zip(&*plane).zip(&*wide).for_each(|((to, far), near)| *to = (near + far) * 0.5);
            turn(swap, plane, down);
        });
    }
}

/// Radii of the bloom that stays near, and of what spreads on from it, in blocks.
const NEAR: [usize; 3] = [1, 1, 1];
const FAR: [usize; 3] = [5, 6, 7];

/// Three means in a row, the last of which is in `to`; `from` is overwritten.
fn blur_thrice(from: &mut [f32], to: &mut [f32], across: usize, radii: [usize; 3]) {
    blur_down(from, to, across, radii[0]);
    blur_down(to, from, across, radii[1]);
    blur_down(from, to, across, radii[2]);
}

/// Writes a picture with rows for columns.
fn turn(from: &[f32], to: &mut [f32], across: usize) {
    let down = from.len() / across;
    for (i, column) in to.chunks_exact_mut(down).enumerate() {
        column.iter_mut().zip(from[i..].iter().step_by(across)).for_each(|(to, from)| *to = *from);
    }
}

/// Mean over `2 radius + 1` places down, the edge repeated beyond itself; three in a row are close to a
/// Gaussian (Wells, "Efficient Synthesis of Gaussian Filters by Cascaded Uniform Filters", 1986). O(n) at any radius.
fn blur_down(from: &[f32], to: &mut [f32], across: usize, radius: usize) {
    let (share, reach) = (1.0 / (2 * radius + 1) as f32, radius as isize);
    let down = (from.len() / across) as isize;
    let row = |j: isize| &from[j.clamp(0, down - 1) as usize * across..][..across];
    // Each row is the one above, with a row that enters and without one that leaves.
    for j in 0..down {
        let (before, now) = to.split_at_mut(j as usize * across);
        let now = &mut now[..across];
        if j == 0 {
            now.fill(0.0);
            for j in -reach..=reach {
                now.iter_mut().zip(row(j)).for_each(|(sum, value)| *sum += value * share);
            }
        } else {
            let last = &before[(j as usize - 1) * across..];
            let (enter, leave) = (row(j + reach), row(j - 1 - reach));
            for (((now, last), enter), leave) in now.iter_mut().zip(last).zip(enter).zip(leave) {
                *now = (last + (enter - leave) * share).max(0.0);
            }
        }
    }
}

#[inline(always)]
fn averages<S: Simd>(simd: S, grid: &Grid, nth: usize, rows: &[Row], small: &mut [f32]) {
    let [across, down] = blocks(grid);
    let rect = grid.rect(nth);
    for channel in 0..3 {
        for block in 0..across * down {
            let (i0, j0) = (block % across * BLOCK, block / across * BLOCK);
            let (i1, j1) = ((i0 + BLOCK).min(rect.w), (j0 + BLOCK).min(rect.h));
            if i0 >= i1 || j0 >= j1 {
                continue;
            }
            let mut sums = f32x8::splat(simd, 0.0);
            for row in &rows[j0..j1] {
                sums += f32x8::from_slice(simd, &row[channel][i0..i0 + BLOCK]);
            }
            let sums = sums.to_array();
            let mut sum = 0.0;
            for k in 0..i1 - i0 {
                sum += sums[k];
            }
            small[channel * across * down + block] = sum / ((i1 - i0) * (j1 - j0)) as f32;
        }
    }
}

/// One row of tiles, and the rows of the picture it becomes.
pub struct ResolveBand<'a> {
    /// How the picture is cut into tiles.
    pub grid: &'a Grid,
    /// Index of the row of tiles.
    pub row: usize,
    /// Rows of the picture.
    pub pixels: &'a mut [[u8; 4]],
    /// Rows of the tiles, tile after tile.
    pub tiles: &'a [Row],
    /// The bloom.
    pub bloom: &'a Bloom,
    /// Fraction of light that glare spreads, 0 to 1.
    pub glare: f32,
    /// Factor on all light before the tone curve.
    pub exposure: f32,
}

kernel! {
    /// Turns one row of tiles into rows of the picture.
    pub fn resolve_band(simd, band: ResolveBand<'_>) {
        band.run(simd);
    }

    /// Straight RGBA from a row over black and the same row over white, for `into.len()` pixels: the difference is what shows through.
    pub fn resolve_straight(simd, black: &Row, white: &Row, exposure: f32, into: &mut [[u8; 4]]) {
        for (eight, out) in into.chunks_mut(LANES).enumerate() {
            let i = eight * LANES;
            straight_pixels(simd, i, black, white, exposure, out);
        }
    }

    /// Means of the blocks of one finished tile; only pixels of the picture count.
    pub fn average_blocks(simd, grid: &Grid, nth: usize, rows: &[Row], small: &mut [f32]) {
        averages(simd, grid, nth, rows, small);
    }
}

impl ResolveBand<'_> {
    #[inline(always)]
    fn run<S: Simd>(self, simd: S) {
        let Self { grid, row, pixels, tiles, bloom, glare, exposure } = self;
        // Tile after tile, in the order of memory.
        for (nth, rows) in tiles.chunks(grid.rows()).enumerate() {
            let rect = grid.rect(row * grid.across + nth);
            for (j, row) in rows[..rect.h].iter().enumerate() {
                let line = &mut pixels[j * grid.width + rect.x..][..rect.w];
                let y = rect.y + j;
                let spread = (glare > 0.0).then(|| bloom.row(simd, rect.x / BLOCK, y));
                // In short loops: one long one would wait for each quotient and root in turn.
                let mut value = [[[0.0; LANES]; TILE_WIDTH / LANES]; 3];
                let eights = rect.w.div_ceil(LANES);
                for channel in 0..3 {
                    let (light, _) = row[channel].as_chunks::<LANES>();
                    let value = &mut value[channel][..eights];
                    for (nth, (light, value)) in light.iter().zip(&mut *value).enumerate() {
                        let mut light = f32x8::load_array(simd, *light);
                        if let Some(spread) = &spread {
                            light += (spread.at(simd, channel, nth) - light) * glare;
                        }
                        *value = tone(simd, light * exposure).to_array();
                    }
                    for value in value {
                        *value = (srgb(simd, f32x8::load_array(simd, *value)) * 255.0).to_array();
                    }
                }
                let (whole, rest) = line.as_chunks_mut::<LANES>();
                let mut last = [[0; 4]; LANES];
                for nth in 0..eights {
                    let rgb = [value[0][nth], value[1][nth], value[2][nth]];
                    eight_pixels(simd, rgb, rect.x + nth * LANES, y, whole.get_mut(nth).unwrap_or(&mut last));
                }
                rest.copy_from_slice(&last[..rest.len()]);
            }
        }
    }
}

/// Bloom along a row of a tile, at the middles of blocks.
struct BloomRow([[f32; BLOOM_ROW]; 3]);

/// Blocks of a row of a tile, one more on each side, and some to fill vectors.
const BLOOM_ROW: usize = (TILE_WIDTH / BLOCK + 2).next_multiple_of(LANES);

impl BloomRow {
    /// Eight pixels: between the means around them.
    #[inline(always)]
    fn at<S: Simd>(&self, simd: S, channel: usize, eight: usize) -> f32x8<S> {
        let at = f32x8::load_array(simd, [0.5625, 0.6875, 0.8125, 0.9375, 0.0625, 0.1875, 0.3125, 0.4375]);
        let [a, b, c] = [0, 1, 2].map(|k| f32x4::splat(simd, self.0[channel][eight % (BLOOM_ROW - 2) + k]));
        let (from, to) = (a.combine(b), b.combine(c));
        from + (to - from) * at
    }
}

impl Bloom {
    /// The bloom along row `y` of a tile whose first block is `left`, between the means above and below.
    #[inline(always)]
    fn row<S: Simd>(&self, simd: S, left: usize, y: usize) -> BloomRow {
        // Centres of blocks are at 8 k + 4, behind a border of one block.
        let up = (y + BLOCK / 2) / BLOCK;
        let down = (((y + BLOCK / 2) % BLOCK) as f32 + 0.5) / BLOCK as f32;
        let mut row = BloomRow([[0.0; BLOOM_ROW]; 3]);
        for channel in 0..3 {
            let plane = &self.planes[channel];
            let (above, below) = (&plane[up * self.across + left..], &plane[(up + 1) * self.across + left..]);
            for part in (0..BLOOM_ROW).step_by(LANES) {
                let above = f32x8::from_slice(simd, &above[part..part + LANES]);
                let below = f32x8::from_slice(simd, &below[part..part + LANES]);
                (above + (below - above) * down).store_slice(&mut row.0[channel][part..part + LANES]);
            }
        }
        row
    }
}

#[inline(always)]
fn straight_pixels<S: Simd>(simd: S, i: usize, black: &Row, white: &Row, exposure: f32, out: &mut [[u8; 4]]) {
    let (zero, one) = (f32x8::splat(simd, 0.0), f32x8::splat(simd, 1.0));
    let at = |row: &Row, channel: usize| f32x8::from_slice(simd, &row[channel][i..i + LANES]);
    let over = [at(black, 0), at(black, 1), at(black, 2)];
    let through =
        (at(white, 0) - over[0] + (at(white, 1) - over[1]) + (at(white, 2) - over[2])) * (1.0 / 3.0);
    let light = over.map(|over| srgb(simd, tone(simd, over * exposure)));
    let brightest = light[0].max(light[1]).max(light[2]);
    let opacity = (one - through).max(zero).min(one).max(brightest);
    let per = opacity.simd_gt(zero).select(one / opacity, zero);
    let byte = |value: f32x8<S>| -> i32x8<S> { (value.max(zero).min(one) * 255.0 + 0.5).to_int() };
    let mut packed = byte(opacity) << 24;
    for channel in 0..3 {
        packed |= byte(light[channel] * per) << (8 * channel as u32);
    }
    for (out, packed) in out.iter_mut().zip(packed.to_array()) {
        *out = packed.to_le_bytes();
    }
}

/// Rounds eight pixels, 0 to 255.
#[inline(always)]
fn eight_pixels<S: Simd>(simd: S, rgb: [[f32; LANES]; 3], x: usize, y: usize, out: &mut [[u8; 4]; LANES]) {
    let count = f32x8::load_array(simd, [0.0, 1.0, 2.0, 3.0, 4.0, 5.0, 6.0, 7.0]);
    let threshold = dither(simd, count + x as f32, y as f32);
    let mut packed = i32x8::splat(simd, 0xff00_0000u32 as i32);
    for channel in 0..3 {
        let value = f32x8::load_array(simd, rgb[channel]) + threshold;
        let byte: i32x8<S> = value.min(f32x8::splat(simd, 255.0)).to_int();
        packed |= byte << (8 * channel as u32);
    }
    *out = packed.to_array().map(i32::to_le_bytes);
}

/// The tone curve: linear at the dark end, a soft shoulder, [`WHITE`] to 1.
#[inline(always)]
fn tone<S: Simd>(simd: S, x: f32x8<S>) -> f32x8<S> {
    let curve = x * (x * (1.0 / (WHITE * WHITE)) + 1.0) / (x + 1.0);
    curve.max(f32x8::splat(simd, 0.0)).min(f32x8::splat(simd, 1.0))
}

/// Linear 0..1 to sRGB 0..1, within a fiftieth of an 8-bit step: square roots instead of a power, as they are exact on
/// every machine and vectorise. The coefficients are our minimax fit to IEC 61966-2-1.
#[inline(always)]
fn srgb<S: Simd>(simd: S, x: f32x8<S>) -> f32x8<S> {
    let half = x.sqrt();
    let quarter = half.sqrt();
    let curve = quarter * 0.196_143_15 - 0.064_612_67 + half * 1.122_666 - half * quarter * 0.335_488_3
        + x * 0.081_326_34;
    x.simd_le(f32x8::splat(simd, 0.003_130_8)).select(x * 12.92, curve)
}

/// Rounding with a threshold that differs from pixel to pixel, 0..1, so that slow gradients do not band: interleaved
/// gradient noise (Jimenez, 2014).
#[inline(always)]
fn dither<S: Simd>(simd: S, x: f32x8<S>, y: f32) -> f32x8<S> {
    fract(simd, fract(simd, x * 0.067_110_56 + 0.005_837_15 * y) * 52.982_918)
}

/// Fractional part of a number from 0 to 2^31. SSE2 has no rounding instruction, so it converts to integers: with the library's
/// `fract` the resolve of a picture took twice as long.
#[inline(always)]
fn fract<S: Simd>(simd: S, x: f32x8<S>) -> f32x8<S> {
    if rounds(simd.level()) {
        return x.fract();
    }
    let whole: i32x8<S> = x.to_int();
    x - whole.to_float::<f32x8<S>>()
}

#[cfg(test)]
mod tests {
    use frolic_simd::levels;

    use super::*;

    kernel! {
        fn curve(simd, x: f32) -> f32 {
            srgb(simd, tone(simd, f32x8::splat(simd, x))).to_array()[0]
        }

        fn threshold(simd, x: f32, y: f32) -> f32 {
            dither(simd, f32x8::splat(simd, x), y).to_array()[0]
        }
    }

    /// The tone curve and the curve of IEC 61966-2-1, in full.
    fn exact(x: f64) -> f64 {
        let white = f64::from(WHITE);
        let v = (x * (1.0 + x / (white * white)) / (1.0 + x)).clamp(0.0, 1.0);
        if v <= 0.003_130_8 { v * 12.92 } else { 1.055 * v.powf(1.0 / 2.4) - 0.055 }
    }

    #[test]
    fn fast_curves_match_the_standard_ones() {
        for level in levels() {
            for n in 0..=200_000 {
                let x = n as f32 / 10_000.0;
                let error = (f64::from(curve(level, x)) - exact(f64::from(x))).abs() * 255.0;
                assert!(error < 0.02, "{error} eight-bit steps off at {x}");
            }
        }
    }

    #[test]
    fn dither_is_even_and_below_one() {
        for level in levels() {
            let at = |n: usize| threshold(level, (n % 64) as f32, (n / 64) as f32);
            let values: Vec<f32> = (0..64 * 64).map(at).collect();
            let mean = values.iter().sum::<f32>() / values.len() as f32;
            assert!(values.iter().all(|v| (0.0..1.0).contains(v)));
            assert!((mean - 0.5).abs() < 0.01, "{mean}");
        }
    }
}
