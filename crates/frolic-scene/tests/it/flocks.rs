//! Flocks in scenes: what is refused, what changes while they run, hunters and prey, and what a saved scene continues.

use frolic_core::{Counter, Meter};
use frolic_scene::{Scene, SceneSpec};

/// Prey, and hunters that chase it; few, so that tests are quick.
const HUNT: &str = r#"
frolic = 1
title = "a hunt"
[[population]]
name = "fry"
count = 400
size = 0.1
event = [{ on = "caught", start = "bubbles", count = 5 }]
[population.flock]
start = { sphere = { radius = 1.5 } }
within = { box = { position = [0.0, 0.0, 0.0], size = [6.0, 4.0, 6.0] } }
flee = [{ target = { population = "pike" }, weight = 3.0, radius = 1.0, alarm = 1.0 }]
[[population]]
name = "pike"
count = 3
size = 0.5
[population.flock]
position = [2.0, 0.0, 0.0]
cruise = 2.5
speed_limits = [1.0, 4.0]
acceleration = 15.0
within = { box = { position = [0.0, 0.0, 0.0], size = [6.0, 4.0, 6.0] } }
hunt = { prey = "fry", sight = 8.0, reach = 0.4, digest = 0.5 }
[[population]]
name = "bubbles"
count = 500
"#;

fn spec() -> SceneSpec {
    SceneSpec::parse(HUNT, "hunt.toml").unwrap().set("draw.size", "[160, 100]").unwrap()
}

fn refused(keys: &[(&str, &str)]) -> String {
    let mut spec = spec();
    for (key, value) in keys {
        match spec.set(key, value) {
            Ok(changed) => spec = changed,
            Err(problem) => return problem.to_string(),
        }
    }
    Scene::new(&spec).unwrap_err().to_string()
}

#[test]
fn prey_is_caught_and_bubbles_rise() {
    let mut scene = Scene::new(&spec()).unwrap();
    let mut meter = Meter::new();
    meter.begin_frame();
    scene.run_to(6.0, &mut meter);
    let frame = meter.end_frame();
    let caught = frame.count(Counter::Caught);
    let left = scene.column("fry", "px").unwrap().floats().unwrap().len() as u64;
    assert!(caught > 2 && caught + left == 400, "{caught} {left}");
    assert_eq!(frame.count(Counter::Emitted), caught * 5);
    let alarm = scene.column("fry", "alarm").unwrap().floats().unwrap();
    assert!(alarm.iter().any(|alarm| *alarm > 0.5));
    // Stepped in one call or in many, as its populations look at each other.
    let mut other = Scene::new(&spec()).unwrap();
    for second in 1..=6 {
        other.run_to(f64::from(second), &mut meter);
    }
    let column = |scene: &Scene, name: &str| scene.column(name, "px").unwrap().floats().unwrap().to_vec();
    for name in ["fry", "pike"] {
        assert_eq!(column(&scene, name), column(&other, name), "{name}");
    }
    // A saved scene goes on with the same bits, catches included.
    let saved = scene.save().unwrap();
    let mut again = Scene::new(&spec()).unwrap();
    again.restore(&saved).unwrap();
    scene.run_to(8.0, &mut meter);
    again.run_to(8.0, &mut meter);
    assert_eq!(column(&scene, "fry"), column(&again, "fry"));
}

#[test]
fn weights_change_while_it_runs() {
    let mut scene = Scene::new(&spec()).unwrap();
    let mut meter = Meter::new();
    scene.run_to(1.0, &mut meter);
    let ids = |scene: &Scene| {
        let Ok(frolic_core::Column::Numbers(ids)) = scene.column("fry", "id") else {
            panic!("ids are numbers")
        };
        let mut ids = ids.to_vec();
        ids.sort_unstable();
        ids
    };
    let before = ids(&scene);
    for (key, value) in [
        ("fry.flock.cohesion.weight", "4.0"),
        ("fry.flock.alignment", "{ radius = 0.5, weight = 0.0 }"),
        ("fry.flock.neighbours", "\"all-pairs\""),
        ("fry.flock.within.box.size", "[4.0, 4.0, 4.0]"),
        ("fry.look.gloss", "2.0"),
    ] {
        let change = scene.set(key, value).unwrap();
        assert!(change.is_live() && !change.is_unchanged(), "{key}: {change:?}");
        assert_eq!(ids(&scene), before, "{key}");
    }
    scene.set("fry.count", "500").unwrap();
    assert_eq!(ids(&scene).len(), before.len() + 100);
    scene.run_to(1.5, &mut meter);
    assert!(scene.draw(&mut meter).is_ok());
}

#[test]
fn what_cannot_be_is_refused() {
    for (keys, said) in [
        (&[("pike.flock.hunt.prey", "\"pike\"")][..], "this population itself"),
        // A ring of flight: each flees the other however far away it is.
        (
            &[
                ("pike.flock.flee", "[{ target = { population = \"fry\" } }]"),
                ("fry.flock.flee", "[{ target = { population = \"pike\" } }]"),
            ],
            "at any distance: they would flee without end",
        ),
        (&[("pike.flock.hunt.prey", "\"frie\"")], "there is no population"),
        (&[("pike.flock.hunt.prey", "\"bubbles\"")], "is no flock"),
        (&[("fry.flock.hunt", "{ prey = \"pike\" }")], "too"),
        (&[("fry.flock.flee.0.target", "{ pusher = \"hand\" }")], "no pusher is named"),
        (&[("fry.flock.cohesion.radius", "0.0")], "cohesion.radius"),
        (&[("fry.flock.cohesion.radius", "9.0")], "write at most 4"),
        (&[("fry.flock.separation.weight", "nan")], "separation.weight"),
        (&[("fry.life", "[1.0, 2.0]"), ("fry.motion.drag", "1.0")], "does nothing in a population of flock"),
        (&[("fry.flock.within", "{ distance = { asset = \"reef\" } }")], "reef"),
    ] {
        let problem = refused(keys);
        assert!(problem.contains(said), "{keys:?}: {problem}");
    }
}
