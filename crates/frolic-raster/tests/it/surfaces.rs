//! Points of meshes and ribbons against plain arithmetic: places, normals, light, and places on the screen.

use frolic_raster::camera::{Camera, NEAR};
use frolic_raster::colour9::unpack;
use frolic_raster::light::{Lamp, Light, Surface, on_surface};
use frolic_raster::points::{Skin, project};
use frolic_raster::surfaces::{Bend, MeshEight, Paint, Pose, RibbonForm, Sheaf, bent_mesh, mesh, ribbons};
use frolic_raster::{LANES, Lanes};
use frolic_simd::levels;
use glam::{Mat3, Quat, Vec3};
use proptest::prelude::*;

const MATTE: Surface = Surface { lit: 1.0, rim: 0.0, translucency: 0.0, two_sided: false, gloss: 0.0 };

fn dark() -> Light<'static> {
    Light {
        lamps: &[],
        sun: None,
        towards_sun: Vec3::Y,
        ambient: Vec3::ZERO,
        bounce: Vec3::ZERO,
        haze: (Vec3::ZERO, 0.0),
    }
}

fn paint<'a>(light: Light<'a>, surface: Surface) -> Paint<'a> {
    Paint { surface, apart: true, hazed: 0.0, along: None, eye: Vec3::new(0.0, 0.0, 10.0), light }
}

prop_compose! {
    fn place(reach: f32)(x in -reach..reach, y in -reach..reach, z in -reach..reach) -> Vec3 {
        Vec3::new(x, y, z)
    }
}

prop_compose! {
    fn way()(turn in -3.1f32..3.1, rise in -1.5f32..1.5) -> Vec3 {
        Vec3::new(turn.sin() * rise.cos(), rise.sin(), turn.cos() * rise.cos())
    }
}

/// Vertices of a mesh, eight at a time; the last eight is filled up with copies.
fn eights(vertices: &[(Vec3, Vec3)]) -> Vec<MeshEight> {
    let column = |chunk: &[(Vec3, Vec3)], value: &dyn Fn(&(Vec3, Vec3)) -> f32| -> Lanes {
        std::array::from_fn(|lane| value(&chunk[lane.min(chunk.len() - 1)]))
    };
    vertices
        .chunks(LANES)
        .map(|chunk| MeshEight {
            position: [0, 1, 2].map(|axis| column(chunk, &|vertex| vertex.0[axis])),
            normal: [0, 1, 2].map(|axis| column(chunk, &|vertex| vertex.1[axis])),
            uv: [[0.25; LANES], [0.75; LANES]],
        })
        .collect()
}

/// Colour of each lane, without opacity.
fn white(skin: &mut Skin) {
    (skin.opacity, skin.own) = ([1.0; LANES], [[1.0; LANES]; 3]);
}

fn at(skin: &Skin, nth: usize) -> (Vec3, Vec3) {
    let (eight, lane) = skin.point(0, nth);
    (Vec3::from(eight.at.map(|axis| axis[lane])), Vec3::from(eight.normal.map(|axis| axis[lane])))
}

proptest! {
    /// Each vertex is scaled, turned and moved; its normal is turned alone.
    #[test]
    fn meshes_are_placed_by_their_pose(
        vertices in prop::collection::vec((place(2.0), way()), 1..40),
        turn in -7f32..7.0, tilt in -2f32..2.0, size in 0.01f32..20.0, to in place(50.0),
    ) {
        let turn = Mat3::from_quat(Quat::from_rotation_y(turn) * Quat::from_rotation_x(tilt));
        for level in levels() {
            let mut skin = Skin::default();
            skin.start(vertices.len(), 0);
            white(&mut skin);
            mesh(level, &mut skin, &eights(&vertices), &Pose { turn, size, at: to, wave: None }, Some(&paint(dark(), MATTE)));
            for (nth, (own, normal)) in vertices.iter().enumerate() {
                let (place, turned) = at(&skin, nth);
                prop_assert!(place.distance(turn * *own * size + to) < 1e-3 * (1.0 + size));
                prop_assert!(turned.distance(turn * *normal) < 1e-5);
            }
        }
    }

    /// Along a straight upright curve, a bent mesh is the mesh itself, at the size of the curve.
    #[test]
    fn a_mesh_bent_along_a_straight_line_is_not_bent(
        vertices in prop::collection::vec((place(0.9), way()), 1..20), turn in -3f32..3.0, length in 0.1f32..5.0, root in place(9.0),
    ) {
        for level in levels() {
            let mut skin = Skin::default();
            skin.start(vertices.len(), 0);
            white(&mut skin);
            let tip = Vec3::Y * length;
            let bend = Bend { curve: [root, tip * 0.5, tip], turn, length, wide: 1.0 };
            bent_mesh(level, &mut skin, &eights(&vertices), &bend, Some(&paint(dark(), MATTE)));
            for (nth, (own, normal)) in vertices.iter().enumerate() {
                let rotation = Quat::from_rotation_y(turn);
                let (place, turned) = at(&skin, nth);
                prop_assert!(place.distance(root + rotation * *own * length) < 1e-4 * (1.0 + length), "{place} {own}");
                prop_assert!(turned.distance(rotation * *normal) < 1e-4, "{turned} {normal}");
            }
        }
    }

    /// Ribbons run from root to tip along a quadratic curve, and taper evenly.
    #[test]
    fn ribbons_follow_their_curves(
        root in place(5.0), middle in place(1.0), tip in place(2.0), size in 0.001f32..0.5, end in 0f32..1.5, points in 2usize..13,
    ) {
        let lanes = |v: Vec3| v.to_array().map(|axis| [axis; LANES]);
        let sheaf = Sheaf {
            len: LANES,
            curve: [lanes(root), lanes(middle), lanes(tip)],
            size: [size; LANES],
            own: [[1.0; LANES]; 3],
            opacity: [1.0; LANES],
            facing: [[0.0; LANES]; 2],
        };
        for level in levels() {
            let mut skin = Skin::default();
            let form = RibbonForm { points, tip: end, round: 0.0 };
            ribbons(level, &mut skin, &sheaf, form, Vec3::new(0.0, 0.0, 10.0), Some(&paint(dark(), MATTE)));
            prop_assert_eq!((skin.len, skin.ribbons, skin.used()), (points, LANES, points));
            for nth in 0..points {
                let t = nth as f32 / (points - 1) as f32;
                let (place, normal) = at(&skin, nth);
                prop_assert!(place.distance(root + middle * (2.0 * t * (1.0 - t)) + tip * (t * t)) < 1e-5 * 20.0);
                prop_assert!((normal.length() - 1.0).abs() < 1e-4);
                let radius = skin.point(0, nth).0.radius[3];
                prop_assert!((radius - size * (1.0 + t * (end - 1.0))).abs() < 1e-6);
            }
        }
    }

    /// The kernel of light, eight points at a time, equals the formula for one: Lambert's cosine, the sky above, the ground below.
    #[test]
    fn surfaces_are_lit_by_the_cosine(
        normal in way(), towards in way(), lamp in place(4.0), power in 0f32..5.0, sky in 0f32..2.0, ground in 0f32..1.0,
        through in 0f32..1.0, sides in any::<bool>(),
    ) {
        let lamps = [Lamp { position: lamp.to_array(), colour: [1.0, 0.5, 0.25], power, radius: 0.2 }];
        let light = Light {
            lamps: &lamps,
            sun: Some(Vec3::new(2.0, 1.5, 1.0)),
            towards_sun: towards,
            ambient: Vec3::splat(sky),
            bounce: Vec3::splat(ground),
            ..dark()
        };
        let (place, eye) = (Vec3::ZERO, Vec3::new(0.0, 0.0, 10.0));
        let surface = Surface { lit: 1.0, rim: 0.0, translucency: through, two_sided: sides, gloss: 0.0 };
        let facing = if sides && normal.dot(eye) < 0.0 { -normal } else { normal };
        let share = |cos: f32| if cos >= 0.0 { cos } else { -cos * through };
        let hemisphere = ground + (sky - ground) * (facing.y * 0.5 + 0.5);
        let fall = power / (lamp.length_squared() + 0.04);
        let lamplight = share(facing.dot(lamp.normalize_or(Vec3::Y))) * fall;
        let expected = Vec3::splat(hemisphere) + Vec3::new(1.0, 0.5, 0.25) * lamplight;
        let sunlight = Vec3::new(2.0, 1.5, 1.0) * share(facing.dot(towards));
        // At right angles to the eye the side that shows is decided by rounding.
        prop_assume!(normal.dot(Vec3::Z).abs() > 1e-3);
        for level in levels() {
            let [own, sun] = on_surface(level, &light, surface, place, normal, eye);
            let most = 1.0 + expected.max_element() + sunlight.max_element();
            prop_assert!(own.distance(expected) < 1e-3 * most, "{own} {expected}");
            prop_assert!(sun.distance(sunlight) < 1e-3 * most, "{sun} {sunlight}");
        }
    }

    /// Haze only moves a colour towards its tone, and more of it with distance.
    #[test]
    fn haze_grows_with_distance(near in 1f32..20.0, more in 0.5f32..50.0, per in 0.001f32..0.2) {
        let tone = Vec3::new(0.2, 0.5, 0.9);
        let light = Light { haze: (tone, per), ..dark() };
        let surface = Surface { lit: 0.0, ..MATTE };
        let colour = |distance: f32, level| {
            let mut skin = Skin::default();
            skin.start(1, 0);
            white(&mut skin);
            let pose = Pose { turn: Mat3::IDENTITY, size: 1.0, at: Vec3::new(0.0, 0.0, 10.0 - distance), wave: None };
            let hazed = Paint { hazed: 1.0, ..paint(light, surface) };
            mesh(level, &mut skin, &eights(&[(Vec3::ZERO, Vec3::Y)]), &pose, Some(&hazed));
            Vec3::from(skin.eights[0].colour.map(|channel| channel[0]))
        };
        for level in levels() {
            let (a, b) = (colour(near, level), colour(near + more, level));
            let off = |colour: Vec3| (colour - tone).abs().max_element();
            prop_assert!(off(b) <= off(a) + 1e-6 && off(a) < 0.8 + 1e-6, "{a} {b}");
            let left = (a.x - tone.x) / (1.0 - tone.x);
            prop_assert!((left - (-near * per).exp()).abs() < 0.03, "{left} at {near}");
        }
    }

    /// Points land on the screen where a pinhole camera puts them, and colours are stored without their opacity.
    #[test]
    fn points_are_projected_by_a_pinhole(
        places in prop::collection::vec(place(8.0), 1..20), focal in 50f32..2000.0, opacity in 0.05f32..1.0, level_view in any::<bool>(),
    ) {
        let camera = Camera {
            eye: Vec3::new(0.0, 0.0, 10.0),
            right: Vec3::X,
            up: Vec3::Y,
            forward: Vec3::NEG_Z,
            focal,
            middle: [320.0, 200.0],
            level: level_view,
            near: NEAR,
        };
        for level in levels() {
            let mut skin = Skin::default();
            skin.start(places.len(), 0);
            (skin.opacity, skin.own) = ([opacity; LANES], [[0.5 * opacity; LANES]; 3]);
            let vertices: Vec<_> = places.iter().map(|place| (*place, Vec3::Y)).collect();
            let pose = Pose { turn: Mat3::IDENTITY, size: 1.0, at: Vec3::ZERO, wave: None };
            mesh(level, &mut skin, &eights(&vertices), &pose, Some(&paint(dark(), Surface { lit: 0.0, ..MATTE })));
            project(level, &mut skin, &camera, true);
            prop_assert_eq!(skin.in_front, [1.0; LANES]);
            for (nth, own) in places.iter().enumerate() {
                let (eight, lane) = skin.point(0, nth);
                let depth = 10.0 - own.z;
                let scale = if level_view { focal } else { focal / depth };
                prop_assert!((eight.x[lane] - (320.0 + own.x * scale)).abs() < 1e-3 * focal);
                prop_assert!((eight.y[lane] - (200.0 - own.y * scale)).abs() < 1e-3 * focal);
                prop_assert!((eight.depth[lane] - depth).abs() < 1e-4);
                let [r, ..] = unpack(eight.base[lane]);
                prop_assert!((r - 0.5).abs() < 0.004, "{r}");
            }
        }
    }
}

/// A point behind the camera marks its lane, so that its mesh or ribbon is clipped.
#[test]
fn points_behind_the_camera_are_marked() {
    let camera = Camera {
        eye: Vec3::ZERO,
        right: Vec3::X,
        up: Vec3::Y,
        forward: Vec3::NEG_Z,
        focal: 500.0,
        middle: [0.0; 2],
        level: false,
        near: NEAR,
    };
    for (z, in_front) in [(-1.0, 1.0), (-NEAR * 0.5, 0.0), (1.0, 0.0), (f32::NAN, 0.0)] {
        for level in levels() {
            let mut skin = Skin::default();
            skin.start(1, 1);
            white(&mut skin);
            skin.eights()[0].at = [[0.0; LANES], [0.0; LANES], [z; LANES]];
            project(level, &mut skin, &camera, true);
            assert_eq!(skin.in_front, [in_front; LANES], "{z}");
        }
    }
}
