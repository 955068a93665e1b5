//! Specs of fields.

use crate::foundations::error::{SpecError, direction, each, vector_within, within};
use crate::foundations::span::Span;
use derive_setters::Setters;
use serde::{Deserialize, Serialize};

/// A field.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, Setters)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
#[non_exhaustive]
pub struct FieldSpec {
    /// Kind of the field.
    pub kind: FieldKind,
    /// Centre, in metres. Default: the origin.
    #[serde(default)]
    pub position: [f32; 3],
    /// Distance from the centre at which it fades to nothing, in metres, 0.001 to 1e6. The factor at a distance d is (1 - d² / reach²)². Default:
    /// none; it acts everywhere.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[setters(into)]
    pub reach: Option<f32>,
    /// Start and end, in seconds after the start. Default: always.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[setters(skip)]
    pub during: Option<[f32; 2]>,
}

/// Kind of a field.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
#[non_exhaustive]
pub enum FieldKind {
    /// A uniform acceleration.
    Push {
        /// Acceleration, in m/s², -1e4 to 1e4 along each axis.
        acceleration: [f32; 3],
    },
    /// A uniform current of air. It acts through drag.
    Wind {
        /// Velocity, in m/s, -1e4 to 1e4 along each axis.
        velocity: [f32; 3],
    },
    /// A pull towards the centre.
    Attractor(AttractorSpec),
    /// A current around an axis (Scully, 1975). It acts through drag.
    Vortex(VortexSpec),
    /// Curl noise: air that swirls without gathering anywhere. It acts through drag.
    Curl(CurlSpec),
    /// A pull to the surface of a distance grid, or a constraint to it.
    Shape(ShapeFieldSpec),
}

/// An attractor. At a distance `d` the acceleration towards it is `strength * d / s^3` for [`Falloff::Square`],
/// `strength * d / s^2` for [`Falloff::Linear`], `strength * d / s` for [`Falloff::None`] and `strength * d` for [`Falloff::Spring`], where
/// `s^2 = d^2 + radius^2`.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, Setters)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields, default)]
#[non_exhaustive]
pub struct AttractorSpec {
    /// Acceleration at a distance of 1 m with radius 0, in m/s², -1e6 to 1e6; negative values push away. Default: 1.
    pub strength: f32,
    /// Softening radius, in metres, 0.001 to 1e6: inside it the pull weakens to nothing at the middle. A spring ignores it. Default: 1.
    pub radius: f32,
    /// Falloff with distance. Default: with its square.
    pub falloff: Falloff,
}

impl Default for AttractorSpec {
    fn default() -> Self {
        Self { strength: 1.0, radius: 1.0, falloff: Falloff::Square }
    }
}

/// Falloff of a pull with distance.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub enum Falloff {
    /// With its square, as gravity.
    #[default]
    Square,
    /// With the distance.
    Linear,
    /// Constant.
    None,
    /// Grows with the distance, like a spring.
    Spring,
}

/// A vortex. At a distance d from the axis the air turns at `speed * 2 d radius / (d² + radius²)`: fastest at the radius.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, Setters)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields, default)]
#[non_exhaustive]
pub struct VortexSpec {
    /// Direction of the axis; the air turns anticlockwise as seen against it. Default: up.
    pub axis: [f32; 3],
    /// Speed of the air at the radius, in m/s, -1e4 to 1e4. Default: 2.
    pub speed: f32,
    /// Distance from the axis with the greatest speed, in metres, 0.001 to 1e6. Default: 1.
    pub radius: f32,
    /// Speed towards the axis at the radius, in m/s; negative values lead away. Default: 0.
    pub inward: f32,
    /// Speed along the axis at its centre, in m/s. Default: 0.
    pub along: f32,
}

impl Default for VortexSpec {
    fn default() -> Self {
        Self { axis: [0.0, 1.0, 0.0], speed: 2.0, radius: 1.0, inward: 0.0, along: 0.0 }
    }
}

impl VortexSpec {
    /// Rates at which the air turns around the axis and approaches it, close to the axis, in 1/s.
    pub(crate) fn rates(&self) -> [f32; 2] {
        [2.0 * self.speed / self.radius, 2.0 * self.inward / self.radius]
    }
}

/// Curl noise.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, Setters)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields, default)]
#[non_exhaustive]
pub struct CurlSpec {
    /// Root mean square of the speed, in m/s, 0 to 1000. Default: 1.
    pub strength: f32,
    /// Size of the largest swirls, in metres, 0.001 to 100000. Default: 1.
    pub size: f32,
    /// Rate of change in still air, as a drift in m/s, 0 to 1000. Default: 0.3.
    pub drift: f32,
}

impl Default for CurlSpec {
    fn default() -> Self {
        Self { strength: 1.0, size: 1.0, drift: 0.3 }
    }
}

/// A surface that elements are pulled to, or held on.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, Setters)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
#[non_exhaustive]
pub struct ShapeFieldSpec {
    /// Name of a distance grid.
    #[setters(into)]
    pub asset: String,
    /// Acceleration towards the surface for each metre of distance, in 1/s², 0 to 1e5. Default: 20.
    #[serde(default = "default_pull")]
    pub pull: f32,
    /// Damping of the speed towards or away from the surface, in 1/s, 0 to 1000. Default: 4.
    #[serde(default = "default_damp")]
    pub damp: f32,
    /// Distance beyond which the pull no longer grows, in metres, 0 to 1e6. Default: 1.
    #[serde(default = "default_most")]
    pub most: f32,
    /// Whether elements are projected onto the surface after each step, and move along it. Default: false.
    #[serde(default)]
    pub hold: bool,
}

fn default_pull() -> f32 {
    20.0
}

fn default_damp() -> f32 {
    4.0
}

fn default_most() -> f32 {
    1.0
}

impl FieldSpec {
    /// A field of a kind, everywhere and always.
    pub fn new(kind: FieldKind) -> Self {
        Self { kind, position: [0.0; 3], reach: None, during: None }
    }

    /// An attractor at a position, in metres, with a strength, in m/s² at 1 m, and a softening radius, in metres.
    pub fn attractor(position: [f32; 3], strength: f32, radius: f32) -> Self {
        let attractor = AttractorSpec { strength, radius, ..AttractorSpec::default() };
        Self::new(FieldKind::Attractor(attractor)).position(position)
    }

    /// A vortex around a vertical axis through a point, in metres, with a speed, in m/s, at a radius, in metres.
    pub fn vortex(position: [f32; 3], speed: f32, radius: f32) -> Self {
        Self::new(FieldKind::Vortex(VortexSpec { speed, radius, ..VortexSpec::default() })).position(position)
    }

    /// Curl noise with a root mean square of the speed, in m/s, and a size, in metres.
    pub fn curl(strength: f32, size: f32) -> Self {
        Self::new(FieldKind::Curl(CurlSpec { strength, size, ..CurlSpec::default() }))
    }

    /// A pull to the surface of a distance grid, by name, in 1/s², with damping, in 1/s.
    pub fn shape(asset: &str, pull: f32, damp: f32) -> Self {
        Self::new(FieldKind::Shape(ShapeFieldSpec {
            asset: asset.to_owned(),
            pull,
            damp,
            most: default_most(),
            hold: false,
        }))
    }

    /// A constraint to the surface of a distance grid, by name.
    pub fn hold(asset: &str) -> Self {
        let (asset, hold) = (asset.to_owned(), true);
        Self::new(FieldKind::Shape(ShapeFieldSpec {
            asset,
            pull: 0.0,
            damp: 0.0,
            most: default_most(),
            hold,
        }))
    }

    /// Sets start and end, in seconds after the start.
    pub fn during(mut self, from: f32, to: f32) -> Self {
        self.during = Some([from, to]);
        self
    }

    pub(crate) fn check(&self) -> Result<(), SpecError> {
        vector_within("position", self.position, 1e6, "m")?;
        if let Some(reach) = self.reach {
            within("reach", reach, 0.001, 1e6, "m")?;
        }
        if let Some([from, to]) = self.during {
            Span::new(from, to).check("during", 0.0, 1e9, "s")?;
        }
        match &self.kind {
            FieldKind::Push { acceleration } => {
                vector_within("kind.push.acceleration", *acceleration, 1e4, "m/s²")
            }
            FieldKind::Wind { velocity } => vector_within("kind.wind.velocity", *velocity, 1e4, "m/s"),
            FieldKind::Attractor(spec) => {
                within("kind.attractor.strength", spec.strength, -1e6, 1e6, "m/s² at 1 m")?;
                within("kind.attractor.radius", spec.radius, 0.001, 1e6, "m")
            }
            FieldKind::Vortex(spec) => {
                direction("kind.vortex.axis", spec.axis)?;
                within("kind.vortex.speed", spec.speed, -1e4, 1e4, "m/s")?;
                within("kind.vortex.radius", spec.radius, 0.001, 1e6, "m")?;
                within("kind.vortex.inward", spec.inward, -1e4, 1e4, "m/s")?;
                within("kind.vortex.along", spec.along, -1e4, 1e4, "m/s")
            }
            FieldKind::Curl(spec) => {
                within("kind.curl.strength", spec.strength, 0.0, 1000.0, "m/s")?;
                within("kind.curl.size", spec.size, 0.001, 1e5, "m")?;
                within("kind.curl.drift", spec.drift, 0.0, 1000.0, "m/s")
            }
            FieldKind::Shape(spec) => {
                within("kind.shape.pull", spec.pull, 0.0, 1e5, "1/s²")?;
                within("kind.shape.damp", spec.damp, 0.0, 1000.0, "1/s")?;
                within("kind.shape.most", spec.most, 0.0, 1e6, "m")
            }
        }
    }
}

/// Maximum number of fields of a world, and of a population.
const MOST_FIELDS: usize = 64;

/// Checks every field of a list. Assets are looked up when fields are prepared.
pub(crate) fn check(specs: &[FieldSpec]) -> Result<(), SpecError> {
    each("field", specs, MOST_FIELDS, FieldSpec::check)
}
