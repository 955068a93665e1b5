//! The one place where instruction sets are chosen at run time.
//!
//! A hot loop is written once, in plain Rust over slices, as a [`Kernel`]. [`Level::run`] calls a copy of it that was
//! compiled for a wider instruction set. No copy uses fused multiply-add or estimates, so every level gives the
//! same bits; `tests/same_results.rs` holds that.

/// A hot loop with its arguments. Implementations mark `run` `#[inline(always)]`, as must be everything it calls:
/// what is not inlined is compiled for the portable level.
pub trait Kernel {
    /// What the loop returns.
    type Output;

    /// The loop.
    fn run(self) -> Self::Output;
}

/// An instruction set that kernels are compiled for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Level {
    /// What the target guarantees (SSE2 on x86-64).
    Portable,
    /// x86-64 with AVX2: 8 floats an instruction.
    Avx2,
    /// x86-64 with AVX-512 F, BW, CD, DQ and VL: 16 floats an instruction.
    Avx512,
}

impl Level {
    /// Every level, narrowest first.
    pub const ALL: [Level; 3] = [Level::Portable, Level::Avx2, Level::Avx512];

    /// The widest level this processor has.
    pub fn detect() -> Self {
        Self::ALL.into_iter().rev().find(|level| level.is_supported()).unwrap_or(Level::Portable)
    }

    /// Whether this processor has the level. Cheap: the answer is cached by the standard library.
    pub fn is_supported(self) -> bool {
        match self {
            Level::Portable => true,
            #[cfg(target_arch = "x86_64")]
            Level::Avx2 => is_x86_feature_detected!("avx2"),
            #[cfg(target_arch = "x86_64")]
            Level::Avx512 => {
                is_x86_feature_detected!("avx2")
                    && is_x86_feature_detected!("avx512f")
                    && is_x86_feature_detected!("avx512bw")
                    && is_x86_feature_detected!("avx512cd")
                    && is_x86_feature_detected!("avx512dq")
                    && is_x86_feature_detected!("avx512vl")
            }
            #[cfg(not(target_arch = "x86_64"))]
            _ => false,
        }
    }

    /// Its name, as reports show it.
    pub fn name(self) -> &'static str {
        match self {
            Level::Portable => "portable",
            Level::Avx2 => "avx2",
            Level::Avx512 => "avx512",
        }
    }

    /// Runs a kernel at this level, or at the portable one where the processor lacks it.
    #[inline]
    #[allow(unsafe_code)]
    pub fn run<K: Kernel>(self, kernel: K) -> K::Output {
        match self {
            // SAFETY: the features were just detected on this processor.
            #[cfg(target_arch = "x86_64")]
            Level::Avx2 if self.is_supported() => unsafe { run_avx2(kernel) },
            // SAFETY: as above.
            #[cfg(target_arch = "x86_64")]
            Level::Avx512 if self.is_supported() => unsafe { run_avx512(kernel) },
            _ => kernel.run(),
        }
    }
}

#[cfg(target_arch = "x86_64")]
#[target_feature(enable = "avx2")]
fn run_avx2<K: Kernel>(kernel: K) -> K::Output {
    kernel.run()
}

#[cfg(target_arch = "x86_64")]
#[target_feature(enable = "avx2,avx512f,avx512bw,avx512cd,avx512dq,avx512vl")]
fn run_avx512<K: Kernel>(kernel: K) -> K::Output {
    kernel.run()
}
