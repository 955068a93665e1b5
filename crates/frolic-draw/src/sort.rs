//! Depth order: stable radix sorts of instances, farthest first.

use std::ops::Range;

use frolic_core::{Stage, trace};
use frolic_raster::record::key;
use rayon::prelude::*;

use crate::camera::View;
use crate::instances::Instances;
use crate::list::Entry;
use crate::room;

/// Bits a pass, and counters.
const BITS: u32 = 8;
const BUCKETS: usize = 1 << BITS;

/// Keys in a part of the first pass. A part and its copy fit the second-level cache.
const PART: usize = 16_384;

/// A key and its instance.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
struct SortKey {
    key: u32,
    source: u32,
    element: u32,
}

/// Sorts instances of any number of populations into one depth order, keeping its buffers between frames.
///
/// A radix sort (Knuth, The Art of Computer Programming, vol. 3, 5.2.5), the leading digit first, so that parts and then buckets
/// can be sorted in parallel and in cache:
///
/// ```text
/// every part, in parallel:     count the keys by their 8 leading bits that differ, and scatter them within the part
/// every bucket, in parallel:   gather its range of every part, and sort the remaining bits
/// ```
///
/// Equal depths keep their order: sources in the order they were added, elements by index. O(n); two buffers of 12 bytes an instance.
#[derive(Debug, Default)]
pub struct DepthSorter {
    keys: Vec<SortKey>,
    parts: Vec<SortKey>,
    sorted: Vec<SortKey>,
    /// Where each bucket of each part ends, after a leading 0.
    ends: Vec<[u32; BUCKETS + 1]>,
}

impl DepthSorter {
    /// Removes all instances.
    pub fn clear(&mut self) {
        self.keys.clear();
    }

    /// Adds a range of a population.
    pub fn add(&mut self, source: u32, instances: &Instances<'_>, first: u32, count: u32, view: &View) {
        let from = self.keys.len();
        room::for_more(&mut self.keys, count as usize);
        self.keys.resize(from + count as usize, SortKey::default());
        self.keys[from..].par_chunks_mut(PART).enumerate().for_each(|(part, keys)| {
            let _part = trace::part(Stage::Sort);
            let first = first as usize + part * PART;
            depth_keys(keys, source, first, instances, view);
        });
    }

    /// Appends all added instances to `order`, farthest along the view first.
    pub fn sort(&mut self, order: &mut Vec<Entry>) {
        let Self { keys, parts, sorted, ends } = self;
        let n = keys.len();
        // Bits that all keys share say nothing.
        let (all, any) = keys
            .par_chunks(PART)
            .map(|keys| keys.iter().fold((u32::MAX, 0), |(all, any), key| (all & key.key, any | key.key)))
            .reduce(|| (u32::MAX, 0), |a, b| (a.0 & b.0, a.1 | b.1));
        let differ = all ^ any;
        if n == 0 || differ == 0 {
            room::for_more(order, n);
            order.extend(keys.iter().map(|key| Entry { source: key.source, element: key.element }));
            return;
        }
        let shift = (32 - differ.leading_zeros()).saturating_sub(BITS);
        let digit = |key: u32| (key >> shift) as usize & (BUCKETS - 1);

        room::at_least(parts, n);
        ends.resize(n.div_ceil(PART), [0; BUCKETS + 1]);
        let work = keys.par_chunks(PART).zip(parts[..n].par_chunks_mut(PART)).zip(ends.par_iter_mut());
        work.for_each(|((keys, into), ends)| {
            let _part = trace::part(Stage::Sort);
            ends.fill(0);
            keys.iter().for_each(|key| ends[digit(key.key) + 1] += 1);
            for bucket in 0..BUCKETS {
                ends[bucket + 1] += ends[bucket];
            }
            let mut next = *ends;
            for key in keys {
                let to = &mut next[digit(key.key)];
                into[*to as usize] = *key;
                *to += 1;
            }
        });

        room::at_least(sorted, n);
        let from = order.len();
        room::for_more(order, n);
        order.resize(from + n, Entry::default());
        let (parts, ends, sorted) = (&parts[..n], &*ends, &mut sorted[..n]);
        let buckets = Buckets { parts, ends, shift };
        buckets.sort(0..BUCKETS, sorted, keys, &mut order[from..]);
    }

    /// Bytes moved to sort an element: its position is read; its key is written, read to find the differing bits and to count, scattered to
    /// parts and gathered to buckets; its entry is written.
    pub const BYTES_PER_ELEMENT: u64 =
        (3 * size_of::<f32>() + 7 * size_of::<SortKey>() + size_of::<Entry>()) as u64;

    /// Bytes held between frames.
    pub fn bytes(&self) -> usize {
        (self.keys.capacity() + self.parts.capacity() + self.sorted.capacity()) * size_of::<SortKey>()
            + self.ends.capacity() * size_of::<[u32; BUCKETS + 1]>()
    }
}

/// Parts that were scattered by their leading digit.
#[derive(Clone, Copy)]
struct Buckets<'a> {
    parts: &'a [SortKey],
    ends: &'a [[u32; BUCKETS + 1]],
    /// Bits below the leading digit.
    shift: u32,
}

impl Buckets<'_> {
    fn size(&self, buckets: &Range<usize>) -> usize {
        self.ends.iter().map(|ends| (ends[buckets.end] - ends[buckets.start]) as usize).sum()
    }

    /// Sorts some buckets into `out`. `keys` and `swap` have the same length.
    fn sort(self, buckets: Range<usize>, keys: &mut [SortKey], swap: &mut [SortKey], out: &mut [Entry]) {
        if buckets.len() > 1 {
            let middle = buckets.start + buckets.len() / 2;
            let (lower, upper) = (buckets.start..middle, middle..buckets.end);
            let cut = self.size(&lower);
            let (keys, swap, out) = (keys.split_at_mut(cut), swap.split_at_mut(cut), out.split_at_mut(cut));
            let one = || self.sort(lower, keys.0, swap.0, out.0);
            let other = || self.sort(upper, keys.1, swap.1, out.1);
            // A few thousand are not worth another thread.
            if buckets.len() > BUCKETS / 32 {
                rayon::join(one, other);
            } else {
                one();
                other();
            }
            return;
        }
        let _part = trace::part(Stage::Sort);
        let bucket = buckets.start;
        let mut to = 0;
        for (part, ends) in self.ends.iter().enumerate() {
            let (a, b) = (ends[bucket] as usize, ends[bucket + 1] as usize);
            keys[to..to + b - a].copy_from_slice(&self.parts[part * PART + a..part * PART + b]);
            to += b - a;
        }
        // What is left of the keys, from the last digit.
        let (mut from, mut into) = (keys, swap);
        for low in (0..self.shift).step_by(BITS as usize) {
            let digit = |key: u32| (key >> low) as usize & (BUCKETS - 1);
            let mut next = [0u32; BUCKETS];
            from.iter().for_each(|key| next[digit(key.key)] += 1);
            let mut start = 0;
            for next in &mut next {
                start += std::mem::replace(next, start);
            }
            for key in from.iter() {
                let to = &mut next[digit(key.key)];
                into[*to as usize] = *key;
                *to += 1;
            }
            std::mem::swap(&mut from, &mut into);
        }
        for (out, key) in out.iter_mut().zip(from) {
            *out = Entry { source: key.source, element: key.element };
        }
    }
}

/// Depth keys of the instances from `first` on.
fn depth_keys(keys: &mut [SortKey], source: u32, first: usize, instances: &Instances<'_>, view: &View) {
    let n = keys.len();
    let (eye, f) = (view.eye, view.forward);
    let depth = |x: f32, y: f32, z: f32| (x - eye.x) * f.x + (y - eye.y) * f.y + (z - eye.z) * f.z;
    if let (Some(velocity), true) = (instances.poses.velocity, instances.sprites.is_empty()) {
        let [px, py, pz] = instances.poses.position.map(|column| &column[first..first + n]);
        let [vx, vy, vz] = velocity.map(|column| &column[first..first + n]);
        let lag = instances.lag;
        for i in 0..n {
            let dx = px[i] - vx[i] * lag - eye.x;
            let dy = py[i] - vy[i] * lag - eye.y;
            let dz = pz[i] - vz[i] * lag - eye.z;
            let depth = dx * f.x + dy * f.y + dz * f.z;
            keys[i] = SortKey { key: key(depth), source, element: (first + i) as u32 };
        }
    } else {
        for i in 0..n {
            let [x, y, z] = instances.place(first + i);
            keys[i] = SortKey { key: key(depth(x, y, z)), source, element: (first + i) as u32 };
        }
    }
}

/// Digits of the small sort, and its counters.
const SMALL_BITS: u32 = 11;

/// Sorts numbers by their upper 32 bits, stable: a radix sort from the last digit that skips digits equal in all. For some thousands of
/// numbers, which fit the first two caches with their copy.
#[inline(always)]
pub(crate) fn by_key(keys: &mut Vec<u64>, swap: &mut Vec<u64>) {
    let n = keys.len();
    if n < 64 {
        // Insertion: few, and often in order already.
        for nth in 1..n {
            let key = keys[nth];
            let mut to = nth;
            while to > 0 && keys[to - 1] >> 32 > key >> 32 {
                keys[to] = keys[to - 1];
                to -= 1;
            }
            keys[to] = key;
        }
        return;
    }
    let (mut all, mut any) = (u64::MAX, 0);
    for key in keys.iter() {
        all &= *key;
        any |= *key;
    }
    let differ = ((all ^ any) >> 32) as u32;
    // The two change places after each pass, so both are of one length.
    room::for_more(swap, n.saturating_sub(swap.len()));
    swap.resize(n, 0);
    let mut shift = 32 + differ.trailing_zeros();
    let end = 64 - differ.leading_zeros();
    // As few passes as there can be, and no more counters than they need.
    let differing = end.saturating_sub(shift);
    let bits = differing.div_ceil(differing.div_ceil(SMALL_BITS).max(1));
    let mut counts = [0u32; 1 << SMALL_BITS];
    while shift < end {
        let counts = &mut counts[..1 << bits];
        let mask = counts.len() - 1;
        let digit = |key: u64| (key >> shift) as usize & mask;
        counts.fill(0);
        for key in keys.iter() {
            counts[digit(*key)] += 1;
        }
        let mut start = 0;
        for count in counts.iter_mut() {
            start += std::mem::replace(count, start);
        }
        for key in keys.iter() {
            let to = &mut counts[digit(*key)];
            swap[*to as usize] = *key;
            *to += 1;
        }
        std::mem::swap(keys, swap);
        shift += bits;
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use frolic_raster::record::{depth_of, keyed};

    use super::*;

    proptest! {
        #[test]
        fn small_sort_is_stable(depths in prop::collection::vec(prop_oneof![0f32..3.0, Just(1.5f32), Just(f32::NAN)], 0..700)) {
            let mut keys: Vec<u64> =
                depths.iter().enumerate().map(|(nth, d)| keyed(*d, nth as u32)).collect();
            for (key, depth) in keys.iter().zip(&depths) {
                prop_assert_eq!(depth_of(*key), depth.max(0.0));
            }
            let mut want = keys.clone();
            want.sort_by_key(|key| key >> 32);
            by_key(&mut keys, &mut Vec::new());
            prop_assert_eq!(keys, want);
        }
    }
}
