//! The tests of this crate, one binary.

mod architecture;
mod examples;
#[cfg(feature = "gpu")]
mod lost_device;
