//! Places in files: glTF 2.0 binary with `EXT_mesh_gpu_instancing`, PLY (binary, little-endian), CSV. What one writes, the other two read too.
//!
//! | file | an element is |
//! | --- | --- |
//! | `.glb` | an instance: `TRANSLATION`, `ROTATION`, `SCALE`, and our own `_TINT`, `_KIND`, `_ID` (lower and upper half), `_VELOCITY`, `_AGE`; drawn as one mesh |
//! | `.ply` | a vertex: `x y z turn tilt size tint` as float, `kind id` as uint, `vx vy vz age` as float |
//! | `.csv` | a row: the same, with a header |
//!
//! Velocity and age are there where elements have any. Metres, seconds and radians; a turn is about y, a tilt about the x axis that this gives, so that its top leans towards (sin turn, 0, cos turn).

mod csv;
mod gltf;
mod ply;
mod rows;

use std::path::Path;

use frolic_draw::Mesh;

use crate::error::SceneError;
use crate::models::{Problem, bytes_of, ending};
use crate::output::write_beside;

pub use rows::Places;

use csv::{csv_rows, from_csv};
use gltf::{from_gltf, glb};
use ply::{from_ply, ply};
use rows::{Row, floats_of};

/// Writes places to a `.glb`, `.ply` or `.csv`; a `.glb` draws each as this mesh, m at size 1.
///
/// # Errors
/// Another ending; a file that cannot be written.
pub fn write_places(path: impl AsRef<Path>, places: &Places, mesh: &Mesh) -> Result<(), SceneError> {
    let path = path.as_ref();
    match ending(path).as_str() {
        "glb" => write_beside(path, |file| glb(file, places, mesh)),
        "ply" => write_beside(path, |file| ply(file, places)),
        "csv" => write_beside(path, |file| csv_rows(file, places)),
        other => Err(no_places(other).of(path)),
    }
}

/// Reads places: `.glb` or `.gltf` (all instances of `EXT_mesh_gpu_instancing`, where their nodes put them; of a file without, every node with a
/// mesh), `.ply` (binary or text; vertices) or `.csv` (with a header; `x`, `y` and `z` have to be there).
///
/// # Errors
/// A file that cannot be read, is over 512 MiB, is none of these, or is cut short.
pub fn read_places(path: impl AsRef<Path>) -> Result<Places, SceneError> {
    let path = path.as_ref();
    let bytes = bytes_of(path).map_err(|problem| problem.of(path))?;
    read(&bytes, path, path.parent())
}

/// The same from bytes in memory, where a file must hold all that it needs; its `name` says what it is.
///
/// # Errors
/// As [`read_places`].
pub fn read_places_bytes(bytes: &[u8], name: &str) -> Result<Places, SceneError> {
    read(bytes, Path::new(name), None)
}

fn read(bytes: &[u8], path: &Path, folder: Option<&Path>) -> Result<Places, SceneError> {
    let rows = match ending(path).as_str() {
        "glb" | "gltf" => from_gltf(bytes, folder),
        "ply" => from_ply(bytes),
        "csv" => from_csv(bytes),
        other => Err(no_places(other)),
    };
    let rows = rows.map_err(|problem| problem.of(path))?;
    let sound = |Row { place, velocity, age }: &Row| {
        let [vx, vy, vz] = velocity.unwrap_or_default();
        let motion = [vx, vy, vz, age.unwrap_or_default()];
        floats_of(place).iter().chain(&motion).all(|v| v.is_finite() && v.abs() <= 1e7) && place.size >= 0.0
    };
    if let Some(bad) = rows.iter().position(|row| !sound(row)) {
        let problem = format!("element {bad} has no finite position: {:?}; give finite numbers", rows[bad]);
        return Err(SceneError::File { path: path.to_owned(), problem });
    }
    Ok(Places::from_rows(&rows))
}

fn no_places(ending: &str) -> Problem {
    Problem::Said(format!("'{ending}' is not a format for points; give a .glb, a .ply or a .csv"))
}
