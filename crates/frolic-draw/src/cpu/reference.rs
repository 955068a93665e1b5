//! The plain form of the rasteriser: one element after the other, one pixel after the other, over the whole picture.
//!
//! It shares nothing with the fast form but the definition of a splat. Tests hold the fast form to it; benches say how
//! much the tiles, bins and vectors are worth.

use super::project::{Splat, place, shade, splat};
use crate::camera::View;
use crate::image::ImageSize;
use crate::list::DrawList;

/// The splats of a draw list, in drawing order, one instance after the other; those that cannot be seen are left out.
pub fn splats(list: &DrawList<'_>, view: &View) -> Vec<Splat> {
    let mut splats = Vec::with_capacity(list.instances());
    for batch in list.batches() {
        let source = &list.sources[batch.source as usize];
        for nth in 0..batch.count {
            let vertex = shade(source, &list.lighting, list.element(batch, nth));
            splats.extend(splat(&vertex, place(view, vertex.centre)));
        }
    }
    splats
}

/// A picture in linear light: red, green and blue of each pixel, rows from the top.
#[derive(Debug, Clone)]
pub struct LinearImage {
    size: ImageSize,
    pixels: Vec<[f32; 3]>,
}

impl LinearImage {
    /// A picture of one colour.
    pub fn new(size: ImageSize, colour: [f32; 3]) -> Self {
        Self { size, pixels: vec![colour; size.width() * size.height()] }
    }

    /// All pixels.
    pub fn pixels(&self) -> &[[f32; 3]] {
        &self.pixels
    }

    /// Blends splats over the picture, in order, as if nothing solid stood before them.
    pub fn blend(&mut self, splats: impl IntoIterator<Item = Splat>) {
        let (width, height) = (self.size.width(), self.size.height());
        for splat in splats {
            let [x0, y0, x1, y1] = splat.bounds();
            let clip = |from: f32, to: f32, most: usize| {
                (from.floor().max(0.0) as usize, (to.ceil().max(0.0) as usize).min(most))
            };
            let ((i0, i1), (j0, j1)) = (clip(x0, x1, width), clip(y0, y1, height));
            for j in j0..j1 {
                for i in i0..i1 {
                    let (dx, dy) = (i as f32 + 0.5 - splat.x, j as f32 + 0.5 - splat.y);
                    let t = (1.0 - (dx * dx + dy * dy) / (splat.radius * splat.radius)).max(0.0);
                    let coverage = t * t;
                    let pixel = &mut self.pixels[j * width + i];
                    for (channel, light) in pixel.iter_mut().zip(splat.light) {
                        *channel = *channel * (1.0 - coverage * splat.cover) + light * coverage;
                    }
                }
            }
        }
    }

    /// The picture as 8-bit sRGB through the exposure and tone curve of a view, without bloom or dither, in double precision.
    pub fn to_srgb(&self, view: &View) -> Vec<[u8; 3]> {
        let channel = |light: f32| (srgb(tone(f64::from(light * view.exposure))) * 255.0 + 0.5) as u8;
        self.pixels.iter().map(|pixel| pixel.map(channel)).collect()
    }
}

/// The tone curve of `resolve.rs`.
pub fn tone(x: f64) -> f64 {
    let white = f64::from(super::resolve::WHITE);
    (x * (1.0 + x / (white * white)) / (1.0 + x)).clamp(0.0, 1.0)
}

/// Linear light 0..1 to sRGB 0..1 (IEC 61966-2-1).
pub fn srgb(x: f64) -> f64 {
    if x <= 0.003_130_8 { 12.92 * x } else { 1.055 * libm::pow(x, 1.0 / 2.4) - 0.055 }
}
