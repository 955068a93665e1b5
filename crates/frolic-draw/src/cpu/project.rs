//! From instances to splats: what one soft round billboard is on the screen.
//!
//! A billboard covers a pixel whose centre is at distance d from its middle by `(1 - d²/R²)²`, and not at all beyond the
//! radius R: round at every size, without an edge. R is at least [`SMALLEST`] pixels; below that the light is
//! scaled so that its sum stays, and a distant ember fades and does not twinkle.
//!
//! The formulas stand here twice: for one element ([`shade`], [`place`], [`splat`]), as vertices and the reference need them, and
//! for eight at a time ([`Block`]). Both do the same operations in the same order, so the bits are the same;
//! `tests/techniques.rs` holds that.

use fearless_simd::prelude::*;
use fearless_simd::{f32x8, i32x8, mask32x8};
use glam::Vec3;

use super::tile::{Grid, LANES, Tiles};
use crate::camera::{NEAR, View};
use crate::list::{DrawList, Lighting, Source, Vertex};
use crate::look::{Blend, Look};

/// Smallest radius that is filled, pixels. The sum over pixel centres then varies by at most 4 % with the sub-pixel
/// place (`tests/billboards.rs` measures it).
pub const SMALLEST: f32 = 1.5;

/// Depth over which what comes close to the camera fades, m.
const NEAR_FADE: f32 = 0.5;

/// A billboard on the screen.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct Splat {
    /// Middle, pixels from the left.
    pub x: f32,
    /// Middle, pixels from the top.
    pub y: f32,
    /// Radius, pixels.
    pub radius: f32,
    /// Depth along the view, m.
    pub depth: f32,
    /// Light at full coverage: colour times opacity.
    pub light: [f32; 3],
    /// How much of what is behind is covered at full coverage; 0 adds.
    pub cover: f32,
    /// Place within its chunk.
    pub(crate) rank: u16,
    /// Which source it came from.
    pub(crate) source: u16,
}

impl Splat {
    /// Left, upper, right and lower end, pixels.
    #[inline(always)]
    pub(crate) fn bounds(&self) -> [f32; 4] {
        [self.x - self.radius, self.y - self.radius, self.x + self.radius, self.y + self.radius]
    }
}

/// Light on an element, as a factor on its colour.
fn light_on(look: &Look, lighting: &Lighting<'_>, at: Vec3) -> Vec3 {
    if look.lit == 0.0 {
        return Vec3::ONE;
    }
    let received = lighting.lights.iter().fold(Vec3::from(lighting.ambient), |sum, light| sum + light.at(at));
    Vec3::splat(1.0 - look.lit) + received * look.lit
}

/// An element's size, colour and opacity at its age, in the form of a merged vertex. An element that is not to be seen
/// (not born yet, dead) has radius 0.
pub(crate) fn shade(source: &Source<'_>, lighting: &Lighting<'_>, element: usize) -> Vertex {
    let Source { instances, look, .. } = source;
    let at = |axis: usize| {
        instances.position[axis][element] - instances.velocity[axis][element] * instances.behind
    };
    let centre = [at(0), at(1), at(2)];
    let age = (instances.age[element] - instances.behind) / instances.life[element];
    if !(0.0..1.0).contains(&age) {
        return Vertex::default();
    }
    let now = look.at(age);
    let colour = Vec3::from(now.colour) * light_on(look, lighting, Vec3::from(centre)) * now.opacity;
    let opacity = if look.blend == Blend::Alpha { now.opacity } else { 0.0 };
    let radius = instances.size[element] * now.size;
    Vertex { centre, corner: [0.0; 2], radius, colour: colour.to_array(), opacity }
}

/// Where a point is on the screen: x, y, depth, and pixels a metre there.
#[inline(always)]
pub(super) fn place(view: &View, [x, y, z]: [f32; 3]) -> [f32; 4] {
    let (dx, dy, dz) = (x - view.eye.x, y - view.eye.y, z - view.eye.z);
    let along = |axis: Vec3| dx * axis.x + dy * axis.y + dz * axis.z;
    let depth = along(view.forward);
    let scale = view.focal / depth;
    let [cx, cy] = view.middle();
    [cx + along(view.right) * scale, cy - along(view.up) * scale, depth, scale]
}

/// The splat of a shaded element, if any of it can be seen.
#[inline(always)]
pub(super) fn splat(vertex: &Vertex, [x, y, depth, scale]: [f32; 4]) -> Option<Splat> {
    let wanted = vertex.radius * scale;
    // Written so that what is not a number is not seen.
    let seen = depth > NEAR && wanted > 0.0 && wanted < LARGEST;
    if !seen {
        return None;
    }
    let radius = wanted.max(SMALLEST);
    let share = wanted / radius;
    let weight = share * share * ((depth - NEAR) * (1.0 / NEAR_FADE)).min(1.0);
    let [r, g, b] = vertex.colour;
    let light = [r * weight, g * weight, b * weight];
    let cover = vertex.opacity * weight;
    let strength = light[0] + light[1] + light[2] + cover;
    (strength > 0.0 && strength < f32::INFINITY).then_some(Splat {
        x,
        y,
        radius,
        depth,
        light,
        cover,
        rank: 0,
        source: 0,
    })
}

/// Radius in pixels beyond which nothing is drawn: its arithmetic would overflow.
const LARGEST: f32 = 1e9;

/// Splats of one chunk with the tiles that each touches, and what was counted on the way.
#[derive(Debug, Default)]
pub(super) struct Projected {
    pub(super) splats: Vec<(Splat, Tiles)>,
    pub(super) culled: u64,
    pub(super) pixels: u64,
    /// Where the next record of each tile goes, while the chunk is scattered.
    pub(super) next: Vec<u32>,
    block: Block,
}

impl Projected {
    /// Projects a run of one source's instances, in drawing order. One call a draw call.
    #[inline(always)]
    pub(super) fn run<S: Simd>(
        &mut self,
        simd: S,
        list: &DrawList<'_>,
        view: &View,
        grid: &Grid,
        source: u32,
        first: usize,
        count: usize,
    ) {
        let which = &list.sources[source as usize];
        let number = source.min(u32::from(u16::MAX)) as u16;
        if let Some(at) = which.vertices {
            let quads = &list.vertices[at as usize + first * 4..][..count * 4];
            return self.merged(quads, view, grid, number);
        }
        let mut done = 0;
        while done < count {
            let n = BLOCK.min(count - done);
            self.block.load(which, list, first + done, n);
            self.block.place(simd, view, which.instances.behind, n);
            self.block.look_up(which.look, n);
            self.block.finish(simd, grid, which.look, &list.lighting, n);
            self.collect(number, n);
            done += n;
        }
    }

    /// Keeps what of the block is seen.
    #[inline(always)]
    fn collect(&mut self, source: u16, n: usize) {
        let block = &self.block;
        for i in 0..n {
            if block.seen[i] == 0 {
                self.culled += 1;
                continue;
            }
            let splat = Splat {
                x: block.x[i],
                y: block.y[i],
                radius: block.radius[i],
                depth: block.depth[i],
                light: [block.red[i], block.green[i], block.blue[i]],
                cover: block.cover[i],
                rank: self.splats.len() as u16,
                source,
            };
            let [x0, x1, y0, y1] = [block.x0[i], block.x1[i], block.y0[i], block.y1[i]];
            self.splats.push((splat, Tiles::new(x0, x1, y0, y1)));
            self.pixels += block.pixels[i] as u64;
        }
    }

    /// The same from merged vertices: each of the four is projected, and bounds what it belongs to.
    #[inline(always)]
    fn merged(&mut self, vertices: &[Vertex], view: &View, grid: &Grid, source: u16) {
        let (quads, _) = vertices.as_chunks::<4>();
        for quad in quads {
            let mut placed = [[0.0; 4]; 4];
            for corner in 0..4 {
                placed[corner] = place(view, quad[corner].centre);
            }
            let Some(splat) = splat(&quad[0], placed[0]) else {
                self.culled += 1;
                continue;
            };
            let mut bounds = [f32::INFINITY, f32::INFINITY, f32::NEG_INFINITY, f32::NEG_INFINITY];
            for corner in 0..4 {
                let x = placed[corner][0] + quad[corner].corner[0] * splat.radius;
                let y = placed[corner][1] + quad[corner].corner[1] * splat.radius;
                bounds = [bounds[0].min(x), bounds[1].min(y), bounds[2].max(x), bounds[3].max(y)];
            }
            match grid.cover(bounds) {
                Some((tiles, pixels)) => {
                    let rank = self.splats.len() as u16;
                    self.splats.push((Splat { rank, source, ..splat }, tiles));
                    self.pixels += pixels;
                }
                None => self.culled += 1,
            }
        }
    }
}

/// Instances that are projected together; their columns fit the first-level cache beside the look's table.
const BLOCK: usize = 64;

type Lane<T> = [T; BLOCK];

/// Columns of a block: what came in, then what was worked out, stage by stage.
#[derive(Debug)]
struct Block {
    /// Position, velocity, age, life, size.
    input: [Lane<f32>; 9],
    at: [Lane<f32>; 3],
    x: Lane<f32>,
    y: Lane<f32>,
    depth: Lane<f32>,
    scale: Lane<f32>,
    /// Row of the look's table; -1 when not born yet or dead.
    row: Lane<i32>,
    size: Lane<f32>,
    opacity: Lane<f32>,
    red: Lane<f32>,
    green: Lane<f32>,
    blue: Lane<f32>,
    radius: Lane<f32>,
    cover: Lane<f32>,
    x0: Lane<i32>,
    x1: Lane<i32>,
    y0: Lane<i32>,
    y1: Lane<i32>,
    pixels: Lane<i32>,
    seen: Lane<i32>,
}

impl Default for Block {
    fn default() -> Self {
        let (f, i) = ([0.0; BLOCK], [0; BLOCK]);
        Self {
            input: [f; 9],
            at: [f; 3],
            x: f,
            y: f,
            depth: f,
            scale: f,
            row: i,
            size: f,
            opacity: f,
            red: f,
            green: f,
            blue: f,
            radius: f,
            cover: f,
            x0: i,
            x1: i,
            y0: i,
            y1: i,
            pixels: i,
            seen: i,
        }
    }
}

/// Lanes from `i`.
#[inline(always)]
fn get<S: Simd>(simd: S, column: &Lane<f32>, i: usize) -> f32x8<S> {
    f32x8::from_slice(simd, &column[i..i + LANES])
}

#[inline(always)]
fn put<S: Simd>(column: &mut Lane<f32>, i: usize, value: f32x8<S>) {
    value.store_slice(&mut column[i..i + LANES]);
}

impl Block {
    /// Brings in `n` instances: copied, or picked by index where the source is sorted.
    #[inline(always)]
    fn load(&mut self, source: &Source<'_>, list: &DrawList<'_>, first: usize, n: usize) {
        match source.order {
            Some(at) => {
                let packed = &list.packed[at as usize..];
                let order = &list.order[at as usize + first..][..n];
                for (i, &element) in order.iter().enumerate() {
                    let element = &packed[element as usize];
                    for attribute in 0..9 {
                        self.input[attribute][i] = element[attribute];
                    }
                }
            }
            None => {
                for (into, column) in self.input.iter_mut().zip(source.instances.columns()) {
                    into[..n].copy_from_slice(&column[first..first + n]);
                }
            }
        }
    }

    /// Place on the screen and row of the look's table. Lanes past `n` hold what the block before left; nobody reads them.
    #[inline(always)]
    fn place<S: Simd>(&mut self, simd: S, view: &View, behind: f32, n: usize) {
        let [px, py, pz, vx, vy, vz, age, life, _] = &self.input;
        let [cx, cy] = view.middle();
        let (right, up, forward, eye) = (view.right, view.up, view.forward, view.eye);
        for i in (0..n).step_by(LANES) {
            let x = get(simd, px, i) - get(simd, vx, i) * behind;
            let y = get(simd, py, i) - get(simd, vy, i) * behind;
            let z = get(simd, pz, i) - get(simd, vz, i) * behind;
            put(&mut self.at[0], i, x);
            put(&mut self.at[1], i, y);
            put(&mut self.at[2], i, z);
            let (dx, dy, dz) = (x - eye.x, y - eye.y, z - eye.z);
            let depth = dx * forward.x + dy * forward.y + dz * forward.z;
            let scale = f32x8::splat(simd, view.focal) / depth;
            put(&mut self.x, i, cx + (dx * right.x + dy * right.y + dz * right.z) * scale);
            put(&mut self.y, i, cy - (dx * up.x + dy * up.y + dz * up.z) * scale);
            put(&mut self.depth, i, depth);
            put(&mut self.scale, i, scale);
            let age = (get(simd, age, i) - behind) / get(simd, life, i);
            let alive = age.simd_ge(f32x8::splat(simd, 0.0)) & age.simd_lt(f32x8::splat(simd, 1.0));
            let row: i32x8<S> = alive.select(Look::row(age), f32x8::splat(simd, -1.0)).to_int();
            row.store_slice(&mut self.row[i..i + LANES]);
        }
    }

    /// Size, opacity and colour at each one's age.
    #[inline(always)]
    fn look_up(&mut self, look: &Look, n: usize) {
        for i in 0..n {
            let now = look.at_row(self.row[i].max(0) as usize);
            // Not born yet, or dead: no size, so not seen.
            self.size[i] = if self.row[i] < 0 { 0.0 } else { now.size };
            self.opacity[i] = now.opacity;
            [self.red[i], self.green[i], self.blue[i]] = now.colour;
        }
    }

    /// Radius, light, and what of the picture is touched.
    #[inline(always)]
    fn finish<S: Simd>(&mut self, simd: S, grid: &Grid, look: &Look, lighting: &Lighting<'_>, n: usize) {
        let zero = f32x8::splat(simd, 0.0);
        let covers = if look.blend == Blend::Alpha { 1.0 } else { 0.0 };
        for i in (0..n).step_by(LANES) {
            let depth = get(simd, &self.depth, i);
            let wanted = get(simd, &self.input[8], i) * get(simd, &self.size, i) * get(simd, &self.scale, i);
            let seen = depth.simd_gt(f32x8::splat(simd, NEAR))
                & wanted.simd_gt(zero)
                & wanted.simd_lt(f32x8::splat(simd, LARGEST));
            let radius = wanted.max(f32x8::splat(simd, SMALLEST));
            let share = wanted / radius;
            let near = ((depth - NEAR) * (1.0 / NEAR_FADE)).min(f32x8::splat(simd, 1.0));
            let weight = share * share * near;
            let opacity = get(simd, &self.opacity, i);
            let mut light = [get(simd, &self.red, i), get(simd, &self.green, i), get(simd, &self.blue, i)];
            if look.lit != 0.0 {
                let at = [get(simd, &self.at[0], i), get(simd, &self.at[1], i), get(simd, &self.at[2], i)];
                light_lanes(simd, &mut light, look, lighting, at);
            }
            light = [light[0] * opacity * weight, light[1] * opacity * weight, light[2] * opacity * weight];
            let cover = opacity * covers * weight;
            let strength = light[0] + light[1] + light[2] + cover;
            let seen = seen & strength.simd_gt(zero) & strength.simd_lt(f32x8::splat(simd, f32::INFINITY));
            put(&mut self.radius, i, radius);
            put(&mut self.red, i, light[0]);
            put(&mut self.green, i, light[1]);
            put(&mut self.blue, i, light[2]);
            put(&mut self.cover, i, cover);
            self.touch(simd, grid, radius, seen, i);
        }
    }

    /// Tiles and pixels within the picture that bounds touch: [`Grid::cover`] for eight.
    #[inline(always)]
    fn touch<S: Simd>(&mut self, simd: S, grid: &Grid, radius: f32x8<S>, seen: mask32x8<S>, i: usize) {
        let (x, y) = (get(simd, &self.x, i), get(simd, &self.y, i));
        let first = |v: f32x8<S>| (v - 0.5).max(f32x8::splat(simd, 0.0)).ceil();
        let last = |v: f32x8<S>, most: usize| (v - 0.5).floor().min(f32x8::splat(simd, most as f32 - 1.0));
        let (i0, i1) = (first(x - radius), last(x + radius, grid.width));
        let (j0, j1) = (first(y - radius), last(y + radius, grid.height));
        let seen = seen & i0.simd_le(i1) & j0.simd_le(j1);
        let whole = |v: f32x8<S>| -> i32x8<S> { v.to_int() };
        let (i0, i1, j0, j1) = (whole(i0), whole(i1), whole(j0), whole(j1));
        let [w, h] = grid.tile_log2;
        (i0 >> w).store_slice(&mut self.x0[i..i + LANES]);
        (i1 >> w).store_slice(&mut self.x1[i..i + LANES]);
        (j0 >> h).store_slice(&mut self.y0[i..i + LANES]);
        (j1 >> h).store_slice(&mut self.y1[i..i + LANES]);
        ((i1 - i0 + 1) * (j1 - j0 + 1)).store_slice(&mut self.pixels[i..i + LANES]);
        let flag = seen.select(i32x8::splat(simd, 1), i32x8::splat(simd, 0));
        flag.store_slice(&mut self.seen[i..i + LANES]);
    }
}

/// [`light_on`] for eight, multiplied into their colours.
#[inline(always)]
fn light_lanes<S: Simd>(
    simd: S,
    colour: &mut [f32x8<S>; 3],
    look: &Look,
    lighting: &Lighting<'_>,
    at: [f32x8<S>; 3],
) {
    let [r, g, b] = lighting.ambient;
    let mut received = [f32x8::splat(simd, r), f32x8::splat(simd, g), f32x8::splat(simd, b)];
    for light in lighting.lights {
        let [x, y, z] = light.position;
        let (dx, dy, dz) = (x - at[0], y - at[1], z - at[2]);
        let fall = light.power / (dx * dx + dy * dy + dz * dz + light.radius * light.radius);
        received[0] += light.colour.r * fall;
        received[1] += light.colour.g * fall;
        received[2] += light.colour.b * fall;
    }
    let own = 1.0 - look.lit;
    for channel in 0..3 {
        colour[channel] *= own + received[channel] * look.lit;
    }
}
