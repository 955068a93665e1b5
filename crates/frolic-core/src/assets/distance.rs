//! A grid of signed distances to a surface, negative inside, with its position and scale in the world.

use glam::Vec3;

use crate::assets::sums;
use crate::foundations::error::{SpecError, vector_within, within};

/// Signed distances, in metres, at the points of a regular grid.
///
/// Rows run along x, layers of rows along y, layers along z: the value at `(x, y, z)` is the `(z * ny + y) * nx + x`th.
#[derive(Debug, Clone, PartialEq)]
pub struct DistanceGrid {
    points: [usize; 3],
    origin: [f32; 3],
    cell: f32,
    values: Vec<f32>,
    /// Cells whose centre is inside, and the running sums of their share.
    inside: (Vec<u32>, Vec<f32>),
}

/// Most points along a side, and in all.
const MOST_SIDE: usize = 1024;
const MOST_POINTS: usize = 1 << 28;

impl DistanceGrid {
    /// A grid with these numbers of points along x, y and z. The first point is at `origin`, in metres, and the spacing is `cell`, in metres.
    ///
    /// # Errors
    /// Sides out of 2..=1024, more than 2^28 points, another number of values, values that are not finite, a position or cell out of range.
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

    /// Cells that contain part of the inside, weighted by that part.
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

    /// Numbers of points along x, y and z.
    pub fn points(&self) -> [usize; 3] {
        self.points
    }

    /// Position of its first point, in metres.
    pub fn origin(&self) -> [f32; 3] {
        self.origin
    }

    /// Distance between neighbours, in metres.
    pub fn cell(&self) -> f32 {
        self.cell
    }

    /// The distance at every point, in metres.
    pub fn values(&self) -> &[f32] {
        &self.values
    }

    /// Least and greatest x, y, z, in metres.
    pub fn bounds(&self) -> [Vec3; 2] {
        let low = Vec3::from(self.origin);
        let steps = Vec3::from(self.points.map(|points| (points - 1) as f32));
        [low, low + steps * self.cell]
    }

    /// The grid scaled about the world's origin and then moved, in metres.
    ///
    /// # Errors
    /// The factor is not from 1e-4 to 1e4, or the result is out of range.
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

    /// Signed distance at a position, in metres, and its gradient (not always of length 1).
    ///
    /// Trilinear between the points. Outside of the grid at most the true distance: the whole surface is behind the nearest
    /// point of the grid.
    pub fn sample(&self, place: Vec3) -> (f32, Vec3) {
        let [low, high] = self.bounds();
        let held = place.clamp(low, high);
        // A position that is not a number is taken as the first point.
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

    /// Signed distance at a position, in metres.
    pub fn at(&self, place: Vec3) -> f32 {
        self.sample(place).0
    }

    /// A position inside, uniform over the volume, for random numbers 0..1; `None` if there is no inside.
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
        // In a cell that the surface cuts, positions outside are moved to the surface.
        let (distance, gradient) = self.sample(place);
        Some(if distance > 0.0 { place - gradient.normalize_or_zero() * distance } else { place })
    }

    /// A position on the surface for random numbers 0..1: a position inside, moved out along the gradient.
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

/// Checks the number of points.
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
