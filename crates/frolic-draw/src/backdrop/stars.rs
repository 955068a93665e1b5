//! Stars: at most one in a cell of a lattice over the sphere, few of them bright. They are the same in every sky, so they are listed once in a program.

use std::sync::OnceLock;

use frolic_core::random::{hash3, unit};
use glam::Vec3;

use crate::camera::View;

/// Cells of the lattice along the radius of the sphere.
const CELLS: i32 = 90;

/// Share of the cells that have a star.
const SHARE: f32 = 0.2;

/// Distance from its middle, in pixels, at which a star ends.
const RADIUS: f32 = 1.5;

/// A star of the sky.
#[derive(Debug, Clone, Copy)]
struct Star {
    cell: Vec3,
    way: Vec3,
    light: Vec3,
}

/// A star in a picture.
#[derive(Debug, Clone, Copy)]
pub(super) struct SeenStar {
    /// Middle, in pixels.
    pub(super) x: f32,
    y: f32,
    cell: Vec3,
    way: Vec3,
    /// Light at the middle and the zenith.
    pub(super) light: [f32; 3],
}

/// The stars of a picture, from the top down.
#[derive(Debug, Clone, Default)]
pub(super) struct SeenStars(Vec<SeenStar>);

impl SeenStars {
    /// The stars of a view of a sky with this brightness.
    pub(super) fn new(view: &View, brightness: f32) -> Self {
        if brightness == 0.0 {
            return Self::default();
        }
        let [width, height] = [view.size().width() as f32, view.size().height() as f32];
        let mut seen = Vec::new();
        for star in all() {
            let depth = star.way.dot(view.forward);
            if depth < 0.01 {
                continue;
            }
            let x = width * 0.5 + view.focal * star.way.dot(view.right) / depth;
            let y = height * 0.5 - view.focal * star.way.dot(view.up) / depth;
            if (-RADIUS..width + RADIUS).contains(&x) && (-RADIUS..height + RADIUS).contains(&y) {
                let light = (star.light * brightness).to_array();
                seen.push(SeenStar { x, y, cell: star.cell, way: star.way, light });
            }
        }
        seen.sort_unstable_by(|a, b| a.y.total_cmp(&b.y));
        Self(seen)
    }

    /// The stars that may touch a row of pixels.
    pub(super) fn row(&self, y: f32) -> &[SeenStar] {
        let from = self.0.partition_point(|star| star.y < y + 0.5 - RADIUS - 0.5);
        let to = self.0.partition_point(|star| star.y <= y + 0.5 + RADIUS + 0.5);
        &self.0[from..to]
    }
}

impl SeenStar {
    /// Share of its light in the direction of a pixel, with the focal length in pixels. It keeps to its cell, so that a coarse picture is not full
    /// of stars.
    pub(super) fn share(&self, ray: Vec3, focal: f32) -> f32 {
        let off = (self.way - ray).length() * focal;
        let near = 1.0 - off * off * 0.45;
        if near <= 0.0 || (ray * CELLS as f32).floor() != self.cell {
            return 0.0;
        }
        // Air hides stars near the horizon.
        (1.0 - libm::expf(-ray.y.max(0.0) * 7.0)) * near
    }
}

/// All stars above the horizon.
fn all() -> &'static [Star] {
    static ALL: OnceLock<Vec<Star>> = OnceLock::new();
    ALL.get_or_init(|| {
        let mut stars = Vec::new();
        let radius = CELLS as f32;
        for x in -CELLS - 1..=CELLS {
            for y in 0..=CELLS {
                let flat = (x * x + y * y) as f32;
                let high = (radius * radius - flat).max(0.0).sqrt() as i32;
                for side in [-1, 1] {
                    // The sphere crosses more cells of a column where it is steep.
                    let (near, far) = if high < 24 { (0, 26) } else { (high - 12, high + 4) };
                    for z in near..=far {
                        let z = if side < 0 { -1 - z } else { z };
                        stars.extend(star(x, y, z));
                    }
                }
            }
        }
        stars
    })
}

/// The star of a cell that the sphere crosses, if it has one.
fn star(x: i32, y: i32, z: i32) -> Option<Star> {
    let [a, b, c] = hash3(x as u32, y as u32, z as u32);
    let [d, tint, chance] = hash3(a, b, c).map(unit);
    if chance > SHARE {
        return None;
    }
    let cell = Vec3::new(x as f32, y as f32, z as f32);
    let way = (cell + Vec3::new(unit(a), unit(b), unit(c)) * 0.8 + 0.1).normalize();
    let bright = d.powi(10) * 2.6 + 0.07;
    let colour = Vec3::new(0.85, 0.92, 1.0).lerp(Vec3::new(1.0, 0.86, 0.7), tint);
    Some(Star { cell, way, light: colour * bright })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::camera::CameraSpec;
    use crate::image::ImageSize;

    /// Each star is listed once, in its cell, and none that the sphere crosses is left out.
    #[test]
    fn every_star_is_there_once() {
        let mut cells: Vec<[i32; 3]> =
            all().iter().map(|star| star.cell.to_array().map(|v| v as i32)).collect();
        cells.sort_unstable();
        let count = cells.len();
        cells.dedup();
        assert_eq!(cells.len(), count);
        let mut missing = 0;
        for nth in 0..200_000u32 {
            let [a, b, c] = hash3(nth, 5, 9).map(unit);
            let Some(way) = Vec3::new(a * 2.0 - 1.0, b, c * 2.0 - 1.0).try_normalize() else { continue };
            let cell = (way * CELLS as f32).floor().to_array().map(|v| v as i32);
            let [x, y, z] = cell;
            missing += usize::from(star(x, y, z).is_some() && cells.binary_search(&cell).is_err());
        }
        assert_eq!(missing, 0);
    }

    /// A star is seen where it is: rows list it, and its light is greatest in its own pixel.
    #[test]
    fn stars_are_where_they_project() {
        let camera = CameraSpec::new([0.0, 1.0, 0.0], [3.0, 9.0, -8.0], 60.0);
        let view = camera.view(ImageSize::new(320, 200).unwrap()).unwrap();
        let seen = SeenStars::new(&view, 1.0);
        assert!(seen.0.len() > 100 && SeenStars::new(&view, 0.0).0.is_empty());
        for star in &seen.0 {
            let ray = view.ray(star.x, star.y);
            assert!((ray - star.way).length() < 1e-4);
            let is_home = (ray * CELLS as f32).floor() == star.cell;
            assert_eq!(star.share(ray, view.focal) > 0.0, is_home && ray.y > 0.0);
            let row = star.y.floor();
            assert!(seen.row(row).iter().any(|other| other.x == star.x && other.y == star.y));
        }
    }
}
