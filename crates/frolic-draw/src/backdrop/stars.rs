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
    #[cfg(test)]
    cell: Vec3,
    way: Vec3,
    light: Vec3,
}

/// A star in a picture.
#[derive(Debug, Clone, Copy, Default)]
pub(super) struct SeenStar {
    /// Middle, in pixels.
    pub(super) x: f32,
    pub(super) y: f32,
    /// Light at the middle.
    pub(super) light: [f32; 3],
}

/// The stars of a picture.
#[derive(Debug, Clone, Default)]
pub(super) struct SeenStars {
    /// Row by row.
    stars: Vec<SeenStar>,
    /// First star of each row of pixels, from [`ABOVE`] rows above the picture on, and the end; empty without stars.
    starts: Vec<u32>,
}

/// Rows above and below its own that a star may touch.
const ABOVE: usize = 2;

/// Focal length in pixels below which stars are dimmed: pixels there hold so much sky that it would be full of them.
const COARSE: f32 = 300.0;

impl SeenStars {
    /// The stars of a view of a sky with this brightness.
    pub(super) fn new(view: &View, brightness: f32) -> Self {
        if brightness == 0.0 {
            return Self::default();
        }
        let [width, height] = [view.size().width() as f32, view.size().height() as f32];
        let brightness = brightness * (view.focal / COARSE).min(1.0).powi(2);
        let rows = view.size().height() + 2 * ABOVE;
        let (mut found, mut starts) = (Vec::new(), vec![0u32; rows + 1]);
        for star in all() {
            let depth = star.way.dot(view.forward);
            if depth < 0.01 {
                continue;
            }
            let x = width * 0.5 + view.focal * star.way.dot(view.right) / depth;
            let y = height * 0.5 - view.focal * star.way.dot(view.up) / depth;
            if (-RADIUS..width + RADIUS).contains(&x) && (-RADIUS..height + RADIUS).contains(&y) {
                found.push(SeenStar { x, y, light: (star.light * brightness).to_array() });
                starts[row_of(y) + 1] += 1;
            }
        }
        for row in 0..rows {
            starts[row + 1] += starts[row];
        }
        let mut next = starts.clone();
        let mut stars = vec![SeenStar::default(); found.len()];
        for star in found {
            let at = &mut next[row_of(star.y)];
            stars[*at as usize] = star;
            *at += 1;
        }
        Self { stars, starts }
    }

    /// The stars that may touch a row of pixels.
    #[inline(always)]
    pub(super) fn row(&self, y: usize) -> &[SeenStar] {
        match (self.starts.get(y), self.starts.get(y + 2 * ABOVE + 1)) {
            (Some(from), Some(to)) => &self.stars[*from as usize..*to as usize],
            _ => &[],
        }
    }
}

/// Number of a row of pixels, counted from [`ABOVE`] rows above the picture.
fn row_of(y: f32) -> usize {
    (y + ABOVE as f32) as usize
}

impl SeenStar {
    /// Share of its light in a pixel, so far from its middle.
    #[inline(always)]
    pub(super) fn share(&self, x: f32, y: f32) -> f32 {
        let (dx, dy) = (self.x - x, self.y - y);
        (1.0 - (dx * dx + dy * dy) * (1.0 / (RADIUS * RADIUS))).max(0.0)
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
    // Air hides stars near the horizon.
    let clear = 1.0 - libm::expf(-way.y.max(0.0) * 7.0);
    Some(Star {
        #[cfg(test)]
        cell,
        way,
        light: colour * (bright * clear),
    })
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

    /// A star is seen where it is: the rows around it list it, and its light is greatest in its own pixel.
    #[test]
    fn stars_are_where_they_project() {
        let camera = CameraSpec::new([0.0, 1.0, 0.0], [3.0, 9.0, -8.0], 60.0);
        let view = camera.view(ImageSize::new(320, 200).unwrap()).unwrap();
        let seen = SeenStars::new(&view, 1.0);
        assert!(seen.stars.len() > 100 && SeenStars::new(&view, 0.0).row(0).is_empty());
        let mut listed = 0;
        for y in 0..200 {
            listed += seen.row(y).len();
            for star in seen.row(y) {
                let ray = view.ray(star.x, star.y);
                assert!(all().iter().any(|other| (other.way - ray).length() < 1e-4));
            }
        }
        for star in &seen.stars {
            let touched = (0..200).filter(|y| star.share(star.x, *y as f32 + 0.5) > 0.0);
            for y in touched {
                assert!(seen.row(y).iter().any(|other| (other.x, other.y) == (star.x, star.y)));
            }
            let home = star.share(star.x.floor() + 0.5, star.y.floor() + 0.5);
            assert!(home >= star.share(star.x.floor() + 1.5, star.y.floor() + 0.5) && home > 0.7);
        }
        assert!(listed > seen.stars.len() * 4);
        let coarse = camera.view(ImageSize::new(32, 20).unwrap()).unwrap();
        let light = |seen: &SeenStars| seen.stars.iter().map(|star| star.light[0]).sum::<f32>();
        assert!(light(&SeenStars::new(&coarse, 1.0)) < light(&seen) * 0.1);
    }
}
