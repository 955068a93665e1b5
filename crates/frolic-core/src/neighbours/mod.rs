//! Elements near each other, for any family and for rules of a program's own.
//!
//! [`Neighbours::find`] takes the positions of one or several populations and sorts them by cell. After that all queries are cheap: within a
//! radius, the nearest few, every pair once, and a value for each element from those around it.
//!
//! | question | file |
//! | --- | --- |
//! | what can be set? | `spec.rs` |
//! | which cells are there, which lie around a point? | `grid.rs` |
//! | how are elements put in the order of their cells? | `sort.rs` |
//! | which elements share their candidates? | `blocks.rs` |
//! | which are near a point or an element? | `query.rs` |
//! | how many groups do they form? | `groups.rs` |
//!
//! Cells as hash keys: Teschner et al., "Optimized Spatial Hashing for Collision Detection of Deformable Objects", 2003; here an axis that is too long for its
//! elements is folded onto a power of two. Sorted by counting: Green, "Particle Simulation using CUDA", 2010.

pub(crate) mod blocks;
mod grid;
mod groups;
mod query;
mod sort;
mod spec;

use rayon::prelude::*;

use crate::foundations::error::SpecError;
use crate::foundations::meter::{Counter, Meter, Stage};
use crate::foundations::simd::{Level, detect};
use grid::Grid;
use sort::Sorter;

pub use groups::groups;
pub use query::{Near, Others, Pair};
pub use spec::{AxisSpec, NeighbourSpec, NeighbourTechnique};

/// Positions of elements: x, y and z, in metres.
pub type Positions<'a> = [&'a [f32]; 3];

/// Neighbours of one or several populations.
///
/// ```
/// use frolic_core::Meter;
/// use frolic_core::neighbours::{NeighbourSpec, Neighbours};
///
/// let (x, y, z) = ([0.0, 0.3, 5.0], [0.0; 3], [0.0; 3]);
/// let mut near = Neighbours::new(&NeighbourSpec::new(0.5))?;
/// near.find(&[[&x, &y, &z]], &mut Meter::new())?;
/// let around: Vec<usize> = near.within([0.1, 0.0, 0.0], 0.5).map(|other| other.index).collect();
/// assert_eq!(around, [0, 1]);
/// # Ok::<(), frolic_core::SpecError>(())
/// ```
#[derive(Debug, Clone)]
pub struct Neighbours {
    spec: NeighbourSpec,
    grid: Grid,
    populations: Vec<Sorted>,
    sorter: Sorter,
    cells: Vec<u32>,
    /// Number of the present search, for sampling.
    turn: u32,
    level: Level,
}

/// Elements of one population in the order of their cells.
#[derive(Debug, Clone, Default)]
struct Sorted {
    /// Reduced positions, with eight more values.
    at: [Vec<f32>; 3],
    /// Number of each element in its population.
    order: Vec<u32>,
    /// First element of each cell, and the end.
    starts: Vec<u32>,
}

impl Neighbours {
    /// A search without elements: call [`Neighbours::find`] before queries.
    ///
    /// # Errors
    /// The spec has a value out of range.
    pub fn new(spec: &NeighbourSpec) -> Result<Self, SpecError> {
        spec.check()?;
        Ok(Self {
            spec: *spec,
            grid: Grid::new(spec, 0, [0.0; 3], [0.0; 3]),
            populations: Vec::new(),
            sorter: Sorter::default(),
            cells: Vec::new(),
            turn: 0,
            level: detect(),
        })
    }

    /// The same with kernels of an instruction set, which do not change results. For tests.
    pub fn tuned(mut self, level: Level) -> Self {
        self.level = level;
        self
    }

    /// How neighbours are looked for.
    pub fn spec(&self) -> &NeighbourSpec {
        &self.spec
    }

    /// Looks in another space from the next search on.
    pub(crate) fn set_spec(&mut self, spec: NeighbourSpec) {
        self.spec = spec;
    }

    /// Sorts populations by cell, at these positions: once a step, before queries.
    ///
    /// # Errors
    /// Columns of a population differ in length; a position is not finite; there are more elements than 2^31.
    pub fn find(&mut self, populations: &[Positions<'_>], meter: &mut Meter) -> Result<(), SpecError> {
        let started = meter.start(Stage::Neighbours);
        let found = self.sort(populations, meter);
        meter.stop(started);
        found
    }

    fn sort(&mut self, populations: &[Positions<'_>], meter: &mut Meter) -> Result<(), SpecError> {
        let (mut low, mut high, mut count) = ([f32::INFINITY; 3], [f32::NEG_INFINITY; 3], 0);
        for (nth, positions) in populations.iter().enumerate() {
            let len = positions[0].len();
            if positions.iter().any(|column| column.len() != len) {
                let problem = format!("columns of population {nth} differ in length");
                return Err(SpecError::new("positions", problem, "pass as many x as y and z"));
            }
            count += len;
            for axis in 0..3 {
                let [least, most] = range(positions[axis]).ok_or_else(|| {
                    let at = positions[axis].iter().position(|value| !value.is_finite()).unwrap_or(0);
                    let problem = format!("element {at} of population {nth} is at {}", positions[axis][at]);
                    SpecError::new("positions", problem, "pass finite positions")
                })?;
                (low[axis], high[axis]) = (low[axis].min(least), high[axis].max(most));
            }
        }
        if count > i32::MAX as usize {
            let problem = format!("{count} elements");
            return Err(SpecError::new("positions", problem, "look among at most 2147483647"));
        }
        if count == 0 {
            (low, high) = ([0.0; 3], [0.0; 3]);
        }
        // Before anything changes: after an error the last search still stands.
        let grid = Grid::new(&self.spec, count, low, high);
        grid.check()?;
        (self.grid, self.turn) = (grid, self.turn.wrapping_add(1));
        self.populations.resize_with(populations.len(), Sorted::default);
        let (mut fullest, mut used) = (0, 0);
        for (sorted, positions) in self.populations.iter_mut().zip(populations) {
            let grid = &self.grid;
            self.cells.resize(positions[0].len(), 0);
            self.cells.par_iter_mut().with_min_len(4096).enumerate().for_each(|(nth, cell)| {
                *cell = grid.cell(grid.reduced([0, 1, 2].map(|axis| positions[axis][nth])));
            });
            self.sorter.sort(&self.cells, grid.cells(), &mut sorted.order, &mut sorted.starts);
            sorted.place(grid, positions);
            let (most, cells) = sorted.crowding();
            (fullest, used) = (fullest.max(most), used + cells);
        }
        meter.set(Counter::FullestCell, fullest);
        meter.set(Counter::CellsUsed, used);
        meter.set(Counter::NeighbourBytes, self.bytes());
        Ok(())
    }

    /// Number of populations of the last search.
    pub fn populations(&self) -> usize {
        self.populations.len()
    }

    /// Elements of a population in the order of their cells: those near each other are mostly beside each other. Empty for a population that is not there.
    pub fn order(&self, population: usize) -> &[u32] {
        self.populations.get(population).map_or(&[], |sorted| &sorted.order)
    }

    /// Puts a column of a population into the order of cells, which makes the next search and all else that looks at neighbours faster. After all its
    /// columns, call [`Neighbours::arranged`].
    ///
    /// # Errors
    /// There is no such population, or the column is longer or shorter than it.
    pub fn arrange<T: Copy + Default + Send + Sync>(
        &self,
        population: usize,
        column: &mut Vec<T>,
        scratch: &mut Vec<T>,
    ) -> Result<(), SpecError> {
        let order = self.order(population);
        if order.len() != column.len() {
            let problem =
                format!("{} values for {} elements of population {population}", column.len(), order.len());
            return Err(SpecError::new("column", problem, "pass a column of this population"));
        }
        sort::arrange(order, column, scratch);
        Ok(())
    }

    /// Notes that a population's columns are in the order of cells now: queries name elements by their new places.
    pub fn arranged(&mut self, population: usize) {
        if let Some(sorted) = self.populations.get_mut(population) {
            sorted
                .order
                .par_iter_mut()
                .with_min_len(4096)
                .enumerate()
                .for_each(|(nth, place)| *place = nth as u32);
        }
    }

    /// Bytes held.
    pub fn bytes(&self) -> u64 {
        let sorted = |sorted: &Sorted| {
            let columns: usize = sorted.at.iter().map(Vec::capacity).sum();
            (columns + sorted.order.capacity() + sorted.starts.capacity()) * size_of::<u32>()
        };
        let own = self.cells.capacity() * size_of::<u32>();
        (self.populations.iter().map(sorted).sum::<usize>() + own + self.sorter.bytes()) as u64
    }
}

impl Sorted {
    /// Copies positions into the order.
    fn place(&mut self, grid: &Grid, positions: &Positions<'_>) {
        let [x, y, z] = &mut self.at;
        for column in [&mut *x, &mut *y, &mut *z] {
            column.resize(self.order.len() + 8, 0.0);
        }
        let places = x.par_iter_mut().zip(y).zip(z).zip(&self.order).with_min_len(4096);
        places.for_each(|(((x, y), z), from)| {
            [*x, *y, *z] = grid.reduced([0, 1, 2].map(|axis| positions[axis][*from as usize]));
        });
    }

    /// Elements of the fullest cell, and number of cells with any.
    fn crowding(&self) -> (u64, u64) {
        let cells = self.starts.par_windows(2).with_min_len(4096);
        let of_cell = |cell: &[u32]| u64::from(cell[1] - cell[0]);
        cells
            .map(|cell| (of_cell(cell), u64::from(of_cell(cell) > 0)))
            .reduce(|| (0, 0), |a, b| (a.0.max(b.0), a.1 + b.1))
    }
}

/// Least and greatest value; `None` if one is not finite.
fn range(values: &[f32]) -> Option<[f32; 2]> {
    let of = |values: &[f32]| {
        let mut range = [f32::INFINITY, f32::NEG_INFINITY];
        let mut is_finite = true;
        for value in values {
            is_finite &= value.is_finite();
            range = [range[0].min(*value), range[1].max(*value)];
        }
        (range, is_finite)
    };
    let join =
        |a: ([f32; 2], bool), b: ([f32; 2], bool)| ([a.0[0].min(b.0[0]), a.0[1].max(b.0[1])], a.1 & b.1);
    let (range, is_finite) =
        values.par_chunks(1 << 14).map(of).reduce(|| ([f32::INFINITY, f32::NEG_INFINITY], true), join);
    is_finite.then_some(range)
}
