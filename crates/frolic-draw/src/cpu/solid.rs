//! Solid shapes of one tile: four samples a pixel, the nearest wins, then a mean.
//!
//! ```text
//! for each polygon, for each 8 rows, for each column, for each of 4 samples:
//!     inside every edge and nearer than what is there?  keep nearness and colour
//! then for each pixel:  mean of its samples' colours, those in shadow without the sun's part
//! ```
//!
//! A ribbon that stands upright, as most blades do, is no polygons but spans: for each 8 rows the two ends at each sample, then only
//! comparisons with them column by column.
//!
//! 1. Samples lie column by column: vectors run down the rows, as blades are tall and narrow.
//! 2. Edges, nearness and colours are planes over the picture, taken at the picture's coordinates. So a pixel is the same in
//!    whatever tile it is, and two triangles that share an edge meet every sample exactly once: both work the edge out from the same end, which
//!    makes one the exact negative of the other, and a sample right on it goes to the one above or left (Pineda, "A Parallel Algorithm for
//!    Polygon Rasterization", 1988).
//! 3. Colours are taken once a pixel, nearness and edges at each sample: multisampling.
//! 4. One over the depth is linear across the screen, so the buffer keeps that: no division a sample.

use fearless_simd::prelude::*;
use fearless_simd::{f32x8, mask32x8, u32x8};
use glam::{Vec2, Vec3};

use super::colour9::{EMPTY, pack_lanes, unpack};
use super::record::{Facet, Label, PLAIN, SEGMENTS, Strip, colours, has_holes};
use super::shadow::Shadow;
use super::tile::{LANES, Row, STRIDE};
use crate::atlas::{Atlas, RegionId};
use crate::camera::View;
use crate::list::DrawList;

/// Samples of a pixel.
pub(super) const SAMPLES: usize = 4;

/// Their places: a rotated grid, so that edges near the vertical and the level come out in four steps too.
pub(super) const PLACES: [[f32; 2]; SAMPLES] =
    [[-0.125, -0.375], [0.375, -0.125], [-0.375, 0.125], [0.125, 0.375]];

/// One tile's samples: of each sample of a pixel, column after column.
#[derive(Debug)]
pub(super) struct Samples<'a> {
    pub(super) near: &'a mut [f32],
    /// Colour without the sun, [`EMPTY`] where nothing solid was drawn in this layer; and the sun's part.
    pub(super) base: &'a mut [u32],
    pub(super) sun: &'a mut [u32],
    /// First pixel of the tile, and its size.
    pub(super) x: i32,
    pub(super) y: i32,
    pub(super) width: usize,
    pub(super) height: usize,
    /// Samples of a pixel: [`SAMPLES`], or 1 in the middle for a shadow map.
    pub(super) samples: usize,
    /// Of a shadow map: most that a slanting surface is moved away from the sun, m.
    pub(super) most_slope: f32,
}

/// How a record is drawn.
#[derive(Debug, Clone, Copy)]
pub(super) struct Style<'a> {
    pub(super) test: bool,
    pub(super) write: bool,
    pub(super) holes: bool,
    pub(super) sun: bool,
    pub(super) atlas: &'a Atlas,
}

impl<'a> Style<'a> {
    /// How a record of a solid look is drawn; `sun` says whether the sun's part is kept apart.
    pub(super) fn of(list: &DrawList<'a>, label: Label, sun: bool) -> Self {
        let look = list.sources[usize::from(label.tag)].look;
        let holes = has_holes(look.blend);
        Self { test: look.depth.test, write: look.depth.write, holes, sun, atlas: &look.atlas }
    }

    /// How it throws its shadow.
    pub(super) fn casting(list: &DrawList<'a>, label: Label) -> Self {
        Self { test: true, write: true, ..Self::of(list, label, false) }
    }
}

/// A linear function over the picture.
#[derive(Debug, Clone, Copy, Default)]
pub(super) struct Plane {
    pub(super) dx: f32,
    pub(super) dy: f32,
    pub(super) c: f32,
}

impl Plane {
    /// Through three values at three places; `per` is one over twice the signed area.
    fn through(x: [f32; 3], y: [f32; 3], v: [f32; 3], per: f32) -> Self {
        let (v1, v2) = (v[1] - v[0], v[2] - v[0]);
        let dx = (v1 * (y[2] - y[0]) - v2 * (y[1] - y[0])) * per;
        let dy = (v2 * (x[1] - x[0]) - v1 * (x[2] - x[0])) * per;
        Self { dx, dy, c: v[0] - dx * x[0] - dy * y[0] }
    }

    /// From `a` at one place to `b` at another, level across.
    fn along(from: Vec2, step: Vec2, a: f32, b: f32) -> Self {
        let (dx, dy) = ((b - a) * step.x, (b - a) * step.y);
        Self { dx, dy, c: a - dx * from.x - dy * from.y }
    }

    #[inline(always)]
    pub(super) fn at(&self, x: f32, y: f32) -> f32 {
        self.dx * x + self.dy * y + self.c
    }
}

/// An edge: positive inside.
#[derive(Debug, Clone, Copy, Default)]
pub(super) struct Edge {
    pub(super) plane: Plane,
    /// Least value that is inside: 0, or the least above 0 where a sample on the edge belongs to the neighbour.
    pub(super) least: f32,
}

impl Edge {
    /// The edge from `a` to `b`, inside on its right as seen with y down; `sign` turns it about.
    fn new(a: Vec2, b: Vec2, sign: f32) -> Self {
        // Worked out from the same end whichever way it runs.
        let (from, to, turn) = if (a.x, a.y) < (b.x, b.y) { (a, b, sign) } else { (b, a, -sign) };
        let (dx, dy) = (from.y - to.y, to.x - from.x);
        let c = -(dx * from.x + dy * from.y);
        let plane = Plane { dx: dx * turn, dy: dy * turn, c: c * turn };
        // Where two corners meet, as at a tip, there is no edge: all is inside.
        let mine = plane.dx > 0.0 || (plane.dx == 0.0 && plane.dy >= 0.0);
        Self { plane, least: if mine { 0.0 } else { f32::MIN_POSITIVE } }
    }
}

/// A quantity along an upright strip: its value at the upper end plus, for each segment, a slope times what of the segment is above
/// the row.
#[derive(Debug, Clone, Copy, Default)]
struct Path {
    start: f32,
    slopes: [f32; SEGMENTS],
}

impl Path {
    /// Through values at the cross sections; `per` is one over each segment's height.
    #[inline(always)]
    fn new(values: [f32; SEGMENTS + 1], per: [f32; SEGMENTS]) -> Self {
        let mut slopes = [0.0; SEGMENTS];
        for k in 0..SEGMENTS {
            slopes[k] = (values[k + 1] - values[k]) * per[k];
        }
        Self { start: values[0], slopes }
    }

    /// Red, green and blue through packed colours.
    #[inline(always)]
    fn of_colours(packed: [u32; SEGMENTS + 1], per: [f32; SEGMENTS]) -> [Self; 3] {
        let mut values = [[0.0f32; SEGMENTS + 1]; 3];
        for k in 0..=SEGMENTS {
            let [r, g, b] = unpack(packed[k]);
            (values[0][k], values[1][k], values[2][k]) = (r, g, b);
        }
        [Self::new(values[0], per), Self::new(values[1], per), Self::new(values[2], per)]
    }

    #[inline(always)]
    fn at<S: Simd>(&self, simd: S, above: &[f32x8<S>; SEGMENTS]) -> f32x8<S> {
        let [a, b, c] = self.slopes;
        f32x8::splat(simd, self.start) + above[0] * a + above[1] * b + above[2] * c
    }
}

/// Spans of eight rows: of each sample the ends, and nearness; colour without the sun, and the sun's part.
struct Spans<S: Simd> {
    ends: [[f32x8<S>; 2]; SAMPLES],
    nears: [f32x8<S>; SAMPLES],
    colour: [u32x8<S>; 2],
}

/// What of each segment is above rows; segments that are not there have no height.
#[inline(always)]
fn above<S: Simd>(
    simd: S,
    y: f32x8<S>,
    from: [f32; SEGMENTS],
    height: [f32; SEGMENTS],
) -> [f32x8<S>; SEGMENTS] {
    let mut parts = [f32x8::splat(simd, 0.0); SEGMENTS];
    for k in 0..SEGMENTS {
        parts[k] = (y - from[k]).max(f32x8::splat(simd, 0.0)).min(f32x8::splat(simd, height[k]));
    }
    parts
}

/// A convex polygon of up to four edges with all that is drawn in it.
#[derive(Debug, Clone, Copy, Default)]
pub(super) struct Polygon {
    pub(super) edges: [Edge; 4],
    pub(super) count: usize,
    pub(super) extent: [f32; 4],
    pub(super) near: Plane,
    /// Red, green, blue without the sun, then the sun's part; of one colour where `flat`.
    pub(super) colour: [Plane; 6],
    pub(super) flat: Option<[u32; 2]>,
    /// Texture place times nearness.
    pub(super) uv: [Plane; 2],
    pub(super) region: u32,
    /// Texels of the texture a pixel.
    pub(super) texels: f32,
}

impl Polygon {
    pub(super) fn of_facet(facet: &Facet, atlas: &Atlas) -> Self {
        let (x, y) = (facet.x, facet.y);
        let at = |k: usize| Vec2::new(x[k], y[k]);
        let area = (at(1) - at(0)).perp_dot(at(2) - at(0));
        let (per, sign) = (1.0 / area, area.signum());
        let mut polygon = Self { count: 3, extent: facet.extent(), ..Self::default() };
        for k in 0..3 {
            polygon.edges[k] = Edge::new(at(k), at((k + 1) % 3), sign);
        }
        let plane = |v: [f32; 3]| Plane::through(x, y, v, per);
        polygon.near = plane(facet.near);
        if facet.base == [facet.base[0]; 3] && facet.sun == [facet.sun[0]; 3] {
            polygon.flat = Some([facet.base[0], facet.sun[0]]);
        } else {
            let (base, sun) = (colours(facet.base), colours(facet.sun));
            for channel in 0..3 {
                polygon.colour[channel] = plane(base.map(|c| c[channel]));
                polygon.colour[channel + 3] = plane(sun.map(|c| c[channel]));
            }
        }
        polygon.region = facet.region;
        if facet.region != PLAIN {
            polygon.uv = [0, 1].map(|axis| plane(facet.uv.map(|uv| uv[axis])));
            let [w, h] = atlas.size(RegionId(facet.region)).unwrap_or([1, 1]).map(|side| side as f32);
            let uv = |k: usize| Vec2::new(facet.uv[k][0], facet.uv[k][1]) / facet.near[k] * Vec2::new(w, h);
            let texels = (uv(1) - uv(0)).perp_dot(uv(2) - uv(0)).abs();
            polygon.texels = libm::sqrtf(texels * per.abs());
        }
        polygon
    }

    /// The nth segment of a strip.
    pub(super) fn of_segment(strip: &Strip, nth: usize) -> Self {
        let (p0, p1, n0, n1) = (strip.p[nth], strip.p[nth + 1], strip.n[nth], strip.n[nth + 1]);
        let corners = [p0 - n0, p1 - n1, p1 + n1, p0 + n0];
        let area = (corners[2] - corners[0]).perp_dot(corners[3] - corners[1]);
        let sign = area.signum();
        let mut low = corners[0];
        let mut high = corners[0];
        let mut polygon = Self { count: 4, region: PLAIN, ..Self::default() };
        for k in 0..4 {
            polygon.edges[k] = Edge::new(corners[k], corners[(k + 1) % 4], sign);
            low = low.min(corners[k]);
            high = high.max(corners[k]);
        }
        polygon.extent = [low.x, low.y, high.x, high.y];
        let way = p1 - p0;
        let step = way / way.length_squared().max(1e-12);
        polygon.near = Plane::along(p0, step, strip.near[nth], strip.near[nth + 1]);
        let (base, sun) = ([strip.base[nth], strip.base[nth + 1]], [strip.sun[nth], strip.sun[nth + 1]]);
        if base[0] == base[1] && sun[0] == sun[1] {
            polygon.flat = Some([base[0], sun[0]]);
        } else {
            let (base, sun) = (colours(base), colours(sun));
            for channel in 0..3 {
                polygon.colour[channel] = Plane::along(p0, step, base[0][channel], base[1][channel]);
                polygon.colour[channel + 3] = Plane::along(p0, step, sun[0][channel], sun[1][channel]);
            }
        }
        polygon
    }
}

impl Polygon {
    /// Those of some columns that the polygon can touch in the eight rows from `top` on.
    #[inline(always)]
    fn columns(&self, top: f32, (first, last): (i32, i32)) -> (i32, i32) {
        let [x0, y0, x1, y1] = self.extent;
        // Rounding grows with the coordinates; where it may reach the margin, all columns stay.
        if !(x0 > -TRUSTED && y0 > -TRUSTED && x1 < TRUSTED && y1 < TRUSTED) {
            return (first, last);
        }
        let (upper, lower) = (top.max(y0 - 0.5), (top + LANES as f32).min(y1 + 0.5));
        let (mut from, mut to) = (first as f32, last as f32 + 0.9);
        for edge in &self.edges[..self.count] {
            let Plane { dx, dy, c } = edge.plane;
            if dx.abs() < 1e-3 {
                continue;
            }
            // Where the edge crosses the first and the last of the rows.
            let per = -1.0 / dx;
            let (a, b) = ((dy * upper + c) * per, (dy * lower + c) * per);
            if dx > 0.0 {
                from = from.max(a.min(b) - MARGIN);
            } else {
                to = to.min(a.max(b) + MARGIN);
            }
        }
        (ceil(from - 0.5).max(first), floor(to - 0.5).min(last))
    }
}

/// Coordinates, pixels, up to which an edge's place is sure to within a tenth of a pixel.
const TRUSTED: f32 = 4096.0;

/// Pixels around an edge that count as touched: samples are up to 3/8 off the middle, the rest is for rounding.
const MARGIN: f32 = 0.5;

impl Samples<'_> {
    #[inline(always)]
    pub(super) fn facet<S: Simd>(&mut self, simd: S, facet: &Facet, style: &Style<'_>) {
        self.fill::<S, 3>(simd, &Polygon::of_facet(facet, style.atlas), style);
    }

    #[inline(always)]
    pub(super) fn strip<S: Simd>(&mut self, simd: S, strip: &Strip, style: &Style<'_>) {
        if strip.upright {
            return self.upright(simd, strip, style);
        }
        for nth in 0..(strip.count as usize).saturating_sub(1).min(SEGMENTS) {
            self.fill::<S, 4>(simd, &Polygon::of_segment(strip, nth), style);
        }
    }

    /// A strip with level cross sections: on each row it covers a span, whose ends, nearness and colour run straight from cross
    /// section to cross section. All are worked out once for eight rows, whatever segments those are in.
    #[inline(always)]
    fn upright<S: Simd>(&mut self, simd: S, strip: &Strip, style: &Style<'_>) {
        let (top, bottom) = (strip.p[0].y, strip.p[SEGMENTS].y);
        let j0 = floor(top - 0.875).max(self.y);
        let j1 = ceil(bottom - 0.125).min(self.y + self.height as i32 - 1);
        if j0 > j1 {
            return;
        }
        let zero = f32x8::splat(simd, 0.0);
        let [mut from, mut height, mut per] = [[0.0f32; SEGMENTS]; 3];
        for k in 0..SEGMENTS {
            from[k] = strip.p[k].y;
            height[k] = strip.p[k + 1].y - from[k];
            // A segment that is not there has no height.
            per[k] = if height[k] > 0.0 { 1.0 / height[k] } else { 0.0 };
        }
        let [mut left, mut right] = [[0.0f32; SEGMENTS + 1]; 2];
        for k in 0..=SEGMENTS {
            left[k] = strip.p[k].x - strip.n[k].x;
            right[k] = strip.p[k].x + strip.n[k].x;
        }
        let (left, right) = (Path::new(left, per), Path::new(right, per));
        let mut near = Path::new(strip.near, per);
        if self.samples == 1 {
            let slope = near.slopes.iter().fold(0.0f32, |most, slope| most.max(slope.abs())) * 1.5;
            near.start -= slope.min(self.most_slope);
        }
        let coloured = !self.base.is_empty();
        let flat = strip.base == [strip.base[0]; SEGMENTS + 1] && strip.sun == [strip.sun[0]; SEGMENTS + 1];
        let mut channels = [Path::default(); 6];
        if coloured && !flat {
            channels[..3].copy_from_slice(&Path::of_colours(strip.base, per));
            if style.sun {
                channels[3..].copy_from_slice(&Path::of_colours(strip.sun, per));
            }
        }
        let count = f32x8::load_array(simd, [0.5, 1.5, 2.5, 3.5, 4.5, 5.5, 6.5, 7.5]);
        let places: &[[f32; 2]] = if self.samples == 1 { &[[0.0; 2]] } else { &PLACES };
        let infinite = f32x8::splat(simd, f32::INFINITY);
        for block in (j0 - self.y) as usize / LANES..=(j1 - self.y) as usize / LANES {
            let y = count + (self.y + (block * LANES) as i32) as f32;
            let mut ends = [[infinite, zero - infinite]; SAMPLES];
            let mut nears = [zero; SAMPLES];
            let (mut least, mut most) = (infinite, zero - infinite);
            for (s, [ox, oy]) in places.iter().enumerate() {
                let row = y + *oy;
                let within = row.simd_ge(f32x8::splat(simd, top)) & row.simd_lt(f32x8::splat(simd, bottom));
                let above = above(simd, row, from, height);
                let from = within.select(left.at(simd, &above) - *ox, infinite);
                let to = within.select(right.at(simd, &above) - *ox, zero - infinite);
                (least, most) = (least.min(from), most.max(to));
                ends[s] = [from, to];
                nears[s] = near.at(simd, &above);
            }
            let (least, most) = (lowest(simd, least), -lowest(simd, zero - most));
            // Held to the tile first: where no row of the block is within, the ends are infinite.
            let (first, last_column) = (self.x as f32, (self.x + self.width as i32 - 1) as f32);
            let i0 = ceil((least - 0.5).clamp(first, last_column + 1.0));
            let i1 = floor((most - 0.5).clamp(first - 1.0, last_column));
            if i0 > i1 {
                continue;
            }
            let mut colour = [strip.base[0], strip.sun[0]].map(|colour| u32x8::splat(simd, colour));
            if coloured && !flat {
                let above = above(simd, y, from, height);
                let (r, g, b) = (
                    channels[0].at(simd, &above),
                    channels[1].at(simd, &above),
                    channels[2].at(simd, &above),
                );
                colour[0] = pack_lanes(simd, [r, g, b]);
                if style.sun {
                    let (r, g, b) = (
                        channels[3].at(simd, &above),
                        channels[4].at(simd, &above),
                        channels[5].at(simd, &above),
                    );
                    colour[1] = pack_lanes(simd, [r, g, b]);
                }
            }
            let spans = Spans { ends, nears, colour };
            // Most are drawn one way: that one asks nothing in its inner loop.
            if style.test && style.write && coloured && self.samples == SAMPLES {
                if style.sun {
                    self.spans::<S, true, true>(simd, &spans, block, i0, i1, style);
                } else {
                    self.spans::<S, true, false>(simd, &spans, block, i0, i1, style);
                }
            } else {
                self.spans::<S, false, false>(simd, &spans, block, i0, i1, style);
            }
        }
    }

    /// Fills some columns of a block of rows.
    #[inline(always)]
    fn spans<S: Simd, const USUAL: bool, const SUN: bool>(
        &mut self,
        simd: S,
        spans: &Spans<S>,
        block: usize,
        i0: i32,
        i1: i32,
        style: &Style<'_>,
    ) {
        let plane = self.width * self.height;
        let coloured = USUAL || !self.base.is_empty();
        let samples = if USUAL { SAMPLES } else { self.samples };
        for i in i0..=i1 {
            let x = f32x8::splat(simd, i as f32 + 0.5);
            let mut at = (i - self.x) as usize * self.height + block * LANES;
            for s in 0..samples {
                let mut met = x.simd_ge(spans.ends[s][0]) & x.simd_lt(spans.ends[s][1]);
                let slot = &mut self.near[at..][..LANES];
                let kept = f32x8::from_slice(simd, slot);
                if USUAL || style.test {
                    met &= spans.nears[s].simd_gt(kept);
                }
                if USUAL || style.write {
                    met.select(spans.nears[s], kept).store_slice(slot);
                }
                if coloured {
                    let slot = &mut self.base[at..][..LANES];
                    met.select(spans.colour[0], u32x8::from_slice(simd, slot)).store_slice(slot);
                    if SUN || (!USUAL && style.sun) {
                        let slot = &mut self.sun[at..][..LANES];
                        met.select(spans.colour[1], u32x8::from_slice(simd, slot)).store_slice(slot);
                    }
                }
                at += plane;
            }
        }
    }

    #[inline(always)]
    fn fill<S: Simd, const EDGES: usize>(&mut self, simd: S, polygon: &Polygon, style: &Style<'_>) {
        // Most are drawn one way: that one asks nothing in its inner loop.
        if style.test && style.write && !self.base.is_empty() && self.samples == SAMPLES {
            self.blocks::<S, EDGES, true>(simd, polygon, style);
        } else {
            self.blocks::<S, EDGES, false>(simd, polygon, style);
        }
    }

    #[inline(always)]
    fn blocks<S: Simd, const EDGES: usize, const USUAL: bool>(
        &mut self,
        simd: S,
        polygon: &Polygon,
        style: &Style<'_>,
    ) {
        // A sample is up to 3/8 of a pixel off the middle.
        let [x0, y0, x1, y1] = polygon.extent;
        let i0 = floor(x0 - 0.875).max(self.x);
        let i1 = ceil(x1 - 0.125).min(self.x + self.width as i32 - 1);
        let j0 = floor(y0 - 0.875).max(self.y);
        let j1 = ceil(y1 - 0.125).min(self.y + self.height as i32 - 1);
        if i0 > i1 || j0 > j1 {
            return;
        }
        let mut near_plane = polygon.near;
        if self.samples == 1 {
            // In a shadow map a slanting surface would shade itself between texels: it is moved off by what it falls over one.
            let slope = (near_plane.dx.abs() + near_plane.dy.abs()) * 1.5;
            near_plane.c -= slope.min(self.most_slope);
        }
        let zero = f32x8::splat(simd, 0.0);
        let count = f32x8::load_array(simd, [0.5, 1.5, 2.5, 3.5, 4.5, 5.5, 6.5, 7.5]);
        let samples = if USUAL { SAMPLES } else { self.samples };
        // What each edge and the nearness gain from the middle of a pixel to each sample.
        let mut shift = [[0.0f32; 5]; SAMPLES];
        for s in 0..samples {
            let [ox, oy] = if samples == 1 { [0.0; 2] } else { PLACES[s] };
            for k in 0..EDGES {
                let Plane { dx, dy, .. } = polygon.edges[k].plane;
                shift[s][k] = dx * ox + dy * oy;
            }
            shift[s][4] = near_plane.dx * ox + near_plane.dy * oy;
        }
        let flat = polygon.flat.map(|flat| flat.map(|colour| u32x8::splat(simd, colour)));
        // A shadow map has no colours, but holes.
        let coloured = USUAL || !self.base.is_empty();
        let looks = coloured || (style.holes && polygon.region != PLAIN);
        let plane_samples = self.width * self.height;
        let first_block = (j0 - self.y) as usize / LANES;
        for block in first_block..=(j1 - self.y) as usize / LANES {
            let top = self.y + (block * LANES) as i32;
            let y = count + top as f32;
            let mut down = [zero; EDGES];
            for k in 0..EDGES {
                let plane = polygon.edges[k].plane;
                down[k] = y * plane.dy + plane.c;
            }
            let near_down = y * near_plane.dy + near_plane.c;
            let (from, to) = polygon.columns(top as f32, (i0, i1));
            for i in from..=to {
                let x = i as f32 + 0.5;
                let mut edges = [zero; EDGES];
                for k in 0..EDGES {
                    edges[k] = down[k] + polygon.edges[k].plane.dx * x;
                }
                let near = near_down + near_plane.dx * x;
                let at = (i - self.x) as usize * self.height + block * LANES;
                let mut met = [mask32x8::splat(simd, false); SAMPLES];
                let mut any = mask32x8::splat(simd, false);
                for s in 0..samples {
                    let mut inside =
                        (edges[0] + shift[s][0]).simd_ge(f32x8::splat(simd, polygon.edges[0].least));
                    for k in 1..EDGES {
                        inside &=
                            (edges[k] + shift[s][k]).simd_ge(f32x8::splat(simd, polygon.edges[k].least));
                    }
                    if USUAL || style.test {
                        let kept = f32x8::from_slice(simd, &self.near[s * plane_samples + at..][..LANES]);
                        inside &= (near + shift[s][4]).simd_gt(kept);
                    }
                    met[s] = inside;
                    any |= inside;
                }
                if !any.any_true() {
                    continue;
                }
                let mut colour = flat.unwrap_or([u32x8::splat(simd, 0); 2]);
                if looks && (flat.is_none() || polygon.region != PLAIN) {
                    colour = self.colour(simd, polygon, style, x, y, near, &mut met);
                }
                let mut here = at;
                for s in 0..samples {
                    if USUAL || style.write {
                        let slot = &mut self.near[here..][..LANES];
                        let kept = f32x8::from_slice(simd, slot);
                        met[s].select(near + shift[s][4], kept).store_slice(slot);
                    }
                    if coloured {
                        let slot = &mut self.base[here..][..LANES];
                        met[s].select(colour[0], u32x8::from_slice(simd, slot)).store_slice(slot);
                        if style.sun {
                            let slot = &mut self.sun[here..][..LANES];
                            met[s].select(colour[1], u32x8::from_slice(simd, slot)).store_slice(slot);
                        }
                    }
                    here += plane_samples;
                }
            }
        }
    }

    /// Colours of eight pixels down a column; where a texture has holes, samples are taken out of `met`.
    #[inline(always)]
    fn colour<S: Simd>(
        &self,
        simd: S,
        polygon: &Polygon,
        style: &Style<'_>,
        x: f32,
        y: f32x8<S>,
        near: f32x8<S>,
        met: &mut [mask32x8<S>; SAMPLES],
    ) -> [u32x8<S>; 2] {
        let mut rgb = [f32x8::splat(simd, 0.0); 6];
        match polygon.flat {
            Some([base, sun]) => {
                let (base, sun) = (unpack(base), unpack(sun));
                for channel in 0..3 {
                    rgb[channel] = f32x8::splat(simd, base[channel]);
                    rgb[channel + 3] = f32x8::splat(simd, sun[channel]);
                }
            }
            None => {
                let channels = if style.sun { 6 } else { 3 };
                for channel in 0..channels {
                    let plane = polygon.colour[channel];
                    rgb[channel] = (y * plane.dy + plane.c) + plane.dx * x;
                }
            }
        }
        if polygon.region != PLAIN {
            self.wear(simd, polygon, style, x, y, near, &mut rgb, met);
        }
        let base = pack_lanes(simd, [rgb[0], rgb[1], rgb[2]]);
        let sun = if style.sun { pack_lanes(simd, [rgb[3], rgb[4], rgb[5]]) } else { base };
        [base, sun]
    }

    /// Multiplies a texture into colours, pixel by pixel. A sample counts as met by the texture's opacity: the more opaque, the more samples, so
    /// that the edges of holes are smooth too.
    fn wear<S: Simd>(
        &self,
        simd: S,
        polygon: &Polygon,
        style: &Style<'_>,
        x: f32,
        y: f32x8<S>,
        near: f32x8<S>,
        rgb: &mut [f32x8<S>; 6],
        met: &mut [mask32x8<S>; SAMPLES],
    ) {
        let (y, near) = (y.to_array(), near.to_array());
        let mut channels = [[0.0f32; LANES]; 6];
        for (channel, lanes) in channels.iter_mut().zip(&*rgb) {
            *channel = lanes.to_array();
        }
        let mut opaque = [0.0f32; LANES];
        for lane in 0..LANES {
            let uv = polygon.uv.map(|plane| (plane.at(x, y[lane]) / near[lane]).clamp(0.0, 1.0));
            let texel = style.atlas.sample(RegionId(polygon.region), uv[0], uv[1], polygon.texels);
            opaque[lane] = texel[3];
            let per = 1.0 / texel[3].max(1e-4);
            for (channel, lanes) in channels.iter_mut().enumerate() {
                lanes[lane] *= texel[channel % 3] * per;
            }
        }
        for (channel, lanes) in channels.iter().zip(rgb) {
            *lanes = f32x8::load_array(simd, *channel);
        }
        if style.holes {
            let opaque = f32x8::load_array(simd, opaque);
            for (s, met) in met.iter_mut().enumerate() {
                // About the half: a quarter of the range a sample.
                let least = 0.5 + (s as f32 - 1.5) * 0.125;
                *met &= opaque.simd_gt(f32x8::splat(simd, least));
            }
        }
    }

    /// Mixes what solid things were drawn since the last time into the tile's pixels, keeps their depth for what is transparent, and
    /// starts anew. Returns the least depth.
    #[inline(always)]
    pub(super) fn resolve<S: Simd>(
        &mut self,
        simd: S,
        rows: &mut [Row],
        depth: &mut [[f32; STRIDE]],
        view: &View,
        shadow: Option<&Shadow>,
    ) -> f32 {
        let plane = self.width * self.height;
        let mut nearest = f32::INFINITY;
        for i in 0..self.width {
            let mut skip = 0;
            for j in 0..self.height {
                let at = i * self.height + j;
                if j % LANES == 0 && self.untouched(simd, at) {
                    skip = j + LANES;
                }
                if j < skip {
                    continue;
                }
                let mut sum = Vec3::ZERO;
                let mut met = 0.0f32;
                let mut close = 0.0f32;
                let mut last: Option<(f32, f32)> = None;
                for s in 0..SAMPLES {
                    let here = s * plane + at;
                    let base = self.base[here];
                    if base == EMPTY {
                        continue;
                    }
                    met += 0.25;
                    let near = self.near[here];
                    close = close.max(near);
                    sum += Vec3::from(unpack(base));
                    if let Some(shadow) = shadow {
                        // Samples of one surface share what they see of the sun.
                        let lit = match last {
                            Some((before, lit)) if (before - near).abs() <= near * 1e-3 => lit,
                            _ => {
                                let (x, y) =
                                    ((self.x + i as i32) as f32 + 0.5, (self.y + j as i32) as f32 + 0.5);
                                shadow.light_at(view.point(x, y, 1.0 / near))
                            }
                        };
                        last = Some((near, lit));
                        sum += Vec3::from(unpack(self.sun[here])) * lit;
                    }
                    self.base[here] = EMPTY;
                }
                if met > 0.0 {
                    let row = &mut rows[j];
                    for channel in 0..3 {
                        row[channel][i] = row[channel][i] * (1.0 - met) + sum[channel] * 0.25;
                    }
                    if close > 0.0 {
                        depth[j][i] = depth[j][i].min(1.0 / close);
                        nearest = nearest.min(depth[j][i]);
                    }
                }
            }
        }
        nearest
    }

    /// Whether nothing was drawn to any sample of eight pixels.
    #[inline(always)]
    fn untouched<S: Simd>(&self, simd: S, at: usize) -> bool {
        let plane = self.width * self.height;
        let mut all = u32x8::splat(simd, EMPTY);
        for s in 0..SAMPLES {
            all &= u32x8::from_slice(simd, &self.base[s * plane + at..][..LANES]);
        }
        all.simd_eq(u32x8::splat(simd, EMPTY)).all_true()
    }

    /// Draws one transparent instance of solid pieces: its nearest surface alone, mixed in by its opacity. `bounds` is where it can be.
    pub(super) fn flatten(&mut self, rows: &mut [Row], opacity: f32, glow: bool, bounds: [i32; 4]) {
        let plane = self.width * self.height;
        for i in (bounds[0] - self.x) as usize..=(bounds[2] - self.x) as usize {
            for j in (bounds[1] - self.y) as usize..=(bounds[3] - self.y) as usize {
                let at = i * self.height + j;
                let mut sum = Vec3::ZERO;
                let mut met = 0.0f32;
                for s in 0..SAMPLES {
                    let here = s * plane + at;
                    if self.base[here] != EMPTY {
                        sum += Vec3::from(unpack(self.base[here]));
                        met += 0.25;
                        self.base[here] = EMPTY;
                    }
                }
                if met > 0.0 {
                    let share = if glow { 1.0 } else { opacity };
                    let keep = if glow { 1.0 } else { 1.0 - met * opacity };
                    for channel in 0..3 {
                        let pixel = &mut rows[j][channel][i];
                        *pixel = *pixel * keep + sum[channel] * (0.25 * share);
                    }
                }
            }
        }
    }
}

/// The lowest of eight.
#[inline(always)]
fn lowest<S: Simd>(simd: S, v: f32x8<S>) -> f32 {
    let (a, b) = simd.split_f32x8(v);
    let [a, b, c, d] = a.min(b).to_array();
    let least = |a: f32, b: f32| if a < b { a } else { b };
    least(least(a, b), least(c, d))
}

#[inline(always)]
pub(super) fn floor(v: f32) -> i32 {
    let whole = v as i32;
    whole - i32::from(whole as f32 > v)
}

#[inline(always)]
pub(super) fn ceil(v: f32) -> i32 {
    let whole = v as i32;
    whole + i32::from((whole as f32) < v)
}
