//! One step of bodies that keep apart on the device. Read by `shaders/apart.wgsl`.

use frolic_core::ApartSpec;
use frolic_core::backend::{
    APART_CREEP, APART_LIVELY, APART_MOST_PUSH, APART_SHAKE, APART_SKIN, APART_TIRED, APART_WIDER,
    DeviceCells,
};

use crate::shared::cells::CellGrid;
use crate::shared::{constants, listed, shared};

shared! {
    /// What all bodies share in one step.
    struct ApartStep {
        grid: CellGrid,
        /// 1 for each axis along which they may be pushed, else 0.
        free: [f32; 3],
        /// Radius over size.
        radius: f32,
        dt: f32,
        stiffness: f32,
        rest: f32,
        friction: f32,
        mass_power: f32,
        /// How far pushes move a body at most, in metres.
        farthest: f32,
        /// Slots of the memory less 1; a power of two less 1.
        slots: u32,
        /// Word of the counters from which pairs and sleepers are counted.
        tally: u32,
    }
}

constants! {
    /// Rows of buffers, flags of a body, and words of what is counted.
    apart_tags {
        /// Position and radius; velocity and share that it gives way.
        BODY_ROWS: u32 = 2,
        /// Where it came from and flags; where pushes start and pace; where it was, and how many touch it; index and cell.
        SLEEPER_ROWS: u32 = 4,
        /// Where it was and number plus 1; pace, and how long it rested with how many touched it.
        MEMORY_ROWS: u32 = 2,

        IS_ASLEEP: u32 = 1,
        IS_KNOWN: u32 = 2,
        BY_WALL: u32 = 4,
        OWNS_SLOT: u32 = 8,

        /// Words of what is counted: pairs tested and near, each in two, and sleepers.
        TALLY_WORDS: u32 = 5,
    }
}

/// Limits of frolic-core/src/world/apart in WGSL.
pub(crate) fn apart_limits() -> String {
    listed!(APART_SKIN, APART_WIDER, APART_SHAKE, APART_TIRED, APART_CREEP, APART_LIVELY)
}

/// Cells for bodies of up to a radius, in metres.
pub(crate) fn cells_of(spec: &ApartSpec, largest: f32, count: u32, free: [f32; 3]) -> DeviceCells {
    let is_grid = spec.neighbours == frolic_core::neighbours::NeighbourTechnique::Grid;
    let free = if is_grid { free } else { [0.0; 3] };
    let reach = (largest * 2.0 * (APART_SKIN + APART_MOST_PUSH)).max(1e-6);
    DeviceCells::new(reach, count, [0.0; 3], [0.0; 3], free)
}
