//! Plane rectangles in perspective, looked up per pixel: sprites, text, boards, tile maps, transparent billboards.
//!
//! ```text
//! for each row, for eight pixels at once:
//!     depth, and place on the rectangle; how much of each pixel it covers
//!     texture, by one mip level for the eight; sunlight; corners and border
//!     blend
//! ```
//!
//! [`Quad::at`] is the same for one pixel, in plain code: the plain rasteriser calls it, and tests hold both to the same bits.
//!
//! 1. Where all eight pixels are within the rectangle by a pixel, the divisions for its edges are left out.
//! 2. A rectangle that is parallel to the picture has one depth: the extent of a pixel on it is worked out once.

use fearless_simd::prelude::*;
use fearless_simd::{f32x8, i32x8, mask32x8};
use frolic_simd::kernel;

use crate::LANES;
use crate::overlay::{Apart, weight};
use crate::sun::Sunlight;
use crate::texture::{Region, RegionId, Texels, Textures};
use crate::tile::{Row, STRIDE, first_pixel, last_pixel};

/// A rectangle in space, in perspective, ready to be looked up. With d = (x, y, 1) in pixels, u = d·u / d·q and v = d·v / d·q run 0..1
/// across and down it, and d·q is one over the depth (1 on the screen).
#[derive(Debug, Clone, Copy)]
pub struct Quad<'a> {
    /// Coefficients of u.
    pub u: [f32; 3],
    /// Coefficients of v.
    pub v: [f32; 3],
    /// Coefficients of one over the depth.
    pub q: [f32; 3],
    /// Left, upper, right and lower end, in pixels.
    pub extent: [f32; 4],
    /// Depth up to which nothing is visible, in metres.
    pub near: f32,
    /// Colour times opacity.
    pub light: [f32; 3],
    /// Additional light of the sun, where no shadow falls.
    pub sun: [f32; 3],
    /// Opacity; 0 adds.
    pub cover: f32,
    /// What is on it.
    pub shown: Shown<'a>,
    /// Round corners and a border.
    pub frame: Option<Frame>,
    /// One over the depth over which it fades in front of solid surfaces, 1/m; `None` if they do not hide it.
    pub per_soft: Option<f32>,
}

/// What a rectangle shows.
#[derive(Debug, Clone, Copy)]
pub enum Shown<'a> {
    /// Its colour.
    Plain,
    /// A picture.
    Picture(&'a Textures, &'a Region),
    /// A picture, another, and the share of the other.
    Mixed(&'a Textures, [&'a Region; 2], f32),
    /// Many pictures, in rows and columns.
    Tiles(TileRows<'a>),
}

/// Pictures in rows and columns.
#[derive(Debug, Clone, Copy)]
pub struct TileRows<'a> {
    /// Textures.
    pub textures: &'a Textures,
    /// Columns and rows.
    pub size: [u32; 2],
    /// Picture at each place, row after row from the top; [`TileRows::EMPTY`] shows nothing.
    pub tiles: &'a [u16],
    /// First region of the pictures, and their number.
    pub frames: [u32; 2],
}

impl<'a> TileRows<'a> {
    /// No picture.
    pub const EMPTY: u16 = u16::MAX;

    /// The region at a place of the map; none where it is empty.
    #[inline(always)]
    fn region(&self, place: usize) -> Option<&'a Region> {
        let tile = self.tiles.get(place).copied().unwrap_or(Self::EMPTY);
        let [first, count] = self.frames;
        if tile == Self::EMPTY {
            None
        } else {
            self.textures.region(RegionId(first + u32::from(tile) % count))
        }
    }

    /// Columns and rows of the map in texels, by its first picture.
    fn texels(&self) -> [f32; 2] {
        let [w, h] =
            self.textures.region(RegionId(self.frames[0])).map_or([1, 1], |region| [region.w, region.h]);
        [(self.size[0] * w) as f32, (self.size[1] * h) as f32]
    }
}

/// Round corners and a border.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Frame {
    /// Width and height, in the units of `corner` and `border`.
    pub size: [f32; 2],
    /// Radius of the corners.
    pub corner: f32,
    /// Width of the border; 0 for none.
    pub border: f32,
    /// Colour of the border times its opacity, and its opacity; 0 adds.
    pub paint: [f32; 4],
}

/// A tile that rectangles are drawn into.
#[derive(Debug)]
pub struct QuadTile<'a> {
    /// Its rows.
    pub rows: &'a mut [Row],
    /// Depths of the solid surfaces, in metres.
    pub depth: &'a [[f32; STRIDE]],
    /// Its first column, a multiple of eight.
    pub x: i32,
    /// Its first row.
    pub y: i32,
    /// Column of the tile from which on pixels are wanted; 0 or more.
    pub from: i32,
    /// Column of the tile up to which pixels are wanted.
    pub width: usize,
    /// The sun, if shadows fall.
    pub sunlight: Option<&'a Sunlight<'a>>,
    /// Where `rows` hold only what is drawn over the background.
    pub apart: Apart<'a>,
    /// Depth of the rectangle's element, in metres, which weighs it among others.
    pub order_depth: f32,
    /// Pixels so far that a rectangle covered in part or whole.
    pub touched: u64,
}

kernel! {
    /// Draws a rectangle; its edges are antialiased over a pixel.
    pub fn draw(simd, tile: &mut QuadTile<'_>, quad: &Quad<'_>) {
        quad.draw(simd, tile);
    }
}

/// A rectangle at one pixel.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Touch {
    /// Share of the pixel, 0 to 1.
    pub share: f32,
    /// Colour times opacity, and opacity.
    pub paint: [f32; 4],
    /// Depth, in metres.
    pub depth: f32,
}

impl Quad<'_> {
    /// The rectangle in a picture of a 2^`log2`th of the resolution.
    pub fn coarser(&self, log2: u32) -> Self {
        let by = (1u32 << log2) as f32;
        let plane = |[x, y, c]: [f32; 3]| [x * by, y * by, c];
        let extent = self.extent.map(|end| end / by);
        Self { u: plane(self.u), v: plane(self.v), q: plane(self.q), extent, ..*self }
    }

    /// One pixel, by the column and row of its centre, in pixels; `lit` is the share of the sun's light there, by depth. `None` if it does not touch it.
    pub fn at(&self, x: f32, y: f32, lit: impl Fn(f32) -> f32) -> Option<Touch> {
        let q = along(self.q, x, y);
        let depth = 1.0 / q;
        // Written so that NaN is not visible.
        let seen = q > 0.0 && depth > self.near;
        if !seen {
            return None;
        }
        let (u, v) = (along(self.u, x, y) * depth, along(self.v, x, y) * depth);
        let (wide, high) = (grown(self.u, self.q, u, depth), grown(self.v, self.q, v, depth));
        let mut share = covered(u, wide) * covered(v, high);
        let met = share > 0.0;
        if !met {
            return None;
        }
        let texel = self.texel(u.clamp(0.0, 1.0), v.clamp(0.0, 1.0), self.texels_around(x, y));
        let mut light = self.light;
        if self.sun != [0.0; 3] {
            let lit = lit(depth);
            for channel in 0..3 {
                light[channel] += self.sun[channel] * lit;
            }
        }
        let mut paint =
            [light[0] * texel[0], light[1] * texel[1], light[2] * texel[2], texel[3] * self.cover];
        if let Some(frame) = &self.frame {
            let [w, h] = frame.size;
            let off = rounded((u - 0.5) * w, (v - 0.5) * h, [w * 0.5, h * 0.5], frame.corner);
            // Pixels for each unit.
            let scale = 2.0 / (wide * w + high * h);
            if frame.corner > 0.0 {
                share = share.min((0.5 - off * scale).clamp(0.0, 1.0));
            }
            if frame.border > 0.0 {
                let inner = (0.5 - (off + frame.border) * scale).clamp(0.0, 1.0);
                for channel in 0..4 {
                    paint[channel] = frame.paint[channel] + (paint[channel] - frame.paint[channel]) * inner;
                }
            }
        }
        Some(Touch { share, paint, depth })
    }

    /// Whether nothing behind it shows in any pixel from a first column and row to a last column and row; false where that is not certain.
    /// `behind` is the least depth of the solid surfaces there, in metres.
    pub fn hides(&self, [i0, j0, i1, j1]: [i32; 4], behind: f32) -> bool {
        let [x, y] = [[i0, i1], [j0, j1]].map(|ends| ends.map(|at| at as f32 + 0.5));
        let corners = [[x[0], y[0]], [x[1], y[0]], [x[0], y[1]], [x[1], y[1]]];
        // Nearest and farthest are at corners, and so are the ends across and down.
        let (mut least, mut most) = ([f32::INFINITY; 3], [f32::NEG_INFINITY; 3]);
        for [x, y] in corners {
            let q = along(self.q, x, y);
            let at = [1.0 / q, along(self.u, x, y) / q, along(self.v, x, y) / q];
            for k in 0..3 {
                (least[k], most[k]) = (least[k].min(at[k]), most[k].max(at[k]));
            }
            // Written so that NaN hides nothing.
            let in_front =
                q > 0.0 && at[0] > self.near && self.per_soft.is_none_or(|per| (behind - at[0]) * per > 1.01);
            if !in_front {
                return false;
            }
        }
        // More than half the extent of any pixel.
        let half = |p: [f32; 3]| {
            let slope = [0, 1].map(|axis: usize| p[axis].abs() + self.q[axis].abs());
            (slope[0] * slope[0] + slope[1] * slope[1]).sqrt() * most[0] * 0.501
        };
        let within = |k: usize, half: f32| least[k] >= half && 1.0 - most[k] >= half;
        if self.cover != 1.0 || self.frame.is_some() || !within(1, half(self.u)) || !within(2, half(self.v)) {
            return false;
        }
        match self.shown {
            Shown::Plain => true,
            Shown::Picture(textures, region) => {
                textures.is_opaque(region, [least[1], least[2], most[1], most[2]])
            }
            Shown::Mixed(..) | Shown::Tiles(_) => false,
        }
    }

    /// Texels that a pixel covers, in the middle of the eight pixels that a pixel is in.
    fn texels_around(&self, x: f32, y: f32) -> f32 {
        let size = match self.shown {
            Shown::Plain => return 1.0,
            Shown::Picture(_, region) | Shown::Mixed(_, [region, _], _) => [region.w as f32, region.h as f32],
            Shown::Tiles(tiles) => tiles.texels(),
        };
        let x = (x as i32 & !(LANES as i32 - 1)) as f32 + 4.0;
        let q = along(self.q, x, y);
        let depth = 1.0 / q;
        if !(q > 0.0 && depth > self.near) {
            return f32::MAX;
        }
        let (u, v) = (along(self.u, x, y) * depth, along(self.v, x, y) * depth);
        (grown(self.u, self.q, u, depth) * size[0]).max(grown(self.v, self.q, v, depth) * size[1])
    }

    /// Colour times opacity, and opacity, at u, v.
    fn texel(&self, u: f32, v: f32, texels: f32) -> [f32; 4] {
        match self.shown {
            Shown::Plain => [1.0; 4],
            Shown::Picture(textures, region) => textures.look_up(region, u, v, texels).to_array(),
            Shown::Mixed(textures, [one, other], share) => {
                let (one, other) =
                    (textures.look_up(one, u, v, texels), textures.look_up(other, u, v, texels));
                (one + (other - one) * share).to_array()
            }
            Shown::Tiles(tiles) => {
                let [w, h] = tiles.size;
                let place = |share: f32, count: u32| {
                    let at = share * count as f32;
                    let cell = (at as u32).min(count - 1);
                    (cell, at - cell as f32)
                };
                let ((i, u), (j, v)) = (place(u, w), place(v, h));
                let region = tiles.region((j * w + i) as usize);
                region.map_or([0.0; 4], |region| tiles.textures.look_up(region, u, v, texels).to_array())
            }
        }
    }

    #[inline(always)]
    fn draw<S: Simd>(&self, simd: S, tile: &mut QuadTile<'_>) {
        let [x0, y0, x1, y1] = self.extent;
        let (i0, i1) = (first_pixel(x0, tile.x + tile.from), last_pixel(x1, tile.x + tile.width as i32 - 1));
        let (j0, j1) = (first_pixel(y0, tile.y), last_pixel(y1, tile.y + tile.rows.len() as i32 - 1));
        if i0 > i1 {
            return;
        }
        let weight = weight(tile.order_depth);
        let lanes = f32x8::load_array(simd, [0.0, 1.0, 2.0, 3.0, 4.0, 5.0, 6.0, 7.0]);
        let (zero, one) = (f32x8::splat(simd, 0.0), f32x8::splat(simd, 1.0));
        // Parallel to the picture: depth, and the extent of a pixel, are the same everywhere.
        let level = self.q[0] == 0.0 && self.q[1] == 0.0;
        let of = |p: [f32; 3]| grown(p, self.q, 0.5, 1.0 / self.q[2]);
        let (mut wide, mut high) = (f32x8::splat(simd, of(self.u)), f32x8::splat(simd, of(self.v)));
        let mut sampler = Sampler::new(self.shown);
        let level_texels = if level { self.texels_around(i0 as f32 + 0.5, j0 as f32 + 0.5) } else { 0.0 };
        for j in j0..=j1 {
            let (y, row_of_tile) = (j as f32 + 0.5, (j - tile.y) as usize);
            let (Some(row), Some(depths)) = (tile.rows.get_mut(row_of_tile), tile.depth.get(row_of_tile))
            else {
                break;
            };
            for i in (i0 & !(LANES as i32 - 1)..=i1).step_by(LANES) {
                let x = lanes + (i as f32 + 0.5);
                let column = (i - tile.x) as usize;
                let q = along_lanes(self.q, x, y);
                let depth = one / q;
                let place = lanes + i as f32;
                let mut met = q.simd_gt(zero)
                    & depth.simd_gt(f32x8::splat(simd, self.near))
                    & place.simd_ge(f32x8::splat(simd, i0 as f32))
                    & place.simd_le(f32x8::splat(simd, i1 as f32));
                let (u, v) = (along_lanes(self.u, x, y) * depth, along_lanes(self.v, x, y) * depth);
                if !level {
                    wide = grown_lanes(simd, self.u, self.q, u, depth);
                    high = grown_lanes(simd, self.v, self.q, v, depth);
                }
                let mut share = one;
                // A little more than the half pixel of an edge.
                let (w, h) = (wide * 0.500_01, high * 0.500_01);
                let within = u.simd_ge(w) & (one - u).simd_ge(w) & v.simd_ge(h) & (one - v).simd_ge(h);
                if !within.all_true() {
                    share = covered_lanes(simd, u, wide) * covered_lanes(simd, v, high);
                    met &= share.simd_gt(zero);
                }
                let covered = met.to_bitmask().count_ones();
                if covered == 0 {
                    continue;
                }
                tile.touched += u64::from(covered);
                let (held_u, held_v) = (u.max(zero).min(one), v.max(zero).min(one));
                let texels = if level { level_texels } else { self.texels_around(i as f32 + 4.0, y) };
                let texel = sampler.look_up(simd, held_u, held_v, texels);
                let mut light = [zero; 3];
                for channel in 0..3 {
                    light[channel] = f32x8::splat(simd, self.light[channel]);
                }
                if self.sun != [0.0; 3] {
                    let mut lit = one;
                    if let Some(sunlight) = tile.sunlight {
                        lit = sunlight.at(simd, x, f32x8::splat(simd, y), depth, met);
                    }
                    for channel in 0..3 {
                        light[channel] += lit * self.sun[channel];
                    }
                }
                let mut paint =
                    [light[0] * texel[0], light[1] * texel[1], light[2] * texel[2], texel[3] * self.cover];
                if let Some(frame) = &self.frame {
                    frame.add(simd, [u, v], [wide, high], &mut share, &mut paint);
                }
                if let Some(per_soft) = self.per_soft {
                    let behind = f32x8::from_slice(simd, &depths[column..column + LANES]);
                    share *= ((behind - depth) * per_soft).max(zero).min(one);
                }
                let keep = one - paint[3] * share;
                let (mut stays, mut share) = (keep, share);
                if let Some(left) = tile.apart.left.get_mut(row_of_tile) {
                    let left = &mut left[column..column + LANES];
                    let under = f32x8::from_slice(simd, left);
                    met.select(under * keep, under).store_slice(left);
                    if let Some(sum) = tile.apart.weights.get_mut(row_of_tile) {
                        (stays, share) = (one, share * weight);
                        let sum = &mut sum[column..column + LANES];
                        let under = f32x8::from_slice(simd, sum);
                        met.select(under + paint[3] * share, under).store_slice(sum);
                    }
                }
                for channel in 0..3 {
                    let pixels = &mut row[channel][column..column + LANES];
                    let under = f32x8::from_slice(simd, pixels);
                    let over = under * stays + paint[channel] * share;
                    met.select(over, under).store_slice(pixels);
                }
            }
        }
    }
}

#[inline(always)]
fn along(p: [f32; 3], x: f32, y: f32) -> f32 {
    p[0] * x + p[1] * y + p[2]
}

#[inline(always)]
fn along_lanes<S: Simd>(p: [f32; 3], x: f32x8<S>, y: f32) -> f32x8<S> {
    x * p[0] + p[1] * y + p[2]
}

/// Extent of a pixel in u or v, along its steepest direction.
#[inline(always)]
fn grown(p: [f32; 3], q: [f32; 3], share: f32, depth: f32) -> f32 {
    let (dx, dy) = (p[0] - share * q[0], p[1] - share * q[1]);
    ((dx * dx + dy * dy).sqrt() * depth).max(1e-9)
}

#[inline(always)]
fn grown_lanes<S: Simd>(simd: S, p: [f32; 3], q: [f32; 3], share: f32x8<S>, depth: f32x8<S>) -> f32x8<S> {
    let dx = f32x8::splat(simd, p[0]) - share * q[0];
    let dy = f32x8::splat(simd, p[1]) - share * q[1];
    ((dx * dx + dy * dy).sqrt() * depth).max(f32x8::splat(simd, 1e-9))
}

/// Share of a pixel between 0 and 1, for a pixel at `share` with extent `grow`.
#[inline(always)]
fn covered(share: f32, grow: f32) -> f32 {
    let (from, to) = (share / grow + 0.5, (1.0 - share) / grow + 0.5);
    (from.clamp(0.0, 1.0) + to.clamp(0.0, 1.0) - 1.0).max(0.0)
}

#[inline(always)]
fn covered_lanes<S: Simd>(simd: S, share: f32x8<S>, grow: f32x8<S>) -> f32x8<S> {
    let (zero, one) = (f32x8::splat(simd, 0.0), f32x8::splat(simd, 1.0));
    let from = share / grow + 0.5;
    let to = (one - share) / grow + 0.5;
    (from.max(zero).min(one) + to.max(zero).min(one) - 1.0).max(zero)
}

/// Distance from a rounded rectangle about the origin, negative inside (Quilez, "2D distance functions", 2018).
fn rounded(x: f32, y: f32, half: [f32; 2], radius: f32) -> f32 {
    let (qx, qy) = (x.abs() - half[0] + radius, y.abs() - half[1] + radius);
    let (ox, oy) = (qx.max(0.0), qy.max(0.0));
    qx.max(qy).min(0.0) + (ox * ox + oy * oy).sqrt() - radius
}

impl Frame {
    /// Cuts the corners of eight pixels off, and paints the border.
    #[inline(always)]
    fn add<S: Simd>(
        &self,
        simd: S,
        [u, v]: [f32x8<S>; 2],
        [wide, high]: [f32x8<S>; 2],
        share: &mut f32x8<S>,
        paint: &mut [f32x8<S>; 4],
    ) {
        let (zero, one) = (f32x8::splat(simd, 0.0), f32x8::splat(simd, 1.0));
        let ([w, h], radius) = (self.size, self.corner);
        let qx = ((u - 0.5) * w).abs() - w * 0.5 + radius;
        let qy = ((v - 0.5) * h).abs() - h * 0.5 + radius;
        let (ox, oy) = (qx.max(zero), qy.max(zero));
        let off = qx.max(qy).min(zero) + (ox * ox + oy * oy).sqrt() - radius;
        let scale = f32x8::splat(simd, 2.0) / (wide * w + high * h);
        let half = f32x8::splat(simd, 0.5);
        if radius > 0.0 {
            *share = share.min((half - off * scale).max(zero).min(one));
        }
        if self.border > 0.0 {
            let inner = (half - (off + self.border) * scale).max(zero).min(one);
            for channel in 0..4 {
                let own = f32x8::splat(simd, self.paint[channel]);
                paint[channel] = own + (paint[channel] - own) * inner;
            }
        }
    }
}

/// What a rectangle shows, at the mip level of the last eight pixels.
struct Sampler<'a> {
    shown: Shown<'a>,
    /// Texels of a pixel that `levels` are for.
    texels: f32,
    levels: [Option<Texels<'a>>; 2],
}

impl<'a> Sampler<'a> {
    fn new(shown: Shown<'a>) -> Self {
        Self { shown, texels: f32::NAN, levels: [None; 2] }
    }

    /// Colour times opacity, and opacity, of eight pixels.
    #[inline(always)]
    fn look_up<S: Simd>(&mut self, simd: S, u: f32x8<S>, v: f32x8<S>, texels: f32) -> [f32x8<S>; 4] {
        let one = f32x8::splat(simd, 1.0);
        if texels != self.texels {
            self.texels = texels;
            self.levels = match self.shown {
                Shown::Plain | Shown::Tiles(_) => [None; 2],
                Shown::Picture(textures, region) => [Some(textures.texels(region, texels)), None],
                Shown::Mixed(textures, of, _) => of.map(|region| Some(textures.texels(region, texels))),
            };
        }
        match (self.shown, &self.levels) {
            (Shown::Mixed(.., share), [Some(first), Some(other)]) => {
                let (mut mixed, other) = (first.eight(simd, u, v), other.eight(simd, u, v));
                for channel in 0..4 {
                    mixed[channel] += (other[channel] - mixed[channel]) * share;
                }
                mixed
            }
            (_, [Some(level), _]) => level.eight(simd, u, v),
            (Shown::Tiles(tiles), _) => tiles.eight(simd, u, v, texels),
            _ => [one; 4],
        }
    }
}

impl TileRows<'_> {
    /// Colour times opacity, and opacity, of eight places: those that are of one picture together.
    #[inline(always)]
    fn eight<S: Simd>(&self, simd: S, u: f32x8<S>, v: f32x8<S>, texels: f32) -> [f32x8<S>; 4] {
        let zero = f32x8::splat(simd, 0.0);
        let [w, h] = self.size;
        let (at_u, at_v) = (u * w as f32, v * h as f32);
        let most = |count: u32| i32x8::splat(simd, count as i32 - 1);
        let (i, j): (i32x8<S>, i32x8<S>) = (at_u.to_int(), at_v.to_int());
        let (i, j) = (i.min(most(w)), j.min(most(h)));
        let (u, v) = (at_u - i.to_float::<f32x8<S>>(), at_v - j.to_float::<f32x8<S>>());
        let places = (j * w as i32 + i).to_array();
        let mut mixed = [zero; 4];
        let mut left = 0xffu64;
        while left != 0 {
            let place = places[left.trailing_zeros() as usize % LANES];
            let mut alike = 0u64;
            for lane in 0..LANES {
                alike |= u64::from(places[lane] == place) << lane;
            }
            left &= !alike;
            let Some(region) = self.region(place as usize) else { continue };
            let own = self.textures.texels(region, texels).eight(simd, u, v);
            let alike = mask32x8::from_bitmask(simd, alike);
            for channel in 0..4 {
                mixed[channel] = alike.select(own[channel], mixed[channel]);
            }
        }
        mixed
    }
}
