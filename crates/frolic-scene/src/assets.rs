//! Assets of a scene: meshes, distance grids and pictures that emitters, obstacles and fields name.

use derive_setters::Setters;
use frolic_core::{
    Asset, Assets, BakeSpec, DistanceGrid, MOST_PLACED, PlacedColumns, Placement, PlacementSpec, Plane,
    SpecError, Surface, check_layers, gust_noise, vector_within, within,
};
use frolic_draw::Picture;
use serde::{Deserialize, Serialize};

use crate::error::SceneError;
use crate::folder::{Folder, MemoryFile};
use crate::grid_file::{read_grid, read_grid_bytes};
use crate::models::{read_mesh, read_mesh_bytes};
use crate::places_file::{Places, read_places, read_places_bytes};
use crate::texture::{read_png, read_png_bytes};

/// Something with an extent, by name.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, Setters)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
#[non_exhaustive]
pub struct AssetSpec {
    /// Its name.
    #[setters(into)]
    pub name: String,
    /// What it is made from.
    pub from: AssetSource,
    /// Factor on its size, 1e-4 to 1e4; not of a picture. Default: 1.
    #[serde(default = "one")]
    pub scale: f32,
    /// Turn about y, degrees anticlockwise from above; of a mesh. Default: 0.
    #[serde(default)]
    pub turn_degrees: f32,
    /// Where its origin is put, in metres; not of a picture. Default: the world's origin.
    #[serde(default)]
    pub position: [f32; 3],
    /// Makes a distance grid of a mesh: points along its longest side, 4 to 1024. Default: none, it stays a mesh.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[setters(into)]
    pub bake: Option<u32>,
}

fn one() -> f32 {
    1.0
}

/// What an asset is made from.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
#[non_exhaustive]
pub enum AssetSource {
    /// A mesh: an `.obj`, `.gltf` or `.glb` file beside the scene.
    Mesh(String),
    /// A distance grid: a `.dgrid` file beside the scene.
    Grid(String),
    /// How bright a PNG beside the scene is, times its opacity.
    Brightness(String),
    /// How opaque a PNG beside the scene is.
    Opacity(String),
    /// A ball of radius 1 as a mesh of 12 n² triangles, n 1 to 512.
    Ball(u32),
    /// Places that are put by the layers of a placement.
    Placement(PlacementAsset),
    /// Places: a `.glb`, `.gltf`, `.ply` or `.csv` file beside the scene.
    Places(String),
    /// Heights of hills that follow from a seed.
    Hills(HillsSpec),
}

/// Places that emitters start from, and others stand at.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
#[non_exhaustive]
pub struct PlacementAsset {
    /// How many places.
    pub count: u32,
    /// Layers, at most 16; they may name assets that come before.
    pub layers: Vec<PlacementSpec>,
    /// Key of its random numbers. Default: 1.
    #[serde(default = "first")]
    pub seed: u32,
}

fn first() -> u32 {
    1
}

impl PlacementAsset {
    /// So many places.
    pub fn new(count: u32, layers: impl IntoIterator<Item = PlacementSpec>) -> Self {
        Self { count, layers: layers.into_iter().collect(), seed: first() }
    }

    fn check(&self) -> Result<(), SpecError> {
        within("count", self.count as f32, 0.0, MOST_PLACED as f32, "places")?;
        check_layers("layers", &self.layers)
    }
}

/// Hills: smooth noise on noise of half the size and half the height, and so on.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, Setters)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields, default)]
#[non_exhaustive]
pub struct HillsSpec {
    /// Heights along each side, 2 to 2048. Default: 256.
    pub points: u32,
    /// Hills along each side, 0.1 to 256. Default: 4.
    pub across: f32,
    /// How sharp their ridges are, 0 to 1. Default: 0: round.
    pub ridged: f32,
    /// Share of the side over which the ground falls to 0 at the edges, 0 to 0.5. Default: 0, none.
    pub edge: f32,
    /// Other hills for each number. Default: 1.
    pub seed: u32,
}

impl Default for HillsSpec {
    fn default() -> Self {
        Self { points: 256, across: 4.0, ridged: 0.0, edge: 0.0, seed: 1 }
    }
}

impl HillsSpec {
    fn check(&self) -> Result<(), SpecError> {
        within("points", self.points as f32, 2.0, 2048.0, "points")?;
        within("across", self.across, 0.1, 256.0, "")?;
        within("ridged", self.ridged, 0.0, 1.0, "")?;
        within("edge", self.edge, 0.0, 0.5, "")
    }

    /// The hills as an asset.
    ///
    /// # Errors
    /// A value out of range.
    pub fn asset(&self) -> Result<Asset, SpecError> {
        self.check()?;
        Ok(Asset::Plane(self.heights()?.into()))
    }

    /// Octaves of a fractal sum: Perlin, "An Image Synthesizer" (1985).
    fn heights(&self) -> Result<Plane, SpecError> {
        let n = self.points as usize;
        let value = |at: usize| {
            let [x, y] = [at % n, at / n].map(|at| (at as f32 + 0.5) / n as f32);
            let (mut sum, mut all, mut size, mut share) = (0.0, 0.0, self.across, 1.0);
            for octave in 0..5 {
                let [smooth, ..] = gust_noise([x * size, octave as f32 * 7.7, y * size], self.seed);
                let round = smooth * 0.5 + 0.5;
                let ridge = 1.0 - smooth.abs();
                sum += (round + (ridge * ridge - round) * self.ridged) * share;
                all += share;
                (size, share) = (size * 2.0, share * 0.42);
            }
            let off = x.min(1.0 - x).min(y).min(1.0 - y);
            let near = if self.edge > 0.0 { (off / self.edge).clamp(0.0, 1.0) } else { 1.0 };
            sum / all * near * near * (3.0 - 2.0 * near)
        };
        Plane::new(n, n, (0..n * n).map(value).collect())
    }
}

impl AssetSpec {
    /// An asset of this name.
    pub fn new(name: &str, from: AssetSource) -> Self {
        Self { name: name.to_owned(), from, scale: 1.0, turn_degrees: 0.0, position: [0.0; 3], bake: None }
    }

    pub(crate) fn check(&self) -> Result<(), SpecError> {
        within("scale", self.scale, 1e-4, 1e4, "")?;
        within("turn_degrees", self.turn_degrees, -1e6, 1e6, "degrees")?;
        vector_within("position", self.position, 1e6, "m")?;
        if let AssetSource::Ball(detail) = self.from {
            within("from.ball", detail as f32, 1.0, 512.0, "")?;
        }
        if let AssetSource::Placement(placement) = &self.from {
            placement.check().map_err(|error| error.under("from.placement"))?;
        }
        if let AssetSource::Hills(hills) = &self.from {
            hills.check().map_err(|error| error.under("from.hills"))?;
        }
        match (self.bake, &self.from) {
            (None, _) => Ok(()),
            (Some(points), AssetSource::Mesh(_) | AssetSource::Ball(_)) => {
                within("bake", points as f32, 4.0, 1024.0, "points")
            }
            _ => Err(SpecError::new("bake", "is of no mesh", "leave it out")),
        }
    }

    /// Reads it, from the folder of its scene, and bakes it if it is to be; a placement may name the given assets.
    ///
    /// # Errors
    /// A file that cannot be read or used.
    pub fn load(&self, folder: &Folder, assets: &Assets) -> Result<Asset, SpecError> {
        let at_key = |key: &str, error: SceneError| match error {
            SceneError::Read { path, source } => SpecError::new(
                key,
                format!("{} cannot be read: {source}", path.display()),
                "name a file beside the scene file",
            ),
            other => SpecError::new(key, other.to_string(), "give another file"),
        };
        let surface = |surface: Surface| -> Result<Asset, SpecError> {
            let placed = surface.placed(self.scale, self.turn_degrees.to_radians(), self.position)?;
            Ok(match self.bake {
                Some(points) => Asset::Distance(BakeSpec::new(points).bake(&placed)?.into()),
                None => Asset::Surface(placed.into()),
            })
        };
        match &self.from {
            AssetSource::Mesh(file) => {
                surface(mesh(folder, file).map_err(|error| at_key("from.mesh", error))?)
            }
            AssetSource::Ball(detail) => surface(Surface::ball(*detail)),
            AssetSource::Grid(file) => {
                let grid = grid(folder, file).map_err(|error| at_key("from.grid", error))?;
                Ok(Asset::Distance(grid.placed(self.scale, self.position)?.into()))
            }
            AssetSource::Placement(PlacementAsset { count, layers, seed }) => {
                let placement = Placement::new(layers, Some(*count), *seed, assets);
                let placed = placement.map_err(|error| error.under("from.placement.layers"))?.all();
                Ok(Asset::Places(placed.into()))
            }
            AssetSource::Places(file) => {
                let read = places(folder, file).map_err(|error| at_key("from.places", error))?;
                Ok(Asset::Places(read.into()))
            }
            AssetSource::Hills(hills) => hills.asset(),
            AssetSource::Brightness(file) => {
                let picture = picture(folder, file).map_err(|error| at_key("from.brightness", error))?;
                let bright = |&[r, g, b, a]: &[u8; 4]| {
                    // Luma of the trade for such bytes: Rec. 709.
                    let luma = 0.2126 * f32::from(r) + 0.7152 * f32::from(g) + 0.0722 * f32::from(b);
                    luma / 255.0 * f32::from(a) / 255.0
                };
                Ok(Asset::Plane(plane(&picture, bright)?.into()))
            }
            AssetSource::Opacity(file) => {
                let picture = picture(folder, file).map_err(|error| at_key("from.opacity", error))?;
                Ok(Asset::Plane(plane(&picture, |pixel| f32::from(pixel[3]) / 255.0)?.into()))
            }
        }
    }
}

/// Rows from the lower edge up, as the world has them.
fn plane(picture: &Picture, value: impl Fn(&[u8; 4]) -> f32) -> Result<Plane, SpecError> {
    let [width, height] = picture.size().map(|side| side as usize);
    let rows = picture.pixels().chunks_exact(width).rev();
    Plane::new(width, height, rows.flatten().map(value).collect())
}

fn mesh(folder: &Folder, file: &str) -> Result<Surface, SceneError> {
    let memory = |file: &MemoryFile| match file {
        MemoryFile::Mesh(surface) => Some(Surface::clone(surface)),
        _ => None,
    };
    folder.read(file, memory, |bytes| read_mesh_bytes(bytes, file), |path| read_mesh(path))
}

fn grid(folder: &Folder, file: &str) -> Result<DistanceGrid, SceneError> {
    let memory = |file: &MemoryFile| match file {
        MemoryFile::Grid(grid) => Some(DistanceGrid::clone(grid)),
        _ => None,
    };
    folder.read(file, memory, |bytes| read_grid_bytes(bytes, file), |path| read_grid(path))
}

fn places(folder: &Folder, file: &str) -> Result<PlacedColumns, SceneError> {
    let memory = |file: &MemoryFile| match file {
        MemoryFile::Places(places) => Some(PlacedColumns::clone(places)),
        _ => None,
    };
    let elements = |places: Places| places.elements;
    folder.read(
        file,
        memory,
        |bytes| read_places_bytes(bytes, file).map(elements),
        |path| read_places(path).map(elements),
    )
}

/// Reads a picture of a scene.
pub(crate) fn picture(folder: &Folder, file: &str) -> Result<Picture, SceneError> {
    let memory = |file: &MemoryFile| match file {
        MemoryFile::Picture(picture) => Some(Picture::clone(picture)),
        _ => None,
    };
    folder.read(file, memory, |bytes| read_png_bytes(bytes, file), |path| read_png(path))
}

/// Reads and bakes all assets of a scene.
pub(crate) fn load(specs: &[AssetSpec], folder: &Folder) -> Result<Assets, SpecError> {
    let mut assets = Assets::default();
    for (nth, asset) in specs.iter().enumerate() {
        let made = asset.load(folder, &assets).map_err(|error| error.under(&format!("asset.{nth}")))?;
        assets.insert(&asset.name, made);
    }
    Ok(assets)
}
