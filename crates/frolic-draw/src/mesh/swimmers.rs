//! Meshes that swim: of length 1 along z, the head at +z. Their textures run up from belly to back.

use frolic_core::SpecError;
use glam::{Vec2, Vec3};

use super::{Mesh, MeshVertex};

/// A cross-section of a body: where along z, its middle above the axis, half its width, and its height above and below the middle.
#[derive(Debug, Clone, Copy)]
struct Section {
    z: f32,
    middle: f32,
    half: f32,
    above: f32,
    below: f32,
}

/// A body through sections from the head to the tail, with normals across it. Both ends are points or closed edges.
fn body(sections: &[Section], sides: usize, vertices: &mut Vec<MeshVertex>, triangles: &mut Vec<[u16; 3]>) {
    let first = vertices.len();
    for (row, section) in sections.iter().enumerate() {
        let before = sections[row.saturating_sub(1)];
        let after = sections[(row + 1).min(sections.len() - 1)];
        let per = 1.0 / (before.z - after.z).max(1e-6);
        for side in 0..=sides {
            let (sin, cos) = libm::sincosf((side % sides) as f32 / sides as f32 * std::f32::consts::TAU);
            let tall = if sin > 0.0 { section.above } else { section.below };
            let position = Vec3::new(cos * section.half, section.middle + sin * tall, section.z);
            // Outwards over the slope along the body.
            let out =
                Vec3::new(cos / section.half.max(1e-4), sin / tall.max(1e-4), 0.0).normalize_or(Vec3::Y);
            let wide = (before.half - after.half) * per * cos.abs();
            let high = (before.above + before.below - after.above - after.below) * 0.5 * per * sin.abs();
            let normal = (out - Vec3::Z * (wide + high)).normalize_or(Vec3::Y);
            vertices.push(MeshVertex { position, normal, uv: Vec2::new(0.5, 0.5 - sin * 0.5) });
        }
    }
    join(first, sections.len(), sides, vertices, triangles);
}

/// Joins rings of `sides + 1` vertices, the first of them at index `first`, each to the one before it.
fn join(first: usize, rings: usize, sides: usize, vertices: &[MeshVertex], triangles: &mut Vec<[u16; 3]>) {
    for ring in 1..rings {
        for side in 0..sides {
            let at = |ring: usize, side: usize| (first + ring * (sides + 1) + side) as u16;
            let (a, b, c, d) =
                (at(ring - 1, side), at(ring - 1, side + 1), at(ring, side), at(ring, side + 1));
            let halves = [[a, c, b], [b, c, d]].into_iter();
            triangles.extend(halves.filter(|corners| has_area(vertices, corners)));
        }
    }
}

/// Whether no two corners of a triangle are at one place.
fn has_area(vertices: &[MeshVertex], corners: &[u16; 3]) -> bool {
    let [a, b, c] = corners.map(|nth| vertices[usize::from(nth)].position);
    a != b && b != c && c != a
}

/// A thin fin from its outline: two sides that meet along it. `v` is where it is in the texture, 0 at the back.
fn fin(outline: &[Vec3], v: f32, vertices: &mut Vec<MeshVertex>, triangles: &mut Vec<[u16; 3]>) {
    let [a, b, c, ..] = outline else { return };
    let normal = (*b - *a).cross(*c - *a).normalize_or(Vec3::Y);
    let mean = outline.iter().copied().sum::<Vec3>() / outline.len() as f32;
    // Nearer to the first corner: a notch may lie in the middle.
    let middle = (mean + *a) * 0.5;
    let count = outline.len() as u16;
    for side in [1.0, -1.0] {
        let first = vertices.len() as u16;
        let corners = outline.iter().copied().chain([middle + normal * (side * 0.002)]);
        vertices.extend(corners.map(|position| MeshVertex {
            position,
            normal: normal * side,
            uv: Vec2::new(0.5, v),
        }));
        for nth in 0..count {
            let (here, next) = (first + nth, first + (nth + 1) % count);
            let [b, c] = if side > 0.0 { [here, next] } else { [next, here] };
            triangles.push([first + count, b, c]);
        }
    }
}

/// A slender fish: a pointed jaw, an even body, a long low fin on its back and a forked tail.
pub(super) fn eel(rows: usize, sides: usize) -> Result<Mesh, SpecError> {
    let (mut vertices, mut triangles) = (Vec::new(), Vec::new());
    let section = |nth: usize| {
        // Closer together towards both ends, where it narrows.
        let t = nth as f32 / (rows - 1) as f32;
        let along = t * t * (3.0 - 2.0 * t);
        let head = (along / 0.22).min(1.0);
        let tail = ((1.0 - along) / 0.55).min(1.0);
        let full = (1.0 - (1.0 - head) * (1.0 - head)).sqrt() * (0.18 + 0.82 * (tail * (2.0 - tail)));
        // A point at both ends, so that the body is closed.
        let full = if nth == 0 || nth + 1 == rows { 0.0 } else { full };
        Section {
            z: 0.5 - along * 0.93,
            middle: 0.0,
            half: 0.030 * full,
            above: 0.040 * full,
            below: 0.046 * full,
        }
    };
    let sections: Vec<Section> = (0..rows).map(section).collect();
    body(&sections, sides, &mut vertices, &mut triangles);
    let at = |y: f32, z: f32| Vec3::new(0.0, y, z);
    // The tail, forked.
    let tail = [at(0.0, -0.425), at(0.052, -0.5), at(0.0, -0.462), at(-0.052, -0.5)];
    fin(&tail, 0.15, &mut vertices, &mut triangles);
    if rows > 8 {
        let back = [at(0.03, 0.18), at(0.056, 0.10), at(0.048, -0.28), at(0.018, -0.34)];
        fin(&back, 0.05, &mut vertices, &mut triangles);
        let under = [at(-0.03, -0.10), at(-0.016, -0.36), at(-0.046, -0.30), at(-0.052, -0.14)];
        fin(&under, 0.8, &mut vertices, &mut triangles);
    }
    Mesh::new(vertices, triangles)
}

/// A seal: a round head with a short muzzle, a thick neck, a spindle of a body, fore flippers and hind flippers held together.
pub(super) fn seal() -> Result<Mesh, SpecError> {
    let (mut vertices, mut triangles) = (Vec::new(), Vec::new());
    let section =
        |z: f32, middle: f32, half: f32, above: f32, below: f32| Section { z, middle, half, above, below };
    let sections = [
        section(0.500, 0.000, 0.000, 0.000, 0.000),
        section(0.494, 0.001, 0.020, 0.016, 0.020),
        section(0.480, 0.003, 0.030, 0.024, 0.028),
        section(0.462, 0.008, 0.036, 0.032, 0.034),
        section(0.442, 0.014, 0.047, 0.044, 0.042),
        section(0.415, 0.017, 0.058, 0.054, 0.052),
        section(0.380, 0.016, 0.063, 0.058, 0.058),
        section(0.345, 0.012, 0.062, 0.056, 0.060),
        section(0.305, 0.006, 0.066, 0.058, 0.066),
        section(0.255, 0.000, 0.081, 0.070, 0.080),
        section(0.190, -0.003, 0.101, 0.086, 0.096),
        section(0.110, -0.004, 0.117, 0.099, 0.108),
        section(0.020, -0.003, 0.122, 0.104, 0.111),
        section(-0.070, -0.001, 0.115, 0.099, 0.104),
        section(-0.160, 0.000, 0.097, 0.086, 0.089),
        section(-0.240, 0.001, 0.073, 0.066, 0.067),
        section(-0.310, 0.001, 0.049, 0.046, 0.046),
        section(-0.360, 0.001, 0.033, 0.030, 0.030),
        section(-0.400, 0.000, 0.024, 0.016, 0.016),
        section(-0.412, 0.000, 0.000, 0.000, 0.000),
    ];
    body(&sections, 20, &mut vertices, &mut triangles);
    for side in [-1.0f32, 1.0] {
        let at = |x: f32, y: f32, z: f32| Vec3::new(side * x, y, z);
        let turned = |mut outline: Vec<Vec3>| {
            if side < 0.0 {
                outline.reverse();
            }
            outline
        };
        // Fore flippers: swept back and down.
        let fore = turned(vec![
            at(0.090, -0.050, 0.185),
            at(0.145, -0.085, 0.135),
            at(0.178, -0.108, 0.065),
            at(0.172, -0.106, 0.030),
            at(0.140, -0.088, 0.050),
            at(0.095, -0.058, 0.110),
        ]);
        fin(&fore, 0.35, &mut vertices, &mut triangles);
        // Hind flippers: a fan, upright when it strokes.
        let hind = turned(vec![
            at(0.012, 0.000, -0.380),
            at(0.040, 0.030, -0.440),
            at(0.062, 0.052, -0.500),
            at(0.050, 0.012, -0.486),
            at(0.046, -0.022, -0.492),
            at(0.026, -0.020, -0.430),
        ]);
        fin(&hind, 0.35, &mut vertices, &mut triangles);
        // Eyes: small dark balls; their texture is at the very back.
        let (middle, radius) = (at(0.0385, 0.036, 0.442), 0.0105);
        let first = vertices.len();
        let (rows, sides) = (5, 8);
        for row in 0..=rows {
            let (sin, cos) = libm::sincosf((row as f32 / rows as f32 - 0.5) * std::f32::consts::PI);
            for column in 0..=sides {
                let (east, north) =
                    libm::sincosf((column % sides) as f32 / sides as f32 * std::f32::consts::TAU);
                let normal = Vec3::new(cos * north, sin, cos * east);
                let uv = Vec2::new(0.5, 0.0);
                vertices.push(MeshVertex { position: middle + normal * radius, normal, uv });
            }
        }
        join(first, rows + 1, sides, &vertices, &mut triangles);
    }
    Mesh::new(vertices, triangles)
}
