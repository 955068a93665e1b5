//! Specs of placements: plain data, checked before use.

use derive_setters::Setters;
use serde::{Deserialize, Serialize};

use super::clumps::ClumpSpec;
use super::filter::FilterSpec;
use super::ground::TerrainSpec;
use super::patterns::{MOST_DENSITY, PatternSpec};
use super::shapes::VolumePart;
use crate::foundations::error::{SpecError, at_most, each, within};
use crate::foundations::span::Span;

/// One layer of a placement.
///
/// ```
/// use frolic_core::{AreaSpec, PatternSpec, Placement, PlacementSpec};
///
/// let blue = PatternSpec::BlueNoise { distance: 0.0 };
/// let spec = PlacementSpec::new(On::Ground(blue)).area(AreaSpec::new([0.0, 0.0], [20.0, 20.0]));
/// let placed = Placement::new(&[spec], Some(1_000), 7, &Default::default())?.all();
/// assert_eq!(placed.len(), 1_000);
/// # use frolic_core::On;
/// # Ok::<(), frolic_core::SpecError>(())
/// ```
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize, Setters)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields, default)]
#[non_exhaustive]
pub struct PlacementSpec {
    /// Support of a placement. Default: the ground, scattered.
    pub on: On,
    /// Area of ground. Assets ignore it. Default: 10 m by 10 m around the origin.
    #[setters(skip)]
    pub area: AreaSpec,
    /// Elements for each square metre before filters, 0 to 1e6. Default: 0, as the count requires.
    #[setters(skip)]
    pub density: f32,
    /// Weight of this layer when the count is divided among layers, 0 to 1e6. Default: 1.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[setters(into)]
    pub share: Option<f32>,
    /// Filters by place, at most 16. Default: none.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    #[setters(skip)]
    pub filter: Vec<FilterSpec>,
    /// Terrain. Default: level ground at height 0.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[setters(skip)]
    pub terrain: Option<TerrainSpec>,
    /// Clumps: attributes that neighbours share. Default: none.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[setters(skip)]
    pub clumps: Option<ClumpSpec>,
    /// Attributes of each element.
    #[setters(skip)]
    pub each: EachSpec,
}

/// Support of a placement.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
#[non_exhaustive]
pub enum On {
    /// The ground, in a pattern.
    Ground(PatternSpec),
    /// Triangles, uniform by area; elements point outwards.
    Mesh {
        /// Name of the asset.
        asset: String,
    },
    /// A distance grid; elements point outwards.
    Volume {
        /// Name of the asset.
        asset: String,
        /// Part of the grid. Default: its inside.
        #[serde(default)]
        part: VolumePart,
    },
    /// Places of an asset, unchanged.
    Places {
        /// Name of the asset.
        asset: String,
    },
}

impl Default for On {
    fn default() -> Self {
        Self::Ground(PatternSpec::Scattered)
    }
}

/// A rectangle of ground, or ground without end.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, Setters)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields, default)]
#[non_exhaustive]
pub struct AreaSpec {
    /// Centre, x and z, in metres. Default: the origin.
    pub centre: [f32; 2],
    /// Extent along x and z, in metres, 0.001 to 1e6. Default: 10 by 10.
    pub size: [f32; 2],
}

impl Default for AreaSpec {
    fn default() -> Self {
        Self { centre: [0.0; 2], size: [10.0; 2] }
    }
}

impl AreaSpec {
    /// A rectangle with a centre and an extent along x and z, in metres.
    pub fn new(centre: [f32; 2], size: [f32; 2]) -> Self {
        Self { centre, size }
    }

    /// Least and greatest x and z, in metres.
    pub fn corners(&self) -> [[f32; 2]; 2] {
        let half = self.size.map(|side| side * 0.5);
        let [x, z] = self.centre;
        [[x - half[0], z - half[1]], [x + half[0], z + half[1]]]
    }

    fn check(&self) -> Result<(), SpecError> {
        self.centre.iter().try_for_each(|&at| within("centre", at, -1e6, 1e6, "m"))?;
        self.size.iter().try_for_each(|&side| within("size", side, 0.001, 1e6, "m"))
    }
}

/// Attributes that are drawn for each element.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, Setters)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields, default)]
#[non_exhaustive]
pub struct EachSpec {
    /// Turn around its vertical axis, in degrees. Default: 0 to 360.
    #[setters(into)]
    pub turn_degrees: Span,
    /// Tilt towards its turn, in degrees. Default: 0.
    #[setters(into)]
    pub tilt_degrees: Span,
    /// Factor on the size of the population, 0 to 1e4. Default: 1.
    #[setters(into)]
    pub size: Span,
    /// Alignment to the normal of the ground or asset instead of the vertical, 0 to 1. Default: 0 on the ground, 1 on assets.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[setters(into)]
    pub square: Option<f32>,
    /// Weights of several kinds of element, at most 16; see `kind` of a population. Default: one kind.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    #[setters(into)]
    pub kinds: Vec<f32>,
}

impl Default for EachSpec {
    fn default() -> Self {
        Self {
            turn_degrees: Span::new(0.0, 360.0),
            tilt_degrees: Span::from(0.0),
            size: Span::from(1.0),
            square: None,
            kinds: Vec::new(),
        }
    }
}

/// Maximum number of layers of a placement, and of filters of a layer.
pub(super) const MOST_LAYERS: usize = 16;
const MOST_FILTERS: usize = 16;
/// Maximum number of kinds of element of a placement.
pub const MOST_KINDS: usize = 16;

impl PlacementSpec {
    /// Returns whether its elements stand elsewhere for another count: a pattern on the ground whose density follows from the count.
    pub(crate) fn spreads(&self) -> bool {
        matches!(&self.on, On::Ground(pattern) if !pattern.is_set()) && self.density == 0.0
    }

    /// A layer on a support.
    pub fn new(on: On) -> Self {
        Self { on, ..Self::default() }
    }

    /// Sets the area of ground.
    pub fn area(self, area: AreaSpec) -> Self {
        Self { area, ..self }
    }

    /// Mean number of elements for each square metre, for a total count.
    pub(crate) fn mean_density(&self, count: u32) -> f64 {
        let [x, z] = self.area.size.map(f64::from);
        if self.density > 0.0 { f64::from(self.density) } else { f64::from(count) / (x * z) }
    }

    /// Sets the number of elements for each square metre.
    pub fn density(self, density: f32) -> Self {
        Self { density, ..self }
    }

    /// Adds a filter.
    pub fn filter(mut self, filter: FilterSpec) -> Self {
        self.filter.push(filter);
        self
    }

    /// Sets the terrain.
    pub fn terrain(self, terrain: TerrainSpec) -> Self {
        Self { terrain: Some(terrain), ..self }
    }

    /// Sets clumps.
    pub fn clumps(self, clumps: ClumpSpec) -> Self {
        Self { clumps: Some(clumps), ..self }
    }

    /// Sets the attributes of each element.
    pub fn each(self, each: EachSpec) -> Self {
        Self { each, ..self }
    }

    /// Checks that the values are in range. Assets are looked up by [`Placement::new`](crate::Placement::new).
    ///
    /// # Errors
    /// Names the key that is out of range.
    pub fn check(&self) -> Result<(), SpecError> {
        if let On::Ground(pattern) = &self.on {
            pattern.check().map_err(|error| error.under("on.ground"))?;
        }
        self.area.check().map_err(|error| error.under("area"))?;
        within("density", self.density, 0.0, MOST_DENSITY, "elements a square metre")?;
        within("share", self.share.unwrap_or(1.0), 0.0, 1e6, "")?;
        each("filter", &self.filter, MOST_FILTERS, FilterSpec::check)?;
        if let Some(terrain) = &self.terrain {
            terrain.check().map_err(|error| error.under("terrain"))?;
        }
        if let Some(clumps) = &self.clumps {
            clumps.check().map_err(|error| error.under("clumps"))?;
        }
        self.each.check().map_err(|error| error.under("each"))
    }
}

impl EachSpec {
    fn check(&self) -> Result<(), SpecError> {
        self.turn_degrees.check("turn_degrees", -1e6, 1e6, "degrees")?;
        self.tilt_degrees.check("tilt_degrees", -180.0, 180.0, "degrees")?;
        self.size.check("size", 0.0, 1e4, "")?;
        within("square", self.square.unwrap_or(0.0), 0.0, 1.0, "")?;
        at_most("kinds", self.kinds.len(), MOST_KINDS)?;
        self.kinds.iter().try_for_each(|&weight| within("kinds", weight, 0.0, 1e6, ""))?;
        if !self.kinds.is_empty() && self.kinds.iter().all(|&weight| weight == 0.0) {
            return Err(SpecError::new("kinds", "all weights are 0", "write a weight above 0"));
        }
        Ok(())
    }
}

/// Checks the number of layers of a placement and each layer. Assets are looked up by [`Placement::new`](crate::Placement::new).
///
/// # Errors
/// Names the first key that is out of range, under `key` and the index of the layer.
pub fn check_layers(key: &str, layers: &[PlacementSpec]) -> Result<(), SpecError> {
    each(key, layers, MOST_LAYERS, PlacementSpec::check)
}
