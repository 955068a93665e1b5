//! Instruction sets: re-exported from `frolic-simd`, which says how kernels are compiled for each.

pub use frolic_simd::{Level, Simd, detect, kernel, levels, name};
