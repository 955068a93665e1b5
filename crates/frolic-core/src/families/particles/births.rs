//! Adds newborns to a population.
//!
//! Emitted elements are born within a step and move for the rest of it (`world/bodies/births.rs`). Elements that events start, and those
//! taken on from elsewhere, are born at its end and move from the next step on.

use super::Held;
use crate::world::bodies::{Acts, BodyColumns, BodyRow, Chunk, Notes, Room, note_birth};
use crate::world::events::EventRecord;
use crate::world::obstacles::BLOCK;

/// A block of newborns, and their records.
#[derive(Debug, Clone, Default)]
pub(super) struct Newcomers {
    block: BodyColumns,
    notes: Notes,
    dead: Vec<u32>,
    /// Number of elements added at the end of the population since its last step.
    pub(super) still: usize,
}

/// Counters of the newborns of a step.
#[derive(Debug, Default)]
pub(super) struct Fate {
    pub(super) hits: u64,
    pub(super) caught: u64,
    /// Newborns whose life an obstacle or a collector ended.
    pub(super) ended: u64,
}

impl Newcomers {
    pub(super) fn reserve(&mut self) -> Result<(), std::collections::TryReserveError> {
        self.block.reserve(BLOCK)?;
        self.dead.try_reserve_exact(BLOCK)
    }

    /// Adds an emitted element at its moment of birth. Returns true if the block is full: then call [`Newcomers::deliver`].
    pub(super) fn push(&mut self, row: &BodyRow) -> bool {
        self.block.push(row);
        self.block.len() == BLOCK
    }

    /// Moves the elements of the block for a time equal to their age, and adds those that live to the population.
    pub(super) fn deliver(
        &mut self,
        acts: &Acts<'_>,
        held: &mut Held,
        happened: &mut Vec<EventRecord>,
        caught: &mut [u64],
        fate: &mut Fate,
    ) {
        if self.block.is_empty() {
            return;
        }
        let Self { block, notes, dead, still } = self;
        notes.clear();
        let acts = &Acts { offset: acts.count, ..*acts };
        Chunk::of(&mut block.bodies()).grow_up(acts, &mut Room::new(), notes);
        notes.sort();
        if !acts.events.is_empty() {
            for (nth, row) in (0..block.len()).filter_map(|nth| Some((nth, block.row(nth)?))) {
                note_birth(acts.events, &row, happened);
                let noted = notes.happenings.iter().skip_while(|(at, _)| *at < nth as u32);
                happened
                    .extend(noted.take_while(|(at, _)| *at == nth as u32).map(|(_, happening)| *happening));
            }
        }
        let has_ended = |nth: usize| block.age[nth] == f32::INFINITY;
        dead.clear();
        dead.extend((0..block.len()).filter(|&nth| has_ended(nth)).map(|nth| nth as u32));
        fate.ended += dead.len() as u64;
        block.remove_sorted(dead);
        held.append(block);
        *still += block.len();
        for &collector in &notes.caught {
            caught[collector as usize] += 1;
        }
        fate.caught += notes.caught.len() as u64;
        fate.hits += notes.hits;
        block.clear();
    }

    /// Before a step: gives elements born at the end of the last step the velocity that the leapfrog starts from.
    pub(super) fn start(&mut self, acts: &Acts<'_>, held: &mut Held) {
        let (len, still) = (held.len(), std::mem::take(&mut self.still));
        held.start_newborn(len - still.min(len)..len, acts, &mut Room::new());
    }
}
