//! From light to pixels, and sorting. Read by `shaders/bloom.wgsl`, `resolve.wgsl` and `sort.wgsl`.

use frolic_draw::backend::WHITE;

use crate::shared::{constant, constants, listed, shared};

shared! {
    /// The last pass over the picture.
    struct Finish {
        exposure: f32,
        /// Share of the light that spreads.
        bloom: f32,
        /// Blocks in a row of the bloom.
        across: u32,
        spare: u32,
    }

    /// Sizes of the bloom: blocks with a border of one, and pixels.
    struct BloomSize {
        across: i32,
        down: i32,
        width: i32,
        height: i32,
    }

    /// A pass of the radix sort.
    struct SortPass {
        shift: u32,
        spare: u32,
        spare_b: u32,
        spare_c: u32,
    }
}

constants! {
    /// Tiles, digits and call words of sorting.
    sort_tags {
        /// Keys that a thread group sorts at once.
        SORT_TILE: u32 = 4096,
        /// Values of a digit.
        BINS: u32 = 1 << DIGIT,
        /// Words of the calls of a list: a draw, a dispatch over tiles, and the number of visible instances.
        LIST_DRAW: u32 = 0,
        LIST_SORT: u32 = 4,
        LIST_COUNT: u32 = 8,
        /// Of elements that are sorted by cell, the number of those that are not gone.
        LIST_LIVING: u32 = 9,
        LIST_WORDS: u32 = 16,
    }
}

/// Bits of a key that one pass sorts by.
pub(crate) const DIGIT: u32 = 4;

/// Side of a block of the bloom, in pixels.
pub(crate) const BLOOM_BLOCK: u32 = 8;

/// White point of the tone curve, in WGSL.
pub(crate) fn tone_limits() -> String {
    listed!(WHITE)
}

/// The kernels of the bloom in WGSL: three box filters in a row as one kernel, from the centre out.
pub(crate) fn kernels() -> String {
    let [near, far] = bloom_kernels();
    [
        listed!(BLOOM_BLOCK),
        constant("NEAR_KERNEL", &&near[..]),
        constant("FAR_REACH", &(far.len() as i32)),
        constant("FAR_KERNEL", &&far[..]),
    ]
    .concat()
}

/// Near: three boxes of radius 1. Far: boxes of radius 5, 6 and 7.
fn bloom_kernels() -> [Vec<f32>; 2] {
    let rows = |radii: [usize; 3]| {
        let mut kernel = vec![1.0f64];
        for radius in radii {
            let width = 2 * radius + 1;
            let mut wider = vec![0.0; kernel.len() + 2 * radius];
            for (nth, value) in kernel.iter().enumerate() {
                wider[nth..nth + width].iter_mut().for_each(|v| *v += value / width as f64);
            }
            kernel = wider;
        }
        kernel[kernel.len() / 2..].iter().map(|v| *v as f32).collect()
    };
    [rows([1, 1, 1]), rows([5, 6, 7])]
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn bloom_kernels_keep_the_light() {
        for kernel in bloom_kernels() {
            let sum = kernel[0] + 2.0 * kernel[1..].iter().sum::<f32>();
            assert!((sum - 1.0).abs() < 1e-5, "{sum}");
        }
    }
}
