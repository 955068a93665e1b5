//! Steering on all cores: a task takes some units in the order of cells, block by block.

use std::ops::Range;

use super::avoid::{Nearest, Own, Row, keep_clear, see};
use super::forces::push;
use super::gauges::Sums;
use super::goals::{Wishes, Wishing};
use super::planes::{Planes, choose};
use super::spec::AvoidanceTechnique;
use super::walls::{Walls, walls};
use super::{CREEP, CrowdColumns, CrowdSpec};
use crate::foundations::random::hash3;
use crate::foundations::simd::Level;
use crate::neighbours::Neighbours;
use crate::neighbours::blocks::{BLOCK, Candidates, Lanes, WIDE_SPAN};
use crate::world::World;
use crate::world::bodies::BodyColumns;

/// Units of a task.
pub(super) const TASK: usize = 1024;

/// Share of its wish below which a unit waits.
const WAITS: f32 = 0.2;

/// Longest wait that is remembered, in times of patience.
const LONGEST: f32 = 4.0;

/// How many seconds of waiting are forgotten in a second of going.
const CALMS: f32 = 4.0;

/// What a task needs of a step.
pub(super) struct Task<'a> {
    pub(super) level: Level,
    pub(super) spec: &'a CrowdSpec,
    pub(super) wishing: Wishing<'a>,
    pub(super) near: &'a Neighbours,
    pub(super) rows: &'a [Row],
    pub(super) bodies: &'a BodyColumns,
    pub(super) own: &'a CrowdColumns,
    pub(super) world: &'a World,
}

/// Columns that a task writes.
pub(super) struct Next<'a> {
    pub(super) velocity: [&'a mut [f32]; 2],
    pub(super) gx: &'a mut [f32],
    pub(super) gz: &'a mut [f32],
    pub(super) leg: &'a mut [u32],
    pub(super) waited: &'a mut [f32],
    pub(super) arrived: &'a mut [f32],
    pub(super) way: &'a mut [f32],
    pub(super) gap: &'a mut [f32],
}

impl Task<'_> {
    /// Steers the units from a place on.
    pub(super) fn run(&self, first: usize, mut next: Next<'_>, candidates: &mut Candidates) -> Sums {
        let end = first + next.leg.len();
        let mut sums = Sums::default();
        let mut from = first;
        while from < end {
            let to = self.near.block_end(0, from, end, WIDE_SPAN);
            let own = self.take(from, to);
            let wishes = self.wishing.of(self.bodies, self.own, from, to - from);
            let nearest = self.look(from..to, &own, candidates, &mut sums);
            let velocity = self.choose(from..to, &own, &wishes, &nearest, &mut sums);
            self.give([first, from, to], &own, &wishes, &velocity, &mut next);
            for lane in 0..to - from {
                let at = from + lane - first;
                next.gap[at] = count_overlaps(lane, &own, self.rows, &nearest, &mut sums);
                let speed = velocity[0][lane].hypot(velocity[1][lane]);
                let [wx, wz] = [wishes.velocity[0][lane], wishes.velocity[1][lane]];
                let wished = wx.hypot(wz);
                let waits = wishes.arrived[lane] == 0.0 && speed < wished * WAITS;
                let waited = self.own.waited[from + lane];
                next.waited[at] = if waits {
                    (waited + self.wishing.dt).min(LONGEST * self.spec.patience)
                } else {
                    (waited - self.wishing.dt * CALMS).max(0.0)
                };
                sums.speed += f64::from(speed);
                sums.arrived += u64::from(wishes.arrived[lane] > 0.0);
                sums.waiting += u64::from(waits);
                if wished > 1e-6 && wishes.arrived[lane] == 0.0 {
                    let along = (velocity[0][lane] * wx + velocity[1][lane] * wz) / (wished * wished);
                    (sums.progress, sums.going) = (sums.progress + f64::from(along), sums.going + 1);
                }
            }
            from = to;
        }
        sums
    }

    /// Finds the nearest others of a block: among all candidates, or among some of a crowd.
    fn look(&self, places: Range<usize>, own: &Own, candidates: &mut Candidates, sums: &mut Sums) -> Nearest {
        let mut nearest = Nearest::new(self.spec.heeds as usize);
        let first = places.start as u32;
        let count = places.len() as u64;
        self.near.around(0, self.near.bounds(0, places), self.spec.sight, candidates);
        let step = candidates.count.div_ceil(self.spec.most).max(1);
        // Another share of a crowd in each step.
        let from = if step > 1 { hash3(self.wishing.step, first, 0x6372)[0] % step } else { 0 };
        see(self.level, own, self.rows, &candidates.runs, [from, step], self.spec.sight, &mut nearest);
        sums.tested += u64::from((candidates.count / step).saturating_sub(1)) * count;
        sums.crowded += if step > 1 { count } else { 0 };
        nearest
    }

    /// The next velocities of a block, but for its limits.
    fn choose(
        &self,
        places: Range<usize>,
        own: &Own,
        wishes: &Wishes,
        nearest: &Nearest,
        sums: &mut Sums,
    ) -> [Lanes; 2] {
        let count = places.len();
        let mut planes = Planes::default();
        let mut around = Walls::default();
        if !self.world.solid().is_empty() {
            for lane in 0..count {
                let place = self.bodies.place(places.start + lane);
                let wish = [wishes.velocity[0][lane], wishes.velocity[1][lane]];
                walls(
                    self.world,
                    self.spec,
                    self.wishing.dt,
                    place,
                    wish,
                    own.radius[lane],
                    lane,
                    &mut around,
                    &mut planes,
                );
            }
        }
        match self.spec.avoidance {
            AvoidanceTechnique::Velocities => {
                let seconds = self.spec.look_ahead.max(self.wishing.dt);
                let most = self.spec.top_speed;
                keep_clear(self.level, own, self.rows, nearest, seconds, self.wishing.dt, most, &mut planes);
                let (velocity, gave) = choose(self.level, &planes, &wishes.velocity, most);
                sums.pressed += gave[..count].iter().filter(|gave| **gave > 0.0).count() as u64;
                velocity
            }
            AvoidanceTechnique::Forces => {
                let mut velocity = [[0.0; BLOCK]; 2];
                let Walls { gap, out } = &around;
                push(
                    self.level,
                    own,
                    self.rows,
                    nearest,
                    &wishes.velocity,
                    gap,
                    out,
                    self.wishing.dt,
                    &mut velocity,
                );
                velocity
            }
        }
    }

    /// Reads the units of a block. Lanes without one repeat the first.
    fn take(&self, from: usize, to: usize) -> Own {
        let mut own = Own::default();
        for lane in 0..BLOCK {
            let nth = if from + lane < to { from + lane } else { from };
            let [x, z, _, _, radius, priority, vx, vz] = self.rows[nth];
            (own.at[0][lane], own.at[1][lane]) = (x, z);
            (own.velocity[0][lane], own.velocity[1][lane]) = (vx, vz);
            (own.radius[lane], own.priority[lane], own.row[lane]) = (radius, priority, nth as u32);
        }
        own
    }

    /// Writes the next state of a block, its velocities within the limits of acceleration and turning.
    fn give(
        &self,
        [first, from, to]: [usize; 3],
        own: &Own,
        wishes: &Wishes,
        velocity: &[Lanes; 2],
        next: &mut Next<'_>,
    ) {
        let most_turn = self.spec.turn_degrees.to_radians() * self.wishing.dt;
        for lane in 0..to - from {
            let (nth, at) = (from + lane, from + lane - first);
            let now = [own.velocity[0][lane], own.velocity[1][lane]];
            let wanted = [velocity[0][lane], velocity[1][lane]];
            let [x, z] = limited(now, wanted, self.spec.acceleration * self.wishing.dt, most_turn);
            let fast = x.hypot(z);
            let scale = if fast > self.spec.top_speed { self.spec.top_speed / fast } else { 1.0 };
            (next.velocity[0][at], next.velocity[1][at]) = (x * scale, z * scale);
            (next.gx[at], next.gz[at], next.leg[at]) =
                (wishes.goal[0][lane], wishes.goal[1][lane], wishes.leg[lane]);
            next.arrived[at] = wishes.arrived[lane];
            next.way[at] = self.own.way[nth] + fast * scale * self.wishing.dt;
        }
    }
}

/// The velocity that is wanted, as far as a change and a turn of at most so much allow. One that stands creeps, so that it faces a way.
fn limited([vx, vz]: [f32; 2], [wx, wz]: [f32; 2], most: f32, most_turn: f32) -> [f32; 2] {
    let (dx, dz) = (wx - vx, wz - vz);
    let change = dx.hypot(dz);
    let scale = if change > most { most / change } else { 1.0 };
    let (x, z) = (vx + dx * scale, vz + dz * scale);
    let (speed, before) = (x.hypot(z), vx.hypot(vz));
    if before < CREEP * 0.5 {
        // It has faced no way yet.
        return if speed < CREEP { [CREEP, 0.0] } else { [x, z] };
    }
    let (hx, hz) = (vx / before, vz / before);
    if speed < CREEP {
        return [hx * CREEP, hz * CREEP];
    }
    let (along, aside) = (x * hx + z * hz, z * hx - x * hz);
    let turn = libm::atan2f(aside, along);
    if turn.abs() <= most_turn {
        return [x, z];
    }
    // It turns as far as it can, and goes as fast as that leads the same way.
    let (sin, cos) = libm::sincosf(most_turn.copysign(turn));
    let (tx, tz) = (hx * cos - hz * sin, hx * sin + hz * cos);
    let fast = (x * tx + z * tz).max(CREEP);
    [tx * fast, tz * fast]
}

/// Counts those that a unit overlaps; returns the gap to the nearest, in metres.
fn count_overlaps(lane: usize, own: &Own, rows: &[Row], nearest: &Nearest, sums: &mut Sums) -> f32 {
    let mut gap = f32::INFINITY;
    for nth in 0..nearest.len {
        let square = nearest.square[nth][lane];
        if square == f32::INFINITY {
            break;
        }
        sums.near += 1;
        let reach = own.radius[lane] + rows[nearest.row[nth][lane] as usize][4];
        let apart = square.sqrt() - reach;
        gap = gap.min(apart);
        // A hundredth may be rounding.
        if apart < reach * -0.01 {
            sums.overlapping += 1;
            sums.deepest = sums.deepest.max(-apart);
        }
    }
    gap
}
