//! Keys that change gradually.

use frolic_core::Meter;
use frolic_scene::{Scene, SceneSpec};
use proptest::prelude::*;

use crate::live::small;

fn run(scene: &mut Scene, steps: u32) {
    scene.step(1.0 / 60.0, steps, &mut Meter::new());
}

fn scene(name: &str) -> Scene {
    let mut scene = Scene::new(&small(name)).unwrap();
    run(&mut scene, 20);
    scene
}

#[test]
fn ramps_sizes_and_colours_ease() {
    let mut scene = scene("beacon");
    let ramp = |scene: &Scene| scene.spec().population[0].look.size_over_age.clone();
    let name = scene.spec().population[0].name.clone();
    scene.set(&format!("{name}.look.size_over_age"), "[[0, 1], [1, 1]]").unwrap();
    // Another number of stops.
    scene.ease(&format!("{name}.look.size_over_age"), "[[0, 3], [0.5, 1], [1, 0]]", 1.0).unwrap();
    scene.ease(&format!("{name}.size"), "[0.1, 0.3]", 2.0).unwrap();
    scene.ease("sky.horizon", "\"#ffffff\"", 0.5).unwrap();
    scene.ease("camera.exposure", "3", 1.0).unwrap();
    let before = scene.spec().clone();
    assert!(scene.is_easing());
    run(&mut scene, 30);
    let half = ramp(&scene);
    assert!((half.at(0.0) - 2.0).abs() < 0.05 && (half.at(1.0) - 0.5).abs() < 0.05, "{half:?}");
    assert!((half.at(0.5) - 1.0).abs() < 1e-5);
    let sky = scene.spec().sky.horizon;
    assert!((sky.r - 1.0).abs() < 1e-3 && (sky.b - 1.0).abs() < 1e-3, "{sky:?}");
    let exposure = scene.spec().camera.exposure;
    assert!((exposure - (before.camera.exposure + 3.0) * 0.5).abs() < 0.05, "{exposure}");
    run(&mut scene, 100);
    assert!(!scene.is_easing());
    assert_eq!((ramp(&scene).at(0.0), scene.spec().camera.exposure), (3.0, 3.0));
    assert_eq!(scene.spec().population[0].size.max, 0.3);
    scene.draw(&mut Meter::new()).unwrap();
}

#[test]
fn blades_grow_without_a_jump() {
    let mut scene = scene("dunes");
    let tallest = |scene: &Scene| {
        scene.column("marram", "length").unwrap().floats().unwrap().iter().copied().fold(0.0, f32::max)
    };
    let count = scene.alive();
    let mut last = tallest(&scene);
    scene.ease("marram.blades.length", "[1.5, 2]", 0.5).unwrap();
    let mut most = 0.0f32;
    for _ in 0..40 {
        run(&mut scene, 1);
        let now = tallest(&scene);
        most = most.max(now - last);
        assert!(now >= last - 1e-5);
        last = now;
    }
    assert!(last > 1.2 && most < last * 0.1, "{last} {most}");
    assert_eq!(scene.alive(), count, "no blade was built again");
}

#[test]
fn what_cannot_ease_is_refused() {
    let mut scene = scene("dunes");
    let before = scene.spec().clone();
    for (path, value, seconds, told) in [
        ("draw.technique", "each", 1.0, "nothing between"),
        ("marram.blades.chunk", "3", 1.0, "is not live"),
        ("world.wind", "[1, 2]", 1.0, "world.wind"),
        ("world.wnd", "[1, 2, 0]", 1.0, "did you mean"),
        ("camera.fov_degrees", "500", 1.0, "out of range"),
        ("world.wind", "[1, 2, 0]", 0.0, "write a duration above 0"),
        ("world.wind", "[1, 2, 0]", f64::NAN, "write a duration above 0"),
    ] {
        let problem = scene.ease(path, value, seconds).unwrap_err().to_string();
        assert!(problem.contains(told), "{path}: {problem}");
    }
    assert!(!scene.is_easing() && *scene.spec() == before);
}

#[test]
fn other_changes_end_an_easing() {
    let mut scene = scene("beacon");
    let wind = |scene: &Scene| scene.spec().world.wind[0];
    scene.ease("world.wind", "[9, 0, 0]", 1.0).unwrap();
    run(&mut scene, 10);
    scene.set("world.wind", "[1, 0, 0]").unwrap();
    run(&mut scene, 10);
    assert_eq!((wind(&scene), scene.is_easing()), (1.0, false));
    // The later of two wins, from where the first has come.
    scene.ease("world.wind", "[9, 0, 0]", 1.0).unwrap();
    run(&mut scene, 30);
    let there = wind(&scene);
    scene.ease("world.wind", "[2, 0, 0]", 0.2).unwrap();
    run(&mut scene, 1);
    assert!((wind(&scene) - there).abs() < 0.5, "{} {there}", wind(&scene));
    run(&mut scene, 20);
    assert_eq!(wind(&scene), 2.0);
    scene.ease("world.wind", "[9, 0, 0]", 1.0).unwrap();
    let spec: SceneSpec = scene.spec().clone();
    scene.apply(&spec.set("camera.exposure", "2").unwrap()).unwrap();
    assert!(!scene.is_easing());
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(8))]

    /// However time is divided into calls, and with a saved scene in between.
    #[test]
    fn easing_does_not_depend_on_frames(parts in prop::collection::vec(1u32..9, 4..8), seconds in 0.05f64..0.6) {
        let start = || {
            let mut scene = scene("beacon");
            scene.ease("world.wind", "[7, 0, 3]", seconds).unwrap();
            scene.ease("camera.exposure", "2", seconds * 0.5).unwrap();
            scene
        };
        let (mut whole, mut divided) = (start(), start());
        run(&mut whole, parts.iter().sum());
        for (nth, part) in parts.iter().enumerate() {
            run(&mut divided, *part);
            if nth == 1 {
                let saved = divided.save().unwrap();
                divided = saved.open().unwrap();
            }
        }
        prop_assert!(whole.save().unwrap() == divided.save().unwrap());
    }
}
