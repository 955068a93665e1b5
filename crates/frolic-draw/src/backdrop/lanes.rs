//! Rows of sky, ground and water, pixel beside pixel, in loops that are vectorised.
//!
//! A row above the horizon has sky and coast, one below has ground and what is beyond its shore. Both are computed for the ray through the middle of
//! each pixel; only outlines take four rays. The few rows that the horizon crosses are left to [`Painter`], whose results these agree with.

use fearless_simd::prelude::*;
use fearless_simd::{f32x8, i32x8, u32x8};
use frolic_raster::tile::{Row, STRIDE};
use frolic_simd::{Simd, kernel};
use glam::Vec3;
use smallvec::SmallVec;

use super::lattice::{
    Lattice, MOTTLING, Octave, RIPPLES, ROUND, SHORE, SHORE_ROUGH, cell_of_lanes, straight, sum_of_lanes,
    whole,
};
use super::outline::{COAST_MOST, Outlines, SHORE_MOST};
use super::painter::{Painter, RAYS};
use super::stars::{PER_SQUARE, SeenStar, SeenStars};

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
struct SkyLight {
    zenith: [f32; 3],
    horizon: [f32; 3],
    afterglow: [f32; 3],
    way: [f32; 2],
    soft: f32,
    /// Light at the horizon without the afterglow, and the afterglow's share there.
    level: [f32; 3],
    level_glow: f32,
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

    /// Whether a row with this range of rises has nothing but sky and coast.
    fn is_upper(&self, [low, _]: [f32; 2]) -> bool {
        low > 0.0 || (self.ground.is_none() && self.water.is_none())
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
        if self.is_upper([low, high]) {
            // At the horizon a sky without mist turns within a pixel, and in a small picture nodes are far apart.
            let smooth = (self.sky.soft > 0.0 || low >= 0.0 || high <= 0.0) && self.focal > 400.0;
            let coast = self.coast_at(&corners, [low, high]);
            upper(level, self, [x, y], coast, smooth, open, light);
            return Some(Sunny::No);
        }
        if high >= 0.0 || self.bends(high) {
            return None;
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
        if self.is_upper(range) {
            into.fill(f32::INFINITY);
            return Some(f32::INFINITY);
        }
        if range[1] >= 0.0 || self.bends(range[1]) {
            return None;
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
                let way = it.middle(simd, x + from as f32, y).0;
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
                let way = it.middle(simd, left, y).0;
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
        if let (Some(ground), true) = (&it.ground, dry != 0) {
            it.ground(simd, ground, at, dry, &share, into, into_sun);
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

/// Whether none of the open pixels needs those that [`Spot::of`] has here.
#[inline(always)]
fn is_unused(open: u64, from: usize, every_second: bool) -> bool {
    if !every_second {
        return is_closed(open, from);
    }
    // Sixteen pixels, and the one before, which lies between two.
    let all = u128::from(open) << 1;
    (all >> (2 * from)) & 0x1_ffff == 0
}

/// Whether none of the pixels worked on together from here on is open.
#[inline(always)]
fn is_closed(open: u64, from: usize) -> bool {
    (open >> from) & 0xff == 0
}

/// Pixels between [`Nodes`].
const STEP: usize = 16;

/// Values at every sixteenth pixel of a row, between which they are as good as straight.
struct Nodes<const COUNT: usize>([[f32; WIDE]; COUNT]);

/// Places of nodes in a row.
#[inline(always)]
fn nodes<S: Simd>(simd: S) -> f32x8<S> {
    f32x8::load_array(simd, [0.0, 1.0, 2.0, 3.0, 4.0, 4.0, 4.0, 4.0]) * STEP as f32
}

/// Eight pixels of a row between two [`Nodes`].
#[derive(Clone, Copy)]
struct Spot<S: Simd> {
    nth: usize,
    /// Pixels after that node.
    offset: f32x8<S>,
    /// Pixels after the first of the row.
    across: f32x8<S>,
}

impl<S: Simd> Spot<S> {
    /// Pixels from `from` on, a multiple of eight; or every second one from `2 * from` on.
    #[inline(always)]
    fn of(simd: S, from: usize, every_second: bool) -> Self {
        let lanes = f32x8::load_array(simd, [0.0, 1.0, 2.0, 3.0, 4.0, 5.0, 6.0, 7.0]);
        let (first, lanes) = if every_second { (2 * from, lanes * 2.0) } else { (from, lanes) };
        Self { nth: first / STEP, offset: lanes + (first % STEP) as f32, across: lanes + first as f32 }
    }
}

impl<const COUNT: usize> Nodes<COUNT> {
    #[inline(always)]
    fn at<S: Simd>(&self, spot: Spot<S>, which: usize) -> f32x8<S> {
        let [a, b] = [self.0[which][spot.nth], self.0[which][spot.nth + 1]];
        spot.offset * ((b - a) * (1.0 / STEP as f32)) + a
    }
}

/// The longest step between the values of nodes.
#[inline(always)]
fn longest(nodes: &[f32; WIDE]) -> f32 {
    let mut longest = 0.0f32;
    for nth in 0..ROW / STEP {
        longest = longest.max((nodes[nth + 1] - nodes[nth]).abs());
    }
    longest
}

/// A row on a plane. Its nodes: how many rays long it is to the plane, size of two pixels across and of half a pixel along, the haze's
/// transmittance and its light.
struct Plane(Nodes<7>);

impl Plane {
    /// Sizes on the plane in metres: of two pixels across, and of half a pixel along.
    #[inline(always)]
    fn sizes<S: Simd>(&self, spot: Spot<S>) -> [f32x8<S>; 2] {
        [self.0.at(spot, 1), self.0.at(spot, 2)]
    }

    /// Light through the haze.
    #[inline(always)]
    fn hazed<S: Simd>(&self, spot: Spot<S>, light: Three<S>) -> Three<S> {
        let clear = self.clear(spot);
        let mut hazed = light;
        for channel in 0..3 {
            let haze = self.0.at(spot, 4 + channel);
            hazed[channel] = haze + (light[channel] - haze) * clear;
        }
        hazed
    }

    #[inline(always)]
    fn clear<S: Simd>(&self, spot: Spot<S>) -> f32x8<S> {
        self.0.at(spot, 3)
    }
}

/// Error of the water's slope that is not seen: the light that it reflects changes by less than a step of colour.
const SLOPE_OFF: f32 = 0.006;

/// Cosine of the angle to the sun within which its glare bends too much to be drawn as straight pieces.
const NEAR_SUN: f32 = 0.95;

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

    /// Directions of unit length through the middles of pixels, and 1 over the length of each ray.
    #[inline(always)]
    fn middle<S: Simd>(&self, simd: S, x: f32, y: f32) -> (Three<S>, f32x8<S>) {
        unit_ways(simd, &self.rays(simd, x + 0.5, y + 0.5))
    }

    /// Paints a row of sky between [`Nodes`]. `false` near the sun, where it bends too much.
    #[inline(always)]
    fn sky_between<S: Simd>(&self, simd: S, x: f32, y: f32, light: &mut Row) -> bool {
        let way = unit_ways(simd, &self.rays_at(nodes(simd) + (x + 0.5), y + 0.5)).0;
        if let Some(sun) = self.sun {
            let [tx, ty, tz] = sun.towards;
            if (way[0] * tx + way[1] * ty + way[2] * tz).reduce_max() > NEAR_SUN {
                return false;
            }
        }
        let [r, g, b] = self.sky_and_sun(simd, &way);
        let sky = Nodes([r.to_array(), g.to_array(), b.to_array()]);
        for from in (0..ROW).step_by(WIDE) {
            let spot = Spot::of(simd, from, false);
            put(light, from, [sky.at(spot, 0), sky.at(spot, 1), sky.at(spot, 2)]);
        }
        true
    }

    /// What rays down to a plane have in common between [`Nodes`].
    #[inline(always)]
    fn plane<S: Simd>(&self, simd: S, [x, y]: [f32; 2], level: f32) -> Plane {
        let rays = self.rays_at(nodes(simd) + (x + 0.5), y + 0.5);
        let ([wx, wy, wz], per_ray) = unit_ways(simd, &rays);
        let reach = f32x8::splat(simd, level - self.eye[1]) / rays[1];
        let far = reach / per_ray;
        let clear = exp(simd, far * -self.haze);
        let [r, g, b] = self.haze_of(simd, wx, wz);
        let slant = (wy * -1.0).max(f32x8::splat(simd, 0.01));
        let size = far * (2.0 / self.focal);
        let values = [reach, size, size * 0.25 / slant, clear, r, g, b];
        let mut nodes = [[0.0; WIDE]; 7];
        for (nodes, values) in nodes.iter_mut().zip(values) {
            *nodes = values.to_array();
        }
        Plane(Nodes(nodes))
    }

    #[inline(always)]
    fn sky_and_sun<S: Simd>(&self, simd: S, way: &Three<S>) -> Three<S> {
        let [x, y, z] = *way;
        let [mut r, mut g, mut b] = self.sky.light(simd, x, y, z);
        if let Some(sun) = self.sun {
            let [tx, ty, tz] = sun.towards;
            let along = x * tx + y * ty + z * tz;
            // Far from the sun powers would be denormal, which is slow.
            let near = along.max(f32x8::splat(simd, 0.05));
            let n4 = square(square(near));
            let n24 = square(square(n4)) * square(n4);
            let near = along.max(f32x8::splat(simd, 0.92));
            let n4 = square(square(near));
            let n128 = square(square(square(square(square(n4)))));
            let n256 = square(n128);
            let share = square(n256) * n256 * n128 * n4 * 6.0 + n24 * 0.10;
            let [lr, lg, lb] = sun.light;
            (r, g, b) = (r + share * lr, g + share * lg, b + share * lb);
        }
        [r, g, b]
    }

    /// Draws the coast over the sky, by four rays a pixel.
    #[inline(always)]
    fn coast_over<S: Simd>(
        &self,
        simd: S,
        x: f32,
        y: f32,
        way: &Three<S>,
        outline: Outline,
        behind: Three<S>,
    ) -> Three<S> {
        let Some(coast) = self.coast else { return behind };
        let mut share = [1.0f32; WIDE];
        if outline == Outline::Across {
            share = self.below_outline(simd, coast, x, y);
            if share == [0.0; WIDE] {
                return behind;
            }
        }
        let share = f32x8::load_array(simd, share);
        let [wx, wy, wz] = *way;
        let [sr, sg, sb] = self.sky.light(simd, wx, wy, wz);
        let hills = match self.sun {
            None => [sr * 0.42, sg * 0.42, sb * 0.42],
            Some(sun) => {
                let level = level_of(simd, wx, wz) * 60.0;
                let rough = fractal::<S, 4>(simd, [wx * level, wy * 90.0, wz * level]);
                let lit = (rough * 0.3 + 0.35).max(f32x8::splat(simd, 0.05));
                let mut hills = [sr, sg, sb];
                for channel in 0..3 {
                    let sky = hills[channel];
                    let lit = (lit * sun.light[channel] + self.ambient[channel]) * coast.colour[channel];
                    hills[channel] = sky + (lit - sky) * 0.55;
                }
                hills
            }
        };
        let rest = f32x8::splat(simd, 1.0) - share;
        let [r, g, b] = behind;
        let [hr, hg, hb] = hills;
        [r * rest + hr * share, g * rest + hg * share, b * rest + hb * share]
    }

    /// Share of each pixel that lies below the outline of the coast, by four rays.
    #[inline(always)]
    fn below_outline<S: Simd>(&self, simd: S, coast: Coast, x: f32, y: f32) -> [f32; WIDE] {
        let outlines = Outlines::shared();
        let mut share = [0.0f32; WIDE];
        for [dx, dy] in RAYS {
            let [a, b, c] = self.rays(simd, x + dx, y + dy);
            let up = (b / (a * a + b * b + c * c).sqrt()).to_array();
            let (a, c) = (a.to_array(), c.to_array());
            for i in 0..WIDE {
                share[i] += if up[i] < outlines.coast(a[i], c[i]) * coast.height { 0.25 } else { 0.0 };
            }
        }
        share
    }

    /// Sky and coast of a row below the horizon without water.
    #[inline(always)]
    fn sky_beyond<S: Simd>(&self, simd: S, [x, y]: [f32; 2], open: u64, into: &mut Row) {
        for from in (0..ROW).step_by(WIDE) {
            if is_closed(open, from) {
                continue;
            }
            let left = x + from as f32;
            let way = self.middle(simd, left, y).0;
            let sky = self.sky_and_sun(simd, &way);
            put(into, from, self.coast_over(simd, left, y, &way, Outline::Across, sky));
        }
    }

    /// Share of the ground in each pixel of a row across the shore; returns those of the open pixels that have ground, and those that have anything else, by groups.
    #[inline(always)]
    fn ashore<S: Simd>(
        &self,
        simd: S,
        ground: &GroundLight,
        [x, y]: [f32; 2],
        open: u64,
        into: &mut [f32; ROW],
    ) -> (u64, u64) {
        let (mut dry, mut beyond) = (0, 0);
        for from in (0..ROW).step_by(WIDE) {
            if is_closed(open, from) {
                continue;
            }
            let share = self.ashore_of(simd, ground, x + from as f32, y);
            into[from..from + WIDE].copy_from_slice(&share.to_array());
            dry |= if share.reduce_max() > 0.0 { 0xff << from } else { 0 };
            beyond |= if share.reduce_min() < 1.0 { 0xff << from } else { 0 };
        }
        (dry, beyond)
    }

    /// Share of each pixel that lies within the shore, by four rays.
    #[inline(always)]
    fn ashore_of<S: Simd>(&self, simd: S, ground: &GroundLight, x: f32, y: f32) -> f32x8<S> {
        let outlines = Outlines::shared();
        let [ex, ey, ez] = self.eye;
        let [a, b, c] = self.rays(simd, x + 0.5, y + 0.5);
        let t = f32x8::splat(simd, -ey) / b;
        let zero = f32x8::splat(simd, 0.0);
        let rough = sum_of_lanes(simd, self.lattice, (&SHORE, 0, SHORE.len()), a * t + ex, c * t + ez, zero);
        let rough = (rough * SHORE_ROUGH).to_array();
        let mut share = [0.0f32; WIDE];
        for [dx, dy] in RAYS {
            let [a, b, c] = self.rays(simd, x + dx, y + dy);
            let t = f32x8::splat(simd, -ey) / b;
            let (px, pz) = (a * t + ex, c * t + ez);
            let far = ((px * px + pz * pz).sqrt() * (1.0 / ground.radius)).to_array();
            let (px, pz) = (px.to_array(), pz.to_array());
            for i in 0..WIDE {
                let edge = 1.0 + outlines.shore(px[i], pz[i]) + rough[i];
                share[i] += if far[i] < edge { 0.25 } else { 0.0 };
            }
        }
        f32x8::load_array(simd, share)
    }

    /// Paints ground over a row by its share of each pixel, and sunlight on it.
    #[inline(always)]
    fn ground<S: Simd>(
        &self,
        simd: S,
        ground: &GroundLight,
        at: [f32; 2],
        open: u64,
        share: &[f32; ROW],
        into: &mut Row,
        into_sun: &mut Row,
    ) {
        let plane = self.plane(simd, at, 0.0);
        let one = f32x8::splat(simd, 1.0);
        // Coarse octaves are worked out at nodes alone.
        let ([px, pz], size) =
            (self.places_of_nodes(simd, &plane, at), f32x8::load_array(simd, plane.0.0[1]));
        let first = straight(&MOTTLING, longest(&px).max(longest(&pz)));
        let (px, pz) = (f32x8::load_array(simd, px), f32x8::load_array(simd, pz));
        let coarse = sum_of_lanes(simd, self.lattice, (&MOTTLING, 0, first), px, pz, size);
        let coarse = Nodes([coarse.to_array()]);
        // In two loops, as short ones overlap.
        let (mut places, mut tones) = ([[0.0; ROW]; 2], [0.0; ROW]);
        for from in (0..ROW).step_by(WIDE) {
            if is_closed(open, from) {
                continue;
            }
            let spot = Spot::of(simd, from, false);
            let [px, pz] = self.place(&plane, at, spot);
            let size = plane.sizes(spot)[0];
            let patches = coarse.at(spot, 0)
                + sum_of_lanes(simd, self.lattice, (&MOTTLING, first, MOTTLING.len()), px, pz, size);
            let tone = (patches * ground.mottled + 1.0).max(f32x8::splat(simd, 0.08));
            keep(&mut tones, from, tone);
            keep(&mut places[0], from, px);
            keep(&mut places[1], from, pz);
        }
        for from in (0..ROW).step_by(WIDE) {
            if is_closed(open, from) {
                continue;
            }
            let spot = Spot::of(simd, from, false);
            let [px, pz] = [kept(simd, &places[0], from), kept(simd, &places[1], from)];
            let mut lit = three(simd, self.ambient);
            for lamp in &self.lamps {
                let [lx, ly, lz] = lamp.position;
                let (dx, dz) = (f32x8::splat(simd, lx) - px, f32x8::splat(simd, lz) - pz);
                let off = dx * dx + dz * dz + ly * ly;
                let height = f32x8::splat(simd, ly.max(0.0));
                let facing = height / off.sqrt().max(f32x8::splat(simd, 1e-3));
                let light = f32x8::splat(simd, lamp.power) / (off + lamp.square) * facing;
                for channel in 0..3 {
                    lit[channel] += light * lamp.colour[channel];
                }
            }
            let (tone, share) = (kept(simd, &tones, from), kept(simd, share, from));
            let albedo = [tone * ground.colour[0], tone * ground.colour[1], tone * ground.colour[2]];
            let own = plane.hazed(spot, [albedo[0] * lit[0], albedo[1] * lit[1], albedo[2] * lit[2]]);
            for channel in 0..3 {
                let under = f32x8::from_slice(simd, &into[channel][from..from + WIDE]);
                let light = under * (one - share) + own[channel] * share;
                into[channel][from..from + WIDE].copy_from_slice(&light.to_array());
            }
            if let Some(sun) = &self.sun {
                let clear = plane.clear(spot) * share;
                let mut sunlit = albedo;
                for channel in 0..3 {
                    sunlit[channel] = albedo[channel] * clear * (sun.light[channel] * sun.towards[1]);
                }
                put(into_sun, from, sunlit);
            }
        }
    }

    /// Where rays meet a plane: x and z.
    #[inline(always)]
    fn place<S: Simd>(&self, plane: &Plane, [x, y]: [f32; 2], spot: Spot<S>) -> [f32x8<S>; 2] {
        let [a, _, c] = self.rays_at(spot.across + (x + 0.5), y + 0.5);
        let reach = plane.0.at(spot, 0);
        [a * reach + self.eye[0], c * reach + self.eye[2]]
    }

    /// Where rays of [`Nodes`] meet a plane.
    #[inline(always)]
    fn places_of_nodes<S: Simd>(&self, simd: S, plane: &Plane, [x, y]: [f32; 2]) -> [[f32; WIDE]; 2] {
        let [a, _, c] = self.rays_at(nodes(simd) + (x + 0.5), y + 0.5);
        let reach = f32x8::load_array(simd, plane.0.0[0]);
        [(a * reach + self.eye[0]).to_array(), (c * reach + self.eye[2]).to_array()]
    }

    /// Adds to a slope of the water that of ripples from `first` up to `last`.
    #[inline(always)]
    fn ripple<S: Simd>(
        &self,
        simd: S,
        waves: f32,
        (first, last): (usize, usize),
        [px, pz]: [f32x8<S>; 2],
        size: f32x8<S>,
        slope: [f32x8<S>; 2],
    ) -> [f32x8<S>; 2] {
        let finest = size.reduce_min();
        let [mut nx, mut nz] = slope;
        for Octave { scale, weight } in &RIPPLES[first..last] {
            if finest * scale >= 1.0 {
                break;
            }
            let fade = (size * -scale + 1.0).max(size * 0.0) * (weight * waves);
            let [a, c] = self.lattice.lanes(simd, px * *scale, pz * (scale * 2.0));
            (nx, nz) = (nx + a * fade, nz + c * fade);
        }
        [nx, nz]
    }

    /// Paints water: where all ripples are wide, every second pixel, and those between from both beside.
    #[inline(always)]
    fn water<S: Simd>(&self, simd: S, water: &WaterLight, at: [f32; 2], open: u64, into: &mut Row) {
        let plane = self.plane(simd, at, water.level);
        // Coarse ripples are worked out at nodes alone.
        let [px, pz] = self.places_of_nodes(simd, &plane, at);
        let (size, zero) = (f32x8::load_array(simd, plane.0.0[2]), f32x8::splat(simd, 0.0));
        let (step, finest) = (longest(&px).max(longest(&pz) * 2.0), size.reduce_min());
        let first = straight(&RIPPLES, step);
        let places = [f32x8::load_array(simd, px), f32x8::load_array(simd, pz)];
        let [nx, nz] = self.ripple(simd, water.waves, (0, first), places, size, [zero; 2]);
        let coarse = Nodes([nx.to_array(), nz.to_array()]);
        let mut every_second = self.focal > 400.0;
        for ripple in &RIPPLES {
            // Between two pixels a ripple is off by about the square of its share of a cell, times its slope.
            let share = ripple.scale * step * (2.0 / STEP as f32);
            let is_wide = share < 1.0 && share * share * ripple.weight * water.waves < SLOPE_OFF;
            every_second &= is_wide || finest * ripple.scale >= 1.0;
        }
        // In loops of their own, as short ones overlap.
        let end = if every_second { ROW / 2 + WIDE } else { ROW };
        let (mut places, mut slopes) = ([[0.0; ROW]; 2], [[0.0; ROW]; 2]);
        for from in (0..end).step_by(WIDE) {
            if is_unused(open, from, every_second) {
                continue;
            }
            let spot = Spot::of(simd, from, every_second);
            let [px, pz] = self.place(&plane, at, spot);
            let slope = [coarse.at(spot, 0), coarse.at(spot, 1)];
            let (finer, size) = ((first, RIPPLES.len()), plane.sizes(spot)[1]);
            let [nx, nz] = self.ripple(simd, water.waves, finer, [px, pz], size, slope);
            keep(&mut slopes[0], from, nx);
            keep(&mut slopes[1], from, nz);
            keep(&mut places[0], from, px);
            keep(&mut places[1], from, pz);
        }
        let mut half = [[0.0; ROW]; 3];
        for from in (0..end).step_by(WIDE) {
            if is_unused(open, from, every_second) {
                continue;
            }
            let spot = Spot::of(simd, from, every_second);
            let slope = [kept(simd, &slopes[0], from), kept(simd, &slopes[1], from)];
            let place = [kept(simd, &places[0], from), kept(simd, &places[1], from)];
            // Exact, as the sun's glitter is narrow.
            let way = unit_ways(simd, &self.rays_at(spot.across + (at[0] + 0.5), at[1] + 0.5)).0;
            let light = plane.hazed(spot, self.reflected(simd, water, &way, place, slope));
            if every_second {
                for channel in 0..3 {
                    keep(&mut half[channel], from, light[channel]);
                }
            } else {
                put(into, from, light);
            }
        }
        if !every_second {
            return;
        }
        for from in (0..ROW).step_by(WIDE) {
            if is_closed(open, from) {
                continue;
            }
            let mut light = [zero; 3];
            for channel in 0..3 {
                let line = &half[channel];
                let here = kept(simd, line, from / 2);
                let between = (here + kept(simd, line, from / 2 + 1)) * 0.5;
                light[channel] = here.zip_low(between);
            }
            put(into, from, light);
        }
    }

    /// Light of water at a place, whose surface has this slope, towards the eye.
    #[inline(always)]
    fn reflected<S: Simd>(
        &self,
        simd: S,
        water: &WaterLight,
        way: &Three<S>,
        [px, pz]: [f32x8<S>; 2],
        [nx, nz]: [f32x8<S>; 2],
    ) -> Three<S> {
        let (zero, one) = (f32x8::splat(simd, 0.0), f32x8::splat(simd, 1.0));
        let [wx, wy, wz] = *way;
        // The way of light mirrored to the eye.
        let ny = one / (nx * nx + nz * nz + 1.0).sqrt();
        let (nx, nz) = (nx * ny, nz * ny);
        let along = wx * nx + wy * ny + wz * nz;
        let twice = along * 2.0;
        let (mx, my, mz) = (wx - nx * twice, (wy - ny * twice).abs(), wz - nz * twice);
        // Schlick, "An Inexpensive BRDF Model" (1994), for water.
        let facing = one - (zero - along).max(zero).min(one);
        let fresnel = square(square(facing)) * facing * 0.98 + 0.02;
        let mut mirrored = self.sky.light(simd, mx, my, mz);
        for lamp in &self.lamps {
            let [lx, ly, lz] = lamp.position;
            let height = ly - water.level;
            let (dx, dz) = (f32x8::splat(simd, lx) - px, f32x8::splat(simd, lz) - pz);
            let off = (dx * dx + dz * dz + height * height).sqrt().max(f32x8::splat(simd, 1e-9));
            let along = ((dx * mx + my * height + dz * mz) / off).max(f32x8::splat(simd, 0.3));
            let a4 = square(square(along));
            let a16 = square(square(a4));
            let share = square(a16) * a16 * square(a4) * a4 * (lamp.power * 0.01);
            for channel in 0..3 {
                mirrored[channel] += share * lamp.colour[channel];
            }
        }
        // The sun in the waves: a broad sheen, as far ripples are smaller than a pixel.
        if let Some(sun) = &self.sun {
            let [tx, ty, tz] = sun.towards;
            let along = mx * tx + my * ty + mz * tz;
            let near = along.max(f32x8::splat(simd, 0.1));
            let a2 = square(near);
            let a8 = square(square(a2));
            let n30 = square(a8) * a8 * square(a2) * a2;
            let near = along.max(f32x8::splat(simd, 0.7));
            let n4 = square(square(near));
            let n64 = square(square(square(square(n4))));
            let n220 = square(n64) * n64 * square(square(n4)) * square(n4) * n4;
            let share = n220 * 3.0 + n30 * 0.15;
            for channel in 0..3 {
                mirrored[channel] += share * sun.light[channel];
            }
        }
        let deep = 1.0 + self.sun.map_or(0.0, |sun| sun.power * 0.6);
        for channel in 0..3 {
            let below = f32x8::splat(simd, water.colour[channel] * deep);
            mirrored[channel] = below + (mirrored[channel] - below) * fresnel;
        }
        mirrored
    }

    /// Light of the sky at the horizon, which haze has.
    #[inline(always)]
    fn haze_of<S: Simd>(&self, simd: S, wx: f32x8<S>, wz: f32x8<S>) -> Three<S> {
        let ([r, g, b], sky) = (self.sky.level, &self.sky);
        if sky.afterglow == [0.0; 3] {
            return three(simd, [r, g, b]);
        }
        let towards =
            (wx * sky.way[0] + wz * sky.way[1]).max(f32x8::splat(simd, 0.0)) * level_of(simd, wx, wz);
        let glow = towards * towards * towards * sky.level_glow;
        let [ar, ag, ab] = sky.afterglow;
        [glow * ar + r, glow * ag + g, glow * ab + b]
    }
}

/// Adds a star to the pixels around it, in the row that begins at `x`, `y`.
#[inline(always)]
fn add_star<S: Simd>(simd: S, star: &SeenStar, [x, y]: [f32; 2], light: &mut Row) {
    // Eight pixels around it, of which it touches three or four.
    let from = (star.x - x - 3.0).max(0.0).min((ROW - WIDE) as f32) as usize;
    let across =
        f32x8::load_array(simd, [0.5, 1.5, 2.5, 3.5, 4.5, 5.5, 6.5, 7.5]) + (x + from as f32 - star.x);
    let down = y + 0.5 - star.y;
    let share =
        (f32x8::splat(simd, 1.0) - (across * across + down * down) * PER_SQUARE).max(f32x8::splat(simd, 0.0));
    for channel in 0..3 {
        let under = f32x8::from_slice(simd, &light[channel][from..from + WIDE]);
        let sum = under + share * star.light[channel];
        light[channel][from..from + WIDE].copy_from_slice(&sum.to_array());
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

impl SkyLight {
    #[inline(always)]
    fn light<S: Simd>(&self, simd: S, x: f32x8<S>, y: f32x8<S>, z: f32x8<S>) -> Three<S> {
        let up = (y + (y * y + self.soft).sqrt()) * 0.5;
        let one = f32x8::splat(simd, 1.0);
        let high = one - exp(simd, up * -5.0);
        let ([zr, zg, zb], [hr, hg, hb]) = (self.zenith, self.horizon);
        let [r, g, b] = [high * (zr - hr) + hr, high * (zg - hg) + hg, high * (zb - hb) + hb];
        if self.afterglow == [0.0; 3] {
            return [r, g, b];
        }
        let towards = (x * self.way[0] + z * self.way[1]).max(one * 0.0);
        let glow = towards * towards * towards * exp(simd, up * -11.0);
        let [ar, ag, ab] = self.afterglow;
        [r + glow * ar, g + glow * ag, b + glow * ab]
    }
}

#[inline(always)]
fn square<S: Simd>(x: f32x8<S>) -> f32x8<S> {
    x * x
}

/// The exponential function of a number of at most 80, to five digits: 2 to a whole power, times a polynomial (Cody and Waite, 1980). Nearly 0 far below 0.
#[inline(always)]
fn exp<S: Simd>(simd: S, x: f32x8<S>) -> f32x8<S> {
    let x = x.max(f32x8::splat(simd, -86.0));
    let shifted = x * std::f32::consts::LOG2_E + ROUND;
    let near = shifted - ROUND;
    let r = x - near * 0.693_359_4 + near * 2.121_944_4e-4;
    let p = r * 0.008_333_3 + 0.041_666_6;
    let p = (((p * r + 0.166_666_67) * r + 0.5) * r + 1.0) * r + 1.0;
    let power: f32x8<S> = ((whole(simd, shifted) + 127) << 23).bitcast();
    p * power
}

/// [`frolic_core::random::hash3`] of lanes.
#[inline(always)]
fn hash<S: Simd>(simd: S, x: u32x8<S>, y: u32x8<S>, z: u32x8<S>) -> [u32x8<S>; 3] {
    let (factor, more) = (u32x8::splat(simd, 1_664_525), u32x8::splat(simd, 1_013_904_223));
    let (mut x, mut y, mut z) = (x * factor + more, y * factor + more, z * factor + more);
    x += y * z;
    y += z * x;
    z += x * y;
    x ^= x >> 16;
    y ^= y >> 16;
    z ^= z >> 16;
    x += y * z;
    y += z * x;
    z += x * y;
    [x, y, z]
}

/// [`frolic_core::random::unit`] of lanes.
#[inline(always)]
fn unit<S: Simd>(bits: u32x8<S>) -> f32x8<S> {
    (bits >> 8).bitcast::<i32x8<S>>().to_float::<f32x8<S>>() * (1.0 / 16_777_216.0)
}

/// [`frolic_core::gust_noise`] of lanes, to the bit.
#[inline(always)]
fn noise<S: Simd>(simd: S, [x, y, z]: Three<S>, seed: u32) -> Three<S> {
    let (ix, fx) = cell_of_lanes(simd, x);
    let (iy, fy) = cell_of_lanes(simd, y);
    let (iz, fz) = cell_of_lanes(simd, z);
    let near = face(simd, ix, iy, iz, fx, fy, seed);
    let far = face(simd, ix, iy, iz + 1, fx, fy, seed);
    mix(near, far, fz)
}

#[inline(always)]
fn face<S: Simd>(
    simd: S,
    x: u32x8<S>,
    y: u32x8<S>,
    z: u32x8<S>,
    fx: f32x8<S>,
    fy: f32x8<S>,
    seed: u32,
) -> Three<S> {
    let low = mix(corner(simd, x, y, z, seed), corner(simd, x + 1, y, z, seed), fx);
    let high = mix(corner(simd, x, y + 1, z, seed), corner(simd, x + 1, y + 1, z, seed), fx);
    mix(low, high, fy)
}

#[inline(always)]
fn corner<S: Simd>(simd: S, x: u32x8<S>, y: u32x8<S>, z: u32x8<S>, seed: u32) -> Three<S> {
    let [a, b, c] = hash(simd, x ^ u32x8::splat(simd, seed), y, z);
    [unit(a) * 2.0 - 1.0, unit(b) * 2.0 - 1.0, unit(c) * 2.0 - 1.0]
}

#[inline(always)]
fn mix<S: Simd>(a: Three<S>, b: Three<S>, t: f32x8<S>) -> Three<S> {
    [a[0] + (b[0] - a[0]) * t, a[1] + (b[1] - a[1]) * t, a[2] + (b[2] - a[2]) * t]
}

/// Sum of octaves of smooth noise: as [`super::painter::fractal`].
#[inline(always)]
fn fractal<S: Simd, const OCTAVES: u32>(simd: S, [mut x, mut y, mut z]: Three<S>) -> f32x8<S> {
    let (mut sum, mut weight) = (f32x8::splat(simd, 0.0), 0.5);
    for octave in 0..OCTAVES {
        let [value, ..] = noise(simd, [x, y, z], 0x7e44 + octave);
        sum += value * weight;
        weight *= 0.5;
        (x, y, z) = (z * 2.03 + 17.1, y * 2.03 + 17.1, x * -2.03 + 17.1);
    }
    sum
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

    kernel! {
        /// Exponentials and noise of some numbers.
        fn values(simd, at: &[[f32; WIDE]; 3], into: &mut [[f32; WIDE]; 4]) {
            let at = at.map(|axis| f32x8::load_array(simd, axis));
            let [a, b, c] = noise(simd, at, 7);
            let all = [exp(simd, at[0]), a, b, c];
            for (into, value) in into.iter_mut().zip(all) {
                *into = value.to_array();
            }
        }
    }

    proptest! {
        /// Against the plain functions: noise to the bit, exponentials to five digits.
        #[test]
        fn lanes_are_plain_functions(at in prop::array::uniform3(prop::array::uniform8(-80f32..80.0))) {
            for level in frolic_simd::levels() {
                let mut found = [[0.0; WIDE]; 4];
                values(level, &at, &mut found);
                for i in 0..WIDE {
                    let exact = libm::expf(at[0][i]);
                    prop_assert!((found[0][i] / exact - 1.0).abs() < 6e-6, "{} of {exact}", found[0][i]);
                    let [x, y, z] = at.map(|axis| axis[i]);
                    prop_assert_eq!([found[1][i], found[2][i], found[3][i]], frolic_core::gust_noise([x, y, z], 7));
                }
            }
        }
    }

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
