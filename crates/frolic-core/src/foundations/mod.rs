//! Foundations of all other rooms, independent of elements: numbers, columns, time, threads, measuring.

pub(crate) mod change;
pub(crate) mod clock;
pub(crate) mod columns;
pub(crate) mod custom;
pub(crate) mod edit;
pub(crate) mod error;
pub(crate) mod frame_budget;
pub mod limits;
pub mod meter;
pub(crate) mod noise;
pub(crate) mod paths;
pub(crate) mod ramp;
pub mod random;
pub(crate) mod scratch;
pub mod simd;
pub(crate) mod span;
pub(crate) mod state;
pub(crate) mod threads;
pub mod trace;
