//! Rows of sky, ground and water, pixel beside pixel, in loops that are vectorised.
//!
//! A row above the horizon has sky and coast, one below has ground and what is beyond its shore. Both are computed for the ray through the middle of
//! each pixel; only outlines take four rays. The few rows that the horizon crosses are left to [`Painter`], whose results these agree with.

mod ground;
mod nodes;
mod noise;
mod sky;
mod water;

use fearless_simd::f32x8;
use fearless_simd::prelude::*;
use frolic_raster::tile::{Row, STRIDE};
use frolic_simd::{Simd, kernel};
use glam::Vec3;
use smallvec::SmallVec;

use super::lattice::{Lattice, SHORE_ROUGH};
use super::outline::{COAST_MOST, Outlines, SHORE_MOST};
use super::painter::Painter;
use super::stars::SeenStars;
use nodes::STEP;
use sky::{SkyLight, add_star};

/// Pixels of a row.
pub(super) const ROW: usize = 64;

/// Numbers of a picture, prepared for rows.
#[derive(Debug, Clone)]
pub(super) struct Lanes<'a> {
    eye: [f32; 3],
    /// Ray through the upper left corner of the picture, and its change for each pixel to the right and down; not of unit length.
    corner: [f32; 3],
    right: [f32; 3],
    down: [f32; 3],
    focal: f32,
    sky: SkyLight,
    stars: &'a SeenStars,
    lattice: &'static Lattice,
    coast: Option<Coast>,
    sun: Option<SunLight>,
    lamps: SmallVec<[LampLight; 4]>,
    ambient: [f32; 3],
    /// 1 over the distance of the haze.
    haze: f32,
    ground: Option<GroundLight>,
    water: Option<WaterLight>,
}

#[derive(Debug, Clone, Copy)]
struct Coast {
    height: f32,
    colour: [f32; 3],
}

#[derive(Debug, Clone, Copy)]
struct SunLight {
    towards: [f32; 3],
    light: [f32; 3],
    power: f32,
}

#[derive(Debug, Clone, Copy)]
struct LampLight {
    position: [f32; 3],
    colour: [f32; 3],
    power: f32,
    square: f32,
}

#[derive(Debug, Clone, Copy)]
struct GroundLight {
    colour: [f32; 3],
    mottled: f32,
    radius: f32,
}

#[derive(Debug, Clone, Copy)]
struct WaterLight {
    level: f32,
    colour: [f32; 3],
    waves: f32,
}

impl<'a> Lanes<'a> {
    pub(super) fn new(painter: &Painter<'_>, stars: &'a SeenStars) -> Self {
        let (view, spec) = (painter.view, painter.spec);
        let [cx, cy] = [view.size().width() as f32 * 0.5, view.size().height() as f32 * 0.5];
        let corner = view.forward * view.focal - view.right * cx + view.up * cy;
        let lamps = painter.lights.iter().map(|lamp| LampLight {
            position: lamp.position,
            colour: lamp.colour.vec().to_array(),
            power: lamp.power,
            square: lamp.radius * lamp.radius,
        });
        let sky = &spec.sky;
        let soft = sky.soft_degrees.to_radians();
        Self {
            eye: view.eye.to_array(),
            corner: corner.to_array(),
            right: view.right.to_array(),
            down: (-view.up).to_array(),
            focal: view.focal,
            sky: SkyLight {
                zenith: sky.zenith.vec().to_array(),
                horizon: sky.horizon.vec().to_array(),
                afterglow: sky.afterglow.vec().to_array(),
                way: [painter.afterglow_way.x, painter.afterglow_way.z],
                soft: soft * soft,
                level: sky.horizon.vec().lerp(sky.zenith.vec(), 1.0 - libm::expf(soft * -2.5)).to_array(),
                level_glow: libm::expf(soft * -5.5),
            },
            stars,
            lattice: Lattice::shared(),
            coast: (sky.coast_degrees > 0.0).then(|| Coast {
                height: sky.coast_degrees.to_radians(),
                colour: sky.coast_colour.vec().to_array(),
            }),
            sun: painter.sun.map(|sun| SunLight {
                towards: sun.towards().to_array(),
                light: sun.light().to_array(),
                power: sun.power,
            }),
            lamps: lamps.collect(),
            ambient: painter.ambient.to_array(),
            haze: 1.0 / sky.haze,
            ground: spec.ground.as_ref().filter(|_| view.eye.y > 0.0).map(|ground| GroundLight {
                colour: ground.colour.vec().to_array(),
                mottled: ground.mottled,
                radius: ground.radius,
            }),
            water: spec.water.as_ref().filter(|water| view.eye.y > water.level).map(|water| WaterLight {
                level: water.level,
                colour: water.colour.vec().to_array(),
                waves: water.waves,
            }),
        }
    }

    /// A ray through a place of the picture, in pixels; not of unit length.
    #[inline(always)]
    fn ray(&self, x: f32, y: f32) -> [f32; 3] {
        let ([a, b, c], [d, e, f], [g, h, i]) = (self.corner, self.right, self.down);
        [a + d * x + g * y, b + e * x + h * y, c + f * x + i * y]
    }

    /// The corners of the row of pixels that begins at `x`, `y`, with their lowest and highest rise.
    fn corners(&self, x: usize, y: usize) -> ([[f32; 3]; 4], [f32; 2]) {
        let (left, top) = (x as f32, y as f32);
        let ends = [[0.0, 0.0], [ROW as f32, 0.0], [0.0, 1.0], [ROW as f32, 1.0]];
        let corners = ends.map(|[dx, dy]| self.ray(left + dx, top + dy));
        let range = corners.iter().fold([f32::INFINITY, f32::NEG_INFINITY], |[low, high], corner| {
            [low.min(corner[1]), high.max(corner[1])]
        });
        (corners, range)
    }

    /// Whether the horizon is so near to a row of this highest rise that between [`Nodes`] planes bend too much: in a view that is tilted to a side.
    fn bends(&self, high: f32) -> bool {
        self.right[1].abs() * STEP as f32 > high * -0.1
    }

    /// What a row with this lowest and highest rise shows; `None` if the horizon crosses the row or bends its planes.
    fn half(&self, [low, high]: [f32; 2]) -> Option<Half> {
        if low > 0.0 || (self.ground.is_none() && self.water.is_none()) {
            return Some(Half::Upper);
        }
        (high < 0.0 && !self.bends(high)).then_some(Half::Lower)
    }

    /// Paints the light of the row of pixels that begins at `x`, `y`: those `open`, with others beside them. Without the sunlight on the ground, which
    /// goes into `sun` where there is any; `None` if the horizon crosses the row.
    pub(super) fn light(
        &self,
        level: frolic_simd::Level,
        [x, y]: [usize; 2],
        open: u64,
        light: &mut Row,
        sun: &mut Row,
    ) -> Option<Sunny> {
        let (corners, [low, high]) = self.corners(x, y);
        if self.half([low, high])? == Half::Upper {
            // At the horizon a sky without mist turns within a pixel, and in a small picture nodes are far apart.
            let smooth = (self.sky.soft > 0.0 || low >= 0.0 || high <= 0.0) && self.focal > 400.0;
            let coast = self.coast_at(&corners, [low, high]);
            upper(level, self, [x, y], coast, smooth, open, light);
            return Some(Sunny::No);
        }
        let shore = self.shore(&corners);
        lower(level, self, [x, y], shore, open, light, sun);
        Some(if self.sun.is_none() || shore == Shore::Beyond { Sunny::No } else { Sunny::Yes })
    }

    /// Depths along the view of solid parts in the row of pixels that begins at `x`, `y`, in metres, and the least of them; infinite in the sky. `None`
    /// if the horizon crosses the row.
    pub(super) fn depths(
        &self,
        level: frolic_simd::Level,
        [x, y]: [usize; 2],
        into: &mut [f32; STRIDE],
    ) -> Option<f32> {
        let (corners, range) = self.corners(x, y);
        if self.half(range)? == Half::Upper {
            into.fill(f32::INFINITY);
            return Some(f32::INFINITY);
        }
        Some(depths(level, self, [x, y], self.shore(&corners), into))
    }

    /// Whether a row lies above the outline of the coast, given its corners and their lowest and highest rise.
    fn coast_at(&self, corners: &[[f32; 3]; 4], [low, high]: [f32; 2]) -> Outline {
        let Some(coast) = self.coast else { return Outline::Above };
        let long = corners.iter().map(|it| Vec3::from(*it).length()).fold(0.0, f32::max);
        if low > long * coast.height * COAST_MOST {
            return Outline::Above;
        }
        let [least, most] = Outlines::shared().coast_range(corners).map(|height| height * coast.height);
        // No ray of the row is longer than those of its corners, or shorter by more than the row is long.
        let short = long - (ROW + 1) as f32;
        if low > 0.0 && low / long > most {
            Outline::Above
        } else if short > 0.0 && high / if high > 0.0 { short } else { long } < least {
            Outline::Below
        } else {
            Outline::Across
        }
    }

    /// On which side of the shore the corners of a row lie, with all that is between them.
    fn shore(&self, corners: &[[f32; 3]; 4]) -> Shore {
        let Some(ground) = &self.ground else { return Shore::Beyond };
        let [ex, ey, ez] = self.eye;
        let at = corners.map(|[x, y, z]| [ex - x * ey / y, 0.0, ez - z * ey / y]);
        let farthest = at.iter().map(|[x, _, z]| x * x + z * z).fold(0.0, f32::max).sqrt();
        let near = |axis: usize| {
            let (low, high) = at.iter().fold((f32::INFINITY, f32::NEG_INFINITY), |(low, high), at| {
                (low.min(at[axis]), high.max(at[axis]))
            });
            low.max(-high).max(0.0)
        };
        let nearest = (near(0).powi(2) + near(2).powi(2)).sqrt();
        // Around the middle there is ground in all directions.
        let [low, high] =
            if nearest > 0.0 { Outlines::shared().shore_range(&at) } else { [-SHORE_MOST, SHORE_MOST] };
        if farthest < ground.radius * (1.0 + low - SHORE_ROUGH) {
            Shore::Ashore
        } else if nearest > ground.radius * (1.0 + high + SHORE_ROUGH) {
            Shore::Beyond
        } else {
            Shore::Across
        }
    }
}

/// What a row shows: sky and coast, or ground and what is beyond its shore.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Half {
    Upper,
    Lower,
}

/// Whether sunlight falls on the ground in a row.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Sunny {
    No,
    Yes,
}

/// Where the pixels of a row lie, seen from the coast's outline.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Outline {
    Above,
    Across,
    Below,
}

/// Where the pixels of a row lie.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Shore {
    Ashore,
    Across,
    Beyond,
}

kernel! {
    /// Sky and coast.
    fn upper(simd, it: &Lanes<'_>, at: [usize; 2], coast: Outline, smooth: bool, open: u64, light: &mut Row) {
        let [x, y] = at.map(|it| it as f32);
        if !(smooth && it.sky_between(simd, x, y, light)) {
            for from in (0..ROW).step_by(WIDE) {
                if is_closed(open, from) {
                    continue;
                }
                let way = it.middle(simd, x + from as f32, y);
                put(light, from, it.sky_and_sun(simd, &way));
            }
        }
        if coast != Outline::Below {
            for star in it.stars.row(at[0], at[1]) {
                add_star(simd, star, [x, y], light);
            }
        }
        if coast != Outline::Above {
            for from in (0..ROW).step_by(WIDE) {
                if is_closed(open, from) {
                    continue;
                }
                let left = x + from as f32;
                let way = it.middle(simd, left, y);
                let mut behind = way;
                for channel in 0..3 {
                    behind[channel] = f32x8::from_slice(simd, &light[channel][from..from + WIDE]);
                }
                put(light, from, it.coast_over(simd, left, y, &way, coast, behind));
            }
        }
    }

    /// Ground, and water, coast or sky beyond its shore.
    fn lower(simd, it: &Lanes<'_>, at: [usize; 2], shore: Shore, open: u64, into: &mut Row, into_sun: &mut Row) {
        let at = at.map(|it| it as f32);
        let mut share = [if shore == Shore::Ashore { 1.0 } else { 0.0 }; ROW];
        let (mut dry, mut beyond) = if shore == Shore::Ashore { (open, 0) } else { (0, open) };
        if let (Shore::Across, Some(ground)) = (shore, &it.ground) {
            (dry, beyond) = it.ashore(simd, ground, at, open, &mut share);
        }
        match &it.water {
            _ if beyond == 0 => {}
            Some(water) => it.water(simd, water, at, beyond, into),
            None => it.sky_beyond(simd, at, beyond, into),
        }
        if it.sun.is_some() && dry != u64::MAX {
            into_sun.iter_mut().for_each(|line| line.fill(0.0));
        }
        if dry != 0 {
            it.ground(simd, at, dry, &share, into, into_sun);
        }
    }

    /// Depths of ground and water, and the least of them.
    fn depths(simd, it: &Lanes<'_>, at: [usize; 2], shore: Shore, into: &mut [f32; STRIDE]) -> f32 {
        let ([x, y], zero) = (at.map(|it| it as f32), f32x8::splat(simd, 0.0));
        let infinite = f32x8::splat(simd, f32::INFINITY);
        let mut least = infinite;
        for from in (0..ROW).step_by(WIDE) {
            let left = x + from as f32;
            let rise = it.rays(simd, left + 0.5, y + 0.5)[1];
            // Along the view a ray is as long as the focal length.
            let per_rise = f32x8::splat(simd, it.focal) / rise;
            let mut depth = infinite;
            if let Some(water) = &it.water {
                depth = per_rise * (water.level - it.eye[1]);
            }
            if it.ground.is_some() {
                let share = match (shore, &it.ground) {
                    (Shore::Across, Some(ground)) => it.ashore_of(simd, ground, left, y),
                    (Shore::Ashore, _) => zero + 1.0,
                    _ => zero,
                };
                let ground = per_rise * -it.eye[1];
                depth = share.simd_gt(zero).select(depth.min(ground), depth);
                depth = share.simd_ge(zero + 1.0).select(ground, depth);
            }
            into[from..from + WIDE].copy_from_slice(&depth.to_array());
            least = least.min(depth);
        }
        least.reduce_min()
    }
}

/// Whether none of the pixels worked on together from here on is open.
#[inline(always)]
fn is_closed(open: u64, from: usize) -> bool {
    (open >> from) & 0xff == 0
}

/// Pixels that are worked on at a time.
const WIDE: usize = 8;

/// Three numbers for each of these pixels.
type Three<S> = [f32x8<S>; 3];

#[inline(always)]
fn put<S: Simd>(lines: &mut Row, from: usize, values: Three<S>) {
    for channel in 0..3 {
        lines[channel][from..from + WIDE].copy_from_slice(&values[channel].to_array());
    }
}

#[inline(always)]
fn keep<S: Simd>(line: &mut [f32; ROW], from: usize, values: f32x8<S>) {
    line[from..from + WIDE].copy_from_slice(&values.to_array());
}

#[inline(always)]
fn kept<S: Simd>(simd: S, line: &[f32; ROW], from: usize) -> f32x8<S> {
    f32x8::from_slice(simd, &line[from..from + WIDE])
}

#[inline(always)]
fn three<S: Simd>(simd: S, [x, y, z]: [f32; 3]) -> Three<S> {
    [f32x8::splat(simd, x), f32x8::splat(simd, y), f32x8::splat(simd, z)]
}

impl Lanes<'_> {
    /// Rays through places of the pixels from `x`, `y` on, as [`Lanes::ray`].
    #[inline(always)]
    fn rays<S: Simd>(&self, simd: S, x: f32, y: f32) -> Three<S> {
        self.rays_at(f32x8::load_array(simd, [0.0, 1.0, 2.0, 3.0, 4.0, 5.0, 6.0, 7.0]) + x, y)
    }

    /// Rays through places `across` of row `y`.
    #[inline(always)]
    fn rays_at<S: Simd>(&self, across: f32x8<S>, y: f32) -> Three<S> {
        let ([a, b, c], [d, e, f], [g, h, i]) = (self.corner, self.right, self.down);
        [across * d + (a + g * y), across * e + (b + h * y), across * f + (c + i * y)]
    }

    /// Directions of unit length through the middles of pixels.
    #[inline(always)]
    fn middle<S: Simd>(&self, simd: S, x: f32, y: f32) -> Three<S> {
        unit_ways(simd, &self.rays(simd, x + 0.5, y + 0.5)).0
    }
}

/// Directions of unit length along rays, and 1 over the length of each.
#[inline(always)]
fn unit_ways<S: Simd>(simd: S, rays: &Three<S>) -> (Three<S>, f32x8<S>) {
    let [a, b, c] = *rays;
    let inverse = f32x8::splat(simd, 1.0) / (a * a + b * b + c * c).sqrt();
    ([a * inverse, b * inverse, c * inverse], inverse)
}

/// 1 over the length of a direction along the horizon.
#[inline(always)]
fn level_of<S: Simd>(simd: S, x: f32x8<S>, z: f32x8<S>) -> f32x8<S> {
    f32x8::splat(simd, 1.0) / (x * x + z * z).sqrt().max(f32x8::splat(simd, 1e-9))
}

#[inline(always)]
fn square<S: Simd>(x: f32x8<S>) -> f32x8<S> {
    x * x
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::backdrop::{BackdropSpec, GroundSpec, WaterSpec};
    use crate::camera::CameraSpec;
    use crate::colour::Colour;
    use crate::image::ImageSize;
    use crate::lamps::{LightSpec, SunSpec};

    prop_compose! {
        fn any_backdrop()(
            level in prop::option::of(-3f32..0.0), radius in prop::option::of(5f32..400.0), coast in 0f32..6.0, soft in 0f32..20.0,
            haze in 20f32..9e3, waves in 0f32..0.3, afterglow in 0f32..0.6, mottled in 0f32..1.0,
        ) -> BackdropSpec {
            let mut spec = BackdropSpec::default();
            (spec.sky.coast_degrees, spec.sky.soft_degrees) = (if coast < 2.0 { 0.0 } else { coast }, soft);
            spec.sky.haze = haze;
            (spec.sky.afterglow, spec.sky.afterglow_degrees) = (Colour::new(afterglow, afterglow * 0.5, 0.1), 70.0);
            spec.water = level.map(|level| {
                let mut water = WaterSpec::default();
                (water.level, water.waves) = (level, waves);
                water
            });
            spec.ground = radius.map(|radius| {
                let mut ground = GroundSpec::default();
                (ground.radius, ground.mottled) = (radius, mottled);
                ground
            });
            spec
        }
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(64))]

        /// Rows are what the painter of single pixels gives, on every instruction set to the bit; outlines differ at their edges alone.
        #[test]
        fn rows_are_those_of_pixels(
            spec in any_backdrop(), eye in (-20f32..20.0, 0.2f32..30.0, -20f32..20.0), target in (-1f32..1.0, -0.6f32..0.6),
            sunny in any::<bool>(), lamp in any::<bool>(),
        ) {
            let position = [eye.0, eye.1, eye.2];
            let camera = CameraSpec::new(position, [eye.0 + target.0, eye.1 + target.1, eye.2 - 1.0], 50.0);
            let view = camera.view(ImageSize::new(128, 96).unwrap()).unwrap();
            let sun = SunSpec::new(20.0, 30.0, Colour::new(1.0, 0.9, 0.7), 2.0);
            let lights = [LightSpec::new([1.0, 2.0, -6.0], Colour::new(1.0, 0.5, 0.2), 4.0)];
            let lights = if lamp { &lights[..] } else { &[] };
            let painter = Painter::new(&view, &spec, lights, sunny.then_some(&sun));
            let stars = SeenStars::default();
            let lanes = Lanes::new(&painter, &stars);
            let (mut off, mut all) = (0, 0);
            for y in 0..96 {
                for x in [0, 64] {
                    let dark = [[0.0; STRIDE]; 3];
                    let rows: Vec<_> = frolic_simd::levels().into_iter().map(|level| {
                        let (mut light, mut sun, mut depth) = (dark, dark, [0.0; STRIDE]);
                        let sunny = lanes.light(level, [x, y], u64::MAX, &mut light, &mut sun);
                        let least = lanes.depths(level, [x, y], &mut depth);
                        assert_eq!(least.is_some(), sunny.is_some());
                        assert!(sunny != Some(Sunny::No) || sun.iter().flatten().all(|it| *it == 0.0));
                        sunny.map(|_| (light, sun, depth, least))
                    }).collect();
                    let Some((light_row, sun_row, depth_row, least)) = &rows[0] else { continue };
                    let bits = |(light, sun, depth, _): &(Row, Row, [f32; STRIDE], Option<f32>)| {
                        light.iter().chain(sun).flatten().chain(depth).map(|it| it.to_bits()).collect::<Vec<_>>()
                    };
                    prop_assert!(rows.iter().all(|other| other.as_ref().is_some_and(|other| Some(bits(other)) == rows[0].as_ref().map(bits))));
                    prop_assert_eq!(*least, depth_row[..ROW].iter().copied().reduce(f32::min));
                    for i in 0..ROW {
                        let ((light, sunlit), depth) = (painter.light(x + i, y), painter.depth(x + i, y));
                        let near = |a: f32, b: f32| (a - b).abs() <= 0.004 + b.abs() * 0.004 || a == b;
                        let same = (0..3).all(|c| near(light_row[c][i], light[c]) && near(sun_row[c][i], sunlit[c]))
                            && (near(depth_row[i], depth) || (depth_row[i] - depth).abs() < depth * 0.01);
                        all += 1;
                        off += usize::from(!same);
                    }
                }
            }
            prop_assert!(off * 100 <= all.max(1) * 3, "{off} of {all}");
        }
    }
}
