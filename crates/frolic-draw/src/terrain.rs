//! Terrain: a height map as a mesh, with a texture of its cover.
//!
//! Where blades thin out in the distance, the ground between them has their colour, so a field has no bald edge.

use derive_setters::Setters;
use frolic_core::{SpecError, Terrain, gust_noise, within};
use glam::{Vec2, Vec3};
use rayon::prelude::*;
use serde::{Deserialize, Serialize};

use crate::atlas::Picture;
use crate::colour::{Colour, srgb_byte};
use crate::mesh::{Mesh, MeshVertex};

/// Appearance of terrain.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, Setters)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields, default)]
#[non_exhaustive]
pub struct TerrainPaintSpec {
    /// Number of squares along each side of the mesh, 1 to 127. Default: 96.
    pub squares: u32,
    /// Number of texels along each side of the texture, 1 to 4096. Default: 1024.
    pub texels: u32,
    /// Albedo of bare ground. Default: sand.
    pub bare: Colour,
    /// Albedo of covered ground: the mean colour of its plants from afar. Default: a dry green.
    pub grown: Colour,
    /// Albedo of wet ground. Default: a darker sand.
    pub wet: Colour,
    /// Height in metres up to which the ground is wet, -1e6 to 1e6. Default: -1e6: nowhere.
    pub wet_below: f32,
    /// Height in metres over which wet ground turns dry, 0.001 to 1e5. Default: 0.3.
    pub wet_edge: f32,
    /// Strength of mottling, 0 to 1. Default: 0.5.
    pub mottled: f32,
    /// Distance between ripples of bare ground in metres, 0.01 to 1e4. Default: 0.4.
    pub ripples: f32,
}

impl Default for TerrainPaintSpec {
    fn default() -> Self {
        Self {
            squares: 96,
            texels: 1024,
            bare: Colour::new(0.52, 0.43, 0.29),
            grown: Colour::new(0.20, 0.19, 0.085),
            wet: Colour::new(0.26, 0.21, 0.145),
            wet_below: -1e6,
            wet_edge: 0.3,
            mottled: 0.5,
            ripples: 0.4,
        }
    }
}

impl TerrainPaintSpec {
    /// Checks that all values are in range.
    ///
    /// # Errors
    /// Names the first key that is out of range.
    pub fn check(&self) -> Result<(), SpecError> {
        within("squares", self.squares as f32, 1.0, 127.0, "squares")?;
        within("texels", self.texels as f32, 1.0, 4096.0, "texels")?;
        self.bare.check("bare")?;
        self.grown.check("grown")?;
        self.wet.check("wet")?;
        within("wet_below", self.wet_below, -1e6, 1e6, "m")?;
        within("wet_edge", self.wet_edge, 0.001, 1e5, "m")?;
        within("mottled", self.mottled, 0.0, 1.0, "")?;
        within("ripples", self.ripples, 0.01, 1e4, "m")
    }

    /// Builds the mesh of a height map at its position, without its holes.
    ///
    /// # Errors
    /// When the map is all holes.
    pub fn mesh(&self, terrain: &Terrain) -> Result<Mesh, SpecError> {
        let n = self.squares.clamp(1, 127) as usize;
        let [low, high] = terrain.extent();
        let mut vertices = Vec::with_capacity((n + 1) * (n + 1));
        let mut there = Vec::with_capacity(vertices.capacity());
        for j in 0..=n {
            for i in 0..=n {
                let uv = Vec2::new(i as f32, j as f32) / n as f32;
                // A little within, so that rounding leaves none beside the map.
                let share = uv * 0.99999 + 0.000_005;
                let [x, z] = [0, 1].map(|axis| low[axis] + (high[axis] - low[axis]) * share[axis]);
                let footing = terrain.at(x, z);
                there.push(footing.is_some());
                let (y, normal) = footing.map_or((0.0, Vec3::Y), |footing| (footing.y, footing.normal()));
                vertices.push(MeshVertex { position: Vec3::new(x, y, z), normal, uv });
            }
        }
        let mut triangles = Vec::with_capacity(n * n * 2);
        for j in 0..n {
            for i in 0..n {
                let a = j * (n + 1) + i;
                let (b, c, d) = (a + 1, a + n + 1, a + n + 2);
                for corners in [[a, c, b], [b, c, d]] {
                    if corners.iter().all(|&corner| there[corner]) {
                        triangles.push(corners.map(|corner| corner as u16));
                    }
                }
            }
        }
        Mesh::new(vertices, triangles)
    }

    /// Paints the texture. `cover` returns the share of covered ground, 0 to 1, at x and z in metres.
    ///
    /// # Errors
    /// As [`Picture::new`].
    pub fn paint(
        &self,
        terrain: &Terrain,
        cover: impl Fn(f32, f32) -> f32 + Sync,
    ) -> Result<Picture, SpecError> {
        let side = self.texels.clamp(1, 4096) as usize;
        let [low, high] = terrain.extent();
        let mut pixels = vec![[0u8; 4]; side * side];
        pixels.par_chunks_mut(side).enumerate().for_each(|(row, pixels)| {
            for (column, pixel) in pixels.iter_mut().enumerate() {
                let share = [column, row].map(|at| (at as f32 + 0.5) / side as f32);
                let [x, z] = [0, 1].map(|axis| low[axis] + (high[axis] - low[axis]) * share[axis]);
                let [r, g, b] = self.colour(terrain, x, z, cover(x, z)).map(srgb_byte);
                *pixel = [r, g, b, 255];
            }
        });
        Picture::new([side as u32; 2], pixels)
    }

    fn colour(&self, terrain: &Terrain, x: f32, z: f32, cover: f32) -> [f32; 3] {
        let height = terrain.at(x, z).map_or(0.0, |footing| footing.y);
        let [patch, blotch, bend] = gust_noise([x * 0.23, 0.0, z * 0.23], 71);
        let [grain, fine, _] = gust_noise([x * 3.1, 0.0, z * 3.1], 72);
        // Ripples wander, and are lost where something grows.
        let per = std::f32::consts::TAU / self.ripples;
        let ripple = libm::sinf((x * 0.35 + z + bend * 1.3) * per) * (0.6 + 0.4 * blotch);
        let bare =
            1.0 + self.mottled * (0.16 * patch + 0.10 * grain + 0.06 * fine + 0.07 * ripple * (1.0 - cover));
        let lush = 1.0 + self.mottled * (0.35 * blotch + 0.22 * grain);
        let wet = ((self.wet_below + self.wet_edge - height) / self.wet_edge).clamp(0.0, 1.0);
        let wet = wet * wet * (3.0 - 2.0 * wet);
        let mix = |a: f32, b: f32, share: f32| a + (b - a) * share;
        let of = |bare_of: f32, wet_of: f32, grown: f32| {
            mix(mix(bare_of, wet_of, wet) * bare, grown * lush, cover.clamp(0.0, 1.0)).max(0.0)
        };
        [
            of(self.bare.r, self.wet.r, self.grown.r),
            of(self.bare.g, self.wet.g, self.grown.g),
            of(self.bare.b, self.wet.b, self.grown.b),
        ]
    }
}
