//! Small triangle meshes that instances share.
//!
//! | question | file |
//! | --- | --- |
//! | what is a mesh? | here |
//! | what is drawn of one that is hardly larger than a pixel? | `tiny.rs` |
//! | which are built in? | `shipped.rs`; those that swim `swimmers.rs` |

mod shipped;
mod swimmers;
mod tiny;

use std::collections::HashMap;
use std::sync::{Arc, LazyLock};

use frolic_core::SpecError;
use glam::{Vec2, Vec3};

use crate::look::RibbonSpec;
use frolic_raster::LANES;
use frolic_raster::surfaces::MeshEight;
pub(crate) use tiny::{LANES_OF_PIECES, Pieces, facing};

/// A vertex of a mesh.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct MeshVertex {
    /// Position in metres at size 1.
    pub position: Vec3,
    /// Normal, unit length.
    pub normal: Vec3,
    /// Texture coordinates, 0..1 from the upper left.
    pub uv: Vec2,
}

/// Triangles over shared vertices. Instances turn, scale and colour the mesh.
#[derive(Debug, Clone, PartialEq)]
pub struct Mesh {
    vertices: Vec<MeshVertex>,
    triangles: Vec<[u16; 3]>,
    /// Greatest distance of a vertex from the origin, in metres at size 1.
    radius: f32,
    /// Where its front is along z, and its length from there.
    stretch: [f32; 2],
    /// The vertices in groups of eight.
    eights: Vec<MeshEight>,
    /// Whether the mesh is closed, with triangles that face outwards.
    closed: bool,
    /// What is drawn of it where it is tiny.
    pieces: Pieces,
}

/// Eight vertices; the last is repeated where there are fewer.
fn eight(vertices: &[MeshVertex]) -> MeshEight {
    let vertex = |lane: usize| vertices[lane.min(vertices.len() - 1)];
    let of = |axis: usize, part: fn(&MeshVertex) -> Vec3| {
        std::array::from_fn(|lane| part(&vertex(lane)).to_array()[axis])
    };
    MeshEight {
        position: [0, 1, 2].map(|axis| of(axis, |vertex| vertex.position)),
        normal: [0, 1, 2].map(|axis| of(axis, |vertex| vertex.normal)),
        uv: [0, 1].map(|axis| std::array::from_fn(|lane| vertex(lane).uv.to_array()[axis])),
    }
}

/// Whether triangles enclose a volume: each edge is used once in each direction, and the triangles face outwards.
fn encloses(vertices: &[MeshVertex], triangles: &[[u16; 3]]) -> bool {
    let place = |index: u16| vertices[usize::from(index)].position;
    // Vertices at one place count as one.
    let key = |index: u16| place(index).to_array().map(|v| (v + 0.0).to_bits());
    let mut edges = HashMap::new();
    let mut volume = 0.0;
    for &[a, b, c] in triangles {
        volume += place(a).dot(place(b).cross(place(c)));
        for (from, to) in [(a, b), (b, c), (c, a)] {
            if key(from) != key(to) {
                *edges.entry((key(from), key(to))).or_insert(0) += 1;
            }
        }
    }
    let matched = |(&(from, to), count): (&(_, _), &u32)| *count == 1 && edges.get(&(to, from)) == Some(&1);
    volume > 0.0 && edges.iter().all(matched)
}

/// Where the front of vertices is along z, and their length from there.
fn stretch(vertices: &[MeshVertex]) -> [f32; 2] {
    let along = || vertices.iter().map(|vertex| vertex.position.z);
    let front = along().fold(f32::NEG_INFINITY, f32::max);
    [front, front - along().fold(f32::INFINITY, f32::min)]
}

/// Largest number of vertices and of triangles: meshes are drawn thousands of times, so they must be small.
const MOST: usize = 32_768;

/// Names of [`Mesh::named`].
pub const MESH_NAMES: [&str; 13] = [
    "box",
    "post",
    "cone",
    "ball",
    "pennant",
    "hull",
    "flower",
    "ear",
    "walker",
    "crossed-quads",
    "eel",
    "eel-far",
    "seal",
];

impl Mesh {
    /// A mesh from its vertices and triangles (indices of vertices).
    ///
    /// # Errors
    /// When there is no triangle, over 32768 of either, an index without a vertex, or a position that is not finite.
    pub fn new(mut vertices: Vec<MeshVertex>, triangles: Vec<[u16; 3]>) -> Result<Self, SpecError> {
        let wrong = |problem: String, instead: &str| Err(SpecError::new("mesh", problem, instead));
        if triangles.is_empty() || triangles.len() > MOST || vertices.len() > MOST {
            return wrong(
                format!("{} triangles over {} vertices", triangles.len(), vertices.len()),
                "keep to 1 to 32768 of each",
            );
        }
        if let Some(index) = triangles.iter().flatten().find(|&&index| usize::from(index) >= vertices.len()) {
            return wrong(format!("a triangle names vertex {index} of {}", vertices.len()), "count from 0");
        }
        let bad = |v: &MeshVertex| !(v.position.is_finite() && v.normal.is_finite() && v.uv.is_finite());
        if let Some(nth) = vertices.iter().position(bad) {
            return wrong(format!("vertex {nth} is not a number"), "write finite numbers");
        }
        for vertex in &mut vertices {
            vertex.normal = vertex.normal.normalize_or(Vec3::Y);
        }
        let radius = vertices.iter().map(|vertex| vertex.position.length()).fold(0.0, f32::max);
        let eights = vertices.chunks(LANES).map(eight).collect();
        let closed = encloses(&vertices, &triangles);
        let stretch = stretch(&vertices);
        let pieces = Pieces::new(&vertices, &triangles, radius, closed);
        Ok(Self { vertices, triangles, radius, stretch, eights, closed, pieces })
    }

    /// An upright blade of height 1 with the width, taper and segments of a ribbon.
    pub(crate) fn blade(ribbon: &RibbonSpec) -> Self {
        let n = ribbon.segments.clamp(1, RibbonSpec::MOST_SEGMENTS) as usize;
        let half = 1.0 / ribbon.length.max(0.01);
        let row = |k: usize| {
            let t = k as f32 / n as f32;
            let wide = half * (1.0 + (ribbon.tip - 1.0) * t);
            [-1.0f32, 1.0].map(|side| MeshVertex {
                position: Vec3::new(side * wide, t, 0.0),
                normal: Vec3::Z,
                uv: Vec2::new((side + 1.0) * 0.5, 1.0 - t),
            })
        };
        let vertices: Vec<MeshVertex> = (0..=n).flat_map(row).collect();
        let triangles: Vec<[u16; 3]> = (0..n as u16)
            .flat_map(|k| {
                [[0, 1, 2], [1, 3, 2]].map(|corners: [u16; 3]| corners.map(|corner| corner + k * 2))
            })
            .collect();
        let radius = vertices.iter().map(|vertex| vertex.position.length()).fold(0.0, f32::max);
        let eights = vertices.chunks(LANES).map(eight).collect();
        let stretch = stretch(&vertices);
        let pieces = Pieces::new(&vertices, &triangles, radius, false);
        Self { vertices, triangles, radius, stretch, eights, closed: false, pieces }
    }

    /// A mesh from positions and triangles with flat normals; `uv` is the position across and up.
    ///
    /// # Errors
    /// As [`Mesh::new`].
    pub fn faceted(places: &[[f32; 3]], triangles: &[[u16; 3]]) -> Result<Self, SpecError> {
        let mut vertices = Vec::with_capacity(triangles.len() * 3);
        let mut flat = Vec::with_capacity(triangles.len());
        for triangle in triangles {
            let mut corners = [Vec3::ZERO; 3];
            for (corner, &index) in corners.iter_mut().zip(triangle) {
                let place = places.get(usize::from(index)).ok_or_else(|| {
                    let problem = format!("a triangle names vertex {index} of {}", places.len());
                    SpecError::new("mesh", problem, "count from 0")
                })?;
                *corner = Vec3::from(*place);
            }
            let normal = (corners[1] - corners[0]).cross(corners[2] - corners[0]);
            let first = vertices.len();
            if first + 3 > MOST {
                return Err(SpecError::new("mesh", "is over 32768 vertices", "keep meshes small"));
            }
            vertices.extend(corners.map(|position| MeshVertex {
                position,
                normal,
                uv: Vec2::new(position.x, 1.0 - position.y),
            }));
            flat.push([first as u16, first as u16 + 1, first as u16 + 2]);
        }
        Self::new(vertices, flat)
    }

    /// A built-in mesh: `box` (a unit cube that stands on the origin), `post` (a column of height 1 and radius 0.5), `cone`, `ball`
    /// (radius 0.5 about the origin), `pennant` (a triangular flag that hangs from the origin), `hull` (a boat of length 1),
    /// `flower`, `ear`, `walker`, and `crossed-quads` (three that cross, 1 wide, each with the whole of a texture), all of height 1; `eel` (a slender fish),
    /// `eel-far` with a quarter of its triangles, and `seal`, all of length 1 along z, head at +z, with textures that run up from belly to back.
    pub fn named(name: &str) -> Option<Arc<Self>> {
        // Made once, so that looks that name the same mesh share it.
        static SHIPPED: LazyLock<Vec<Option<Arc<Mesh>>>> =
            LazyLock::new(|| MESH_NAMES.iter().map(|name| shipped::made(name)?.ok().map(Arc::new)).collect());
        let nth = MESH_NAMES.iter().position(|shipped| *shipped == name)?;
        SHIPPED.get(nth)?.clone()
    }

    /// Vertices.
    pub fn vertices(&self) -> &[MeshVertex] {
        &self.vertices
    }

    /// Triangles as indices of vertices.
    pub fn triangles(&self) -> &[[u16; 3]] {
        &self.triangles
    }

    pub(crate) fn eights(&self) -> &[MeshEight] {
        &self.eights
    }

    pub(crate) fn pieces(&self) -> &Pieces {
        &self.pieces
    }

    /// Whether the mesh is closed. Back faces of closed meshes are hidden, and not drawn.
    pub fn is_closed(&self) -> bool {
        self.closed
    }

    /// Where its front is along z, and its length from there, in metres at size 1.
    pub fn stretch(&self) -> [f32; 2] {
        self.stretch
    }

    /// Greatest distance of a vertex from the origin, in metres at size 1.
    pub fn radius(&self) -> f32 {
        self.radius
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn shipped_meshes_are_sound() {
        for name in MESH_NAMES {
            let mesh = Mesh::named(name).unwrap_or_else(|| panic!("{name}"));
            assert!(mesh.radius() > 0.3 && mesh.radius() < 1.5, "{name}: {}", mesh.radius());
            assert_eq!(
                mesh.is_closed(),
                !["pennant", "hull", "flower", "ear", "walker", "crossed-quads"].contains(&name),
                "{name}"
            );
            assert!(mesh.vertices().iter().all(|v| (v.normal.length() - 1.0).abs() < 1e-5), "{name}");
        }
        assert!(Mesh::named("teapot").is_none());
    }

    #[test]
    fn broken_meshes_are_refused() {
        let at = |x: f32| MeshVertex { position: Vec3::splat(x), normal: Vec3::Y, uv: Vec2::ZERO };
        assert!(Mesh::new(vec![], vec![]).is_err());
        assert!(Mesh::new(vec![at(0.0); 3], vec![[0, 1, 3]]).is_err());
        assert!(Mesh::new(vec![at(f32::NAN); 3], vec![[0, 1, 2]]).is_err());
        assert!(Mesh::faceted(&[[0.0; 3]; 2], &[[0, 1, 2]]).is_err());
        assert!(Mesh::new(vec![at(1.0); 3], vec![[0, 1, 2]]).is_ok());
    }
}
