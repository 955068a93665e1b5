//! From populations to a draw list, and from a draw list to pixels on the CPU.
//!
//! **In:** columns that [`Instances`] borrow, a [`Look`] for each, a [`View`]. **Between:** a [`DrawList`] of batches,
//! one draw call each, that any backend can take. **Out:** an [`Image`].
//!
//! | question | file |
//! | --- | --- |
//! | what does an instance look like? | `look.rs`, `colour.rs` |
//! | where is it seen from? | `camera.rs` |
//! | what is in a draw list, who breaks it into batches? | `list.rs`, `build.rs` |
//! | what order do transparent instances come in? | `sort.rs` |
//! | sky, ground, water | `backdrop.rs` |
//! | how does the list become pixels? | `cpu/`: `project.rs`, `bin.rs`, `tile.rs`, `resolve.rs`, and `reference.rs`, the plain form that tests compare with |
//!
//! Light is linear, in units where 1 is a sunlit white wall before exposure, until `cpu/resolve.rs` maps it to sRGB.

#![warn(clippy::unwrap_used, clippy::print_stdout, clippy::print_stderr)]
#![forbid(unsafe_code)]

mod backdrop;
mod build;
mod camera;
mod colour;
pub mod cpu;
mod image;
mod list;
mod look;
mod sort;

pub use backdrop::{BackdropSpec, GroundSpec, SkySpec, WaterSpec};
pub use build::ListScratch;
pub use camera::{CameraSpec, View};
pub use colour::Colour;
pub use cpu::Renderer;
pub use image::{Image, ImageSize};
pub use list::{Batch, DrawList, Instances, Technique, Vertex};
pub use look::{Blend, LightSpec, Look, LookSpec};
pub use sort::DepthSorter;
