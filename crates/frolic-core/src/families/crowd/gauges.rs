//! What is measured of a crowd beside time.

use crate::foundations::meter::{Counter, Meter};

/// Gauges of a crowd after a step.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
#[non_exhaustive]
pub struct CrowdGauges {
    /// Mean speed, in m/s.
    pub speed: f64,
    /// Mean ratio of the speed along the preferred velocity to the preferred speed: 1 without any avoidance.
    pub progress: f64,
    /// Number of units at their goal.
    pub arrived: u64,
    /// Number of units slower than a fifth of their preferred speed.
    pub waiting: u64,
    /// Number of pairs that overlap.
    pub overlaps: u64,
    /// The deepest overlap, in metres.
    pub deepest: f32,
    /// Number of units for which no velocity was within all soft half-planes.
    pub pressed: u64,
}

impl CrowdGauges {
    /// Sets the levels of a meter.
    pub fn set_levels(&self, meter: &mut Meter) {
        for (counter, level) in [
            (Counter::Arrived, self.arrived),
            (Counter::Waiting, self.waiting),
            (Counter::Overlaps, self.overlaps),
            (Counter::ProgressPermille, (self.progress.max(0.0) * 1e3).round() as u64),
        ] {
            meter.set(counter, level);
        }
    }
}

/// Sums of a task.
#[derive(Debug, Clone, Copy, Default)]
pub(super) struct Sums {
    pub(super) speed: f64,
    pub(super) progress: f64,
    pub(super) going: u64,
    pub(super) arrived: u64,
    pub(super) waiting: u64,
    /// Each pair from both sides.
    pub(super) overlapping: u64,
    pub(super) deepest: f32,
    pub(super) pressed: u64,
    pub(super) tested: u64,
    pub(super) near: u64,
    pub(super) crowded: u64,
}

impl Sums {
    pub(super) fn add(&mut self, other: &Self) {
        self.speed += other.speed;
        self.progress += other.progress;
        self.going += other.going;
        self.arrived += other.arrived;
        self.waiting += other.waiting;
        self.overlapping += other.overlapping;
        self.deepest = self.deepest.max(other.deepest);
        self.pressed += other.pressed;
        self.tested += other.tested;
        self.near += other.near;
        self.crowded += other.crowded;
    }

    pub(super) fn gauges(&self, count: usize) -> CrowdGauges {
        CrowdGauges {
            speed: self.speed / count.max(1) as f64,
            progress: if self.going > 0 { self.progress / self.going as f64 } else { 1.0 },
            arrived: self.arrived,
            waiting: self.waiting,
            overlaps: self.overlapping.div_ceil(2),
            deepest: self.deepest,
            pressed: self.pressed,
        }
    }
}
