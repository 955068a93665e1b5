//! Records over samples: spans of upright strips, and blocks of polygons.

use fearless_simd::prelude::*;
use fearless_simd::{f32x4, f32x8, i32x4, mask32x8, u32x4, u32x8};

use super::plane::{Path, Places, below, ceil, floor};
use super::polygon::{Polygon, TRUSTED, columns};
use super::{Style, other_spans, plain_spans, segment, sunny_spans, through_holes};
use crate::LANES;
use crate::colour9::pack_lanes;
use crate::record::{SEGMENTS, Strip};
use crate::samples::{PIECE, SAMPLES, Samples};
use crate::texture::RegionId;

impl Samples<'_> {
    #[inline(always)]
    pub(super) fn strip<S: Simd>(&mut self, simd: S, strip: &Strip, style: &Style<'_>) {
        if strip.upright {
            // A strip with level cross sections covers a span on each row, whose ends, nearness and colour run straight from cross section to
            // cross section. All are worked out for a vector of samples at once, whatever segments those are in.
            match (self.is_usual(style), style.sun) {
                (true, true) => sunny_spans(simd.level(), self, strip, style),
                (true, false) => plain_spans(simd.level(), self, strip, style),
                (false, _) => other_spans(simd.level(), self, strip, style),
            }
            return;
        }
        for nth in 0..(strip.count as usize).saturating_sub(1).min(SEGMENTS) {
            segment(simd.level(), self, &Polygon::of_segment(strip, nth), style);
        }
    }

    /// First column and row, and last column and row, of the tile that something with these ends can touch; `None` if there are none.
    #[inline(always)]
    pub(super) fn touched(&self, [x0, y0, x1, y1]: [f32; 4]) -> Option<[i32; 4]> {
        // Rounding grows with the coordinates.
        let trusted = x0 > -TRUSTED && y0 > -TRUSTED && x1 < TRUSTED && y1 < TRUSTED;
        let reach = self.reach() + if trusted { 1.0 / 64.0 } else { 1.0 };
        let (i0, j0) = (ceil(x0 - 0.5 - reach).max(self.x), ceil(y0 - 0.5 - reach).max(self.y));
        let i1 = floor(x1 - 0.5 + reach).min(self.x + self.shown[0] as i32 - 1);
        let j1 = floor(y1 - 0.5 + reach).min(self.y + self.shown[1] as i32 - 1);
        (i0 <= i1 && j0 <= j1).then_some([i0, j0, i1, j1])
    }

    /// Most that a sample is off the middle of its pixel, in pixels across or down.
    #[inline(always)]
    fn reach(&self) -> f32 {
        if self.samples == SAMPLES { 0.375 } else { 0.0 }
    }

    /// Whether a record is drawn the usual way, without tests in the inner loop.
    #[inline(always)]
    pub(super) fn is_usual(&self, style: &Style<'_>) -> bool {
        style.test && style.write && !self.base.is_empty()
    }

    #[inline(always)]
    pub(super) fn spans<S: Simd, const USUAL: bool, const SUN: bool>(
        &mut self,
        simd: S,
        strip: &Strip,
        style: &Style<'_>,
    ) {
        let (top, bottom) = (strip.p[0].y, strip.p[SEGMENTS].y);
        let j0 = ceil(top - 0.5 - self.reach()).max(self.y);
        let j1 = floor(bottom - 0.5 + self.reach()).min(self.y + self.shown[1] as i32 - 1);
        if j0 > j1 {
            return;
        }
        let coloured = USUAL || !self.base.is_empty();
        let samples = if USUAL { SAMPLES } else { self.samples };
        let [mut from, mut per] = [[0.0f32; SEGMENTS]; 2];
        for k in 0..SEGMENTS {
            from[k] = strip.p[k].y;
            // A segment that is not there has no height.
            let height = strip.p[k + 1].y - from[k];
            per[k] = if height > 0.0 { 1.0 / height } else { 0.0 };
        }
        let [mut left, mut right] = [[0.0f32; SEGMENTS + 1]; 2];
        for k in 0..=SEGMENTS {
            left[k] = strip.p[k].x - strip.n[k].x;
            right[k] = strip.p[k].x + strip.n[k].x;
        }
        let (left, right) = (Path::new(left, per), Path::new(right, per));
        let mut near = Path::new(strip.near, per);
        if samples == 1 {
            let [a, b, c] = [0, 1, 2].map(|k| (strip.near[k + 1] - strip.near[k]) * per[k]);
            near.start -= (a.abs().max(b.abs()).max(c.abs()) * 1.5).min(self.most_slope);
        }
        let flat = strip.base == [strip.base[0]; SEGMENTS + 1] && strip.sun == [strip.sun[0]; SEGMENTS + 1];
        let mixed = coloured && !flat;
        let sunny = SUN || (!USUAL && style.sun);
        let channels = if mixed { Path::of_colours(simd, strip, per, sunny) } else { [Path::default(); 6] };
        let mut colour = [u32x8::splat(simd, strip.base[0]), u32x8::splat(simd, strip.sun[0])];
        // Those of eight rows, and the first of them.
        let (mut packed, mut known) = ([[0; LANES]; 2], usize::MAX);

        let (infinite, zero) = (f32x8::splat(simd, f32::INFINITY), f32x8::splat(simd, 0.0));
        let places = Places::of(simd, samples);
        let (rows, stride) = (LANES / samples, self.height * samples / LANES);
        let Self { near: nears, base: bases, sun: suns, spans, x: left_most, y: top_most, passed, .. } = self;
        let (nears, _) = nears.as_chunks_mut::<LANES>();
        let (bases, _) = bases.as_chunks_mut::<LANES>();
        let (suns, _) = suns.as_chunks_mut::<LANES>();
        let (first, last) = (*left_most as f32, (*left_most + self.shown[0] as i32 - 1) as f32);
        let held = f32x4::load_array(simd, [first, first, -last, -last]);
        let (first, last) = ((j0 - *top_most) as usize / rows, (j1 - *top_most) as usize / rows);
        for piece in (first..=last).step_by(PIECE) {
            // All values of the rows first, without a branch, so that the processor computes many of them at once.
            let many = PIECE.min(last + 1 - piece);
            for (nth, span) in spans[..many].iter_mut().enumerate() {
                let y = places.y + (*top_most + ((piece + nth) * rows) as i32) as f32;
                let within = y.simd_ge(f32x8::splat(simd, top)) & y.simd_lt(f32x8::splat(simd, bottom));
                let below = below(simd, y, from);
                let start = within.select(left.at(simd, &below) - places.x, infinite);
                let end = within.select(right.at(simd, &below) - places.x, zero - infinite);
                near.at(simd, &below).store_slice(&mut span.near);
                start.store_slice(&mut span.start);
                end.store_slice(&mut span.end);
                // First and last column of any lane: held to the tile, as where no row is within, the ends are infinite.
                let ((a, b), (c, d)) = (start.split(), (zero - end).split());
                let (starts, ends) = (a.min(b), c.min(d));
                let least = simd.unzip_low_f32x4(starts, ends).min(simd.unzip_high_f32x4(starts, ends));
                let least: i32x4<S> = least.ceil().max(held).min(f32x4::splat(simd, 1e6)).to_int();
                least.store_slice(&mut span.columns);
            }
            for (nth, span) in spans[..many].iter().enumerate() {
                let [a, b, c, d] = span.columns;
                let (i0, i1) = (if a < b { a } else { b }, -if c < d { c } else { d });
                if i0 > i1 {
                    continue;
                }
                let group = piece + nth;
                if mixed {
                    let row = group * rows;
                    if known != row / LANES {
                        known = row / LANES;
                        let count = f32x8::load_array(simd, [0.5, 1.5, 2.5, 3.5, 4.5, 5.5, 6.5, 7.5]);
                        let below = below(simd, count + (*top_most + (known * LANES) as i32) as f32, from);
                        let [r, g, b, sun_r, sun_g, sun_b] = &channels;
                        let of = [r.at(simd, &below), g.at(simd, &below), b.at(simd, &below)];
                        packed[0] = pack_lanes(simd, of).to_array();
                        if sunny {
                            let of = [sun_r.at(simd, &below), sun_g.at(simd, &below), sun_b.at(simd, &below)];
                            packed[1] = pack_lanes(simd, of).to_array();
                        }
                    }
                    // Only multisampled targets have colours: two rows.
                    let row = row % LANES;
                    for part in 0..1 + usize::from(sunny) {
                        let [upper, lower] = [packed[part][row], packed[part][(row + 1) % LANES]];
                        colour[part] = u32x4::splat(simd, upper).combine(u32x4::splat(simd, lower));
                    }
                }
                let (start, end) = (f32x8::load_array(simd, span.start), f32x8::load_array(simd, span.end));
                let near = f32x8::load_array(simd, span.near);
                let mut at = (i0 - *left_most) as usize * stride + group;
                let mut i = i0;
                loop {
                    // Two at a time: thin blades have one or two, and a loop would mostly be mispredicted.
                    for _ in 0..2 {
                        let x = f32x8::splat(simd, i as f32);
                        let Some(slot) = nears.get_mut(at) else { break };
                        let mut met = x.simd_ge(start) & x.simd_lt(end);
                        let kept = f32x8::load_array(simd, *slot);
                        if USUAL || style.test {
                            met &= near.simd_gt(kept);
                        }
                        if USUAL || style.write {
                            met.select(near, kept).store_slice(slot);
                        }
                        if coloured && let Some(slot) = bases.get_mut(at) {
                            met.select(colour[0], u32x8::load_array(simd, *slot)).store_slice(slot);
                        }
                        if sunny && let Some(slot) = suns.get_mut(at) {
                            met.select(colour[1], u32x8::load_array(simd, *slot)).store_slice(slot);
                        }
                        *passed += u64::from(met.to_bitmask().count_ones());
                        (at, i) = (at + stride, i + 1);
                    }
                    if i > i1 {
                        break;
                    }
                }
            }
        }
    }

    #[inline(always)]
    pub(super) fn blocks<S: Simd, const EDGES: usize, const USUAL: bool>(
        &mut self,
        simd: S,
        polygon: &Polygon,
        style: &Style<'_>,
    ) {
        let Some([i0, j0, i1, j1]) = self.touched(polygon.extent) else { return };
        let mut near_plane = polygon.near;
        if let Some(most) = self.slope() {
            // Slope bias: in a shadow map a slanting surface would shade itself between texels.
            near_plane.c -= ((near_plane.dx.abs() + near_plane.dy.abs()) * 1.5).min(most);
        }
        let zero = f32x8::splat(simd, 0.0);
        let samples = if USUAL { SAMPLES } else { self.samples };
        let flat = polygon.flat.map(|flat| flat.map(|colour| u32x8::splat(simd, colour)));
        let coloured = USUAL || !self.base.is_empty();
        // Triangles are here for their holes, and have the places that samples keep for colours; strips have colours, and no holes.
        let (has_holes, sunny) = (EDGES == 3, EDGES == 4 && style.sun);
        let region = if has_holes { style.textures.region(RegionId(polygon.region)) } else { None };
        let texels = region.map(|region| style.textures.texels(region, polygon.texels));
        let looks = (coloured && flat.is_none()) || texels.is_some();
        let mut colour = flat.unwrap_or([u32x8::splat(simd, 0); 2]);
        let mut least = [zero; EDGES];
        for k in 0..EDGES {
            least[k] = f32x8::splat(simd, polygon.edges[k].least);
        }
        let (places, mut passed) = (Places::of(simd, samples), 0);
        let (rows, stride) = (LANES / samples, self.height * samples / LANES);
        let (nears, _) = self.near.as_chunks_mut::<LANES>();
        let (bases, _) = self.base.as_chunks_mut::<LANES>();
        let (suns, _) = self.sun.as_chunks_mut::<LANES>();
        let (first, last) = ((j0 - self.y) as usize / rows, (j1 - self.y) as usize / rows);
        let (mut starts, mut ends) = ([0; LANES], [0; LANES]);
        for group in first..=last {
            let top = (self.y + (group * rows) as i32) as f32;
            let nth = (group - first) % LANES;
            if nth == 0 {
                (starts, ends) = columns(simd, &polygon.edges[..EDGES], polygon.extent, top, rows, (i0, i1));
            }
            let y = places.y + top;
            let mut down = [zero; EDGES];
            for k in 0..EDGES {
                let plane = polygon.edges[k].plane;
                down[k] = y * plane.dy + plane.c;
            }
            let near_down = y * near_plane.dy + near_plane.c;
            let mut at = (starts[nth] - self.x) as usize * stride + group;
            for i in starts[nth]..=ends[nth] {
                let x = places.x + i as f32;
                let Some(slot) = nears.get_mut(at) else { break };
                let kept = f32x8::load_array(simd, *slot);
                let near = near_down + x * near_plane.dx;
                let mut met = (down[0] + x * polygon.edges[0].plane.dx).simd_ge(least[0]);
                for k in 1..EDGES {
                    met &= (down[k] + x * polygon.edges[k].plane.dx).simd_ge(least[k]);
                }
                if USUAL || style.test {
                    met &= near.simd_gt(kept);
                }
                let here = at;
                at += stride;
                // A single colour is cheaper to store than to test for.
                if looks {
                    if !met.any_true() {
                        continue;
                    }
                    let (x, y) = (f32x8::splat(simd, i as f32 + 0.5), places.middle + top);
                    if let Some(texels) = &texels {
                        let (at, bits) = ([&x.to_array(), &y.to_array()], met.to_bitmask() as u8);
                        let left = through_holes(simd.level(), polygon, texels, samples, at, bits);
                        met = mask32x8::from_bitmask(simd, left.into());
                    } else {
                        colour = polygon.colour(simd, x, y, None, sunny);
                    }
                }
                passed += u64::from(met.to_bitmask().count_ones());
                if USUAL || style.write {
                    met.select(near, kept).store_slice(slot);
                }
                if coloured && let Some(slot) = bases.get_mut(here) {
                    met.select(colour[0], u32x8::load_array(simd, *slot)).store_slice(slot);
                }
                if coloured
                    && sunny
                    && let Some(slot) = suns.get_mut(here)
                {
                    met.select(colour[1], u32x8::load_array(simd, *slot)).store_slice(slot);
                }
            }
        }
        self.passed += passed;
    }
}
