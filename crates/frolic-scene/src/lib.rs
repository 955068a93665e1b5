//! Scene files, the scenes that ship with Frolic, and the open formats around them.
//!
//! **In:** TOML text, from a file or shipped ([`SceneSpec`]). **Out:** a running [`Scene`]: populations that step, a draw
//! list, a picture; and PNG files.
//!
//! | question | file |
//! | --- | --- |
//! | which keys does a scene file have? | `spec.rs`, `population.rs`, `parts.rs` (and `docs/scene-format.md`) |
//! | what are emitters, obstacles and fields made of? | `assets.rs`; files `models.rs` (OBJ, glTF), `grid_file.rs` |
//! | places in files: glTF instances, PLY, CSV | `places_file.rs` |
//! | how do textures, texts and boards get onto the picture? | `decor.rs`, `texture.rs` |
//! | how is text read, and how do its errors read? | `file.rs` |
//! | how does one change a key by its path? | `set.rs` |
//! | which scenes ship? | `shipped.rs` |
//! | how does a scene run? | `scene/`; on a graphics device `device.rs` |
//! | ground with a shape | `terrain.rs` |
//! | how does a scene step and draw a family of elements, also one of your own? | `families/`: a file for each, and `mod.rs`, which lists them |
//! | how are files written so that none is ever half there? | `output.rs` |

#![warn(clippy::unwrap_used, clippy::print_stdout, clippy::print_stderr)]

mod assets;
mod command;
mod decor;
#[cfg(feature = "gpu")]
mod device;
#[cfg(not(feature = "gpu"))]
#[path = "no_device.rs"]
mod device;
mod error;
mod families;
mod file;
mod folder;
mod grid_file;
mod models;
mod output;
mod parts;
mod places_file;
mod population;
mod resident;
mod scene;
#[cfg(feature = "schema")]
mod schema;
mod sections;
mod set;
mod shipped;
mod spec;
mod terrain;
mod texture;

pub use assets::{AssetSource, AssetSpec, HillsSpec, PlacementAsset};
pub use command::Command;
pub use error::{DeviceError, SceneError};
pub use families::{
    BuildContext, CheckContext, DrawContext, Drawables, Elements, FamilySpec, GroundPlan, OwnFamily,
    RetuneContext, SightPlan, StepContext,
};
pub use folder::{Folder, MemoryFile, MemoryFolder};
pub use grid_file::{read_grid, read_grid_bytes, write_grid};
pub use models::{read_mesh, read_mesh_bytes};
pub use output::{SheetTiming, VideoWriter, write_animated_png, write_beside, write_png, write_sheet};
pub use parts::{
    MeshSpec, OrientationSpec, PutSpec, ReliefPart, SpriteSpec, TextSpec, TextureSpec, TilesSpec,
};
pub use places_file::{Places, read_places, read_places_bytes, write_places};
pub use population::{PopulationSpec, SeasonsSpec, TrailLookSpec};
pub use scene::{ChangeEffect, SavedScene, Scene, SceneChange};
#[cfg(feature = "schema")]
pub use schema::schema;
pub use shipped::{SHIPPED, Shipped};
pub use spec::{Backend, DrawSpec, FORMAT_VERSION, ProfileSpec, Residence, SceneSpec};
pub use terrain::TerrainPart;
pub use texture::{read_png, read_png_bytes};

/// The schema of scene files, as JSON: for editors that complete and check them.
pub const SCHEMA: &str = include_str!("../../../docs/scene.schema.json");
