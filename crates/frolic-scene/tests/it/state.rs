//! Reach into running scenes: columns, edits and commands, by name.

use frolic_core::{Meter, Region};
use frolic_scene::{Command, Scene, SceneError, SceneSpec};

fn running(name: &str, settings: &[(&str, &str)]) -> Scene {
    let spec = SceneSpec::find(name).unwrap();
    let settings = [("draw.size", "[64, 40]")].iter().chain(settings);
    let spec = settings.fold(spec, |spec, (key, value)| spec.set(key, value).unwrap());
    let mut scene = Scene::new(&spec.scaled(2_000)).unwrap();
    let mut meter = Meter::new();
    scene.run_to(0.5, &mut meter);
    scene.draw(&mut meter).unwrap();
    scene
}

/// Every population of every family shows its columns; all of one length; the error for one that is not there names those that are.
#[test]
fn columns_are_read_by_name() {
    for (name, population, columns) in [
        ("beacon", "embers", ["px", "age", "life"]),
        ("dunes", "marram", ["lean_x", "length", "tint"]),
        ("pennants", "pennants", ["px", "tilt", "size"]),
        ("mussels", "mussels", ["py", "growth", "size"]),
    ] {
        let mut scene = running(name, &[]);
        // Growing elements show those of the last picture; an export shows all.
        scene.snapshot(population).unwrap();
        let lengths = columns.map(|column| scene.column(population, column).unwrap().floats().unwrap().len());
        assert!(lengths[0] > 0 && lengths.iter().all(|length| *length == lengths[0]), "{name}: {lengths:?}");
        let problem = scene.column(population, "speed").unwrap_err().to_string();
        assert!(
            problem.contains(&format!("'{population}' has no column 'speed'")) && problem.contains("px"),
            "{problem}"
        );
    }
    let problem = running("beacon", &[]).column("ember", "px").unwrap_err().to_string();
    assert!(problem.contains("did you mean 'embers'") && problem.contains("name one of: "), "{problem}");
}

fn fill(scene: &mut Scene, population: &str, column: &str, value: f32) -> Result<(), SceneError> {
    scene.edit(population, |edit| {
        edit.floats([column])?[0].fill(value);
        Ok(())
    })
}

#[test]
fn elements_are_edited_by_name() {
    let mut scene = running("beacon", &[]);
    let moved = scene
        .edit("embers", |edit| {
            let [y] = edit.floats(["py"])?;
            y.iter_mut().for_each(|y| *y += 100.0);
            Ok(y.len())
        })
        .unwrap();
    let heights = scene.column("embers", "py").unwrap().floats().unwrap();
    assert!(heights.len() == moved && heights.iter().all(|y| *y > 90.0));
    let problem = fill(&mut scene, "embers", "py", f32::NAN).unwrap_err();
    assert!(problem.to_string().starts_with("embers.py: element 0 has NaN"), "{problem}");
    assert!(scene.column("embers", "py").unwrap().floats().unwrap().iter().all(|y| *y > 90.0));

    let mut scene = running("dunes", &[]);
    fill(&mut scene, "marram", "length", 0.05).unwrap();
    assert!(scene.column("marram", "length").unwrap().floats().unwrap().iter().all(|length| *length == 0.05));
    let mut meter = Meter::new();
    scene.tick(1.0 / 60.0, &mut meter);
    scene.draw(&mut meter).unwrap();
}

/// Those that stay where they are put are moved, and the box that drawing culls by goes with them; those that grow are set back or taken out.
#[test]
fn static_and_growing_elements_are_edited_by_name() {
    let mut meter = Meter::new();
    let mut scene = running("pennants", &[]);
    let before = scene.draw(&mut meter).unwrap().clone();
    let rows = |scene: &Scene| scene.column("pennants", "py").unwrap().floats().unwrap().to_vec();
    let was = rows(&scene);
    scene
        .edit("pennants", |edit| {
            edit.floats(["py"])?[0].iter_mut().for_each(|y| *y += 500.0);
            assert!(edit.kill(0) && !edit.kill(1 << 20));
            Ok(())
        })
        .unwrap();
    assert!(rows(&scene).iter().zip(&was).all(|(now, was)| now - was == 500.0));
    assert_eq!(scene.column("pennants", "size").unwrap().floats().unwrap()[0], 0.0);
    scene.tick(1.0 / 60.0, &mut meter);
    assert!(scene.draw(&mut meter).unwrap().pixels() != before.pixels());
    let problem = fill(&mut scene, "pennants", "tilt", f32::INFINITY).unwrap_err().to_string();
    assert!(problem.starts_with("pennants.tilt: element 0 has inf"), "{problem}");
    assert!(rows(&scene)[0] > 400.0);

    let mut scene = running("mussels", &[]);
    let count = scene
        .edit("mussels", |edit| {
            let [growth] = edit.floats(["growth"])?;
            growth.fill(0.25);
            edit.kill(1);
            Ok(edit.len())
        })
        .unwrap();
    let (places, _) = scene.snapshot("mussels").unwrap();
    assert_eq!(places.elements.len(), count - 1);
    let problem = fill(&mut scene, "mussels", "growth", 3.0).unwrap_err().to_string();
    assert!(problem.starts_with("mussels.growth: element 0 has 3"), "{problem}");
    let problem = fill(&mut scene, "mussels", "px", 3.0).unwrap_err().to_string();
    assert!(problem.contains("is no column that can be changed so"), "{problem}");
}

#[test]
fn commands_are_done_by_name() {
    let all = Region::Sphere { position: [0.0; 3], radius: 1e4 };
    let mut meter = Meter::new();
    let mut scene = running("beacon", &[("embers.count", "5000")]);
    let before = scene.particles("embers").unwrap().len();
    assert_eq!(scene.command(&Command::burst("embers", 0, 300)).unwrap(), 300);
    scene.step(1e-4, 1, &mut meter);
    assert!(scene.particles("embers").unwrap().len() >= before + 290);

    let mut scene = running("mussels", &[]);
    let taken = scene.command(&Command::harvest("mussels", all, 0.0)).unwrap();
    assert!(taken > 1_000, "{taken}");
    assert_eq!(scene.command(&Command::harvest("mussels", all, 0.5)).unwrap(), 0, "all are sown anew");

    let mut scene = running("dunes", &[]);
    let torn = scene.command(&Command::tear("marram", all)).unwrap();
    assert!(torn > 1_000, "{torn}");
    assert_eq!(scene.command(&Command::tear("marram", all)).unwrap(), 0);

    let mut scene = running("blowhole", &[]);
    let spec = scene.spec().world.obstacle.iter().position(|obstacle| obstacle.name.is_some()).unwrap();
    let name = scene.spec().world.obstacle[spec].name.clone().unwrap();
    let middle = scene.world().mask(spec).unwrap().middle();
    let dug = scene.command(&Command::dig(&name, middle, 0.5)).unwrap();
    let filled = scene.command(&Command::fill(&name, middle, 0.5)).unwrap();
    assert!(filled > 0 && filled >= dug, "{dug} dug, {filled} filled");
    scene.draw(&mut meter).unwrap();
}

/// What cannot be done is an error with a remedy, and the scene runs on unchanged.
#[test]
fn commands_that_cannot_be_done_are_told() {
    let all = Region::Sphere { position: [0.0; 3], radius: 10.0 };
    let mut scene = running("beacon", &[]);
    let before = scene.particles("embers").unwrap().columns().clone();
    for (command, told) in [
        (Command::burst("ember", 0, 1), "did you mean 'embers'"),
        (Command::burst("embers", 9, 1), "no number 9"),
        (Command::harvest("embers", all, 0.0), "'embers' does not take it"),
        (Command::tear("embers", all), "name a population of blades to tear"),
        (Command::dig("cliff", [0.0; 3], 1.0), "there is no mask 'cliff'"),
    ] {
        let problem = scene.command(&command).unwrap_err().to_string();
        assert!(problem.contains(told), "{command:?}: {problem}");
    }
    assert_eq!(scene.particles("embers").unwrap().columns(), &before);
    // Commands are data.
    let text = toml::to_string(&Command::burst("embers", 0, 5)).unwrap();
    assert_eq!(toml::from_str::<Command>(&text).unwrap(), Command::burst("embers", 0, 5));
}
