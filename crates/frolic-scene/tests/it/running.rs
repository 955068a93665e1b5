//! A scene that runs: time, determinism, drawing, and files that are whole or not there.

use std::fs;
use std::io::{self, Write};

use frolic_core::{Counter, EmitterSpec, Meter, ParticleSpec, TrailSpec};
use frolic_draw::{Image, ImageSize, LookSpec};
use frolic_scene::{SHIPPED, Scene, SceneSpec, write_beside, write_png};

fn beacon(settings: &[(&str, &str)]) -> Scene {
    let spec = SceneSpec::find("beacon").unwrap().set("draw.size", "[160, 100]").unwrap();
    Scene::new(&settings.iter().fold(spec, |spec, (key, value)| spec.set(key, value).unwrap())).unwrap()
}

fn picture(settings: &[(&str, &str)], at: f64) -> Image {
    let mut scene = beacon(settings);
    let mut meter = Meter::new();
    scene.run_to(at, &mut meter);
    scene.draw(&mut meter).unwrap().clone()
}

#[test]
fn the_same_scene_gives_the_same_picture_by_every_setting() {
    let plain = picture(&[], 2.0);
    for (key, value) in [
        ("threads", "1"),
        ("threads", "7"),
        ("storage", "objects"),
        ("draw.technique", "each"),
        ("draw.technique", "batched"),
    ] {
        assert!(picture(&[(key, value)], 2.0) == plain, "{key}={value}");
    }
    assert!(picture(&[("seed", "4")], 2.0) != plain);
    assert!(picture(&[], 2.5) != plain);
}

#[test]
fn a_time_between_steps_is_exact() {
    // Half way through the 31st step, the picture is taken half a step before its end.
    let (mut a, mut b, mut meter) = (beacon(&[]), beacon(&[]), Meter::new());
    a.run_to(0.5 + 0.5 / 60.0, &mut meter);
    b.run_to(0.5 + 1.0 / 60.0, &mut meter);
    assert!((a.time() - b.time()).abs() < 1e-9);
    assert!(a.draw(&mut meter).unwrap() != b.draw(&mut meter).unwrap());
    assert_eq!(a.particles("embers").unwrap().columns(), b.particles("embers").unwrap().columns());
    a.run_to(0.1, &mut meter);
    assert!((a.time() - b.time()).abs() < 1e-9, "time does not run back");
}

/// Frames that lie between two steps differ as those that need one do: ten steps a second are as smooth as sixty.
#[test]
fn frames_between_steps_differ() {
    let settings =
        [("clock.rate", "10.0"), ("draw.size", "[96, 60]"), ("eels.count", "300"), ("shafts.count", "0")];
    let mut spec = SceneSpec::find("shoal").unwrap();
    for (key, value) in settings {
        spec = spec.set(key, value).unwrap();
    }
    let (mut scene, mut meter) = (Scene::new(&spec).unwrap(), Meter::new());
    let mut last = None;
    for nth in 0..12 {
        let seconds = 0.95 + f64::from(nth) / 60.0;
        scene.run_to(seconds, &mut meter);
        let picture = scene.draw(&mut meter).unwrap().clone();
        assert!(last.as_ref() != Some(&picture), "frame {nth} is the one before");
        // It is that of a run straight to its time.
        let mut fresh = Scene::new(&spec).unwrap();
        fresh.run_to(seconds, &mut meter);
        assert!(*fresh.draw(&mut meter).unwrap() == picture, "frame {nth}");
        last = Some(picture);
    }
}

/// Every scene of particles, each frame far slower than real time: no frame takes more than the cap, what it owes beyond is dropped, and
/// the scene goes on by as much as was taken.
#[test]
fn no_scene_freezes_when_frames_are_slow() {
    for (name, population) in
        [("beacon", "embers"), ("blowhole", "spray"), ("foghorn", "sound"), ("heather", "falling")]
    {
        let spec = SceneSpec::find(name).unwrap().set("clock.max_steps", "2").unwrap();
        let mut scene = Scene::new(&spec).unwrap();
        let mut meter = Meter::new();
        let (mut steps, mut dropped, mut owed) = (0u64, 0u64, 0.0f64);
        for elapsed in [0.05, 0.5, 1.0 / 60.0, 2.0, 0.25, 0.0, 30.0] {
            meter.begin_frame();
            scene.tick(elapsed, &mut meter);
            let frame = meter.end_frame();
            assert!(frame.count(Counter::Steps) <= 2, "{name}");
            (steps, dropped) =
                (steps + frame.count(Counter::Steps), dropped + frame.count(Counter::StepsDropped));
            owed += elapsed * 60.0;
        }
        assert!(((steps + dropped) as f64 - owed).abs() <= 1.0, "{name}: {steps} and {dropped} of {owed}");
        assert!((scene.time() - steps as f64 / 60.0).abs() < 1e-6, "{name}");
        assert!(steps >= 11 && dropped > 1900, "{name}: {steps} taken, {dropped} dropped");
        assert!(scene.particles(population).is_some(), "{name}");
    }
}

/// Who is alive is told once a frame, however many steps it takes, in a world that stays and in one that changes.
#[test]
fn elements_are_counted_once_a_frame() {
    for name in ["beacon", "blowhole"] {
        let spec = SceneSpec::find(name).unwrap().set("draw.size", "[32, 20]").unwrap();
        let (mut scene, mut meter) = (Scene::new(&spec).unwrap(), Meter::new());
        scene.run_to(0.5, &mut meter);
        for steps in [0, 1, 3] {
            meter.begin_frame();
            scene.step(1.0 / 60.0, steps, &mut meter);
            let frame = meter.end_frame();
            assert_eq!(frame.count(Counter::Alive), scene.alive() as u64, "{name}, {steps} steps");
            assert!(frame.count(Counter::ElementBytes) > 0, "{name}, {steps} steps");
        }
    }
}

#[test]
fn slow_frames_slow_the_scene_and_do_not_freeze_it() {
    let mut scene = beacon(&[("clock.max_steps", "3")]);
    let mut meter = Meter::new();
    meter.begin_frame();
    scene.tick(1.0, &mut meter);
    let frame = meter.end_frame();
    assert_eq!((frame.count(Counter::Steps), frame.count(Counter::StepsDropped)), (3, 57));
    assert!((scene.time() - 3.0 / 60.0).abs() < 1e-6);
}

#[test]
fn scaling_keeps_the_count_standing() {
    for count in [0, 1, 1_000, 20_000] {
        let spec = SceneSpec::find("beacon").unwrap().scaled(count);
        let mut scene = Scene::new(&spec).unwrap();
        let mut meter = Meter::new();
        scene.step(1.0 / 20.0, 130, &mut meter);
        for _ in 0..20 {
            scene.step(1.0 / 60.0, 1, &mut meter);
            let alive = scene.particles("embers").unwrap().len() as f64;
            let count = f64::from(count);
            assert!(alive <= count && alive >= count * 0.98 - 1.0, "{alive} of {count}");
        }
    }
}

#[test]
fn an_empty_scene_is_a_sky() {
    let mut scene = Scene::new(&SceneSpec::new("nothing")).unwrap();
    let mut meter = Meter::new();
    meter.begin_frame();
    scene.tick(0.1, &mut meter);
    scene.draw(&mut meter).unwrap();
    let frame = meter.end_frame();
    assert_eq!(frame.count(Counter::DrawCalls), 0);
    assert_eq!(frame.count(Counter::BackdropMisses), 1);
}

#[test]
fn too_many_elements_are_refused_by_name() {
    let particles = ParticleSpec::new(u32::MAX).emitter(EmitterSpec::rate(1.0));
    let error = Scene::new(&SceneSpec::new("huge").with("dust", particles, LookSpec::default())).unwrap_err();
    assert_eq!(error.key, "dust.count");
}

#[test]
fn resizing_changes_the_picture_alone() {
    let (mut scene, mut meter) = (beacon(&[]), Meter::new());
    scene.run_to(0.3, &mut meter);
    scene.resize(ImageSize::new(33, 21).unwrap()).unwrap();
    assert_eq!(scene.draw(&mut meter).unwrap().bytes().len(), 33 * 21 * 4);
}

#[test]
fn a_png_reads_back_as_it_was_drawn() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("deep/er/picture.png");
    let image = picture(&[], 1.0);
    write_png(&path, &image).unwrap();
    let mut reader =
        png::Decoder::new(io::BufReader::new(fs::File::open(&path).unwrap())).read_info().unwrap();
    let mut bytes = vec![0; reader.output_buffer_size().unwrap()];
    reader.next_frame(&mut bytes).unwrap();
    assert_eq!(bytes, image.bytes());
    assert_eq!(fs::read_dir(path.parent().unwrap()).unwrap().count(), 1, "no part is left beside it");
}

#[test]
fn a_failed_write_leaves_what_was_there() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("report.txt");
    fs::write(&path, "old").unwrap();
    let failing = |file: &mut dyn Write| {
        file.write_all(b"half")?;
        Err(io::Error::other("the disk is full"))
    };
    let error = write_beside(&path, failing).unwrap_err().to_string();
    assert!(error.contains("report.txt: cannot be written: the disk is full"), "{error}");
    assert_eq!(fs::read_to_string(&path).unwrap(), "old");
    assert_eq!(fs::read_dir(folder.path()).unwrap().count(), 1);
    assert!(write_beside(folder.path(), |_| Ok(())).is_err(), "a folder is not a file");
    assert!(write_beside(path.join("x"), |_| Ok(())).is_err(), "a file is no folder");
}

/// One particle that moves along x at 1 m/s, from the origin at time 0.
fn steady(rate: f32) -> SceneSpec {
    let emitter = EmitterSpec::burst(1, 0.0).speed(1.0, 1.0).cone([1.0, 0.0, 0.0], 0.0);
    let mut spec = SceneSpec::new("steady").with(
        "one",
        ParticleSpec::new(1).life(100.0, 100.0).emitter(emitter),
        LookSpec::default(),
    );
    spec.world.gravity = [0.0; 3];
    spec.clock.rate = rate;
    spec
}

#[test]
fn an_export_shows_the_moment_asked_for() {
    let place = |rate: f32, at: f64| {
        let mut scene = Scene::new(&steady(rate)).unwrap();
        scene.run_to(at, &mut Meter::new());
        scene.snapshot("one").unwrap().0.elements.px()[0]
    };
    for rate in [2.0, 60.0] {
        let [early, late] = [place(rate, 1.01), place(rate, 1.31)];
        assert!((late - early - 0.3).abs() < 1e-4, "{rate}: {early} and {late}");
    }
}

#[test]
fn an_exact_end_of_a_step_takes_no_further_step() {
    for rate in [7.0f32, 30.0, 50.0, 60.0, 144.0, 1000.0] {
        for steps in [1u32, 3, 49, 500, 5_000] {
            let mut spec = SceneSpec::new("empty");
            spec.clock.rate = rate;
            let (mut scene, mut meter) = (Scene::new(&spec).unwrap(), Meter::new());
            meter.begin_frame();
            scene.run_to(f64::from(steps) / f64::from(rate), &mut meter);
            assert_eq!(meter.end_frame().count(Counter::Steps), u64::from(steps), "{rate} steps a second");
        }
    }
}

#[test]
fn a_population_keeps_its_trail_and_a_draw_list_shows_it() {
    let particles = ParticleSpec::new(50).emitter(EmitterSpec::rate(100.0)).trail(TrailSpec::new(4, 0.02));
    let spec = SceneSpec::new("trails").with("sparks", particles, LookSpec::default());
    let (mut scene, mut meter) = (Scene::new(&spec).unwrap(), Meter::new());
    scene.run_to(0.5, &mut meter);
    let list = scene.draw_list(&mut meter);
    let counts: Vec<usize> = list.sources().map(|(instances, _)| instances.len()).collect();
    assert!(matches!(counts[..], [ribbons, 50] if ribbons > 50), "{counts:?}");
}

/// Growing elements are gathered when they are drawn, by whichever call.
#[test]
fn a_draw_list_shows_present_growth() {
    let spec = SceneSpec::find("mussels").unwrap().set("mussels.count", "20000").unwrap();
    let (mut scene, mut meter) = (Scene::new(&spec).unwrap(), Meter::new());
    scene.run_to(0.2, &mut meter);
    assert!(scene.draw_list(&mut meter).instances() > 0);
}

#[test]
fn memory_is_that_of_the_family() {
    for shipped in SHIPPED {
        let spec = SceneSpec::find(shipped.name).unwrap();
        let spec = spec.scaled(spec.climbing().unwrap().count.min(30_000));
        let (mut scene, mut meter) = (Scene::new(&spec).unwrap(), Meter::new());
        meter.begin_frame();
        scene.step(1.0 / 60.0, 1, &mut meter);
        let bytes: u64 = spec.population.iter().map(|it| scene.bytes(&it.name).unwrap()).sum();
        assert_eq!(bytes, meter.end_frame().count(Counter::ElementBytes), "{}", shipped.name);
    }
    assert_eq!(beacon(&[]).bytes("nothing"), None);
}

#[test]
fn keys_without_effect_are_refused() {
    let refused = |scene: &str, key: &str, value: &str| {
        SceneSpec::find(scene).unwrap().set(key, value).unwrap_err().to_string()
    };
    for (key, value) in [
        ("life", "[3, 4]"),
        ("motion", "{ drag = 3 }"),
        ("field", "[{ kind = { push = { acceleration = [1, 0, 0] } } }]"),
        ("order", "'any'"),
        ("trail", "{ look = { shape = { ribbon = {} } } }"),
    ] {
        for (scene, population) in [("dunes", "marram"), ("mussels", "mussels"), ("pennants", "bollards")] {
            let told = refused(scene, &format!("{population}.{key}"), value);
            assert!(told.contains(key) && told.contains("does nothing in a population of"), "{told}");
        }
    }
    assert!(
        refused("mussels", "mussels.kind", "[{}]").contains("kind: does nothing in a population of growing")
    );
    assert!(refused("beacon", "embers.kind", "[{}]").contains("kind: does nothing: particles have no kinds"));
}
