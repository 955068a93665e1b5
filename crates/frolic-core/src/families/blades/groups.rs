//! Groups: squares of blades that share a few layouts and a few states of the wind, so that one result serves many squares.
//!
//! ```text
//! layout   the blades of a square of level ground; each square has a random one
//! state    the lean of the blades of a layout at one of K wind speeds, from the deepest lull to the strongest gust
//! group    a square that shows a layout in a state, and is not stepped
//! ```
//!
//! A square can be a group while it is level and shows its whole layout, nothing presses or pressed it, it is far enough from the camera, and its air
//! moves along the wind.

use derive_setters::Setters;
use std::sync::atomic::{AtomicU64, Ordering::Relaxed};

use glam::Vec2;
use serde::{Deserialize, Serialize};

use super::spec::BladeSpec;
use super::step::{Air, Rows};
use super::{BladeColumns, BladeRow, Chunk};
use crate::foundations::columns::MEMORY_LIMIT;
use crate::foundations::error::{SpecError, within};
use crate::foundations::random::{hash3, unit};
use crate::foundations::simd::detect;
use crate::foundations::state::{SavedState, unfit};
use crate::placement::{PlacedColumns, PlacedRow, Placement, Repeat};
use crate::poses::{Group, Layouts, Posed, Poses};
use crate::world::World;

/// Squares that share layouts.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, Setters)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields, default)]
#[non_exhaustive]
pub struct GroupSpec {
    /// Number of layouts, 1 to 256. Default: 6.
    pub layouts: u32,
    /// Number of states of the wind, 1 to 64. Default: 12.
    pub wind_states: u32,
    /// Distance below which squares are always drawn blade by blade, in metres, from the side of a square, at least 1, to 1e6. Default: 12.
    #[setters(skip)]
    pub beyond: f32,
}

impl Default for GroupSpec {
    fn default() -> Self {
        Self { layouts: 6, wind_states: 12, beyond: 12.0 }
    }
}

impl GroupSpec {
    /// A number of layouts, each in a number of states of the wind.
    pub fn new(layouts: u32, wind_states: u32) -> Self {
        Self { layouts, wind_states, ..Self::default() }
    }

    /// Sets the distance below which squares are drawn blade by blade, in metres.
    pub fn beyond(self, beyond: f32) -> Self {
        Self { beyond, ..self }
    }

    /// `side` of the squares, in metres.
    pub(super) fn check(&self, side: f32) -> Result<(), SpecError> {
        within("layouts", self.layouts as f32, 1.0, 256.0, "layouts")?;
        within("wind_states", self.wind_states as f32, 1.0, 64.0, "states")?;
        // There is no side view of a square around the camera.
        within("beyond", self.beyond, side.max(1.0), 1e6, "m")
    }

    /// Refuses layouts that exceed the memory limit: squares of a side, in metres, with a density, in blades for each square metre.
    pub(super) fn fit(&self, density: f64, side: f32) -> Result<(), SpecError> {
        let blade = BladeColumns::BYTES_PER_ELEMENT + self.wind_states as usize * size_of::<[f32; 2]>();
        let square = density * f64::from(side) * f64::from(side);
        if square * f64::from(self.layouts) * blade as f64 <= MEMORY_LIMIT as f64 {
            return Ok(());
        }
        let problem = format!(
            "{} layouts of {square:.0} blades in {} states are over the memory limit",
            self.layouts, self.wind_states
        );
        Err(SpecError::new("groups", problem, "write fewer layouts or states, or a smaller chunk"))
    }

    pub(super) fn repeat(&self, side: f32, seed: u32) -> Repeat {
        Repeat { side, layouts: self.layouts, seed }
    }
}

/// The blades of one layout, relative to the centre of their square.
#[derive(Debug, Clone)]
struct Layout {
    columns: BladeColumns,
    /// All of it as a square, from its first blade.
    square: Chunk,
    /// Lean along x and z in each state.
    leans: Vec<[Vec<f32>; 2]>,
}

/// All layouts in all states.
#[derive(Debug, Clone)]
pub struct BladeLayouts {
    spec: GroupSpec,
    repeat: Repeat,
    all: Vec<Layout>,
    wind: Range,
    /// Another whenever a lean changes.
    key: u64,
}

/// Range of wind speeds of the states.
#[derive(Debug, Clone, Copy, PartialEq)]
struct Range {
    /// Along x and z, unit length.
    along: Vec2,
    /// Speed at the deepest lull and the strongest gust, in m/s.
    least: f32,
    most: f32,
    /// Strength of gusts in addition, in m/s.
    strength: f32,
    drag: f32,
}

impl Range {
    fn of(world: &World, drag: f32) -> Self {
        let [x, _, z] = world.spec().wind;
        let wind = Vec2::new(x, z);
        let speed = wind.length();
        let along = wind.normalize_or(Vec2::X);
        let (swell, strength) = world
            .spec()
            .gusts
            .map_or(([1.0; 2], 0.0), |gusts| ([gusts.swell.min, gusts.swell.max], gusts.strength));
        let [least, most] = swell.map(|factor| factor * speed);
        // The noise is seldom at its extremes: states cover the usual range.
        Self { along, least: least - strength * 0.5, most: most + strength * 0.5, strength, drag }
    }

    /// Wind of a state, along x and z, in m/s.
    fn wind(&self, state: u32, states: u32) -> [f32; 2] {
        let share = if states > 1 { state as f32 / (states - 1) as f32 } else { 0.5 };
        (self.along * (self.least + (self.most - self.least) * share)).to_array()
    }
}

impl BladeLayouts {
    /// The layouts of a placement; `blade` turns a placed element into a blade.
    pub(super) fn new(
        spec: GroupSpec,
        repeat: Repeat,
        placement: &Placement,
        blade: impl Fn(&PlacedRow) -> BladeRow,
    ) -> Self {
        let mut layouts = Self {
            spec,
            repeat,
            all: Vec::new(),
            wind: Range { along: Vec2::X, least: f32::NAN, most: 0.0, strength: 0.0, drag: 0.0 },
            key: 0,
        };
        for nth in 0..spec.layouts {
            let mut placed = PlacedColumns::default();
            placement.layout(nth, &mut placed);
            let mut rows: Vec<BladeRow> =
                (0..placed.len()).filter_map(|nth| placed.row(nth)).map(|row| blade(&row)).collect();
            rows.sort_by_key(|row| row.kind);
            let mut square = Chunk::empty(0);
            let mut columns = BladeColumns::default();
            for row in &rows {
                square.add(row);
                columns.push(row);
            }
            layouts.all.push(Layout { columns, square, leans: Vec::new() });
        }
        layouts
    }

    /// Blades of each layout. States are computed anew.
    pub(super) fn save(&self) -> SavedState {
        let mut state = SavedState::default();
        for (nth, layout) in self.all.iter().enumerate() {
            state.put_part(&format!("{nth}"), layout.columns.save());
        }
        state
    }

    /// Takes over the blades of the layouts of the same spec.
    pub(super) fn restore(&mut self, state: &SavedState) -> Result<(), SpecError> {
        for (nth, layout) in self.all.iter_mut().enumerate() {
            let len = layout.columns.len();
            state.restore(&format!("{nth}"), |part| layout.columns.restore(part))?;
            if layout.columns.len() != len {
                return Err(unfit(&format!("{nth}"), "has another number of blades"));
            }
            layout.square.enclose(&layout.columns);
        }
        self.wind.least = f32::NAN;
        Ok(())
    }

    /// Changes the blades of all layouts. Their states are computed anew.
    pub(super) fn reshape(&mut self, mut change: impl FnMut(&mut BladeColumns, &mut Chunk)) {
        for layout in &mut self.all {
            change(&mut layout.columns, &mut layout.square);
        }
        self.wind.least = f32::NAN;
    }

    /// Updates the lean of all states, if the wind has changed.
    pub(super) fn follow(&mut self, world: &World, spec: &BladeSpec) {
        let wind = Range::of(world, spec.drag);
        if wind == self.wind {
            return;
        }
        (self.wind, self.key) = (wind, KEYS.fetch_add(1, Relaxed) + 1);
        let states = self.spec.wind_states;
        for layout in &mut self.all {
            layout.leans.clear();
            for state in 0..states {
                let air = Air {
                    world,
                    level: detect(),
                    time: 0.0,
                    plain: true,
                    gusts: None,
                    wind: wind.wind(state, states),
                    dt: 0.0,
                    drag: spec.drag,
                    slow: 0.0,
                    recover: spec.recover,
                };
                let (fixed, own) = layout.columns.halves();
                Rows { fixed, own }.lean(&air, 0.0);
                layout.leans.push(layout.columns.lean().map(<[f32]>::to_vec));
            }
        }
    }

    /// Layout of a square.
    pub(super) fn of(&self, cell: [i32; 2]) -> u32 {
        self.repeat.of(cell)
    }

    /// Distance from the camera below which no square is a group, in metres.
    pub(super) fn beyond(&self) -> f32 {
        self.spec.beyond
    }

    /// State of a square for the velocity of the air at its centre; none if no state shows it. Squares switch at different speeds, so that no line runs
    /// over the field.
    pub(super) fn state(&self, cell: [i32; 2], air: [f32; 2]) -> Option<u32> {
        let Range { along, least, most, strength, .. } = self.wind;
        let states = self.spec.wind_states;
        let (air, across) = (Vec2::from(air), along.perp());
        let step = (most - least) / states as f32;
        let (speed, aside) = (air.dot(along), air.dot(across));
        let spare = strength + step + 0.25;
        if aside.abs() > spare || speed < least - spare || speed > most + spare {
            return None;
        }
        if most <= least || states < 2 {
            return Some(0);
        }
        let [own, ..] = hash3(cell[0] as u32, cell[1] as u32, STATE_SEED).map(unit);
        let share = (speed - least) / (most - least);
        Some((share * (states - 1) as f32 + own).floor().clamp(0.0, (states - 1) as f32) as u32)
    }

    /// Number of layouts.
    pub fn len(&self) -> usize {
        self.all.len()
    }

    /// Whether there are no layouts.
    pub fn is_empty(&self) -> bool {
        self.all.is_empty()
    }

    /// The blades of a layout in still air, relative to the centre of their square. `None` beyond the last.
    pub fn columns(&self, layout: u32) -> Option<&BladeColumns> {
        self.all.get(layout as usize).map(|layout| &layout.columns)
    }

    /// Lean of the blades of a layout in a state, along x and z, in radians. `None` beyond the last, and before the first step.
    pub fn lean(&self, group: Group) -> Option<[&[f32]; 2]> {
        let [x, z] = self.all.get(group.layout as usize)?.leans.get(group.state as usize)?;
        Some([x, z])
    }

    /// Memory, in bytes.
    pub(super) fn bytes(&self) -> usize {
        let of = |layout: &Layout| {
            let leans = layout.leans.iter().flatten().map(|lean| size_of_val(&lean[..])).sum::<usize>();
            layout.columns.len() * BladeColumns::BYTES_PER_ELEMENT + leans
        };
        self.all.iter().map(of).sum()
    }
}

/// Number of keys so far: keys are unique.
static KEYS: AtomicU64 = AtomicU64::new(0);

/// Separates the numbers of squares from other draws.
const STATE_SEED: u32 = 0x5747_e000;

impl Layouts for BladeLayouts {
    fn poses(&self, group: Group) -> Option<Poses<'_>> {
        let columns = self.columns(group.layout)?;
        let [x, z] = self.lean(group)?;
        let mut poses = columns.poses();
        poses.bend =
            poses.bend.map(|[length, _, _, turn, rate_x, rate_z]| [length, x, z, turn, rate_x, rate_z]);
        Some(poses)
    }

    fn of_kind(&self, layout: u32, kind: usize) -> (u32, u32) {
        self.all.get(layout as usize).map_or((0, 0), |layout| layout.square.of_kind(kind))
    }

    fn reach(&self) -> [[f32; 3]; 2] {
        let squares = || self.all.iter().map(|layout| &layout.square);
        let fold = |axis: usize, least: f32, pick: fn(f32, f32) -> f32, end: fn(&Chunk) -> [f32; 3]| {
            squares().fold(least, |most, square| pick(most, end(square)[axis]))
        };
        let low = [0, 1, 2].map(|axis| fold(axis, f32::INFINITY, f32::min, |square| square.low));
        let high = [0, 1, 2].map(|axis| fold(axis, f32::NEG_INFINITY, f32::max, |square| square.high));
        [low, high]
    }

    fn key(&self) -> u64 {
        self.key
    }
}
