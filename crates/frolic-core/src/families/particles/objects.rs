//! The classic form: one heap record for each element, one thread, one element after the other.
//!
//! Profiles compare with it, so it does no needless work: the same formula, the same order. It pays for what that form costs: a pointer to
//! follow, and attributes side by side that one loop does not need together.

use crate::foundations::columns::swap_and_truncate;
use crate::world::bodies::{Acts, BodyColumns, BodyRow, Notes, Room, step_row};

/// All records, in order of birth.
#[derive(Debug, Clone, Default)]
pub(super) struct Records {
    // One box for each element is the point of this asset.
    #[allow(clippy::vec_box)]
    rows: Vec<Box<BodyRow>>,
}

impl Records {
    /// A record, its pointer, and the header that an allocator keeps.
    pub(super) const BYTES_PER_ELEMENT: usize = size_of::<BodyRow>() + 2 * size_of::<usize>();

    pub(super) fn reserve(&mut self, capacity: usize) -> Result<(), std::collections::TryReserveError> {
        self.rows.try_reserve_exact(capacity.saturating_sub(self.rows.len()))
    }

    pub(super) fn len(&self) -> usize {
        self.rows.len()
    }

    pub(super) fn clear(&mut self) {
        self.rows.clear();
    }

    pub(super) fn push(&mut self, row: &BodyRow) {
        self.rows.push(Box::new(*row));
    }

    /// Steps all records; `lies` has one entry for each. Afterwards `dead` holds the indices of dead records in rising order.
    pub(super) fn advance(
        &mut self,
        acts: &Acts<'_>,
        lies: &mut [u8],
        dead: &mut Vec<u32>,
        notes: &mut Notes,
    ) {
        dead.clear();
        let mut room = Room::new();
        for (nth, (row, lies)) in (0u32..).zip(self.rows.iter_mut().zip(lies)) {
            if step_row(acts, nth, row, lies, &mut room, notes) {
                dead.push(nth);
            }
        }
        notes.sort();
    }

    pub(super) fn row_mut(&mut self, nth: usize) -> &mut BodyRow {
        &mut self.rows[nth]
    }

    /// All records, by index.
    pub(super) fn rows(&self) -> impl Iterator<Item = &BodyRow> {
        self.rows.iter().map(|row| &**row)
    }

    /// Position of each, in metres.
    pub(super) fn places(&self) -> impl Iterator<Item = [f32; 3]> {
        self.rows().map(|row| [row.px, row.py, row.pz])
    }

    /// Frees dead records.
    pub(super) fn retire(&mut self) {
        self.rows.retain(|row| row.age < row.life);
    }

    /// Swaps records, then frees all but the first `left`.
    pub(super) fn swap_and_truncate(&mut self, swaps: &[[u32; 2]], left: usize) {
        swap_and_truncate(&mut self.rows, swaps, left);
    }

    /// Copies every record into columns, for drawing.
    pub(super) fn gather(&self, columns: &mut BodyColumns) {
        columns.clear();
        self.rows.iter().for_each(|row| columns.push(row));
    }
}
