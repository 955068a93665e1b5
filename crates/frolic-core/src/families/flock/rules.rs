//! The hot loop: what eight elements see of those around them. One candidate at a time is tested against all eight.
//!
//! Each lane adds up on its own, in the order of candidates, and the order of candidates is that of cells. So sums do not depend on which elements share
//! a block, on threads or on the instruction set.

use fearless_simd::prelude::*;
use fearless_simd::{f32x8, i32x8, u32x8};

use super::FlockSpec;
use super::steer::State;
use crate::foundations::simd::{Simd, kernel};
use crate::neighbours::blocks::{BLOCK, Lanes, kept};

/// Ranges of the rules.
#[derive(Debug, Clone, Copy)]
pub struct Ranges {
    /// Square of the greatest radius, in m².
    pub reach: f32,
    /// That within which candidates are looked at, with what positions are shaken by.
    pub picked: f32,
    /// Square of the radius of alignment, in m².
    pub alignment: f32,
    /// Square of the radius of cohesion, in m².
    pub cohesion: f32,
    /// 1 over the square of the radius of separation.
    pub per_separation: f32,
    /// Cosine of half the field of view, times its own size.
    pub view: f32,
    /// Lengths after which space begins again, or 0.
    pub lengths: [f32; 3],
}

impl Ranges {
    /// Those of a spec, in a space that begins again after these lengths, in metres, or nowhere (0).
    pub fn new(spec: &FlockSpec, lengths: [f32; 3]) -> Self {
        let square = |radius: f32| radius * radius;
        let cos = libm::cosf(spec.view_degrees.to_radians() * 0.5);
        // All is seen: nothing may be lost to rounding right behind.
        let view = if spec.view_degrees >= 360.0 { -2.0 } else { cos * cos.abs() };
        Self {
            reach: square(spec.reach()),
            picked: square(spec.reach() * (1.0 + 2.0 * super::SHAKE)),
            alignment: square(spec.alignment.radius),
            cohesion: square(spec.cohesion.radius),
            per_separation: 1.0 / square(spec.separation.radius),
            view,
            lengths,
        }
    }
}

/// The elements of a block.
#[derive(Debug, Clone, Copy, Default)]
pub(super) struct Own {
    pub(super) at: [Lanes; 3],
    /// Unit directions.
    pub(super) heading: [Lanes; 3],
}

/// What is seen of an element: position, alarm, velocity, and nothing. One row is half a cache line.
pub(super) type Row = [f32; 8];

/// Candidates, in the order of cells.
#[derive(Debug, Clone, Copy)]
pub(super) struct Others<'a> {
    /// Positions before they are shaken, with eight more values.
    pub(super) at: [&'a [f32]; 3],
    pub(super) rows: &'a [Row],
}

/// Candidates that are tested in one pass.
const PASS: usize = 256;

/// Room for those that are picked of them, and one more.
const PICKED: usize = 2 * PASS;

/// Rows of candidates that may be near a block.
#[derive(Debug, Clone)]
pub(super) struct Desk {
    picked: [u32; PICKED],
}

impl Default for Desk {
    fn default() -> Self {
        Self { picked: [0; PICKED] }
    }
}

/// What each element of a block sees. It sees itself too, once, where it is among the candidates.
#[derive(Debug, Clone, Copy, Default)]
pub(super) struct Seen {
    /// Away from those too near: each adds at most about a fifth of the radius.
    pub(super) away: [Lanes; 3],
    /// Sums of velocities and alarm, and number, of those within the radius of alignment.
    pub(super) velocity: [Lanes; 3],
    pub(super) alarm: Lanes,
    pub(super) aligned: Lanes,
    /// Sums of the ways to those within the radius of cohesion, and their number.
    pub(super) middle: [Lanes; 3],
    pub(super) gathered: Lanes,
    /// Square of the distance of the nearest other, seen or not; infinite without one in reach.
    pub(super) nearest: Lanes,
    /// How many are near, seen or not.
    pub(super) near: Lanes,
}

impl Seen {
    /// Takes out what an element saw of itself.
    pub(super) fn forget_own(&mut self, nth: usize, state: &State) {
        for axis in 0..3 {
            self.velocity[axis][nth] -= state.velocity[axis][nth];
        }
        self.alarm[nth] -= state.alarm[nth];
        self.aligned[nth] -= 1.0;
        self.gathered[nth] -= 1.0;
        self.near[nth] -= 1.0;
    }

    /// Counts each that was seen as many.
    pub(super) fn stands_for(&mut self, many: f32) {
        let columns = self.away.iter_mut().chain(&mut self.velocity).chain(&mut self.middle);
        let counts = [&mut self.alarm, &mut self.aligned, &mut self.gathered];
        columns.chain(counts).flatten().for_each(|value| *value *= many);
    }
}

kernel! {
    /// Looks at runs of candidates around a box that holds the block.
    pub(super) fn look(simd, ranges: &Ranges, own: &Own, bounds: &[[f32; 3]; 2], others: &Others<'_>, runs: &[[u32; 2]], desk: &mut Desk, seen: &mut Seen) {
        let wraps = ranges.lengths != [0.0; 3];
        let same = ranges.alignment == ranges.cohesion && ranges.reach == ranges.cohesion;
        match (wraps, same) {
            (false, false) => look_at::<_, false, false>(simd, ranges, own, bounds, others, runs, desk, seen),
            (false, true) => look_at::<_, false, true>(simd, ranges, own, bounds, others, runs, desk, seen),
            (true, false) => look_at::<_, true, false>(simd, ranges, own, bounds, others, runs, desk, seen),
            (true, true) => look_at::<_, true, true>(simd, ranges, own, bounds, others, runs, desk, seen),
        }
    }
}

#[expect(
    clippy::too_many_arguments,
    reason = "plain slices, so that the compiler knows that they do not overlap"
)]
#[inline(always)]
fn look_at<S: Simd, const WRAPS: bool, const SAME: bool>(
    simd: S,
    ranges: &Ranges,
    own: &Own,
    bounds: &[[f32; 3]; 2],
    others: &Others<'_>,
    runs: &[[u32; 2]],
    desk: &mut Desk,
    seen: &mut Seen,
) {
    let lanes = |values: &Lanes| f32x8::from_slice(simd, values);
    let [ox, oy, oz] = [lanes(&own.at[0]), lanes(&own.at[1]), lanes(&own.at[2])];
    let [hx, hy, hz] = [lanes(&own.heading[0]), lanes(&own.heading[1]), lanes(&own.heading[2])];
    let zero = f32x8::splat(simd, 0.0);
    let one = f32x8::splat(simd, 1.0);
    let reach = f32x8::splat(simd, ranges.reach);
    let (alignment, cohesion) = (f32x8::splat(simd, ranges.alignment), f32x8::splat(simd, ranges.cohesion));
    let (view, per) = (f32x8::splat(simd, ranges.view), f32x8::splat(simd, ranges.per_separation));
    let (mut ax, mut ay, mut az) = (zero, zero, zero);
    let none = i32x8::splat(simd, 0);
    let (mut vx, mut vy, mut vz, mut alarm, mut aligned) = (zero, zero, zero, zero, none);
    let (mut mx, mut my, mut mz, mut gathered) = (zero, zero, zero, none);
    let (mut near, mut nearest) = (none, u32x8::splat(simd, u32::MAX));
    for run in runs {
        let mut from = run[0];
        while from < run[1] {
            let to = (from + PASS as u32).min(run[1]);
            let count = pick::<_, WRAPS>(simd, ranges, bounds, &others.at, [from, to], desk);
            from = to;
            for nth in &desk.picked[..count % PICKED] {
                let [px, py, pz, fright, ux, uy, uz, _] = others.rows[*nth as usize];
                let mut x = f32x8::splat(simd, px) - ox;
                let mut y = f32x8::splat(simd, py) - oy;
                let mut z = f32x8::splat(simd, pz) - oz;
                if WRAPS {
                    x = shortest(simd, x, ranges.lengths[0]);
                    y = shortest(simd, y, ranges.lengths[1]);
                    z = shortest(simd, z, ranges.lengths[2]);
                }
                let square = x * x + y * y + z * z;
                let ahead = x * hx + y * hy + z * hz;
                let sees = (ahead * ahead.abs()).simd_ge(view * square);
                // As whole numbers, in which the 0 of itself becomes the greatest.
                nearest = nearest.min(square.bitcast::<u32x8<S>>() - 1);
                // Falls smoothly to 0 at the radius, strongest at a third of it.
                let share = (one - square * per).max(zero);
                let share = share * share;
                let push = kept(sees.to_vector(), share * share);
                ax -= x * push;
                ay -= y * push;
                az -= z * push;
                // Counts in whole numbers, and sums of what a mask keeps: multiplications are what the processor runs out of.
                let within = square.simd_le(if SAME { reach } else { alignment }).to_vector();
                near -= if SAME { within } else { square.simd_le(reach).to_vector() };
                let sees = sees.to_vector();
                let with = sees & within;
                aligned -= with;
                vx += kept(with, f32x8::splat(simd, ux));
                vy += kept(with, f32x8::splat(simd, uy));
                vz += kept(with, f32x8::splat(simd, uz));
                alarm += kept(with, f32x8::splat(simd, fright));
                let towards = if SAME { with } else { sees & square.simd_le(cohesion).to_vector() };
                mx += kept(towards, x);
                my += kept(towards, y);
                mz += kept(towards, z);
                if !SAME {
                    gathered -= towards;
                }
            }
        }
    }
    if SAME {
        gathered = aligned;
    }
    seen.away = [ax.to_array(), ay.to_array(), az.to_array()];
    seen.velocity = [vx.to_array(), vy.to_array(), vz.to_array()];
    (seen.alarm, seen.aligned) = (alarm.to_array(), aligned.to_array().map(|count| count as f32));
    seen.middle = [mx.to_array(), my.to_array(), mz.to_array()];
    (seen.gathered, seen.near) =
        (gathered.to_array().map(|count| count as f32), near.to_array().map(|count| count as f32));
    let nearest = nearest.to_array();
    for i in 0..BLOCK {
        let square = f32::from_bits(nearest[i].wrapping_add(1));
        let is_near = nearest[i] != u32::MAX && square <= ranges.reach;
        seen.nearest[i] = if is_near { square } else { f32::INFINITY };
    }
}

/// Lists the candidates that are near the box of a block; many of a cell are not. Returns how many they are.
#[inline(always)]
fn pick<S: Simd, const WRAPS: bool>(
    simd: S,
    ranges: &Ranges,
    [low, high]: &[[f32; 3]; 2],
    at: &[&[f32]; 3],
    [from, to]: [u32; 2],
    desk: &mut Desk,
) -> usize {
    let zero = f32x8::splat(simd, 0.0);
    let mut count = 0;
    let mut place = from as usize;
    while place < to as usize {
        let mut square = zero;
        for axis in 0..3 {
            let value = f32x8::from_slice(simd, &at[axis][place..place + 8]);
            let (under, over) = (value * -1.0 + low[axis], value - high[axis]);
            let mut off = under.max(over).max(zero);
            let length = ranges.lengths[axis];
            if WRAPS && length > 0.0 {
                let before = (under + length).max(over - length).max(zero);
                let after = (under - length).max(over + length).max(zero);
                off = off.min(before).min(after);
            }
            square += off * off;
        }
        let many = (to as usize - place).min(8);
        let near = square.simd_le(f32x8::splat(simd, ranges.picked)).to_bitmask() & ((1 << many) - 1);
        // All eight are written; those that are far are written over.
        for nth in 0..8 {
            desk.picked[count % PICKED] = (place + nth) as u32;
            count += (near >> nth) as usize & 1;
        }
        place += many;
    }
    count
}

/// The shortest way in a space that begins again after a length, if that is above 0.
#[inline(always)]
fn shortest<S: Simd>(simd: S, way: f32x8<S>, length: f32) -> f32x8<S> {
    let half = f32x8::splat(simd, if length > 0.0 { length * 0.5 } else { f32::INFINITY });
    let (low, high) = (way.simd_lt(half * -1.0), way.simd_gt(half));
    high.select(way - length, low.select(way + length, way))
}
