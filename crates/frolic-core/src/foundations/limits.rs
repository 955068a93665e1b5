//! Limits of the machine: bandwidth of memory and of the last cache, and arithmetic throughput.
//!
//! A stage at memory bandwidth cannot be made faster by arithmetic; a stage far below both limits waits for something else. The best of
//! several runs counts, on all threads of the calling pool.

use std::hint::black_box;
use std::time::{Duration, Instant};

use fearless_simd::prelude::*;
use fearless_simd::{f32x8, f32x16};
use rayon::prelude::*;
use serde::{Deserialize, Serialize};

use crate::foundations::simd::{Simd, detect, kernel};

/// Size of the buffer for memory bandwidth, in bytes: larger than a last-level cache.
const MEMORY: usize = 128 << 20;
/// Maximum size of the buffer for cache bandwidth, in bytes.
const CACHE: usize = 16 << 20;
/// Cache size if the system reports none, in bytes.
const USUAL_CACHE: u64 = 8 << 20;
/// Time over which runs of a rate are repeated.
const PATIENCE: Duration = Duration::from_millis(60);

/// Limits of the machine.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[non_exhaustive]
pub struct Limits {
    /// Bytes a second read and written in memory, a multiply in place (the scale kernel of McCalpin, "Memory Bandwidth and Machine
    /// Balance in Current High Performance Computers", 1995, without a second array).
    pub memory_bytes_per_s: f64,
    /// The same in the last cache.
    pub cache_bytes_per_s: f64,
    /// Size of the last cache, in bytes.
    pub cache_bytes: u64,
    /// Multiplications and additions a second, each pair counted as two, fused where the processor does.
    pub flops: f64,
}

impl Limits {
    /// Measures the limits. This takes a fifth of a second, and 128 MiB for that time.
    pub fn measure() -> Self {
        let cache_bytes = last_cache().unwrap_or(USUAL_CACHE);
        let mut values = vec![1.0f32; MEMORY / size_of::<f32>()];
        let memory_bytes_per_s = scale_rate(&mut values);
        // Half of it, because other data needs cache too.
        values.truncate((cache_bytes as usize / 2).clamp(1 << 16, CACHE) / size_of::<f32>());
        Self {
            memory_bytes_per_s,
            // A shared cache may be full of other data, and then is as slow as memory.
            cache_bytes_per_s: scale_rate(&mut values).max(memory_bytes_per_s),
            cache_bytes,
            flops: flops(),
        }
    }

    /// Maximum bandwidth, in bytes a second, of work on a number of bytes.
    pub fn bytes_per_s(&self, working_set: u64) -> f64 {
        if working_set <= self.cache_bytes { self.cache_bytes_per_s } else { self.memory_bytes_per_s }
    }
}

/// Bytes a second of a multiply in place, read and written.
fn scale_rate(values: &mut [f32]) -> f64 {
    let level = detect();
    let part = values.len().div_ceil(rayon::current_num_threads() * 4).max(1);
    best(size_of_val(values) as f64 * 2.0, || {
        values.par_chunks_mut(part).for_each(|values| {
            scale_in_place(level, values, black_box(1.000_001));
        });
        black_box(&mut *values);
    })
}

kernel! {
    fn scale_in_place(simd, values: &mut [f32], by: f32) {
        scale(simd, values, by);
    }

    fn multiply_and_add(simd, rounds: u32) -> f32 {
        multiply_add(simd, rounds)
    }
}

#[inline(always)]
fn scale<S: Simd>(_simd: S, values: &mut [f32], by: f32) {
    for value in values {
        *value *= by;
    }
}

/// Multiplications and additions a second of all threads.
fn flops() -> f64 {
    const ROUNDS: u32 = 200_000;
    let level = detect();
    let threads = rayon::current_num_threads();
    // Ten vectors of sixteen, each a product and a sum.
    let work = f64::from(ROUNDS) * 10.0 * 16.0 * 2.0 * threads as f64;
    best(work, || {
        (0..threads).into_par_iter().with_max_len(1).for_each(|_| {
            black_box(multiply_and_add(level, black_box(ROUNDS)));
        });
    })
}

#[inline(always)]
fn multiply_add<S: Simd>(simd: S, rounds: u32) -> f32 {
    let (by, and) = (f32x16::splat(simd, black_box(0.999)), f32x16::splat(simd, black_box(0.1)));
    // Enough chains that none waits for its own result, all different, so that the compiler keeps them apart.
    let mut sums = std::array::from_fn::<_, 10, _>(|nth| f32x16::splat(simd, black_box(nth as f32)));
    for _ in 0..rounds {
        for sum in &mut sums {
            *sum = sum.mul_add(by, and);
        }
    }
    let sum = sums.into_iter().fold(f32x16::splat(simd, 0.0), |all, sum| all + sum);
    let (low, high): (f32x8<S>, f32x8<S>) = sum.split();
    (low + high)[0]
}

/// The best rate of some runs.
fn best(work: f64, mut run: impl FnMut()) -> f64 {
    let started = Instant::now();
    let mut best = f64::INFINITY;
    let mut runs = 0;
    while runs < 3 || started.elapsed() < PATIENCE {
        let began = Instant::now();
        run();
        best = best.min(began.elapsed().as_secs_f64());
        runs += 1;
    }
    work / best.max(1e-9)
}

/// Size of the last cache, if the system reports it.
fn last_cache() -> Option<u64> {
    let mut largest = None;
    for index in std::fs::read_dir("/sys/devices/system/cpu/cpu0/cache").ok()?.flatten() {
        let Ok(text) = std::fs::read_to_string(index.path().join("size")) else { continue };
        let kib = text.trim().strip_suffix('K').and_then(|digits| digits.parse::<u64>().ok());
        largest = largest.max(kib.map(|kib| kib << 10));
    }
    largest
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn limits_are_those_of_a_machine() {
        let limits = Limits::measure();
        for rate in [limits.memory_bytes_per_s, limits.cache_bytes_per_s, limits.flops] {
            // A higher rate would mean that the compiler left work out.
            assert!(rate.is_finite() && rate > 1e7 && rate < 1e14, "{limits:?}");
        }
        assert!(limits.cache_bytes_per_s >= limits.memory_bytes_per_s);
        assert_eq!(limits.bytes_per_s(1), limits.cache_bytes_per_s);
        assert_eq!(limits.bytes_per_s(u64::MAX), limits.memory_bytes_per_s);
    }
}
