//! Crowds in scenes: what is refused, what changes while they run, and what a saved scene continues.

use frolic_core::{Counter, Meter};
use frolic_scene::{Scene, SceneSpec};

/// Two bands that cross a square around a post.
const SQUARE: &str = r#"
frolic = 1
title = "two bands cross a square"
[clock]
rate = 10
[[world.obstacle]]
shape = { post = { position = [0.0, 0.0, 0.0], radius = 1.5 } }
[[population]]
name = "north"
count = 60
size = [0.2, 0.3]
apart = {}
[population.crowd]
position = [0.0, 0.0, -12.0]
goal = { across = [0.0, 0.0, 0.0] }
tint_by = "waiting"
[[population]]
name = "patrol"
count = 3
size = 0.3
[population.crowd]
start = { box = { size = [1.0, 0.0, 1.0] } }
position = [6.0, 0.0, 0.0]
goal = { path = { points = [[6, 0, 0], [0, 0, 6], [-6, 0, 0], [0, 0, -6]], again = true } }
"#;

fn spec() -> SceneSpec {
    SceneSpec::parse(SQUARE, "square.toml").unwrap().set("draw.size", "[160, 100]").unwrap()
}

fn column(scene: &Scene, population: &str, name: &str) -> Vec<f32> {
    scene.column(population, name).unwrap().floats().unwrap().to_vec()
}

#[test]
fn a_band_crosses_the_square() {
    let mut scene = Scene::new(&spec()).unwrap();
    let mut meter = Meter::new();
    scene.run_to(40.0, &mut meter);
    meter.begin_frame();
    scene.step(0.1, 1, &mut meter);
    scene.draw(&mut meter).unwrap();
    let frame = meter.end_frame();
    assert_eq!(frame.count(Counter::Alive), 63);
    assert_eq!(frame.count(Counter::DrawCalls), 1);
    assert_eq!(column(&scene, "north", "arrived").iter().sum::<f32>(), 60.0);
    assert!(column(&scene, "north", "pz").iter().all(|z| *z > 5.0));
    // Patrols never arrive, and go around the post.
    assert!(column(&scene, "patrol", "way").iter().all(|way| *way > 30.0));
    let ([x, z], way) = (["px", "pz"].map(|name| column(&scene, "patrol", name)), 1.5);
    assert!(x.iter().zip(&z).all(|(x, z)| x.hypot(*z) > way));
}

#[test]
fn goals_and_counts_change_while_they_run() {
    let (mut scene, mut meter) = (Scene::new(&spec()).unwrap(), Meter::new());
    scene.run_to(2.0, &mut meter);
    for (key, value) in [
        ("north.crowd.goal", "{ point = [-9.0, 0.0, -9.0] }"),
        ("north.crowd.avoidance", "\"forces\""),
        ("north.crowd.cruise", "[1.0, 1.2]"),
        ("north.size", "[0.2, 0.25]"),
        ("north.count", "40"),
        ("north.look.lit", "0.5"),
    ] {
        let change = scene.set(key, value).unwrap();
        assert!(change.is_live() && !change.is_unchanged(), "{key}: {change:?}");
    }
    assert_eq!(column(&scene, "north", "gx"), [-9.0; 40]);
    let change = scene.set("north.crowd.position", "[0.0, 0.0, -14.0]").unwrap();
    assert!(!change.is_live(), "{change:?}");
    scene.run_to(3.0, &mut meter);
    assert!(scene.draw(&mut meter).is_ok());
}

#[test]
fn a_saved_scene_goes_on_to_the_bit() {
    let (mut scene, mut meter) = (Scene::new(&spec()).unwrap(), Meter::new());
    scene.run_to(3.0, &mut meter);
    let mut copy = Scene::new(&spec()).unwrap();
    copy.restore(&scene.save().unwrap()).unwrap();
    for scene in [&mut scene, &mut copy] {
        scene.run_to(6.0, &mut meter);
    }
    assert_eq!(column(&scene, "north", "px"), column(&copy, "north", "px"));
}

#[test]
fn what_cannot_be_is_refused() {
    for (key, value, said) in [
        ("north.crowd.goal", "{ direction = [0.0, 1.0, 0.0] }", "write one along the ground"),
        ("north.crowd.heeds", "0", "heeds"),
        ("north.crowd.sight", "nan", "sight"),
        ("north.crowd.goal.across", "[0.0, 0.0]", "across"),
        ("north.trail", "{ places = 4, every = 0.1, look = {} }", "does nothing in a population of crowd"),
        ("north.crowd.shy", "1", "shy"),
    ] {
        let problem = match spec().set(key, value) {
            Ok(changed) => Scene::new(&changed).unwrap_err().to_string(),
            Err(problem) => problem.to_string(),
        };
        assert!(problem.contains(said), "{key}: {problem}");
    }
}
