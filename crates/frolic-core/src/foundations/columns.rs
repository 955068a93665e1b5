//! Structure-of-arrays storage: one contiguous column for each attribute, capacity reserved up front.
//!
//! [`columns!`] defines the columns of a family together with its row, the record of one element. Elements are added as rows, and
//! `storage = "objects"` keeps rows on the heap.

use crate::foundations::error::SpecError;

/// Maximum memory that one population may reserve: 4 GiB.
pub const MEMORY_LIMIT: u64 = 4 << 30;

/// Takes the elements at `dead` (rising indices) out of a column and keeps the order of the rest. One move for each run of survivors; nothing
/// before the first dead element is touched.
pub(crate) fn remove_sorted<T: Copy>(column: &mut Vec<T>, dead: &[u32]) {
    let Some(&first) = dead.first() else { return };
    let mut to = first as usize;
    for (nth, &gone) in dead.iter().enumerate() {
        let from = gone as usize + 1;
        let end = dead.get(nth + 1).map_or(column.len(), |&next| next as usize);
        column.copy_within(from..end, to);
        to += end - from;
    }
    column.truncate(to);
}

/// Applies swaps of two elements each to a column, in order, then keeps the first `left`.
pub(crate) fn swap_and_truncate<T>(column: &mut Vec<T>, swaps: &[[u32; 2]], left: usize) {
    for &[a, b] in swaps {
        column.swap(a as usize, b as usize);
    }
    column.truncate(left);
}

/// Refuses a count of elements, of `each` bytes, that exceeds the memory of a population.
///
/// # Errors
/// Names `count` and the number that fits.
pub(crate) fn fits(count: u64, each: u64) -> Result<(), SpecError> {
    if count * each <= MEMORY_LIMIT {
        return Ok(());
    }
    let problem = format!("{count} elements are over the memory limit");
    Err(SpecError::new("count", problem, format!("write at most {}", MEMORY_LIMIT / each)))
}

/// Splits several columns at an index.
pub(crate) fn split_columns<T, const N: usize>(
    columns: [&mut [T]; N],
    at: usize,
) -> ([&mut [T]; N], [&mut [T]; N]) {
    let mut after = [const { None }; N];
    let mut nth = 0;
    let before = columns.map(|column| {
        let (before, rest) = column.split_at_mut(at);
        after[nth] = Some(rest);
        nth += 1;
        before
    });
    (before, after.map(Option::unwrap_or_default))
}

/// Defines a row and its columns.
macro_rules! columns {
    (
        $(#[$row_doc:meta])* row $Row:ident;
        $(#[$columns_doc:meta])* columns $Columns:ident;
        $($(#[$doc:meta])* $name:ident: $ty:ty,)*
    ) => {
        $(#[$row_doc])*
        #[derive(Debug, Clone, Copy, PartialEq, Default)]
        pub struct $Row { $($(#[$doc])* pub $name: $ty,)* }

        $(#[$columns_doc])*
        #[derive(Debug, Clone, PartialEq, Default)]
        pub struct $Columns { $(pub(crate) $name: Vec<$ty>,)* }

        impl $Columns {
            /// Bytes of one element in all columns.
            pub const BYTES_PER_ELEMENT: usize = 0 $(+ size_of::<$ty>())*;

            #[allow(dead_code)] // not every family needs it
            pub(crate) fn reserve(&mut self, capacity: usize) -> Result<(), std::collections::TryReserveError> {
                $(self.$name.try_reserve_exact(capacity.saturating_sub(self.$name.len()))?;)*
                Ok(())
            }

            /// Adds an element at the end.
            pub fn push(&mut self, row: &$Row) {
                $(self.$name.push(row.$name);)*
            }

            /// Replaces an element. Returns false if there is no element `index`.
            pub fn put(&mut self, index: usize, row: &$Row) -> bool {
                let there = index < self.len();
                if there {
                    $(self.$name[index] = row.$name;)*
                }
                there
            }

            /// Appends all elements of `other`.
            #[allow(dead_code)] // not every family needs it
            pub(crate) fn append(&mut self, other: &Self) {
                $(self.$name.extend_from_slice(&other.$name);)*
            }

            #[allow(dead_code)] // not every family needs it
            pub(crate) fn clear(&mut self) {
                $(self.$name.clear();)*
            }

            /// Keeps the first `count` elements.
            #[allow(dead_code)] // not every family needs it
            pub(crate) fn truncate(&mut self, count: usize) {
                $(self.$name.truncate(count);)*
            }

            /// Takes out the elements at `dead` (rising indices); the others keep their order. All columns at once, on all cores.
            pub fn remove_sorted(&mut self, dead: &[u32]) {
                columns!(@join remove_sorted(dead) self $($name)*);
            }

            /// Swaps elements, then keeps the first `left`. All columns at once.
            #[allow(dead_code)] // not every family needs it
            pub(crate) fn swap_and_truncate(&mut self, swaps: &[[u32; 2]], left: usize) {
                columns!(@join swap_and_truncate(swaps, left) self $($name)*);
            }

            /// Number of elements.
            pub fn len(&self) -> usize {
                let lens = [$(self.$name.len()),*];
                lens[0]
            }

            /// Whether there are no elements.
            pub fn is_empty(&self) -> bool {
                self.len() == 0
            }

            /// The attributes of element `index`, if there is one.
            pub fn row(&self, index: usize) -> Option<$Row> {
                Some($Row { $($name: *self.$name.get(index)?,)* })
            }

            /// Names of all columns.
            pub const NAMES: &'static [&'static str] = &[$(stringify!($name)),*];

            /// A column by its name.
            pub fn column(&self, name: &str) -> Option<$crate::foundations::edit::Column<'_>> {
                match name {
                    $(stringify!($name) => Some(self.$name[..].into()),)*
                    _ => None,
                }
            }

            /// Returns all columns as saved state.
            pub fn save(&self) -> $crate::foundations::state::SavedState {
                let mut state = $crate::foundations::state::SavedState::default();
                $($crate::foundations::state::ColumnNumber::put(&mut state, stringify!($name), &self.$name);)*
                state
            }

            /// Takes over saved columns. Reserved memory stays.
            ///
            /// # Errors
            /// A column is missing, or they differ in length. The columns then stay as they are.
            pub fn restore(
                &mut self,
                state: &$crate::foundations::state::SavedState,
            ) -> Result<(), $crate::foundations::error::SpecError> {
                use $crate::foundations::state::{ColumnNumber, unfit};
                $(let $name = <$ty as ColumnNumber>::of(state, stringify!($name))?;)*
                let lens = [$((stringify!($name), $name.len())),*];
                if let Some((key, len)) = lens.iter().find(|(_, len)| *len != lens[0].1) {
                    return Err(unfit(key, &format!("has {len} values where another column has {}", lens[0].1)));
                }
                $crate::foundations::columns::fits(lens[0].1 as u64, Self::BYTES_PER_ELEMENT as u64)?;
                self.clear();
                $(self.$name.extend_from_slice($name);)*
                Ok(())
            }

            $($(#[$doc])* pub fn $name(&self) -> &[$ty] { &self.$name })*
        }
    };
    (@join $change:ident($($by:ident),*) $self:ident $last:ident) => {
        $crate::foundations::columns::$change(&mut $self.$last, $($by),*)
    };
    (@join $change:ident($($by:ident),*) $self:ident $first:ident $($rest:ident)+) => {
        rayon::join(
            || $crate::foundations::columns::$change(&mut $self.$first, $($by),*),
            || { columns!(@join $change($($by),*) $self $($rest)+); },
        )
    };
}
pub(crate) use columns;

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::remove_sorted;

    proptest! {
        /// Compaction loses and duplicates nothing, and keeps the order: it equals `retain`.
        #[test]
        fn removal_equals_retain(keep in prop::collection::vec(any::<bool>(), 0..400)) {
            let mut column: Vec<usize> = (0..keep.len()).collect();
            let dead: Vec<u32> = (0..keep.len()).filter(|&i| !keep[i]).map(|i| i as u32).collect();
            remove_sorted(&mut column, &dead);
            let mut expected: Vec<usize> = (0..keep.len()).collect();
            expected.retain(|&i| keep[i]);
            prop_assert_eq!(column, expected);
        }
    }
}
