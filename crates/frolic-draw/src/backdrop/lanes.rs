//! Rows of sky, ground and water, pixel beside pixel, in loops that are vectorised.
//!
//! A row above the horizon has sky and coast, one below has ground and what is beyond its shore. Both are computed for the ray through the middle of
//! each pixel; only outlines take four rays. The few rows that the horizon crosses are left to [`Painter::pixel`], whose results these agree with.

use fearless_simd::prelude::*;
use fearless_simd::{f32x8, i32x8, u32x8};
use frolic_simd::{Simd, kernel};
use glam::Vec3;

use super::outline::Outlines;
use super::painter::{Painter, RAYS};
use super::stars::{SeenStar, SeenStars};

/// Pixels of a row.
pub(super) const ROW: usize = 64;

/// One value for each pixel of a row.
pub(super) type Line = [f32; ROW];

/// What is behind the elements, for each pixel of a row.
#[derive(Debug, Clone)]
pub(super) struct PaintedRow {
    /// Light without sunlight on the ground.
    pub(super) light: [Line; 3],
    /// Sunlight on the ground.
    pub(super) sun: [Line; 3],
    /// Depth of solid parts, in metres.
    pub(super) depth: Line,
}

/// Numbers of a picture, prepared for rows.
#[derive(Debug, Clone)]
pub(super) struct Lanes {
    eye: [f32; 3],
    /// Ray through the upper left corner of the picture, and its change for each pixel to the right and down; not of unit length.
    corner: [f32; 3],
    right: [f32; 3],
    down: [f32; 3],
    focal: f32,
    sky: SkyLight,
    stars: SeenStars,
    coast: Option<Coast>,
    sun: Option<SunLight>,
    lamps: Vec<LampLight>,
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

impl Default for PaintedRow {
    fn default() -> Self {
        Self { light: [[0.0; ROW]; 3], sun: [[0.0; ROW]; 3], depth: [f32::INFINITY; ROW] }
    }
}

impl Lanes {
    pub(super) fn new(painter: &Painter<'_>) -> Self {
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
            },
            stars: SeenStars::new(view, sky.stars),
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

    /// Paints the row of pixels that begins at `x`, `y`; `false` if the horizon crosses it.
    pub(super) fn paint(&self, level: frolic_simd::Level, x: usize, y: usize, into: &mut PaintedRow) -> bool {
        let (left, top) = (x as f32, y as f32);
        let ends = [[0.0, 0.0], [ROW as f32, 0.0], [0.0, 1.0], [ROW as f32, 1.0]];
        let corners = ends.map(|[dx, dy]| self.ray(left + dx, top + dy));
        let heights = corners.map(|corner| corner[1]);
        let (low, high) = (
            heights.iter().fold(f32::INFINITY, |a, b| a.min(*b)),
            heights.iter().fold(f32::NEG_INFINITY, |a, b| a.max(*b)),
        );
        // Far up there is no coast.
        let steepest = low / corners.iter().map(|it| Vec3::from(*it).length()).fold(0.0, f32::max);
        let coast = self.coast.is_some_and(|coast| steepest < coast.height * 2.1);
        if low > 0.0 || (self.ground.is_none() && self.water.is_none()) {
            upper(level, self, left, top, coast, &mut into.light);
            into.sun.iter_mut().for_each(|line| line.fill(0.0));
            into.depth.fill(f32::INFINITY);
            return true;
        }
        if high >= 0.0 {
            return false;
        }
        let shore = self.ground.map_or(Shore::Beyond, |ground| self.shore(&ground, &corners));
        lower(level, self, left, top, shore, into);
        true
    }

    /// On which side of the shore the corners of a row lie, with all that is between them.
    fn shore(&self, ground: &GroundLight, corners: &[[f32; 3]; 4]) -> Shore {
        let [ex, ey, ez] = self.eye;
        let at = corners.map(|[x, y, z]| [ex - x * ey / y, ez - z * ey / y]);
        let farthest = at.iter().map(|[x, z]| x * x + z * z).fold(0.0, f32::max).sqrt();
        let near = |axis: usize| {
            let (low, high) = at.iter().fold((f32::INFINITY, f32::NEG_INFINITY), |(low, high), at| {
                (low.min(at[axis]), high.max(at[axis]))
            });
            low.max(-high).max(0.0)
        };
        let nearest = (near(0).powi(2) + near(1).powi(2)).sqrt();
        if farthest < ground.radius * 0.72 {
            Shore::Ashore
        } else if nearest > ground.radius * 1.28 {
            Shore::Beyond
        } else {
            Shore::Across
        }
    }
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
    fn upper(simd, it: &Lanes, x: f32, y: f32, coast: bool, light: &mut [Line; 3]) {
        for from in (0..ROW).step_by(WIDE) {
            let way = it.middle(simd, x + from as f32, y).0;
            put(light, from, it.sky_and_sun(simd, &way));
        }
        for star in it.stars.row(y) {
            it.add_star(star, x, y, light);
        }
        if coast {
            for from in (0..ROW).step_by(WIDE) {
                let left = x + from as f32;
                let way = it.middle(simd, left, y).0;
                let behind = [0, 1, 2].map(|c| f32x8::from_slice(simd, &light[c][from..from + WIDE]));
                put(light, from, it.coast_over(simd, left, y, &way, behind));
            }
        }
    }

    /// Ground, and water, coast or sky beyond its shore.
    fn lower(simd, it: &Lanes, x: f32, y: f32, shore: Shore, into: &mut PaintedRow) {
        let zero = f32x8::splat(simd, 0.0);
        for from in (0..ROW).step_by(WIDE) {
            let left = x + from as f32;
            let (way, per_ray) = it.middle(simd, left, y);
            let (mut light, mut sun) = ([zero; 3], [zero; 3]);
            let mut depth = f32x8::splat(simd, f32::INFINITY);
            if shore != Shore::Ashore {
                (light, depth) = match &it.water {
                    Some(water) => it.water(simd, water, &way, per_ray),
                    None => {
                        let sky = it.sky_and_sun(simd, &way);
                        (it.coast_over(simd, left, y, &way, sky), depth)
                    }
                };
            }
            if let (Some(ground), true) = (&it.ground, shore != Shore::Beyond) {
                let mut share = f32x8::splat(simd, 1.0);
                if shore == Shore::Across {
                    share = it.ashore(simd, ground, left, y);
                }
                let (own, own_sun, far) = it.ground(simd, ground, &way);
                let rest = zero + 1.0 - share;
                let solid = far * per_ray * it.focal;
                for channel in 0..3 {
                    light[channel] = light[channel] * rest + own[channel] * share;
                    sun[channel] = own_sun[channel] * share;
                }
                depth = share.simd_gt(zero).select(depth.min(solid), depth);
                depth = share.simd_ge(zero + 1.0).select(solid, depth);
            }
            put(&mut into.light, from, light);
            put(&mut into.sun, from, sun);
            into.depth[from..from + WIDE].copy_from_slice(&depth.to_array());
        }
    }
}

/// Pixels that are worked on at a time.
const WIDE: usize = 8;

/// Three numbers for each of these pixels.
type Three<S> = [f32x8<S>; 3];

#[inline(always)]
fn put<S: Simd>(lines: &mut [Line; 3], from: usize, values: Three<S>) {
    for channel in 0..3 {
        lines[channel][from..from + WIDE].copy_from_slice(&values[channel].to_array());
    }
}

#[inline(always)]
fn three<S: Simd>(simd: S, [x, y, z]: [f32; 3]) -> Three<S> {
    [f32x8::splat(simd, x), f32x8::splat(simd, y), f32x8::splat(simd, z)]
}

impl Lanes {
    /// Rays through places of the pixels from `x`, `y` on, as [`Lanes::ray`].
    #[inline(always)]
    fn rays<S: Simd>(&self, simd: S, x: f32, y: f32) -> Three<S> {
        let across = f32x8::load_array(simd, [0.0, 1.0, 2.0, 3.0, 4.0, 5.0, 6.0, 7.0]) + x;
        let ([a, b, c], [d, e, f], [g, h, i]) = (self.corner, self.right, self.down);
        [across * d + (a + g * y), across * e + (b + h * y), across * f + (c + i * y)]
    }

    /// Directions of unit length through the middles of pixels, and 1 over the length of each ray.
    #[inline(always)]
    fn middle<S: Simd>(&self, simd: S, x: f32, y: f32) -> (Three<S>, f32x8<S>) {
        let [a, b, c] = self.rays(simd, x + 0.5, y + 0.5);
        let inverse = f32x8::splat(simd, 1.0) / (a * a + b * b + c * c).sqrt();
        ([a * inverse, b * inverse, c * inverse], inverse)
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
    fn coast_over<S: Simd>(&self, simd: S, x: f32, y: f32, way: &Three<S>, behind: Three<S>) -> Three<S> {
        let Some(coast) = self.coast else { return behind };
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
        if share == [0.0; WIDE] {
            return behind;
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
                let hill = |sky: f32x8<S>, c: usize| {
                    sky + ((lit * sun.light[c] + self.ambient[c]) * coast.colour[c] - sky) * 0.55
                };
                [hill(sr, 0), hill(sg, 1), hill(sb, 2)]
            }
        };
        let rest = f32x8::splat(simd, 1.0) - share;
        let [r, g, b] = behind;
        let [hr, hg, hb] = hills;
        [r * rest + hr * share, g * rest + hg * share, b * rest + hb * share]
    }

    /// Share of each pixel that lies within the shore, by four rays.
    #[inline(always)]
    fn ashore<S: Simd>(&self, simd: S, ground: &GroundLight, x: f32, y: f32) -> f32x8<S> {
        let outlines = Outlines::shared();
        let [ex, ey, ez] = self.eye;
        let [a, b, c] = self.rays(simd, x + 0.5, y + 0.5);
        let t = f32x8::splat(simd, -ey) / b;
        let rough = level_fractal::<S, 3>(simd, (a * t + ex) * 0.35, (c * t + ez) * 0.35) * 0.015;
        let rough = rough.to_array();
        let mut share = [0.0f32; WIDE];
        for [dx, dy] in RAYS {
            let [a, b, c] = self.rays(simd, x + dx, y + dy);
            let t = f32x8::splat(simd, -ey) / b;
            let (px, pz) = (a * t + ex, c * t + ez);
            let far = ((px * px + pz * pz).sqrt() * (1.0 / ground.radius)).to_array();
            let (px, pz) = (px.to_array(), pz.to_array());
            for i in 0..WIDE {
                let edge = 1.0 + outlines.shore(px[i], pz[i]) + rough[i];
                // As near and as far as the shore never is.
                let within = far[i] < 0.72 || (far[i] < 1.28 && far[i] < edge);
                share[i] += if within { 0.25 } else { 0.0 };
            }
        }
        f32x8::load_array(simd, share)
    }

    /// Light of the ground without sunlight, sunlight, and distance.
    #[inline(always)]
    fn ground<S: Simd>(
        &self,
        simd: S,
        ground: &GroundLight,
        way: &Three<S>,
    ) -> (Three<S>, Three<S>, f32x8<S>) {
        let [wx, wy, wz] = *way;
        let [ex, ey, ez] = self.eye;
        let far = f32x8::splat(simd, -ey) / wy;
        let (px, pz) = (wx * far + ex, wz * far + ez);
        // Patches stretched along the ground, tufts, and blades; detail smaller than a pixel is left out.
        let size = far * (2.0 / self.focal);
        let finest = size.reduce_min();
        let mut patches = f32x8::splat(simd, 0.0);
        if ground.mottled > 0.0 {
            if finest * 0.6 < 1.0 {
                patches = mottle::<S, 3>(simd, 0.6, px, pz, size) * 0.9;
            }
            if finest * 5.0 < 1.0 {
                patches += mottle::<S, 2>(simd, 5.0, px, pz, size) * 0.7;
            }
            if finest * 36.0 < 1.0 {
                patches += mottle::<S, 2>(simd, 36.0, px, pz, size) * 0.8;
            }
        }
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
        let tone = (patches * ground.mottled + 1.0).max(f32x8::splat(simd, 0.08));
        let clear = exp(simd, far * -self.haze);
        let haze = self.haze_of(simd, wx, wz);
        let mut light = three(simd, [0.0; 3]);
        let mut sunlit = light;
        for channel in 0..3 {
            let albedo = tone * ground.colour[channel];
            light[channel] = haze[channel] + (albedo * lit[channel] - haze[channel]) * clear;
            if let Some(sun) = &self.sun {
                sunlit[channel] = albedo * clear * (sun.light[channel] * sun.towards[1]);
            }
        }
        (light, sunlit, far)
    }

    /// Light of the water, and its depth.
    #[inline(always)]
    fn water<S: Simd>(
        &self,
        simd: S,
        water: &WaterLight,
        way: &Three<S>,
        per_ray: f32x8<S>,
    ) -> (Three<S>, f32x8<S>) {
        let (zero, one) = (f32x8::splat(simd, 0.0), f32x8::splat(simd, 1.0));
        let [wx, wy, wz] = *way;
        let [ex, ey, ez] = self.eye;
        let far = f32x8::splat(simd, water.level - ey) / wy;
        let (px, pz) = (wx * far + ex, wz * far + ez);
        let size = far * (0.5 / self.focal) / (zero - wy).max(f32x8::splat(simd, 0.01));
        let finest = size.reduce_min();
        let (mut nx, mut nz) = (zero, zero);
        for (scale, weight) in [(0.13f32, 1.0f32), (0.6, 0.7), (2.1, 0.5)] {
            if finest * scale < 1.0 {
                let fade = (one - size * scale).max(zero) * (weight * water.waves);
                let [a, c] = level_noise(simd, px * scale, pz * (scale * 2.0), 3);
                (nx, nz) = (nx + a * fade, nz + c * fade);
            }
        }
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
        let deep = 1.0 + self.sun.map_or(0.0, |sun| sun.power * 0.6);
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
        let clear = exp(simd, far * -self.haze);
        let haze = self.haze_of(simd, wx, wz);
        let mut light = haze;
        for channel in 0..3 {
            let below = f32x8::splat(simd, water.colour[channel] * deep);
            let seen = below + (mirrored[channel] - below) * fresnel;
            light[channel] = haze[channel] + (seen - haze[channel]) * clear;
        }
        (light, far * per_ray * self.focal)
    }

    /// Light of the sky at the horizon, which haze has.
    #[inline(always)]
    fn haze_of<S: Simd>(&self, simd: S, wx: f32x8<S>, wz: f32x8<S>) -> Three<S> {
        let level = level_of(simd, wx, wz);
        // The same height everywhere: its exponentials are computed once for a row.
        let zero = f32x8::splat(simd, 0.0);
        self.sky.light_at(simd, (zero + (zero * zero + self.sky.soft).sqrt()) * 0.5, wx * level, wz * level)
    }
}

impl Lanes {
    /// Adds a star to the pixels around it.
    fn add_star(&self, star: &SeenStar, x: f32, y: f32, light: &mut [Line; 3]) {
        let middle = star.x - x;
        if !(-2.0..ROW as f32 + 2.0).contains(&middle) {
            return;
        }
        let from = (middle - 2.0).max(0.0) as usize;
        for i in from..ROW.min(from + 5) {
            let ray = Vec3::from(self.ray(x + i as f32 + 0.5, y + 0.5)).normalize();
            let share = star.share(ray, self.focal);
            for channel in 0..3 {
                light[channel][i] += star.light[channel] * share;
            }
        }
    }
}

/// 1 over the length of a direction along the horizon.
#[inline(always)]
fn level_of<S: Simd>(simd: S, x: f32x8<S>, z: f32x8<S>) -> f32x8<S> {
    f32x8::splat(simd, 1.0) / (x * x + z * z).sqrt().max(f32x8::splat(simd, 1e-9))
}

/// Noise of a scale on the ground, as far as it is larger than a pixel; `size` is that of two pixels.
#[inline(always)]
fn mottle<S: Simd, const OCTAVES: usize>(
    simd: S,
    scale: f32,
    px: f32x8<S>,
    pz: f32x8<S>,
    size: f32x8<S>,
) -> f32x8<S> {
    let (zero, one) = (f32x8::splat(simd, 0.0), f32x8::splat(simd, 1.0));
    level_fractal::<S, OCTAVES>(simd, px * scale, pz * scale) * (one - size * scale).max(zero)
}

impl SkyLight {
    #[inline(always)]
    fn light<S: Simd>(&self, simd: S, x: f32x8<S>, y: f32x8<S>, z: f32x8<S>) -> Three<S> {
        self.light_at(simd, (y + (y * y + self.soft).sqrt()) * 0.5, x, z)
    }

    /// The same, given the height that the light depends on.
    #[inline(always)]
    fn light_at<S: Simd>(&self, simd: S, up: f32x8<S>, x: f32x8<S>, z: f32x8<S>) -> Three<S> {
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

/// Adding this rounds a float of magnitude below 2^22 to a whole number, held in its low bits.
const ROUND: f32 = 12_582_912.0;

/// The whole number in a float that [`ROUND`] was added to.
#[inline(always)]
fn whole<S: Simd>(simd: S, shifted: f32x8<S>) -> u32x8<S> {
    shifted.bitcast::<u32x8<S>>() - u32x8::splat(simd, ROUND.to_bits())
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

/// First and last value of [`noise`] at y = 0, to the bit: of the lattice, only the layer there matters.
#[inline(always)]
fn level_noise<S: Simd>(simd: S, x: f32x8<S>, z: f32x8<S>, seed: u32) -> [f32x8<S>; 2] {
    let ((ix, fx), (iz, fz)) = (cell(simd, x), cell(simd, z));
    let iy = u32x8::splat(simd, 0);
    let near = mix(corner(simd, ix, iy, iz, seed), corner(simd, ix + 1, iy, iz, seed), fx);
    let far = mix(corner(simd, ix, iy, iz + 1, seed), corner(simd, ix + 1, iy, iz + 1, seed), fx);
    let [a, _, c] = mix(near, far, fz);
    [a, c]
}

/// [`frolic_core::gust_noise`] of lanes, to the bit.
#[inline(always)]
fn noise<S: Simd>(simd: S, [x, y, z]: Three<S>, seed: u32) -> Three<S> {
    let (ix, fx) = cell(simd, x);
    let (iy, fy) = cell(simd, y);
    let (iz, fz) = cell(simd, z);
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
fn cell<S: Simd>(simd: S, x: f32x8<S>) -> (u32x8<S>, f32x8<S>) {
    let is_small = x.abs().simd_lt(f32x8::splat(simd, 4_000_000.0));
    let x = is_small.select(x, f32x8::splat(simd, 0.0));
    let shifted = (x - 0.5) + ROUND;
    let f = x - (shifted - ROUND);
    (whole(simd, shifted), f * f * f * (f * (f * 6.0 - 15.0) + 10.0))
}

#[inline(always)]
fn mix<S: Simd>(a: Three<S>, b: Three<S>, t: f32x8<S>) -> Three<S> {
    [a[0] + (b[0] - a[0]) * t, a[1] + (b[1] - a[1]) * t, a[2] + (b[2] - a[2]) * t]
}

/// [`fractal`] at y = 0, to the bit.
#[inline(always)]
fn level_fractal<S: Simd, const OCTAVES: usize>(simd: S, x: f32x8<S>, z: f32x8<S>) -> f32x8<S> {
    let sum = level_noise(simd, x, z, 0x7e44)[0] * 0.5;
    let y = f32x8::splat(simd, 17.1);
    octaves::<S, OCTAVES>(simd, [z * 2.03 + 17.1, y, x * -2.03 + 17.1], 1, sum)
}

/// Sum of octaves of smooth noise: as [`super::painter::fractal`].
#[inline(always)]
fn fractal<S: Simd, const OCTAVES: usize>(simd: S, at: Three<S>) -> f32x8<S> {
    octaves::<S, OCTAVES>(simd, at, 0, f32x8::splat(simd, 0.0))
}

/// Octaves from one on, added to a sum of those before.
#[inline(always)]
fn octaves<S: Simd, const OCTAVES: usize>(
    simd: S,
    [mut x, mut y, mut z]: Three<S>,
    first: u32,
    mut sum: f32x8<S>,
) -> f32x8<S> {
    let mut weight = if first == 0 { 0.5 } else { 0.25 };
    for octave in first..OCTAVES as u32 {
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
        fn values(simd, at: &[[f32; WIDE]; 3], into: &mut [[f32; WIDE]; 6]) {
            let at = at.map(|axis| f32x8::load_array(simd, axis));
            let [a, b, c] = noise(simd, at, 7);
            let [d, e] = level_noise(simd, at[0], at[2], 7);
            let all = [exp(simd, at[0]), a, b, c, d, e];
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
                let mut found = [[0.0; WIDE]; 6];
                values(level, &at, &mut found);
                for i in 0..WIDE {
                    let exact = libm::expf(at[0][i]);
                    prop_assert!((found[0][i] / exact - 1.0).abs() < 6e-6, "{} of {exact}", found[0][i]);
                    let [x, y, z] = at.map(|axis| axis[i]);
                    prop_assert_eq!([found[1][i], found[2][i], found[3][i]], frolic_core::gust_noise([x, y, z], 7));
                    let [a, _, c] = frolic_core::gust_noise([x, 0.0, z], 7);
                    prop_assert_eq!([found[4][i], found[5][i]], [a, c]);
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
            let lanes = Lanes::new(&painter);
            let zero = PaintedRow::default();
            let (mut off, mut all) = (0, 0);
            for y in 0..96 {
                for x in [0, 64] {
                    let rows: Vec<Option<PaintedRow>> = frolic_simd::levels().into_iter().map(|level| {
                        let mut row = zero.clone();
                        lanes.paint(level, x, y, &mut row).then_some(row)
                    }).collect();
                    let Some(row) = &rows[0] else { continue };
                    let bits = |row: &PaintedRow| row.light.iter().chain(&row.sun).flatten().chain(&row.depth).map(|it| it.to_bits()).collect::<Vec<_>>();
                    prop_assert!(rows.iter().all(|other| other.as_ref().is_some_and(|other| bits(other) == bits(row))));
                    for i in 0..ROW {
                        let (light, sunlit, depth) = painter.pixel(x + i, y);
                        let near = |a: f32, b: f32| (a - b).abs() <= 0.004 + b.abs() * 0.004 || a == b;
                        let same = (0..3).all(|c| near(row.light[c][i], light[c]) && near(row.sun[c][i], sunlit[c]))
                            && (near(row.depth[i], depth) || (row.depth[i] - depth).abs() < depth * 0.01);
                        all += 1;
                        off += usize::from(!same);
                    }
                }
            }
            prop_assert!(off * 100 <= all.max(1) * 3, "{off} of {all}");
        }
    }
}
