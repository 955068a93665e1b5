//! The list builder: from populations to a [`DrawList`](frolic_draw::DrawList) of batches, one draw call each.
//!
//! It is a separate crate so that a change to the list builder recompiles neither looks and meshes nor a rasteriser.

#![warn(clippy::unwrap_used, clippy::print_stdout, clippy::print_stderr)]

mod build;

pub use build::{ListScratch, ListSpec, Surroundings};
