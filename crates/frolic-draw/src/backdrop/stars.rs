//! Stars: at most one in a cell of a lattice over the sphere, few of them bright. They are the same in every sky, so they are listed once in a program.

use std::collections::BTreeMap;
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

/// 1 over its square.
pub(super) const PER_SQUARE: f32 = 1.0 / (RADIUS * RADIUS);

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

/// The stars of a picture. Its memory is used again for the next picture.
#[derive(Debug, Clone, Default)]
pub(super) struct SeenStars {
    found: Vec<SeenStar>,
    /// Row by row of each [`COLUMN`]; those at the edge of two are in both.
    stars: Vec<SeenStar>,
    /// First star of each row of pixels of each column, from [`ABOVE`] rows above the picture on, and the end; empty without stars.
    starts: Vec<u32>,
    rows: usize,
}

/// Pixels of a column.
const COLUMN: usize = 64;

/// Rows above and below its own that a star may touch.
const ABOVE: usize = 2;

/// Focal length in pixels below which stars are dimmed: pixels there hold so much sky that it would be full of them.
const COARSE: f32 = 300.0;

impl SeenStars {
    /// Finds the stars of a view of a sky with this brightness.
    pub(super) fn see(&mut self, view: &View, brightness: f32) {
        self.found.clear();
        self.starts.clear();
        let [width, height] = [view.size().width() as f32, view.size().height() as f32];
        let half = Vec3::new(width * 0.5, height * 0.5, 0.0).length();
        let reach = libm::atan2f(half, view.focal);
        let brightness = brightness * (view.focal / COARSE).min(1.0).powi(2);
        let groups = if brightness > 0.0 { all() } else { &[] };
        for group in groups {
            let within = libm::acosf(group.way.dot(view.forward).clamp(-1.0, 1.0)) < reach + group.reach;
            for star in group.stars.iter().filter(|_| within) {
                let depth = star.way.dot(view.forward);
                if depth < 0.01 {
                    continue;
                }
                let x = width * 0.5 + view.focal * star.way.dot(view.right) / depth;
                let y = height * 0.5 - view.focal * star.way.dot(view.up) / depth;
                if (-RADIUS..width + RADIUS).contains(&x) && (-RADIUS..height + RADIUS).contains(&y) {
                    self.found.push(SeenStar { x, y, light: (star.light * brightness).to_array() });
                }
            }
        }
        if self.found.is_empty() {
            return;
        }
        self.rows = view.size().height() + 2 * ABOVE;
        let columns = view.size().width().div_ceil(COLUMN);
        let cells = |star: &SeenStar, rows: usize| {
            let column = |x: f32| (x.max(0.0) as usize / COLUMN).min(columns - 1);
            let row = (star.y + ABOVE as f32) as usize;
            (column(star.x - RADIUS)..=column(star.x + RADIUS)).map(move |column| column * rows + row)
        };
        // Sorted by counting.
        self.starts.resize(columns * self.rows + 1, 0);
        for star in &self.found {
            cells(star, self.rows).for_each(|cell| self.starts[cell] += 1);
        }
        let mut sum = 0;
        for start in &mut self.starts {
            sum += *start;
            *start = sum;
        }
        self.stars.resize(sum as usize, SeenStar::default());
        for star in &self.found {
            for cell in cells(star, self.rows) {
                self.starts[cell] -= 1;
                self.stars[self.starts[cell] as usize] = *star;
            }
        }
    }

    /// The stars that may touch the row of pixels from `x` on, up to the end of its column.
    #[inline(always)]
    pub(super) fn row(&self, x: usize, y: usize) -> &[SeenStar] {
        let first = x / COLUMN * self.rows + y;
        match (self.starts.get(first), self.starts.get(first + 2 * ABOVE + 1)) {
            (Some(from), Some(to)) => &self.stars[*from as usize..*to as usize],
            _ => &[],
        }
    }
}

impl SeenStar {
    /// Share of its light in a pixel, so far from its middle across and down.
    #[cfg(test)]
    fn share(&self, x: f32, y: f32) -> f32 {
        let (dx, dy) = (x - self.x, y - self.y);
        (1.0 - (dx * dx + dy * dy) * PER_SQUARE).max(0.0)
    }
}

/// Stars beside each other.
#[derive(Debug, Default)]
struct Group {
    way: Vec3,
    /// Angle from there to the farthest, in radians.
    reach: f32,
    stars: Vec<Star>,
}

/// Cells along each side of a group.
const GROUP: i32 = 18;

/// All stars above the horizon, in groups.
fn all() -> &'static [Group] {
    static ALL: OnceLock<Vec<Group>> = OnceLock::new();
    ALL.get_or_init(|| {
        let mut groups: BTreeMap<[i32; 3], Group> = BTreeMap::new();
        for star in every() {
            let place = star.way.to_array().map(|it| (it * CELLS as f32) as i32 / GROUP);
            groups.entry(place).or_default().stars.push(star);
        }
        let mut groups: Vec<Group> = groups.into_values().collect();
        for group in &mut groups {
            group.way = group.stars.iter().map(|star| star.way).sum::<Vec3>().normalize();
            let angle = |star: &Star| libm::acosf(group.way.dot(star.way).clamp(-1.0, 1.0));
            // What rounding loses is more than no angle.
            group.reach = group.stars.iter().map(angle).fold(0.0, f32::max) + 1e-3;
        }
        groups
    })
}

/// Each star above the horizon.
fn every() -> Vec<Star> {
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
    // Of the cells before and behind the sphere none is seen.
    if (way * CELLS as f32).floor() != cell {
        return None;
    }
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
            every().iter().map(|star| star.cell.to_array().map(|v| v as i32)).collect();
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
        let (mut seen, every) = (SeenStars::default(), every());
        seen.see(&view, 0.0);
        assert!(seen.row(0, 0).is_empty());
        seen.see(&view, 1.0);
        assert!(seen.found.len() > 100 && seen.stars.len() >= seen.found.len());
        for star in &seen.found {
            let ray = view.ray(star.x, star.y);
            assert!(every.iter().any(|other| (other.way - ray).length() < 1e-4));
            let row = star.y.max(0.0) as usize;
            for y in row.saturating_sub(3)..(row + 4).min(200) {
                for x in (0..320).filter(|x| star.share(*x as f32 + 0.5, y as f32 + 0.5) > 0.0) {
                    assert!(seen.row(x, y).iter().any(|other| (other.x, other.y) == (star.x, star.y)));
                }
            }
            let home = star.share(star.x.floor() + 0.5, star.y.floor() + 0.5);
            assert!(home >= star.share(star.x.floor() + 1.5, star.y.floor() + 0.5) && home > 0.7);
        }
        // None is left out with its group, wherever the view looks.
        for nth in 0..24 {
            let (sin, cos) = libm::sincosf(nth as f32);
            let target = [sin, 1.0 + nth as f32 * 0.1, cos];
            let view = CameraSpec::new([0.0, 1.0, 0.0], target, 60.0).view(ImageSize::new(320, 200).unwrap());
            let view = view.unwrap();
            seen.see(&view, 1.0);
            let inside = |star: &&Star| {
                let at = view.project((view.eye + star.way).to_array());
                at.is_some_and(|[x, y, _]| (0.0..320.0).contains(&x) && (0.0..200.0).contains(&y))
            };
            assert!(seen.found.len() >= every.iter().filter(inside).count());
        }
        let light = |seen: &SeenStars| seen.found.iter().map(|star| star.light[0]).sum::<f32>();
        let fine = light(&seen);
        seen.see(&camera.view(ImageSize::new(32, 20).unwrap()).unwrap(), 1.0);
        assert!(light(&seen) < fine * 0.1);
    }
}
