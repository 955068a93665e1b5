//! How orderly a flock is: numbers beside time, by which a technique that is faster but moves differently is found out.

use super::rules::{Own, Seen};
use super::steer::State;
use crate::foundations::meter::{Counter, Meter};
use crate::foundations::simd::kernel;
use crate::neighbours::blocks::BLOCK;

/// Order of a flock after a step.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
#[non_exhaustive]
pub struct FlockGauges {
    /// Length of the mean heading: 1 if all go one way, 0 if each goes its own (Vicsek et al., 1995).
    pub order: f64,
    /// How much they go around their common middle: 1 if all circle it one way (Couzin et al., 2002).
    pub milling: f64,
    /// Mean distance to the nearest other within reach, in metres; 0 without any.
    pub nearest: f64,
    /// Mean speed, in m/s.
    pub speed: f64,
}

impl FlockGauges {
    /// Sets the levels of a meter.
    pub fn set_levels(&self, meter: &mut Meter) {
        for (counter, level) in [
            (Counter::OrderPermille, self.order * 1e3),
            (Counter::MillingPermille, self.milling * 1e3),
            (Counter::NearestMicrometres, self.nearest * 1e6),
        ] {
            meter.set(counter, level.round() as u64);
        }
    }
}

/// Sums of a task.
#[derive(Debug, Clone, Copy, Default)]
pub(super) struct Sums {
    heading: [f64; 3],
    place: [f64; 3],
    /// Angular momentum of headings about the origin.
    turn: [f64; 3],
    speed: f64,
    nearest: f64,
    with_nearest: u64,
    pub(super) tested: u64,
    pub(super) near: u64,
    pub(super) crowded: u64,
}

kernel! {
    /// Adds the elements of a block: their state after the step, and what they saw in it. `middle` is that of the flock a step ago.
    pub(super) fn add_block(_simd, sums: &mut Sums, count: usize, middle: &[f32; 3], own: &Own, state: &State, seen: &Seen) {
        let middle = *middle;
        // Lanes first, in single precision; then in order.
        let (mut heading, mut turn, mut speed) = ([[0.0; BLOCK]; 3], [[0.0; BLOCK]; 3], [0.0; BLOCK]);
        for i in 0..BLOCK {
            let [a, b, c] = [state.velocity[0][i], state.velocity[1][i], state.velocity[2][i]];
            let [x, y, z] = [own.at[0][i] - middle[0], own.at[1][i] - middle[1], own.at[2][i] - middle[2]];
            speed[i] = (a * a + b * b + c * c).sqrt();
            let per = 1.0 / speed[i].max(1e-12);
            let [a, b, c] = [a * per, b * per, c * per];
            let per = 1.0 / (x * x + y * y + z * z).sqrt().max(1e-12);
            [heading[0][i], heading[1][i], heading[2][i]] = [a, b, c];
            turn[0][i] = (y * c - z * b) * per;
            turn[1][i] = (z * a - x * c) * per;
            turn[2][i] = (x * b - y * a) * per;
        }
        for axis in 0..3 {
            sums.heading[axis] += sum(count, &heading[axis]);
            sums.place[axis] += sum(count, &own.at[axis]);
            sums.turn[axis] += sum(count, &turn[axis]);
        }
        sums.speed += sum(count, &speed);
        for i in 0..count {
            if seen.nearest[i] < f32::INFINITY {
                sums.nearest += f64::from(seen.nearest[i].sqrt());
                sums.with_nearest += 1;
            }
        }
        sums.near += sum(count, &seen.near) as u64;
    }
}

#[inline(always)]
fn sum(count: usize, lanes: &[f32; BLOCK]) -> f64 {
    let mut sum = 0.0;
    for value in &lanes[..count] {
        sum += value;
    }
    f64::from(sum)
}

impl Sums {
    pub(super) fn add(&mut self, other: &Self) {
        for axis in 0..3 {
            self.heading[axis] += other.heading[axis];
            self.place[axis] += other.place[axis];
            self.turn[axis] += other.turn[axis];
        }
        self.speed += other.speed;
        self.nearest += other.nearest;
        self.with_nearest += other.with_nearest;
        self.tested += other.tested;
        self.near += other.near;
        self.crowded += other.crowded;
    }

    /// Mean place of so many elements.
    pub(super) fn middle(&self, count: usize) -> [f64; 3] {
        self.place.map(|axis| axis / count.max(1) as f64)
    }

    pub(super) fn gauges(&self, count: usize) -> FlockGauges {
        let each = 1.0 / count.max(1) as f64;
        FlockGauges {
            order: length(self.heading) * each,
            milling: length(self.turn) * each,
            nearest: self.nearest / self.with_nearest.max(1) as f64,
            speed: self.speed * each,
        }
    }
}

fn length([x, y, z]: [f64; 3]) -> f64 {
    (x * x + y * y + z * z).sqrt()
}
