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
//! 1. Samples are stored column by column, and a vector is the four samples of a pixel and of the one below: blades are tall and narrow, so few
//!    lanes miss. In a shadow map, which has one sample a texel, a vector is eight rows; all else is the same.
//! 2. Edges, nearness and colours are planes over the picture, taken at the picture's coordinates. So a pixel is the same in
//!    whatever tile it is, and two triangles that share an edge meet every sample exactly once: both work the edge out from the same end, which
//!    makes one the exact negative of the other, and a sample right on it goes to the one above or left (Pineda, "A Parallel Algorithm for
//!    Polygon Rasterization", 1988).
//! 3. Colours are taken once a pixel, nearness and edges at each sample: multisampling.
//! 4. One over the depth is linear across the screen, so the buffer keeps that: no division a sample.
//!
//! | question | file |
//! | --- | --- |
//! | what is linear over the picture? | `plane.rs` |
//! | what is a polygon, and its colour at a pixel? | `polygon.rs` |
//! | which samples does a record cover? | `fill.rs` |
//! | how are plain triangles drawn, and coloured? | `triangles.rs` |
//! | what colour is a pixel in the end? | `resolve.rs` |

mod fill;
mod plane;
mod polygon;
mod resolve;
mod triangles;

use fearless_simd::prelude::*;
use frolic_simd::{Level, kernel};

use crate::LANES;
use crate::cells::hides;
use crate::colour9::{TEXTURED, VISIBLE};
use crate::record::{Facet, Outlined, Strip, Triangle, depth_of};
use crate::samples::Samples;
use crate::sun::Sunlight;
use crate::texture::{Texels, Textures};
use crate::tile::{Row, STRIDE};

pub use plane::{Edge, Plane, ceil, floor};
pub use polygon::Polygon;
use triangles::Prepared;

/// How the records of one source are drawn.
#[derive(Debug, Clone, Copy)]
pub struct Style<'a> {
    /// Depth test: nearer solid surfaces hide them.
    pub test: bool,
    /// Depth write.
    pub write: bool,
    /// Cut-outs where their texture is less than half opaque.
    pub holes: bool,
    /// True if sunlight is kept apart.
    pub sun: bool,
    /// Textures.
    pub textures: &'a Textures,
}

kernel! {
    /// Draws plain triangles one after the other; `styles` are those of their sources, by the tag of their label. Samples keep the
    /// places of triangles, counted from `first`, until [`settle`].
    pub fn triangles(simd, samples: &mut Samples<'_>, triangles: &[Triangle], first: u32, styles: &[Style<'_>]) {
        for (own, first) in triangles.chunks(LANES).zip((first..).step_by(LANES)) {
            draw_eight(simd, samples, own.iter().zip(first..), styles);
        }
    }

    fn triangle(simd, samples: &mut Samples<'_>, prepared: &Prepared, lane: usize, word: u32, style: &Style<'_>) {
        if samples.is_usual(style) {
            samples.triangle::<_, true>(simd, prepared, lane, word, style);
        } else {
            samples.triangle::<_, false>(simd, prepared, lane, word, style);
        }
    }

    /// Gives the samples that hold places of `visible` triangles their colours, and with `sunny` their sunlight.
    pub fn settle(simd, samples: &mut Samples<'_>, visible: &Visible<'_>, sunny: bool) {
        samples.settle(simd, visible, sunny);
    }

    /// Draws triangles with a texture one after the other; `styles` are those of their sources, by the tag of their label. Samples keep the
    /// places of triangles, counted from `first`, until [`settle`].
    pub fn facets(simd, samples: &mut Samples<'_>, facets: &[Facet], first: u32, styles: &[Style<'_>]) {
        for (nth, facet) in facets.iter().enumerate() {
            if let Some(style) = styles.get(usize::from(facet.label.tag)) {
                let word = VISIBLE | TEXTURED | (first + nth as u32);
                if style.holes {
                    holed(simd.level(), samples, facet, word, style);
                } else {
                    whole(simd.level(), samples, facet, word, style);
                }
            }
        }
    }

    fn whole(simd, samples: &mut Samples<'_>, facet: &Facet, word: u32, style: &Style<'_>) {
        let corners = Triangle { x: facet.x, y: facet.y, near: facet.near, ..Triangle::default() };
        let prepared = Prepared::new(simd, std::iter::once(&corners), samples.slope());
        triangle(simd.level(), samples, &prepared, 0, word, style);
    }

    fn holed(simd, samples: &mut Samples<'_>, facet: &Facet, word: u32, style: &Style<'_>) {
        let polygon = Polygon { flat: Some([word; 2]), ..Polygon::of_facet(facet, style.textures) };
        if samples.is_usual(style) {
            samples.blocks::<_, 3, true>(simd, &polygon, style);
        } else {
            samples.blocks::<_, 3, false>(simd, &polygon, style);
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

    /// Draws records in the order of their keys, nearest first. `cells` is scratch.
    pub fn nearest_first(simd, samples: &mut Samples<'_>, records: &Records<'_>, styles: &[Style<'_>], cells: &mut Vec<f32>) {
        cells.clear();
        let mut drawn = 0;
        let mut batch = Batch::default();
        for key in records.keys {
            let nearness = depth_of(*key);
            let (kind, which) = (*key as u32 & KIND, (*key as u32 & !KIND) as usize);
            let bounds = match kind {
                FACET => records.facets[which].bounds(),
                STRIP => records.strips[which].bounds(),
                _ => records.triangles[which].bounds(),
            };
            if hides(samples, cells, bounds, nearness) {
                continue;
            }
            // In order: at equal nearness the first wins.
            if kind != 0 {
                batch.draw(simd.level(), samples, records.triangles, styles);
            }
            match kind {
                FACET => {
                    let facet = &records.facets[which];
                    facets(simd.level(), samples, std::slice::from_ref(facet), which as u32, styles);
                }
                STRIP => {
                    let strip = &records.strips[which];
                    if let Some(style) = styles.get(usize::from(strip.label.tag)) {
                        samples.strip(simd, strip, style);
                    }
                }
                _ => batch.add(simd.level(), samples, records.triangles, which, styles),
            }
            drawn += 1;
            if drawn % PATIENCE == 0 {
                batch.draw(simd.level(), samples, records.triangles, styles);
                crate::cells::note(simd.level(), samples, cells);
            }
        }
        batch.draw(simd.level(), samples, records.triangles, styles);
    }

    fn batch(simd, samples: &mut Samples<'_>, triangles: &[Triangle], places: &[u32], styles: &[Style<'_>]) {
        let own = places.iter().filter_map(|&place| Some((triangles.get(place as usize)?, place)));
        draw_eight(simd, samples, own, styles);
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

    fn through_holes(simd, polygon: &Polygon, texels: &Texels<'_>, samples: usize, at: [&[f32; LANES]; 2], met: u8) -> u8 {
        polygon.opaque(simd, texels, samples, at, met)
    }

    /// Resolves the solid samples drawn since the last call into the tile's pixels, those of `visible` triangles too, keeps their depth for
    /// transparent elements, and clears the samples. Returns the least depth.
    pub fn resolve(
        simd, samples: &mut Samples<'_>, visible: &Visible<'_>, rows: &mut [Row], depth: &mut [[f32; STRIDE]],
        sunlight: Option<&Sunlight<'_>>,
    ) -> f32 {
        samples.resolve(simd, visible, rows, depth, sunlight)
    }
}

/// Draws up to eight triangles, each with its place among those of the tile.
#[inline(always)]
fn draw_eight<'t, S: Simd>(
    simd: S,
    samples: &mut Samples<'_>,
    own: impl Iterator<Item = (&'t Triangle, u32)> + Clone,
    styles: &[Style<'_>],
) {
    let prepared = Prepared::new(simd, own.clone().map(|(triangle, _)| triangle), samples.slope());
    for (lane, (triangle, place)) in own.enumerate() {
        if let Some(style) = styles.get(usize::from(triangle.label.tag)) {
            self::triangle(simd.level(), samples, &prepared, lane, VISIBLE | place, style);
        }
    }
}

/// Records of a tile in the order in which they are drawn.
#[derive(Debug, Clone, Copy)]
pub struct Records<'a> {
    /// Nearness in the upper half, as [`keyed`](crate::record::keyed) writes it; in the lower the place of a triangle, or of a facet or
    /// strip with its mark.
    pub keys: &'a [u64],
    /// Plain triangles.
    pub triangles: &'a [Triangle],
    /// Triangles with a texture.
    pub facets: &'a [Facet],
    /// Pieces of ribbons.
    pub strips: &'a [Strip],
}

/// Triangles of a tile that its samples hold the places of.
#[derive(Debug, Clone, Copy)]
pub struct Visible<'a> {
    /// Plain ones.
    pub triangles: &'a [Triangle],
    /// Those with a texture.
    pub facets: &'a [Facet],
    /// Styles of their sources, by the tag of their label.
    pub styles: &'a [Style<'a>],
}

/// Marks the key of a facet.
pub const FACET: u32 = 1 << 31;

/// Marks the key of a strip.
pub const STRIP: u32 = 1 << 30;

/// What a key is of.
const KIND: u32 = FACET | STRIP;

/// Triangles that wait until there are eight.
#[derive(Debug, Default)]
struct Batch {
    places: [u32; LANES],
    len: usize,
}

impl Batch {
    #[inline(always)]
    fn add(
        &mut self,
        level: Level,
        samples: &mut Samples<'_>,
        triangles: &[Triangle],
        place: usize,
        styles: &[Style<'_>],
    ) {
        self.places[self.len % LANES] = place as u32;
        self.len += 1;
        if self.len == LANES {
            self.draw(level, samples, triangles, styles);
        }
    }

    #[inline(always)]
    fn draw(
        &mut self,
        level: Level,
        samples: &mut Samples<'_>,
        triangles: &[Triangle],
        styles: &[Style<'_>],
    ) {
        if self.len > 0 {
            batch(level, samples, triangles, &self.places[..self.len.min(LANES)], styles);
            self.len = 0;
        }
    }
}

/// Number of records drawn before the cells are updated.
const PATIENCE: usize = 64;

#[cfg(test)]
mod tests {
    use fearless_simd::f32x8;
    use frolic_simd::{detect, levels};
    use proptest::prelude::*;

    use super::plane::{Path, Places, below};
    use super::*;
    use crate::record::{PLAIN, SEGMENTS};
    use crate::samples::{PLACES, SAMPLES};

    kernel! {
        fn lanes_of(simd, samples: usize) -> [[f32; LANES]; 3] {
            let Places { x, y, middle } = Places::of(simd, samples);
            [x.to_array(), y.to_array(), middle.to_array()]
        }

        fn along(simd, path: Path, y: f32, from: [f32; SEGMENTS]) -> f32 {
            path.at(simd, &below(simd, f32x8::splat(simd, y), from)).to_array()[0]
        }

        fn touched(simd, polygon: &Polygon, rows: usize, within: (i32, i32)) -> ([i32; LANES], [i32; LANES]) {
            super::polygon::columns(simd, &polygon.edges[..3], polygon.extent, 0.0, rows, within)
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
