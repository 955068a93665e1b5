//! The device path: the draw lists of `frolic-draw` drawn, and the particles of `frolic-core` moved, through `wgpu`.
//!
//! **In:** a [`DrawList`](frolic_draw::DrawList), as the CPU backend takes it, and specs of populations. **Out:** an
//! [`Image`](frolic_draw::Image), or a texture that stays on the device; the same picture as the CPU's to within a few
//! 8-bit steps; counters and times in the [`Meter`](frolic_core::Meter).
//!
//! | question | file |
//! | --- | --- |
//! | which device, what was it told to do? | `device.rs`, `error.rs` |
//! | how is a list drawn? | its batches become items in `draws.rs`, passes in `renderer.rs`; its textures `targets.rs`, `finish.rs`; what all of a frame share `frame.rs` |
//! | what does a look, mesh or atlas become? | `looks.rs` |
//! | how do elements of the processor get there? | `records.rs` |
//! | which instances are seen, in which order? | `order.rs` |
//! | how do particles live there? | `particles.rs`, their buffers and pipelines `shard.rs`; what a step is told `told.rs`, what they meet `grids.rs`, who is written down `newborn.rs`, what their events start `events.rs`, `set.rs`, what they leave behind `trails.rs` |
//! | how are counters and times read_at without a stall? | `readback.rs`, `timing.rs` |
//! | how does it go into a pass of a program's own? | `guest.rs` |
//! | what are the shaders made of? | `shader.rs`, `shaders/`; pipelines `pipelines.rs`, shared by all of a device `made.rs` |
//!
//! What WebGPU promises everywhere is enough: eight storage buffers a stage, 256 invocations, 16 KiB of shared memory, bindings of 128 MiB
//! (a larger population is split). Timestamps are used where there are any.

#![warn(clippy::unwrap_used, clippy::print_stdout, clippy::print_stderr)]
#![forbid(unsafe_code)]

mod device;
mod draw;
mod population;
mod shaders;
mod shared;

pub use device::error::GpuError;
pub use device::{DeviceCounters, Gpu, GpuSpec, Recorder};
pub use draw::external::{ExternalPopulation, ExternalView};
pub use draw::keys::ExternalTarget;
pub use draw::population::{DeviceElements, DevicePopulation};
pub use draw::renderer::GpuRenderer;
pub use population::set::GpuSet;
pub use population::{DevicePopulationError, DeviceStatistics, GpuParticles, MOST_STEPS};
pub use wgpu;
