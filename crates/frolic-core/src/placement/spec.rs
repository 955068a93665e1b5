//! How a placement is described: plain data, checked before use.

use serde::{Deserialize, Serialize};

use super::clumps::ClumpSpec;
use super::ground::TerrainSpec;
use super::patterns::{MOST_DENSITY, PatternSpec};
use super::shapes::VolumePart;
use super::sieve::SieveSpec;
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
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
#[non_exhaustive]
pub struct PlacementSpec {
    /// What elements are put on. Default scattered over the ground.
    pub on: On,
    /// The piece of ground. Default 10 m by 10 m about the origin. No matter on forms.
    pub area: AreaSpec,
    /// Elements a square metre where every sieve lets all through, 0 to 1e6. Default 0: as many as the count asks for.
    pub density: f32,
    /// Share of the count that goes to this layer, against those of the other layers, 0 to 1e6. Default 1.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub share: Option<f32>,
    /// Lets fewer through, by where they are, at most 16. Default all.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub sieve: Vec<SieveSpec>,
    /// Heights of the ground. Default level at height 0.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub terrain: Option<TerrainSpec>,
    /// What neighbours share. Default nothing.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub clumps: Option<ClumpSpec>,
    /// Each element's own way of standing.
    pub each: EachSpec,
}

/// What elements are put on.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
#[non_exhaustive]
pub enum On {
    /// The ground, in a pattern.
    Ground(PatternSpec),
    /// Triangles, evenly by area; turned outwards.
    Mesh {
        /// Name of the form.
        form: String,
    },
    /// A distance grid; turned outwards.
    Volume {
        /// Name of the form.
        form: String,
        /// What of it. Default its inside.
        #[serde(default)]
        part: VolumePart,
    },
    /// Places of their own: a form of places, as they are there.
    Places {
        /// Name of the form.
        form: String,
    },
}

impl Default for On {
    fn default() -> Self {
        Self::Ground(PatternSpec::Scattered)
    }
}

/// A rectangle of ground, or ground without end.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
#[non_exhaustive]
pub struct AreaSpec {
    /// Its middle, x and z, m. Default the origin.
    pub centre: [f32; 2],
    /// Extent along x and z, m, 0.001 to 1e6. Default 10 by 10.
    pub size: [f32; 2],
}

impl Default for AreaSpec {
    fn default() -> Self {
        Self { centre: [0.0; 2], size: [10.0; 2] }
    }
}

impl AreaSpec {
    /// A rectangle about a middle, of an extent along x and z, m.
    pub fn new(centre: [f32; 2], size: [f32; 2]) -> Self {
        Self { centre, size }
    }

    /// Least and greatest x and z, m.
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

/// How an element stands, drawn for each.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
#[non_exhaustive]
pub struct EachSpec {
    /// Turn about its own upward axis, degrees. Default 0 to 360.
    pub turn_degrees: Span,
    /// Tilt towards where it is turned, degrees. Default 0.
    pub tilt_degrees: Span,
    /// Factor on the population's size, 0 to 1e4. Default 1.
    pub size: Span,
    /// How far it stands square to the ground or form and not straight up, 0 to 1. Default 0 on the ground, 1 on forms.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub square: Option<f32>,
    /// How likely each of several kinds is, against the others, at most 16; see a population's `kind`. Default one kind.
    #[serde(skip_serializing_if = "Vec::is_empty")]
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

/// Most layers of a placement, and sieves of a layer.
pub(super) const MOST_LAYERS: usize = 16;
const MOST_SIEVES: usize = 16;
/// Kinds of element that a placement chooses among.
pub const MOST_KINDS: usize = 16;

impl PlacementSpec {
    /// Put on something.
    pub fn new(on: On) -> Self {
        Self { on, ..Self::default() }
    }

    /// The same over this piece of ground.
    pub fn area(self, area: AreaSpec) -> Self {
        Self { area, ..self }
    }

    /// Elements a square metre, on the whole, of so many in all.
    pub(crate) fn mean_density(&self, count: u32) -> f64 {
        let [x, z] = self.area.size.map(f64::from);
        if self.density > 0.0 { f64::from(self.density) } else { f64::from(count) / (x * z) }
    }

    /// The same with so many elements a square metre.
    pub fn density(self, density: f32) -> Self {
        Self { density, ..self }
    }

    /// The same with one more sieve.
    pub fn sieve(mut self, sieve: SieveSpec) -> Self {
        self.sieve.push(sieve);
        self
    }

    /// The same on a height map.
    pub fn terrain(self, terrain: TerrainSpec) -> Self {
        Self { terrain: Some(terrain), ..self }
    }

    /// The same in clumps.
    pub fn clumps(self, clumps: ClumpSpec) -> Self {
        Self { clumps: Some(clumps), ..self }
    }

    /// The same with elements that stand like this.
    pub fn each(self, each: EachSpec) -> Self {
        Self { each, ..self }
    }

    /// Whether the values are in range; forms are looked up by [`Placement::new`](crate::Placement::new).
    ///
    /// # Errors
    /// Names the key that is not.
    pub fn check(&self) -> Result<(), SpecError> {
        if let On::Ground(pattern) = &self.on {
            pattern.check().map_err(|error| error.under("on.ground"))?;
        }
        self.area.check().map_err(|error| error.under("area"))?;
        within("density", self.density, 0.0, MOST_DENSITY, "elements a square metre")?;
        within("share", self.share.unwrap_or(1.0), 0.0, 1e6, "")?;
        each("sieve", &self.sieve, MOST_SIEVES, SieveSpec::check)?;
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
            return Err(SpecError::new("kinds", "none of them is likely", "write a weight above 0"));
        }
        Ok(())
    }
}

/// Whether every layer of a placement is in range, and there are not too many; forms are looked up by [`Placement::new`](crate::Placement::new).
///
/// # Errors
/// Names the first key that is not, under `key` and the layer's number.
pub fn check_layers(key: &str, layers: &[PlacementSpec]) -> Result<(), SpecError> {
    each(key, layers, MOST_LAYERS, PlacementSpec::check)
}
