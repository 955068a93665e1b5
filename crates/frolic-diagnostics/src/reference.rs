//! The plain rasteriser: every pixel of every element, one after the other, over the whole picture.
//!
//! It shares the records of elements with the CPU backend, and the texture lookup of quads. Samples, order and blending are implemented again, without
//! bins and tiles. Tests compare the backend with it, and benches measure what bins, tiles and vectors gain.

use glam::{Vec2, Vec3};
use smallvec::SmallVec;

use frolic_draw::backend::{PLACES, srgb, tone};
use frolic_draw::cpu::{Instance, Quad, SAMPLES, Shapes, walk};
use frolic_draw::{Blend, DrawList, ImageSize, Look, View};
use frolic_raster::colour9::unpack;
use frolic_raster::record::{Facet, PLAIN, Splat, Strip};
use frolic_raster::solid::Polygon;
use frolic_raster::texture::RegionId;

/// Returns the visible discs of a draw list in screen space, in drawing order.
pub fn splats(list: &DrawList<'_>, view: &View) -> Vec<Splat> {
    let mut splats = Vec::with_capacity(list.instances());
    walk(list, view, |instance| splats.extend(instance.splat));
    splats
}

/// A picture in linear light: red, green and blue of each pixel, rows from the top.
#[derive(Debug, Clone)]
pub struct LinearImage {
    size: ImageSize,
    pixels: Vec<[f32; 3]>,
}

impl LinearImage {
    /// A picture filled with one colour.
    pub fn new(size: ImageSize, colour: [f32; 3]) -> Self {
        Self { size, pixels: vec![colour; size.width() * size.height()] }
    }

    /// Returns all pixels.
    pub fn pixels(&self) -> &[[f32; 3]] {
        &self.pixels
    }

    pub(crate) fn size(&self) -> ImageSize {
        self.size
    }

    pub(crate) fn pixel_mut(&mut self, x: usize, y: usize) -> &mut [f32; 3] {
        &mut self.pixels[y * self.size.width() + x]
    }

    /// Blends splats over the picture, in order, without a depth test.
    pub fn blend(&mut self, splats: impl IntoIterator<Item = Splat>) {
        let size = self.size;
        for splat in splats {
            each_pixel(size, splat.extent(), |x, y| {
                let coverage = disc_coverage(&splat, x, y);
                let pixel = self.pixel_mut(x, y);
                for (channel, light) in pixel.iter_mut().zip(splat.light) {
                    *channel = *channel * (1.0 - coverage * splat.cover) + light * coverage;
                }
            });
        }
    }

    /// Draws a list over the picture: all shapes, solid and transparent, without shadows.
    pub fn draw(&mut self, list: &DrawList<'_>, view: &View) {
        let (w, h) = (self.size.width(), self.size.height());
        let mut samples = vec![[0.0f32; SAMPLES]; w * h];
        let mut solid: Vec<[Option<Vec3>; SAMPLES]> = vec![[None; SAMPLES]; w * h];
        let mut phase = None;
        walk(list, view, |instance| {
            let batch = &list.batches()[instance.batch];
            let now = (batch.layer, batch.solid);
            if phase.is_some_and(|before| before != now) {
                self.resolve(&mut solid);
            }
            phase = Some(now);
            if instance.look.is_solid() {
                let own = instance.look.parts().depth;
                pieces(
                    instance.shapes,
                    instance.look,
                    &mut |x, y, s, near, colour| {
                        let kept = &mut samples[y * w + x][s];
                        if !own.test || near > *kept {
                            if own.write {
                                *kept = near;
                            }
                            solid[y * w + x][s] = Some(colour);
                        }
                    },
                    self.size,
                );
                return;
            }
            let depth = |x: usize, y: usize| 1.0 / samples[y * w + x].iter().copied().fold(0.0, f32::max);
            self.transparent(list, view, instance, &depth, &samples);
        });
        self.resolve(&mut solid);
    }

    /// Resolves the samples of solid elements into pixels.
    fn resolve(&mut self, solid: &mut [[Option<Vec3>; SAMPLES]]) {
        for (pixel, samples) in self.pixels.iter_mut().zip(solid) {
            let met = samples.iter().flatten().count() as f32 * 0.25;
            let sum: Vec3 = samples.iter().flatten().sum();
            if met > 0.0 {
                *pixel = (Vec3::from(*pixel) * (1.0 - met) + sum * 0.25).to_array();
            }
            *samples = [None; SAMPLES];
        }
    }

    fn transparent(
        &mut self,
        list: &DrawList<'_>,
        view: &View,
        instance: &Instance<'_>,
        depth: &dyn Fn(usize, usize) -> f32,
        samples: &[[f32; SAMPLES]],
    ) {
        let (size, look) = (self.size, instance.look.parts());
        let soft = |at: f32, x: usize, y: usize| {
            if look.depth.test { ((depth(x, y) - at) * look.per_soft).clamp(0.0, 1.0) } else { 1.0 }
        };
        let mut mix = |x: usize, y: usize, light: Vec3, cover: f32, share: f32| {
            let pixel = self.pixel_mut(x, y);
            *pixel = (Vec3::from(*pixel) * (1.0 - cover * share) + light * share).to_array();
        };
        if let Some(splat) = &instance.splat {
            each_pixel(size, splat.extent(), |x, y| {
                let share = disc_coverage(splat, x, y) * soft(splat.depth, x, y);
                mix(x, y, Vec3::from(splat.light), splat.cover, share);
            });
        }
        for quad in &instance.shapes.quads {
            quad_pixels(list, view, quad, size, |x, y, share, paint, at, tests| {
                let share = if tests { share * soft(at, x, y) } else { share };
                mix(x, y, paint.truncate(), paint.w, share);
            });
        }
        // The nearest piece of the instance at each sample.
        let mut nearest: std::collections::BTreeMap<(usize, usize, usize), (f32, Vec3)> = Default::default();
        let mut opacity = 1.0;
        for facet in &instance.shapes.facets {
            opacity = facet.opacity;
        }
        for strip in &instance.shapes.strips {
            opacity = strip.opacity;
        }
        pieces(
            instance.shapes,
            instance.look,
            &mut |x, y, s, near, colour| {
                let before = nearest.get(&(x, y, s)).map_or(0.0, |(near, _)| *near);
                let solid = if look.depth.test { samples[y * size.width() + x][s] } else { 0.0 };
                if near > before && near > solid {
                    nearest.insert((x, y, s), (near, colour));
                }
            },
            size,
        );
        let mut pixels: std::collections::BTreeMap<(usize, usize), (f32, Vec3)> = Default::default();
        for ((x, y, _), (_, colour)) in nearest {
            let pixel = pixels.entry((x, y)).or_default();
            pixel.0 += 0.25;
            pixel.1 += colour * 0.25;
        }
        for ((x, y), (met, sum)) in pixels {
            let pixel = self.pixel_mut(x, y);
            let glow = look.blend == Blend::Additive;
            let (keep, light) = if glow { (1.0, sum) } else { (1.0 - met * opacity, sum * opacity) };
            *pixel = (Vec3::from(*pixel) * keep + light).to_array();
        }
    }

    /// Converts the picture to 8-bit sRGB by exposure and tone curve of a view, in double precision, without bloom or dither.
    pub fn to_srgb(&self, view: &View) -> Vec<[u8; 3]> {
        let channel = |light: f32| (srgb(tone(f64::from(light * view.parts().exposure))) * 255.0 + 0.5) as u8;
        self.pixels.iter().map(|pixel| pixel.map(channel)).collect()
    }
}

/// Visits the pixels of the picture whose centre is within bounds.
pub(crate) fn each_pixel(size: ImageSize, [x0, y0, x1, y1]: [f32; 4], mut visit: impl FnMut(usize, usize)) {
    let clip = |from: f32, to: f32, most: usize| {
        (from.floor().max(0.0) as usize, (to.ceil().max(0.0) as usize).min(most))
    };
    let ((i0, i1), (j0, j1)) = (clip(x0, x1, size.width()), clip(y0, y1, size.height()));
    for j in j0..j1 {
        for i in i0..i1 {
            visit(i, j);
        }
    }
}

/// Returns the coverage of a pixel by a disc.
pub(crate) fn disc_coverage(splat: &Splat, x: usize, y: usize) -> f32 {
    let (dx, dy) = (x as f32 + 0.5 - splat.x, y as f32 + 0.5 - splat.y);
    let t = (1.0 - (dx * dx + dy * dy) / (splat.radius * splat.radius)).max(0.0);
    t * t
}

/// Visits the pixels of a quad: place, share covered, paint, depth, and whether depth counts.
pub(crate) fn quad_pixels(
    list: &DrawList<'_>,
    view: &View,
    quad: &Quad,
    size: ImageSize,
    mut visit: impl FnMut(usize, usize, f32, glam::Vec4, f32, bool),
) {
    let Some(painted) = quad.painted(list, view) else { return };
    each_pixel(size, quad.extent, |x, y| {
        if let Some(touch) = painted.at(x as f32 + 0.5, y as f32 + 0.5, |_| 1.0) {
            visit(x, y, touch.share, touch.paint.into(), touch.depth, painted.per_soft.is_some());
        }
    });
}

/// Callback for a covered sample: pixel x and y, sample, one over the depth, colour.
type Met<'a> = dyn FnMut(usize, usize, usize, f32, Vec3) + 'a;

/// Visits every sample that triangles of a mesh or segments of a ribbon cover.
pub(crate) fn pieces(shapes: &Shapes, look: &Look, visit: &mut Met<'_>, size: ImageSize) {
    for triangle in &shapes.triangles {
        facet_samples(&Facet::from(*triangle), look, size, visit);
    }
    for facet in &shapes.facets {
        facet_samples(facet, look, size, visit);
    }
    for strip in &shapes.strips {
        strip_samples(strip, size, visit);
    }
}

/// A polygon of three or four corners, for point-in-polygon tests.
struct Outline {
    edges: SmallVec<[Side; 4]>,
}

/// An edge: a point, a direction, and whether points on it are inside (top-left rule).
type Side = ([f64; 2], [f64; 2], bool);

impl Outline {
    fn new(corners: &[Vec2]) -> Self {
        let way = |a: Vec2, b: Vec2| [f64::from(b.x) - f64::from(a.x), f64::from(b.y) - f64::from(a.y)];
        let area: f64 = (1..corners.len() - 1)
            .map(|k| (way(corners[0], corners[k]), way(corners[0], corners[k + 1])))
            .map(|(a, b)| a[0] * b[1] - a[1] * b[0])
            .sum();
        let edges = (0..corners.len()).map(|k| {
            let a = corners[k];
            let way = way(a, corners[(k + 1) % corners.len()]).map(|d| d * area.signum());
            ([f64::from(a.x), f64::from(a.y)], way, -way[1] > 0.0 || (way[1] == 0.0 && way[0] > 0.0))
        });
        // Where two corners meet, as at a tip, there is no edge.
        Self { edges: edges.filter(|(_, way, _)| *way != [0.0; 2]).collect() }
    }

    fn contains(&self, at: Vec2) -> bool {
        self.edges.iter().all(|&([x, y], [dx, dy], holds)| {
            let side = dx * (f64::from(at.y) - y) - dy * (f64::from(at.x) - x);
            side > 0.0 || (side == 0.0 && holds)
        })
    }
}

fn facet_samples(facet: &Facet, look: &Look, size: ImageSize, visit: &mut Met<'_>) {
    let look = look.parts();
    let corners = [0, 1, 2].map(|k| Vec2::new(facet.x[k], facet.y[k]));
    let outline = Outline::new(&corners);
    let area = (corners[1] - corners[0]).perp_dot(corners[2] - corners[0]);
    // Shares of the three corners at a place.
    let shares = |at: Vec2| {
        let share = |a: Vec2, b: Vec2| (a - at).perp_dot(b - at) / area;
        [share(corners[1], corners[2]), share(corners[2], corners[0]), share(corners[0], corners[1])]
    };
    let mix = |values: [f32; 3], shares: [f32; 3]| values.iter().zip(shares).map(|(v, s)| v * s).sum::<f32>();
    let colours = facet.base.map(|packed| Vec3::from(unpack(packed)));
    let [x0, y0, x1, y1] = facet.extent();
    each_pixel(size, [x0 - 0.5, y0 - 0.5, x1 + 0.5, y1 + 0.5], |x, y| {
        let middle = Vec2::new(x as f32 + 0.5, y as f32 + 0.5);
        let at_middle = shares(middle);
        let mut colour: Vec3 = (0..3).map(|k| colours[k] * at_middle[k]).sum::<Vec3>().max(Vec3::ZERO);
        let mut opaque = 1.0;
        if facet.region != PLAIN {
            let scale = facet.scale();
            let uv = [0, 1].map(|axis| {
                let scaled = [0, 1, 2].map(|k| facet.uv[k][axis] * scale[k]);
                (mix(scaled, at_middle) / mix(scale, at_middle)).clamp(0.0, 1.0)
            });
            let polygon = Polygon::of_facet(facet, look.atlas.textures());
            let texel = look.atlas.sample(RegionId(facet.region), uv[0], uv[1], polygon.texels);
            opaque = texel[3];
            colour *= Vec3::new(texel[0], texel[1], texel[2]) / opaque.max(1e-4);
        }
        for (s, place) in PLACES.iter().enumerate() {
            let at = middle + Vec2::from(*place);
            let hole = look.blend == Blend::CutOut && opaque <= 0.5 + (s as f32 - 1.5) * 0.125;
            if outline.contains(at) && !hole {
                visit(x, y, s, mix(facet.near, shares(at)), colour);
            }
        }
    });
}

/// Returns the colour of segment `nth` of a strip at the centre of a pixel. In an upright strip the colour depends on the row alone.
fn strip_colour(strip: &Strip, nth: usize, middle: Vec2) -> Vec3 {
    let between = |nth: usize, share: f32| {
        let ends = [strip.base[nth], strip.base[nth + 1]].map(|packed| Vec3::from(unpack(packed)));
        ends[0].lerp(ends[1], share).max(Vec3::ZERO)
    };
    if !strip.upright {
        return between(nth, strip.share(nth, middle));
    }
    let last = usize::from(strip.count) - 2;
    let nth = (0..last).find(|nth| strip.share(*nth, middle) < 1.0).unwrap_or(last);
    between(nth, strip.share(nth, middle).clamp(0.0, 1.0))
}

fn strip_samples(strip: &Strip, size: ImageSize, visit: &mut Met<'_>) {
    for nth in 0..strip.count as usize - 1 {
        let (p0, p1, n0, n1) = (strip.p[nth], strip.p[nth + 1], strip.n[nth], strip.n[nth + 1]);
        let corners = [p0 - n0, p1 - n1, p1 + n1, p0 + n0];
        let low = corners.iter().fold(Vec2::INFINITY, |low, c| low.min(*c)) - 0.5;
        let high = corners.iter().fold(Vec2::NEG_INFINITY, |high, c| high.max(*c)) + 0.5;
        let outline = Outline::new(&corners);
        let along = |at: Vec2| strip.share(nth, at);
        each_pixel(size, [low.x, low.y, high.x, high.y], |x, y| {
            let middle = Vec2::new(x as f32 + 0.5, y as f32 + 0.5);
            let colour = strip_colour(strip, nth, middle);
            for (s, place) in PLACES.iter().enumerate() {
                let at = middle + Vec2::from(*place);
                if outline.contains(at) {
                    let t = along(at);
                    visit(x, y, s, strip.near[nth] + (strip.near[nth + 1] - strip.near[nth]) * t, colour);
                }
            }
        });
    }
}
