//! Instruction sets: which ones Frolic ships kernels for, which one this processor runs, and how a kernel is compiled for each.
//!
//! A *kernel* is a named function that [`kernel!`] compiles once for each shipped instruction set. Its body calls
//! `#[inline(always)]` functions that are generic over [`Simd`]. Everything outside kernels is compiled once, for the baseline.
//!
//! Rules that keep kernels quick to compile and to run:
//!
//! 1. A kernel does the work of a batch, a tile, a chunk or one large record, so that its call costs nothing. It is never
//!    inlined into another kernel, which keeps functions small; optimisation time is superlinear in the size of a function.
//! 2. A choice that is the same for a whole batch is a branch inside a kernel, or a kernel of its own, not a copy of everything.
//! 3. Closures handed to the standard library (`map`, `for_each`, `with_borrow_mut`) are compiled for the baseline, so hot loops are
//!    plain loops.
//! 4. No kernel uses fused multiply-add or estimates, so every instruction set gives the same bits.
//!    `frolic-core/tests/it/same_results.rs` and `frolic-draw/tests/it/techniques.rs` hold that.
//!
//! # Which instruction sets ship
//!
//! An instruction set ships where it makes whole frames at least 1.15 times as fast as the next narrower one. On x86-64 these are
//! SSE2, which every such processor has, and AVX2. SSE4.2 and AVX-512 were measured and dropped; the README gives the figures. On AArch64
//! it is NEON. Other processors get plain code.

pub use fearless_simd;
pub use fearless_simd::{Level, Simd};

/// Returns the widest shipped instruction set that this processor runs.
///
/// The first call detects it; later calls load a cached value. Ask once a stage, not once an element.
pub fn detect() -> Level {
    shipped(Level::new())
}

/// Narrows an instruction set to the widest shipped one within it.
fn shipped(level: Level) -> Level {
    #[cfg(target_arch = "x86_64")]
    if let Some(token) = level.as_avx2() {
        return Level::Avx2(token);
    } else if let Some(token) = level.as_sse2() {
        return Level::Sse2(token);
    }
    level
}

/// Returns every shipped instruction set that this processor runs, narrowest first.
pub fn levels() -> Vec<Level> {
    let (narrowest, widest) = (shipped(Level::baseline()), detect());
    if name(narrowest) == name(widest) { vec![widest] } else { vec![narrowest, widest] }
}

/// Returns true if an instruction set rounds floats to whole numbers by itself. Resolved by the compiler within a kernel.
#[inline(always)]
pub fn rounds(level: Level) -> bool {
    #[cfg(target_arch = "x86_64")]
    return level.as_sse4_2().is_some();
    #[cfg(not(target_arch = "x86_64"))]
    {
        let _ = level;
        true
    }
}

/// Returns the name of an instruction set, as reports show it: `"avx2"`.
pub fn name(level: Level) -> String {
    let text = format!("{level:?}");
    text.split('(').next().unwrap_or_default().to_lowercase()
}

/// Defines kernels: functions compiled once for each shipped instruction set.
///
/// A kernel takes its instruction set as a [`Level`] first. Within its body the name given as first parameter is a [`Simd`] token. Parameters
/// are plain names with types; lifetimes are elided. A caller that is itself generic over [`Simd`] passes `simd.level()`, which
/// the compiler resolves, so that a kernel calls another without a branch.
///
/// Profilers show each copy by its path, as in `frolic_raster::solid::resolve::avx2`.
///
/// ```
/// use frolic_simd::{Simd, detect, kernel};
/// use frolic_simd::fearless_simd::{f32x8, prelude::*};
///
/// #[inline(always)]
/// fn doubled<S: Simd>(simd: S, value: f32) -> f32 {
///     (f32x8::splat(simd, value) * 2.0).to_array()[0]
/// }
///
/// kernel! {
///     /// Doubles every value.
///     fn double(simd, values: &mut [f32]) {
///         for value in values {
///             *value = doubled(simd, *value);
///         }
///     }
/// }
///
/// let mut values = [1.0, 2.5];
/// double(detect(), &mut values);
/// assert_eq!(values, [2.0, 5.0]);
/// ```
#[macro_export]
macro_rules! kernel {
    ($(
        $(#[$meta:meta])*
        $vis:vis fn $name:ident($simd:ident $(, $arg:ident: $ty:ty)* $(,)?) $(-> $ret:ty)? $body:block
    )+) => {$(
        $(#[$meta])*
        #[inline]
        // Kernels take plain slices, so that the compiler knows that they do not overlap.
        #[allow(clippy::too_many_arguments)]
        $vis fn $name(level: $crate::Level $(, $arg: $ty)*) $(-> $ret)? {
            #[cfg(target_arch = "x86_64")]
            {
                $crate::fearless_simd::kernel!(
                    #[inline(never)]
                    fn avx2($simd: Avx2 $(, $arg: $ty)*) $(-> $ret)? { $body }
                );
                $crate::fearless_simd::kernel!(
                    #[inline(never)]
                    fn sse2($simd: Sse2 $(, $arg: $ty)*) $(-> $ret)? { $body }
                );
                if let Some(token) = level.as_avx2() {
                    return avx2(token $(, $arg)*);
                }
                match level.as_sse2() {
                    Some(token) => sse2(token $(, $arg)*),
                    None => unreachable!("every x86-64 processor has SSE2"),
                }
            }
            #[cfg(target_arch = "aarch64")]
            {
                $crate::fearless_simd::kernel!(
                    #[inline(never)]
                    fn neon($simd: Neon $(, $arg: $ty)*) $(-> $ret)? { $body }
                );
                match level.as_neon() {
                    Some(token) => neon(token $(, $arg)*),
                    None => unreachable!("every AArch64 processor has NEON"),
                }
            }
            #[cfg(not(any(target_arch = "x86_64", target_arch = "aarch64")))]
            {
                $crate::fearless_simd::dispatch!(level, $simd => $body)
            }
        }
    )+};
}

#[cfg(test)]
mod tests {
    use super::*;
    use fearless_simd::{f32x8, prelude::*};

    kernel! {
        /// Names the instruction set that the kernel was compiled for.
        fn compiled_for(simd) -> String {
            name(Simd::level(simd))
        }
    }

    /// A kernel runs the copy that its level names, and wider levels run the widest copy there is.
    #[test]
    fn kernels_run_the_copy_that_was_asked_for() {
        let levels = levels();
        for level in &levels {
            assert_eq!(compiled_for(*level), name(*level));
        }
        assert_eq!(Some(compiled_for(Level::new())), levels.last().map(|level| name(*level)));
        #[cfg(target_arch = "x86_64")]
        assert_eq!(name(levels[0]), "sse2");
    }

    kernel! {
        /// Sums of roots of quotients, lane by lane: whatever rounds, in a fixed order.
        fn sums(simd, values: &[f32], into: &mut [f32; 8]) {
            let mut total = f32x8::splat(simd, 0.0);
            for chunk in values.chunks_exact(8) {
                let lanes = f32x8::from_slice(simd, chunk);
                total += (lanes * lanes + 1.0).sqrt() / (lanes * 0.3 + 4.0);
            }
            into.copy_from_slice(&total.to_array());
        }
    }

    /// No instruction set fuses or estimates: all give the bits of plain code.
    #[test]
    fn levels_give_the_bits_of_plain_code() {
        let values: Vec<f32> =
            (0..4_096u32).map(|nth| (nth.wrapping_mul(2_654_435_761) >> 8) as f32 * 1e-6).collect();
        let mut plain = [0.0f32; 8];
        for chunk in values.chunks_exact(8) {
            for (total, value) in plain.iter_mut().zip(chunk) {
                *total += (value * value + 1.0).sqrt() / (value * 0.3 + 4.0);
            }
        }
        for level in levels() {
            let mut found = [0.0; 8];
            sums(level, &values, &mut found);
            assert_eq!(found.map(f32::to_bits), plain.map(f32::to_bits), "{}", name(level));
        }
    }

    #[test]
    fn names_and_rounding_are_those_of_the_level() {
        for level in levels() {
            let name = name(level);
            assert!(
                !name.is_empty()
                    && name.chars().all(|char| char.is_ascii_lowercase() || char.is_ascii_digit())
            );
            // SSE2 rounds by hand; all others do it themselves.
            assert_eq!(rounds(level), name != "sse2", "{name}");
        }
        assert_eq!(name(detect()), name(detect()));
    }
}
