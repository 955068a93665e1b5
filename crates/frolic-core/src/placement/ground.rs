//! Ground for placements: level, or a height map.

use derive_setters::Setters;
use std::sync::Arc;

use glam::Vec3;
use serde::{Deserialize, Serialize};

use crate::assets::{Assets, Plane};
use crate::foundations::error::{SpecError, vector_within, within};

/// Ground with the shape of a height map.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, Setters)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
#[non_exhaustive]
pub struct TerrainSpec {
    /// Name of the asset with the heights.
    #[setters(into)]
    pub asset: String,
    /// Its centre at value 0, in metres. Default: the origin.
    #[serde(default)]
    pub position: [f32; 3],
    /// Extent along x and z in metres, 0.01 to 1e6.
    pub size: [f32; 2],
    /// Height of value 1 above value 0 in metres, 0 to 1e5.
    pub height: f32,
    /// Values up to this one are holes without elements; not a number counts as 0. Default: -1, no holes.
    #[serde(default = "no_holes")]
    pub hole: f32,
}

fn no_holes() -> f32 {
    -1.0
}

impl TerrainSpec {
    /// A height map about the origin, with its extent along x and z and the height of value 1, in metres.
    pub fn new(asset: &str, size: [f32; 2], height: f32) -> Self {
        Self { asset: asset.to_owned(), position: [0.0; 3], size, height, hole: no_holes() }
    }

    /// Checks that the values are in range.
    ///
    /// # Errors
    /// Names the key that is out of range.
    pub fn check(&self) -> Result<(), SpecError> {
        vector_within("position", self.position, 1e6, "m")?;
        self.size.iter().try_for_each(|&side| within("size", side, 0.01, 1e6, "m"))?;
        within("height", self.height, 0.0, 1e5, "m")?;
        within("hole", self.hole, -1.0, 1.0, "")
    }

    /// Looks up the heights.
    ///
    /// # Errors
    /// A value out of range, or no asset of the name with heights.
    pub fn build(&self, assets: &Assets) -> Result<Terrain, SpecError> {
        self.check()?;
        let plane = Arc::clone(assets.plane("asset", &self.asset)?);
        Ok(Terrain {
            plane,
            position: self.position.into(),
            size: self.size,
            height: self.height,
            hole: self.hole,
        })
    }
}

/// A point of the ground.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Footing {
    /// Height, in metres.
    pub y: f32,
    /// Slope along x and along z.
    pub rise: [f32; 2],
}

impl Footing {
    /// Normal, a unit vector.
    pub fn normal(self) -> Vec3 {
        Vec3::new(-self.rise[0], 1.0, -self.rise[1]).normalize()
    }
}

/// A built height map.
#[derive(Debug, Clone)]
pub struct Terrain {
    plane: Arc<Plane>,
    position: Vec3,
    size: [f32; 2],
    height: f32,
    hole: f32,
}

impl Terrain {
    /// The ground at x and z, in metres. `None` beside it and in holes.
    ///
    /// ```
    /// use frolic_core::{Asset, Assets, Plane, TerrainSpec};
    /// let mut assets = Assets::default();
    /// assets.insert("slope", Asset::Plane(Plane::new(2, 1, vec![0.0, 1.0])?.into()));
    /// let terrain = TerrainSpec::new("slope", [10.0, 10.0], 2.0).build(&assets)?;
    /// assert_eq!(terrain.at(0.0, 0.0).unwrap().y, 1.0);
    /// assert!(terrain.at(6.0, 0.0).is_none());
    /// # Ok::<(), frolic_core::SpecError>(())
    /// ```
    pub fn at(&self, x: f32, z: f32) -> Option<Footing> {
        let across = (x - self.position.x) / self.size[0] + 0.5;
        let up = 0.5 - (z - self.position.z) / self.size[1];
        // Written so that not a number is outside.
        let inside = (0.0..=1.0).contains(&across) && (0.0..=1.0).contains(&up);
        if !inside {
            return None;
        }
        let [value, gx, gy] = self.plane.slope(across, up);
        (value > self.hole).then(|| Footing {
            y: self.position.y + value * self.height,
            rise: [gx * self.height / self.size[0], -gy * self.height / self.size[1]],
        })
    }

    /// Least and greatest x and z, in metres.
    pub fn extent(&self) -> [[f32; 2]; 2] {
        let [w, d] = self.size.map(|side| side * 0.5);
        let Vec3 { x, z, .. } = self.position;
        [[x - w, z - d], [x + w, z + d]]
    }
}
