//! Order of elements where any order is allowed ([`Order::Any`](super::Order::Any)): elements at rest come first, and gaps are filled from the end.
//!
//! ```text
//! | at rest, set aside    | moves                     | (dead) |
//! 0                       count                       left     len
//! ```
//!
//! Each step moves few elements: a list of swaps is computed once and applied to every column.

/// Elements that are set aside, and the changes of a step.
#[derive(Debug, Clone, Default)]
pub(super) struct Aside {
    /// Number of elements at rest; they come first.
    pub(super) count: usize,
    /// Stamp of the world at the last check.
    pub(super) stamp: u64,
    /// 1 for each element at rest after a step, by index.
    pub(super) lies: Vec<u8>,
    swaps: Vec<[u32; 2]>,
}

impl Aside {
    pub(super) fn reserve(&mut self, count: usize) -> Result<(), std::collections::TryReserveError> {
        self.lies.try_reserve_exact(count.saturating_sub(self.lies.len()))
    }

    /// After a step: swaps, to be applied in order, that move the dead (rising indices) to the end and elements at rest to the start. Applied to
    /// `lies` at once.
    pub(super) fn close_gaps(&mut self, dead: &[u32]) -> &[[u32; 2]] {
        let Self { count, lies, swaps, .. } = self;
        swaps.clear();
        let mut swap = |lies: &mut [u8], a: usize, b: usize| {
            if a != b {
                lies.swap(a, b);
                swaps.push([a as u32, b as u32]);
            }
        };
        // From the last to the first, so that gaps are filled with live elements.
        let mut left = lies.len();
        for &gone in dead.iter().rev() {
            let mut gap = gone as usize;
            if gap < *count {
                *count -= 1;
                swap(lies, gap, *count);
                gap = *count;
            }
            left -= 1;
            swap(lies, gap, left);
        }
        lies.truncate(left);
        // First elements that were moved, backwards; then elements that came to rest, forwards.
        let mut place = *count;
        while let Some(moved) = last_clear(&lies[..place]) {
            *count -= 1;
            swap(lies, moved, *count);
            place = moved;
        }
        let mut place = *count;
        while let Some(off) = first_set(&lies[place..]) {
            place += off;
            swap(lies, place, *count);
            *count += 1;
            place += 1;
        }
        swaps
    }
}

/// Number of flags compared at a time.
const GROUP: usize = 64;

/// The first flag that is set.
fn first_set(flags: &[u8]) -> Option<usize> {
    let group = flags.chunks(GROUP).position(|group| group.iter().fold(0, |all, flag| all | flag) != 0)?;
    let first = group * GROUP;
    flags[first..].iter().position(|&flag| flag != 0).map(|at| first + at)
}

/// The last flag that is not.
fn last_clear(flags: &[u8]) -> Option<usize> {
    let mut rest = flags;
    // Flags are 0 or 1.
    while let Some((before, group)) = rest.split_last_chunk::<GROUP>() {
        if group.iter().fold(1, |all, flag| all & flag) == 0 {
            break;
        }
        rest = before;
    }
    rest.iter().rposition(|&flag| flag == 0)
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        /// Whoever dies, lies down or is moved: all that live are there once, and each on its side.
        #[test]
        fn points_of_shapes_are_on_their_side(
            states in prop::collection::vec((any::<bool>(), any::<bool>()), 0..300), share in 0f32..1.0,
        ) {
            let before = (states.len() as f32 * share) as usize;
            let lies: Vec<u8> = states.iter().map(|(lies, _)| u8::from(*lies)).collect();
            let dead: Vec<u32> = (0u32..).zip(&states).filter(|(_, (_, dies))| *dies).map(|(nth, _)| nth).collect();
            let mut aside = Aside { count: before, lies: lies.clone(), ..Aside::default() };
            let mut order: Vec<usize> = (0..states.len()).collect();
            for &[a, b] in aside.close_gaps(&dead) {
                order.swap(a as usize, b as usize);
            }
            order.truncate(aside.lies.len());
            prop_assert_eq!(order.len(), states.len() - dead.len());
            for (place, &who) in order.iter().enumerate() {
                prop_assert!(!states[who].1);
                prop_assert_eq!(aside.lies[place], lies[who]);
                prop_assert_eq!(place < aside.count, states[who].0);
            }
            order.sort_unstable();
            order.dedup();
            prop_assert_eq!(order.len(), aside.lies.len());
        }

        /// Where nothing changes, nothing is moved.
        #[test]
        fn elements_that_stay_are_not_moved(count in 0usize..50, rest in 0usize..50) {
            let lies = (0..count + rest).map(|nth| u8::from(nth < count)).collect();
            let mut aside = Aside { count, lies, ..Aside::default() };
            prop_assert!(aside.close_gaps(&[]).is_empty());
        }
    }
}
