//! Polygons: edges, colours, textures, and the columns of pixels that they touch.

use fearless_simd::prelude::*;
use fearless_simd::{f32x8, i32x8, u32x8};
use glam::Vec2;

use super::plane::{Edge, Plane};
use crate::colour9::{pack_lanes, unpack};
use crate::record::{Facet, PLAIN, Strip, colours};
use crate::samples::SAMPLES;
use crate::texture::{RegionId, Texels, Textures};
use crate::{LANES, Lanes};

/// Coordinates, pixels, up to which an edge's place is sure to within a tenth of a pixel.
pub(super) const TRUSTED: f32 = 4096.0;

/// Pixels around an edge that count as touched: samples are up to 3/8 off the middle, the rest is for rounding.
const MARGIN: f32 = 0.5;

/// A convex polygon of up to four edges, with its colours and texture.
#[derive(Debug, Clone, Copy, Default)]
pub struct Polygon {
    /// Edges. The first `count` are used.
    pub edges: [Edge; 4],
    /// Number of edges, 3 or 4.
    pub count: usize,
    /// Left, upper, right and lower end, in pixels.
    pub extent: [f32; 4],
    /// Nearness over the picture.
    pub near: Plane,
    /// Red, green, blue without the sun, then sunlight; constant where `flat`.
    pub colour: [Plane; 6],
    /// The constant colour and sunlight, packed.
    pub flat: Option<[u32; 2]>,
    /// Scale of the view, and texture coordinates times the scale.
    pub scale: Plane,
    /// Place in the texture times `scale`.
    pub uv: [Plane; 2],
    /// Region of the textures; [`PLAIN`] for none.
    pub region: u32,
    /// Texels of the texture a pixel.
    pub texels: f32,
}

impl Polygon {
    /// The polygon of a triangle.
    pub fn of_facet(facet: &Facet, textures: &Textures) -> Self {
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
            let scale = facet.scale();
            polygon.scale = plane(scale);
            polygon.uv = [0, 1].map(|axis| plane([0, 1, 2].map(|k| facet.uv[k][axis] * scale[k])));
            let size = textures.region(RegionId(facet.region)).map_or([1, 1], |region| [region.w, region.h]);
            let [w, h] = size.map(|side| side as f32);
            let uv = |k: usize| Vec2::from(facet.uv[k]) * Vec2::new(w, h);
            let texels = (uv(1) - uv(0)).perp_dot(uv(2) - uv(0)).abs();
            polygon.texels = libm::sqrtf(texels * per.abs());
        }
        polygon
    }

    /// The nth segment of a strip.
    pub fn of_segment(strip: &Strip, nth: usize) -> Self {
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
    /// Packed colours at eight places, and their sunlight if it is wanted.
    #[inline(always)]
    pub(super) fn colour<S: Simd>(
        &self,
        simd: S,
        x: f32x8<S>,
        y: f32x8<S>,
        texels: Option<&Texels<'_>>,
        sun: bool,
    ) -> [u32x8<S>; 2] {
        let mut rgb = self.own(simd, x, y, sun);
        if let Some(texels) = texels {
            let [u, v] = self.places(simd, x, y);
            let texel = texels.eight(simd, u, v);
            let per = f32x8::splat(simd, 1.0) / texel[3].max(f32x8::splat(simd, 1e-4));
            for channel in 0..3 {
                let own = texel[channel] * per;
                rgb[channel] *= own;
                rgb[channel + 3] *= own;
            }
        }
        let base = pack_lanes(simd, [rgb[0], rgb[1], rgb[2]]);
        [base, if sun { pack_lanes(simd, [rgb[3], rgb[4], rgb[5]]) } else { base }]
    }

    /// Red, green and blue, and the sun's if they are wanted, at eight places.
    #[inline(always)]
    pub(super) fn own<S: Simd>(&self, simd: S, x: f32x8<S>, y: f32x8<S>, sun: bool) -> [f32x8<S>; 6] {
        let mut rgb = [f32x8::splat(simd, 0.0); 6];
        match self.flat {
            Some([base, sun]) => {
                let (base, sun) = (unpack(base), unpack(sun));
                for channel in 0..3 {
                    rgb[channel] = f32x8::splat(simd, base[channel]);
                    rgb[channel + 3] = f32x8::splat(simd, sun[channel]);
                }
            }
            None => {
                for channel in 0..if sun { 6 } else { 3 } {
                    let plane = self.colour[channel];
                    rgb[channel] = (y * plane.dy + plane.c) + x * plane.dx;
                }
            }
        }
        rgb
    }

    /// Mask of the samples that holes of the texture leave covered. Its opacity in the middle of a pixel decides how many do, so that edges
    /// of holes are smooth too.
    #[inline(always)]
    pub(super) fn opaque<S: Simd>(
        &self,
        simd: S,
        texels: &Texels<'_>,
        samples: usize,
        [x, y]: [&[f32; LANES]; 2],
        met: u8,
    ) -> u8 {
        let uv = self.places(simd, f32x8::load_array(simd, *x), f32x8::load_array(simd, *y));
        let uv = uv.map(Into::<Lanes>::into);
        let (mut opaque, mut least) = ([0.0f32; LANES], [0.5f32; LANES]);
        for first in (0..LANES).step_by(samples.max(1)) {
            let pixel = first..(first + samples).min(LANES);
            if met >> first & ((1 << pixel.len()) - 1) as u8 != 0 {
                opaque[pixel].fill(texels.opacity(uv[0][first], uv[1][first]));
            }
        }
        if samples == SAMPLES {
            // About the half: a quarter of the range a sample.
            least = [0, 1, 2, 3, 0, 1, 2, 3].map(|nth| 0.5 + (nth as f32 - 1.5) * 0.125);
        }
        met & f32x8::load_array(simd, opaque).simd_gt(f32x8::load_array(simd, least)).to_bitmask() as u8
    }

    /// Places in the texture.
    #[inline(always)]
    pub(super) fn places<S: Simd>(&self, simd: S, x: f32x8<S>, y: f32x8<S>) -> [f32x8<S>; 2] {
        let (zero, one) = (f32x8::splat(simd, 0.0), f32x8::splat(simd, 1.0));
        let scale = self.scale.at(x, y);
        let [u, v] = [self.uv[0].at(x, y) / scale, self.uv[1].at(x, y) / scale];
        [u.max(zero).min(one), v.max(zero).min(one)]
    }
}

/// First and last of the columns in `within` that a polygon with these edges and ends can touch, for eight vectors of `rows` rows each from `top` on.
#[inline(always)]
pub(super) fn columns<S: Simd>(
    simd: S,
    edges: &[Edge],
    [x0, y0, x1, y1]: [f32; 4],
    top: f32,
    rows: usize,
    within: (i32, i32),
) -> ([i32; LANES], [i32; LANES]) {
    // Rounding grows with the coordinates; where it may reach the margin, all columns stay.
    if !(x0 > -TRUSTED && y0 > -TRUSTED && x1 < TRUSTED && y1 < TRUSTED) {
        return ([within.0; LANES], [within.1; LANES]);
    }
    let rows = rows as f32;
    let count = f32x8::load_array(simd, [0.0, 1.0, 2.0, 3.0, 4.0, 5.0, 6.0, 7.0]);
    let upper = (count * rows + top).max(f32x8::splat(simd, y0 - 0.5));
    let lower = (count * rows + (top + rows)).min(f32x8::splat(simd, y1 + 0.5));
    let (first, last) = (f32x8::splat(simd, within.0 as f32), f32x8::splat(simd, within.1 as f32));
    let (mut from, mut to) = (first, last + 0.5);
    for edge in edges {
        let Plane { dx, dy, c } = edge.plane;
        if dx.abs() < 1e-3 {
            continue;
        }
        // Where the edge crosses the first and the last of the rows.
        let per = -1.0 / dx;
        let (a, b) = ((upper * dy + c) * per, (lower * dy + c) * per);
        if dx > 0.0 {
            from = from.max(a.min(b) - MARGIN);
        } else {
            to = to.min(a.max(b) + MARGIN);
        }
    }
    // Clamped to one column beyond on either side, as they may be anywhere where nothing is touched.
    let from: i32x8<S> = (from - 0.5).ceil().max(first).min(last + 1.0).to_int();
    let to: i32x8<S> = (to - 0.5).floor().max(first - 1.0).min(last).to_int();
    (from.to_array(), to.to_array())
}
