//! The backdrop: sky, ground and water.
//!
//! Four rays a pixel hit the sky, a far coast, the flat ground out to its shore, or the water beyond. Each of these is shaded once a pixel and weighted
//! by its rays, which smooths all edges. Depths of solid parts are kept too, so that elements fade softly into them.
//!
//! The backdrop is kept while its picture stays the same. While a camera moves, its light is painted tile by tile, after what is solid and only where
//! that leaves a pixel open. Rows of pixels are painted together, and only those that the horizon crosses pixel by pixel; what changes slowly along a row is
//! worked out at every sixteenth pixel, and wide waves at every second.
//!
//! | question | file |
//! | --- | --- |
//! | what can be set? | `spec.rs` |
//! | what is kept from frame to frame? | `kept.rs` |
//! | what does a pixel show? | `painter.rs` |
//! | the same for a row of pixels? | `brush.rs`, `lanes/` |
//! | where does mottling come from? | `lattice.rs` |
//! | where are coast and shore? | `outline.rs` |
//! | where are stars? | `stars.rs` |

mod brush;
mod kept;
mod lanes;
mod lattice;
mod outline;
mod painter;
mod spec;
mod stars;

use frolic_raster::tile::STRIDE;
use frolic_simd::detect;
use rayon::prelude::*;

use crate::camera::View;
use crate::lamps::{LightSpec, SunSpec};
use brush::Brush;
use lanes::{ROW, Sunny};
use stars::SeenStars;

pub(crate) use brush::first_pixels;
pub use kept::BackdropKey;
pub(crate) use kept::{Backdrop, BackdropLight, BackdropTile};
pub use spec::{BackdropSpec, GroundSpec, SkySpec, WaterSpec};

/// A backdrop for a backend that uploads textures: planes of pixels, rows from the top.
#[derive(Debug, Clone, PartialEq)]
#[non_exhaustive]
pub struct BackdropPlanes {
    /// Light without sunlight on the ground.
    pub light: Vec<[f32; 3]>,
    /// Unshadowed sunlight.
    pub sun: Vec<[f32; 3]>,
    /// Depth of solid parts along the view in metres; infinite in the sky.
    pub depth: Vec<f32>,
}

impl BackdropPlanes {
    /// Paints the backdrop on all cores.
    pub fn paint(view: &View, spec: &BackdropSpec, lights: &[LightSpec], sun: Option<&SunSpec>) -> Self {
        let mut stars = SeenStars::default();
        stars.see(view, spec.sky.stars);
        let brush = Brush::new(view, spec, lights, sun, &stars, detect());
        let (width, height) = (view.size().width(), view.size().height());
        let mut planes = Self {
            light: vec![[0.0; 3]; width * height],
            sun: vec![[0.0; 3]; width * height],
            depth: vec![f32::INFINITY; width * height],
        };
        let rows = planes
            .light
            .par_chunks_mut(width)
            .zip(planes.sun.par_chunks_mut(width))
            .zip(planes.depth.par_chunks_mut(width));
        rows.enumerate().for_each(|(y, ((light, sun), depth))| {
            let dark = [[0.0; STRIDE]; 3];
            let (mut row, mut sun_row, mut depths) = (dark, dark, [0.0; STRIDE]);
            for from in (0..width).step_by(ROW) {
                let count = ROW.min(width - from);
                let sunny = brush.light(from, y, first_pixels(count), &mut row, &mut sun_row);
                brush.depths(from, y, count, &mut depths);
                depth[from..from + count].copy_from_slice(&depths[..count]);
                for i in 0..count {
                    light[from + i] = row.each_ref().map(|line| line[i]);
                    if sunny == Sunny::Yes {
                        sun[from + i] = sun_row.each_ref().map(|line| line[i]);
                    }
                }
            }
        });
        planes
    }
}
