//! What moves through blades and bends them: walkers, rolling balls, blasts.

use glam::{Vec2, Vec3};
use serde::{Deserialize, Serialize};

use crate::foundations::error::{SpecError, vector_within, within};
use crate::foundations::paths::{Path, PathSpec};

/// Something that bends blades away from itself, and down.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
#[non_exhaustive]
pub struct PusherSpec {
    /// How far it reaches along the ground, m, 0 to 1e5; 0 reaches nothing.
    pub radius: f32,
    /// Where it is, m; on a path, where the path's origin is.
    #[serde(default)]
    pub position: [f32; 3],
    /// The way that it goes, from `position` on. Default it stays.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub path: Option<PathSpec>,
    /// How high above its place it still bends blades, and how deep below, m, 0 to 1e5. Default 2.
    #[serde(default = "two")]
    pub height: f32,
    /// How far down it bends what is right under it, 0 to 1. Default 1: flat.
    #[serde(default = "one")]
    pub weight: f32,
    /// Makes a blast of it: a ring that runs out from the middle. Default none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub blast: Option<BlastSpec>,
}

fn one() -> f32 {
    1.0
}

fn two() -> f32 {
    2.0
}

/// A ring that runs out from the middle, to the pusher's radius.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
#[non_exhaustive]
pub struct BlastSpec {
    /// When it starts, s after the start, 0 to 1e9.
    pub at: f32,
    /// Time from one to the next, s, 0.01 to 1e6. Default once.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub every: Option<f32>,
    /// How fast the ring runs, m/s, 0.01 to 1e4.
    pub speed: f32,
}

impl PusherSpec {
    /// Something of a radius, m, at a place, m.
    pub fn new(position: [f32; 3], radius: f32) -> Self {
        Self { radius, position, path: None, height: two(), weight: one(), blast: None }
    }

    /// The same that follows a path from its position on.
    pub fn along(mut self, path: PathSpec) -> Self {
        self.path = Some(path);
        self
    }

    /// The same as a blast at a time, s, whose ring runs so fast, m/s.
    pub fn blast(mut self, at: f32, speed: f32) -> Self {
        self.blast = Some(BlastSpec { at, every: None, speed });
        self
    }

    /// Whether the values are in range.
    ///
    /// # Errors
    /// Names the key that is not.
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

/// A pusher made ready.
#[derive(Debug, Clone)]
pub(crate) struct Pusher {
    spec: PusherSpec,
    path: Option<Path>,
}

impl Pusher {
    pub(crate) fn new(spec: &PusherSpec) -> Self {
        Self { spec: spec.clone(), path: spec.path.as_ref().map(Path::new) }
    }

    pub(crate) fn put(&mut self, place: Vec3) {
        (self.spec.position, self.path) = (place.to_array(), None);
    }

    /// What it bends at a time, s; nothing before its blast and after.
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
            // The ring is as wide as what it runs in a fifth of a second.
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
    /// Its middle, m.
    pub at: Vec3,
    /// Which way it goes along x and z, of length 1; 0 if nowhere.
    pub heading: Vec2,
    /// How far it reaches, m.
    pub radius: f32,
    /// Whether it is a ring.
    pub ring: bool,
    /// Of a ring, its inner edge, m.
    pub inner: f32,
    /// How high and how deep it reaches, m.
    pub height: f32,
    /// How far down it bends what is right under it, 0 to 1.
    pub weight: f32,
}

impl Pushing {
    /// How it bends a blade that stands at a place, m: along x and z, 1 is flat on the ground. Falls smoothly to nothing at the radius.
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
        // Away from the middle, and along with what goes over it.
        let away = off / far.max(1e-6) + self.heading * 0.8;
        away.normalize_or(Vec2::X) * (soft * self.weight)
    }
}
