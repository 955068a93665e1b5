//! Instruction sets: which there are, and how a hot loop is compiled for each.
//!
//! A hot loop is one `#[inline(always)]` function that takes a [`Simd`] token first. [`dispatch!`] calls a copy of it that was
//! compiled for the level at hand. Plain loops over slices are then vectorised by the compiler; where it does badly
//! (interleaved colour channels, short rows) the loop is written with [`f32x8`](fearless_simd::f32x8). What is not
//! inlined into the loop is compiled for the baseline, so hot loops call no closure-taking iterator methods.
//!
//! No loop uses fused multiply-add or estimates: every level gives the same bits, which `tests/same_results.rs` holds.

pub use fearless_simd::{Level, Simd, dispatch};

/// Every level that this processor can run, narrowest first.
pub fn levels() -> Vec<Level> {
    let widest = Level::new();
    #[cfg(target_arch = "x86_64")]
    let levels = [
        widest.as_sse2().map(Level::Sse2),
        widest.as_sse4_2().map(Level::Sse4_2),
        widest.as_avx2().map(Level::Avx2),
        widest.as_avx512().map(Level::Avx512),
    ];
    #[cfg(not(target_arch = "x86_64"))]
    let levels = [Some(Level::baseline()), Some(widest)];
    levels.into_iter().flatten().collect()
}

/// A level's name, as reports show it.
pub fn name(level: Level) -> String {
    let text = format!("{level:?}");
    text.split('(').next().unwrap_or_default().to_lowercase()
}
