//! Births: when they are due within a step, and what a newborn looks like. [`Emitters::due`] and [`EmitterAxes`] serve a population that
//! lives on a device too.

use std::f32::consts::TAU;

use glam::Vec3;

use super::ParticleRow;
use super::spec::{EmitterSpec, ParticleSpec, ShapeSpec};
use crate::random::Draws;

/// What emitters carry from step to step.
#[derive(Debug, Clone)]
pub struct Emitters {
    /// Fraction of an element that each stream still owes.
    owed: Vec<f64>,
}

/// Births of one emitter that are due in a step.
#[derive(Debug, Clone, Copy, PartialEq)]
#[non_exhaustive]
pub struct Due {
    /// Which emitter.
    pub emitter: usize,
    /// How many.
    pub count: u64,
    /// Age of the first at the end of the step, s.
    pub first_age: f64,
    /// By how much each next one is younger, s.
    pub age_step: f64,
    before: f64,
    rate: f64,
    dt: f64,
}

impl Due {
    /// Age of the `nth` at the end of the step, s.
    pub fn age(&self, nth: u64) -> f64 {
        if self.age_step == 0.0 {
            return self.first_age;
        }
        (self.dt - ((nth + 1) as f64 - self.before) / self.rate).clamp(0.0, self.dt)
    }
}

impl Emitters {
    /// Nothing is owed yet.
    pub fn new(specs: &[EmitterSpec]) -> Self {
        Self { owed: vec![0.0; specs.len()] }
    }

    /// Hands what is due in the step from `time` to `time + dt`, s, to `each`: streams and bursts, emitter by emitter.
    pub fn due(&mut self, specs: &[EmitterSpec], time: f64, dt: f32, mut each: impl FnMut(Due)) {
        let dt = f64::from(dt);
        for (nth, (emitter, owed)) in specs.iter().zip(&mut self.owed).enumerate() {
            let rate = f64::from(emitter.rate);
            let before = *owed;
            let total = before + rate * dt;
            let count = total.floor();
            *owed = total - count;
            if count > 0.0 {
                let (first_age, age_step) = (dt - (1.0 - before) / rate, 1.0 / rate);
                each(Due { emitter: nth, count: count as u64, first_age, age_step, before, rate, dt });
            }
            if let Some(burst) = &emitter.burst {
                let at = f64::from(burst.at);
                if at >= time && at < time + dt {
                    let (count, first_age) = (u64::from(burst.count), time + dt - at);
                    each(Due { emitter: nth, count, first_age, age_step: 0.0, before, rate, dt });
                }
            }
        }
    }

    /// Hands the newborn of the step from `time` to `time + dt` to `born`, at most `room` of them, numbered from
    /// `first_id`. Returns how many were due.
    ///
    /// A newborn is as old as the rest of the step after its moment of birth, and has moved for as long, so that a
    /// stream is even at any step rate.
    pub(super) fn emit(
        &mut self,
        spec: &ParticleSpec,
        seed: u32,
        time: f64,
        dt: f32,
        first_id: u32,
        room: usize,
        mut born: impl FnMut(&ParticleRow),
    ) -> u64 {
        let mut due = 0u64;
        self.due(&spec.emitters, time, dt, |now| {
            let newborn = Newborn::new(spec, &spec.emitters[now.emitter]);
            let fits = (room as u64).saturating_sub(due).min(now.count);
            for nth in 0..fits {
                let id = first_id.wrapping_add((due + nth) as u32);
                born(&newborn.row(Draws { seed, id }, now.age(nth) as f32));
            }
            due += now.count;
        });
        due
    }
}

/// Which ways an emitter's shape and aim lie: three directions at right angles each, the third the one asked for.
#[derive(Debug, Clone, Copy, PartialEq)]
#[non_exhaustive]
pub struct EmitterAxes {
    /// Of its aim.
    pub aim: [Vec3; 3],
    /// Of its shape.
    pub face: [Vec3; 3],
    /// Cosine of the largest angle from the aim.
    pub cos_spread: f32,
}

impl EmitterAxes {
    /// Those of an emitter.
    pub fn of(emitter: &EmitterSpec) -> Self {
        let Newborn { aim, face, cos_spread, .. } = Newborn::new(&ParticleSpec::new(0), emitter);
        Self { aim: [aim.x, aim.y, aim.z], face: [face.x, face.y, face.z], cos_spread }
    }
}

/// An emitter with its directions worked out.
struct Newborn<'a> {
    spec: &'a ParticleSpec,
    emitter: &'a EmitterSpec,
    aim: Basis,
    face: Basis,
    cos_spread: f32,
}

impl<'a> Newborn<'a> {
    fn new(spec: &'a ParticleSpec, emitter: &'a EmitterSpec) -> Self {
        let normal = match emitter.shape {
            ShapeSpec::Disc { normal, .. } => normal,
            _ => [0.0, 1.0, 0.0],
        };
        Self {
            spec,
            emitter,
            aim: Basis::around(emitter.aim.direction),
            face: Basis::around(normal),
            cos_spread: libm::cosf(emitter.aim.spread_degrees.to_radians()),
        }
    }

    fn row(&self, draws: Draws, age: f32) -> ParticleRow {
        let [u, v, speed] = draws.draw(1);
        let [life, size, _] = draws.draw(2);
        let velocity = self.aim.cap(u, v, self.cos_spread) * self.emitter.speed.at(speed);
        let position = Vec3::from(self.emitter.position) + self.place(draws.draw(0)) + velocity * age;
        ParticleRow {
            px: position.x,
            py: position.y,
            pz: position.z,
            vx: velocity.x,
            vy: velocity.y,
            vz: velocity.z,
            age,
            life: self.spec.life.at(life),
            size: self.spec.size.at(size),
            id: draws.id,
        }
    }

    /// A place of the shape, evenly over its area or volume.
    fn place(&self, [u, v, w]: [f32; 3]) -> Vec3 {
        match self.emitter.shape {
            ShapeSpec::Point => Vec3::ZERO,
            ShapeSpec::Disc { radius, .. } => {
                let (sin, cos) = libm::sincosf(TAU * v);
                (self.face.x * cos + self.face.y * sin) * (radius * u.sqrt())
            }
            ShapeSpec::Sphere { radius } => self.face.cap(u, v, -1.0) * (radius * libm::cbrtf(w)),
            ShapeSpec::SphereSurface { radius } => self.face.cap(u, v, -1.0) * radius,
            ShapeSpec::Box { size } => (Vec3::new(u, v, w) - 0.5) * Vec3::from(size),
        }
    }
}

/// Three directions at right angles, z along the one asked for.
struct Basis {
    x: Vec3,
    y: Vec3,
    z: Vec3,
}

impl Basis {
    /// Duff et al., "Building an Orthonormal Basis, Revisited" (2017).
    fn around(direction: [f32; 3]) -> Self {
        let z = Vec3::from(direction).normalize_or(Vec3::Y);
        let sign = 1.0f32.copysign(z.z);
        let a = -1.0 / (sign + z.z);
        let b = z.x * z.y * a;
        Self {
            x: Vec3::new(1.0 + sign * z.x * z.x * a, sign * b, -sign * z.x),
            y: Vec3::new(b, sign + z.y * z.y * a, -z.y),
            z,
        }
    }

    /// A direction evenly over the cap around z whose rim has this cosine.
    fn cap(&self, u: f32, v: f32, cos_rim: f32) -> Vec3 {
        let cos = 1.0 - u * (1.0 - cos_rim);
        let sin = (1.0 - cos * cos).max(0.0).sqrt();
        let (sin_turn, cos_turn) = libm::sincosf(TAU * v);
        self.x * (sin * cos_turn) + self.y * (sin * sin_turn) + self.z * cos
    }
}
