//! Depth order: a stable radix sort of instances, farthest first.

use frolic_core::simd::{Level, Simd, dispatch};
use rayon::prelude::*;

use crate::camera::View;
use crate::list::Instances;

/// Bits a pass: 2048 counters stay in the first-level cache.
const BITS: u32 = 11;
const BUCKETS: usize = 1 << BITS;
const PASSES: usize = 3;
/// Elements a part; each part has counters of its own.
const PART: usize = 65_536;

/// Sorts instances by depth, keeping its buffers between frames.
///
/// A least-significant-digit radix sort (Knuth, The Art of Computer Programming, vol. 3, 5.2.5) over the bits of
/// the depth, three passes of eleven bits, counted in parallel; a pass whose digits are all the same is left out. Equal depths
/// keep their order. O(n), two buffers of 8 bytes an element.
#[derive(Debug, Default)]
pub struct DepthSorter {
    keys: Vec<Key>,
    swap: Vec<Key>,
    counts: Vec<[u32; BUCKETS]>,
}

#[derive(Debug, Clone, Copy, Default)]
struct Key {
    /// Rises from far to near.
    key: u32,
    index: u32,
}

impl DepthSorter {
    /// Appends the indices of all instances to `order`, farthest along the view first.
    pub fn sort(&mut self, instances: &Instances<'_>, view: &View, order: &mut Vec<u32>) {
        let n = instances.len();
        self.keys.resize(n, Key::default());
        let level = Level::new();
        self.keys.par_chunks_mut(PART).enumerate().for_each(|(part, keys)| {
            dispatch!(level, simd => depth_keys(simd, keys, part * PART, instances, view));
        });
        self.sort_keys();
        order.extend(self.keys.iter().map(|key| key.index));
    }

    /// Bytes held between frames.
    pub(crate) fn bytes(&self) -> usize {
        (self.keys.capacity() + self.swap.capacity()) * size_of::<Key>()
            + self.counts.capacity() * size_of::<[u32; BUCKETS]>()
    }

    fn sort_keys(&mut self) {
        let n = self.keys.len();
        self.swap.resize(n, Key::default());
        for pass in 0..PASSES {
            let digit = move |key: &Key| (key.key >> (pass as u32 * BITS)) as usize & (BUCKETS - 1);
            self.counts.resize(n.div_ceil(PART), [0; BUCKETS]);
            self.keys.par_chunks(PART).zip(&mut self.counts).for_each(|(keys, counts)| {
                counts.fill(0);
                keys.iter().for_each(|key| counts[digit(key)] += 1);
            });
            let full =
                |bucket: usize| self.counts.iter().map(|counts| counts[bucket]).sum::<u32>() as usize == n;
            if self.keys.first().is_none_or(|first| full(digit(first))) {
                continue;
            }
            let mut start = 0;
            for bucket in 0..BUCKETS {
                for counts in &mut self.counts {
                    start += std::mem::replace(&mut counts[bucket], start);
                }
            }
            // Parts write interleaved places, which safe code cannot hand out: the scatter is one sweep.
            for (keys, starts) in self.keys.chunks(PART).zip(&mut self.counts) {
                for key in keys {
                    let to = &mut starts[digit(key)];
                    self.swap[*to as usize] = *key;
                    *to += 1;
                }
            }
            std::mem::swap(&mut self.keys, &mut self.swap);
        }
    }
}

/// Depth keys of the instances from `first` on.
#[inline(always)]
fn depth_keys<S: Simd>(_simd: S, keys: &mut [Key], first: usize, instances: &Instances<'_>, view: &View) {
    let n = keys.len();
    let [px, py, pz] = instances.position.map(|column| &column[first..first + n]);
    let [vx, vy, vz] = instances.velocity.map(|column| &column[first..first + n]);
    let behind = instances.behind;
    let (eye, f) = (view.eye, view.forward);
    for i in 0..n {
        let dx = px[i] - vx[i] * behind - eye.x;
        let dy = py[i] - vy[i] * behind - eye.y;
        let dz = pz[i] - vz[i] * behind - eye.z;
        let depth = dx * f.x + dy * f.y + dz * f.z;
        // Behind the camera and not a number count as nearest: they are not drawn anyway. Bits of floats that are
        // not negative rise with their value.
        let depth = if depth > 0.0 { depth } else { 0.0 };
        keys[i] = Key { key: !depth.to_bits(), index: (first + i) as u32 };
    }
}
