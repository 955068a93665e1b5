//! Response of the bodies of a population to the world.

use derive_setters::Setters;
use serde::{Deserialize, Serialize};

use crate::foundations::error::{SpecError, within};
use crate::foundations::span::Span;
use crate::neighbours::NeighbourSpec;

/// Response of a population to the world's fields.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, Setters)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields, default)]
#[non_exhaustive]
pub struct MotionSpec {
    /// Linear drag: rate at which the velocity approaches that of the air, in 1/s, 0 to 1e4. Default: 0, no air.
    pub drag: f32,
    /// Quadratic drag, by the square of the speed through the air, in 1/m, 0 to 1e4. Default: 0.
    pub drag_square: f32,
    /// Share of the world's gravity, -100 to 100; elements with negative values rise. Default: 1.
    pub weight: f32,
    /// Least and greatest speed in m/s, 0 to 1e6. Default: no limits.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[setters(into)]
    pub speed_limits: Option<[f32; 2]>,
    /// Plane in which elements stay, at the depth or height of their birth. Default: none, they move freely.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[setters(into)]
    pub keep_to: Option<KeepTo>,
}

impl MotionSpec {
    /// Linear drag, in 1/s, and the share of gravity.
    pub fn new(drag: f32, weight: f32) -> Self {
        Self { drag, weight, ..Self::default() }
    }

    /// Checks that every value is in range.
    ///
    /// # Errors
    /// Names the first key that is out of range.
    pub fn check(&self) -> Result<(), SpecError> {
        within("drag", self.drag, 0.0, 1e4, "1/s")?;
        within("drag_square", self.drag_square, 0.0, 1e4, "1/m")?;
        within("weight", self.weight, -100.0, 100.0, "times gravity")?;
        self.speed_limits.map_or(Ok(()), |[least, greatest]| {
            Span::new(least, greatest).check("speed_limits", 0.0, 1e6, "m/s")
        })
    }

    /// Returns whether the plain form of the step suffices.
    pub(crate) fn is_plain(&self) -> bool {
        self.drag_square == 0.0 && self.speed_limits.is_none() && self.keep_to.is_none()
    }
}

impl Default for MotionSpec {
    fn default() -> Self {
        Self { drag: 0.0, drag_square: 0.0, weight: 1.0, speed_limits: None, keep_to: None }
    }
}

/// A plane in which elements stay.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub enum KeepTo {
    /// The upright plane (x and y).
    Upright,
    /// The ground (x and z).
    Flat,
}

impl KeepTo {
    /// 1 for each axis along which elements may move, else 0.
    pub(crate) fn free(keep_to: Option<Self>) -> [f32; 3] {
        match keep_to {
            None => [1.0; 3],
            Some(Self::Upright) => [1.0, 1.0, 0.0],
            Some(Self::Flat) => [1.0, 0.0, 1.0],
        }
    }

    /// Neighbours in the plane that elements stay in.
    pub(crate) fn neighbours(keep_to: Option<Self>, near: NeighbourSpec) -> NeighbourSpec {
        match keep_to {
            None => near,
            Some(Self::Upright) => near.upright(),
            Some(Self::Flat) => near.flat(),
        }
    }
}
