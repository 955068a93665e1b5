//! What elements bounce off, and what picks them up.
//!
//! Elements count as points. One that ends a step inside an obstacle is brought out by its depth; what of its velocity leads inwards
//! is sent back times the bounce, what leads along loses its friction.

use glam::Vec3;
use serde::{Deserialize, Serialize};

use crate::error::{SpecError, direction, vector_within, within};

/// Most obstacles, and most collectors, of a world.
pub const MOST_SOLID: usize = 16;

/// Something that elements bounce off.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
#[non_exhaustive]
pub struct ObstacleSpec {
    /// Its shape and place.
    pub shape: ObstacleShape,
    /// Share of the speed towards it that is sent back, 0 to 1. Default 0.4.
    #[serde(default = "default_bounce")]
    pub bounce: f32,
    /// Share of the speed along it that is lost at each touch, 0 to 1. Default 0.1.
    #[serde(default = "default_friction")]
    pub friction: f32,
}

fn default_bounce() -> f32 {
    0.4
}

fn default_friction() -> f32 {
    0.1
}

/// Shape and place of an obstacle.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
#[non_exhaustive]
pub enum ObstacleShape {
    /// All that is behind a plane.
    Plane {
        /// A point of it, m.
        position: [f32; 3],
        /// Direction it faces; any length but 0. Default up.
        #[serde(default = "up")]
        normal: [f32; 3],
    },
    /// The inside of a sphere.
    Sphere {
        /// Its middle, m.
        position: [f32; 3],
        /// m, 0.001 to 1e6.
        radius: f32,
    },
}

fn up() -> [f32; 3] {
    [0.0, 1.0, 0.0]
}

impl ObstacleSpec {
    /// A plane through a point, m, that faces this way.
    pub fn plane(position: [f32; 3], normal: [f32; 3]) -> Self {
        Self::new(ObstacleShape::Plane { position, normal })
    }

    /// A sphere about a point, m, of a radius, m.
    pub fn sphere(position: [f32; 3], radius: f32) -> Self {
        Self::new(ObstacleShape::Sphere { position, radius })
    }

    fn new(shape: ObstacleShape) -> Self {
        Self { shape, bounce: default_bounce(), friction: default_friction() }
    }

    /// The same that sends back this share of the speed towards it, and takes this share of the speed along it.
    pub fn bounce(mut self, bounce: f32, friction: f32) -> Self {
        (self.bounce, self.friction) = (bounce, friction);
        self
    }

    fn check(&self) -> Result<(), SpecError> {
        within("bounce", self.bounce, 0.0, 1.0, "")?;
        within("friction", self.friction, 0.0, 1.0, "")?;
        match self.shape {
            ObstacleShape::Plane { position, normal } => {
                vector_within("shape.plane.position", position, 1e6, "m")?;
                direction("shape.plane.normal", normal)
            }
            ObstacleShape::Sphere { position, radius } => {
                vector_within("shape.sphere.position", position, 1e6, "m")?;
                within("shape.sphere.radius", radius, 0.001, 1e6, "m")
            }
        }
    }
}

/// A ball that picks up every element that comes into it.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
#[non_exhaustive]
pub struct CollectorSpec {
    /// Its middle, m.
    pub position: [f32; 3],
    /// m, 0.001 to 1e6.
    pub radius: f32,
}

impl CollectorSpec {
    /// A ball about a point, m, of a radius, m.
    pub fn new(position: [f32; 3], radius: f32) -> Self {
        Self { position, radius }
    }

    fn check(&self) -> Result<(), SpecError> {
        vector_within("position", self.position, 1e6, "m")?;
        within("radius", self.radius, 0.001, 1e6, "m")
    }
}

/// Obstacles and collectors made ready: planes and spheres as four numbers each.
#[derive(Debug, Clone, Default, PartialEq)]
#[non_exhaustive]
pub struct Solid {
    /// Unit normals and offsets of planes, middles and radii of spheres.
    pub obstacles: Vec<SolidShape>,
    /// Middles and radii.
    pub collectors: Vec<[f32; 4]>,
}

/// An obstacle made ready.
#[derive(Debug, Clone, Copy, PartialEq)]
#[non_exhaustive]
pub struct SolidShape {
    /// Of a plane the unit normal and its offset along it, m; of a sphere its middle and radius, m.
    pub place: [f32; 4],
    /// Which of the two.
    pub is_sphere: bool,
    /// Share sent back.
    pub bounce: f32,
    /// Share lost along it.
    pub friction: f32,
}

impl Solid {
    /// Checks and makes ready.
    pub(crate) fn new(obstacles: &[ObstacleSpec], collectors: &[CollectorSpec]) -> Result<Self, SpecError> {
        for (key, count) in [("obstacle", obstacles.len()), ("collector", collectors.len())] {
            if count > MOST_SOLID {
                return Err(SpecError::new(
                    key,
                    format!("there are {count}"),
                    format!("keep to {MOST_SOLID}"),
                ));
            }
        }
        let shape = |(nth, spec): (usize, &ObstacleSpec)| {
            spec.check().map_err(|error| error.under(&format!("obstacle.{nth}")))?;
            let (place, is_sphere) = match spec.shape {
                ObstacleShape::Plane { position, normal } => {
                    let normal = Vec3::from(normal).normalize_or(Vec3::Y);
                    (normal.extend(normal.dot(position.into())), false)
                }
                ObstacleShape::Sphere { position, radius } => (Vec3::from(position).extend(radius), true),
            };
            let ObstacleSpec { bounce, friction, .. } = *spec;
            Ok(SolidShape { place: place.to_array(), is_sphere, bounce, friction })
        };
        let ball = |(nth, spec): (usize, &CollectorSpec)| {
            spec.check().map_err(|error| error.under(&format!("collector.{nth}")))?;
            let [x, y, z] = spec.position;
            Ok([x, y, z, spec.radius])
        };
        Ok(Self {
            obstacles: obstacles.iter().enumerate().map(shape).collect::<Result<_, SpecError>>()?,
            collectors: collectors.iter().enumerate().map(ball).collect::<Result<_, SpecError>>()?,
        })
    }

    /// Whether there is nothing to meet.
    pub fn is_empty(&self) -> bool {
        self.obstacles.is_empty() && self.collectors.is_empty()
    }

    /// Brings a point out of every obstacle; returns whether it was sent back by one.
    pub(crate) fn bounce(&self, place: &mut [f32; 3], velocity: &mut [f32; 3]) -> bool {
        let (mut p, mut v, mut hit) = (Vec3::from(*place), Vec3::from(*velocity), false);
        for solid in &self.obstacles {
            let [x, y, z, w] = solid.place;
            let mut normal = Vec3::new(x, y, z);
            let mut off = p.dot(normal) - w;
            if solid.is_sphere {
                let way = p - normal;
                let far = way.length();
                off = far - w;
                normal = if far > 1e-9 { way / far } else { Vec3::Y };
            }
            if off < 0.0 {
                p -= normal * off;
                let into = v.dot(normal);
                if into < 0.0 {
                    v = (v - normal * into) * (1.0 - solid.friction) - normal * (into * solid.bounce);
                    hit = true;
                }
            }
        }
        (*place, *velocity) = (p.to_array(), v.to_array());
        hit
    }

    /// Whether a collector holds a point.
    pub(crate) fn picks(&self, place: [f32; 3]) -> bool {
        let inside = |&[x, y, z, radius]: &[f32; 4]| {
            Vec3::from(place).distance_squared(Vec3::new(x, y, z)) < radius * radius
        };
        self.collectors.iter().any(inside)
    }
}
