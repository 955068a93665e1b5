//! Pictures of a distance grid: a shaded view from above a corner, and slices through its middle perpendicular to x, y and z.

use frolic_core::DistanceGrid;
use glam::Vec3;
use rayon::prelude::*;

use frolic_draw::backend::srgb_byte;
use frolic_draw::{Image, ImageSize};

/// Draws a grid: the shaded view on the left, the three slices on the right, one below the other. In a slice the inside has warm colours and the
/// outside cold ones. Lines follow equal distances; the thick line is the surface.
pub fn preview(grid: &DistanceGrid, size: ImageSize) -> Image {
    let (wide, high) = (size.width(), size.height());
    // Slices are square; the view takes what is left.
    let side = (high / 3).max(1);
    let view_wide = wide.saturating_sub(side).max(1);
    let eye = Eye::new(grid, view_wide, high);
    let mut pixels = vec![[0u8; 4]; wide * high];
    pixels.par_chunks_mut(wide).enumerate().for_each(|(y, row)| {
        for (x, pixel) in row.iter_mut().enumerate() {
            let light = if x < view_wide {
                // Four rays a pixel, so that edges are smooth.
                let rays = [(0.125, 0.375), (0.625, 0.125), (0.375, 0.875), (0.875, 0.625)];
                rays.iter().map(|(u, v)| eye.see(grid, x as f32 + u, y as f32 + v)).sum::<Vec3>() / 4.0
            } else {
                let nth = (y / side).min(2);
                slice(grid, nth, (x - view_wide) as f32 + 0.5, (y - nth * side) as f32 + 0.5, side as f32)
            };
            let [r, g, b] = light.to_array().map(srgb_byte);
            *pixel = [r, g, b, 255];
        }
    });
    let mut image = Image::new(size);
    image.paint(|x, y| pixels[y as usize * wide + x as usize]);
    image
}

struct Eye {
    from: Vec3,
    right: Vec3,
    up: Vec3,
    ahead: Vec3,
    /// Half the size of the picture, in pixels, and the focal length, in pixels.
    half: [f32; 2],
    per_slope: f32,
    middle: Vec3,
    radius: f32,
}

impl Eye {
    fn new(grid: &DistanceGrid, wide: usize, high: usize) -> Self {
        let [low, high_corner] = grid.bounds();
        let (middle, radius) = ((low + high_corner) * 0.5, (high_corner - low).length() * 0.5);
        let ahead = Vec3::new(-0.62, -0.42, -0.66).normalize();
        let right = ahead.cross(Vec3::Y).normalize();
        let half = [wide as f32 * 0.5, high as f32 * 0.5];
        // The ball around the grid fills most of the shorter side.
        let far = radius * 2.6;
        let per_slope = half[0].min(half[1]) * (far * far - radius * radius).sqrt() / radius * 1.18;
        Self {
            from: middle - ahead * far,
            right,
            up: right.cross(ahead),
            ahead,
            half,
            per_slope,
            middle,
            radius,
        }
    }

    /// Returns the light that arrives along a ray.
    fn see(&self, grid: &DistanceGrid, x: f32, y: f32) -> Vec3 {
        let (u, v) = ((x - self.half[0]) / self.per_slope, (self.half[1] - y) / self.per_slope);
        let way = (self.ahead + self.right * u + self.up * v).normalize();
        let behind = Vec3::new(0.20, 0.23, 0.27)
            .lerp(Vec3::new(0.62, 0.64, 0.66), (y / self.half[1] * 0.5).clamp(0.0, 1.0));
        let key = Vec3::new(-0.35, 0.75, 0.56).normalize();
        let mut at = ((self.middle - self.from).dot(way) - self.radius).max(0.0);
        let end = at + self.radius * 2.0;
        let floor = self.floor(way, grid);
        for _ in 0..192 {
            let place = self.from + way * at;
            let (distance, gradient) = grid.sample(place);
            if distance < grid.cell() * 0.02 {
                let normal = gradient.normalize_or(Vec3::Y);
                return shade(grid, place, normal, way, key, Vec3::new(0.72, 0.50, 0.30));
            }
            at += distance.max(grid.cell() * 0.1);
            if at > end.min(floor.unwrap_or(f32::INFINITY)) {
                break;
            }
        }
        // Nothing but the table that it stands on, and its shadow there.
        match floor {
            Some(at) => {
                let place = self.from + way * at;
                let near = (1.0 - place.distance(self.middle) / (self.radius * 2.2)).clamp(0.0, 1.0);
                let seen = shade(grid, place, Vec3::Y, way, key, Vec3::new(0.40, 0.42, 0.45));
                behind.lerp(seen, near * near * (3.0 - 2.0 * near))
            }
            None => behind,
        }
    }

    fn floor(&self, way: Vec3, grid: &DistanceGrid) -> Option<f32> {
        let level = grid.bounds()[0].y;
        let at = (level - self.from.y) / way.y;
        (way.y < 0.0 && at > 0.0).then_some(at)
    }
}

/// Shades a surface point: key light with a soft shadow, sky light, rim light.
fn shade(grid: &DistanceGrid, place: Vec3, normal: Vec3, way: Vec3, key: Vec3, colour: Vec3) -> Vec3 {
    let cell = grid.cell();
    let mut lit = 1.0f32;
    let mut at = cell * 1.5;
    for _ in 0..48 {
        let distance = grid.at(place + normal * cell + key * at);
        lit = lit.min(0.5 + 0.5 * distance / (0.10 * at));
        at += distance.max(cell * 0.4);
        if lit <= 0.0 || at > cell * 160.0 {
            break;
        }
    }
    let lit = lit.clamp(0.0, 1.0);
    // How much of the sky a place sees: how fast it gets away from the surface.
    let open = (1..=4)
        .map(|k| grid.at(place + normal * (cell * 2.0 * k as f32)) / (cell * 2.0 * k as f32))
        .sum::<f32>()
        / 4.0;
    let open = open.clamp(0.0, 1.0);
    let sun = Vec3::new(1.25, 1.10, 0.90) * (normal.dot(key).max(0.0) * lit * lit * (3.0 - 2.0 * lit));
    let sky = Vec3::new(0.30, 0.36, 0.46) * (0.35 + 0.65 * (0.5 + 0.5 * normal.y)) * open;
    let rim = (1.0 + normal.dot(way)).clamp(0.0, 1.0).powi(3) * 0.20 * open;
    colour * (sun + sky) + Vec3::new(0.8, 0.9, 1.0) * rim
}

/// Returns the colour of a point of a slice.
fn slice(grid: &DistanceGrid, axis: usize, x: f32, y: f32, side: f32) -> Vec3 {
    let frame = Vec3::new(0.16, 0.18, 0.21);
    let inset = side * 0.025;
    if x < inset || y < inset || x > side - inset || y > side - inset {
        return frame;
    }
    let [low, high] = grid.bounds();
    let (middle, extent) = ((low + high) * 0.5, (high - low).max_element());
    let (u, v) = ((x / side - 0.5) * extent, (0.5 - y / side) * extent);
    let off = match axis {
        0 => Vec3::new(0.0, v, -u),
        1 => Vec3::new(u, 0.0, -v),
        _ => Vec3::new(u, v, 0.0),
    };
    let place = middle + off;
    if place.cmplt(low).any() || place.cmpgt(high).any() {
        return frame;
    }
    let distance = grid.at(place);
    let pixel = extent / side;
    let share = (distance.abs() / (extent * 0.22)).min(1.0);
    let base = if distance < 0.0 {
        Vec3::new(0.88, 0.52, 0.20).lerp(Vec3::new(0.34, 0.10, 0.03), share)
    } else {
        Vec3::new(0.62, 0.78, 0.86).lerp(Vec3::new(0.05, 0.12, 0.22), share)
    };
    // Lines of equal distance, a tenth of the extent apart in fours.
    let step = extent / 40.0;
    let off_line = (distance / step - (distance / step).round()).abs() * step;
    let line = (1.0 - off_line / pixel).clamp(0.0, 1.0) * 0.28;
    let edge = (1.6 - distance.abs() / pixel).clamp(0.0, 1.0);
    (base * (1.0 - line)).lerp(Vec3::new(0.98, 0.96, 0.90), edge)
}
