//! The tests of this crate, one binary.

use frolic_gpu_tests as common;

mod apart;
mod devices;
mod events;
mod external;
mod flocks;
mod grids;
mod on_device;
mod particles;
mod pictures;
mod retune;
