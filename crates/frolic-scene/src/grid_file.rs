//! Distance grids as files: a container of our own, `.dgrid`, described in `docs/distance-grid.md`.
//!
//! A line of text that says what it is, a line of JSON that says how it lies, then the distances as little-endian 32-bit floats.

use std::fs;
use std::io::{BufRead, BufReader, Read};
use std::path::Path;

use frolic_core::DistanceGrid;
use serde::{Deserialize, Serialize};

use crate::error::SceneError;
use crate::output::write_beside;

/// First line of the file, with the version of the format.
const MAGIC: &str = "frolic distance grid 1";

#[derive(Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
struct Header {
    /// Points along x, y, z.
    points: [usize; 3],
    /// Place of the first, in metres.
    origin: [f32; 3],
    /// From one to the next, in metres.
    cell: f32,
}

/// Writes a distance grid beside its target and renames it.
///
/// # Errors
/// When it cannot be written.
pub fn write_grid(path: impl AsRef<Path>, grid: &DistanceGrid) -> Result<(), SceneError> {
    let header = Header { points: grid.points(), origin: grid.origin(), cell: grid.cell() };
    // Numbers and lists of numbers always serialise.
    let header = serde_json::to_string(&header).unwrap_or_default();
    write_beside(path, |file| {
        writeln!(file, "{MAGIC}\n{header}")?;
        grid.values().iter().try_for_each(|value| file.write_all(&value.to_le_bytes()))
    })
}

/// Reads a distance grid.
///
/// # Errors
/// A file that cannot be read, is no distance grid or one of another version, is cut short, or whose values cannot be used.
pub fn read_grid(path: impl AsRef<Path>) -> Result<DistanceGrid, SceneError> {
    let path = path.as_ref();
    let io = |source| SceneError::Read { path: path.to_owned(), source };
    let mut file = BufReader::new(fs::File::open(path).map_err(io)?);
    decode(&mut file).map_err(|problem| SceneError::File { path: path.to_owned(), problem })
}

/// The same from bytes in memory; `name` is what errors call it.
///
/// # Errors
/// As [`read_grid`].
pub fn read_grid_bytes(bytes: &[u8], name: &str) -> Result<DistanceGrid, SceneError> {
    let mut bytes = bytes;
    decode(&mut bytes).map_err(|problem| SceneError::File { path: name.into(), problem })
}

fn decode(read: &mut impl BufRead) -> Result<DistanceGrid, String> {
    let mut line = |most: u64| {
        let mut text = Vec::new();
        // A file without lines is not read to its end.
        read.by_ref().take(most).read_until(b'\n', &mut text).map_err(|error| error.to_string())?;
        String::from_utf8(text).map_err(|_| "is not a distance grid: its header is not text".to_owned())
    };
    let first = line(64)?;
    if first.trim_end() != MAGIC {
        let other = first.trim_end().strip_prefix("frolic distance grid ");
        return Err(match other {
            Some(version) => {
                format!("is of version '{version}', which this program does not read; bake it again")
            }
            None => "is not a distance grid; bake one with: frolic bake MESH".to_owned(),
        });
    }
    let header: Header = serde_json::from_str(&line(1024)?)
        .map_err(|error| format!("has a header that cannot be read: {error}"))?;
    // Refuses absurd sizes before anything is read for them.
    let most = header
        .points
        .iter()
        .try_fold(1usize, |all, &side| all.checked_mul(side))
        .filter(|all| *all <= 1 << 28);
    let count =
        most.ok_or_else(|| format!("has {:?} points; at most 2^28 in all can be read", header.points))?;
    let mut bytes = Vec::new();
    let wanted = count as u64 * 4;
    read.take(wanted + 1).read_to_end(&mut bytes).map_err(|error| error.to_string())?;
    if bytes.len() as u64 != wanted {
        let short = if (bytes.len() as u64) < wanted { "is cut short" } else { "has data after its points" };
        return Err(format!("{short}; bake it again"));
    }
    let values = bytes.as_chunks::<4>().0.iter().map(|value| f32::from_le_bytes(*value)).collect();
    DistanceGrid::new(header.points, header.origin, header.cell, values)
        .map_err(|error| format!("cannot be used: {error}"))
}
