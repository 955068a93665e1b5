//! Triangles: the mass of all solid shapes. Eight plain ones are prepared at once; samples keep their nearness and which triangle it is; colours
//! are worked out afterwards, once for each triangle that is visible in a pixel.
//!
//! A sample's word is a colour, or [`VISIBLE`] and the place of a triangle among those of the tile (a visibility buffer: Burns and Hunt, "The
//! Visibility Buffer", 2013). [`Colours`] works the one out from the other for eight pixels that are resolved, [`settle`](super::settle) for samples that stay. Ribbons write colours at once: those of a row are all the same.

use fearless_simd::prelude::*;
use fearless_simd::{f32x8, u32x8};

use super::plane::{Edge, Places, Plane};
use super::polygon::{Polygon, columns};
use super::{Style, Visible};
use crate::LANES;
use crate::colour9::{EMPTY, TEXTURED, VISIBLE, pack_lanes, unpack_lanes};
use crate::points::load;
use crate::record::Triangle;
use crate::samples::{SAMPLES, Samples};
use crate::texture::{RegionId, Texels};

/// Columns from which a triangle is worth finding its ends on each row.
const WIDE: i32 = 5;

/// Up to eight triangles, ready to be drawn: planes in lanes.
#[derive(Debug, Clone, Copy, Default)]
pub(super) struct Prepared {
    edges: [Lines; 3],
    /// Least value of each edge that is inside.
    least: [[f32; LANES]; 3],
    near: Lines,
    /// Left, upper, right and lower end.
    extent: [[f32; LANES]; 4],
}

/// Planes in lanes: change across, change down, value in the corner of the picture.
type Lines = [[f32; LANES]; 3];

/// One lane of some planes.
#[inline(always)]
fn plane(lines: &Lines, lane: usize) -> Plane {
    Plane { dx: lines[0][lane], dy: lines[1][lane], c: lines[2][lane] }
}

impl Prepared {
    /// Edges and nearness of some triangles. Of a shadow map, slanting surfaces are moved away from the sun by up to `most_slope` metres.
    #[inline(always)]
    pub(super) fn new<'t, S: Simd>(
        simd: S,
        triangles: impl Iterator<Item = &'t Triangle>,
        most_slope: Option<f32>,
    ) -> Self {
        let [mut x, mut y, mut near] = [[[0.0f32; LANES]; 3]; 3];
        for (lane, triangle) in triangles.take(LANES).enumerate() {
            for k in 0..3 {
                (x[k][lane], y[k][lane]) = (triangle.x[k], triangle.y[k]);
                near[k][lane] = triangle.near[k];
            }
        }
        let (x, y, near) = (load(simd, &x), load(simd, &y), load(simd, &near));
        let (zero, one) = (f32x8::splat(simd, 0.0), f32x8::splat(simd, 1.0));
        let mut it = Self::default();
        let area = (x[1] - x[0]) * (y[2] - y[0]) - (x[2] - x[0]) * (y[1] - y[0]);
        let sign = area.simd_lt(zero).select(zero - one, one);
        for k in 0..3 {
            let next = (k + 1) % 3;
            let [ax, ay, bx, by] = [x[k], y[k], x[next], y[next]];
            // Worked out from the same end whichever way it runs, as in [`Edge::new`].
            let forth = ax.simd_lt(bx) | (ax.simd_eq(bx) & ay.simd_lt(by));
            let from = [forth.select(ax, bx), forth.select(ay, by)];
            let to = [forth.select(bx, ax), forth.select(by, ay)];
            let turn = forth.select(sign, zero - sign);
            let (dx, dy) = (from[1] - to[1], to[0] - from[0]);
            let c = zero - (dx * from[0] + dy * from[1]);
            let (dx, dy) = (dx * turn, dy * turn);
            let mine = dx.simd_gt(zero) | (dx.simd_eq(zero) & dy.simd_ge(zero));
            it.edges[k] = [dx.to_array(), dy.to_array(), (c * turn).to_array()];
            it.least[k] = mine.select(zero, f32x8::splat(simd, f32::MIN_POSITIVE)).to_array();
        }
        let per = one / area;
        let (v1, v2) = (near[1] - near[0], near[2] - near[0]);
        let dx = (v1 * (y[2] - y[0]) - v2 * (y[1] - y[0])) * per;
        let dy = (v2 * (x[1] - x[0]) - v1 * (x[2] - x[0])) * per;
        let mut c = near[0] - dx * x[0] - dy * y[0];
        if let Some(most) = most_slope {
            c -= ((dx.abs() + dy.abs()) * 1.5).min(f32x8::splat(simd, most));
        }
        it.near = [dx.to_array(), dy.to_array(), c.to_array()];
        it.extent = [
            x[0].min(x[1]).min(x[2]).to_array(),
            y[0].min(y[1]).min(y[2]).to_array(),
            x[0].max(x[1]).max(x[2]).to_array(),
            y[0].max(y[1]).max(y[2]).to_array(),
        ];
        it
    }

    #[inline(always)]
    fn edges(&self, lane: usize) -> [Edge; 3] {
        let mut edges = [Edge::default(); 3];
        for k in 0..3 {
            edges[k] = Edge { plane: plane(&self.edges[k], lane), least: self.least[k][lane] };
        }
        edges
    }
}

impl Samples<'_> {
    /// Draws a prepared triangle: its nearness and `word` into the samples that it wins.
    #[inline(always)]
    pub(super) fn triangle<S: Simd, const USUAL: bool>(
        &mut self,
        simd: S,
        prepared: &Prepared,
        lane: usize,
        word: u32,
        style: &Style<'_>,
    ) {
        let [left, upper, right, lower] = &prepared.extent;
        let extent = [left[lane], upper[lane], right[lane], lower[lane]];
        let Some([i0, j0, i1, j1]) = self.touched(extent) else { return };
        let samples = if USUAL { SAMPLES } else { self.samples };
        let edges = prepared.edges(lane);
        let near_plane = plane(&prepared.near, lane);
        let word = u32x8::splat(simd, word);
        let places = Places::of(simd, samples);
        let (rows, stride) = (LANES / samples, self.height * samples / LANES);
        let (nears, _) = self.near.as_chunks_mut::<LANES>();
        let (words, _) = self.base.as_chunks_mut::<LANES>();
        let (first, last) = ((j0 - self.y) as usize / rows, (j1 - self.y) as usize / rows);
        let wide = i1 - i0 >= WIDE;
        let (mut starts, mut ends) = ([i0; LANES], [i1; LANES]);
        let near_across = f32x8::splat(simd, near_plane.dx);
        let (mut least, mut across) = ([near_across; 3], [near_across; 3]);
        let mut passed = 0;
        for k in 0..3 {
            least[k] = f32x8::splat(simd, edges[k].least);
            across[k] = f32x8::splat(simd, edges[k].plane.dx);
        }
        for group in first..=last {
            let top = (self.y + (group * rows) as i32) as f32;
            let nth = (group - first) % LANES;
            if wide && nth == 0 {
                (starts, ends) = columns(simd, &edges, extent, top, rows, (i0, i1));
            }
            let y = places.y + top;
            let mut down = [y; 3];
            for k in 0..3 {
                down[k] = y * edges[k].plane.dy + edges[k].plane.c;
            }
            let near_down = y * near_plane.dy + near_plane.c;
            let mut at = (starts[nth] - self.x) as usize * stride + group;
            for i in starts[nth]..=ends[nth] {
                let x = places.x + i as f32;
                let Some(slot) = nears.get_mut(at) else { break };
                let kept = f32x8::load_array(simd, *slot);
                let near = near_down + x * near_across;
                let mut met = (down[0] + x * across[0]).simd_ge(least[0])
                    & (down[1] + x * across[1]).simd_ge(least[1])
                    & (down[2] + x * across[2]).simd_ge(least[2]);
                if USUAL || style.test {
                    met &= near.simd_gt(kept);
                }
                if USUAL || style.write {
                    met.select(near, kept).store_slice(slot);
                }
                if let Some(slot) = words.get_mut(at) {
                    met.select(word, u32x8::load_array(simd, *slot)).store_slice(slot);
                }
                passed += met.to_bitmask().count_ones();
                at += stride;
            }
        }
        self.passed += u64::from(passed);
    }

    /// Works out the colours of the samples that hold triangles: each triangle once a pixel, in the middle of it.
    #[inline(always)]
    pub(super) fn settle<S: Simd>(&mut self, simd: S, visible: &Visible<'_>, sunny: bool) {
        let mut queue = Queue::default();
        let mut textured = TexturedQueue::default();
        let pixels_down = self.height;
        for at in 0..self.base.len() / LANES {
            let Some(words) = self.base[at * LANES..].first_chunk::<LANES>() else { break };
            let lanes = u32x8::load_array(simd, *words);
            let held = lanes.simd_ge(u32x8::splat(simd, VISIBLE)) & !lanes.simd_eq(u32x8::splat(simd, EMPTY));
            let mut left = held.to_bitmask();
            let words = *words;
            while left != 0 {
                let lane = left.trailing_zeros() as usize % LANES;
                let word = words[lane];
                // All samples of the pixel that show the same.
                let pixel = lane / SAMPLES * SAMPLES;
                for other in pixel..pixel + SAMPLES {
                    left &= !(u64::from(words[other] == word) << other);
                }
                let nth = (at * LANES + pixel) / SAMPLES;
                let place = [self.x + (nth / pixels_down) as i32, self.y + (nth % pixels_down) as i32];
                if word & TEXTURED != 0 {
                    if word != textured.surface.word || textured.pixels.len == LANES {
                        textured.settle(simd, self, sunny);
                        textured.surface.open(word, visible);
                    }
                    textured.pixels.add(word, nth * SAMPLES, place);
                    continue;
                }
                queue.add(word, nth * SAMPLES, place, visible.triangles);
                if queue.pixels.len == LANES {
                    queue.settle(simd, self, sunny);
                }
            }
        }
        queue.settle(simd, self, sunny);
        textured.settle(simd, self, sunny);
    }
}

/// Up to eight pixels.
#[derive(Debug, Default)]
struct Pixels {
    len: usize,
    /// What their samples hold.
    words: [u32; LANES],
    /// First sample of each.
    samples: [usize; LANES],
    middle: [[f32; LANES]; 2],
}

impl Pixels {
    #[inline(always)]
    fn add(&mut self, word: u32, sample: usize, [x, y]: [i32; 2]) {
        let lane = self.len % LANES;
        (self.words[lane], self.samples[lane]) = (word, sample);
        (self.middle[0][lane], self.middle[1][lane]) = (x as f32 + 0.5, y as f32 + 0.5);
        self.len += 1;
    }

    /// Writes colours into the samples that hold the words, and empties the queue.
    #[inline(always)]
    fn write(&mut self, into: &mut Samples<'_>, base: [u32; LANES], sun: Option<[u32; LANES]>) {
        into.shaded += self.len as u64;
        for lane in 0..self.len.min(LANES) {
            let from = self.samples[lane];
            for at in from..from + SAMPLES {
                let Some(slot) = into.base.get_mut(at) else { break };
                if *slot == self.words[lane] {
                    *slot = base[lane];
                    if let (Some(sun), Some(slot)) = (sun, into.sun.get_mut(at)) {
                        *slot = sun[lane];
                    }
                }
            }
        }
        self.len = 0;
    }
}

/// Pixels of one triangle with a texture.
#[derive(Debug, Default)]
struct TexturedQueue<'a> {
    surface: Textured<'a>,
    pixels: Pixels,
}

impl TexturedQueue<'_> {
    #[inline(always)]
    fn settle<S: Simd>(&mut self, simd: S, into: &mut Samples<'_>, sunny: bool) {
        if self.pixels.len == 0 {
            return;
        }
        let [x, y] = self.pixels.middle;
        let middle = [f32x8::load_array(simd, x), f32x8::load_array(simd, y)];
        let [base, sun] = self.surface.colours(simd, middle, sunny);
        self.pixels.write(into, base.to_array(), sunny.then_some(sun.to_array()));
    }
}

/// Works out the colours of the triangles that the samples of eight pixels hold: each once a pixel, in the middle of it.
pub(super) struct Colours<'a> {
    visible: &'a Visible<'a>,
    sunny: bool,
    /// What each lane of `corners` is of: mostly the triangle of the eight pixels before.
    held: [u32; LANES],
    corners: Corners,
    surface: Textured<'a>,
    /// Pixels so far in which a triangle was coloured.
    pub(super) shaded: u64,
}

impl<'a> Colours<'a> {
    pub(super) fn new(visible: &'a Visible<'a>, sunny: bool) -> Self {
        let (corners, surface) = (Corners::default(), Textured::default());
        Self { visible, sunny, held: [EMPTY; LANES], corners, surface, shaded: 0 }
    }

    /// Packed colours and sunlight of the samples, first sample of the eight pixels first, with those of triangles in place of what they hold.
    #[inline(always)]
    pub(super) fn of<S: Simd>(
        &mut self,
        simd: S,
        [words, suns]: [[u32x8<S>; SAMPLES]; 2],
        middle: [f32x8<S>; 2],
    ) -> [[u32x8<S>; SAMPLES]; 2] {
        let (places, empty) = (u32x8::splat(simd, VISIBLE), u32x8::splat(simd, EMPTY));
        let textured = u32x8::splat(simd, VISIBLE | TEXTURED);
        let [mut base, mut sun] = [words, suns];
        for s in 0..SAMPLES {
            let mut mine = words[s].simd_ge(places) & !words[s].simd_eq(empty);
            for before in 0..s {
                mine &= !words[before].simd_eq(words[s]);
            }
            if !mine.any_true() {
                continue;
            }
            self.shaded += u64::from(mine.to_bitmask().count_ones());
            let of_surface = mine & words[s].simd_ge(textured);
            let of_plain = mine & !of_surface;
            let (word, mut own) = (words[s].to_array(), [words[s]; 2]);
            if of_plain.any_true() {
                self.hold(word, of_plain.to_bitmask());
                own = self.corners.colours(simd, middle, self.sunny);
            }
            let mut left = of_surface.to_bitmask();
            while left != 0 {
                let word = word[left.trailing_zeros() as usize % LANES];
                self.surface.open(word, self.visible);
                let of_word = self.surface.colours(simd, middle, self.sunny);
                let these = of_surface & words[s].simd_eq(u32x8::splat(simd, word));
                own = [these.select(of_word[0], own[0]), these.select(of_word[1], own[1])];
                left &= !these.to_bitmask();
            }
            for other in s..SAMPLES {
                let same = mine & words[other].simd_eq(words[s]);
                base[other] = same.select(own[0], base[other]);
                sun[other] = same.select(own[1], sun[other]);
            }
        }
        [base, sun]
    }

    /// Takes the corners of the triangles of some lanes, where they are not there yet.
    #[inline(always)]
    fn hold(&mut self, words: [u32; LANES], mut lanes: u64) {
        while lanes != 0 {
            let lane = lanes.trailing_zeros() as usize % LANES;
            lanes &= lanes - 1;
            let word = words[lane];
            if self.held[lane] != word
                && let Some(triangle) = self.visible.triangles.get((word & !VISIBLE) as usize)
            {
                self.held[lane] = word;
                self.corners.take(lane, triangle);
            }
        }
    }
}

/// A triangle with a texture, by what samples hold of it.
#[derive(Debug, Default)]
struct Textured<'a> {
    word: u32,
    polygon: Polygon,
    texels: Option<Texels<'a>>,
}

impl<'a> Textured<'a> {
    /// Goes on to another triangle.
    fn open(&mut self, word: u32, visible: &Visible<'a>) {
        if word == self.word {
            return;
        }
        self.word = word;
        let facet = visible.facets.get((word & !(VISIBLE | TEXTURED)) as usize);
        let Some((facet, style)) =
            facet.and_then(|facet| Some((facet, visible.styles.get(usize::from(facet.label.tag))?)))
        else {
            (self.polygon, self.texels) = (Polygon::default(), None);
            return;
        };
        self.polygon = Polygon::of_facet(facet, style.textures);
        let region = style.textures.region(RegionId(facet.region));
        self.texels = region.map(|region| style.textures.texels(region, self.polygon.texels));
    }

    /// Packed colours at eight places, and with `sunny` their sunlight.
    #[inline(always)]
    fn colours<S: Simd>(&self, simd: S, [x, y]: [f32x8<S>; 2], sunny: bool) -> [u32x8<S>; 2] {
        self.polygon.colour(simd, x, y, self.texels.as_ref(), sunny)
    }
}

/// Up to eight plain triangles, each in a pixel.
#[derive(Debug, Default)]
struct Queue {
    pixels: Pixels,
    corners: Corners,
}

impl Queue {
    #[inline(always)]
    fn add(&mut self, word: u32, sample: usize, place: [i32; 2], triangles: &[Triangle]) {
        let Some(triangle) = triangles.get((word & !VISIBLE) as usize) else { return };
        self.corners.take(self.pixels.len % LANES, triangle);
        self.pixels.add(word, sample, place);
    }

    /// Writes their colours.
    #[inline(always)]
    fn settle<S: Simd>(&mut self, simd: S, into: &mut Samples<'_>, sunny: bool) {
        let [x, y] = self.pixels.middle;
        let middle = [f32x8::load_array(simd, x), f32x8::load_array(simd, y)];
        let [base, sun] = self.corners.colours(simd, middle, sunny);
        self.pixels.write(into, base.to_array(), sunny.then_some(sun.to_array()));
    }
}

/// Corners of eight plain triangles on the screen, with their packed colours.
#[derive(Debug, Default)]
struct Corners {
    x: [[f32; LANES]; 3],
    y: [[f32; LANES]; 3],
    base: [[u32; LANES]; 3],
    sun: [[u32; LANES]; 3],
}

impl Corners {
    /// Takes a triangle into a lane.
    #[inline(always)]
    fn take(&mut self, lane: usize, triangle: &Triangle) {
        for k in 0..3 {
            (self.x[k][lane], self.y[k][lane]) = (triangle.x[k], triangle.y[k]);
            (self.base[k][lane], self.sun[k][lane]) = (triangle.base[k], triangle.sun[k]);
        }
    }

    /// Packed colours at a place in each, and with `sunny` their sunlight.
    #[inline(always)]
    fn colours<S: Simd>(&self, simd: S, [px, py]: [f32x8<S>; 2], sunny: bool) -> [u32x8<S>; 2] {
        let (x, y) = (load(simd, &self.x), load(simd, &self.y));
        let ([x1, y1], [x2, y2]) = ([x[1] - x[0], y[1] - y[0]], [x[2] - x[0], y[2] - y[0]]);
        let (px, py) = (px - x[0], py - y[0]);
        // Shares of the second and third corner.
        let per = f32x8::splat(simd, 1.0) / (x1 * y2 - x2 * y1);
        let shares = [(px * y2 - x2 * py) * per, (x1 * py - px * y1) * per];
        let base = mixed(simd, &self.base, shares);
        [base, if sunny { mixed(simd, &self.sun, shares) } else { base }]
    }
}

/// Packed colours of three corners, mixed by the shares of the second and third.
#[inline(always)]
fn mixed<S: Simd>(simd: S, packed: &[[u32; LANES]; 3], shares: [f32x8<S>; 2]) -> u32x8<S> {
    let [first, second, third] = packed;
    let first = unpack_lanes(u32x8::load_array(simd, *first));
    let second = unpack_lanes(u32x8::load_array(simd, *second));
    let third = unpack_lanes(u32x8::load_array(simd, *third));
    let mut colour = first;
    for c in 0..3 {
        colour[c] += (second[c] - first[c]) * shares[0] + (third[c] - first[c]) * shares[1];
    }
    pack_lanes(simd, colour)
}
