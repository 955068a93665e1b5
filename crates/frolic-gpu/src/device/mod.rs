//! The device: how it is opened, what it executes, and how results come back.
//!
//! | question | file |
//! | --- | --- |
//! | which device, with which limits? | `gpu.rs`, `error.rs` |
//! | what does it execute in a frame? | `recorder.rs`, counted by `counters.rs` |
//! | how do counters and times come back without a stall? | `readback.rs`, `timing.rs` |
//! | what was compiled on it? | `compiled.rs` |

pub(crate) mod compiled;
pub(crate) mod counters;
pub(crate) mod error;
pub(crate) mod gpu;
pub(crate) mod readback;
pub(crate) mod recorder;
pub(crate) mod timing;

pub use counters::DeviceCounters;
pub use gpu::{Gpu, GpuSpec};
pub(crate) use gpu::{SLOT, upload};
pub use recorder::Recorder;
