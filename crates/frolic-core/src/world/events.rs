//! Events: what happens to the elements of one population, and what that starts in another.

use glam::Vec3;
use serde::{Deserialize, Serialize};

use crate::foundations::error::{SpecError, vector_within, within};
use crate::foundations::span::Span;
use crate::placement::{AimSpec, ShapeSpec};
use crate::world::bodies::BodyRow;

/// When something happens to an element, it may start others.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
#[non_exhaustive]
pub struct EventSpec {
    /// What happens.
    pub on: Moment,
    /// Name of the population that it starts elements of. Default none: it is only noted.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub start: Option<String>,
    /// How many each time; fractions by chance. 0 to 1e6. Default 1.
    #[serde(default = "one")]
    pub count: Span,
    /// Share of the times that it starts anything, 0 to 1. Default 1.
    #[serde(default = "always")]
    pub chance: f32,
    /// Most elements that it starts in a step. Default 10000.
    #[serde(default = "default_most")]
    pub most: u32,
    /// Where they appear, around the place of the event. Default there.
    #[serde(default)]
    pub shape: ShapeSpec,
    /// Which way they go. Default straight up.
    #[serde(default)]
    pub aim: AimSpec,
    /// What `aim` is measured from. Default the world.
    #[serde(default)]
    pub aim_by: AimBy,
    /// Speed at birth, m/s, 0 to 1e5. Default 1.
    #[serde(default = "one")]
    pub speed: Span,
    /// Share of the parent's velocity that is added, -10 to 10. Default 0.
    #[serde(default)]
    pub keep_velocity: f32,
    /// Radius as a share of the parent's, 0 to 1000. Default the population's own.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub size: Option<Span>,
    /// Whether they wear the tint, frame and spin of the parent. Default their own.
    #[serde(default)]
    pub keep_look: bool,
}

fn one() -> Span {
    Span::from(1.0)
}

fn always() -> f32 {
    1.0
}

fn default_most() -> u32 {
    10_000
}

/// What happens to an element.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
#[non_exhaustive]
pub enum Moment {
    /// It is born.
    Birth,
    /// Its life ends by age.
    Death,
    /// It touches an obstacle.
    Hit {
        /// Least speed towards it, m/s, 0 to 1e6: what merely lies there does not count. Default 0.5.
        #[serde(default = "least_speed")]
        speed: f32,
    },
    /// A collector picks it up.
    Caught,
    /// It reaches an age, s, 0 to 1e6.
    Age(f32),
    /// It comes into a region.
    Enter(Region),
}

fn least_speed() -> f32 {
    0.5
}

/// A part of space.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
#[non_exhaustive]
pub enum Region {
    /// A ball.
    Sphere {
        /// Its middle, m.
        position: [f32; 3],
        /// m, 0.001 to 1e6.
        radius: f32,
    },
    /// A box with sides along the axes.
    Box {
        /// Its middle, m.
        position: [f32; 3],
        /// Full side lengths, m, 0.001 to 1e6.
        size: [f32; 3],
    },
}

impl Region {
    /// Whether a place is in it.
    pub(crate) fn holds(&self, place: Vec3) -> bool {
        match *self {
            Self::Sphere { position, radius } => place.distance_squared(position.into()) < radius * radius,
            Self::Box { position, size } => {
                (place - Vec3::from(position)).abs().cmple(Vec3::from(size) * 0.5).all()
            }
        }
    }

    /// Whether any of a ball can be in it.
    pub(crate) fn reaches(&self, place: Vec3, far: f32) -> bool {
        match *self {
            Self::Sphere { position, radius } => {
                place.distance_squared(position.into()) < (radius + far) * (radius + far)
            }
            Self::Box { position, size } => {
                let half = Vec3::from(size) * 0.5;
                let off = (place - Vec3::from(position)).abs() - half;
                off.max(Vec3::ZERO).length_squared() < far * far
            }
        }
    }

    pub(crate) fn check(&self) -> Result<(), SpecError> {
        match *self {
            Self::Sphere { position, radius } => {
                vector_within("on.enter.sphere.position", position, 1e6, "m")?;
                within("on.enter.sphere.radius", radius, 0.001, 1e6, "m")
            }
            Self::Box { position, size } => {
                vector_within("on.enter.box.position", position, 1e6, "m")?;
                size.iter().try_for_each(|&side| within("on.enter.box.size", side, 0.001, 1e6, "m"))
            }
        }
    }
}

/// What an event's aim is measured from.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub enum AimBy {
    /// The world: `aim.direction` as it stands.
    #[default]
    World,
    /// The way the parent was going; `aim.direction` is not used.
    Velocity,
    /// Away from the obstacle that was hit, else up; `aim.direction` is not used.
    Normal,
}

/// Something that happened to one element.
#[derive(Debug, Clone, Copy, PartialEq)]
#[non_exhaustive]
pub struct Happening {
    /// Which of the population's events.
    pub event: u32,
    /// The element as it was then.
    pub element: BodyRow,
    /// The obstacle that it hit, or the collector that caught it.
    pub other: u32,
    /// Direction away from the obstacle that it hit.
    pub normal: [f32; 3],
}

impl EventSpec {
    /// When this happens, it is noted.
    pub fn note(on: Moment) -> Self {
        Self {
            on,
            start: None,
            count: one(),
            chance: always(),
            most: default_most(),
            shape: ShapeSpec::Point,
            aim: AimSpec::default(),
            aim_by: AimBy::World,
            speed: one(),
            keep_velocity: 0.0,
            size: None,
            keep_look: false,
        }
    }

    /// When this happens, so many elements of that population start.
    pub fn start(on: Moment, population: &str, count: f32) -> Self {
        Self { start: Some(population.to_owned()), count: Span::from(count), ..Self::note(on) }
    }

    /// The same aimed this way: largest angle from it, degrees, and speed, m/s.
    pub fn aim(mut self, by: AimBy, spread_degrees: f32, speed: Span) -> Self {
        self.aim_by = by;
        self.aim.spread_degrees = spread_degrees;
        self.speed = speed;
        self
    }

    /// The same with at most so many started in a step.
    pub fn most(mut self, most: u32) -> Self {
        self.most = most;
        self
    }

    /// The same that hands down this share of the velocity.
    pub fn keep_velocity(mut self, share: f32) -> Self {
        self.keep_velocity = share;
        self
    }

    pub(crate) fn check(&self) -> Result<(), SpecError> {
        self.count.check("count", 0.0, 1e6, "elements")?;
        within("chance", self.chance, 0.0, 1.0, "")?;
        within("keep_velocity", self.keep_velocity, -10.0, 10.0, "")?;
        self.speed.check("speed", 0.0, 1e5, "m/s")?;
        self.aim.check()?;
        self.shape.check()?;
        if let Some(size) = self.size {
            size.check("size", 0.0, 1000.0, "of the parent's")?;
        }
        match self.on {
            Moment::Hit { speed } => within("on.hit.speed", speed, 0.0, 1e6, "m/s"),
            Moment::Age(at) => within("on.age", at, 0.0, 1e6, "s"),
            Moment::Enter(region) => region.check(),
            Moment::Birth | Moment::Death | Moment::Caught => Ok(()),
        }
    }

    /// Most that one element can start by it, over its life.
    pub(crate) fn most_children(&self) -> f32 {
        let times = match self.on {
            Moment::Hit { .. } | Moment::Enter(_) => f32::INFINITY,
            _ => 1.0,
        };
        let each = self.count.max * self.chance;
        if each == 0.0 { 0.0 } else { each * times }
    }
}

/// Most events and emitters of one population.
pub(crate) const MOST_PARTS: usize = 256;
