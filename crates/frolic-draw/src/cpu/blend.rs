//! Transparent records of one tile other than discs: quads looked up per pixel, pieces of meshes and ribbons, and depth order
//! within the tile.

use std::cell::RefCell;

use frolic_raster::LANES;
use frolic_raster::colour9::EMPTY;
use frolic_raster::dots;
use frolic_raster::record::{Dot, Facet, Outlined, Record, Strip, keyed};
use frolic_raster::samples::{SAMPLES, Samples};
use frolic_raster::solid::{self, Style, ceil, floor};
use frolic_raster::tile::{first_pixel, last_pixel};
use glam::{Vec3, Vec4};

use super::bin::{Bin, Found, InTile};
use super::record::{Quad, Shown, shown};
use super::tile::Tile;
use crate::atlas::{Atlas, Region, TileMap};
use crate::camera::View;
use crate::list::DrawList;
use crate::look::{Blend, Look};
use crate::room;
use crate::sort;
use crate::sprite::Sprite;

thread_local! {
    /// Samples of one transparent instance, and buffers for the sort of a tile.
    static SCRATCH: RefCell<Scratch> = RefCell::default();
}

#[derive(Debug, Default)]
struct Scratch {
    near: Vec<f32>,
    base: Vec<u32>,
    /// Depth key in the upper bits, [`Place`] of the record in the lower.
    keys: Vec<u64>,
    swap: Vec<u64>,
    /// The discs of the tile, side by side: most of the sorted records.
    dots: Vec<Dot>,
}

/// The texture or sprite of a quad, prepared for lookup.
enum Texture<'a> {
    Plain,
    One(&'a Region),
    Two(&'a Region, &'a Region, f32),
    Tiles(&'a TileMap),
}

impl<'a> Texture<'a> {
    fn of(shown: &Shown, atlas: &'a Atlas) -> Option<Self> {
        Some(match shown {
            Shown::Plain => Self::Plain,
            Shown::Picture(region) => Self::One(atlas.region(*region)?),
            Shown::Melting(one, next, mix) => Self::Two(atlas.region(*one)?, atlas.region(*next)?, *mix),
            Shown::Tiles(map) => Self::Tiles(atlas.map(*map)?),
        })
    }

    /// Colour times opacity, and opacity, at u, v; `grow` is the extent of a pixel in u and v.
    #[inline]
    fn at(&self, atlas: &Atlas, u: f32, v: f32, grow: [f32; 2]) -> Vec4 {
        let of = |region: &Region| {
            let texels = (grow[0] * region.w as f32).max(grow[1] * region.h as f32);
            atlas.textures().look_up(region, u, v, texels)
        };
        match self {
            Self::Plain => Vec4::ONE,
            Self::One(region) => of(region),
            Self::Two(one, next, mix) => of(one).lerp(of(next), *mix),
            Self::Tiles(map) => {
                let [w, h] = map.size;
                let place = |share: f32, count: u32| {
                    let at = share * count as f32;
                    let cell = (at.max(0.0) as u32).min(count - 1);
                    (cell, at - cell as f32)
                };
                let ((i, u), (j, v)) = (place(u, w), place(v, h));
                let tile = map.tiles[(j * w + i) as usize];
                let region = (tile != TileMap::EMPTY)
                    .then(|| atlas.region(map.sheet.frame(u32::from(tile))))
                    .flatten();
                region.map_or(Vec4::ZERO, |region| {
                    let texels = (grow[0] * (w * region.w) as f32).max(grow[1] * (h * region.h) as f32);
                    atlas.textures().look_up(region, u, v, texels)
                })
            }
        }
    }
}

/// Share of a pixel between 0 and 1, for a pixel at `share` with extent `grow`.
#[inline(always)]
pub(super) fn between(share: f32, grow: f32) -> f32 {
    let (from, to) = (share / grow + 0.5, (1.0 - share) / grow + 0.5);
    (from.clamp(0.0, 1.0) + to.clamp(0.0, 1.0) - 1.0).max(0.0)
}

/// Distance from a rounded rectangle about the origin, negative inside (Quilez, "2D distance functions", 2018).
pub(super) fn rounded(x: f32, y: f32, half: [f32; 2], radius: f32) -> f32 {
    let (qx, qy) = (x.abs() - half[0] + radius, y.abs() - half[1] + radius);
    let (ox, oy) = (qx.max(0.0), qy.max(0.0));
    qx.max(qy).min(0.0) + (ox * ox + oy * oy).sqrt() - radius
}

/// A quad prepared for lookup per pixel.
pub struct QuadPainter<'a, 'l> {
    quad: &'a Quad,
    /// Its style.
    pub look: &'l Look,
    texture: Texture<'l>,
    /// The sprite, if it has round corners or a border.
    framed: Option<&'l Sprite>,
    /// Whether nearer solid elements hide it.
    pub tests: bool,
    near: f32,
}

impl<'a, 'l> QuadPainter<'a, 'l> {
    /// `None` if its texture is in no atlas.
    pub fn new(list: &DrawList<'l>, view: &View, quad: &'a Quad) -> Option<Self> {
        let source = &list.sources[quad.entry.source as usize];
        let look = source.look;
        let on_screen = look.is_on_screen();
        let sprite = source.instances.sprites.get(quad.entry.element as usize);
        Some(Self {
            quad,
            look,
            texture: Texture::of(&shown(list, quad.entry), &look.atlas)?,
            framed: sprite.filter(|sprite| sprite.corner > 0.0 || sprite.border > 0.0),
            tests: look.depth.test && !on_screen,
            near: if on_screen { 0.0 } else { view.near() },
        })
    }

    /// For the pixel centre at x, y: covered share, colour times opacity, opacity, and depth. `sunlit` returns the share of the sun's light that
    /// reaches the point at a depth.
    #[inline]
    pub fn at(&self, x: f32, y: f32, sunlit: impl Fn(f32) -> f32) -> Option<(f32, Vec4, f32)> {
        let Self { quad, look, .. } = self;
        let at = |p: &[f32; 3]| p[0] * x + p[1] * y + p[2];
        let q = at(&quad.q);
        let per = 1.0 / q;
        // Behind the camera, or NaN.
        if !(q > 0.0 && per > self.near) {
            return None;
        }
        let (u, v) = (at(&quad.u) * per, at(&quad.v) * per);
        // Extent of a pixel in u and v, along its steepest direction.
        let grow = |p: &[f32; 3], share: f32| {
            let (dx, dy) = (p[0] - share * quad.q[0], p[1] - share * quad.q[1]);
            ((dx * dx + dy * dy).sqrt() * per).max(1e-9)
        };
        let (gu, gv) = (grow(&quad.u, u), grow(&quad.v, v));
        let mut share = between(u, gu) * between(v, gv);
        if share <= 0.0 {
            return None;
        }
        let texel = self.texture.at(&look.atlas, u.clamp(0.0, 1.0), v.clamp(0.0, 1.0), [gu, gv]);
        let mut light = Vec3::from(quad.light);
        if quad.sun != [0.0; 3] {
            light += Vec3::from(quad.sun) * sunlit(per);
        }
        let mut paint = (light * texel.truncate()).extend(texel.w * quad.cover);
        if let Some(sprite) = self.framed {
            let [w, h] = sprite.size.map(f32::abs);
            let half = [w * 0.5, h * 0.5];
            let radius = sprite.corner.clamp(0.0, half[0].min(half[1]));
            let off = rounded((u - 0.5) * w, (v - 0.5) * h, half, radius);
            // Pixels for each unit of the sprite.
            let scale = 2.0 / (gu * w + gv * h);
            if sprite.corner > 0.0 {
                share = share.min((0.5 - off * scale).clamp(0.0, 1.0));
            }
            if sprite.border > 0.0 {
                let inner = (0.5 - (off + sprite.border) * scale).clamp(0.0, 1.0);
                let [r, g, b, a] = sprite.border_tint;
                let cover = if look.blend == Blend::Additive { 0.0 } else { a };
                paint = Vec4::new(r * a, g * a, b * a, cover).lerp(paint, inner);
            }
        }
        Some((share, paint, per))
    }
}

impl Tile<'_, '_> {
    /// Fills a quad; its edges are antialiased over a pixel.
    pub(super) fn quad(&mut self, quad: &Quad) {
        let [x0, y0, x1, y1] = quad.extent;
        let (i0, i1) = (first_pixel(x0, self.x), last_pixel(x1, self.x + self.width as i32 - 1));
        let (j0, j1) = (first_pixel(y0, self.y), last_pixel(y1, self.y + self.rows.len() as i32 - 1));
        let Some(painter) = QuadPainter::new(self.list, self.view, quad) else { return };
        for j in j0..=j1 {
            for i in i0..=i1 {
                let (x, y) = (i as f32 + 0.5, j as f32 + 0.5);
                let sunlit = |depth: f32| {
                    self.shadow.map_or(1.0, |shadow| shadow.light_at(self.view.point(x, y, depth)))
                };
                let Some((mut share, paint, depth)) = painter.at(x, y, sunlit) else {
                    continue;
                };
                let (column, row) = ((i - self.x) as usize, (j - self.y) as usize);
                if painter.tests {
                    share *= ((self.depth[row][column] - depth) * painter.look.per_soft).clamp(0.0, 1.0);
                }
                let keep = 1.0 - paint.w * share;
                for (channel, light) in [paint.x, paint.y, paint.z].into_iter().enumerate() {
                    let pixel = &mut self.rows[row][channel][column];
                    *pixel = *pixel * keep + light * share;
                }
            }
        }
    }

    /// Draws the pieces of one transparent mesh or ribbon as one surface, the nearest, so that no inner edge shows.
    pub(super) fn pieces<'r>(
        &mut self,
        facets: impl Iterator<Item = &'r Facet> + Clone,
        strips: impl Iterator<Item = &'r Strip> + Clone,
    ) {
        let (width, height) = (self.width, self.rows.len());
        let first = facets.clone().map(|facet| (facet.opacity, facet.label));
        let Some((opacity, label)) =
            first.chain(strips.clone().map(|strip| (strip.opacity, strip.label))).next()
        else {
            return;
        };
        let look = self.list.sources[usize::from(label.tag)].look;
        let mut bounds = [i32::MAX, i32::MAX, i32::MIN, i32::MIN];
        for [x0, y0, x1, y1] in
            facets.clone().map(Outlined::bounds).chain(strips.clone().map(Outlined::bounds))
        {
            bounds[0] = bounds[0].min(floor(x0 - 0.875));
            bounds[1] = bounds[1].min(floor(y0 - 0.875));
            bounds[2] = bounds[2].max(ceil(x1 - 0.125));
            bounds[3] = bounds[3].max(ceil(y1 - 0.125));
        }
        // Whole blocks of rows, as samples are drawn in blocks.
        let lanes = (LANES / SAMPLES) as i32;
        bounds[0] = bounds[0].max(self.x);
        bounds[1] = (bounds[1].max(self.y) - self.y) / lanes * lanes + self.y;
        bounds[2] = bounds[2].min(self.x + width as i32 - 1);
        bounds[3] = ((bounds[3].min(self.y + height as i32 - 1) - self.y) / lanes * lanes + lanes - 1
            + self.y)
            .min(self.y + height as i32 - 1);
        if bounds[0] > bounds[2] || bounds[1] > bounds[3] {
            return;
        }
        let (mut near, mut base) = SCRATCH.with_borrow_mut(|scratch| {
            (std::mem::take(&mut scratch.near), std::mem::take(&mut scratch.base))
        });
        near.resize(SAMPLES * width * height, 0.0);
        base.resize(SAMPLES * width * height, EMPTY);
        for i in (bounds[0] - self.x) as usize..=(bounds[2] - self.x) as usize {
            for j in (bounds[1] - self.y) as usize..=(bounds[3] - self.y) as usize {
                for s in 0..SAMPLES {
                    let at = (i * height + j) * SAMPLES + s;
                    base[at] = EMPTY;
                    near[at] = match self.near {
                        _ if !look.depth.test => 0.0,
                        Some(solid) => solid[at],
                        None => 1.0 / self.depth[j][i],
                    };
                }
            }
        }
        let mut samples = Samples {
            near: &mut near,
            base: &mut base,
            sun: &mut [],
            x: self.x,
            y: self.y,
            width,
            height,
            samples: SAMPLES,
            spans: Default::default(),
            most_slope: 0.0,
        };
        // Within the instance the nearest wins, whatever the depth settings of the look, and no shadow falls.
        let own = Style { test: true, write: true, sun: false, ..self.styles[usize::from(label.tag)] };
        for facet in facets {
            solid::facet(self.level, &mut samples, facet, &own);
        }
        for strip in strips {
            solid::strip(self.level, &mut samples, strip, &own);
        }
        samples.flatten(self.rows, opacity, look.blend == Blend::Additive, bounds);
        SCRATCH.with_borrow_mut(|scratch| (scratch.near, scratch.base) = (near, base));
    }

    /// All records of some chunks, far to near; records of equal depth in drawing order. They share a look, and so a kind.
    pub(super) fn far_to_near(&mut self, bins: &[Bin], nth: usize, across: u16, down: u16) {
        // Taken out, because pieces need the scratch buffers too.
        let (mut keys, mut swap, mut dots) = SCRATCH.with_borrow_mut(|scratch| {
            let Scratch { keys, swap, dots, .. } = scratch;
            (std::mem::take(keys), std::mem::take(swap), std::mem::take(dots))
        });
        keys.clear();
        dots.clear();
        // Any thread may get any tile, so each reserves memory for the fullest.
        let (discs, others) = bins.iter().fold((0, 0), |(discs, others), bin| {
            (
                discs + bin.dots.distinct,
                others + bin.quads.distinct + bin.facets.distinct + bin.strips.distinct,
            )
        });
        room::for_more(&mut keys, room::likely(discs + others));
        swap.clear();
        room::for_more(&mut swap, room::likely(discs + others));
        room::for_more(&mut dots, room::likely(discs));
        for (number, bin) in bins.iter().enumerate() {
            let number = number as u32;
            let mut discs = bin.dots.tile(nth, across, down);
            dots.extend_from_slice(discs.alone().unwrap_or_default());
            while let Some((dot, _)) = discs.take() {
                dots.push(*dot);
            }
            gather(bin.quads.tile(nth, across, down), number, &mut keys);
            gather(bin.facets.tile(nth, across, down), number, &mut keys);
            gather(bin.strips.tile(nth, across, down), number, &mut keys);
        }
        let key = |(at, dot): (usize, &Dot)| keyed(dot.depth, at as u32);
        keys.extend(dots.iter().enumerate().map(key));
        sort::by_key(&mut keys, &mut swap);
        // All records of the pass share a look, and so a kind.
        if !dots.is_empty() {
            dots::by_key(self.level, &mut self.for_dots(), &dots, &keys);
        }
        for key in keys.iter().filter(|_| dots.is_empty()) {
            let (bin, at) = found(*key as u32);
            let bin = &bins[bin];
            if bin.quads.distinct > 0 {
                self.quad(bin.quads.get(nth, at));
            } else {
                // One item for all pieces of an instance.
                let facets = bin.facets.tile(nth, across, down);
                let strips = bin.strips.tile(nth, across, down);
                let rank = if bin.facets.distinct > 0 {
                    bin.facets.get(nth, at).label.rank
                } else {
                    bin.strips.get(nth, at).label.rank
                };
                self.pieces(facets.of_rank(rank), strips.of_rank(rank));
            }
        }
        SCRATCH.with_borrow_mut(|scratch| {
            (scratch.keys, scratch.swap, scratch.dots) = (keys, swap, dots);
        });
    }
}

/// Appends the depth key and place of the first record of each instance.
#[inline(always)]
fn gather<R: Record>(mut records: InTile<'_, R>, bin: u32, keys: &mut Vec<u64>) {
    let key = |record: &R, place: u32| keyed(record.order_depth(), place);
    if R::ALONE
        && let Some(all) = records.alone()
    {
        keys.extend(all.iter().enumerate().map(|(at, record)| key(record, bin << PLACE_BITS | at as u32)));
        return;
    }
    let mut before = None;
    while let Some((record, at)) = records.take() {
        if before != Some(record.label().rank) {
            before = Some(record.label().rank);
            let place = match at {
                Found::Small(at) => bin << PLACE_BITS | at,
                Found::Large(at) => LARGE | bin << PLACE_BITS | at,
            };
            keys.push(key(record, place));
        }
    }
}

/// Bits of the place of a record in its chunk: a chunk has at most `CHUNK * MANY` records of a kind; one bit marks records that touch many tiles.
const PLACE_BITS: u32 = 24;
const LARGE: u32 = 1 << 31;

/// Chunk and place from an item of `gather`. A pass that tiles sort has at most [`super::ROUND`] chunks, so seven bits hold the chunk.
#[inline(always)]
fn found(place: u32) -> (usize, Found) {
    let at = place & ((1 << PLACE_BITS) - 1);
    let bin = (place & !LARGE) >> PLACE_BITS;
    (bin as usize, if place & LARGE == 0 { Found::Small(at) } else { Found::Large(at) })
}
