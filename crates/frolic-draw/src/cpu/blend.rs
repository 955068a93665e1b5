//! Transparent records of one tile other than discs: quads, pieces of meshes and ribbons, and depth order within the tile.

use std::cell::RefCell;

use frolic_raster::LANES;
use frolic_raster::colour9::EMPTY;
use frolic_raster::dots;
use frolic_raster::quads::{self, QuadTile};
use frolic_raster::record::{Dot, Facet, Label, Outlined, Record, Strip, keyed};
use frolic_raster::samples::{SAMPLES, Samples};
use frolic_raster::solid::{self, Style, Visible, ceil, floor};

use super::bin::{Bin, Found, InTile};
use super::record::Quad;
use super::tile::{Target, Tile};
use crate::look::Blend;
use crate::room;
use crate::sort;

thread_local! {
    /// Samples of one transparent instance, and buffers for the sort of a tile.
    static SCRATCH: RefCell<Scratch> = RefCell::default();
}

#[derive(Debug, Default)]
struct Scratch {
    near: Vec<f32>,
    base: Vec<u32>,
    /// Triangles of one instance.
    facets: Vec<Facet>,
    /// Depth key in the upper bits, [`Place`] of the record in the lower.
    keys: Vec<u64>,
    swap: Vec<u64>,
    /// The discs of the tile, side by side: most of the sorted records.
    dots: Vec<Dot>,
}

impl Tile<'_, '_> {
    /// Fills a quad.
    pub(super) fn quad(&mut self, quad: &Quad) {
        let order_depth = quad.order_depth;
        let Some(mut quad) = quad.painted(self.list, self.view) else { return };
        let (sunlight, touched) = (self.sunlight, self.touched);
        let &mut Target { x, y, from, shown, coarser, ref mut rows, ref mut apart, depth, .. } =
            &mut self.into;
        if coarser > 0 {
            quad = quad.coarser(coarser);
        }
        // Nothing is drawn beyond the picture.
        let ([width, height], apart) = (shown, apart.lend());
        let rows = &mut rows[..height];
        let mut tile = QuadTile { rows, depth, x, y, from, width, sunlight, apart, order_depth, touched };
        quads::draw(self.level, &mut tile, &quad);
        self.touched = tile.touched;
    }

    /// Draws the pieces of one transparent mesh or ribbon as one surface, the nearest, so that no inner edge shows.
    pub(super) fn pieces<'r>(
        &mut self,
        facets: impl Iterator<Item = &'r Facet> + Clone,
        strips: impl Iterator<Item = &'r Strip> + Clone,
    ) {
        let (width, height) = (self.into.width, self.into.rows.len());
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
        bounds[0] = bounds[0].max(self.into.x);
        bounds[1] = (bounds[1].max(self.into.y) - self.into.y) / lanes * lanes + self.into.y;
        bounds[2] = bounds[2].min(self.into.x + width as i32 - 1);
        bounds[3] = ((bounds[3].min(self.into.y + height as i32 - 1) - self.into.y) / lanes * lanes + lanes
            - 1
            + self.into.y)
            .min(self.into.y + height as i32 - 1);
        if bounds[0] > bounds[2] || bounds[1] > bounds[3] {
            return;
        }
        let (mut near, mut base, mut pieces) =
            SCRATCH.with_borrow_mut(|Scratch { near, base, facets, .. }| {
                (std::mem::take(near), std::mem::take(base), std::mem::take(facets))
            });
        near.resize(SAMPLES * width * height, 0.0);
        base.resize(SAMPLES * width * height, EMPTY);
        for i in (bounds[0] - self.into.x) as usize..=(bounds[2] - self.into.x) as usize {
            for j in (bounds[1] - self.into.y) as usize..=(bounds[3] - self.into.y) as usize {
                for s in 0..SAMPLES {
                    let at = (i * height + j) * SAMPLES + s;
                    base[at] = EMPTY;
                    near[at] = match self.into.near {
                        _ if !look.depth.test => 0.0,
                        Some(solid) => solid[at],
                        None => 1.0 / self.into.depth[j][i],
                    };
                }
            }
        }
        let mut samples = Samples {
            near: &mut near,
            base: &mut base,
            x: self.into.x,
            y: self.into.y,
            width,
            height,
            shown: self.into.shown,
            samples: SAMPLES,
            ..Samples::default()
        };
        // Within the instance the nearest wins, whatever the depth settings of the look, and no shadow falls.
        let own = Style { test: true, write: true, sun: false, ..self.styles[usize::from(label.tag)] };
        let styles = [own];
        pieces.clear();
        pieces.extend(facets.map(|facet| Facet { label: Label::default(), ..*facet }));
        solid::facets(self.level, &mut samples, &pieces, 0, &styles);
        for strip in strips {
            solid::strip(self.level, &mut samples, strip, &own);
        }
        self.touched += samples.passed / SAMPLES as u64;
        if !pieces.is_empty() {
            let visible = Visible { triangles: &[], facets: &pieces, styles: &styles };
            let columns = (bounds[0] - self.into.x) as usize..(bounds[2] - self.into.x) as usize + 1;
            solid::settle(self.level, &mut samples.columns(columns), &visible, false);
        }
        samples.flatten(self.into.rows, opacity, look.blend == Blend::Additive, bounds);
        SCRATCH.with_borrow_mut(|scratch| {
            (scratch.near, scratch.base, scratch.facets) = (near, base, pieces);
        });
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
