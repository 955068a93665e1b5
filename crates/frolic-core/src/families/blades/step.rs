//! The step of blades.
//!
//! ```text
//! for each square that is awake:
//!     wind at every root, and the lean it asks for:   w = drag · air / (length · stiffness), bounded
//!     Lean:   lean  <- rest + w
//!     Swing:  rate' + c rate + k (lean - rest - w) = 0, one implicit midpoint step
//! never through the ground: the lean is clamped to the room that the slope leaves
//! ```
//!
//! A step of a damped spring by the implicit midpoint rule: A-stable, so no step, stiffness or wind makes it grow, and without numerical damping, so
//! that a blade swings and comes to rest as the closed form says (Hairer, Nørsett and Wanner, "Solving Ordinary Differential Equations", 1987).
//! The drag of the air is linear: wind leans a blade, and still air damps it.

use std::f32::consts::TAU;
use std::ops::Range;

use glam::{Vec2, Vec3};
use serde::{Deserialize, Serialize};

use super::columns::BladeColumns;
use super::shape::{along_curve, blade_curve, clamp_lean};
use crate::foundations::columns::split_columns;
use crate::foundations::random::{hash3, unit};
use crate::foundations::simd::{Level, Simd, kernel};
use crate::foundations::span::Span;
use crate::world::World;
use crate::world::gusts::{Gusts, add_gusts};
use crate::world::obstacles::BLOCK;
use crate::world::pushers::Pushing;

/// Maximum lean by wind alone, in radians.
pub(super) const MOST_BLOWN: f32 = 1.9;

/// Lean of a blade that is pressed flat, in radians.
pub(super) const PRESSED: f32 = 1.85;

/// Press below which a blade counts as upright again.
const UP_AGAIN: f32 = 0.01;

/// Additional stiffness of the spring towards the ground, as a factor, and its additional damping, in 1/s.
const PRESS_STIFF: f32 = 12.0;
const PRESS_DAMP: f32 = 25.0;

/// Values that are the same for all blades of a step.
pub(super) struct Air<'a> {
    pub(super) world: &'a World,
    pub(super) level: Level,
    pub(super) time: f64,
    /// Whether only the steady wind and gusts move the air.
    pub(super) plain: bool,
    pub(super) gusts: Option<Gusts>,
    pub(super) wind: [f32; 2],
    pub(super) dt: f32,
    pub(super) drag: f32,
    /// Drag and damping together, in 1/s.
    pub(super) slow: f32,
    pub(super) recover: Span,
}

/// When blades tear.
#[derive(Debug, Clone, Copy)]
pub(super) struct Tear {
    /// Lean beyond which blades tear, in radians.
    pub(super) above: f32,
    /// Share of those that tear in this step.
    pub(super) share: f32,
    /// Share of the length that remains.
    pub(super) stub: f32,
    /// Seed of the draws; changes with each step.
    pub(super) draw: u32,
}

/// The columns of one square.
pub(super) struct Rows<'a> {
    pub(super) fixed: Fixed<'a>,
    pub(super) own: Changing<'a>,
}

/// Columns that a step only reads.
#[derive(Clone, Copy)]
pub(super) struct Fixed<'a> {
    pub(super) position: [&'a [f32]; 3],
    pub(super) rest: [&'a [f32]; 2],
    pub(super) stiffness: &'a [f32],
    pub(super) rise: [&'a [f32]; 2],
    pub(super) id: &'a [u32],
}

impl Fixed<'_> {
    /// The columns of a range of blades.
    pub(super) fn range(&self, range: Range<usize>) -> Self {
        Self {
            position: self.position.map(|column| &column[range.clone()]),
            rest: self.rest.map(|column| &column[range.clone()]),
            stiffness: &self.stiffness[range.clone()],
            rise: self.rise.map(|column| &column[range.clone()]),
            id: &self.id[range],
        }
    }
}

/// Columns that a step changes.
pub(super) struct Changing<'a> {
    pub(super) length: &'a mut [f32],
    pub(super) lean: [&'a mut [f32]; 2],
    pub(super) rate: [&'a mut [f32]; 2],
    pub(super) press: [&'a mut [f32]; 2],
    pub(super) kind: &'a mut [u32],
}

impl Changing<'_> {
    /// Splits the columns after a number of blades.
    pub(super) fn split(self, at: usize) -> (Self, Self) {
        let ([lx, lz], [rx, rz], [qx, qz]) = (self.lean, self.rate, self.press);
        let (before, after) = split_columns([self.length, lx, lz, rx, rz, qx, qz], at);
        let (kind, kinds) = self.kind.split_at_mut(at);
        let of = |[length, lx, lz, rx, rz, qx, qz]: [_; 7], kind| Self {
            length,
            lean: [lx, lz],
            rate: [rx, rz],
            press: [qx, qz],
            kind,
        };
        (of(before, kind), of(after, kinds))
    }

    /// Reborrows the columns of a range of blades.
    pub(super) fn range(&mut self, range: Range<usize>) -> Changing<'_> {
        Changing {
            length: &mut self.length[range.clone()],
            lean: self.lean.each_mut().map(|column| &mut column[range.clone()]),
            rate: self.rate.each_mut().map(|column| &mut column[range.clone()]),
            press: self.press.each_mut().map(|column| &mut column[range.clone()]),
            kind: &mut self.kind[range],
        }
    }
}

kernel! {
    /// Leans blades with the present wind.
    fn lean_block(simd, rows: &mut Rows<'_>, air: &Air<'_>, blown: [&[f32]; 2], left: f32) {
        rows.lean_block(simd, air, blown, left);
    }

    /// Steps blades that nothing presses.
    fn swing_block(simd, rows: &mut Rows<'_>, air: &Air<'_>, blown: [&[f32]; 2]) {
        rows.swing_block(simd, air, blown);
    }
}

impl Rows<'_> {
    /// Leans all blades with the present wind; `left` is the share of its lean that each keeps, 0 for none.
    pub(super) fn lean(&mut self, air: &Air<'_>, left: f32) {
        let level = air.level;
        self.in_blown_blocks(air, |rows, blown| {
            lean_block(level, rows, air, blown, left);
        });
    }

    /// One step of all blades that nothing presses.
    pub(super) fn swing(&mut self, air: &Air<'_>) {
        let level = air.level;
        self.in_blown_blocks(air, |rows, blown| {
            swing_block(level, rows, air, blown);
        });
    }

    /// One step of blades that something presses, or that still rise: one by one. Returns whether any is still down.
    pub(super) fn press<'p, I>(&mut self, air: &Air<'_>, pushers: impl Fn() -> I) -> bool
    where
        I: Iterator<Item = &'p Pushing>,
    {
        let mut down = false;
        let spread = libm::logf(air.recover.max / air.recover.min);
        self.in_blown_blocks(air, |rows, [wx, wz]| {
            let Fixed { position: [px, py, pz], rest, stiffness, rise, id } = rows.fixed;
            for i in 0..px.len() {
                let mut press = Vec2::new(rows.own.press[0][i], rows.own.press[1][i]);
                if press != Vec2::ZERO {
                    let [u, ..] = hash3(id[i], 0, RECOVER_SEED).map(unit);
                    press *= libm::expf(-air.dt / (air.recover.min * libm::expf(spread * u)));
                }
                for pusher in pushers() {
                    let now = pusher.on(px[i], py[i], pz[i]);
                    if now.length_squared() > press.length_squared() {
                        press = now;
                    }
                }
                let pressed = press.length();
                if pressed < UP_AGAIN {
                    press = Vec2::ZERO;
                } else {
                    down = true;
                }
                (rows.own.press[0][i], rows.own.press[1][i]) = (press.x, press.y);
                let pressed = pressed.min(1.0);
                let (k, length) = (stiffness[i], rows.own.length[i]);
                let blown = blown(air.drag, [wx[i], wz[i]], length, k);
                let free = Vec2::new(rest[0][i] + blown[0], rest[1][i] + blown[1]);
                let target = free * (1.0 - pressed) + press * PRESSED;
                let (k, slow) = (k * (1.0 + pressed * PRESS_STIFF), air.slow + pressed * PRESS_DAMP);
                let spring = Spring::new(air.dt, k, slow);
                let (x, vx) = spring.step(rows.own.lean[0][i], rows.own.rate[0][i], target.x);
                let (z, vz) = spring.step(rows.own.lean[1][i], rows.own.rate[1][i], target.y);
                // The ground stops it.
                let [x, z, free] = clamp_lean(x, z, rise[0][i], rise[1][i]);
                (rows.own.lean[0][i], rows.own.lean[1][i]) = (x, z);
                (rows.own.rate[0][i], rows.own.rate[1][i]) = (vx * free, vz * free);
            }
        });
        down
    }

    /// Tears blades in the wind, and passes each torn piece on: its root and its lean.
    pub(super) fn tear(&mut self, tear: Tear, torn: &mut Vec<Torn>) {
        for i in 0..self.fixed.id.len() {
            let lean = [self.own.lean[0][i], self.own.lean[1][i]];
            let whole = self.own.kind[i] & BladeColumns::TORN == 0;
            if !whole || lean[0] * lean[0] + lean[1] * lean[1] < tear.above * tear.above {
                continue;
            }
            let [draw, ..] = hash3(self.fixed.id[i], tear.draw, TEAR_SEED).map(unit);
            if draw < tear.share && torn.len() < torn.capacity() {
                let length = self.own.length[i];
                torn.push(Torn {
                    root: self.fixed.position.map(|column| column[i]),
                    length,
                    lean,
                    rate: [self.own.rate[0][i], self.own.rate[1][i]],
                });
                self.own.length[i] = length * tear.stub;
                self.own.kind[i] |= BladeColumns::TORN;
            }
        }
    }

    /// Calls `each` for blocks of blades, with the air at their roots.
    fn in_blown_blocks(&mut self, air: &Air<'_>, mut each: impl FnMut(&mut Rows<'_>, [&[f32]; 2])) {
        let n = self.fixed.id.len();
        for from in (0..n).step_by(BLOCK) {
            let many = from..n.min(from + BLOCK);
            let count = many.len();
            let [mut wx, mut wy, mut wz] = [[0.0; BLOCK]; 3];
            let fixed = self.fixed.range(many.clone());
            let position = fixed.position;
            if air.plain {
                wx[..count].fill(air.wind[0]);
                wz[..count].fill(air.wind[1]);
                if let Some(gusts) = &air.gusts {
                    let blown = [&mut wx[..count], &mut wy[..count], &mut wz[..count]];
                    add_gusts(air.level, gusts, position, blown);
                }
            } else {
                let blown = [&mut wx[..count], &mut wy[..count], &mut wz[..count]];
                air.world.air_of_chunk(air.level, air.time, air.gusts.as_ref(), position, blown);
            }
            let mut rows = Rows { fixed, own: self.own.range(many) };
            each(&mut rows, [&wx[..count], &wz[..count]]);
        }
    }

    #[inline(always)]
    fn lean_block<S: Simd>(&mut self, _simd: S, air: &Air<'_>, [wx, wz]: [&[f32]; 2], left: f32) {
        let n = wx.len();
        let [rest_x, rest_z] = self.fixed.rest.map(|column| &column[..n]);
        let [rise_x, rise_z] = self.fixed.rise.map(|column| &column[..n]);
        let (k, wz, length) = (&self.fixed.stiffness[..n], &wz[..n], &self.own.length[..n]);
        let [lx, lz] = &mut self.own.lean;
        let (lx, lz) = (&mut lx[..n], &mut lz[..n]);
        let drag = air.drag;
        for i in 0..n {
            let [bx, bz] = blown(drag, [wx[i], wz[i]], length[i], k[i]);
            let (tx, tz) = (rest_x[i] + bx, rest_z[i] + bz);
            let (x, z) = (tx + (lx[i] - tx) * left, tz + (lz[i] - tz) * left);
            let [x, z, _] = clamp_lean(x, z, rise_x[i], rise_z[i]);
            (lx[i], lz[i]) = (x, z);
        }
    }

    #[inline(always)]
    fn swing_block<S: Simd>(&mut self, _simd: S, air: &Air<'_>, [wx, wz]: [&[f32]; 2]) {
        let n = wx.len();
        let [rest_x, rest_z] = self.fixed.rest.map(|column| &column[..n]);
        let [rise_x, rise_z] = self.fixed.rise.map(|column| &column[..n]);
        let (k, wz, length) = (&self.fixed.stiffness[..n], &wz[..n], &self.own.length[..n]);
        let [lx, lz] = &mut self.own.lean;
        let [vx, vz] = &mut self.own.rate;
        let (lx, lz, vx, vz) = (&mut lx[..n], &mut lz[..n], &mut vx[..n], &mut vz[..n]);
        let (dt, slow, drag) = (air.dt, air.slow, air.drag);
        for i in 0..n {
            let now = [lx[i], lz[i], vx[i], vz[i]];
            let blown = blown(drag, [wx[i], wz[i]], length[i], k[i]);
            let target = [rest_x[i] + blown[0], rest_z[i] + blown[1]];
            [lx[i], lz[i], vx[i], vz[i]] = step_blade(dt, slow, k[i], now, target, [rise_x[i], rise_z[i]]);
        }
    }
}

/// Separates these draws from all others.
const RECOVER_SEED: u32 = 0x9ec0_4e55;
const TEAR_SEED: u32 = 0x7ea6_0ff1;

/// A torn-off piece of a blade.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[non_exhaustive]
pub struct Torn {
    /// Root of the blade, in metres.
    pub root: [f32; 3],
    /// Length of the piece, in metres.
    pub length: f32,
    /// Lean along x and z, in radians.
    pub lean: [f32; 2],
    /// Rate of the lean along x and z, radians a second.
    pub rate: [f32; 2],
}

impl Torn {
    /// The middle of the blade, in metres.
    pub fn middle(&self) -> [f32; 3] {
        let off = along_curve(blade_curve(self.length, self.lean), 0.5);
        (Vec3::from(self.root) + off).to_array()
    }

    /// Velocity of the middle, in m/s.
    pub fn velocity(&self) -> [f32; 3] {
        let upright = Vec2::from(self.lean).length().cos();
        let reach = self.length * 0.5;
        [self.rate[0] * reach * upright, 0.3, self.rate[1] * reach * upright]
    }
}

/// Lean at rest in a wind, in radians: proportional to the wind while small, and at most [`MOST_BLOWN`].
#[inline(always)]
fn blown(drag: f32, [wx, wz]: [f32; 2], length: f32, stiffness: f32) -> [f32; 2] {
    let per = drag / (length * stiffness + 1e-9);
    let (x, z) = (wx * per, wz * per);
    let soft = 1.0 / (1.0 + (x * x + z * z) * (1.0 / (MOST_BLOWN * MOST_BLOWN))).sqrt();
    [x * soft, z * soft]
}

/// Step of one blade: lean and rate along x and z.
#[inline(always)]
fn step_blade(
    dt: f32,
    slow: f32,
    k: f32,
    [x, z, vx, vz]: [f32; 4],
    [tx, tz]: [f32; 2],
    [rise_x, rise_z]: [f32; 2],
) -> [f32; 4] {
    let spring = Spring::new(dt, k, slow);
    let (x, vx) = spring.step(x, vx, tx);
    let (z, vz) = spring.step(z, vz, tz);
    let [x, z, free] = clamp_lean(x, z, rise_x, rise_z);
    [x, z, vx * free, vz * free]
}

/// A damped spring over one step.
#[derive(Debug, Clone, Copy)]
pub(super) struct Spring {
    dt: f32,
    pull: f32,
    keep: f32,
    per: f32,
}

impl Spring {
    #[inline(always)]
    pub(super) fn new(dt: f32, k: f32, slow: f32) -> Self {
        let half = dt * slow * 0.5 + dt * dt * k * 0.25;
        Self { dt, pull: dt * k, keep: 1.0 - half, per: 1.0 / (1.0 + half) }
    }

    /// Value and rate after the step, with a target value.
    #[inline(always)]
    pub(super) fn step(self, x: f32, v: f32, target: f32) -> (f32, f32) {
        let after = (v * self.keep - self.pull * (x - target)) * self.per;
        (x + self.dt * 0.5 * (v + after), after)
    }
}

/// Stiffness for a natural frequency in Hz, in 1/s².
pub(super) fn stiffness(hz: f32) -> f32 {
    (TAU * hz) * (TAU * hz)
}

impl BladeColumns {
    /// Columns that a step reads, and columns that it changes.
    pub(super) fn halves(&mut self) -> (Fixed<'_>, Changing<'_>) {
        let Self {
            px,
            py,
            pz,
            length,
            rest_x,
            rest_z,
            lean_x,
            lean_z,
            rate_x,
            rate_z,
            stiffness,
            rise_x,
            rise_z,
            press_x,
            press_z,
            kind,
            id,
            ..
        } = self;
        let fixed =
            Fixed { position: [px, py, pz], rest: [rest_x, rest_z], stiffness, rise: [rise_x, rise_z], id };
        (
            fixed,
            Changing {
                length,
                lean: [lean_x, lean_z],
                rate: [rate_x, rate_z],
                press: [press_x, press_z],
                kind,
            },
        )
    }
}
