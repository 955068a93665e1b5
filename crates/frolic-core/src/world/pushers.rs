//! Pushers: walkers, rolling balls and blasts that bend blades.

use derive_setters::Setters;
use glam::{Vec2, Vec3};
use serde::{Deserialize, Serialize};

use crate::foundations::error::{SpecError, vector_within, within};
use crate::foundations::paths::{Path, PathSpec};

/// A pusher: it bends blades away from itself, and down.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, Setters)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
#[non_exhaustive]
pub struct PusherSpec {
    /// Name, for walkers. Default: none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[setters(skip)]
    pub name: Option<String>,
    /// Reach along the ground, in metres, 0 to 1e5; 0 has no effect.
    pub radius: f32,
    /// Position, in metres; on a path, the origin of the path.
    #[serde(default)]
    pub position: [f32; 3],
    /// Path, from `position` on. Default: none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[setters(into)]
    pub path: Option<PathSpec>,
    /// Reach above and below its position, in metres, 0 to 1e5. Default: 2.
    #[serde(default = "two")]
    pub height: f32,
    /// Strength with which it presses down blades right under it, 0 to 1. Default: 1, flat on the ground.
    #[serde(default = "one")]
    pub weight: f32,
    /// A blast: a ring that expands from the centre. Default: none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[setters(skip)]
    pub blast: Option<BlastSpec>,
}

fn one() -> f32 {
    1.0
}

fn two() -> f32 {
    2.0
}

/// A ring that expands from the centre to the radius of the pusher.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, Setters)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
#[non_exhaustive]
pub struct BlastSpec {
    /// Start, in seconds after the start, 0 to 1e9.
    pub at: f32,
    /// Time between blasts, in seconds, 0.01 to 1e6. Default: one blast only.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[setters(into)]
    pub every: Option<f32>,
    /// Speed of the ring, in m/s, 0.01 to 1e4.
    pub speed: f32,
}

impl PusherSpec {
    /// A pusher at a position, with a radius, in metres.
    pub fn new(position: [f32; 3], radius: f32) -> Self {
        Self { name: None, radius, position, path: None, height: two(), weight: one(), blast: None }
    }

    /// Sets its name, for walkers.
    pub fn name(mut self, name: &str) -> Self {
        self.name = Some(name.to_owned());
        self
    }

    /// Makes it a blast at a time, in seconds, whose ring has a speed, in m/s.
    pub fn blast(mut self, at: f32, speed: f32) -> Self {
        self.blast = Some(BlastSpec { at, every: None, speed });
        self
    }

    /// Checks that the values are in range.
    ///
    /// # Errors
    /// Names the key that is out of range.
    pub fn check(&self) -> Result<(), SpecError> {
        within("radius", self.radius, 0.0, 1e5, "m")?;
        vector_within("position", self.position, 1e6, "m")?;
        within("height", self.height, 0.0, 1e5, "m")?;
        within("weight", self.weight, 0.0, 1.0, "")?;
        if let Some(blast) = &self.blast {
            within("blast.at", blast.at, 0.0, 1e9, "s")?;
            blast.every.map_or(Ok(()), |every| within("blast.every", every, 0.01, 1e6, "s"))?;
            within("blast.speed", blast.speed, 0.01, 1e4, "m/s")?;
        }
        self.path.as_ref().map_or(Ok(()), |path| path.check().map_err(|error| error.under("path")))
    }
}

/// A prepared pusher.
#[derive(Debug, Clone)]
pub(crate) struct Pusher {
    spec: PusherSpec,
    path: Option<Path>,
}

impl Pusher {
    pub(crate) fn new(spec: &PusherSpec) -> Self {
        Self { spec: spec.clone(), path: spec.path.as_ref().map(Path::new) }
    }

    /// Where it was moved to, if it was.
    pub(crate) fn moved_from(&self, spec: &PusherSpec) -> Option<[f32; 3]> {
        let place = self.spec.position;
        (place != spec.position || self.path.is_none() != spec.path.is_none()).then_some(place)
    }

    pub(crate) fn put(&mut self, place: Vec3) {
        (self.spec.position, self.path) = (place.to_array(), None);
    }

    /// State at a time, in seconds; none before a blast and after it.
    pub(crate) fn at(&self, time: f64) -> Option<Pushing> {
        let spec = &self.spec;
        let (way, heading) = self.path.as_ref().map_or((Vec3::ZERO, Vec3::ZERO), |path| path.at(time));
        let at = Vec3::from(spec.position) + way;
        let mut pushing = Pushing {
            at,
            heading: Vec2::new(heading.x, heading.z),
            radius: spec.radius,
            ring: spec.blast.is_some(),
            inner: 0.0,
            height: spec.height,
            weight: spec.weight,
        };
        if let Some(blast) = &spec.blast {
            let since = time - f64::from(blast.at);
            let since =
                blast.every.map_or(since, |every| since.rem_euclid(f64::from(every)).min(since)) as f32;
            let front = since * blast.speed;
            // The ring is as wide as its way in a fifth of a second.
            let wide = blast.speed * 0.2;
            if since < 0.0 || front - wide > spec.radius {
                return None;
            }
            pushing.weight *= (1.0 - front / spec.radius.max(1e-6)).max(0.0);
            pushing.inner = (front - wide).max(0.0);
            pushing.radius = front.min(spec.radius);
            pushing.heading = Vec2::ZERO;
        }
        (pushing.radius > 0.0 && pushing.weight > 0.0).then_some(pushing)
    }
}

/// A pusher at one moment.
#[derive(Debug, Clone, Copy, PartialEq)]
#[non_exhaustive]
pub struct Pushing {
    /// Centre, in metres.
    pub at: Vec3,
    /// Unit direction along x and z; 0 if it does not move.
    pub heading: Vec2,
    /// Reach, in metres.
    pub radius: f32,
    /// Whether it is a ring.
    pub ring: bool,
    /// Inner edge of a ring, in metres.
    pub inner: f32,
    /// Reach above and below, in metres.
    pub height: f32,
    /// Strength with which it presses down blades right under it, 0 to 1.
    pub weight: f32,
}

impl Pushing {
    /// Bend of a blade at a position, in metres: along x and z, where 1 is flat on the ground. It falls smoothly to 0 at the radius.
    #[inline]
    pub fn on(&self, x: f32, y: f32, z: f32) -> Vec2 {
        let off = Vec2::new(x - self.at.x, z - self.at.z);
        let far = off.length();
        if !(far < self.radius && (y - self.at.y).abs() <= self.height) {
            return Vec2::ZERO;
        }
        let within = if self.ring {
            // Strongest halfway between its edges.
            let share = ((far - self.inner) / (self.radius - self.inner).max(1e-6)).clamp(0.0, 1.0);
            share * (1.0 - share) * 4.0
        } else {
            let share = 1.0 - far / self.radius;
            (share * 2.0).min(1.0)
        };
        let soft = within * within * (3.0 - 2.0 * within);
        // Away from the centre, and along its way.
        let away = off / far.max(1e-6) + self.heading * 0.8;
        away.normalize_or(Vec2::X) * (soft * self.weight)
    }
}
