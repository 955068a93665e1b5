//! What is drawn of a mesh that is hardly larger than a pixel: fourteen pieces of its surface, from which the area that it covers and its mean colour
//! follow in any direction.

use frolic_raster::surfaces::MeshEight;
use frolic_raster::{LANES, Lanes};
use glam::{Vec2, Vec3};

use super::{MeshVertex, eight};

/// Pieces of the surface of a mesh, by the direction that they face. Lanes without a piece have no area.
#[derive(Debug, Clone, PartialEq)]
pub(crate) struct Pieces {
    /// Middle, direction and texture coordinates of each.
    pub(crate) eights: [MeshEight; 2],
    /// Area of each, in square metres at size 1.
    pub(crate) areas: [Lanes; 2],
    /// Whether they are seen from behind too.
    pub(crate) two_sided: bool,
}

/// Number of pieces, in as many lanes as hold them.
const MANY: usize = 14;
pub(crate) const LANES_OF_PIECES: usize = 2 * LANES;

/// Directions of the pieces: along the axes, and between three of them.
fn directions() -> [Vec3; MANY] {
    let mut all = [Vec3::ZERO; MANY];
    for axis in 0..3 {
        all[axis] = Vec3::AXES[axis];
        all[axis + 3] = -Vec3::AXES[axis];
    }
    for corner in 0..8 {
        let side = |bit: usize| if corner >> bit & 1 == 0 { 1.0 } else { -1.0 };
        all[6 + corner] = Vec3::new(side(0), side(1), side(2)).normalize();
    }
    all
}

impl Pieces {
    /// The pieces of a mesh. What hides itself from some directions is measured, and taken off all pieces.
    pub(crate) fn new(vertices: &[MeshVertex], triangles: &[[u16; 3]], radius: f32, closed: bool) -> Self {
        let directions = directions();
        // Vector area, and middle and texture coordinates times the area.
        let mut sums = [(Vec3::ZERO, Vec3::ZERO, Vec2::ZERO, 0.0f32); MANY];
        for triangle in triangles {
            let [a, b, c] = triangle.map(|index| vertices[usize::from(index)]);
            let normal = (b.position - a.position).cross(c.position - a.position) * 0.5;
            let area = normal.length();
            if !(area > 0.0 && area.is_finite()) {
                continue;
            }
            let along = |nth: &usize| directions[*nth].dot(normal);
            let nth = (0..MANY).max_by(|a, b| along(a).total_cmp(&along(b))).unwrap_or(0);
            let (vector, middle, uv, sum) = &mut sums[nth];
            *vector += normal;
            *middle += (a.position + b.position + c.position) * (area / 3.0);
            *uv += (a.uv + b.uv + c.uv) * (area / 3.0);
            *sum += area;
        }
        let mut points =
            [MeshVertex { position: Vec3::ZERO, normal: Vec3::Y, uv: Vec2::ZERO }; LANES_OF_PIECES];
        let mut areas = [0.0; LANES_OF_PIECES];
        for (nth, (vector, middle, uv, sum)) in sums.into_iter().enumerate() {
            points[nth].normal = vector.normalize_or(directions[nth]);
            if sum > 0.0 {
                (points[nth].position, points[nth].uv, areas[nth]) =
                    (middle / sum, uv / sum, vector.length());
            }
        }
        let two_sided = !closed;
        let seen = |from: Vec3| -> f32 {
            let of = |nth: usize| areas[nth] * facing(points[nth].normal.dot(from), two_sided);
            (0..MANY).map(of).sum()
        };
        // Half of the directions: a shape covers as much from behind.
        let from = || (0..3).chain(6..10).map(|nth| directions[nth]);
        let measured: f32 = from().map(|from| silhouette(vertices, triangles, radius, from)).sum();
        let guessed: f32 = from().map(seen).sum();
        let share = if guessed > 0.0 { measured / guessed } else { 0.0 };
        let areas = areas.map(|area| area * share);
        let (points, _) = points.as_chunks::<LANES>();
        let (areas, _) = areas.as_chunks::<LANES>();
        Self { eights: [eight(&points[0]), eight(&points[1])], areas: [areas[0], areas[1]], two_sided }
    }
}

/// Share of its area that a piece shows, by the cosine of its normal and the way to the eye.
#[inline(always)]
pub(crate) fn facing(cosine: f32, two_sided: bool) -> f32 {
    if two_sided { cosine.abs() } else { cosine.max(0.0) }
}

/// Cells across the square in which a silhouette is measured.
const CELLS: usize = 48;

/// Area that a mesh covers as seen from far in a direction, in square metres at size 1.
fn silhouette(vertices: &[MeshVertex], triangles: &[[u16; 3]], radius: f32, from: Vec3) -> f32 {
    let across = from.any_orthonormal_vector();
    let up = from.cross(across);
    let scale = CELLS as f32 * 0.5 / radius.max(1e-12);
    let place = |index: u16| {
        let at = vertices[usize::from(index)].position;
        Vec2::new(at.dot(across), at.dot(up)) * scale + CELLS as f32 * 0.5
    };
    let mut covered = [[false; CELLS]; CELLS];
    for triangle in triangles {
        let corners = triangle.map(place);
        let (low, high) = corners
            .iter()
            .fold((Vec2::INFINITY, Vec2::NEG_INFINITY), |(low, high), at| (low.min(*at), high.max(*at)));
        let cells = |low: f32, high: f32| {
            (low.floor().max(0.0) as usize)..((high.ceil().max(0.0) as usize).min(CELLS))
        };
        for row in cells(low.y, high.y) {
            for column in cells(low.x, high.x) {
                let at = Vec2::new(column as f32 + 0.5, row as f32 + 0.5);
                let side = |k: usize| (corners[(k + 1) % 3] - corners[k]).perp_dot(at - corners[k]);
                let sides = [side(0), side(1), side(2)];
                let within = sides.iter().all(|side| *side >= 0.0) || sides.iter().all(|side| *side <= 0.0);
                covered[row][column] |= within;
            }
        }
    }
    let cells = covered.iter().flatten().filter(|covered| **covered).count();
    cells as f32 / (scale * scale)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::mesh::{MESH_NAMES, Mesh};

    /// Area that a mesh is said to cover from a direction.
    fn covered(mesh: &Mesh, from: Vec3) -> f32 {
        let Pieces { eights, areas, two_sided } = mesh.pieces();
        let of = |nth: usize| {
            let (eight, lane) = (&eights[nth / LANES], nth % LANES);
            let normal = Vec3::from(eight.normal.map(|column| column[lane]));
            areas[nth / LANES][lane] * facing(normal.dot(from), *two_sided)
        };
        (0..LANES_OF_PIECES).map(of).sum()
    }

    /// Each shipped mesh covers what it covers, from many directions: on average within a fifth, and nowhere far off.
    #[test]
    fn pieces_cover_what_the_mesh_covers() {
        for name in MESH_NAMES {
            let mesh = Mesh::named(name).unwrap();
            let (mut sum, mut off, mut count) = (0.0, 0.0, 0.0);
            for nth in 0..40 {
                // Evenly over the sphere (a spiral).
                let y = 1.0 - (nth as f32 + 0.5) / 20.0;
                let (sin, cos) = (nth as f32 * 2.399_963).sin_cos();
                let around = (1.0 - y * y).sqrt();
                let from = Vec3::new(cos * around, y, sin * around);
                let true_area = silhouette(mesh.vertices(), mesh.triangles(), mesh.radius(), from);
                let guess = covered(&mesh, from);
                sum += guess - true_area;
                off += (guess - true_area).abs();
                count += true_area;
            }
            assert!(sum.abs() < count / 5.0, "{name}: {sum} of {count}");
            assert!(off < count / 3.0, "{name}: {off} of {count}");
        }
    }

    #[test]
    fn silhouettes_have_the_area_of_the_shape() {
        let cube = Mesh::named("box").unwrap();
        let area = silhouette(cube.vertices(), cube.triangles(), cube.radius(), Vec3::X);
        assert!((area - 1.0).abs() < 0.1, "{area}");
        let ball = Mesh::named("ball").unwrap();
        let area = silhouette(ball.vertices(), ball.triangles(), ball.radius(), Vec3::new(0.6, 0.0, 0.8));
        assert!((area - std::f32::consts::PI / 4.0).abs() < 0.08, "{area}");
    }

    /// A mesh of nothing but edges and points covers nothing, and nothing is divided by nothing.
    #[test]
    fn flat_and_empty_meshes_have_finite_pieces() {
        let at = |x: f32| MeshVertex { position: Vec3::new(x, 0.0, 0.0), normal: Vec3::Y, uv: Vec2::ZERO };
        for places in [[0.0, 0.0, 0.0], [0.0, 1.0, 2.0]] {
            let mesh = Mesh::new(places.map(at).to_vec(), vec![[0, 1, 2]]).unwrap();
            let Pieces { eights, areas, .. } = mesh.pieces();
            assert_eq!(*areas, [[0.0; LANES]; 2]);
            assert!(eights.iter().all(|eight| eight.normal.as_flattened().iter().all(|v| v.is_finite())));
        }
    }
}
