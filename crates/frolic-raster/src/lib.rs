//! Kernels of the CPU rasteriser: the most expensive code, compiled once for each instruction set.
//!
//! **In:** plain columns, records, tables and parameters. **Out:** records, samples, pixels. Kernels are independent of specs, looks, draw lists and
//! populations, so that an edit there recompiles none of this; `frolic-draw` translates.
//!
//! ```text
//! project   discs.rs                                    a block of discs -> dots
//!           surfaces.rs, light.rs, points.rs            meshes and ribbons -> lit points -> places on the screen
//!           sections.rs                                 points of ribbons -> strips
//!           triangles.rs                                points of meshes -> plain triangles
//! raster    dots.rs                                     dots -> pixels of a tile
//!           quads.rs                                    rectangles -> pixels of a tile
//!           overlay.rs                                  parts that are drawn by themselves -> pixels of a tile
//!           solid/, cells.rs, texture.rs, colour9.rs    facets and strips -> samples of a tile -> its pixels
//!           picture.rs                                  pictures of groups -> samples of a tile
//!           sun.rs                                      samples and ground -> what the sun reaches, by a shadow map
//! finish    finish.rs                                   bloom, tone curve, dither, eight bits
//!           enlarge.rs                                  a draft -> a picture of twice its size
//! shared    record.rs, tile.rs, camera.rs
//! ```
//!
//! Every kernel is a named function of [`frolic_simd::kernel!`]. The plain form that tests compare with is `frolic-diagnostics/src/reference.rs`.

#![warn(clippy::unwrap_used, clippy::print_stdout, clippy::print_stderr)]
#![forbid(unsafe_code)]

pub mod camera;
pub mod cells;
pub mod colour9;
pub mod discs;
pub mod dots;
pub mod enlarge;
pub mod finish;
pub mod light;
pub mod overlay;
pub mod picture;
pub mod points;
pub mod quads;
pub mod record;
pub mod samples;
pub mod sections;
pub mod solid;
pub mod sun;
pub mod surfaces;
pub mod texture;
pub mod tile;
pub mod triangles;

/// Pixels, or points, of a vector.
pub const LANES: usize = 8;

/// A value for each lane of a vector.
pub type Lanes = [f32; LANES];
