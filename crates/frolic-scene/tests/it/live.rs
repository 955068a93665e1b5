//! Changing scenes while they run.

use frolic_core::{Meter, WorldSpec};
use frolic_draw::{CameraSpec, LookSpec};
#[cfg(feature = "schema")]
use frolic_scene::PopulationSpec;
use frolic_scene::{ChangeEffect, Places, SHIPPED, Scene, SceneSpec};
use toml::Value;

/// A shipped scene with few elements and a small picture.
pub(crate) fn small(name: &str) -> SceneSpec {
    let mut spec = SceneSpec::find(name).unwrap();
    let climbing = spec.profile.population.take();
    for nth in 0..spec.population.len() {
        let name = spec.population[nth].name.clone();
        let count = spec.population[nth].count.min(150);
        spec.profile.population = Some(name);
        spec = spec.scaled(count);
    }
    spec.profile.population = climbing;
    spec.draw.size = "48x30".parse().unwrap();
    spec.threads = 1;
    spec
}

fn run(spec: &SceneSpec, seconds: f64) -> Scene {
    let mut scene = Scene::new(spec).unwrap();
    scene.run_to(seconds, &mut Meter::new());
    scene
}

/// All elements of all populations.
fn state(scene: &mut Scene) -> Vec<(String, Option<Places>)> {
    let names: Vec<String> = scene.spec().population.iter().map(|it| it.name.clone()).collect();
    names
        .into_iter()
        .map(|name| {
            let places = scene.snapshot(&name).map(|(places, _)| places);
            (name, places)
        })
        .collect()
}

/// Every value of a scene: its path, and a value a little different.
fn moved(path: &str, value: &Value, all: &mut Vec<(String, String)>) {
    let under = |key: &str| if path.is_empty() { key.to_owned() } else { format!("{path}.{key}") };
    match value {
        Value::Table(table) => table.iter().for_each(|(key, value)| moved(&under(key), value, all)),
        Value::Array(items) if items.iter().all(Value::is_table) => {
            items.iter().enumerate().for_each(|(nth, value)| moved(&under(&nth.to_string()), value, all));
        }
        Value::Array(items) if items.iter().all(Value::is_float) => {
            let changed: Vec<String> =
                items.iter().map(|it| format!("{:?}", it.as_float().unwrap() * 1.07 + 0.01)).collect();
            all.push((path.to_owned(), format!("[{}]", changed.join(", "))));
        }
        Value::Float(value) => all.push((path.to_owned(), format!("{:?}", value * 1.07 + 0.01))),
        Value::Integer(value) => all.push((path.to_owned(), (value + 1).to_string())),
        Value::Boolean(value) => all.push((path.to_owned(), (!value).to_string())),
        _ => {}
    }
}

/// Whether elements are the same; hidden ones are not a number, which equals nothing.
fn same(a: &Option<Places>, b: &Option<Places>) -> bool {
    a == b || format!("{a:?}") == format!("{b:?}")
}

/// Path as [`Scene::set`] takes it: populations by name.
fn named(path: &str, spec: &SceneSpec) -> String {
    let Some(rest) = path.strip_prefix("population.") else { return path.to_owned() };
    let (nth, rest) = rest.split_once('.').unwrap();
    format!("{}.{rest}", spec.population[nth.parse::<usize>().unwrap()].name)
}

/// Whether a key is live by the schema of scene files.
#[cfg(feature = "schema")]
fn live_by_schema(spec: &SceneSpec, path: &str) -> bool {
    let schema = frolic_scene::schema();
    let parts: Vec<&str> = path.split('.').collect();
    let Some(population) = spec.population.iter().find(|population| population.name == parts[0]) else {
        return schema["properties"][parts[0]]["x-live"].as_bool().unwrap();
    };
    let of = &schema["$defs"]["PopulationSpec"]["properties"];
    let is_particles =
        population.blades.is_none() && population.fixed.is_none() && population.growing.is_none();
    let is_flock = population.flock.is_some();
    let is_particles = is_particles && !is_flock;
    match &of[parts[1]]["x-live"] {
        serde_json::Value::Bool(false) if parts.len() > 2 => {
            let definition =
                of[parts[1]]["anyOf"][0]["$ref"].as_str().unwrap().trim_start_matches("#/$defs/");
            match &schema["$defs"][definition]["properties"][parts[2]]["x-live"] {
                serde_json::Value::Bool(live) => *live,
                text => {
                    assert!(parts[2] == "placement" && text.as_str().unwrap().contains("clumps"));
                    placement_is_live(population, &parts)
                }
            }
        }
        serde_json::Value::Bool(live) => *live,
        kind => {
            let (kind, blades) = (kind.as_str().unwrap(), population.blades.as_ref());
            let counted = parts[1] == "count" && kind.contains("growing elements");
            let grouped = counted && blades.is_some_and(|blades| blades.groups.is_some());
            is_particles
                || (is_flock && kind.contains("flocks"))
                || (blades.is_some() && !grouped)
                || (counted && population.growing.is_some())
        }
    }
}

/// Whether a key of a placement of blades is live: those that do not move any.
#[cfg(feature = "schema")]
fn placement_is_live(population: &PopulationSpec, parts: &[&str]) -> bool {
    let layer = &population.blades.as_ref().unwrap().placement[parts[3].parse::<usize>().unwrap()];
    let thins = layer.clumps.is_some_and(|clumps| clumps.thin > 0.0);
    match parts[4] {
        "clumps" => parts[5] != "thin" && !(thins && ["side", "seed"].contains(&parts[5])),
        key => ["each", "density"].contains(&key),
    }
}

/// Whether a live change gives elements another shape at once, or more or fewer of them.
fn reshapes(spec: &SceneSpec, path: &str) -> bool {
    let is_flock =
        |name: &str| spec.population.iter().any(|other| other.name == name && other.flock.is_some());
    path == "season"
        || path.strip_suffix(".size").is_some_and(is_flock)
        || path.ends_with(".count")
        || ["seasons", "size_over_age", ".placement."].iter().any(|key| path.contains(key))
}

/// Moves keys of every shipped scene while it runs, one in seven, each scene from another on: live changes keep all elements, a population that is built again equals that of a fresh
/// scene, and a refused change leaves everything as it was. Afterwards the scene steps and draws.
#[test]
#[ignore = "slow: scripts/test runs it"]
fn keys_move_while_scenes_run() {
    let (mut live, mut rebuilt, mut refused) = (0, 0, 0);
    for (turn, shipped) in SHIPPED.iter().enumerate() {
        let spec = small(shipped.name);
        let mut scene = run(&spec, 0.25);
        let mut all = Vec::new();
        moved("", &Value::try_from(&spec).unwrap(), &mut all);
        assert!(all.len() > 60, "{}: {} keys", shipped.name, all.len());
        // Files and maps take long to read: two keys of each such list are enough.
        let mut lists = std::collections::HashMap::new();
        all.retain(|(path, _)| {
            let list = path.split('.').next().unwrap();
            let files = ["asset", "texture", "tiles", "sprite", "text", "relief", "mesh", "terrain"];
            let count = lists.entry(list.to_owned()).or_insert(0);
            *count += 1;
            !files.contains(&list) || *count <= 2
        });
        for (path, value) in all.into_iter().skip(turn % 7).step_by(7) {
            let path = named(&path, &spec);
            let place = format!("{}: {path}={value}", shipped.name);
            let before = state(&mut scene);
            let time = scene.time();
            match scene.set(&path, &value) {
                Ok(change) => {
                    assert!(!change.is_unchanged(), "{place}");
                    assert_eq!(scene.time(), time, "{place}");
                    #[cfg(feature = "schema")]
                    assert_eq!(
                        change.is_live(),
                        live_by_schema(&spec, &path),
                        "{place}: the schema says otherwise"
                    );
                    let after = state(&mut scene);
                    let mut fresh = None;
                    for ((name, before), (_, after)) in before.iter().zip(&after) {
                        let again = change.rebuilt().contains(&name.as_str())
                            || change.keys.iter().any(|(_, effect)| *effect == ChangeEffect::RebuiltAll);
                        if again {
                            let fresh = fresh.get_or_insert_with(|| Scene::new(scene.spec()).unwrap());
                            let (own, _) = fresh.snapshot(name).unwrap();
                            assert!(same(after, &Some(own)), "{place}: {name} differs from a fresh one");
                            rebuilt += 1;
                        } else if !reshapes(&spec, &path) {
                            assert!(same(before, after), "{place}: {name} did not stay");
                            live += 1;
                        }
                    }
                }
                Err(error) => {
                    let key = path.split_once('.').map_or(&path[..], |(_, key)| key);
                    assert!(error.to_string().contains(key), "{place}: {error}");
                    assert!(
                        state(&mut scene).iter().zip(&before).all(|((_, a), (_, b))| same(a, b)),
                        "{place} was refused, but changed elements"
                    );
                    refused += 1;
                }
            }
            scene.apply(&spec).unwrap_or_else(|error| panic!("{place}: {error}"));
            assert!(scene.spec() == &spec);
        }
        let mut meter = Meter::new();
        scene.step(1.0 / 60.0, 2, &mut meter);
        scene.draw(&mut meter).unwrap();
    }
    assert!(
        live > 300 && rebuilt > 10 && refused * 10 < live,
        "{live} live, {rebuilt} built again, {refused} refused"
    );
}

/// A change that is taken back leaves no trace: the scene goes on as one that was never changed.
#[test]
fn a_change_that_is_taken_back_leaves_no_trace() {
    for name in ["beacon", "blowhole", "dunes"] {
        let spec = small(name);
        let (mut a, mut b, mut meter) = (run(&spec, 0.3), run(&spec, 0.3), Meter::new());
        let population = spec.population[0].name.clone();
        for (path, value) in [
            ("world.wind", "[9, 0, 1]".to_owned()),
            ("world.gravity", "[0, -3, 0]".to_owned()),
            ("camera.exposure", "2.5".to_owned()),
            (&format!("{population}.look.glow"), "3".to_owned()),
        ] {
            assert!(a.set(path, &value).unwrap().is_live(), "{path}");
        }
        assert!(a.apply(&spec).unwrap().is_live());
        assert!(a.apply(&spec).unwrap().is_unchanged());
        a.run_to(0.6, &mut meter);
        b.run_to(0.6, &mut meter);
        assert!(state(&mut a) == state(&mut b), "{name}");
        assert!(a.draw(&mut meter).unwrap() == b.draw(&mut meter).unwrap(), "{name}");
    }
}

/// A changed world acts from the next step on.
#[test]
fn a_changed_wind_blows_at_once() {
    let mut spec = small("beacon");
    spec.world = WorldSpec::default();
    let (mut calm, mut windy, mut meter) = (run(&spec, 1.0), run(&spec, 1.0), Meter::new());
    windy.set("world.wind", "[30, 0, 0]").unwrap();
    let mean = |scene: &mut Scene| {
        let columns = scene.particles("embers").unwrap().columns().vx().to_vec();
        columns.iter().sum::<f32>() / columns.len() as f32
    };
    assert!((mean(&mut calm) - mean(&mut windy)).abs() < 1e-6);
    calm.run_to(1.2, &mut meter);
    windy.run_to(1.2, &mut meter);
    assert!(mean(&mut windy) > mean(&mut calm) + 0.1);
}

/// Cells that were dug stay dug when other keys of the world change, and are whole again when the mask itself changes.
#[test]
fn dug_masks_stay_through_changes() {
    let spec = small("blowhole");
    let mut scene = run(&spec, 0.1);
    let nth = (0..spec.world.obstacle.len()).find(|&nth| scene.world().mask(nth).is_some()).unwrap();
    let filled = |scene: &Scene| {
        let mask = scene.world().mask(nth).unwrap();
        let cells = (0..mask.height()).flat_map(|y| (0..mask.width()).map(move |x| (x, y)));
        cells.map(|(x, y)| mask.sample_cells(x as f32, y as f32).0.to_bits()).collect::<Vec<_>>()
    };
    let before = filled(&scene);
    // Dig at every place of the mask that is near the target of the camera.
    let [x, y, z] = spec.camera.target;
    let mut dug = 0;
    for step in -20..20 {
        dug += scene.world_mut().dig(nth, [x + step as f32 * 0.2, y, z], 0.4);
    }
    assert!(dug > 0);
    let after = filled(&scene);
    assert!(before != after);
    assert!(scene.set("world.wind", "[1, 0, 0]").unwrap().is_live());
    assert!(filled(&scene) == after);
}

/// Blades that stand stay when there are more or fewer of them, or others clumps.
#[test]
fn blades_stay_when_their_count_changes() {
    let spec = small("dunes");
    let mut scene = run(&spec, 0.5);
    let roots = |scene: &Scene| scene.column("marram", "px").unwrap().floats().unwrap().to_vec();
    let before = roots(&scene);
    assert!(scene.set("marram.count", "200").unwrap().is_live());
    assert_eq!(roots(&scene)[..before.len()], before);
    assert_eq!(roots(&scene).len(), 200);
    assert!(scene.set("marram.count", "80").unwrap().is_live());
    assert!(roots(&scene).iter().all(|x| before.contains(x)));
    assert!(scene.set("marram.count", &before.len().to_string()).unwrap().is_live());
    let mut again = roots(&scene);
    let mut sorted = before.clone();
    again.sort_by(f32::total_cmp);
    sorted.sort_by(f32::total_cmp);
    assert_eq!(again, sorted);
    assert!(scene.draw(&mut Meter::new()).is_ok());
    // More than there is memory for is refused, and the scene runs on.
    let problem = scene.set("marram.count", "4000000000").unwrap_err().to_string();
    assert!(problem.contains("count"), "{problem}");
    assert_eq!(roots(&scene).len(), before.len());
    assert_eq!(
        scene.spec().population.iter().find(|it| it.name == "marram").unwrap().count,
        before.len() as u32
    );
    // What has grown stays too.
    let mut beds = run(&small("mussels"), 0.5);
    let change = beds.set("mussels.count", "9000").unwrap();
    assert!(change.is_live(), "{change:?}");
    assert!(beds.set("mussels.count", "4000000000").is_err());
    assert!(beds.draw(&mut Meter::new()).is_ok());
    // Squares of a layout hold the same blades: groups are built again.
    let mut machair = run(&small("machair"), 0.2);
    let name = machair.spec().population.iter().find(|it| it.blades.is_some()).unwrap().name.clone();
    let change = machair.set(&format!("{name}.count"), "170").unwrap();
    assert_eq!(change.rebuilt(), [name.as_str()]);
}

/// A larger count has room for more; a smaller one lets elements live out, and both are taken back.
#[test]
fn counts_change_while_elements_live() {
    let mut spec = small("beacon");
    spec.population[0].emitter.iter_mut().for_each(|emitter| emitter.rate = 4000.0);
    spec.population[0].count = 500;
    let (mut scene, mut meter) = (run(&spec, 1.0), Meter::new());
    let name = spec.population[0].name.clone();
    let len = |scene: &Scene| scene.particles(&name).unwrap().len();
    assert_eq!(len(&scene), 500);
    let ids = |scene: &Scene| scene.particles(&name).unwrap().columns().id().to_vec();
    let before = ids(&scene);
    assert!(scene.set(&format!("{name}.count"), "900").unwrap().is_live());
    assert_eq!(ids(&scene), before);
    scene.run_to(1.3, &mut meter);
    assert_eq!(len(&scene), 900);
    assert!(scene.set(&format!("{name}.count"), "300").unwrap().is_live());
    assert_eq!(len(&scene), 900, "elements live out");
    scene.run_to(30.0, &mut meter);
    assert!(len(&scene) <= 300);
}

/// The camera can be set in each frame, and a bad one is refused.
#[test]
fn the_camera_can_be_set_in_each_frame() {
    let spec = small("beacon");
    let (mut scene, mut meter) = (run(&spec, 0.2), Meter::new());
    let first = scene.draw(&mut meter).unwrap().clone();
    for turn in 0..4 {
        let (sin, cos) = (turn as f32 * 0.4).sin_cos();
        let mut camera = CameraSpec::new([8.0 * sin, 3.0, 8.0 * cos], [0.0, 1.0, 0.0], 40.0);
        camera.exposure = spec.camera.exposure;
        scene.set_camera(camera).unwrap();
        assert!(scene.draw(&mut meter).unwrap() != &first);
    }
    let there = *scene.view();
    assert!(scene.set_camera(CameraSpec::new([0.0; 3], [0.0; 3], 40.0)).is_err());
    assert!(*scene.view() == there);
    scene.set_camera(spec.camera).unwrap();
    assert!(scene.draw(&mut meter).unwrap() == &first);
}

/// Other lists of populations build the scene again, at the same time.
#[test]
fn another_list_of_populations_builds_again() {
    let spec = small("beacon");
    let mut scene = run(&spec, 0.5);
    let more = spec.clone().with("more", frolic_core::ParticleSpec::new(5), LookSpec::default());
    let change = scene.apply(&more).unwrap();
    assert!(change.keys.iter().all(|(_, effect)| *effect == ChangeEffect::RebuiltAll), "{change:?}");
    assert!((scene.time() - 0.5).abs() < 1e-6 && scene.particles("more").is_some());
    let told = scene.set("none.count", "5").unwrap_err().to_string();
    assert!(told.contains("unknown key 'none'"), "{told}");
    assert!(scene.set("more.life", "fast").is_err());
    assert!(scene.set("more.count", "9").unwrap().is_live());
}
