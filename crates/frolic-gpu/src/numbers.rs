//! Numbers that shaders and the processor agree about.

/// Values in a row of the texture that grids are in.
pub(crate) const GRID_WIDTH: u32 = frolic_core::backend::GRID_ROW as u32;

/// Words of an element's trail before its places: where it is with its size, its velocity with its number, and its age over its life.
pub(crate) const HEAD_WORDS: u32 = 9;

/// Vertices of a rectangle that stands for an element.
pub(crate) const CORNERS: u32 = 4;
