//! A surface of triangles: positions on it, along its edges and at its corners.

use std::sync::OnceLock;

use glam::Vec3;

use super::{pick, sums};
use crate::foundations::error::SpecError;

/// Triangles over shared corners.
#[derive(Debug, Clone)]
pub struct Surface {
    corners: Vec<Vec3>,
    triangles: Vec<[u32; 3]>,
    low: Vec3,
    high: Vec3,
    areas: OnceLock<Vec<f32>>,
    edges: OnceLock<(Vec<[u32; 2]>, Vec<f32>)>,
}

/// Most triangles, and most corners.
const MOST: usize = 16 << 20;

impl Surface {
    /// Triangles by corners (m) and indices, three each, anticlockwise as seen from outside.
    ///
    /// # Errors
    /// There are no triangles, or over 16 million; an index without a corner; a position that is not finite or beyond 1e6 m.
    pub fn new(corners: Vec<[f32; 3]>, triangles: Vec<[u32; 3]>) -> Result<Self, SpecError> {
        let wrong = |problem: String| {
            Err(SpecError::new("mesh", problem, "give whole triangles over finite corners"))
        };
        if triangles.is_empty() || triangles.len() > MOST || corners.len() > MOST {
            return wrong(format!("{} triangles over {} corners", triangles.len(), corners.len()));
        }
        if let Some(bad) = triangles.iter().flatten().find(|&&index| index as usize >= corners.len()) {
            return wrong(format!("corner {bad} of {}", corners.len()));
        }
        if let Some(bad) = corners.iter().position(|at| at.iter().any(|x| !x.is_finite() || x.abs() > 1e6)) {
            return wrong(format!("corner {bad} is at {:?}", corners[bad]));
        }
        Ok(Self::over(corners.into_iter().map(Vec3::from).collect(), triangles))
    }

    fn over(corners: Vec<Vec3>, triangles: Vec<[u32; 3]>) -> Self {
        let used = || triangles.iter().flatten().map(|&index| corners[index as usize]);
        let low = used().fold(Vec3::INFINITY, Vec3::min);
        let high = used().fold(Vec3::NEG_INFINITY, Vec3::max);
        Self { corners, triangles, low, high, areas: OnceLock::new(), edges: OnceLock::new() }
    }

    /// A rounded block of radius 1 about the origin, with `detail` strips to each side and about 12 `detail`² triangles: a closed surface for
    /// trials. Detail is clamped to 1..=512.
    pub fn ball(detail: u32) -> Self {
        let n = detail.clamp(1, 512);
        let mut corners = Vec::new();
        let mut triangles = Vec::new();
        for (x, y, z) in [
            (Vec3::X, Vec3::Y, Vec3::Z),
            (Vec3::Y, Vec3::Z, Vec3::X),
            (Vec3::Z, Vec3::X, Vec3::Y),
            (Vec3::Y, Vec3::X, Vec3::NEG_Z),
            (Vec3::Z, Vec3::Y, Vec3::NEG_X),
            (Vec3::X, Vec3::Z, Vec3::NEG_Y),
        ] {
            let first = corners.len() as u32;
            for j in 0..=n {
                for i in 0..=n {
                    let across = |k: u32| (k as f32 / n as f32) * 2.0 - 1.0;
                    corners.push((x * across(i) + y * across(j) + z).normalize());
                }
            }
            for j in 0..n {
                for i in 0..n {
                    let a = first + j * (n + 1) + i;
                    let (b, c, d) = (a + 1, a + n + 1, a + n + 2);
                    triangles.extend([[a, b, d], [a, d, c]]);
                }
            }
        }
        Self::over(corners, triangles)
    }

    /// The surface scaled by a factor, turned about y, in radians, and then moved, in metres.
    pub fn placed(&self, scale: f32, turn: f32, offset: [f32; 3]) -> Result<Self, SpecError> {
        let (sin, cos) = libm::sincosf(turn);
        let put = |at: &Vec3| {
            let at = *at * scale;
            (Vec3::new(at.x * cos + at.z * sin, at.y, at.z * cos - at.x * sin) + Vec3::from(offset))
                .to_array()
        };
        Self::new(self.corners.iter().map(put).collect(), self.triangles.clone())
    }

    /// Positions of its corners, in metres.
    pub fn corners(&self) -> &[Vec3] {
        &self.corners
    }

    /// Its triangles, as indices of corners.
    pub fn triangles(&self) -> &[[u32; 3]] {
        &self.triangles
    }

    /// The corners of a triangle.
    pub(crate) fn triangle(&self, nth: usize) -> [Vec3; 3] {
        self.triangles[nth].map(|index| self.corners[index as usize])
    }

    /// Least and greatest x, y, z of all triangles, in metres.
    pub fn bounds(&self) -> [Vec3; 2] {
        [self.low, self.high]
    }

    /// Area of all triangles, m².
    pub fn area(&self) -> f32 {
        self.areas().last().copied().unwrap_or(0.0)
    }

    fn areas(&self) -> &[f32] {
        self.areas.get_or_init(|| {
            let area = |nth| {
                let [a, b, c] = self.triangle(nth);
                (b - a).cross(c - a).length() * 0.5
            };
            sums((0..self.triangles.len()).map(area))
        })
    }

    /// Each edge once, with the running sums of their lengths.
    fn edges(&self) -> &(Vec<[u32; 2]>, Vec<f32>) {
        self.edges.get_or_init(|| {
            let sides = |&[a, b, c]: &[u32; 3]| [[a, b], [b, c], [c, a]];
            let mut edges: Vec<[u32; 2]> =
                self.triangles.iter().flat_map(sides).map(|[a, b]| [a.min(b), a.max(b)]).collect();
            edges.sort_unstable();
            edges.dedup();
            let length = |&[a, b]: &[u32; 2]| self.corners[a as usize].distance(self.corners[b as usize]);
            let lengths = sums(edges.iter().map(length));
            (edges, lengths)
        })
    }

    /// A position on the surface, uniform by area, and its normal, for three random numbers 0..1.
    pub(crate) fn on(&self, [which, u, v]: [f32; 3]) -> (Vec3, Vec3) {
        let (nth, _) = pick(self.areas(), which);
        let [a, b, c] = self.triangle(nth);
        // Turk, "Generating Random Points in Triangles" (1990).
        let root = u.sqrt();
        let place = a * (1.0 - root) + b * (root * (1.0 - v)) + c * (root * v);
        (place, (b - a).cross(c - a).normalize_or(Vec3::Y))
    }

    /// A position along its edges, uniform by length, for a random number 0..1.
    pub(crate) fn along(&self, draw: f32) -> Vec3 {
        let (edges, lengths) = self.edges();
        let (nth, share) = pick(lengths, draw);
        let [a, b] = edges[nth];
        self.corners[a as usize].lerp(self.corners[b as usize], share)
    }

    /// One of its corners, for a random number 0..1.
    pub(crate) fn corner(&self, draw: f32) -> Vec3 {
        let nth = (draw * self.corners.len() as f32) as usize;
        self.corners[nth.min(self.corners.len() - 1)]
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_ball_is_closed_and_faces_outwards() {
        let ball = Surface::ball(12);
        assert!((ball.area() / (4.0 * std::f32::consts::PI) - 1.0).abs() < 0.02, "{}", ball.area());
        for nth in 0..ball.triangles().len() {
            let [a, b, c] = ball.triangle(nth);
            assert!((b - a).cross(c - a).dot(a) > 0.0);
        }
        // Six faces of 12 x 12 squares with a diagonal each; edges between faces belong to both, as their corners do.
        assert_eq!(ball.edges().0.len(), 6 * (3 * 12 * 12 + 2 * 12));
    }

    #[test]
    fn files_without_a_mesh_are_refused() {
        assert!(Surface::new(vec![], vec![]).is_err());
        assert!(Surface::new(vec![[0.0; 3]; 3], vec![[0, 1, 3]]).is_err());
        assert!(Surface::new(vec![[f32::NAN, 0.0, 0.0]; 3], vec![[0, 1, 2]]).is_err());
        assert!(Surface::new(vec![[1e30, 0.0, 0.0]; 3], vec![[0, 1, 2]]).is_err());
    }
}
