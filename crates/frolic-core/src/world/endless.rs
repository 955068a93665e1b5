//! Endless worlds: the content of a cell depends on the seed and the cell alone, and only cells near a moving centre exist.
//!
//! A cell appears when it comes within reach and disappears when it is a fifth further away, so that a centre that sways at the edge does not create
//! and remove it repeatedly. A walk away and back finds the same world.

use derive_setters::Setters;
use serde::{Deserialize, Serialize};

use crate::foundations::error::{SpecError, vector_within, within};
use crate::foundations::random::{Draws, hash3, unit};
use crate::foundations::span::Span;
use crate::foundations::state::unfit;

/// Endless obstacles: upright posts in a square grid of cells on the ground.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, Setters)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
#[non_exhaustive]
pub struct EndlessSpec {
    /// Cells and their reach around the centre.
    pub cells: CellsSpec,
    /// Seed of their content. Default: 1.
    #[serde(default = "first")]
    pub seed: u32,
    /// Share of the cells that hold a post, 0 to 1. Default: 0.5.
    #[serde(default = "half")]
    pub share: f32,
    /// Radius of a post, in metres, 0.001 to half a cell.
    #[setters(into)]
    pub radius: Span,
    /// Restitution: share of the speed towards it that is returned, 0 to 1. Default: 0.4.
    #[serde(default = "default_bounce")]
    pub bounce: f32,
    /// Friction: share of the speed along it that is lost at each contact, 0 to 1. Default: 0.1.
    #[serde(default = "default_friction")]
    pub friction: f32,
    /// A disc without posts. Default: none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[setters(into)]
    pub keep_off: Option<KeepOffSpec>,
}

fn half() -> f32 {
    0.5
}

fn first() -> u32 {
    1
}

fn default_bounce() -> f32 {
    0.4
}

fn default_friction() -> f32 {
    0.1
}

/// A disc on the ground without posts.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, Setters)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
#[non_exhaustive]
pub struct KeepOffSpec {
    /// Centre, in metres.
    pub position: [f32; 3],
    /// Radius, in metres, 0 to 1e6.
    pub radius: f32,
}

impl KeepOffSpec {
    /// A disc around a point, with a radius, in metres.
    pub fn new(position: [f32; 3], radius: f32) -> Self {
        Self { position, radius }
    }
}

/// A square grid of cells on the ground, and its reach.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, Setters)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
#[non_exhaustive]
pub struct CellsSpec {
    /// Side of a cell, in metres, 0.01 to 1e5.
    pub side: f32,
    /// Distance between the centres at which a cell appears, in metres, 1 to 100 sides.
    pub reach: f32,
}

impl CellsSpec {
    /// Cells with a side and a reach, in metres.
    pub fn new(side: f32, reach: f32) -> Self {
        Self { side, reach }
    }

    pub(crate) fn check(&self) -> Result<(), SpecError> {
        within("side", self.side, 0.01, 1e5, "m")?;
        within("reach", self.reach, self.side, self.side * 100.0, "m")
    }

    /// Maximum number of cells at a time.
    pub(crate) fn most(&self) -> usize {
        let across = (self.reach * LEAVE * 2.0 / self.side).ceil() as usize + 2;
        across * across
    }
}

/// Places scattered over square cells of the ground around a moving centre. The content of a cell depends on the seed and the cell alone.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, Setters)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
#[non_exhaustive]
pub struct ScatterSpec {
    /// Cells and their reach around the centre.
    pub cells: CellsSpec,
    /// Number of places of a cell, 0 to 100000.
    pub per_cell: u32,
    /// Height of the ground, in metres. Default: 0.
    #[serde(default)]
    pub height: f32,
}

impl ScatterSpec {
    /// A number of places in each cell.
    pub fn new(cells: CellsSpec, per_cell: u32) -> Self {
        Self { cells, per_cell, height: 0.0 }
    }

    pub(crate) fn check(&self) -> Result<(), SpecError> {
        self.cells.check().map_err(|error| error.under("cells"))?;
        within("per_cell", self.per_cell as f32, 0.0, 1e5, "elements")?;
        within("height", self.height, -1e6, 1e6, "m")
    }

    /// Content of a cell: positions in metres, further draws, and a share of a turn for each.
    pub(crate) fn places(&self, [x, z]: [i32; 2], seed: u32) -> impl Iterator<Item = ([f32; 3], Draws, f32)> {
        let [key, ..] = hash3(x as u32, z as u32, seed);
        let (side, height) = (self.cells.side, self.height);
        (0..self.per_cell).map(move |nth| {
            let draws = Draws { seed: key, id: nth };
            let [u, v, turn] = draws.draw(0);
            ([(x as f32 + u) * side, height, (z as f32 + v) * side], draws, turn)
        })
    }
}

/// Present scattered places.
#[derive(Debug, Clone)]
pub(crate) struct Spots {
    spec: ScatterSpec,
    cells: Cells,
    all: Vec<[f32; 3]>,
}

impl Spots {
    /// No places yet; memory for the maximum is reserved.
    pub(crate) fn new(spec: &ScatterSpec) -> Result<Self, SpecError> {
        spec.check()?;
        let most = spec.cells.most() * spec.per_cell as usize;
        if most > MOST_SPOTS {
            let problem = format!("up to {most} places at once");
            let instead = format!("keep to {MOST_SPOTS}: fewer in a cell, larger cells or less reach");
            return Err(SpecError::new("per_cell", problem, instead));
        }
        Ok(Self { spec: spec.clone(), cells: Cells::new(spec.cells)?, all: Vec::with_capacity(most) })
    }

    /// Moves the centre: x and z, in metres. Returns whether any place appeared or disappeared.
    pub(crate) fn follow(&mut self, middle: [f32; 2], seed: u32) -> bool {
        let changed = self.cells.follow(middle);
        if changed {
            self.list(seed);
        }
        changed
    }

    fn list(&mut self, seed: u32) {
        self.all.clear();
        let all = self.cells.all().iter().flat_map(|&cell| self.spec.places(cell, seed));
        self.all.extend(all.map(|(place, ..)| place));
    }

    /// Present cells, sorted.
    pub(crate) fn cells(&self) -> &[[i32; 2]] {
        self.cells.all()
    }

    /// Takes over saved cells.
    pub(crate) fn restore(&mut self, cells: Vec<[i32; 2]>, seed: u32) -> Result<(), SpecError> {
        self.cells.restore(cells)?;
        self.list(seed);
        Ok(())
    }

    /// Present places, in metres, cell by cell.
    pub(crate) fn all(&self) -> &[[f32; 3]] {
        &self.all
    }
}

/// Maximum number of places of an emitter at a time.
const MOST_SPOTS: usize = 1 << 20;

impl EndlessSpec {
    /// Posts with a range of radii, in cells with a side and a reach, in metres.
    pub fn new(side: f32, reach: f32, radius: Span) -> Self {
        Self {
            cells: CellsSpec::new(side, reach),
            seed: first(),
            share: half(),
            radius,
            bounce: default_bounce(),
            friction: default_friction(),
            keep_off: None,
        }
    }

    pub(crate) fn check(&self) -> Result<(), SpecError> {
        self.cells.check().map_err(|error| error.under("cells"))?;
        within("share", self.share, 0.0, 1.0, "")?;
        self.radius.check("radius", 0.001, self.cells.side * 0.5, "m")?;
        within("bounce", self.bounce, 0.0, 1.0, "")?;
        within("friction", self.friction, 0.0, 1.0, "")?;
        match &self.keep_off {
            Some(off) => {
                vector_within("keep_off.position", off.position, 1e6, "m")?;
                within("keep_off.radius", off.radius, 0.0, 1e6, "m")
            }
            None => Ok(()),
        }
    }

    /// The post of a cell, if it has one: x, z and radius, in metres.
    pub(crate) fn post(&self, [x, z]: [i32; 2]) -> Option<[f32; 3]> {
        let [is, size, u] = hash3(x as u32, z as u32, self.seed ^ POST_SEED).map(unit);
        let [v, ..] = hash3(x as u32, z as u32, self.seed ^ POST_SEED ^ 1).map(unit);
        if is >= self.share {
            return None;
        }
        let (side, radius) = (self.cells.side, self.radius.at(size));
        // Within its cell, so that neighbours do not merge.
        let room = side - 2.0 * radius;
        let place = |cell: i32, share: f32| cell as f32 * side + radius + room * share;
        let (px, pz) = (place(x, u), place(z, v));
        let free = self
            .keep_off
            .as_ref()
            .is_some_and(|off| (px - off.position[0]).hypot(pz - off.position[2]) < off.radius + radius);
        (!free).then_some([px, pz, radius])
    }
}

/// Separates the draws of posts from all others.
const POST_SEED: u32 = 0x90c7_51de;

/// Factor between the distances at which a cell disappears and appears.
const LEAVE: f32 = 1.2;

/// Present cells.
///
/// ```
/// use frolic_core::{Cells, CellsSpec};
/// let mut cells = Cells::new(CellsSpec::new(10.0, 30.0))?;
/// assert!(cells.follow([0.0, 0.0]));
/// let before = cells.all().to_vec();
/// cells.follow([500.0, 0.0]);
/// cells.follow([0.0, 0.0]);
/// assert_eq!(cells.all(), before);
/// # Ok::<(), frolic_core::SpecError>(())
/// ```
#[derive(Debug, Clone)]
pub struct Cells {
    spec: CellsSpec,
    /// Sorted, so that their content has a fixed order.
    all: Vec<[i32; 2]>,
    /// Number of cells that appeared and disappeared at the last move.
    appeared: usize,
    went: usize,
}

impl Cells {
    /// No cells yet.
    ///
    /// # Errors
    /// A value out of range.
    pub fn new(spec: CellsSpec) -> Result<Self, SpecError> {
        spec.check()?;
        Ok(Self { spec, all: Vec::with_capacity(spec.most()), appeared: 0, went: 0 })
    }

    /// Maximum number of cells at a time.
    pub(crate) fn most(&self) -> usize {
        self.spec.most()
    }

    pub(crate) fn clear(&mut self) {
        self.all.clear();
    }

    /// Takes over saved cells.
    pub(crate) fn restore(&mut self, cells: Vec<[i32; 2]>) -> Result<(), SpecError> {
        // A centre is less than 1e7 m from the origin.
        let most = (1e7 / self.spec.side) as i32 + 200;
        let near = cells.iter().flatten().all(|at| (-most..=most).contains(at));
        if cells.len() > self.most() || !near || !cells.is_sorted_by(|a, b| a < b) {
            return Err(unfit("", "are too many cells, or not in order"));
        }
        self.all.clear();
        self.all.extend(cells);
        (self.appeared, self.went) = (0, 0);
        Ok(())
    }

    /// Moves the centre: x and z, in metres. Returns whether any cell appeared or disappeared. NaN changes nothing.
    pub fn follow(&mut self, [x, z]: [f32; 2]) -> bool {
        (self.appeared, self.went) = (0, 0);
        if !(x.is_finite() && z.is_finite() && x.abs() < 1e7 && z.abs() < 1e7) {
            return false;
        }
        let CellsSpec { side, reach } = self.spec;
        let off = |[cx, cz]: [i32; 2]| ((cx as f32 + 0.5) * side - x).hypot((cz as f32 + 0.5) * side - z);
        let before = self.all.len();
        self.all.retain(|cell| off(*cell) <= reach * LEAVE);
        self.went = before - self.all.len();
        let kept = self.all.len();
        let span = |at: f32| ((at - reach) / side).floor() as i32..=((at + reach) / side).floor() as i32;
        for cx in span(x) {
            for cz in span(z) {
                // The first `kept` cells existed before, and are sorted.
                if off([cx, cz]) <= reach && self.all[..kept].binary_search(&[cx, cz]).is_err() {
                    self.all.push([cx, cz]);
                }
            }
        }
        self.appeared = self.all.len() - kept;
        self.all.sort_unstable();
        self.appeared + self.went > 0
    }

    /// Present cells, sorted: x and z, in sides from the origin.
    pub fn all(&self) -> &[[i32; 2]] {
        &self.all
    }

    /// Number of cells that appeared and disappeared at the last move.
    pub fn changed(&self) -> [usize; 2] {
        [self.appeared, self.went]
    }

    /// Side of a cell, in metres.
    pub fn side(&self) -> f32 {
        self.spec.side
    }
}
