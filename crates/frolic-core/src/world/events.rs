//! Events of the elements of one population, and what they start in another.

use derive_setters::Setters;
use glam::Vec3;
use serde::{Deserialize, Serialize};

use crate::foundations::error::{SpecError, vector_within, within};
use crate::foundations::span::Span;
use crate::placement::{AimSpec, ShapeSpec};
use crate::world::bodies::BodyRow;

/// An event of elements, which may start others.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, Setters)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
#[non_exhaustive]
pub struct EventSpec {
    /// Moment of the event.
    pub on: Moment,
    /// Name of the population that it starts elements of. Default: none; the event is only recorded.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[setters(skip)]
    pub start: Option<String>,
    /// Number of elements each time, 0 to 1e6; fractions by chance. Default: 1.
    #[serde(default = "one")]
    #[setters(into)]
    pub count: Span,
    /// Probability that it starts anything, 0 to 1. Default: 1.
    #[serde(default = "always")]
    pub chance: f32,
    /// Maximum number of elements that it starts in a step. Default: 10000.
    #[serde(default = "default_most")]
    pub most: u32,
    /// Shape in which they appear, around the place of the event. Default: a point.
    #[serde(default)]
    pub shape: ShapeSpec,
    /// Direction at birth. Default: up.
    #[serde(default)]
    pub aim: AimSpec,
    /// Reference of `aim`. Default: the world.
    #[serde(default)]
    pub aim_by: AimBy,
    /// Speed at birth, in m/s, 0 to 1e5. Default: 1.
    #[serde(default = "one")]
    #[setters(into)]
    pub speed: Span,
    /// Share of the velocity of the parent that is added, -10 to 10. Default: 0.
    #[serde(default)]
    pub keep_velocity: f32,
    /// Radius relative to that of the parent, 0 to 1000. Default: as of the population.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[setters(into)]
    pub size: Option<Span>,
    /// Whether they take over tint, frame and spin of the parent. Default: false.
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

/// Moment of an event.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
#[non_exhaustive]
pub enum Moment {
    /// Birth.
    Birth,
    /// Death by age.
    Death,
    /// Contact with an obstacle.
    Hit {
        /// Minimum speed towards the obstacle, in m/s, 0 to 1e6; elements at rest do not count. Default: 0.5.
        #[serde(default = "least_speed")]
        speed: f32,
    },
    /// Catch by a collector.
    Caught,
    /// Age, in seconds, 0 to 1e6.
    Age(f32),
    /// Entry into a region.
    Enter(Region),
}

fn least_speed() -> f32 {
    0.5
}

/// A region of space.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
#[non_exhaustive]
pub enum Region {
    /// A ball.
    Sphere {
        /// Centre, in metres.
        position: [f32; 3],
        /// Radius, in metres, 0.001 to 1e6.
        radius: f32,
    },
    /// A box with sides along the axes.
    Box {
        /// Centre, in metres.
        position: [f32; 3],
        /// Full lengths of the sides, in metres, 0.001 to 1e6.
        size: [f32; 3],
    },
}

impl Region {
    /// Whether it contains a position.
    pub(crate) fn holds(&self, place: Vec3) -> bool {
        match *self {
            Self::Sphere { position, radius } => place.distance_squared(position.into()) < radius * radius,
            Self::Box { position, size } => {
                (place - Vec3::from(position)).abs().cmple(Vec3::from(size) * 0.5).all()
            }
        }
    }

    /// Whether it can overlap a ball.
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

/// Reference of the aim of an event.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub enum AimBy {
    /// The world: `aim.direction` applies.
    #[default]
    World,
    /// The velocity of the parent; `aim.direction` is not used.
    Velocity,
    /// The normal of the obstacle that was hit, or up; `aim.direction` is not used.
    Normal,
}

/// An event record of one element.
#[derive(Debug, Clone, Copy, PartialEq)]
#[non_exhaustive]
pub struct EventRecord {
    /// Index of the event in its population.
    pub event: u32,
    /// The element at that moment.
    pub element: BodyRow,
    /// Index of the obstacle that it hit, or of the collector that caught it.
    pub other: u32,
    /// Normal of the obstacle that it hit.
    pub normal: [f32; 3],
}

impl EventSpec {
    /// An event that is only recorded.
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

    /// An event that starts `count` elements of a population.
    pub fn start(on: Moment, population: &str, count: f32) -> Self {
        Self { start: Some(population.to_owned()), count: Span::from(count), ..Self::note(on) }
    }

    /// Sets the reference of the aim, the largest angle from it, in degrees, and the speed, in m/s.
    pub fn cone(mut self, by: AimBy, spread_degrees: f32, speed: Span) -> Self {
        self.aim_by = by;
        self.aim.spread_degrees = spread_degrees;
        self.speed = speed;
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

    /// Maximum number of elements that one element can start by it, over its life.
    pub(crate) fn most_children(&self) -> f32 {
        let times = match self.on {
            Moment::Hit { .. } | Moment::Enter(_) => f32::INFINITY,
            _ => 1.0,
        };
        let each = self.count.max * self.chance;
        if each == 0.0 { 0.0 } else { each * times }
    }
}

/// Maximum number of events, and of emitters, of a population.
pub(crate) const MOST_PARTS: usize = 256;
