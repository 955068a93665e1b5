//! The classic form: one heap record an element, one thread, one element after the other.
//!
//! Kept honest so that a profile can compare it: the same formula, the same order, no needless work. What it pays for
//! is what the form costs: a pointer to follow, and attributes side by side that one loop does not need together.

use crate::foundations::columns::swap_and_truncate;
use crate::world::bodies::{Acts, BodyColumns, BodyRow, Notes, Room, step_row};

/// All records, in order of birth.
#[derive(Debug, Default)]
pub(super) struct Records {
    // A box each is the point of this form.
    #[allow(clippy::vec_box)]
    rows: Vec<Box<BodyRow>>,
}

impl Records {
    /// A record, the pointer to it, and what an allocator keeps beside each block.
    pub(super) const BYTES_PER_ELEMENT: usize = size_of::<BodyRow>() + 2 * size_of::<usize>();

    pub(super) fn reserve(&mut self, capacity: usize) -> Result<(), std::collections::TryReserveError> {
        self.rows.try_reserve_exact(capacity)
    }

    pub(super) fn len(&self) -> usize {
        self.rows.len()
    }

    pub(super) fn push(&mut self, row: &BodyRow) {
        self.rows.push(Box::new(*row));
    }

    /// Steps all; `lies` as long as there are records. Afterwards `dead` are the indices of the dead, rising.
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

    pub(super) fn row(&self, nth: usize) -> &BodyRow {
        &self.rows[nth]
    }

    pub(super) fn row_mut(&mut self, nth: usize) -> &mut BodyRow {
        &mut self.rows[nth]
    }

    /// Where each is, m.
    pub(super) fn places(&self) -> impl Iterator<Item = [f32; 3]> {
        self.rows.iter().map(|row| [row.px, row.py, row.pz])
    }

    /// Frees the records of the dead.
    pub(super) fn retire(&mut self) {
        self.rows.retain(|row| row.age < row.life);
    }

    /// Swaps records, then frees all but the first so many.
    pub(super) fn swap_and_truncate(&mut self, swaps: &[[u32; 2]], left: usize) {
        swap_and_truncate(&mut self.rows, swaps, left);
    }

    /// Copies every record into columns, for drawing.
    pub(super) fn gather(&self, columns: &mut BodyColumns) {
        columns.clear();
        self.rows.iter().for_each(|row| columns.push(row));
    }
}
