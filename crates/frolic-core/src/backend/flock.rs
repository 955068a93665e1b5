//! Flocks on a device: the numbers of a step, the grid of cells, and what keeps one on the CPU.

use crate::assets::Assets;
use crate::families::flock::{self, FlockSpec, Space, Target, motion};
use crate::families::particles::ParticleSpec;
use crate::foundations::span::Span;
use crate::neighbours::NeighbourTechnique;
use crate::world::World;
use crate::world::bodies::KeepTo;
use crate::world::events::EventSpec;
use crate::world::fields::spec::FieldSpec;
use crate::world::obstacles::Touch;

use super::limits::why_not_on_device;

pub use crate::families::flock::{
    LOYALTY, Ranges as FlockRanges, SHAKE, Steering as FlockSteering, TargetAt, Targets as FlockTargets,
};

/// Most elements of a population that a flock on a device seeks or flees, and most hunters of one.
pub const MOST_SEEN: u32 = 256;

/// Most targets of a flock: those it seeks and those it flees.
pub const MOST_TARGETS: usize = 2 * flock::MOST_TARGETS;

/// Most elements of a flock on a device.
pub const MOST_FLOCK: u32 = 2_000_000;

/// Bits of the number of cells of the largest grid.
const MOST_CELL_BITS: u32 = 20;

/// The elements of a flock as bodies: particles that nothing emits, of these sizes, in metres.
pub fn flock_bodies(spec: &FlockSpec, count: u32, size: Span, fields: &[FieldSpec]) -> ParticleSpec {
    let mut bodies = ParticleSpec::new(count);
    (bodies.motion, bodies.size, bodies.field) = (motion(spec), size, fields.to_vec());
    bodies
}

/// Returns why a flock cannot run on a device, if it cannot. `bodies` are those of [`flock_bodies`].
pub fn why_flock_not_on_device(
    spec: &FlockSpec,
    bodies: &ParticleSpec,
    events: &[EventSpec],
    world: &World,
    assets: &Assets,
) -> Option<String> {
    let why = |what: &str| Some(what.to_owned());
    if bodies.count > MOST_FLOCK {
        return why("it has over 2 000 000 elements");
    }
    if !events.is_empty() {
        return why("it has events");
    }
    if matches!(spec.within, Some(Space::Distance { .. })) {
        return why("it stays within a distance grid");
    }
    if spec.seek.iter().chain(&spec.flee).any(|target| matches!(target.target, Target::Surface(_))) {
        return why("it seeks or flees a surface");
    }
    if spec.hunt.is_some() && bodies.count > MOST_SEEN {
        return why("it has over 256 hunters");
    }
    let deadly = world.spec().obstacle.iter().any(|obstacle| obstacle.touch == Touch::Die);
    if deadly || !world.spec().collector.is_empty() {
        return why("collectors or deadly obstacles end its elements");
    }
    why_not_on_device(bodies, world, assets)
}

/// A grid of cells that begins again at its sides: places far apart may share a cell, neighbouring cells are never the same.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct DeviceCells {
    /// Where cells are counted from, in metres.
    pub corner: [f32; 3],
    /// Cells a metre.
    pub per_cell: [f32; 3],
    /// Cells along each axis: 1, or at least 3.
    pub cells: [u32; 3],
}

impl DeviceCells {
    /// Cells for this many elements that look this far, in metres. `lengths` are those after which space begins again, from `corner` on, or 0;
    /// `free` is 0 along an axis on which distances do not count.
    pub fn new(reach: f32, count: u32, corner: [f32; 3], lengths: [f32; 3], free: [f32; 3]) -> Self {
        let axes = free.iter().filter(|free| **free > 0.0).count().max(1) as u32;
        let bits = count.max(1).next_power_of_two().ilog2().min(MOST_CELL_BITS);
        let most = 1 << (bits.div_ceil(axes).max(2)).min(MOST_CELL_BITS / axes);
        let mut grid = Self { corner, per_cell: [0.0; 3], cells: [1; 3] };
        for axis in 0..3 {
            if free[axis] == 0.0 {
                continue;
            }
            if lengths[axis] > 0.0 {
                let whole = (lengths[axis] / reach).floor().min(most as f32);
                if whole >= 3.0 {
                    (grid.cells[axis], grid.per_cell[axis]) = (whole as u32, whole / lengths[axis]);
                }
            } else {
                (grid.cells[axis], grid.per_cell[axis]) = (most, 1.0 / reach);
            }
        }
        grid
    }

    /// The cells of a flock.
    pub fn of(spec: &FlockSpec, count: u32) -> Self {
        let free = match spec.neighbours {
            NeighbourTechnique::AllPairs => [0.0; 3],
            _ => KeepTo::free(spec.keep_to),
        };
        let (corner, lengths) = flock_wrapping(spec);
        // With what positions are shaken by.
        Self::new(spec.reach() * (1.0 + 2.0 * SHAKE), count, corner, lengths, free)
    }

    /// Number of all cells.
    pub fn count(&self) -> u32 {
        self.cells.iter().product()
    }
}

/// Low corner of the space of a flock and the lengths after which it begins again, in metres; 0 where it does not.
pub fn flock_wrapping(spec: &FlockSpec) -> ([f32; 3], [f32; 3]) {
    let free = KeepTo::free(spec.keep_to);
    match &spec.within {
        Some(space @ Space::Wrapping { size, .. }) => {
            let [corner, _] = space.corners().unwrap_or_default();
            (corner, [0, 1, 2].map(|axis| size[axis] * free[axis]))
        }
        _ => Default::default(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Cells are no smaller than the reach, no axis has two of them, and there are not many more than elements.
    #[test]
    fn cells_suit_the_reach_and_the_count() {
        for count in [1, 100, 60_000, 2_000_000] {
            for free in [[1.0; 3], [1.0, 0.0, 1.0]] {
                let open = DeviceCells::new(0.3, count, [0.0; 3], [0.0; 3], free);
                assert!(open.count() <= 8 * count.max(64), "{open:?} for {count}");
                let closed = DeviceCells::new(0.3, count, [-1.0; 3], [4.0, 0.8, 100.0], free);
                for grid in [open, closed] {
                    for axis in 0..3 {
                        assert!(grid.cells[axis] == 1 || grid.cells[axis] >= 3);
                        assert!(grid.per_cell[axis] * 0.3 <= 1.000_001, "{grid:?}");
                        assert!(free[axis] > 0.0 || grid.cells[axis] == 1);
                    }
                }
                assert_eq!(closed.cells[1], 1);
            }
        }
    }
}
