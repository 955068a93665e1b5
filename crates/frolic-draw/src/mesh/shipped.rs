//! Meshes that are built in, made in code.

use frolic_core::SpecError;
use glam::{Vec2, Vec3};

use super::swimmers::{eel, seal};
use super::{Mesh, MeshVertex};

pub(super) fn made(name: &str) -> Option<Result<Mesh, SpecError>> {
    Some(match name {
        "box" => cube(),
        "post" => turned(&[[0.0, 0.0], [0.5, 0.0], [0.5, 1.0], [0.0, 1.0]], 12),
        "cone" => turned(&[[0.0, 0.0], [0.5, 0.0], [0.0, 1.0]], 16),
        "ball" => {
            let arc = |k: usize| libm::sincosf((k as f32 / 8.0 - 0.5) * std::f32::consts::PI);
            let profile: Vec<[f32; 2]> = (0..=8)
                .map(arc)
                .map(|(sin, cos)| [if cos > 1e-6 { cos * 0.5 } else { 0.0 }, sin * 0.5])
                .collect();
            turned(&profile, 16)
        }
        "pennant" => pennant(),
        "hull" => hull(),
        "flower" => flower(),
        "ear" => ear(),
        "walker" => walker(),
        "crossed-quads" => crossed_quads(),
        "eel" => eel(14, 8),
        "eel-far" => eel(6, 4),
        "seal" => seal(),
        _ => return None,
    })
}

fn cube() -> Result<Mesh, SpecError> {
    let mut vertices = Vec::new();
    let mut triangles = Vec::new();
    for axis in 0..3 {
        for side in [-1.0f32, 1.0] {
            let normal = Vec3::AXES[axis] * side;
            let across = Vec3::AXES[(axis + 1) % 3];
            let down = Vec3::AXES[(axis + 2) % 3];
            let first = vertices.len() as u16;
            for [u, v] in [[0.0f32, 0.0], [1.0, 0.0], [1.0, 1.0], [0.0, 1.0]] {
                let position = normal * 0.5 + across * (u - 0.5) + down * (v - 0.5) + Vec3::Y * 0.5;
                vertices.push(MeshVertex { position, normal, uv: Vec2::new(u, v) });
            }
            let [a, b, c, d] = if side > 0.0 { [0, 1, 2, 3] } else { [3, 2, 1, 0] }.map(|k| first + k);
            triangles.extend([[a, b, c], [a, c, d]]);
        }
    }
    Mesh::new(vertices, triangles)
}

/// A profile of [radius, height] turned about the y axis.
fn turned(profile: &[[f32; 2]], sides: usize) -> Result<Mesh, SpecError> {
    let mut vertices = Vec::new();
    let mut triangles = Vec::new();
    for pair in profile.windows(2) {
        let ([r0, y0], [r1, y1]) = (pair[0], pair[1]);
        for side in 0..=sides {
            let turn = side as f32 / sides as f32;
            // The last is where the first is, to the last bit, so that the mesh closes.
            let (sin, cos) = libm::sincosf((side % sides) as f32 / sides as f32 * std::f32::consts::TAU);
            let normal = Vec3::new(cos * (y1 - y0), r0 - r1, sin * (y1 - y0));
            for [radius, y] in [[r0, y0], [r1, y1]] {
                let position = Vec3::new(cos * radius, y, sin * radius);
                vertices.push(MeshVertex { position, normal, uv: Vec2::new(turn, 1.0 - y) });
            }
            if side > 0 {
                let at = vertices.len() as u16;
                // On the axis one of the two has no area.
                triangles.extend((r0 > 0.0).then_some([at - 4, at - 3, at - 2]));
                triangles.extend((r1 > 0.0).then_some([at - 3, at - 1, at - 2]));
            }
        }
    }
    Mesh::new(vertices, triangles)
}

/// A slightly bowed triangle, point down, across x.
fn pennant() -> Result<Mesh, SpecError> {
    const ROWS: usize = 3;
    let mut vertices = Vec::new();
    let mut triangles = Vec::new();
    for row in 0..=ROWS {
        let v = row as f32 / ROWS as f32;
        let half = 0.42 * (1.0 - v) + 0.004;
        for (k, u) in [0.0f32, 0.5, 1.0].into_iter().enumerate() {
            let bow = (0.25 - (u - 0.5) * (u - 0.5)) * 0.5 * (1.0 - v * 0.5);
            let position = Vec3::new((u * 2.0 - 1.0) * half, -v, bow);
            let normal = Vec3::new((u - 0.5) * 1.2, 0.12, 1.0);
            vertices.push(MeshVertex { position, normal, uv: Vec2::new(u, v) });
            if row > 0 && k > 0 {
                let at = vertices.len() as u16 - 1;
                triangles.extend([[at - 4, at - 1, at - 3], [at - 3, at - 1, at]]);
            }
        }
    }
    Mesh::new(vertices, triangles)
}

/// A boat of length 1 along x, bow at +x, keel below the origin.
fn hull() -> Result<Mesh, SpecError> {
    const STATIONS: [[f32; 4]; 6] = [
        // along, half beam, height of the rail, depth of the keel
        [-0.50, 0.110, 0.150, -0.02],
        [-0.35, 0.150, 0.135, -0.07],
        [-0.05, 0.175, 0.130, -0.09],
        [0.22, 0.145, 0.145, -0.08],
        [0.40, 0.075, 0.170, -0.05],
        [0.52, 0.004, 0.205, 0.03],
    ];
    let mut places: Vec<[f32; 3]> = Vec::new();
    for [x, beam, rail, keel] in STATIONS {
        // Rail, bilge, keel, bilge, rail, and the floor inside.
        let bilge = keel * 0.55 + rail * 0.1;
        places.extend([
            [x, rail, -beam],
            [x, bilge, -beam * 0.72],
            [x, keel, 0.0],
            [x, bilge, beam * 0.72],
            [x, rail, beam],
            [x, rail * 0.45, 0.0],
        ]);
    }
    let mut triangles: Vec<[u16; 3]> = Vec::new();
    let mut quad = |a: u16, b: u16, c: u16, d: u16| triangles.extend([[a, b, c], [a, c, d]]);
    for station in 0..STATIONS.len() as u16 - 1 {
        let (here, next) = (station * 6, station * 6 + 6);
        for k in 0..4 {
            quad(here + k, here + k + 1, next + k + 1, next + k);
        }
        quad(here + 4, here + 5, next + 5, next + 4);
        quad(here + 5, here, next, next + 5);
    }
    triangles.extend([[0, 2, 1], [0, 4, 2], [4, 3, 2]]);
    Mesh::faceted(&places, &triangles)
}

/// Radius of a stem, at height 1.
const STEM: f32 = 0.008;

/// A ring of a tube: its middle, and half its width along x and z.
type Ring = (Vec3, [f32; 2]);

/// A circular ring about the y axis.
fn round([radius, y]: [f32; 2]) -> Ring {
    (Vec3::Y * y, [radius; 2])
}

/// A surface through level rings. Texture coordinates rise with height, normals by `lift`.
fn tube(
    rings: &[Ring],
    sides: usize,
    lift: f32,
    vertices: &mut Vec<MeshVertex>,
    triangles: &mut Vec<[u16; 3]>,
) {
    for (row, &(middle, [wide, deep])) in rings.iter().enumerate() {
        for side in 0..=sides {
            let (sin, cos) = libm::sincosf((side % sides) as f32 / sides as f32 * std::f32::consts::TAU);
            let normal = Vec3::new(cos * deep, lift * wide.max(deep), sin * wide).normalize_or(Vec3::Y);
            let position = middle + Vec3::new(cos * wide, 0.0, sin * deep);
            vertices.push(MeshVertex { position, normal, uv: Vec2::new(0.5, 1.0 - middle.y) });
            if row > 0 && side > 0 {
                let at = vertices.len() as u16 - 1;
                let below = at - sides as u16 - 1;
                triangles.extend([[below - 1, below, at - 1], [below, at, at - 1]]);
            }
        }
    }
}

/// A stem of three sides up to a height.
fn stem(to: f32, vertices: &mut Vec<MeshVertex>, triangles: &mut Vec<[u16; 3]>) {
    let rings = [0.0, 1.0, 2.0, 3.0, 4.0].map(|row| round([STEM, to * row / 4.0]));
    tube(&rings, 3, 0.0, vertices, triangles);
}

/// A flower of height 1: a stem, nine petals that rise a little, and a domed middle. Up its texture come the stem, to 0.7, the petals, from
/// their tips inwards, to 0.9, and the middle.
fn flower() -> Result<Mesh, SpecError> {
    const PETALS: usize = 9;
    const RADIUS: f32 = 0.105;
    let (mut vertices, mut triangles) = (Vec::new(), Vec::new());
    stem(0.97, &mut vertices, &mut triangles);
    for vertex in &mut vertices {
        vertex.uv.y = 1.0 - (1.0 - vertex.uv.y) * 0.7;
    }
    let on_ring = |turn: f32, radius: f32, y: f32| {
        let (sin, cos) = libm::sincosf(turn * std::f32::consts::TAU);
        Vec3::new(cos * radius, y, sin * radius)
    };
    for petal in 0..PETALS {
        let turn = petal as f32 / PETALS as f32;
        // Narrow at the middle, widest near the end, with a blunt tip; every other one a little lower, so that they lie over each other.
        let (half, lower) = (0.42 / PETALS as f32, if petal % 2 == 0 { 0.0 } else { 0.006 });
        let first = vertices.len() as u16;
        for (share, width, rise, v) in
            [(0.2, 0.5, 0.97, 0.1), (0.7, 1.0, 0.985, 0.22), (1.0, 0.55, 0.995, 0.3)]
        {
            for side in [-1.0, 1.0] {
                let position = on_ring(turn + side * half * width, RADIUS * share, rise - lower);
                let normal = (Vec3::Y + on_ring(turn + side * half, -0.35, 0.0)).normalize();
                vertices.push(MeshVertex { position, normal, uv: Vec2::new(0.5 + side * 0.5, v) });
            }
        }
        for row in [0, 2] {
            let at = first + row;
            triangles.extend([[at, at + 1, at + 2], [at + 1, at + 3, at + 2]]);
        }
    }
    let middle = vertices.len() as u16;
    vertices.push(MeshVertex { position: Vec3::Y * 1.01, normal: Vec3::Y, uv: Vec2::new(0.5, 0.0) });
    for nth in 0..PETALS {
        let turn = nth as f32 / PETALS as f32;
        let normal = on_ring(turn, 0.8, 0.6);
        let position = on_ring(turn, RADIUS * 0.32, 0.985);
        vertices.push(MeshVertex { position, normal, uv: Vec2::new(0.5, 0.02) });
        let next = (nth + 1) % PETALS;
        triangles.push([middle, middle + 1 + next as u16, middle + 1 + nth as u16]);
    }
    Mesh::new(vertices, triangles)
}

/// An ear of grass of height 1: a stem, and from 0.72 up a spindle.
fn ear() -> Result<Mesh, SpecError> {
    const SPINDLE: [[f32; 2]; 5] = [[0.004, 0.72], [0.026, 0.79], [0.03, 0.86], [0.02, 0.94], [0.0, 1.0]];
    let (mut vertices, mut triangles) = (Vec::new(), Vec::new());
    stem(0.74, &mut vertices, &mut triangles);
    tube(&SPINDLE.map(round), 5, 0.35, &mut vertices, &mut triangles);
    Mesh::new(vertices, triangles)
}

/// Three upright quads of height and width 1 that cross on the y axis. Their normals lean upwards, so that single quads do not show in the light.
fn crossed_quads() -> Result<Mesh, SpecError> {
    let (mut vertices, mut triangles) = (Vec::new(), Vec::new());
    for nth in 0..3 {
        let (sin, cos) = libm::sincosf(nth as f32 / 3.0 * std::f32::consts::PI);
        let across = Vec3::new(cos, 0.0, sin);
        let first = vertices.len() as u16;
        for [u, v] in [[0.0f32, 0.0], [1.0, 0.0], [1.0, 1.0], [0.0, 1.0]] {
            let aside = across * (u - 0.5);
            let (position, normal) = (aside + Vec3::Y * (1.0 - v), (aside + Vec3::Y).normalize());
            vertices.push(MeshVertex { position, normal, uv: Vec2::new(u, v) });
        }
        triangles
            .extend([[0, 2, 1], [0, 3, 2]].map(|corners: [u16; 3]| corners.map(|corner| corner + first)));
    }
    Mesh::new(vertices, triangles)
}

/// A figure of height 1 in the middle of a step towards +z, in a long coat and a hat with a brim. Its texture runs up with it: boots to
/// 0.09, the coat from 0.36, the face from 0.84, the hat from 0.93.
fn walker() -> Result<Mesh, SpecError> {
    let (mut vertices, mut triangles) = (Vec::new(), Vec::new());
    let mut add = |rings: &[Ring], sides: usize, lift: f32| {
        tube(rings, sides, lift, &mut vertices, &mut triangles);
    };
    let ring = |x: f32, y: f32, z: f32, wide: f32, deep: f32| (Vec3::new(x, y, z), [wide, deep]);
    // Legs from the toes up, one in front and one behind, whose heel is off the ground.
    for (x, toe, heel) in [(-0.052, 0.17, 0.0), (0.052, -0.10, 0.035)] {
        let hip = toe * 0.25;
        let at = |share: f32| toe - 0.04 + (hip - toe + 0.04) * share;
        add(
            &[
                ring(x, heel, toe, 0.030, 0.075),
                ring(x, heel + 0.035, toe - 0.01, 0.030, 0.068),
                ring(x, heel + 0.06, at(0.05), 0.034, 0.04),
                ring(x, 0.09 + heel, at(0.1), 0.036, 0.038),
                ring(x, 0.10 + heel, at(0.12), 0.040, 0.042),
                ring(x, 0.30, at(0.6), 0.046, 0.052),
                ring(x * 0.9, 0.44, hip * 0.5, 0.055, 0.06),
            ],
            8,
            0.0,
        );
    }
    // The coat: a hem that swings, the waist, the shoulders, the collar.
    add(
        &[
            ring(0.0, 0.365, 0.012, 0.128, 0.108),
            ring(0.0, 0.45, 0.006, 0.116, 0.092),
            ring(0.0, 0.57, 0.0, 0.100, 0.074),
            ring(0.0, 0.66, 0.0, 0.106, 0.072),
            ring(0.0, 0.74, 0.0, 0.118, 0.070),
            ring(0.0, 0.785, -0.004, 0.108, 0.062),
            ring(0.0, 0.815, -0.004, 0.066, 0.050),
            ring(0.0, 0.835, 0.0, 0.042, 0.042),
        ],
        14,
        0.12,
    );
    // Arms that swing against the legs, to the hands.
    for (side, swing) in [(-1.0, -0.075), (1.0, 0.085)] {
        add(
            &[
                ring(side * 0.150, 0.425, swing + 0.03, 0.016, 0.02),
                ring(side * 0.150, 0.455, swing + 0.02, 0.027, 0.03),
                ring(side * 0.143, 0.58, swing * 0.4, 0.034, 0.037),
                ring(side * 0.118, 0.74, 0.0, 0.040, 0.042),
                ring(side * 0.092, 0.785, 0.0, 0.030, 0.036),
            ],
            8,
            0.0,
        );
    }
    // The head.
    add(
        &[
            ring(0.0, 0.842, 0.01, 0.030, 0.034),
            ring(0.0, 0.865, 0.014, 0.044, 0.050),
            ring(0.0, 0.90, 0.012, 0.049, 0.056),
            ring(0.0, 0.928, 0.008, 0.050, 0.057),
        ],
        10,
        0.0,
    );
    // The hat: a brim, lower behind, and a crown.
    add(
        &[
            ring(0.0, 0.932, -0.004, 0.098, 0.108),
            ring(0.0, 0.946, 0.0, 0.060, 0.068),
            ring(0.0, 0.97, 0.0, 0.054, 0.061),
            ring(0.0, 0.99, 0.0, 0.040, 0.045),
            ring(0.0, 1.0, 0.0, 0.0, 0.0),
        ],
        12,
        0.6,
    );
    Mesh::new(vertices, triangles)
}
