//! Elements in the order of their cells: a stable counting sort on all cores.
//!
//! Two passes. Each part of the elements is sorted into ranges of cells by itself; then each range takes its elements out of all parts, in order, and
//! sorts them by cell. Every thread writes into memory of its own, and the result does not depend on how many there are.

use rayon::prelude::*;

/// Elements of a part.
const PART: usize = 1 << 15;

/// Elements that a range should have.
const IN_RANGE: usize = 1 << 13;

/// Most ranges.
const MOST_RANGES: usize = 1 << 10;

/// An element and its cell.
#[derive(Debug, Clone, Copy, Default)]
struct Keyed {
    cell: u32,
    element: u32,
}

/// Memory of a sort, used again by the next one.
#[derive(Debug, Clone, Default)]
pub(super) struct Sorter {
    keyed: Vec<Keyed>,
    /// For each part, where each range begins in it, and its end.
    begins: Vec<u32>,
}

impl Sorter {
    /// Sorts elements by cell. `order` gets the element of each place, `starts` the first place of each cell and the end.
    pub(super) fn sort(
        &mut self,
        cells: &[u32],
        cell_count: usize,
        order: &mut Vec<u32>,
        starts: &mut Vec<u32>,
    ) {
        let count = cells.len();
        order.resize(count, 0);
        starts.resize(cell_count + 1, 0);
        let ranges = (count / IN_RANGE).clamp(1, MOST_RANGES).min(cell_count.max(1));
        let in_range = cell_count.div_ceil(ranges).max(1);
        let ranges = cell_count.div_ceil(in_range).max(1);
        let parts = count.div_ceil(PART);
        self.keyed.resize(count, Keyed::default());
        self.begins.resize(parts * (ranges + 1), 0);
        let by_part = self.keyed.par_chunks_mut(PART).zip(cells.par_chunks(PART));
        by_part.zip(self.begins.par_chunks_mut(ranges + 1)).enumerate().for_each(
            |(part, ((keyed, cells), begins))| {
                begins.fill(0);
                for cell in cells {
                    begins[*cell as usize / in_range + 1] += 1;
                }
                for range in 0..ranges {
                    begins[range + 1] += begins[range];
                }
                // Moves each beginning to the next one; put back below.
                for (nth, &cell) in cells.iter().enumerate() {
                    let at = &mut begins[cell as usize / in_range];
                    keyed[*at as usize] = Keyed { cell, element: (part * PART + nth) as u32 };
                    *at += 1;
                }
                begins.copy_within(0..ranges, 1);
                begins[0] = 0;
            },
        );
        let sorted = Parts { keyed: &self.keyed, begins: &self.begins, parts, ranges, in_range };
        sorted.sort_ranges([0, ranges], 0, order, &mut starts[..cell_count]);
        if let Some(end) = starts.last_mut() {
            *end = count as u32;
        }
    }

    pub(super) fn bytes(&self) -> usize {
        self.keyed.capacity() * size_of::<Keyed>() + self.begins.capacity() * size_of::<u32>()
    }
}

/// Elements sorted into ranges, part by part.
struct Parts<'a> {
    keyed: &'a [Keyed],
    begins: &'a [u32],
    parts: usize,
    ranges: usize,
    /// Cells of a range.
    in_range: usize,
}

impl Parts<'_> {
    /// Sorts the elements of some ranges, the first of which goes to place `begin`.
    fn sort_ranges(&self, [from, to]: [usize; 2], begin: u32, order: &mut [u32], starts: &mut [u32]) {
        if to - from <= 1 {
            return self.sort_range(from, begin, order, starts);
        }
        let middle = from.midpoint(to);
        let before: usize = (from..middle).map(|range| self.size(range)).sum();
        let (first, second) = order.split_at_mut(before);
        let cells = ((middle - from) * self.in_range).min(starts.len());
        let (first_starts, second_starts) = starts.split_at_mut(cells);
        rayon::join(
            || self.sort_ranges([from, middle], begin, first, first_starts),
            || self.sort_ranges([middle, to], begin + before as u32, second, second_starts),
        );
    }

    /// Elements of a range.
    fn size(&self, range: usize) -> usize {
        let of_part = |begins: &[u32]| (begins[range + 1] - begins[range]) as usize;
        self.begins.chunks(self.ranges + 1).map(of_part).sum()
    }

    fn sort_range(&self, range: usize, begin: u32, order: &mut [u32], starts: &mut [u32]) {
        let low = range * self.in_range;
        let of_part = |part: usize| {
            let begins = &self.begins[part * (self.ranges + 1)..];
            let [from, to] = [begins[range], begins[range + 1]].map(|at| part * PART + at as usize);
            &self.keyed[from..to]
        };
        starts.fill(0);
        for keyed in (0..self.parts).flat_map(of_part) {
            starts[keyed.cell as usize - low] += 1;
        }
        let mut sum = 0;
        for start in starts.iter_mut() {
            (sum, *start) = (sum + *start, sum);
        }
        for keyed in (0..self.parts).flat_map(of_part) {
            let at = &mut starts[keyed.cell as usize - low];
            order[*at as usize] = keyed.element;
            *at += 1;
        }
        // Each is now where the next begins.
        starts.rotate_right(1);
        if let Some(first) = starts.first_mut() {
            *first = 0;
        }
        starts.iter_mut().for_each(|start| *start += begin);
    }
}

/// Puts a column into an order: place `nth` gets what was at `order[nth]`. `scratch` is memory for it.
pub(super) fn arrange<T: Copy + Default + Send + Sync>(
    order: &[u32],
    column: &mut Vec<T>,
    scratch: &mut Vec<T>,
) {
    scratch.resize(order.len(), T::default());
    scratch.par_chunks_mut(PART).zip(order.par_chunks(PART)).for_each(|(into, order)| {
        for (into, from) in into.iter_mut().zip(order) {
            *into = column[*from as usize];
        }
    });
    std::mem::swap(column, scratch);
}
