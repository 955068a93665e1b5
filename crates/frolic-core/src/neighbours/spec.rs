//! How neighbours are looked for.

use derive_setters::Setters;
use serde::{Deserialize, Serialize};

use crate::foundations::error::{SpecError, within};

/// Space in which elements look for neighbours, and how far.
///
/// ```
/// use frolic_core::neighbours::NeighbourSpec;
/// let ground = NeighbourSpec::new(0.5).flat();
/// let tank = NeighbourSpec::new(0.2).wrapping([-4.0; 3], [4.0; 3]);
/// assert!(ground.check().is_ok() && tank.check().is_ok());
/// ```
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, Setters)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields, default)]
#[non_exhaustive]
pub struct NeighbourSpec {
    /// Greatest radius of a query in metres, 1e-6 to 1e6; cells are as long. Default: 1.
    pub reach: f32,
    /// Space along x, y and z. Default: open.
    pub axes: [AxisSpec; 3],
    /// How neighbours are found. Default: `grid`.
    pub technique: NeighbourTechnique,
    /// Most candidates that are looked at for one element, 8 to 1e6: of more, evenly spaced ones stand for the rest. Default: 1024.
    pub most: u32,
}

/// Space along an axis.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub enum AxisSpec {
    /// Without ends: cells follow the elements.
    #[default]
    Open,
    /// From one coordinate to another, in metres. Elements beyond are found too, more slowly.
    Bounded(f32, f32),
    /// From one coordinate to another, in metres, where it begins again.
    Wrapping(f32, f32),
    /// Does not count: neighbours in a plane.
    Ignored,
}

/// Ways to find neighbours. They give the same result, to the bit while no crowd exceeds [`NeighbourSpec::most`].
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub enum NeighbourTechnique {
    /// Elements of the cells around a point are tested.
    #[default]
    Grid,
    /// All elements are tested: the classic way, for comparison.
    AllPairs,
}

impl NeighbourTechnique {
    /// All techniques.
    pub const ALL: [Self; 2] = [Self::Grid, Self::AllPairs];
}

impl Default for NeighbourSpec {
    fn default() -> Self {
        Self { reach: 1.0, axes: [AxisSpec::Open; 3], technique: NeighbourTechnique::Grid, most: 1024 }
    }
}

impl NeighbourSpec {
    /// Neighbours within a radius in metres, in open space.
    pub fn new(reach: f32) -> Self {
        Self { reach, ..Self::default() }
    }

    /// Neighbours on the ground: height does not count.
    pub fn flat(mut self) -> Self {
        self.axes[1] = AxisSpec::Ignored;
        self
    }

    /// Neighbours in the upright plane: z does not count.
    pub fn upright(mut self) -> Self {
        self.axes[2] = AxisSpec::Ignored;
        self
    }

    /// Space between two corners, in metres. Axes that do not count stay so.
    pub fn bounded(self, low: [f32; 3], high: [f32; 3]) -> Self {
        self.between(low, high, AxisSpec::Bounded)
    }

    /// Space between two corners, in metres, that begins again at its ends. Axes that do not count stay so.
    pub fn wrapping(self, low: [f32; 3], high: [f32; 3]) -> Self {
        self.between(low, high, AxisSpec::Wrapping)
    }

    fn between(mut self, low: [f32; 3], high: [f32; 3], kind: fn(f32, f32) -> AxisSpec) -> Self {
        for (axis, (low, high)) in self.axes.iter_mut().zip(low.into_iter().zip(high)) {
            if *axis != AxisSpec::Ignored {
                *axis = kind(low, high);
            }
        }
        self
    }

    /// Checks that all values are in range.
    ///
    /// # Errors
    /// Names the key that is out of range, an axis that ends before it begins, a radius over half of a space that wraps, or a space of which no axis counts.
    pub fn check(&self) -> Result<(), SpecError> {
        within("reach", self.reach, 1e-6, 1e6, "m")?;
        within("most", self.most as f32, 8.0, 1e6, "")?;
        if self.axes == [AxisSpec::Ignored; 3] {
            return Err(SpecError::new("axes", "no axis counts", "leave at least one of x, y and z"));
        }
        for (name, axis) in ["axes.x", "axes.y", "axes.z"].into_iter().zip(self.axes) {
            let (AxisSpec::Bounded(low, high) | AxisSpec::Wrapping(low, high)) = axis else { continue };
            within(name, low, -1e9, 1e9, "m")?;
            within(name, high, -1e9, 1e9, "m")?;
            if low >= high {
                let problem = format!("goes from {low} m to {high} m");
                return Err(SpecError::new(name, problem, "write the lower end first"));
            }
            if matches!(axis, AxisSpec::Wrapping(..)) && self.reach > (high - low) * 0.5 {
                let problem =
                    format!("{} m is over half of {name}, which wraps after {} m", self.reach, high - low);
                let most = (high - low) * 0.5;
                return Err(SpecError::new("reach", problem, format!("write at most {most}")));
            }
        }
        Ok(())
    }
}
