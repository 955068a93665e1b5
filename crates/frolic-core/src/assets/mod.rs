//! Assets: things with an extent that specs refer to by name: a surface of triangles, a distance grid, heights, a picture.
//!
//! Emitters start elements from them, obstacles and fields are made of them. Reading them from files is left to whoever owns the files;
//! here they are plain numbers. [`Assets`] is the table that names are looked up in.
//!
//! | question | file |
//! | --- | --- |
//! | triangles: areas, edges, which points are inside | `surface.rs` |
//! | a grid of signed distances, and its interpolation | `distance.rs` |
//! | how is one made from triangles? | `bake.rs` |
//! | rows of values: brightness, solidity, heights | `plane.rs` |

mod bake;
mod distance;
mod plane;
mod surface;

use std::collections::BTreeMap;
use std::sync::Arc;

pub use bake::BakeSpec;
pub use distance::DistanceGrid;
pub use plane::Plane;
pub use surface::Surface;

use crate::foundations::error::{SpecError, listed};
use crate::placement::PlacedColumns;

/// Something with an extent.
#[derive(Debug, Clone)]
#[non_exhaustive]
pub enum Asset {
    /// Triangles.
    Surface(Arc<Surface>),
    /// Signed distances.
    Distance(Arc<DistanceGrid>),
    /// Rows of values.
    Plane(Arc<Plane>),
    /// Places of their own, such as a placement or a snapshot that was read.
    Places(Arc<PlacedColumns>),
}

/// Assets by name.
///
/// ```
/// use frolic_core::{Asset, Assets, Plane};
/// let mut assets = Assets::default();
/// assets.insert("slope", Asset::Plane(Plane::new(2, 2, vec![0.0, 1.0, 0.0, 1.0])?.into()));
/// assert_eq!(assets.plane("key", "slope")?.at(0.5, 0.5), 0.5);
/// assert!(assets.surface("key", "slope").is_err());
/// # Ok::<(), frolic_core::SpecError>(())
/// ```
#[derive(Debug, Clone, Default)]
pub struct Assets {
    by_name: BTreeMap<String, Asset>,
}

impl Assets {
    /// Adds one, in place of another of its name.
    pub fn insert(&mut self, name: &str, asset: Asset) {
        self.by_name.insert(name.to_owned(), asset);
    }

    /// The one of this name.
    pub fn get(&self, name: &str) -> Option<&Asset> {
        self.by_name.get(name)
    }

    /// The triangles of this name, for a key of a spec.
    ///
    /// # Errors
    /// When there is none, or it is something else.
    pub fn surface(&self, key: &str, name: &str) -> Result<&Arc<Surface>, SpecError> {
        match self.get(name) {
            Some(Asset::Surface(surface)) => Ok(surface),
            other => Err(self.wrong(key, name, "triangles", other)),
        }
    }

    /// The distance grid of this name, for a key of a spec.
    ///
    /// # Errors
    /// When there is none, or it is something else.
    pub fn distance(&self, key: &str, name: &str) -> Result<&Arc<DistanceGrid>, SpecError> {
        match self.get(name) {
            Some(Asset::Distance(grid)) => Ok(grid),
            other => Err(self.wrong(key, name, "a distance grid", other)),
        }
    }

    /// The rows of values of this name, for a key of a spec.
    ///
    /// # Errors
    /// When there is none, or it is something else.
    pub fn plane(&self, key: &str, name: &str) -> Result<&Arc<Plane>, SpecError> {
        match self.get(name) {
            Some(Asset::Plane(plane)) => Ok(plane),
            other => Err(self.wrong(key, name, "a picture", other)),
        }
    }

    /// The places of this name, for a key of a spec.
    ///
    /// # Errors
    /// When there are none, or it is something else.
    pub fn places(&self, key: &str, name: &str) -> Result<&Arc<PlacedColumns>, SpecError> {
        match self.get(name) {
            Some(Asset::Places(places)) => Ok(places),
            other => Err(self.wrong(key, name, "places", other)),
        }
    }

    fn wrong(&self, key: &str, name: &str, wanted: &str, found: Option<&Asset>) -> SpecError {
        let names: Vec<&str> = self.by_name.keys().map(String::as_str).collect();
        let problem = match found {
            None => format!("there is no asset '{name}'"),
            Some(Asset::Surface(_)) => format!("asset '{name}' is a mesh, not {wanted}"),
            Some(Asset::Distance(_)) => format!("asset '{name}' is a distance grid, not {wanted}"),
            Some(Asset::Plane(_)) => format!("asset '{name}' is a picture, not {wanted}"),
            Some(Asset::Places(_)) => format!("asset '{name}' is a point set, not {wanted}"),
        };
        let instead = if names.is_empty() {
            "add an asset of that name".to_owned()
        } else {
            format!("write one of: {}", listed(names))
        };
        SpecError::new(key, problem, instead)
    }
}

/// Picks by weight: where in rising sums of weights a draw 0..1 falls, and how far into that step, 0..1. O(log n).
pub(crate) fn pick(sums: &[f32], draw: f32) -> (usize, f32) {
    let total = sums.last().copied().unwrap_or(0.0);
    let at = draw * total;
    let nth = sums.partition_point(|&sum| sum <= at).min(sums.len().saturating_sub(1));
    let before = if nth == 0 { 0.0 } else { sums[nth - 1] };
    let width = sums.get(nth).copied().unwrap_or(0.0) - before;
    (nth, if width > 0.0 { ((at - before) / width).clamp(0.0, 1.0) } else { 0.0 })
}

/// Rising sums of weights. Added up in double precision: there may be millions.
pub(crate) fn sums(weights: impl Iterator<Item = f32>) -> Vec<f32> {
    let mut total = 0.0f64;
    weights
        .map(|weight| {
            total += f64::from(weight);
            total as f32
        })
        .collect()
}
