//! Paints a mask as stone: smooth edges at any scale, lit edges, layers and grain.
//!
//! After digging, only the changed cells are repainted.

use derive_setters::Setters;
use frolic_core::{Mask, SpecError, gust_noise, within};
use rayon::prelude::*;
use serde::{Deserialize, Serialize};

use crate::atlas::Picture;
use crate::colour::{Colour, srgb_byte};

/// Appearance of a mask.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, Setters)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields, default)]
#[non_exhaustive]
pub struct ReliefSpec {
    /// Colour of the stone. Default: dark slate.
    pub colour: Colour,
    /// Light on edges that face it. Default: a warm white.
    pub edge_colour: Colour,
    /// Direction of that light in the plane of the mask, in degrees anticlockwise from the right. Default: 60.
    pub light_degrees: f32,
    /// Depth in metres over which the light fades, 0.001 to 1000. Default: 0.15.
    pub edge_depth: f32,
    /// Strength of layers and grain, 0 to 1. Default: 0.5.
    pub layered: f32,
    /// Height of a layer in metres, 0.001 to 1000. Default: 0.5.
    pub layer_height: f32,
}

impl Default for ReliefSpec {
    fn default() -> Self {
        Self {
            colour: Colour::new(0.020, 0.024, 0.030),
            edge_colour: Colour::new(0.55, 0.42, 0.28),
            light_degrees: 60.0,
            edge_depth: 0.15,
            layered: 0.5,
            layer_height: 0.5,
        }
    }
}

/// Texels along each side of a mask cell.
pub const RELIEF_SCALE: usize = 2;

impl ReliefSpec {
    /// Checks that all values are in range.
    ///
    /// # Errors
    /// Names the first key that is out of range.
    pub fn check(&self) -> Result<(), SpecError> {
        self.colour.check("colour")?;
        self.edge_colour.check("edge_colour")?;
        within("light_degrees", self.light_degrees, -1e6, 1e6, "degrees")?;
        within("edge_depth", self.edge_depth, 0.001, 1000.0, "m")?;
        within("layered", self.layered, 0.0, 1.0, "")?;
        within("layer_height", self.layer_height, 0.001, 1000.0, "m")
    }

    /// Paints the cells `x0..x1`, `y0..y1` of a mask (rows from its lower edge), [`RELIEF_SCALE`] texels a cell.
    ///
    /// # Errors
    /// When the range is outside the mask.
    pub fn paint(&self, mask: &Mask, [x0, y0, x1, y1]: [usize; 4]) -> Result<Picture, SpecError> {
        let (x1, y1) = (x1.min(mask.width()), y1.min(mask.height()));
        let (wide, high) = (x1.saturating_sub(x0) * RELIEF_SCALE, y1.saturating_sub(y0) * RELIEF_SCALE);
        let (sin, cos) = self.light_degrees.to_radians().sin_cos();
        let mut pixels = vec![[0u8; 4]; wide * high];
        pixels.par_chunks_mut(wide.max(1)).enumerate().for_each(|(row, pixels)| {
            let v = y1 as f32 - (row as f32 + 0.5) / RELIEF_SCALE as f32;
            for (column, pixel) in pixels.iter_mut().enumerate() {
                let u = x0 as f32 + (column as f32 + 0.5) / RELIEF_SCALE as f32;
                *pixel = self.texel(mask, u, v, [cos, sin]);
            }
        });
        Picture::new([wide as u32, high as u32], pixels)
    }

    /// Samples the mask at a position in cells from the lower left.
    fn texel(&self, mask: &Mask, u: f32, v: f32, light: [f32; 2]) -> [u8; 4] {
        let (distance, [nx, ny]) = mask.sample_cells(u, v);
        let alpha = (0.5 - distance * RELIEF_SCALE as f32 * 0.6).clamp(0.0, 1.0);
        if alpha == 0.0 {
            return [0; 4];
        }
        let cell = mask.cell();
        let depth = (-distance * cell).max(0.0);
        let (x, y) = (u * cell, v * cell);
        let per_layer = 1.0 / self.layer_height;
        // Layers dip and wander; grain is finer.
        let [bend, ..] = gust_noise([x * per_layer * 0.35, y * per_layer * 0.35, 0.0], 41);
        let layer = (y + x * 0.18 + bend * self.layer_height) * per_layer;
        let [tone, ..] = gust_noise([x * per_layer * 0.08, layer, 5.0], 42);
        let [crack, ..] = gust_noise([x * per_layer * 0.3, layer * 3.0, 9.0], 43);
        let [grain, fine, _] = gust_noise([x * per_layer * 2.6, y * per_layer * 2.6, 2.0], 44);
        let worn = 1.0 + self.layered * (tone * 0.9 + crack * 0.45 + grain * 0.25 + fine * 0.15);
        let facing = nx * light[0] + ny * light[1];
        let rim = (-depth / self.edge_depth).exp();
        // Light that grazes the face of the stone near the edge, then what the stone itself shows.
        let lit = rim * facing.max(0.0) * (1.0 + self.layered * grain * 0.6).max(0.0);
        let dull = 0.72 + 0.28 * (1.0 - (-depth / (self.edge_depth * 5.0)).exp());
        let shade = (worn * dull * (1.0 + 0.25 * rim * facing)).max(0.05);
        let mix = |stone: f32, edge: f32| stone * shade + edge * lit;
        let light = Colour::new(
            mix(self.colour.r, self.edge_colour.r),
            mix(self.colour.g, self.edge_colour.g),
            mix(self.colour.b, self.edge_colour.b),
        );
        let [r, g, b] = [light.r, light.g, light.b].map(srgb_byte);
        [r, g, b, (alpha * 255.0 + 0.5) as u8]
    }
}
