//! The device backend: draws lists of `frolic-draw` and steps particles and flocks of `frolic-core` on a graphics device, through `wgpu`.
//!
//! **In:** a [`DrawList`](frolic_draw::DrawList), as for the CPU backend, and specs of populations. **Out:** an
//! [`Image`](frolic_draw::Image), or a texture on the device, which matches the CPU's picture within a few 8-bit steps; counters and times in
//! the [`Meter`](frolic_core::Meter).
//!
//! | question | folder |
//! | --- | --- |
//! | which device, and what does it execute? | `device/` |
//! | how is a list drawn? | `draw/` |
//! | how do particles run on the device? | `population/` |
//! | how do flocks run on the device? | `flock/` |
//! | which elements are near each other on the device? | `neighbours.rs` |
//! | how do bodies keep apart on the device? | `apart.rs` |
//! | what crosses to the device, in which layout? | `shared/` |
//! | which shaders are there, and what are they made of? | `shaders/` |
//!
//! The default limits of WebGPU suffice: eight storage buffers a stage, 256 invocations, 16 KiB of shared memory, bindings of 128 MiB (larger
//! populations are split). Timestamps are optional.

#![warn(clippy::unwrap_used, clippy::print_stdout, clippy::print_stderr)]
#![forbid(unsafe_code)]

mod apart;
mod device;
mod draw;
mod flock;
mod neighbours;
mod population;
mod shaders;
mod shared;

pub use device::error::GpuError;
pub use device::{DeviceCounters, Gpu, GpuSpec, Recorder};
pub use draw::external::{ExternalPopulation, ExternalView};
pub use draw::keys::ExternalTarget;
pub use draw::population::{DeviceElements, DevicePopulation};
pub use draw::renderer::GpuRenderer;
pub use flock::set::GpuFlocks;
pub use flock::{DeviceFlockStatistics, FlockElement, GpuFlock, GpuFlockSpec};
pub use population::set::GpuSet;
pub use population::{DevicePopulationError, DeviceStatistics, GpuParticles};
pub use shared::step::MOST_STEPS;
pub use wgpu;
