//! A grid of cells on the device. Read by `shaders/cells.wgsl` and all that look for neighbours.

use frolic_core::backend::DeviceCells;

use crate::shared::shared;

shared! {
    /// A grid of cells: `DeviceCells` of frolic-core/src/backend/flock.rs.
    struct CellGrid {
        corner: [f32; 3],
        /// Number of all cells.
        count: u32,
        per_cell: [f32; 3],
        /// Most elements.
        capacity: u32,
        cells: [u32; 3],
        /// Word of the counters with the number of elements.
        live: u32,
    }
}

impl CellGrid {
    pub(crate) fn new(cells: DeviceCells, capacity: u32, live: u32) -> Self {
        Self {
            corner: cells.corner,
            count: cells.count(),
            per_cell: cells.per_cell,
            capacity,
            cells: cells.cells,
            live,
        }
    }
}
