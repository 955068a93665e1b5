//! How the bodies of a population respond to the world.

use derive_setters::Setters;
use serde::{Deserialize, Serialize};

use crate::foundations::error::{SpecError, within};
use crate::foundations::span::Span;

/// How a population answers to the world's fields.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, Setters)]
#[serde(deny_unknown_fields, default)]
#[non_exhaustive]
pub struct MotionSpec {
    /// Rate at which velocity nears that of the air, 1/s, 0 to 1e4. Default 0: no air.
    pub drag: f32,
    /// Drag that grows with the square of the speed through the air, 1/m, 0 to 1e4. Default 0.
    pub drag_square: f32,
    /// Share of the world's gravity that is felt, -100 to 100; negative rises. Default 1.
    pub weight: f32,
    /// Least and greatest speed, m/s, 0 to 1e6: what is slower or faster is brought there. Default no limit.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[setters(into)]
    pub speed_limits: Option<[f32; 2]>,
    /// The plane that elements keep to, at the depth or height that they are born at. Default none: they move freely.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[setters(into)]
    pub keep_to: Option<KeepTo>,
}

impl MotionSpec {
    /// Linear drag, 1/s, and this share of gravity.
    pub fn new(drag: f32, weight: f32) -> Self {
        Self { drag, weight, ..Self::default() }
    }

    /// Whether every value is in range.
    ///
    /// # Errors
    /// Names the first key that is not.
    pub fn check(&self) -> Result<(), SpecError> {
        within("drag", self.drag, 0.0, 1e4, "1/s")?;
        within("drag_square", self.drag_square, 0.0, 1e4, "1/m")?;
        within("weight", self.weight, -100.0, 100.0, "times gravity")?;
        self.speed_limits.map_or(Ok(()), |[least, greatest]| {
            Span::new(least, greatest).check("speed_limits", 0.0, 1e6, "m/s")
        })
    }

    /// Whether the plain form of the step does for it.
    pub(crate) fn is_plain(&self) -> bool {
        self.drag_square == 0.0 && self.speed_limits.is_none() && self.keep_to.is_none()
    }
}

impl Default for MotionSpec {
    fn default() -> Self {
        Self { drag: 0.0, drag_square: 0.0, weight: 1.0, speed_limits: None, keep_to: None }
    }
}

/// A plane that elements keep to.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub enum KeepTo {
    /// Across and up (x and y).
    Upright,
    /// The ground (x and z).
    Flat,
}
