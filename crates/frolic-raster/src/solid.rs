//! Solid shapes of one tile: four samples a pixel, the nearest wins, then a mean.
//!
//! ```text
//! for each polygon, for each 2 rows, for each column, for the 8 samples there at once:
//!     inside every edge and nearer than what is there?  keep nearness and colour
//! then for each pixel:  mean of its samples' colours, those in shadow without the sun's part
//! ```
//!
//! A ribbon that stands upright, as most blades do, is no polygons but spans: for each 2 rows the two ends at each sample, then only
//! comparisons with them column by column.
//!
//! 1. Samples lie column by column, and a vector is the four samples of a pixel and of the one below: blades are tall and narrow, so few
//!    lanes miss. In a shadow map, which has one sample a texel, a vector is eight rows; all else is the same.
//! 2. Edges, nearness and colours are planes over the picture, taken at the picture's coordinates. So a pixel is the same in
//!    whatever tile it is, and two triangles that share an edge meet every sample exactly once: both work the edge out from the same end, which
//!    makes one the exact negative of the other, and a sample right on it goes to the one above or left (Pineda, "A Parallel Algorithm for
//!    Polygon Rasterization", 1988).
//! 3. Colours are taken once a pixel, nearness and edges at each sample: multisampling.
//! 4. One over the depth is linear across the screen, so the buffer keeps that: no division a sample.

use fearless_simd::prelude::*;
use fearless_simd::{f32x4, f32x8, i32x4, i32x8, mask32x8, u32x4, u32x8};
use frolic_simd::kernel;
use glam::{Vec2, Vec3};

use crate::LANES;
use crate::cells::hides;
use crate::colour9::{EMPTY, pack_lanes, unpack, unpack_lanes};
use crate::record::{Facet, Outlined, PLAIN, SEGMENTS, Strip, colours, depth_of};
use crate::samples::{PIECE, PLACES, SAMPLES, Samples};
use crate::sun::Sunlight;
use crate::texture::{RegionId, Texels, Textures};
use crate::tile::{Row, STRIDE};

/// How the records of one source are drawn.
#[derive(Debug, Clone, Copy)]
pub struct Style<'a> {
    /// Whether nearer solid things hide them.
    pub test: bool,
    /// Whether they hide what comes later and lies behind.
    pub write: bool,
    /// Whether they have holes where their texture is less than half opaque.
    pub holes: bool,
    /// Whether the sun's part is kept apart.
    pub sun: bool,
    /// Where their textures are.
    pub textures: &'a Textures,
}

/// A linear function over the picture.
#[derive(Debug, Clone, Copy, Default)]
pub struct Plane {
    /// What a pixel to the right adds.
    pub dx: f32,
    /// What a pixel down adds.
    pub dy: f32,
    /// Value in the corner of the picture.
    pub c: f32,
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

    /// In a column, on the rows of a vector.
    #[inline(always)]
    fn at<S: Simd>(self, x: f32, y: f32x8<S>) -> f32x8<S> {
        (y * self.dy + self.dx * x) + self.c
    }
}

/// An edge: positive inside.
#[derive(Debug, Clone, Copy, Default)]
pub struct Edge {
    /// Distance from it, in units of its own; positive inside.
    pub plane: Plane,
    /// Least value that is inside: 0, or the least above 0 where a sample on the edge belongs to the neighbour.
    pub least: f32,
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

/// Where the lanes of a vector of samples lie, from the upper left of its first pixel.
#[derive(Clone, Copy)]
struct Places<S: Simd> {
    x: f32x8<S>,
    y: f32x8<S>,
    /// The middles of their pixels, down.
    middle: f32x8<S>,
}

impl<S: Simd> Places<S> {
    #[inline(always)]
    fn of(simd: S, samples: usize) -> Self {
        let [mut x, mut y, mut middle] = [[0.5f32; LANES]; 3];
        for lane in 0..LANES {
            middle[lane] = (lane / samples) as f32 + 0.5;
            let [ox, oy] = if samples == 1 { [0.0; 2] } else { PLACES[lane % SAMPLES] };
            (x[lane], y[lane]) = (0.5 + ox, middle[lane] + oy);
        }
        Self {
            x: f32x8::load_array(simd, x),
            y: f32x8::load_array(simd, y),
            middle: f32x8::load_array(simd, middle),
        }
    }
}

/// A quantity along an upright strip: its value at the upper end and its slope there, and how the slope turns at each cross section
/// within.
#[derive(Debug, Clone, Copy, Default)]
struct Path {
    start: f32,
    slope: f32,
    turns: [f32; SEGMENTS - 1],
}

impl Path {
    /// Through values at the cross sections; `per` is one over each segment's height, 0 for one that is not there.
    #[inline(always)]
    fn new(values: [f32; SEGMENTS + 1], per: [f32; SEGMENTS]) -> Self {
        let mut slopes = [0.0; SEGMENTS];
        for k in 0..SEGMENTS {
            slopes[k] = (values[k + 1] - values[k]) * per[k];
        }
        let turns = [slopes[1] - slopes[0], slopes[2] - slopes[1]];
        Self { start: values[0], slope: slopes[0], turns }
    }

    /// Red, green and blue, then those of the sun's part where that is wanted.
    #[inline(always)]
    fn of_colours<S: Simd>(simd: S, strip: &Strip, per: [f32; SEGMENTS], sun: bool) -> [Self; 6] {
        let mut packed = [0; LANES];
        packed[..SEGMENTS + 1].copy_from_slice(&strip.base);
        packed[SEGMENTS + 1..].copy_from_slice(&strip.sun);
        let mut paths = [Self::default(); 6];
        for (channel, lanes) in unpack_lanes(u32x8::load_array(simd, packed)).into_iter().enumerate() {
            let [a, b, c, d, e, f, g, h] = lanes.to_array();
            paths[channel] = Self::new([a, b, c, d], per);
            if sun {
                paths[channel + 3] = Self::new([e, f, g, h], per);
            }
        }
        paths
    }

    #[inline(always)]
    fn at<S: Simd>(&self, simd: S, below: &[f32x8<S>; SEGMENTS]) -> f32x8<S> {
        let [turn, last] = self.turns;
        f32x8::splat(simd, self.start) + below[0] * self.slope + below[1] * turn + below[2] * last
    }
}

/// How far rows are below the upper end, and below each cross section within if they are.
#[inline(always)]
fn below<S: Simd>(simd: S, y: f32x8<S>, from: [f32; SEGMENTS]) -> [f32x8<S>; SEGMENTS] {
    let zero = f32x8::splat(simd, 0.0);
    [y - from[0], (y - from[1]).max(zero), (y - from[2]).max(zero)]
}

/// A convex polygon of up to four edges with all that is drawn in it.
#[derive(Debug, Clone, Copy, Default)]
pub struct Polygon {
    /// Its edges, of which `count` are there.
    pub edges: [Edge; 4],
    /// Number of edges, 3 or 4.
    pub count: usize,
    /// Left, upper, right and lower end, in pixels.
    pub extent: [f32; 4],
    /// Nearness over the picture.
    pub near: Plane,
    /// Red, green, blue without the sun, then the sun's part; of one colour where `flat`.
    pub colour: [Plane; 6],
    /// The one colour and its sun's part, packed.
    pub flat: Option<[u32; 2]>,
    /// How large what is there is seen, and the place in the texture times that.
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
    /// Colours of the pixels of a vector of samples; where a texture has holes, samples are taken out of `met`.
    #[inline(always)]
    fn colour<S: Simd>(
        &self,
        simd: S,
        style: &Style<'_>,
        worn: Option<&Texels<'_>>,
        x: f32,
        y: f32x8<S>,
        met: &mut mask32x8<S>,
    ) -> [u32x8<S>; 2] {
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
                let channels = if style.sun { 6 } else { 3 };
                for channel in 0..channels {
                    let plane = self.colour[channel];
                    rgb[channel] = (y * plane.dy + plane.c) + plane.dx * x;
                }
            }
        }
        if let Some(worn) = worn {
            let mut lanes = rgb.map(|channel| channel.to_array());
            let bits = met.to_bitmask() as u8;
            let left =
                worn_colours(simd.level(), self, style.holes, worn, x, &y.to_array(), &mut lanes, bits);
            rgb = lanes.map(|channel| f32x8::load_array(simd, channel));
            *met = mask32x8::from_bitmask(simd, left.into());
        }
        let base = pack_lanes(simd, [rgb[0], rgb[1], rgb[2]]);
        let sun = if style.sun { pack_lanes(simd, [rgb[3], rgb[4], rgb[5]]) } else { base };
        [base, sun]
    }

    /// Multiplies a texture into colours, pixel by pixel. A sample counts as met by the texture's opacity: the more opaque, the more samples, so
    /// that the edges of holes are smooth too.
    #[expect(clippy::too_many_arguments, reason = "plain values, so that they stay in registers")]
    #[inline(always)]
    fn wear<S: Simd>(
        &self,
        simd: S,
        holes: bool,
        worn: &Texels<'_>,
        x: f32,
        y: &[f32; LANES],
        rgb: &mut [[f32; LANES]; 6],
        met: u8,
    ) -> u8 {
        let uv = self.places(simd, x, f32x8::load_array(simd, *y));
        // Red, green, blue and opacity of the upper and of the lower pixel.
        let mut texels = [[0.0f32; LANES]; 4];
        for first in (0..LANES).step_by(SAMPLES) {
            if met >> first & 0b1111 == 0 {
                continue;
            }
            let [r, g, b, opaque] = worn.at(uv[0][first], uv[1][first]).to_array();
            let per = 1.0 / opaque.max(1e-4);
            for (lanes, value) in texels.iter_mut().zip([r * per, g * per, b * per, opaque]) {
                lanes[first..first + SAMPLES].fill(value);
            }
        }
        for channel in 0..3 {
            let own = f32x8::load_array(simd, texels[channel]);
            for half in [channel, channel + 3] {
                rgb[half] = (f32x8::load_array(simd, rgb[half]) * own).to_array();
            }
        }
        if !holes {
            return met;
        }
        // About the half: a quarter of the range a sample.
        let least = [0, 1, 2, 3, 0, 1, 2, 3].map(|nth| 0.5 + (nth as f32 - 1.5) * 0.125);
        let left = f32x8::load_array(simd, texels[3]).simd_gt(f32x8::load_array(simd, least));
        met & left.to_bitmask() as u8
    }

    /// Which of the texels of a shadow map the texture's holes leave.
    #[inline(always)]
    fn opaque<S: Simd>(&self, simd: S, worn: &Texels<'_>, x: f32, y: &[f32; LANES], met: u8) -> u8 {
        let uv = self.places(simd, x, f32x8::load_array(simd, *y));
        let mut opaque = [0.0f32; LANES];
        for lane in 0..LANES {
            if met >> lane & 1 == 1 {
                opaque[lane] = worn.opacity(uv[0][lane], uv[1][lane]);
            }
        }
        met & f32x8::load_array(simd, opaque).simd_gt(f32x8::splat(simd, 0.5)).to_bitmask() as u8
    }

    /// Places in the texture.
    #[inline(always)]
    fn places<S: Simd>(&self, simd: S, x: f32, y: f32x8<S>) -> [[f32; LANES]; 2] {
        let (zero, one) = (f32x8::splat(simd, 0.0), f32x8::splat(simd, 1.0));
        let scale = self.scale.at(x, y);
        let [u, v] = [self.uv[0].at(x, y) / scale, self.uv[1].at(x, y) / scale];
        [u.max(zero).min(one).into(), v.max(zero).min(one).into()]
    }
}

impl Polygon {
    /// First and last of the columns in `within` that the polygon can touch, for eight vectors of `rows` rows each from `top` on.
    #[inline(always)]
    fn columns<S: Simd>(
        &self,
        simd: S,
        top: f32,
        rows: usize,
        within: (i32, i32),
    ) -> ([i32; LANES], [i32; LANES]) {
        let [x0, y0, x1, y1] = self.extent;
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
        for edge in &self.edges[..self.count] {
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
        // Held to one beyond on either side, as where nothing is touched they may be anywhere.
        let from: i32x8<S> = (from - 0.5).ceil().max(first).min(last + 1.0).to_int();
        let to: i32x8<S> = (to - 0.5).floor().max(first - 1.0).min(last).to_int();
        (from.to_array(), to.to_array())
    }
}

/// Coordinates, pixels, up to which an edge's place is sure to within a tenth of a pixel.
const TRUSTED: f32 = 4096.0;

/// Pixels around an edge that count as touched: samples are up to 3/8 off the middle, the rest is for rounding.
const MARGIN: f32 = 0.5;

kernel! {
    /// Draws triangles one after the other; `styles` are those of their sources, by the tag of their label.
    pub fn facets(simd, samples: &mut Samples<'_>, facets: &[Facet], styles: &[Style<'_>]) {
        for facet in facets {
            if let Some(style) = styles.get(usize::from(facet.label.tag)) {
                self::facet(simd.level(), samples, facet, style);
            }
        }
    }

    /// Draws pieces of ribbons one after the other; `styles` as with [`facets`].
    pub fn strips(simd, samples: &mut Samples<'_>, strips: &[Strip], styles: &[Style<'_>]) {
        for strip in strips {
            if let Some(style) = styles.get(usize::from(strip.label.tag)) {
                samples.strip(simd, strip, style);
            }
        }
    }

    /// Draws a piece of a ribbon.
    pub fn strip(simd, samples: &mut Samples<'_>, strip: &Strip, style: &Style<'_>) {
        samples.strip(simd, strip, style);
    }

    /// Draws records in the order of their keys, nearest first; see [`FACET`] for the keys. `cells` is scratch.
    pub fn nearest_first(
        simd, samples: &mut Samples<'_>, keys: &[u64], facets: &[Facet], strips: &[Strip], styles: &[Style<'_>], cells: &mut Vec<f32>,
    ) {
        cells.clear();
        let mut drawn = 0;
        for key in keys {
            let nearness = depth_of(*key);
            let which = (*key as u32 & !FACET) as usize;
            if *key as u32 & FACET != 0 {
                let facet = &facets[which];
                if hides(samples, cells, facet.bounds(), nearness) {
                    continue;
                }
                if let Some(style) = styles.get(usize::from(facet.label.tag)) {
                    self::facet(simd.level(), samples, facet, style);
                }
            } else {
                let strip = &strips[which];
                if hides(samples, cells, strip.bounds(), nearness) {
                    continue;
                }
                if let Some(style) = styles.get(usize::from(strip.label.tag)) {
                    samples.strip(simd, strip, style);
                }
            }
            drawn += 1;
            if drawn % PATIENCE == 0 {
                crate::cells::note(simd.level(), samples, cells);
            }
        }
    }

    /// Draws a triangle.
    pub fn facet(simd, samples: &mut Samples<'_>, facet: &Facet, style: &Style<'_>) {
        let polygon = Polygon::of_facet(facet, style.textures);
        if samples.is_usual(style) {
            samples.blocks::<_, 3, true>(simd, &polygon, style);
        } else {
            samples.blocks::<_, 3, false>(simd, &polygon, style);
        }
    }

    fn segment(simd, samples: &mut Samples<'_>, polygon: &Polygon, style: &Style<'_>) {
        if samples.is_usual(style) {
            samples.blocks::<_, 4, true>(simd, polygon, style);
        } else {
            samples.blocks::<_, 4, false>(simd, polygon, style);
        }
    }

    /// An upright strip in a picture with shadows.
    fn sunny_spans(simd, samples: &mut Samples<'_>, strip: &Strip, style: &Style<'_>) {
        samples.spans::<_, true, true>(simd, strip, style);
    }

    /// An upright strip in a picture without shadows.
    fn plain_spans(simd, samples: &mut Samples<'_>, strip: &Strip, style: &Style<'_>) {
        samples.spans::<_, true, false>(simd, strip, style);
    }

    /// An upright strip in a shadow map, or one that compares or keeps no depths.
    fn other_spans(simd, samples: &mut Samples<'_>, strip: &Strip, style: &Style<'_>) {
        samples.spans::<_, false, false>(simd, strip, style);
    }

    fn worn_colours(
        simd, polygon: &Polygon, holes: bool, worn: &Texels<'_>, x: f32, y: &[f32; LANES], rgb: &mut [[f32; LANES]; 6], met: u8,
    ) -> u8 {
        polygon.wear(simd, holes, worn, x, y, rgb, met)
    }

    fn worn_opacity(simd, polygon: &Polygon, worn: &Texels<'_>, x: f32, y: &[f32; LANES], met: u8) -> u8 {
        polygon.opaque(simd, worn, x, y, met)
    }

    /// Mixes what solid things were drawn since the last time into the tile's pixels, keeps their depth for what is transparent, and
    /// starts anew. Returns the least depth.
    pub fn resolve(
        simd, samples: &mut Samples<'_>, rows: &mut [Row], depth: &mut [[f32; STRIDE]], sunlight: Option<&Sunlight<'_>>,
    ) -> f32 {
        match sunlight {
            Some(sunlight) => samples.resolve(simd, rows, depth, sunlight),
            None => samples.resolve_unshadowed(simd, rows, depth),
        }
    }
}

/// Marks the key of a facet; without it the lower half of a key is the place of a strip. The upper half is as
/// [`keyed`](crate::record::keyed) writes nearness.
pub const FACET: u32 = 1 << 31;

/// Records that are drawn before the cells are looked at anew.
const PATIENCE: usize = 64;

impl Samples<'_> {
    #[inline(always)]
    fn strip<S: Simd>(&mut self, simd: S, strip: &Strip, style: &Style<'_>) {
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

    /// Whether a record is drawn as most are: that way asks nothing in its inner loop.
    #[inline(always)]
    fn is_usual(&self, style: &Style<'_>) -> bool {
        style.test && style.write && !self.base.is_empty()
    }

    #[inline(always)]
    fn spans<S: Simd, const USUAL: bool, const SUN: bool>(
        &mut self,
        simd: S,
        strip: &Strip,
        style: &Style<'_>,
    ) {
        let (top, bottom) = (strip.p[0].y, strip.p[SEGMENTS].y);
        let j0 = floor(top - 0.875).max(self.y);
        let j1 = ceil(bottom - 0.125).min(self.y + self.height as i32 - 1);
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
        let Self { near: nears, base: bases, sun: suns, spans, x: left_most, y: top_most, .. } = self;
        let (nears, _) = nears.as_chunks_mut::<LANES>();
        let (bases, _) = bases.as_chunks_mut::<LANES>();
        let (suns, _) = suns.as_chunks_mut::<LANES>();
        let (first, last) = (*left_most as f32, (*left_most + self.width as i32 - 1) as f32);
        let held = f32x4::load_array(simd, [first, first, -last, -last]);
        let (first, last) = ((j0 - *top_most) as usize / rows, (j1 - *top_most) as usize / rows);
        for piece in (first..=last).step_by(PIECE) {
            // Everything about the rows first, without a branch, so that the processor works at many of them at once.
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
                    // Only what has four samples has colours: two rows.
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
                    // Two at a time: thin blades have one or two, and a loop that is mostly guessed right.
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
        let samples = if USUAL { SAMPLES } else { self.samples };
        let flat = polygon.flat.map(|flat| flat.map(|colour| u32x8::splat(simd, colour)));
        // A shadow map has no colours, but holes.
        let coloured = USUAL || !self.base.is_empty();
        // Strips wear nothing.
        let region = if EDGES == 3 { style.textures.region(RegionId(polygon.region)) } else { None };
        let worn = region.map(|region| style.textures.texels(region, polygon.texels));
        let looks = (coloured && flat.is_none()) || ((coloured || style.holes) && worn.is_some());
        let mut colour = flat.unwrap_or([u32x8::splat(simd, 0); 2]);
        let mut least = [zero; EDGES];
        for k in 0..EDGES {
            least[k] = f32x8::splat(simd, polygon.edges[k].least);
        }
        let places = Places::of(simd, samples);
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
                (starts, ends) = polygon.columns(simd, top, rows, (i0, i1));
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
                // Of one colour it is sooner kept than asked for.
                if looks {
                    if !met.any_true() {
                        continue;
                    }
                    let y = places.middle + top;
                    let x = i as f32 + 0.5;
                    if coloured {
                        colour = polygon.colour(simd, style, worn.as_ref(), x, y, &mut met);
                    } else if let Some(worn) = &worn {
                        let left = worn_opacity(
                            simd.level(),
                            polygon,
                            worn,
                            x,
                            &y.to_array(),
                            met.to_bitmask() as u8,
                        );
                        met = mask32x8::from_bitmask(simd, left.into());
                    }
                }
                if USUAL || style.write {
                    met.select(near, kept).store_slice(slot);
                }
                if coloured && let Some(slot) = bases.get_mut(here) {
                    met.select(colour[0], u32x8::load_array(simd, *slot)).store_slice(slot);
                }
                if coloured
                    && style.sun
                    && let Some(slot) = suns.get_mut(here)
                {
                    met.select(colour[1], u32x8::load_array(simd, *slot)).store_slice(slot);
                }
            }
        }
    }

    #[inline(always)]
    fn resolve<S: Simd>(
        &mut self,
        simd: S,
        rows: &mut [Row],
        depth: &mut [[f32; STRIDE]],
        sunlight: &Sunlight<'_>,
    ) -> f32 {
        let mut nearest = f32::INFINITY;
        let places = Places::of(simd, SAMPLES);
        let (one, zero, empty) =
            (f32x8::splat(simd, 1.0), f32x8::splat(simd, 0.0), u32x8::splat(simd, EMPTY));
        let pairs = self.height * SAMPLES / LANES;
        let (nears, _) = self.near.as_chunks::<LANES>();
        let (bases, _) = self.base.as_chunks_mut::<LANES>();
        let (suns, _) = self.sun.as_chunks::<LANES>();
        for (at, ((bases, nears), suns)) in bases.iter_mut().zip(nears).zip(suns).enumerate() {
            let base = u32x8::load_array(simd, *bases);
            let none = base.simd_eq(empty);
            if none.all_true() {
                continue;
            }
            let (i, j) = (at / pairs, at % pairs * 2);
            let near = f32x8::load_array(simd, *nears);
            // Samples of one surface share what they see of the sun, in the middle of their pixel.
            let x = f32x8::splat(simd, (self.x + i as i32) as f32 + 0.5);
            let y = places.middle + (self.y + j as i32) as f32;
            let mut wanted = [false; LANES];
            for lane in 0..LANES {
                wanted[lane] = bases[lane] != EMPTY;
            }
            let lit = f32x8::load_array(simd, sunlight.at(simd, x, y, one / near, wanted, SAMPLES));
            let (own, sun) = (unpack_lanes(base), unpack_lanes(u32x8::load_array(simd, *suns)));
            let mut light = [[0.0; LANES]; 3];
            for channel in 0..3 {
                light[channel] = none.select(zero, own[channel] + sun[channel] * lit).to_array();
            }
            for (pixel, row) in rows[j..].iter_mut().take(2).enumerate() {
                let from = pixel * SAMPLES;
                let mut met = 0.0f32;
                let mut close = 0.0f32;
                for lane in from..from + SAMPLES {
                    if wanted[lane] {
                        met += 0.25;
                        close = close.max(nears[lane]);
                    }
                }
                if met == 0.0 {
                    continue;
                }
                for channel in 0..3 {
                    let of = &light[channel];
                    let sum = (of[from] + of[from + 1]) + (of[from + 2] + of[from + 3]);
                    row[channel][i] = row[channel][i] * (1.0 - met) + sum * 0.25;
                }
                if close > 0.0 {
                    let depth = &mut depth[j + pixel][i];
                    *depth = depth.min(1.0 / close);
                    nearest = nearest.min(*depth);
                }
            }
            *bases = [EMPTY; LANES];
        }
        nearest
    }

    /// [`Samples::resolve`] where no shadow falls: eight pixels down a column at once.
    #[inline(always)]
    fn resolve_unshadowed<S: Simd>(&mut self, simd: S, rows: &mut [Row], depth: &mut [[f32; STRIDE]]) -> f32 {
        let mut nearest = f32::INFINITY;
        let (zero, empty) = (f32x8::splat(simd, 0.0), u32x8::splat(simd, EMPTY));
        let (nears, _) = self.near.as_chunks::<LANES>();
        let (bases, _) = self.base.as_chunks_mut::<LANES>();
        let (bases, _) = bases.as_chunks_mut::<SAMPLES>();
        let (nears, _) = nears.as_chunks::<SAMPLES>();
        let blocks = self.height / LANES;
        for (at, (bases, nears)) in bases.iter_mut().zip(nears).enumerate() {
            let mut any = u32x8::splat(simd, EMPTY);
            for base in bases.iter() {
                any &= u32x8::load_array(simd, *base);
            }
            if any.simd_eq(empty).all_true() {
                continue;
            }
            // Of each sample: red, green, blue, its share of the pixel, nearness.
            let mut of = [[zero; SAMPLES]; 5];
            for part in 0..SAMPLES {
                let base = u32x8::load_array(simd, bases[part]);
                let none = base.simd_eq(empty);
                let [r, g, b] = unpack_lanes(base);
                of[0][part] = none.select(zero, r);
                of[1][part] = none.select(zero, g);
                of[2][part] = none.select(zero, b);
                of[3][part] = none.select(zero, f32x8::splat(simd, 0.25));
                of[4][part] = none.select(zero, f32x8::load_array(simd, nears[part]));
                bases[part] = [EMPTY; LANES];
            }
            let mut sums = [[0.0; LANES]; 4];
            for quantity in 0..4 {
                let [a, b, c, d] = of[quantity];
                sums[quantity] = by_pairs(by_pairs(a, b), by_pairs(c, d)).to_array();
            }
            let [a, b, c, d] = of[4];
            let (a, b) = (a.unzip_low(b).max(a.unzip_high(b)), c.unzip_low(d).max(c.unzip_high(d)));
            let close = a.unzip_low(b).max(a.unzip_high(b));
            let far = (f32x8::splat(simd, 1.0) / close).to_array();
            let (i, top) = (at / blocks, at % blocks * LANES);
            let below = rows[top..].iter_mut().zip(&mut depth[top..]).take(LANES);
            for (lane, (row, depth)) in below.enumerate() {
                let met = sums[3][lane];
                if met > 0.0 {
                    for channel in 0..3 {
                        row[channel][i] = row[channel][i] * (1.0 - met) + sums[channel][lane] * 0.25;
                    }
                    // What was drawn without a depth is infinitely far.
                    depth[i] = depth[i].min(far[lane]);
                    nearest = nearest.min(depth[i]);
                }
            }
        }
        nearest
    }

    /// Whether something solid covers all of a pixel, counted from the tile's first.
    #[inline(always)]
    pub fn cover(&self, i: usize, j: usize) -> bool {
        let at = (i * self.height + j) * SAMPLES;
        self.base.get(at..at + SAMPLES).is_some_and(|samples| !samples.contains(&EMPTY))
    }

    /// Draws one transparent instance of solid pieces: its nearest surface alone, mixed in by its opacity. `bounds` is where it can be.
    pub fn flatten(&mut self, rows: &mut [Row], opacity: f32, glow: bool, bounds: [i32; 4]) {
        for i in (bounds[0] - self.x) as usize..=(bounds[2] - self.x) as usize {
            for j in (bounds[1] - self.y) as usize..=(bounds[3] - self.y) as usize {
                let at = (i * self.height + j) * SAMPLES;
                let mut sum = Vec3::ZERO;
                let mut met = 0.0f32;
                for here in at..at + SAMPLES {
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

/// Sums of neighbours.
#[inline(always)]
fn by_pairs<S: Simd>(a: f32x8<S>, b: f32x8<S>) -> f32x8<S> {
    a.unzip_low(b) + a.unzip_high(b)
}

#[inline(always)]
/// Greatest whole number that is not above.
pub fn floor(v: f32) -> i32 {
    let whole = v as i32;
    whole - i32::from(whole as f32 > v)
}

#[inline(always)]
/// Least whole number that is not below.
pub fn ceil(v: f32) -> i32 {
    let whole = v as i32;
    whole + i32::from((whole as f32) < v)
}

#[cfg(test)]
mod tests {
    use frolic_simd::{detect, levels};
    use proptest::prelude::*;

    use super::*;

    kernel! {
        fn lanes_of(simd, samples: usize) -> [[f32; LANES]; 3] {
            let Places { x, y, middle } = Places::of(simd, samples);
            [x.to_array(), y.to_array(), middle.to_array()]
        }

        fn along(simd, path: Path, y: f32, from: [f32; SEGMENTS]) -> f32 {
            path.at(simd, &below(simd, f32x8::splat(simd, y), from)).to_array()[0]
        }

        fn touched(simd, polygon: &Polygon, rows: usize, within: (i32, i32)) -> ([i32; LANES], [i32; LANES]) {
            polygon.columns(simd, 0.0, rows, within)
        }
    }

    /// A vector is two pixels down a column, the four samples of each, or eight pixels with one.
    #[test]
    fn lanes_are_the_samples_of_their_pixels() {
        let of = |samples| lanes_of(detect(), samples);
        let [x, y, middle] = of(SAMPLES);
        for lane in 0..LANES {
            let [ox, oy] = PLACES[lane % SAMPLES];
            let row = (lane / SAMPLES) as f32;
            assert_eq!((x[lane], y[lane], middle[lane]), (0.5 + ox, row + 0.5 + oy, row + 0.5));
        }
        let [x, y, middle] = of(1);
        assert_eq!((x, y), ([0.5; LANES], middle));
        assert_eq!(middle[7], 7.5);
    }

    proptest! {
        /// A path meets its values at the cross sections and runs straight between them.
        #[test]
        fn a_path_goes_through_its_values(
            top in -50f32..50.0, heights in prop::array::uniform3(0.1f32..30.0), values in prop::array::uniform4(-9f32..9.0), count in 1usize..4,
        ) {
            // Segments that are not there repeat the last cross section.
            let (mut at, mut values) = ([top; 4], values);
            for k in 0..3 {
                at[k + 1] = at[k] + if k < count { heights[k] } else { 0.0 };
                if k >= count {
                    values[k + 1] = values[k];
                }
            }
            let from = [at[0], at[1], at[2]];
            let per = [0, 1, 2].map(|k| if at[k + 1] > at[k] { 1.0 / (at[k + 1] - at[k]) } else { 0.0 });
            let path = Path::new(values, per);
            let value = |y: f32| along(detect(), path, y, from);
            for k in 0..count {
                let (a, b) = (values[k], values[k + 1]);
                for share in [0.0, 0.25, 0.5, 1.0] {
                    let y = at[k] + (at[k + 1] - at[k]) * share;
                    prop_assert!((value(y) - (a + (b - a) * share)).abs() < 0.02, "{} at {}", value(y), y);
                }
            }
        }

        /// No column that holds a sample of a triangle is left out, and none beyond what was asked for comes in.
        #[test]
        fn no_touched_column_is_left_out(
            x in prop::array::uniform3(-20f32..60.0), y in prop::array::uniform3(-20f32..60.0), first in 0i32..8, width in 1i32..50, samples in prop_oneof![Just(1usize), Just(4)],
        ) {
            let facet = Facet { x, y, near: [1.0; 3], region: PLAIN, ..Facet::default() };
            let area = (x[1] - x[0]) * (y[2] - y[0]) - (x[2] - x[0]) * (y[1] - y[0]);
            prop_assume!(area.abs() > 0.01);
            let polygon = Polygon::of_facet(&facet, &Textures::default());
            let (rows, within) = (LANES / samples, (first, first + width));
            for level in levels() {
                let (from, to) = touched(level, &polygon, rows, within);
                for group in 0..LANES {
                    prop_assert!(from[group] >= within.0 && to[group] <= within.1);
                    for i in within.0..=within.1 {
                        let touched = (0..LANES).any(|lane| {
                            let [ox, oy] = if samples == 1 { [0.0; 2] } else { PLACES[lane % SAMPLES] };
                            let row = (group * rows + lane / samples) as f32;
                            let (x, y) = (i as f32 + 0.5 + ox, row + 0.5 + oy);
                            let inside = |Edge { plane: Plane { dx, dy, c }, least, .. }: &Edge| dx * x + dy * y + c >= *least;
                            polygon.edges[..3].iter().all(inside)
                        });
                        prop_assert!(!touched || (from[group]..=to[group]).contains(&i), "column {}, group {}", i, group);
                    }
                }
            }
        }
    }
}
