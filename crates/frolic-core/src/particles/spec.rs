//! How a population of particles is described: plain data, checked before use.

use serde::{Deserialize, Serialize};

use crate::error::{SpecError, direction, vector_within, within};
use crate::span::Span;

/// How elements are held in memory.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub enum Storage {
    /// One contiguous array an attribute. The fast way.
    #[default]
    Columns,
    /// One heap record an element, stepped on one thread. The classic way, kept so that the two can be compared.
    Objects,
}

/// A population of particles.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
#[non_exhaustive]
pub struct ParticleSpec {
    /// Most elements alive at once; memory for all is reserved at the start.
    pub count: u32,
    /// Age at death, s, 0.001 to 1e6. Default 1 to 2.
    pub life: Span,
    /// Radius at birth, m, 0 to 1e4. Default 0.05.
    pub size: Span,
    /// How the population answers to the world.
    pub motion: MotionSpec,
    /// Where and when elements appear; without one the population stays empty.
    pub emitters: Vec<EmitterSpec>,
}

/// How a population answers to the world's fields.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
#[non_exhaustive]
pub struct MotionSpec {
    /// Rate at which velocity nears that of the air, 1/s, 0 to 1e4. Default 0: no air.
    pub drag: f32,
    /// Share of the world's gravity that is felt, -100 to 100; negative rises. Default 1.
    pub weight: f32,
}

impl Default for MotionSpec {
    fn default() -> Self {
        Self { drag: 0.0, weight: 1.0 }
    }
}

/// Where, when and how fast elements appear.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
#[non_exhaustive]
pub struct EmitterSpec {
    /// Elements a second, 0 to 1e9, spread evenly over each step. Default 0.
    pub rate: f32,
    /// Elements that appear all at once. Default none.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub burst: Option<BurstSpec>,
    /// Where they appear, around `position`. Default a point.
    pub shape: ShapeSpec,
    /// Middle of the shape, m. Default the origin.
    pub position: [f32; 3],
    /// Which way they go. Default straight up.
    pub aim: AimSpec,
    /// Speed at birth, m/s, 0 to 1e5. Default 1.
    pub speed: Span,
}

impl Default for EmitterSpec {
    fn default() -> Self {
        Self {
            rate: 0.0,
            burst: None,
            shape: ShapeSpec::Point,
            position: [0.0; 3],
            aim: AimSpec::default(),
            speed: Span::from(1.0),
        }
    }
}

/// A one-off burst.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
#[non_exhaustive]
pub struct BurstSpec {
    /// How many appear.
    pub count: u32,
    /// When, s after the start, 0 to 1e9.
    #[serde(default)]
    pub at: f32,
}

/// The set of places where elements appear, each equally likely.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
#[non_exhaustive]
pub enum ShapeSpec {
    /// One point.
    Point,
    /// A flat disc.
    Disc {
        /// Radius, m, 0 to 1e6.
        radius: f32,
        /// Direction it faces. Default up.
        #[serde(default = "up")]
        normal: [f32; 3],
    },
    /// The inside of a sphere.
    Sphere {
        /// Radius, m, 0 to 1e6.
        radius: f32,
    },
    /// The skin of a sphere.
    SphereSurface {
        /// Radius, m, 0 to 1e6.
        radius: f32,
    },
    /// The inside of a box with sides along the axes.
    Box {
        /// Full side lengths, m, 0 to 1e6.
        size: [f32; 3],
    },
}

fn up() -> [f32; 3] {
    [0.0, 1.0, 0.0]
}

/// A direction and how far elements stray from it.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
#[non_exhaustive]
pub struct AimSpec {
    /// Middle direction; any length but 0. Default up.
    pub direction: [f32; 3],
    /// Largest angle from the middle, degrees, 0 (a ray) to 180 (every way). Even over the cap. Default 0.
    pub spread_degrees: f32,
}

impl Default for AimSpec {
    fn default() -> Self {
        Self { direction: up(), spread_degrees: 0.0 }
    }
}

impl ParticleSpec {
    /// Up to `count` elements that live 1 to 2 s, 5 cm in radius, under full gravity without drag.
    pub fn new(count: u32) -> Self {
        Self {
            count,
            life: Span::new(1.0, 2.0),
            size: Span::from(0.05),
            motion: MotionSpec::default(),
            emitters: Vec::new(),
        }
    }

    /// The same with this range of life, s.
    pub fn life(mut self, min: f32, max: f32) -> Self {
        self.life = Span::new(min, max);
        self
    }

    /// The same with this range of radius, m.
    pub fn size(mut self, min: f32, max: f32) -> Self {
        self.size = Span::new(min, max);
        self
    }

    /// The same with this linear drag, 1/s, and share of gravity.
    pub fn motion(mut self, drag: f32, weight: f32) -> Self {
        self.motion = MotionSpec { drag, weight };
        self
    }

    /// The same with one more emitter.
    pub fn emitter(mut self, emitter: EmitterSpec) -> Self {
        self.emitters.push(emitter);
        self
    }

    /// Whether every value is in range.
    ///
    /// # Errors
    /// Names the first key that is not.
    pub fn check(&self) -> Result<(), SpecError> {
        self.life.check("life", 0.001, 1e6, "s")?;
        self.size.check("size", 0.0, 1e4, "m")?;
        within("motion.drag", self.motion.drag, 0.0, 1e4, "1/s")?;
        within("motion.weight", self.motion.weight, -100.0, 100.0, "times gravity")?;
        self.emitters.iter().enumerate().try_for_each(|(nth, emitter)| {
            emitter.check().map_err(|error| error.under(&format!("emitter.{nth}")))
        })
    }
}

impl EmitterSpec {
    /// A steady stream, elements a second.
    pub fn rate(rate: f32) -> Self {
        Self { rate, ..Self::default() }
    }

    /// A one-off burst of `count` elements, `at` seconds after the start.
    pub fn burst(count: u32, at: f32) -> Self {
        Self { burst: Some(BurstSpec { count, at }), ..Self::default() }
    }

    /// The same around this place, m.
    pub fn at(mut self, position: [f32; 3]) -> Self {
        self.position = position;
        self
    }

    /// The same from this shape.
    pub fn shape(mut self, shape: ShapeSpec) -> Self {
        self.shape = shape;
        self
    }

    /// The same aimed this way: direction and largest angle from it, degrees.
    pub fn aim(mut self, direction: [f32; 3], spread_degrees: f32) -> Self {
        self.aim = AimSpec { direction, spread_degrees };
        self
    }

    /// The same at this range of speed, m/s.
    pub fn speed(mut self, min: f32, max: f32) -> Self {
        self.speed = Span::new(min, max);
        self
    }

    fn check(&self) -> Result<(), SpecError> {
        within("rate", self.rate, 0.0, 1e9, "elements a second")?;
        if let Some(burst) = &self.burst {
            within("burst.at", burst.at, 0.0, 1e9, "s")?;
        }
        match self.shape {
            ShapeSpec::Point => {}
            ShapeSpec::Disc { radius, normal } => {
                within("shape.disc.radius", radius, 0.0, 1e6, "m")?;
                direction("shape.disc.normal", normal)?;
            }
            ShapeSpec::Sphere { radius } => within("shape.sphere.radius", radius, 0.0, 1e6, "m")?,
            ShapeSpec::SphereSurface { radius } => {
                within("shape.sphere-surface.radius", radius, 0.0, 1e6, "m")?;
            }
            ShapeSpec::Box { size } => {
                size.iter().try_for_each(|&side| within("shape.box.size", side, 0.0, 1e6, "m"))?;
            }
        }
        vector_within("position", self.position, 1e6, "m")?;
        direction("aim.direction", self.aim.direction)?;
        within("aim.spread_degrees", self.aim.spread_degrees, 0.0, 180.0, "degrees")?;
        self.speed.check("speed", 0.0, 1e5, "m/s")
    }
}
