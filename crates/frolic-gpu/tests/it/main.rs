//! The tests of this crate, one binary.

use frolic_gpu_tests as common;

mod events;
mod external;
mod grids;
mod particles;
mod pictures;
mod residents;
