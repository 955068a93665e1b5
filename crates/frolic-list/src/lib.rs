//! The list builder: from populations to a [`DrawList`](frolic_draw::DrawList) of batches, one draw call each.
//!
//! It is a crate by itself so that a change of how batches are built compiles neither looks and meshes nor a rasteriser again.

#![warn(clippy::unwrap_used, clippy::print_stdout, clippy::print_stderr)]

mod build;

pub use build::{ListScratch, ListSpec, Surroundings};
