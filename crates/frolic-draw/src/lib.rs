//! Looks, views and draw lists, and from a draw list to pixels on the CPU.
//!
//! **In:** columns that [`Instances`] borrow, a [`Look`] for each, a [`View`]. **Between:** a [`DrawList`] of batches,
//! one draw call each, that any backend can take. **Out:** an [`Image`].
//!
//! | question | file |
//! | --- | --- |
//! | what does an instance look like? | `look/`, `light.rs`, `colour.rs`, `mesh.rs`, `sprite.rs`, `relief.rs` (a mask as stone), `terrain.rs` (a height map as ground), `tuft.rs` (blades on a billboard), `atlas/` (textures, fonts) |
//! | what becomes of it far away? | `detail.rs` |
//! | where is it seen from? | `camera.rs` |
//! | what is in a draw list? | `instances.rs`, `list.rs`; the crate `frolic-list` breaks it into batches |
//! | what is behind a moving element? | `trails.rs` |
//! | all vertices in one buffer | `merge.rs` |
//! | what are an element's vertices? | `vertices.rs`; of ribbons and meshes eight at a time, `surfaces.rs` of `frolic-raster` |
//! | what order do transparent instances come in? | `sort.rs` |
//! | sky, ground, water | `backdrop/` |
//! | how does the list become pixels? | `cpu/`, whose `mod.rs` names its files; the kernels are in `frolic-raster` |
//! | what does a backend elsewhere need to know? | `backend.rs` |
//!
//! Light is linear, in units where 1 is a sunlit white wall before exposure, until `finish.rs` of `frolic-raster` maps it to sRGB.

#![warn(clippy::unwrap_used, clippy::print_stdout, clippy::print_stderr)]
#![forbid(unsafe_code)]

mod atlas;
mod backdrop;
pub mod backend;
mod bounds;
mod camera;
mod colour;
pub mod cpu;
mod detail;
mod image;
mod instances;
mod lamps;
mod light;
mod list;
mod look;
mod merge;
mod mesh;
mod quality;
mod relief;
mod room;
mod sort;
mod sprite;
mod terrain;
mod trails;
mod tuft;
mod vertices;

pub use atlas::{
    Align, Atlas, AtlasBuilder, CELL, Font, PackSpec, Picture, Place, RegionId, Sheet, TextStyle, TileMap,
    TileMapId, pack,
};
pub use backdrop::{BackdropSpec, GroundSpec, SkySpec, WaterSpec};
pub use bounds::Bounds;
pub use camera::{CameraSpec, View};
pub use colour::Colour;
pub use cpu::Renderer;
pub use detail::DetailSpec;
pub use image::{Image, ImageSize};
pub use instances::{CHUNK, DeviceKey, Groups, Instances, Part, PlacedGroup, chunk_parts};
pub use lamps::{LightSpec, SunSpec};
pub use list::{Batch, Break, DepthOrder, DrawList, Entry, Run, Technique, Vertex};
pub use look::{
    BillboardSpec, Blend, DepthSpec, Facing, Library, Look, LookSpec, Play, Resolution, RibbonSpec, Shape,
    WaveSpec,
};
pub use mesh::{MESH_NAMES, Mesh, MeshVertex};
pub use quality::Quality;
pub use relief::{RELIEF_SCALE, ReliefSpec};
pub use sprite::{Fill, Orientation, Sprite};
pub use terrain::TerrainPaintSpec;
pub use trails::Trails;
pub use tuft::TuftSpec;
