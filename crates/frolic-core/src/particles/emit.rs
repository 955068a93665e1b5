//! Births: when they are due within a step, and what a newborn looks like.

use std::f32::consts::TAU;

use glam::Vec3;

use super::ParticleRow;
use super::spec::{EmitterSpec, ParticleSpec, ShapeSpec};
use crate::random::Draws;

/// What emitters carry from step to step.
#[derive(Debug)]
pub(super) struct Emitters {
    /// Fraction of an element that each stream still owes.
    owed: Vec<f64>,
}

impl Emitters {
    pub(super) fn new(specs: &[EmitterSpec]) -> Self {
        Self { owed: vec![0.0; specs.len()] }
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
        let dt = f64::from(dt);
        let mut due = 0u64;
        for (emitter, owed) in spec.emitters.iter().zip(&mut self.owed) {
            let newborn = Newborn::new(spec, emitter);
            let mut spawn = |count: u64, age: &dyn Fn(u64) -> f64| {
                let fits = (room as u64).saturating_sub(due).min(count);
                for nth in 0..fits {
                    let id = first_id.wrapping_add((due + nth) as u32);
                    born(&newborn.row(Draws { seed, id }, age(nth) as f32));
                }
                due += count;
            };

            let rate = f64::from(emitter.rate);
            let before = *owed;
            let total = before + rate * dt;
            let count = total.floor();
            *owed = total - count;
            spawn(count as u64, &|nth| (dt - ((nth + 1) as f64 - before) / rate).clamp(0.0, dt));

            if let Some(burst) = &emitter.burst {
                let at = f64::from(burst.at);
                if at >= time && at < time + dt {
                    spawn(u64::from(burst.count), &|_| time + dt - at);
                }
            }
        }
        due
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
