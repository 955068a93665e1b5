//! The tests of this crate, one binary.

use frolic_gpu_tests as common;

mod events;
mod grids;
mod guests;
mod particles;
mod pictures;
mod residents;
