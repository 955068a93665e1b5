//! Cells over space, and the runs of cells around a point.

use crate::foundations::error::SpecError;
use smallvec::SmallVec;

use super::spec::{AxisSpec, NeighbourSpec};

/// Cells along an axis.
#[derive(Debug, Clone, Copy, PartialEq)]
struct Axis {
    /// Where the first cell begins, in metres.
    low: f32,
    /// Cells in a metre.
    per_metre: f32,
    count: u32,
    ends: Ends,
}

/// What comes after the last cell.
#[derive(Debug, Clone, Copy, PartialEq)]
enum Ends {
    /// Nothing: what lies beyond is in the last.
    Closed,
    /// The first, again and again: cells far apart share a place. Their count is a power of two.
    Folded,
    /// The first: space begins again after a length in metres.
    Wrapped(f32),
    /// The axis does not count.
    Ignored,
}

/// Cells over space.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct Grid {
    axes: [Axis; 3],
}

/// A run of cells, from the first to the one after the last.
pub(crate) type Run = [u32; 2];

/// Runs of cells or of places.
pub(crate) type Runs = SmallVec<[Run; 32]>;

/// Cells along x in a reach: a run of cells costs no more than one, and elements of a row come in a finer order. Along y and z they are as long as the reach.
const FINE: f32 = 4.0;

/// Most cells for each element.
const PER_ELEMENT: usize = 2;

/// Cells that are allowed however few the elements.
const LEAST: usize = 1 << 12;

/// Most cells along an axis.
const MOST_ALONG: u64 = 1 << 20;

impl Grid {
    /// Cells for a number of elements that lie between two corners.
    pub(super) fn new(spec: &NeighbourSpec, count: usize, low: [f32; 3], high: [f32; 3]) -> Self {
        let most = (count * PER_ELEMENT).max(LEAST) as u64;
        // Coarser ones before any are folded.
        let all = [FINE, FINE * 0.5, 1.0].map(|fine| Self::axes(spec, fine, low, high));
        let count = |axes: &[Axis; 3]| axes.iter().map(|axis| u64::from(axis.count)).product::<u64>();
        let fits =
            |axes: &&[Axis; 3]| count(axes) <= most && axes.iter().all(|axis| axis.ends != Ends::Folded);
        let mut axes = *all.iter().find(fits).unwrap_or(&all[2]);
        // The longest axis is shortened until there is room: by folding it, or by longer cells where it wraps.
        while count(&axes) > most {
            let Some(longest) = axes.iter_mut().max_by_key(|axis| axis.count) else { break };
            match longest.ends {
                Ends::Wrapped(length) => {
                    longest.count = longest.count.div_ceil(2);
                    longest.per_metre = longest.count as f32 / length;
                }
                _ => {
                    longest.ends = Ends::Folded;
                    longest.count = (longest.count.next_power_of_two() / 2).max(1);
                }
            }
        }
        Self { axes }
    }

    /// Cells along each axis; along x, `fine` of them are as long as the reach.
    fn axes(spec: &NeighbourSpec, fine: f32, low: [f32; 3], high: [f32; 3]) -> [Axis; 3] {
        let axis = |nth: usize| {
            let fine = if nth == 0 { fine } else { 1.0 };
            let span = |low: f32, high: f32| {
                let side = spec.reach / fine;
                let cells = ((f64::from(high) - f64::from(low)) / f64::from(side)) as u64 + 1;
                let ends = if cells > MOST_ALONG { Ends::Folded } else { Ends::Closed };
                Axis { low, per_metre: 1.0 / side, count: cells.min(MOST_ALONG) as u32, ends }
            };
            match spec.axes[nth] {
                AxisSpec::Ignored => Axis { low: 0.0, per_metre: 0.0, count: 1, ends: Ends::Ignored },
                AxisSpec::Open => span(low[nth], high[nth]),
                // No more than elements take up: those outside are in the cells at the border.
                AxisSpec::Bounded(from, to) => span(from.max(low[nth]).min(to), to.min(high[nth]).max(from)),
                AxisSpec::Wrapping(low, high) => {
                    let length = high - low;
                    let cells = ((length / spec.reach * fine) as u32).clamp(1, MOST_ALONG as u32);
                    Axis { low, per_metre: cells as f32 / length, count: cells, ends: Ends::Wrapped(length) }
                }
            }
        };
        [axis(0), axis(1), axis(2)]
    }

    /// Number of cells.
    pub(super) fn cells(&self) -> usize {
        self.axes.iter().map(|axis| axis.count as usize).product()
    }

    /// A position within a space that wraps, and with 0 for what does not count.
    #[inline(always)]
    pub(super) fn reduced(&self, at: [f32; 3]) -> [f32; 3] {
        let mut reduced = at;
        for (value, axis) in reduced.iter_mut().zip(&self.axes) {
            match axis.ends {
                Ends::Wrapped(length) => {
                    let turns = ((*value - axis.low) / length).floor();
                    // Rounding may leave it at the end.
                    let within = *value - turns * length;
                    *value = if within >= axis.low + length { axis.low } else { within.max(axis.low) };
                }
                Ends::Ignored => *value = 0.0,
                Ends::Closed | Ends::Folded => {}
            }
        }
        reduced
    }

    /// Row of cells along x of a reduced position, and the number of its cell in that row.
    #[inline(always)]
    pub(super) fn in_row(&self, at: [f32; 3]) -> [u32; 2] {
        let [x, y, z] = &self.axes;
        [z.cell(at[2]) * y.count + y.cell(at[1]), x.cell(at[0])]
    }

    /// The cell of a reduced position.
    #[inline(always)]
    pub(super) fn cell(&self, at: [f32; 3]) -> u32 {
        let [row, nth] = self.in_row(at);
        row * self.axes[0].count + nth
    }

    /// How far apart elements of neighbouring cells may be along each axis, in metres, where cells far apart share a place; infinite where none do.
    pub(super) fn folds(&self) -> [f32; 3] {
        self.axes.each_ref().map(|axis| match axis.ends {
            Ends::Folded => 2.0 / axis.per_metre,
            _ => f32::INFINITY,
        })
    }

    /// Lengths in metres after which space begins again; 0 where it does not.
    #[inline(always)]
    pub(super) fn lengths(&self) -> [f32; 3] {
        [0, 1, 2].map(|axis| if let Ends::Wrapped(length) = self.axes[axis].ends { length } else { 0.0 })
    }

    /// The shortest way from one reduced position to another.
    #[inline(always)]
    pub(super) fn offset(&self, from: [f32; 3], to: [f32; 3]) -> [f32; 3] {
        let mut way = [to[0] - from[0], to[1] - from[1], to[2] - from[2]];
        for (value, axis) in way.iter_mut().zip(&self.axes) {
            if let Ends::Wrapped(length) = axis.ends {
                let half = length * 0.5;
                if *value > half {
                    *value -= length;
                } else if *value < -half {
                    *value += length;
                }
            }
        }
        way
    }

    /// Runs of cells that hold all within a radius of a box of reduced positions, in rising order, each cell once.
    pub(super) fn around(&self, [low, high]: [[f32; 3]; 2], radius: f32, into: &mut Runs) {
        into.clear();
        let [x, y, z] = [0, 1, 2].map(|nth| self.axes[nth].around([low[nth], high[nth]], radius));
        let [wide, high, _] = self.axes.map(|axis| axis.count);
        for layer in z.iter().flat_map(|run| run[0]..run[1]) {
            for row in y.iter().flat_map(|run| run[0]..run[1]) {
                let first = (layer * high + row) * wide;
                for run in x {
                    if run[0] < run[1] {
                        let run = run.map(|cell| first + cell);
                        match into.last_mut() {
                            Some(last) if last[1] == run[0] => last[1] = run[1],
                            _ => into.push(run),
                        }
                    }
                }
            }
        }
    }

    /// Refuses cells that do not fit into memory.
    pub(super) fn check(&self) -> Result<(), SpecError> {
        if self.cells() as u64 * size_of::<u32>() as u64 <= crate::foundations::columns::MEMORY_LIMIT {
            return Ok(());
        }
        Err(SpecError::new(
            "reach",
            format!("{} cells are over the memory limit", self.cells()),
            "write a larger reach",
        ))
    }
}

impl Axis {
    /// Number of a cell, counted from the first without an end.
    #[inline(always)]
    fn place(&self, at: f32) -> i32 {
        // Saturates far away. Rounds down by whole numbers: `floor` is a call on the baseline.
        let cells = (at - self.low) * self.per_metre;
        let place = cells as i32;
        place.saturating_sub(i32::from(place as f32 > cells))
    }

    #[inline(always)]
    fn cell(&self, at: f32) -> u32 {
        let (place, last) = (self.place(at), self.count as i32 - 1);
        match self.ends {
            Ends::Closed | Ends::Wrapped(_) => place.clamp(0, last) as u32,
            Ends::Folded => (place & last) as u32,
            Ends::Ignored => 0,
        }
    }

    /// One or two runs of cells within a radius of a stretch, in rising order; an empty run is of no cells.
    fn around(&self, [low, high]: [f32; 2], radius: f32) -> [Run; 2] {
        let (all, none) = ([0, self.count], [0, 0]);
        // With what rounding loses.
        let reach = |at: f32| radius * 1.000_01 + (at - self.low).abs() * 4e-7;
        let (from, to) = (self.place(low - reach(low)), self.place(high + reach(high)));
        match self.ends {
            Ends::Ignored => [all, none],
            Ends::Closed => {
                let last = self.count as i32 - 1;
                [[from.clamp(0, last) as u32, to.clamp(0, last) as u32 + 1], none]
            }
            Ends::Folded | Ends::Wrapped(_) => {
                if to.wrapping_sub(from) as u32 >= self.count - 1 {
                    return [all, none];
                }
                let count = self.count as i32;
                let [from, to] = [from, to].map(|place| place.rem_euclid(count) as u32);
                if from <= to { [[from, to + 1], none] } else { [[0, to + 1], [from, self.count]] }
            }
        }
    }
}
