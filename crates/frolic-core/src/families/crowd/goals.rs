//! Goals: a place for each unit, and its preferred velocity, here its wish.

use glam::Vec3;

use super::spec::GoalSpec;
use super::{CrowdColumns, CrowdSpec};
use crate::foundations::random::{hash3, unit};
use crate::neighbours::blocks::{BLOCK, Lanes};
use crate::world::bodies::BodyColumns;

/// Greatest random turn of a preferred velocity, in radians. Without it, units that face each other exactly would both stop.
const STRAY: f32 = 0.03;

/// Greatest turn to the right of the preferred velocity of a waiting unit, in radians: units that block each other then go around a common middle.
const PAST: f32 = 1.2;

/// The first place of a unit that starts at a place.
pub(super) fn first(spec: &CrowdSpec, seed: u32, id: u32, at: Vec3) -> [f32; 2] {
    let to = match &spec.goal {
        None => at,
        Some(GoalSpec::Point(point)) => Vec3::from(*point),
        Some(GoalSpec::Area { position, size }) => {
            let [u, _, w] = hash3(id, seed, 0x676f).map(|bits| unit(bits) - 0.5);
            Vec3::from(*position) + Vec3::new(u * size[0], 0.0, w * size[2])
        }
        Some(GoalSpec::Path { points, .. }) => points.first().map_or(at, |point| Vec3::from(*point)),
        Some(GoalSpec::Across(middle)) => Vec3::from(*middle) * 2.0 - at,
        // Never reached.
        Some(GoalSpec::Direction(way)) => at + Vec3::new(way[0], 0.0, way[2]).normalize_or_zero() * 1e6,
    };
    [to.x, to.z]
}

/// Preferred velocities and goals of the units of a block.
#[derive(Debug, Clone, Copy, Default)]
pub(super) struct Wishes {
    /// Velocity along x and z, in m/s.
    pub(super) velocity: [Lanes; 2],
    /// 1 for units at their goal.
    pub(super) arrived: Lanes,
    /// Number of the place on a path, and the place.
    pub(super) leg: [u32; BLOCK],
    pub(super) goal: [Lanes; 2],
}

/// Computes preferred velocities in a step.
#[derive(Debug, Clone, Copy)]
pub(super) struct Wishing<'a> {
    pub(super) spec: &'a CrowdSpec,
    pub(super) seed: u32,
    pub(super) step: u32,
    pub(super) dt: f32,
}

impl Wishing<'_> {
    /// Preferred velocities and goals of `count` units from a place on.
    pub(super) fn of(&self, bodies: &BodyColumns, own: &CrowdColumns, from: usize, count: usize) -> Wishes {
        let mut wishes = Wishes::default();
        for lane in 0..count {
            let nth = from + lane;
            let (mut leg, mut goal) = (own.leg[nth], [own.gx[nth], own.gz[nth]]);
            let way = |goal: [f32; 2]| [goal[0] - bodies.px[nth], goal[1] - bodies.pz[nth]];
            let mut is_last = true;
            if let Some(GoalSpec::Path { points, again }) = &self.spec.goal {
                let [x, z] = way(goal);
                is_last = !again && leg as usize + 1 >= points.len();
                // Near it, or beyond it on the way to the next.
                let next = points[(leg as usize + 1) % points.len()];
                let beyond = x * (next[0] - goal[0]) + z * (next[2] - goal[1]) < 0.0;
                let far = x.hypot(z);
                if !is_last && (far <= self.spec.close || (beyond && far <= self.spec.sight)) {
                    leg = (leg + 1) % points.len() as u32;
                    let [x, _, z] = points[leg as usize];
                    goal = [x, z];
                    is_last = !again && leg as usize + 1 >= points.len();
                }
            }
            let [x, z] = way(goal);
            let far = x.hypot(z);
            let arrived = is_last && far <= self.spec.close;
            let pace = self.pace(bodies.key[nth]);
            // It comes to rest at its place: no faster than it could stop there.
            let brakes = (2.0 * self.spec.acceleration * far).sqrt().min(far / self.dt);
            let speed = if is_last { pace.min(brakes) } else { pace };
            let scale = if self.spec.goal.is_some() && far > 1e-6 { speed / far } else { 0.0 };
            let [draw, _, _] = hash3(bodies.key[nth], self.step, self.seed);
            let past = (own.waited[nth] / self.spec.patience).min(1.0) * PAST;
            let (sin, cos) = libm::sincosf((unit(draw) - 0.5) * 2.0 * STRAY + past);
            wishes.velocity[0][lane] = (x * cos - z * sin) * scale;
            wishes.velocity[1][lane] = (x * sin + z * cos) * scale;
            wishes.arrived[lane] = if arrived && self.spec.goal.is_some() { 1.0 } else { 0.0 };
            (wishes.leg[lane], wishes.goal[0][lane], wishes.goal[1][lane]) = (leg, goal[0], goal[1]);
        }
        wishes
    }

    /// Number of the present period of 1.5 seconds, by which waiting units take turns.
    pub(super) fn turn(&self) -> u32 {
        (self.step as f32 * self.dt / 1.5) as u32
    }

    /// Velocity of a unit alone, straight from a place to another.
    pub(super) fn straight(&self, from: [f32; 2], to: [f32; 2], key: u32) -> [f32; 2] {
        let (x, z) = (to[0] - from[0], to[1] - from[1]);
        let far = x.hypot(z);
        let scale =
            if self.spec.goal.is_some() && far > self.spec.close { self.pace(key) / far } else { 0.0 };
        [x * scale, z * scale]
    }

    /// Speed of a unit alone.
    pub(super) fn pace(&self, key: u32) -> f32 {
        let [draw, _, _] = hash3(key, self.seed, 0x7061);
        self.spec.cruise.at(unit(draw)).min(self.spec.top_speed)
    }
}
