//! The tests of this crate, one binary.

mod architecture;
mod examples;
mod first_programs;
#[cfg(feature = "gpu")]
mod lost_device;
