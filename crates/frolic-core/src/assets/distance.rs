//! A grid of signed distances to a surface: negative inside. Keeps its place and scale in the world.

use glam::Vec3;

use crate::assets::sums;
use crate::foundations::error::{SpecError, vector_within, within};

/// Signed distances, m, at the points of a regular grid.
///
/// Rows run along x, layers of rows along y, layers along z: the value at `(x, y, z)` is the `(z * ny + y) * nx + x`th.
#[derive(Debug, Clone, PartialEq)]
pub struct DistanceGrid {
    points: [usize; 3],
    origin: [f32; 3],
    cell: f32,
    values: Vec<f32>,
    /// Cells whose middle is inside, and rising sums of their share.
    inside: (Vec<u32>, Vec<f32>),
}

/// Most points a side, and in all.
const MOST_SIDE: usize = 1024;
const MOST_POINTS: usize = 1 << 28;

impl DistanceGrid {
    /// A grid with so many points along x, y and z, the first at `origin`, m, and `cell` m from one to the next.
    ///
    /// # Errors
    /// Sides out of 2..=1024, more than 2^28 points, another count of values, values that are not finite, a place or cell out of range.
    pub fn new(points: [usize; 3], origin: [f32; 3], cell: f32, values: Vec<f32>) -> Result<Self, SpecError> {
        vector_within("origin", origin, 1e6, "m")?;
        within("cell", cell, 1e-6, 1e5, "m")?;
        check_points(points)?;
        let [nx, ny, nz] = points;
        if values.len() != nx * ny * nz {
            let problem = format!("{} values for {nx} x {ny} x {nz} points", values.len());
            return Err(SpecError::new("values", problem, "write one a point"));
        }
        if let Some(at) = values.iter().position(|value| !value.is_finite()) {
            return Err(SpecError::new(
                "values",
                format!("value {at} is {}", values[at]),
                "write finite ones",
            ));
        }
        let mut grid = Self { points, origin, cell, values, inside: (Vec::new(), Vec::new()) };
        grid.inside = grid.find_inside();
        Ok(grid)
    }

    /// Cells that hold some of the inside, weighted by how much of them is inside.
    fn find_inside(&self) -> (Vec<u32>, Vec<f32>) {
        let [nx, ny, nz] = self.points;
        let mut cells = Vec::new();
        let mut shares = Vec::new();
        for z in 0..nz - 1 {
            for y in 0..ny - 1 {
                for x in 0..nx - 1 {
                    let middle = self.corners(x, y, z).iter().sum::<f32>() / 8.0;
                    let share = (0.5 - middle / self.cell).clamp(0.0, 1.0);
                    if share > 0.0 {
                        cells.push(((z * ny + y) * nx + x) as u32);
                        shares.push(share);
                    }
                }
            }
        }
        let sums = sums(shares.into_iter());
        (cells, sums)
    }

    /// Points along x, y and z.
    pub fn points(&self) -> [usize; 3] {
        self.points
    }

    /// Where its first point is, m.
    pub fn origin(&self) -> [f32; 3] {
        self.origin
    }

    /// Distance between neighbours, m.
    pub fn cell(&self) -> f32 {
        self.cell
    }

    /// The distance at every point, m.
    pub fn values(&self) -> &[f32] {
        &self.values
    }

    /// Least and greatest x, y, z, m.
    pub fn bounds(&self) -> [Vec3; 2] {
        let low = Vec3::from(self.origin);
        let steps = Vec3::from(self.points.map(|points| (points - 1) as f32));
        [low, low + steps * self.cell]
    }

    /// The same elsewhere, larger or smaller: scaled about the world's origin, then moved, m.
    ///
    /// # Errors
    /// When the factor is not from 1e-4 to 1e4 or it ends up out of range.
    pub fn placed(&self, scale: f32, offset: [f32; 3]) -> Result<Self, SpecError> {
        within("scale", scale, 1e-4, 1e4, "")?;
        let origin = (Vec3::from(self.origin) * scale + Vec3::from(offset)).to_array();
        let values = self.values.iter().map(|value| value * scale).collect();
        Self::new(self.points, origin, self.cell * scale, values)
    }

    /// Volume of the inside, m³.
    pub fn volume(&self) -> f32 {
        self.inside.1.last().copied().unwrap_or(0.0) * self.cell * self.cell * self.cell
    }

    fn corners(&self, x: usize, y: usize, z: usize) -> [f32; 8] {
        let [nx, ny, _] = self.points;
        let at = (z * ny + y) * nx + x;
        let (up, on) = (nx, nx * ny);
        let v = &self.values;
        [
            v[at],
            v[at + 1],
            v[at + up],
            v[at + up + 1],
            v[at + on],
            v[at + on + 1],
            v[at + on + up],
            v[at + on + up + 1],
        ]
    }

    /// Signed distance at a place, m, and the direction in which it grows most (not of length 1 everywhere).
    ///
    /// Straight between the points around. Outside of the grid no more than the true distance: all of the surface is beyond the nearest
    /// point of the grid, square to the way there or further.
    pub fn sample(&self, place: Vec3) -> (f32, Vec3) {
        let [low, high] = self.bounds();
        let held = place.clamp(low, high);
        // A place that is no number is the first.
        let at = ((held - low) / self.cell).max(Vec3::ZERO);
        let mut cell = [0usize; 3];
        let mut part = [0f32; 3];
        for axis in 0..3 {
            cell[axis] = (at[axis] as usize).min(self.points[axis] - 2);
            part[axis] = at[axis] - cell[axis] as f32;
        }
        let [fx, fy, fz] = part;
        let [a, b, c, d, e, f, g, h] = self.corners(cell[0], cell[1], cell[2]);
        let mix = |a: f32, b: f32, t: f32| a + (b - a) * t;
        let (ab, cd, ef, gh) = (mix(a, b, fx), mix(c, d, fx), mix(e, f, fx), mix(g, h, fx));
        let (near, far) = (mix(ab, cd, fy), mix(ef, gh, fy));
        let gradient = Vec3::new(
            mix(mix(b - a, d - c, fy), mix(f - e, h - g, fy), fz),
            mix(cd - ab, gh - ef, fz),
            far - near,
        ) / self.cell;
        let value = mix(near, far, fz);
        let off = place - held;
        if off == Vec3::ZERO {
            return (value, gradient);
        }
        let out = off + gradient.normalize_or_zero() * value.max(0.0);
        let distance = (off.length_squared() + value.max(0.0) * value.max(0.0)).sqrt();
        (distance, out.normalize_or_zero())
    }

    /// Signed distance at a place, m.
    pub fn at(&self, place: Vec3) -> f32 {
        self.sample(place).0
    }

    /// A place inside, evenly over the volume, for draws 0..1; `None` where nothing is inside.
    pub(crate) fn within(&self, [which, u, v]: [f32; 3], w: f32) -> Option<Vec3> {
        let (cells, shares) = &self.inside;
        if cells.is_empty() {
            return None;
        }
        let (nth, _) = super::pick(shares, which);
        let [nx, ny, _] = self.points;
        let cell = cells[nth] as usize;
        let (x, y, z) = (cell % nx, cell / nx % ny, cell / (nx * ny));
        let place = Vec3::from(self.origin)
            + (Vec3::new(x as f32, y as f32, z as f32) + Vec3::new(u, v, w)) * self.cell;
        // A cell that the surface cuts: what lies outside is brought in to the surface.
        let (distance, gradient) = self.sample(place);
        Some(if distance > 0.0 { place - gradient.normalize_or_zero() * distance } else { place })
    }

    /// A place on its surface for draws 0..1: one of the inside, brought out along the gradient.
    pub(crate) fn on_surface(&self, draws: [f32; 3], w: f32) -> Option<(Vec3, Vec3)> {
        let mut place = self.within(draws, w)?;
        let mut normal = Vec3::Y;
        for _ in 0..8 {
            let (distance, gradient) = self.sample(place);
            normal = gradient.normalize_or(normal);
            place -= normal * distance;
        }
        Some((place, normal))
    }
}

/// Whether a grid may have so many points.
pub(crate) fn check_points(points: [usize; 3]) -> Result<(), SpecError> {
    let all: usize = points.iter().try_fold(1usize, |all, &side| all.checked_mul(side)).unwrap_or(usize::MAX);
    if points.iter().any(|side| !(2..=MOST_SIDE).contains(side)) || all > MOST_POINTS {
        let problem = format!("{points:?} points");
        return Err(SpecError::new(
            "points",
            problem,
            format!("write 2 to {MOST_SIDE} a side, at most 2^28 in all"),
        ));
    }
    Ok(())
}
