//! Scenes on the graphics device: the shipped ones are the same picture, and what cannot be is told.

use std::time::Duration;

use frolic_core::{Counter, Frame, Meter, Stage};
use frolic_diagnostics::Show;
use frolic_draw::Image;
use frolic_scene::{ChangeEffect, Scene, SceneSpec};

/// Share of pixels that differ by more than four 8-bit steps: the measure of parity between backends.
fn differ(a: &Image, b: &Image) -> f64 {
    let differs = |(a, b): &(&[u8; 4], &[u8; 4])| (0..4).any(|k| a[k].abs_diff(b[k]) > 4);
    a.pixels().iter().zip(b.pixels()).filter(differs).count() as f64 / a.pixels().len() as f64
}

fn with(spec: &SceneSpec, settings: &[(&str, &str)]) -> SceneSpec {
    settings.iter().fold(spec.clone(), |spec, (key, value)| spec.set(key, value).unwrap())
}

fn picture(spec: &SceneSpec, seconds: f64) -> Image {
    let mut scene = Scene::new(spec).unwrap();
    scene.run_to(seconds, &mut Meter::new());
    scene.draw(&mut Meter::new()).unwrap().clone()
}

/// A test for each scene that ships.
macro_rules! shipped_scenes_are_the_same_picture {
    ($($name:ident),*) => {
        mod shipped_scenes_are_the_same_picture {
            $(#[test] fn $name() { super::shipped_scene_is_the_same_picture(stringify!($name)); })*

            #[test]
            fn all_are_drawn() {
                assert_eq!(frolic_scene::SHIPPED.iter().map(|scene| scene.name).collect::<Vec<_>>(), [$(stringify!($name)),*]);
            }
        }
    };
}
shipped_scenes_are_the_same_picture!(
    beacon, blowhole, dunes, foghorn, heather, machair, mussels, pennants, shoal
);

/// After hundreds of steps, particles stepped on the device.
fn shipped_scene_is_the_same_picture(name: &str) {
    let mut spec = with(&SceneSpec::find(name).unwrap(), &[("draw.size", "[640, 400]")]);
    // Hundreds of thousands that the processor steps and packs are the same as thousands.
    match name {
        "dunes" => spec = with(&spec, &[("marram.count", "40000")]),
        "mussels" => spec = with(&spec, &[("mussels.count", "400000")]),
        "shoal" => spec = with(&spec, &[("eels.count", "6000")]),
        "machair" => spec = with(&spec, &[("grass.count", "60000"), ("draw.technique", "instanced")]),
        _ => {}
    }
    // Those that stay with the processor are the same at any moment.
    let long = ["beacon", "pennants"].contains(&name);
    let seconds = match name {
        // For a short time flocks are where they are on the processor.
        "shoal" => 0.3,
        _ if long => f64::from(spec.draw.at),
        _ => 2.6,
    };
    let here = picture(&spec, seconds);
    let standing = spec.population.iter().all(|it| it.blades.is_some() || it.growing.is_some());
    let residences: &[&str] = if standing { &["auto"] } else { &["auto", "cpu"] };
    for &residence in residences {
        // How the device finds out what is seen does not depend on where elements live.
        let techniques: &[&str] =
            if residence == "auto" { &["instanced", "indirect"] } else { &["instanced"] };
        for &technique in techniques {
            let settings = [("backend", "gpu"), ("residence", residence), ("draw.technique", technique)];
            let off = differ(&here, &picture(&with(&spec, &settings), seconds));
            // Tens of thousands of leaves of a pixel or two, and of blades' shadows over sand seen from the side, are mostly edges.
            let most = match name {
                "heather" => 0.017,
                "dunes" => 0.035,
                _ => 0.01,
            };
            assert!(off <= most, "{name}, residence {residence}, {technique}: {off}");
        }
    }
}

/// A school and its hunter swim on the device: nothing of them is uploaded, they are as orderly as on the processor, and rules change live.
#[test]
fn flocks_swim_on_the_device() {
    let settings = [("eels.count", "2500"), ("draw.size", "[160, 100]")];
    let here = with(&SceneSpec::find("shoal").unwrap(), &settings);
    let mut meter = Meter::new();
    let mut gauges = |spec: &SceneSpec, changed: bool| {
        let mut scene = Scene::new(spec).unwrap();
        if changed {
            let change = scene.set("eels.flock.alignment.weight", "0.0").unwrap();
            assert!(change.keys.iter().all(|(_, effect)| *effect == ChangeEffect::Live), "{change:?}");
        }
        scene.step(1.0 / 30.0, 60, &mut meter);
        scene.draw(&mut meter).unwrap();
        scene.wait(&mut meter).unwrap();
        // Counters come back a frame or two later.
        let mut frame = Frame::default();
        for _ in 0..3 {
            meter.begin_frame();
            scene.step(1.0 / 30.0, 1, &mut meter);
            scene.draw(&mut meter).unwrap();
            frame = meter.end_frame();
        }
        let levels = [Counter::OrderPermille, Counter::MillingPermille, Counter::NearestMicrometres];
        (levels.map(|level| frame.count(level) as f64), frame, scene.alive())
    };
    for changed in [false, true] {
        let (own, _, all) = gauges(&here, changed);
        let (levels, frame, alive) = gauges(&with(&here, &[("backend", "gpu")]), changed);
        // The lure alone.
        assert!(frame.count(Counter::UploadedElementBytes) <= 32);
        assert!(frame.count(Counter::PairsNear) > 0 && frame.count(Counter::CellsUsed) > 0);
        assert!(alive.abs_diff(all) < 30, "{alive} {all}");
        assert!(
            (levels[0] - own[0]).abs() < 120.0 && (levels[1] - own[1]).abs() < 150.0,
            "{levels:?} {own:?}"
        );
        assert!((levels[2] / own[2] - 1.0).abs() < 0.1, "{levels:?} {own:?}");
    }
    // What keeps one with the processor keeps those that look at it there.
    let kept = with(
        &here,
        &[
            ("backend", "gpu"),
            ("seal.trail", "{ places = 8, every = 0.1, look = { shape = { ribbon = {} } } }"),
            ("residence", "gpu"),
        ],
    );
    let error = Scene::new(&kept).unwrap_err().to_string();
    assert!(error.contains("'eels' stays on the CPU") && error.contains("seal"), "{error}");
    // Where they start is fixed there: all is built again.
    let mut scene = Scene::new(&with(&here, &[("backend", "gpu")])).unwrap();
    let change = scene.set("eels.flock.position", "[0.0, -4.0, 0.0]").unwrap();
    assert!(change.keys.iter().all(|(_, effect)| *effect == ChangeEffect::RebuiltAll), "{change:?}");
    assert!(scene.save().is_err());
}

#[test]
fn a_frame_on_the_device_is_metered() {
    let spec = with(&SceneSpec::find("beacon").unwrap(), &[("backend", "gpu"), ("draw.size", "[320, 200]")]);
    // Those that start one another stay with the processor.
    let mut spec = spec;
    spec.population.retain(|population| !["crack", "fines"].contains(&population.name.as_str()));
    let mut scene = Scene::new(&spec).unwrap();
    assert!(scene.is_on_device() && scene.remark().unwrap().starts_with("drawn by "));
    let mut meter = Meter::new();
    scene.run_to(1.5, &mut meter);
    scene.draw(&mut meter).unwrap();
    scene.wait(&mut meter).unwrap();
    assert!(scene.alive() > 3_000, "{}", scene.alive());
    assert!(scene.particles("embers").is_none());
    for _ in 0..4 {
        meter.begin_frame();
        scene.step(1.0 / 60.0, 1, &mut meter);
        scene.draw_in_place(&mut meter).unwrap();
        let frame = meter.end_frame();
        assert_eq!(frame.count(Counter::UploadedElementBytes), 0);
        assert_eq!(frame.count(Counter::DeviceDraws), frame.count(Counter::DrawCalls));
        assert_eq!(frame.count(Counter::Submits), 1);
        assert!(frame.count(Counter::Alive) > 3_000 && frame.count(Counter::ReadbackAge) >= 1);
        assert!(!frame.stage(Stage::Encode).is_zero() && !frame.stage(Stage::Wait).is_zero());
    }
    // As many as the processor keeps.
    let mut here = Scene::new(&with(&spec, &[("backend", "cpu")])).unwrap();
    here.run_to(1.5, &mut meter);
    here.step(1.0 / 60.0, 4, &mut meter);
    scene.wait(&mut meter).unwrap();
    assert_eq!(scene.alive(), here.alive());
}

/// What a frame budget has lowered shows alike on both, wherever the embers live: the device has all of them born and draws as few.
#[test]
fn kept_scenes_are_the_same_picture() {
    let settings =
        [("draw.size", "[640, 400]"), ("frame_budget", "{ seconds = 0.01, order = ['density', 'detail'] }")];
    let mut spec = with(&SceneSpec::find("beacon").unwrap(), &settings);
    // What starts others numbers them by who was born.
    spec.population.retain(|population| !["crack", "fines"].contains(&population.name.as_str()));
    let kept = |settings: &[(&str, &str)]| {
        let mut scene = Scene::new(&with(&spec, settings)).unwrap();
        for _ in 0..400 {
            scene.keep_budget(&Frame::new(Duration::from_millis(40)));
        }
        let mut meter = Meter::new();
        scene.run_to(3.0, &mut meter);
        scene.wait(&mut meter).unwrap();
        (scene.alive(), scene.draw(&mut meter).unwrap().clone())
    };
    let here = kept(&[]);
    for (residence, share) in [("cpu", 1), ("auto", 3)] {
        let there = kept(&[("backend", "gpu"), ("residence", residence)]);
        assert!(there.0 >= here.0 * share, "{residence}: {} and {}", here.0, there.0);
        let off = differ(&here.1, &there.1);
        assert!(off <= 0.01, "{residence}: {off}");
    }
    assert!(
        differ(&here.1, &picture(&with(&spec, &[("frame_budget.seconds", "10")]), 3.0)) > 0.02,
        "it shows at all"
    );
}

/// Drops past a mask that is dug, into buckets: stepped, counted and drawn on the device; the mask's changes are uploaded, and no drop.
#[test]
fn the_device_collides_with_a_dug_mask() {
    let settings = [("draw.size", "[160, 100]"), ("residence", "gpu"), ("backend", "gpu")];
    let there = with(&SceneSpec::find("blowhole").unwrap(), &settings);
    let here = with(&there, &[("backend", "cpu"), ("residence", "auto")]);
    let (mut here, mut there) = (Scene::new(&here).unwrap(), Scene::new(&there).unwrap());
    let mut meter = Meter::new();
    here.run_to(2.5, &mut meter);
    there.run_to(2.5, &mut meter);
    there.wait(&mut meter).unwrap();
    assert!(here.world().mask(0).unwrap().edits() > 3);
    let (a, b) = (here.alive() as f64, there.alive() as f64);
    assert!((a - b).abs() < a * 0.01, "{a} and {b}");
    let sum = |scene: &Scene| scene.caught().iter().sum::<u64>();
    let (a, b) = (sum(&here), sum(&there));
    assert!(a > 50 && a.abs_diff(b) <= a / 50 + 2, "{a} and {b}");
    // Three steps a frame: the mask is dug before each, and all is one submission.
    meter.begin_frame();
    there.step(1.0 / 60.0, 3, &mut meter);
    there.draw_in_place(&mut meter).unwrap();
    let frame = meter.end_frame();
    assert_eq!(frame.count(Counter::Submits), 1);
    // Buckets, letters and the sun; no drop.
    assert!(frame.count(Counter::UploadedElementBytes) < 4_000);
    assert!(frame.count(Counter::UploadedBytes) > 20_000, "{}", frame.count(Counter::UploadedBytes));
}

/// Cracks of the fire that draw lines and start finer ones, and pulses that leave glints where they strike, live there whole: nothing of them is
/// uploaded.
#[test]
fn events_and_trails_live_on_the_device() {
    for (name, until, share) in [("beacon", 3.0, 0.0), ("foghorn", 3.0, 0.005)] {
        let settings = [("draw.size", "[160, 100]"), ("residence", "gpu"), ("backend", "gpu")];
        let there = with(&SceneSpec::find(name).unwrap(), &settings);
        let here = with(&there, &[("backend", "cpu"), ("residence", "auto")]);
        let (mut here, mut there) = (Scene::new(&here).unwrap(), Scene::new(&there).unwrap());
        let mut meters = [Meter::new(), Meter::new()];
        meters.iter_mut().for_each(Meter::begin_frame);
        here.run_to(until, &mut meters[0]);
        there.run_to(until, &mut meters[1]);
        there.draw_in_place(&mut meters[1]).unwrap();
        there.wait(&mut meters[1]).unwrap();
        let [own, heard] = meters.map(|mut meter| meter.end_frame());
        for counter in [Counter::Emitted, Counter::Events, Counter::Retired] {
            let (a, b) = (own.count(counter), heard.count(counter));
            assert!(a > 200 && a.abs_diff(b) as f64 <= a as f64 * share, "{name}: {a} and {b} {counter:?}");
        }
        // But for newborn that the processor writes down, 48 bytes each.
        let most = if name == "beacon" { 0 } else { 48 * own.count(Counter::Emitted) };
        assert!(heard.count(Counter::UploadedElementBytes) <= most);
    }
}

/// Changes of the world, of populations and of looks hold from the next step on; elements stay on the device, as they do on the CPU.
#[test]
fn running_device_populations_take_changes() {
    let settings = [("draw.size", "[160, 100]"), ("residence", "gpu"), ("backend", "gpu")];
    let there = with(&SceneSpec::find("beacon").unwrap(), &settings);
    let here = with(&there, &[("backend", "cpu"), ("residence", "auto")]);
    let (mut here, mut there) = (Scene::new(&here).unwrap(), Scene::new(&there).unwrap());
    let mut meter = Meter::new();
    for scene in [&mut here, &mut there] {
        scene.run_to(1.0, &mut meter);
        for (path, value) in [
            ("world.wind", "[7, 0, -1]"),
            ("embers.motion.drag", "2.5"),
            ("embers.emitter.0.rate", "1200"),
            ("embers.life", "[0.5, 1.5]"),
            ("embers.look.glow", "7"),
            ("camera.exposure", "1.3"),
        ] {
            let change = scene.set(path, value).unwrap();
            assert!(change.is_live(), "{path}: {change:?}");
        }
        scene.ease("embers.motion.weight", "-0.6", 0.5).unwrap();
        scene.run_to(2.0, &mut meter);
    }
    there.wait(&mut meter).unwrap();
    let (a, b) = (here.alive() as f64, there.alive() as f64);
    assert!(a > 500.0 && (a - b).abs() < a * 0.02, "{a} and {b}");
    let pictures = [&mut here, &mut there].map(|scene| scene.draw(&mut meter).unwrap().clone());
    let off = differ(&pictures[0], &pictures[1]);
    assert!(off < 0.02, "{off} of the pixels differ");
    // What is fixed on a device: everything is built again there.
    let change = there.set("embers.count", "9001").unwrap();
    assert!(!change.is_live() && change.rebuilt().is_empty(), "{change:?}");
    // A device-resident population cannot be saved or edited; the error names it, and the scene runs on.
    let problem = there.save().unwrap_err().to_string();
    assert!(problem.contains("is on the graphics device") && problem.contains("residence"), "{problem}");
    assert!(there.try_clone().is_err());
    there.run_to(2.2, &mut meter);
    assert!(there.draw(&mut meter).is_ok());
}

#[test]
fn unsupported_device_features_are_refused() {
    let beacon = with(&SceneSpec::find("beacon").unwrap(), &[("draw.size", "[64, 40]")]);
    let told = |settings: &[(&str, &str)]| Scene::new(&with(&beacon, settings)).unwrap_err().to_string();
    assert!(told(&[("residence", "gpu")]).contains("backend = \"gpu\""));
    for setting in [("draw.technique", "each"), ("storage", "objects"), ("draw.depth_order", "all")] {
        let told = told(&[("backend", "gpu"), ("residence", "gpu"), setting]);
        assert!(told.starts_with("residence: ") && told.contains("auto"), "{told}");
    }
    // Left to itself, such a scene is drawn from the processor's columns.
    let mut scene = Scene::new(&with(&beacon, &[("backend", "gpu"), ("draw.technique", "batched")])).unwrap();
    let mut meter = Meter::new();
    scene.run_to(0.5, &mut meter);
    meter.begin_frame();
    scene.draw(&mut meter).unwrap();
    assert!(meter.end_frame().count(Counter::UploadedElementBytes) > 10_000);
    let told = scene.show(Show::Overdraw, &mut meter).unwrap_err().to_string();
    assert!(told.contains("overdraw is drawn by the CPU only"), "{told}");
    assert!(beacon.set("backend", "gpi").unwrap_err().to_string().contains("backend=gpi"));
}

/// Straight alpha of a scene, as the processor has it.
#[test]
fn transparent_pictures_are_the_same() {
    let spec = with(&SceneSpec::find("beacon").unwrap(), &[("draw.size", "[200, 120]")]);
    let see_through = |spec: &SceneSpec| {
        let mut scene = Scene::new(spec).unwrap();
        scene.run_to(2.0, &mut Meter::new());
        scene.draw_transparent(&mut Meter::new()).unwrap().clone()
    };
    let (here, there) = (see_through(&spec), see_through(&with(&spec, &[("backend", "gpu")])));
    let off = differ(&here, &there);
    assert!(off <= 0.02, "{off}");
    assert!(
        there.pixels().iter().any(|pixel| pixel[3] == 0) && there.pixels().iter().any(|pixel| pixel[3] > 200)
    );
}

/// Groups are pictures of the processor's: on a device the same squares are drawn blade by blade, and that is said.
#[test]
fn groups_are_drawn_blade_by_blade() {
    let settings = [("grass.count", "20000"), ("draw.size", "[160, 100]"), ("backend", "gpu")];
    let tiled = with(&SceneSpec::find("machair").unwrap(), &settings);
    let instanced = with(&tiled, &[("draw.technique", "instanced")]);
    let [tiled, instanced] = [tiled, instanced].map(|spec| {
        let mut scene = Scene::new(&spec).unwrap();
        scene.run_to(0.3, &mut Meter::new());
        (scene.remark().unwrap().contains("blade by blade"), scene.draw(&mut Meter::new()).unwrap().clone())
    });
    assert!(tiled.0 && !instanced.0);
    assert_eq!(differ(&tiled.1, &instanced.1), 0.0);
}
