//! What is written of bodies that keep apart.

use derive_setters::Setters;
use serde::{Deserialize, Serialize};

use crate::foundations::error::{SpecError, within};
use crate::neighbours::NeighbourTechnique;

/// Bodies that keep apart: those that overlap are pushed out of each other, and lose the speed with which they meet.
///
/// ```
/// use frolic_core::ApartSpec;
/// assert!(ApartSpec::default().rounds(6).friction(0.6).check().is_ok());
/// ```
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, Setters)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields, default)]
#[non_exhaustive]
pub struct ApartSpec {
    /// Radius of a body over its size, 0.001 to 1000. Default: 1.
    pub radius: f32,
    /// Rounds of pushing in a step, 1 to 64: more leave less overlap in deep piles. Default: 4.
    pub rounds: u32,
    /// Mass as a power of the size, 0 to 6: 0 for equal masses, 2 for discs, 3 for balls. Default: 3.
    pub mass_power: f32,
    /// Share of the speed along each other that bodies lose where they touch, 0 to 1. Default: 0.3.
    pub friction: f32,
    /// Share of the overlap that a round takes away, 0.05 to 1. Default: 0.8.
    pub stiffness: f32,
    /// Speed below which bodies that touch others come to rest, in m/s, 0 to 1000. Resting bodies sleep until something disturbs them. Default: 0.05.
    pub rest: f32,
    /// How bodies near each other are found. Default: `grid`.
    pub neighbours: NeighbourTechnique,
}

impl Default for ApartSpec {
    fn default() -> Self {
        Self {
            radius: 1.0,
            rounds: 4,
            mass_power: 3.0,
            friction: 0.3,
            stiffness: 0.8,
            rest: 0.05,
            neighbours: NeighbourTechnique::Grid,
        }
    }
}

impl ApartSpec {
    /// Checks that all values are in range.
    ///
    /// # Errors
    /// Names the first key that is out of range.
    pub fn check(&self) -> Result<(), SpecError> {
        within("radius", self.radius, 0.001, 1000.0, "times the size")?;
        within("rounds", self.rounds as f32, 1.0, 64.0, "")?;
        within("mass_power", self.mass_power, 0.0, 6.0, "")?;
        within("friction", self.friction, 0.0, 1.0, "")?;
        within("stiffness", self.stiffness, 0.05, 1.0, "")?;
        within("rest", self.rest, 0.0, 1000.0, "m/s")
    }
}
