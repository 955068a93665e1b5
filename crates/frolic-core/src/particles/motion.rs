//! The formula of a step, and what is the same in it for every element.
//!
//! For each element, with drag k and c (of the square), air velocity w, other accelerations a held over the step dt:
//!
//! ```text
//! keep = exp(-k dt)            reach = (1 - keep) / k, or dt without drag
//! slow = 1 / (1 + c |v - w| reach)
//! v    = w + (v - w) keep slow + a reach slow
//! p    = p + v dt
//! age  = age + dt              dead when age >= life
//! ```
//!
//! With both drags and no other acceleration that is the exact solution (Bernoulli's equation). Where all elements feel the same (gravity,
//! steady wind, gusts, one attractor) the plain form does: v keep + (a + k w) reach.

use glam::Vec3;

use super::spec::{KeepTo, MotionSpec};
use crate::world::{Gusts, World};

/// A step's constants: what every element of the population shares, here or on a device.
#[derive(Debug, Clone, Copy)]
#[non_exhaustive]
pub struct Motion {
    /// Length of the step, s.
    pub dt: f32,
    /// 1/s.
    pub drag: f32,
    /// Drag of the square of the speed, 1/m.
    pub drag_square: f32,
    /// Share of its velocity that an element keeps, and how long a steady acceleration acts on it, s.
    pub keep: f32,
    /// How long a steady acceleration acts on it, s.
    pub reach: f32,
    /// Accelerations that are the same everywhere: gravity, and drag towards the steady wind, m/s².
    pub push: [f32; 3],
    /// Gravity alone, m/s².
    pub fall: [f32; 3],
    /// Steady velocity of the air, m/s.
    pub wind: [f32; 3],
    /// Gusts at the moment of the step.
    pub gusts: Option<Gusts>,
    /// A point that pulls everywhere and always, where it is the only field.
    pub attractor: Option<Attractor>,
    /// Least and greatest speed, m/s.
    pub speed_limits: Option<[f32; 2]>,
    /// 1 for each axis along which it may move, 0 for one along which it may not.
    pub free: [f32; 3],
}

/// A point that pulls with strength / (distance² + radius²).
#[derive(Debug, Clone, Copy, PartialEq)]
#[non_exhaustive]
pub struct Attractor {
    /// Where, m.
    pub position: [f32; 3],
    /// m/s² at 1 m.
    pub strength: f32,
    /// m.
    pub radius: f32,
}

impl Motion {
    /// The constants of the step from `time` on, s, of `dt` seconds.
    pub fn new(spec: &MotionSpec, world: &World, time: f64, dt: f32) -> Self {
        let keep = libm::exp(-f64::from(spec.drag) * f64::from(dt)) as f32;
        let reach =
            if spec.drag * dt > 1e-4 { (1.0 - keep) / spec.drag } else { dt * (1.0 - 0.5 * spec.drag * dt) };
        let wind = world.spec().wind;
        let fall = world.spec().gravity.map(|axis| spec.weight * axis);
        let push = |i: usize| fall[i] + spec.drag * wind[i];
        Self {
            dt,
            drag: spec.drag,
            drag_square: spec.drag_square,
            keep,
            reach,
            push: [push(0), push(1), push(2)],
            fall,
            wind,
            // Gusts act through drag alone.
            gusts: world.gusts_at(time).filter(|_| spec.drag > 0.0 || spec.drag_square > 0.0),
            attractor: world.lone_attractor(),
            speed_limits: spec.speed_limits,
            free: match spec.keep_to {
                None => [1.0; 3],
                Some(KeepTo::Upright) => [1.0, 1.0, 0.0],
                Some(KeepTo::Flat) => [1.0, 0.0, 1.0],
            },
        }
    }

    /// Slower than this, m/s, something can lie still: twice what gravity gives in a step.
    pub fn rest(&self) -> f32 {
        2.0 * self.dt * Vec3::from(self.fall).length()
    }

    /// One element's new position and velocity by the plain form. The one formula, for columns and objects alike.
    #[inline(always)]
    pub(super) fn advance<const GUSTS: bool, const ATTRACTOR: bool>(
        &self,
        p: [f32; 3],
        v: [f32; 3],
    ) -> ([f32; 3], [f32; 3]) {
        let mut a = self.push;
        if GUSTS && let Some(gusts) = &self.gusts {
            let air = gusts.at(p);
            a = [a[0] + air[0] * self.drag, a[1] + air[1] * self.drag, a[2] + air[2] * self.drag];
        }
        if ATTRACTOR && let Some(attractor) = &self.attractor {
            let to = attractor.position;
            let d = [to[0] - p[0], to[1] - p[1], to[2] - p[2]];
            let r2 = d[0] * d[0] + d[1] * d[1] + d[2] * d[2] + attractor.radius * attractor.radius;
            let pull = attractor.strength / (r2 * r2.sqrt());
            a = [a[0] + d[0] * pull, a[1] + d[1] * pull, a[2] + d[2] * pull];
        }
        let v = [
            v[0] * self.keep + a[0] * self.reach,
            v[1] * self.keep + a[1] * self.reach,
            v[2] * self.keep + a[2] * self.reach,
        ];
        ([p[0] + v[0] * self.dt, p[1] + v[1] * self.dt, p[2] + v[2] * self.dt], v)
    }
}
