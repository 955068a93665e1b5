//! The formula of a step, and its constants.
//!
//! For each body, with linear drag k, quadratic drag c, velocity of the air w, and other accelerations a, constant over the step dt:
//!
//! ```text
//! keep = exp(-k dt)            reach = (1 - keep) / k, or dt without drag
//! slow = 1 / (1 + c |v - w| reach)
//! v    = w + (v - w) keep slow + a reach slow
//! p    = p + v dt
//! age  = age + dt              dead when age >= life
//! ```
//!
//! Velocity and position leapfrog: `v` is the mean velocity over the last step, half a step older than `p` (Verlet, 1967). Under gravity,
//! steady wind and linear drag positions are exact at any step. With fields, gusts and quadratic drag their error is of second order in dt; a
//! contact adds an error of first order in its step. With both drags and no other acceleration a step is the exact solution (Bernoulli's
//! equation). If only gravity, steady wind, gusts and one attractor act, the plain form suffices: v keep + (a + k w) reach.
//!
//! A body is born with a velocity `u` at one moment, and moves for the rest of the step by [`Motion::since_birth`]. The leapfrog then starts
//! from a `v` that makes its first step exact ([`Motion::before_birth`]):
//!
//! ```text
//! B = (dt - reach) / k         v - w = ((u - w) reach / dt + a (B / dt - reach)) / keep
//! ```

use glam::Vec3;

use super::spec::{KeepTo, MotionSpec};
use crate::world::World;
use crate::world::fields::Attractor;
use crate::world::gusts::Gusts;

/// Constants of a step, shared by all bodies of a population, on the CPU or a device.
#[derive(Debug, Clone, Copy)]
#[non_exhaustive]
pub struct Motion {
    /// Length of the step, in seconds.
    pub dt: f32,
    /// Linear drag, in 1/s.
    pub drag: f32,
    /// Quadratic drag, in 1/m.
    pub drag_square: f32,
    /// Share of its velocity that a body keeps.
    pub keep: f32,
    /// Velocity gained for each unit of a steady acceleration, in seconds.
    pub reach: f32,
    /// The velocity that the leapfrog starts from: factor on the velocity at birth, and on a steady acceleration, in seconds (negative).
    pub start: [f32; 2],
    /// Uniform acceleration: gravity, and drag towards the steady wind, in m/s².
    pub push: [f32; 3],
    /// Gravity alone, in m/s².
    pub fall: [f32; 3],
    /// Steady velocity of the air, in m/s.
    pub wind: [f32; 3],
    /// Gusts at the moment of the step.
    pub gusts: Option<Gusts>,
    /// The attractor, if it is the only field and acts everywhere and always.
    pub attractor: Option<Attractor>,
    /// Least and greatest speed, in m/s.
    pub speed_limits: Option<[f32; 2]>,
    /// 1 for each axis along which bodies may move, else 0.
    pub free: [f32; 3],
}

impl Motion {
    /// The constants of the step from `time` on, in seconds, of `dt` seconds.
    pub fn new(spec: &MotionSpec, world: &World, time: f64, dt: f32) -> Self {
        let drag = f64::from(spec.drag);
        // What drag takes in a step: little, where 1 - exp(-x) would lose digits.
        let taken = -libm::expm1(-drag * f64::from(dt));
        let keep = (1.0 - taken) as f32;
        let reach = if drag > 0.0 { (taken / drag) as f32 } else { dt };
        let wind = world.spec().wind;
        let fall = world.spec().gravity.map(|axis| spec.weight * axis);
        let push = |i: usize| fall[i] + spec.drag * wind[i];
        Self {
            dt,
            drag: spec.drag,
            drag_square: spec.drag_square,
            keep,
            reach,
            start: start(drag, f64::from(dt)),
            push: [push(0), push(1), push(2)],
            fall,
            wind,
            // Gusts act through drag alone.
            gusts: world.gusts_at(time).filter(|_| spec.drag > 0.0 || spec.drag_square > 0.0),
            attractor: world.lone_attractor(),
            speed_limits: spec.speed_limits,
            free: KeepTo::free(spec.keep_to),
        }
    }

    /// Speed below which a body can come to rest, in m/s: twice what gravity adds in a step.
    pub fn rest(&self) -> f32 {
        2.0 * self.dt * Vec3::from(self.fall).length()
    }

    /// Velocity after a time, from the velocity `v`, the velocity of the air and the acceleration; `keep` and `reach` as of [`Motion`].
    #[inline(always)]
    pub(crate) fn after<const SQUARE: bool>(
        &self,
        v: [f32; 3],
        air: [f32; 3],
        push: [f32; 3],
        mut keep: f32,
        mut reach: f32,
    ) -> [f32; 3] {
        let u = [v[0] - air[0], v[1] - air[1], v[2] - air[2]];
        if SQUARE {
            let through = (u[0] * u[0] + u[1] * u[1] + u[2] * u[2]).sqrt();
            let slow = 1.0 / (1.0 + self.drag_square * through * reach);
            (keep, reach) = (keep * slow, reach * slow);
        }
        [
            (air[0] + u[0] * keep + push[0] * reach) * self.free[0],
            (air[1] + u[1] * keep + push[1] * reach) * self.free[1],
            (air[2] + u[2] * keep + push[2] * reach) * self.free[2],
        ]
    }

    /// Clamps a velocity to the limits of speed.
    #[inline(always)]
    fn limited(&self, v: [f32; 3]) -> [f32; 3] {
        let [least, most] = self.speed_limits.unwrap_or([0.0, f32::INFINITY]);
        let speed = (v[0] * v[0] + v[1] * v[1] + v[2] * v[2]).sqrt();
        // A body at rest has no direction to speed up in.
        let scale = if speed > 0.0 { speed.max(least).min(most) / speed } else { 1.0 };
        [v[0] * scale, v[1] * scale, v[2] * scale]
    }

    /// Mean velocity over the first `age` seconds of a newborn, and its velocity after them, in m/s, by two half steps.
    #[inline(always)]
    pub(crate) fn since_birth<const LIMITS: bool>(
        &self,
        v: [f32; 3],
        air: [f32; 3],
        push: [f32; 3],
        age: f32,
    ) -> ([f32; 3], [f32; 3]) {
        let (keep, share) = decay(0.5 * self.drag * age);
        let reach = 0.5 * age * share;
        let half = |v: [f32; 3]| {
            let after = self.after::<true>(v, air, push, keep, reach);
            if LIMITS { self.limited(after) } else { after }
        };
        let middle = half(v);
        (middle, half(middle))
    }

    /// Velocity that the leapfrog starts from, in m/s, for a body that has the velocity `v` now.
    #[inline(always)]
    pub(crate) fn before_birth<const LIMITS: bool>(
        &self,
        v: [f32; 3],
        air: [f32; 3],
        push: [f32; 3],
    ) -> [f32; 3] {
        let (free, [share, reach]) = (self.free, self.start);
        let v = [v[0] * free[0], v[1] * free[1], v[2] * free[2]];
        let v = if LIMITS { self.limited(v) } else { v };
        let u = [v[0] - air[0], v[1] - air[1], v[2] - air[2]];
        let through = (u[0] * u[0] + u[1] * u[1] + u[2] * u[2]).sqrt();
        let share = share + 0.5 * (self.drag_square * through * self.dt).min(1.0);
        [
            (air[0] + u[0] * share + push[0] * reach) * free[0],
            (air[1] + u[1] * share + push[1] * reach) * free[1],
            (air[2] + u[2] * share + push[2] * reach) * free[2],
        ]
    }

    /// New position and velocity of one body by the plain form, for columns and objects alike.
    #[inline(always)]
    pub(crate) fn advance<const GUSTS: bool, const ATTRACTOR: bool>(
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

/// [`Motion::start`] for a drag, in 1/s, and a step, in seconds. If drag takes most of the velocity within a step, newborns start with theirs.
fn start(drag: f64, dt: f64) -> [f32; 2] {
    let x = drag * dt;
    if x > 1.0 {
        return [1.0, 0.0];
    }
    if x < 1e-4 {
        return [1.0 + 0.5 * x, -dt * (0.5 + x / 6.0)].map(|value| value as f32);
    }
    let keep = libm::exp(-x);
    let reach = (1.0 - keep) / drag;
    let fall = (dt - reach) / drag;
    [reach / (dt * keep), (fall / dt - reach) / keep].map(|value| value as f32)
}

/// exp(-x) and (1 - exp(-x)) / x for x from 0 on; beyond 8 the limits 0 and 1 / x. A series for an eighth of x, doubled three times: plain
/// arithmetic, so that loops vectorise.
#[inline(always)]
fn decay(x: f32) -> (f32, f32) {
    let y = x.min(8.0) * 0.125;
    let mut share = 1.0 / 362_880.0;
    for divisor in [40_320.0, 5_040.0, 720.0, 120.0, 24.0, 6.0, 2.0, 1.0] {
        share = 1.0 / divisor - share * y;
    }
    let mut keep = 1.0 - y * share;
    for _ in 0..3 {
        share *= 0.5 * (1.0 + keep);
        keep *= keep;
    }
    if x > 8.0 { (0.0, 1.0 / x) } else { (keep, share) }
}
