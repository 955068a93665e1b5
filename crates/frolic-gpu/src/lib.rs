//! x
#![allow(missing_docs)]
mod device;
mod error;
mod shader;
pub use device::{Gpu, GpuSpec, Recorder, Tally};
pub use error::GpuError;
mod looks;
mod pipelines;
mod records;
mod order;
mod ring;
mod timing;
mod frame;
mod targets;
mod particles;
pub use particles::*;
mod finish;
mod renderer;
pub use renderer::GpuRenderer;
pub use pipelines::GuestTarget;
