//! Distance grids against a search through all triangles.

use crate::common;
use frolic_core::{BakeSpec, DistanceGrid, Surface};
use glam::Vec3;
use proptest::prelude::*;

/// The nearest point of a segment.
fn near_segment(p: Vec3, a: Vec3, b: Vec3) -> f32 {
    let along = ((p - a).dot(b - a) / (b - a).length_squared().max(1e-20)).clamp(0.0, 1.0);
    p.distance(a + (b - a) * along)
}

/// Distance to a triangle, another way than the library's: to its plane where the foot is inside, else to its sides.
fn to_triangle(p: Vec3, [a, b, c]: [Vec3; 3]) -> f32 {
    let normal = (b - a).cross(c - a);
    let foot = p - normal * ((p - a).dot(normal) / normal.length_squared().max(1e-20));
    let inside = [(a, b), (b, c), (c, a)].iter().all(|(u, v)| (*v - *u).cross(foot - *u).dot(normal) >= 0.0);
    let sides = near_segment(p, a, b).min(near_segment(p, b, c)).min(near_segment(p, c, a));
    if inside { p.distance(foot).min(sides) } else { sides }
}

fn brute(surface: &Surface, p: Vec3) -> f32 {
    let corner = |index: u32| surface.corners()[index as usize];
    surface.triangles().iter().map(|t| to_triangle(p, t.map(corner))).fold(f32::INFINITY, f32::min)
}

fn points(grid: &DistanceGrid) -> impl Iterator<Item = (Vec3, f32)> {
    let [nx, ny, _] = grid.points();
    let at = move |k: usize| Vec3::new((k % nx) as f32, (k / nx % ny) as f32, (k / nx / ny) as f32);
    let (origin, cell) = (Vec3::from(grid.origin()), grid.cell());
    grid.values().iter().enumerate().map(move |(k, value)| (origin + at(k) * cell, *value))
}

/// Two blocks that cut into each other's corner are no manifold, yet closed.
fn block(low: Vec3, high: Vec3) -> (Vec<[f32; 3]>, Vec<[u32; 3]>) {
    let corner = |k: u32| {
        let pick = |bit: u32, a: f32, b: f32| if k >> bit & 1 == 1 { b } else { a };
        [pick(0, low.x, high.x), pick(1, low.y, high.y), pick(2, low.z, high.z)]
    };
    let faces = [[0, 2, 3, 1], [4, 5, 7, 6], [0, 1, 5, 4], [2, 6, 7, 3], [0, 4, 6, 2], [1, 3, 7, 5]];
    let triangles = faces.iter().flat_map(|&[a, b, c, d]| [[a, b, c], [a, c, d]]).collect();
    ((0..8).map(corner).collect(), triangles)
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]

    /// Every value is the distance to the nearest triangle; its sign says which side.
    #[test]
    fn a_bake_equals_a_search(
        size in prop::array::uniform3(0.3f32..3.0), at in prop::array::uniform3(-4f32..4.0), cells in 6u32..20, detail in 1u32..5, turn in 0f32..3.0,
    ) {
        let ball = Surface::ball(detail).placed(size[0], turn, at).unwrap();
        let grid = BakeSpec::new(cells).bake(&ball).unwrap();
        for (place, value) in points(&grid) {
            let want = brute(&ball, place);
            prop_assert!((value.abs() - want).abs() < 1e-4 * (1.0 + want), "{} for {}", value, want);
            let from_middle = place.distance(at.into());
            // On the surface itself either sign is right.
            if from_middle > size[0] && want > 1e-5 {
                prop_assert!(value >= 0.0);
            }
            if from_middle < size[0] * 0.55 {
                prop_assert!(value < 0.0);
            }
        }
        let (corners, triangles) = block(Vec3::from(at), Vec3::from(at) + Vec3::from(size));
        let surface = Surface::new(corners, triangles).unwrap();
        let grid = BakeSpec::new(cells).bake(&surface).unwrap();
        for (place, value) in points(&grid) {
            let want = brute(&surface, place);
            prop_assert!((value.abs() - want).abs() < 1e-4 * (1.0 + want));
            let inside = (place - Vec3::from(at)).cmpgt(Vec3::ZERO).all() && (place - Vec3::from(at)).cmplt(Vec3::from(size)).all();
            // On the surface itself either sign is right.
            prop_assert!(want < 1e-5 || (value < 0.0) == inside, "{} at {}", value, place);
        }
        let volume = size[0] * size[1] * size[2];
        // Known to about half a cell at each face.
        let slack = grid.cell() * (size[0] * size[1] + size[1] * size[2] + size[2] * size[0]);
        prop_assert!((grid.volume() - volume).abs() < slack, "{} for {}", grid.volume(), volume);
    }

    /// What lies between the points, and outside, never tells more than the true distance by more than the grid's coarseness.
    #[test]
    fn samples_are_near_the_truth(place in prop::array::uniform3(-4f32..4.0)) {
        let assets = common::assets();
        let grid = assets.distance("", "ball").unwrap();
        let place = Vec3::from(place);
        let want = place.distance(Vec3::Y) - 0.8;
        let (got, gradient) = grid.sample(place);
        prop_assert!(got < want + grid.cell(), "{} for {}", got, want);
        let [low, high] = grid.bounds();
        if place.cmpge(low).all() && place.cmple(high).all() {
            prop_assert!((got - want).abs() < grid.cell() * 0.6, "{} for {}", got, want);
        }
        if want > 0.1 {
            prop_assert!(gradient.normalize().dot((place - Vec3::Y).normalize()) > 0.85, "{}", gradient);
        }
    }
}

#[test]
fn a_hole_does_not_turn_a_row_inside_out() {
    let (corners, mut triangles) = block(Vec3::ZERO, Vec3::ONE);
    triangles.remove(3);
    let grid = BakeSpec::new(24).bake(&Surface::new(corners, triangles).unwrap()).unwrap();
    for (place, value) in points(&grid) {
        let inside = place.cmpgt(Vec3::ZERO).all() && place.cmplt(Vec3::ONE).all();
        assert_eq!(value < 0.0, inside, "{value} at {place}");
    }
}

#[test]
fn grids_keep_their_place_and_scale() {
    let ball = Surface::ball(6).placed(0.5, 0.0, [3.0, -1.0, 2.0]).unwrap();
    let grid = BakeSpec::new(24).bake(&ball).unwrap();
    let twice = grid.placed(2.0, [0.0, 5.0, 0.0]).unwrap();
    let at = Vec3::new(3.1, -1.2, 2.2);
    assert!((twice.at(at * 2.0 + Vec3::Y * 5.0) - grid.at(at) * 2.0).abs() < 1e-4);
    assert!((twice.volume() / grid.volume() - 8.0).abs() < 1e-2);
    assert!(grid.placed(0.0, [0.0; 3]).is_err() && grid.placed(1.0, [1e7, 0.0, 0.0]).is_err());
}

#[test]
fn meshes_without_an_inside_are_refused() {
    let ball = Surface::ball(2);
    assert_eq!(BakeSpec::new(3).bake(&ball).unwrap_err().key, "points");
    assert_eq!(BakeSpec::new(2000).bake(&ball).unwrap_err().key, "points");
    let point = Surface::new(vec![[1.0; 3]; 3], vec![[0, 1, 2]]).unwrap();
    assert_eq!(BakeSpec::new(8).bake(&point).unwrap_err().key, "mesh");
    let huge = DistanceGrid::new([1024, 1024, 1024], [0.0; 3], 1.0, vec![]);
    assert_eq!(huge.unwrap_err().key, "points");
    assert_eq!(DistanceGrid::new([2, 2, 2], [0.0; 3], 1.0, vec![0.0; 7]).unwrap_err().key, "values");
    assert_eq!(DistanceGrid::new([2, 2, 2], [0.0; 3], 1.0, vec![f32::NAN; 8]).unwrap_err().key, "values");
    assert_eq!(DistanceGrid::new([2, 2, 2], [0.0; 3], 0.0, vec![0.0; 8]).unwrap_err().key, "cell");
    // A flat triangle has no inside.
    let flat = Surface::new(vec![[0.0; 3], [1.0, 0.0, 0.0], [0.0, 1.0, 0.0]], vec![[0, 1, 2]]).unwrap();
    assert_eq!(BakeSpec::new(16).bake(&flat).unwrap().values().iter().filter(|v| **v < 0.0).count(), 0);
}
