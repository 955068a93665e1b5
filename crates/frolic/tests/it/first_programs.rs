//! Programs as a newcomer writes them, against the published modules alone: each holds what its page promises.

use frolic::bodies::{BodyColumns, BodyRow, Integrator, MotionSpec};
use frolic::diagnostics::{Corner, Readout};
use frolic::drawing::{ListScratch, ListSpec, Surroundings};
use frolic::fixed::{FixedInstances, LineSpec, SwingSpec};
use frolic::growing::Growing;
use frolic::placement::Placement;
use frolic::prelude::*;
use frolic::profile::{Run, Subject, Variant, sweep_subjects};
use proptest::prelude::*;

fn small() -> ImageSize {
    ImageSize::new(160, 100).unwrap()
}

fn fountain(count: u32) -> ParticleSpec {
    ParticleSpec::new(count)
        .life(2.0, 3.0)
        .motion(0.2, 1.0)
        .emitter(EmitterSpec::rate(count as f32 / 3.0).cone([0.0, 1.0, 0.0], 12.0).speed(5.0, 6.0))
}

fn glow() -> LookSpec {
    LookSpec::glowing(6.0, [(0.0, "#c0e0ff"), (1.0, "#204080")]).unwrap()
}

/// A scene of code, its text, and the scene of that text are one: the same picture by any technique and number of threads.
#[test]
fn a_scene_of_code_is_a_scene_of_text() {
    let mut spec = SceneSpec::new("a fountain").with("drops", fountain(600), glow());
    spec.draw.size = small();
    let text = spec.to_toml();
    let read = SceneSpec::parse(&text, "fountain.toml").unwrap();
    assert_eq!(read.to_toml(), text);
    let picture = |spec: &SceneSpec, settings: &[(&str, &str)]| {
        let spec = settings.iter().fold(spec.clone(), |spec, (key, value)| spec.set(key, value).unwrap());
        let (mut scene, mut meter) = (Scene::new(&spec).unwrap(), Meter::new());
        scene.run_to(1.5, &mut meter);
        meter.begin_frame();
        let image = scene.draw(&mut meter).unwrap().clone();
        assert_eq!(scene.alive(), 300);
        (image, meter.end_frame())
    };
    let (first, frame) = picture(&spec, &[("threads", "1")]);
    assert_eq!(frame.count(Counter::DrawCalls), 1);
    for (technique, calls) in [("each", 300), ("batched", 1), ("instanced", 1)] {
        let (image, frame) = picture(&read, &[("threads", "2"), ("draw.technique", technique)]);
        assert!(image.pixels() == first.pixels(), "{technique}");
        assert_eq!(frame.count(Counter::DrawCalls), calls, "{technique}");
    }
}

/// Columns of one's own are elements: three looks of one kind are three draw calls, in any technique the same picture.
#[test]
fn columns_of_a_program_are_drawn() {
    let n = 200;
    let x: Vec<f32> = (0..n).map(|nth| (nth % 20) as f32 * 0.2 - 2.0).collect();
    let y: Vec<f32> = (0..n).map(|nth| (nth / 20) as f32 * 0.2).collect();
    let (zero, size) = (vec![0.0f32; n], vec![0.05f32; n]);
    let looks: Vec<Look> = ["#ff8040", "#40ff80", "#8040ff"]
        .map(|hex| LookSpec::glowing(3.0, [(0.0, hex)]).unwrap().build().unwrap())
        .into();
    let view = CameraSpec::default().view(small()).unwrap();
    let backdrop = BackdropSpec::default();
    let mut pictures = Vec::new();
    for technique in [Technique::Each, Technique::Batched, Technique::Instanced] {
        let (mut scratch, mut renderer, mut meter) = (ListScratch::default(), Renderer::new(), Meter::new());
        let mut image = Image::new(small());
        let around = Surroundings::new(&backdrop);
        let instances = looks.iter().map(|look| {
            let instances = Instances::at([&x, &y, &zero]).unwrap().sized(&size);
            (instances.unwrap(), look)
        });
        meter.begin_frame();
        let list = scratch.list(instances, &ListSpec::new(technique), &view, &around, &mut meter);
        renderer.render(&list, &view, &backdrop, &mut image, &mut meter);
        let frame = meter.end_frame();
        let calls = if technique == Technique::Each { 3 * n as u64 } else { 3 };
        assert_eq!(frame.count(Counter::DrawCalls), calls, "{technique:?}");
        pictures.push(image);
    }
    assert!(pictures.windows(2).all(|pair| pair[0].pixels() == pair[1].pixels()));
    let sky = pictures[0].pixels()[0];
    assert!(pictures[0].pixels().iter().filter(|pixel| **pixel != sky).count() > 500);
}

/// Columns that do not fit each other are an error with both lengths, not a picture of garbage.
#[test]
fn columns_of_other_lengths_are_refused() {
    let problem = Instances::at([&[0.0; 3], &[0.0; 4], &[0.0; 3]]).err().unwrap().to_string();
    assert!(problem.contains('3') && problem.contains('4'), "{problem}");
    let at = Instances::at([&[0.0; 3], &[0.0; 3], &[0.0; 3]]).unwrap();
    assert!(at.sized(&[1.0; 2]).is_err());
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(48))]

    /// A thrown stone is where school physics puts it, however long the steps are.
    #[test]
    fn a_throw_is_exact_at_any_rate(
        rate in 10u32..240,
        up in -5f32..20.0,
        ahead in -8f32..8.0,
        wind in -6f32..6.0,
        drag in prop_oneof![Just(0f32), 1e-6f32..0.02, 0.02f32..2.0],
    ) {
        let mut stones = BodyColumns::default();
        stones.push(&BodyRow { py: 100.0, vy: up, vx: ahead, life: f32::INFINITY, ..BodyRow::default() });
        let mut motion = MotionSpec::default();
        (motion.drag, motion.weight) = (drag, 1.0);
        let mut integrator = Integrator::new(&motion).unwrap();
        let world = WorldSpec::default().wind([wind, 0.0, 0.0]).build().unwrap();
        let mut meter = Meter::new();
        for _ in 0..rate * 2 {
            integrator.step(stones.bodies(), &world, 1.0 / rate as f32, &mut meter).unwrap();
        }
        // Velocity relative to its limit decays with the drag; without drag the limit is infinite.
        let (t, g, k) = (2.0f64, -9.81f64, f64::from(drag));
        let way = |v0: f64, air: f64, pull: f64| {
            if k < 1e-6 {
                v0 * t + pull * t * t / 2.0
            } else {
                let limit = air + pull / k;
                limit * t - (v0 - limit) * (-k * t).exp_m1() / k
            }
        };
        let at = |column: &[f32]| f64::from(column[0]);
        let (x, y) = (way(f64::from(ahead), f64::from(wind), 0.0), 100.0 + way(f64::from(up), 0.0, g));
        prop_assert!((at(stones.px()) - x).abs() < 1e-3, "{} for {x}", stones.px()[0]);
        prop_assert!((at(stones.py()) - y).abs() < 2e-3, "{} for {y}", stones.py()[0]);
    }

    /// The first of more are the same: a placement asked for a few gives a part of what it gives when asked for many, never other ones outside of the area.
    #[test]
    fn placed_elements_keep_to_their_area(count in 1u32..800, wide in 1f32..40.0, deep in 1f32..40.0, seed in any::<u32>()) {
        let layer = PlacementSpec::new(On::Ground(PatternSpec::Scattered)).area(AreaSpec::new([3.0, -2.0], [wide, deep]));
        let placed = Placement::new(std::slice::from_ref(&layer), Some(count), seed, &Default::default()).unwrap().all();
        prop_assert_eq!(placed.len(), count as usize);
        for n in 0..placed.len() {
            let row = placed.row(n).unwrap();
            prop_assert!((row.px - 3.0).abs() <= wide * 0.5 + 1e-4 && (row.pz + 2.0).abs() <= deep * 0.5 + 1e-4, "{row:?}");
        }
        let again = Placement::new(&[layer], Some(count), seed, &Default::default()).unwrap().all();
        prop_assert!((0..placed.len()).all(|n| placed.row(n) == again.row(n)));
    }
}

/// What falls on a floor stays above it and comes to rest.
#[test]
fn nothing_falls_through_a_floor() {
    let mut stones = BodyColumns::default();
    for nth in 0..500 {
        let (px, py) = (nth as f32 * 0.01, 0.5 + nth as f32 * 0.02);
        stones.push(&BodyRow { px, py, vy: -(nth as f32) * 0.2, life: f32::INFINITY, ..BodyRow::default() });
    }
    let mut integrator = Integrator::new(&MotionSpec::default()).unwrap();
    let floor = ObstacleSpec::plane([0.0; 3], [0.0, 1.0, 0.0]).bounce(0.4, 0.2);
    let world = WorldSpec::default().obstacle(floor).build().unwrap();
    let mut meter = Meter::new();
    for _ in 0..900 {
        integrator.step(stones.bodies(), &world, 1.0 / 60.0, &mut meter).unwrap();
        assert!(stones.py().iter().all(|y| *y > -1e-3));
    }
    assert!(stones.py().iter().all(|y| *y < 0.05), "{:?}", stones.py().iter().copied().fold(0.0, f32::max));
}

/// A loop of one's own is profiled as a scene is, and what it meters is in the profile.
#[test]
fn a_loop_of_ones_own_is_profiled() {
    struct Fountain;
    impl Subject for Fountain {
        fn begin(&mut self, count: u32) -> Result<Box<dyn Run + '_>, String> {
            let told = |error: SpecError| error.to_string();
            let world = WorldSpec::default().build().map_err(told)?;
            let mut drops = Particles::new(&fountain(count), 3).map_err(told)?;
            let mut meter = Meter::new();
            drops.step(&world, 1.0 / 20.0, 80, &mut meter);
            Ok(Box::new(move || {
                meter.begin_frame();
                drops.step(&world, 1.0 / 60.0, 1, &mut meter);
                meter.add(Counter::DrawCalls, 2);
                Ok(meter.end_frame())
            }))
        }
    }
    let mut plan = Plan::default();
    (plan.counts, plan.frames) = ("200,2k".parse().unwrap(), 15);
    let profile =
        sweep_subjects("fountain", vec![Variant::new("own", Fountain)], &plan, None, |_| true).unwrap();
    let points = &profile.variants[0].points;
    assert_eq!(points.iter().map(|point| point.count).collect::<Vec<_>>(), [200, 2_000]);
    for point in points {
        let integrate = point.stages.iter().find(|stage| stage.stage == Stage::Integrate.name()).unwrap();
        assert!(integrate.ms > 0.0 && integrate.ms <= point.frame.worst, "{integrate:?}");
        assert_eq!(point.draw_calls, 2);
        assert!(point.alive as f64 > f64::from(point.count) * 0.6, "{}", point.alive);
    }
    let table = profile.table();
    assert!(table.contains("200") && table.contains("2k") && table.contains("integrate"), "{table}");
}

/// Families side by side in one scene: counts, memory and names are reported for each.
#[test]
fn families_live_side_by_side() {
    let layer =
        PlacementSpec::new(On::Ground(PatternSpec::Scattered)).area(AreaSpec::new([0.0; 2], [6.0, 6.0]));
    let blades = BladeSpec::new(layer.clone()).length(0.2, 0.4);
    let flags =
        FixedSpec::hung([LineSpec::new([-3.0, 2.0, 0.0], [3.0, 2.0, 0.0], 0.2)], Some(SwingSpec::default()));
    let beds = GrowSpec::new(PlacementSpec::default(), 10, PlacementSpec::default()).seconds(1.0, 2.0);
    let solid = || LookSpec::solid(Shape::Ribbon(RibbonSpec::new(8.0, 0.1, 2)), "#70903a").unwrap();
    let mut spec = SceneSpec::new("all of them")
        .with("drops", fountain(300), glow())
        .with_population(PopulationSpec::blades("grass", blades, 500, Span::from(0.005), solid()))
        .with_population(PopulationSpec::fixed("flags", flags, 20, Span::from(0.2), glow()))
        .with_population(PopulationSpec::growing("mussels", beds, 100, Span::from(0.03), glow()));
    spec.world = WorldSpec::default().wind([3.0, 0.0, 0.0]);
    spec.draw.size = small();
    let (mut scene, mut meter) = (Scene::new(&spec).unwrap(), Meter::new());
    scene.run_to(2.0, &mut meter);
    meter.begin_frame();
    scene.draw(&mut meter).unwrap();
    let frame = meter.end_frame();
    // The drops of two seconds, and all that stand.
    let drops = scene.particles("drops").unwrap().len();
    assert_eq!(drops, 200);
    assert_eq!(scene.alive(), drops + 500 + 20 + 100);
    assert!(frame.count(Counter::Instances) > 0 && frame.count(Counter::DrawCalls) >= 2);
    for name in ["drops", "grass", "flags", "mussels"] {
        assert!(scene.bytes(name).unwrap() > 0, "{name}");
        let (places, _) = scene.snapshot(name).unwrap();
        assert!(!places.elements.is_empty(), "{name}");
    }
    assert!(scene.bytes("nobody").is_none() && scene.particles("grass").is_none());
}

/// The same family in a loop of one's own, without a scene.
#[test]
fn families_step_without_a_scene() {
    let world = WorldSpec::default().wind([0.0, 0.0, 5.0]).build().unwrap();
    let mut meter = Meter::new();
    let line = LineSpec::new([0.0, 3.0, 0.0], [4.0, 3.0, 0.0], 0.1);
    let spec = FixedSpec::hung([line], Some(SwingSpec::default()));
    let mut flags = FixedInstances::new(&spec, 30, Span::from(0.2), 1).unwrap();
    flags.step(&world, 1.0 / 60.0, 240, &mut meter);
    assert_eq!(flags.columns().tilt().len(), 30);
    let beds = GrowSpec::new(PlacementSpec::default(), 50, PlacementSpec::default()).seconds(4.0, 4.0);
    let mut beds = Growing::new(&beds, 500, Span::from(0.1), 3).unwrap();
    beds.step(1.0 / 60.0, 60, &mut meter);
    let grown = beds.growth(0).unwrap();
    assert!((grown - 0.25).abs() < 0.01, "{grown}");
    assert_eq!(beds.growth(500), None);
}

/// A readout over one's own picture: it changes a corner and leaves the rest alone.
#[test]
fn a_readout_is_laid_over_any_picture() {
    let mut readout = Readout::new(1.0 / 60.0);
    for _ in 0..30 {
        readout.add(&Frame::new(std::time::Duration::from_millis(12)).with_count(Counter::Alive, 1_234));
    }
    let mut image = Image::new(ImageSize::new(640, 400).unwrap());
    let before = image.clone();
    readout.paint(&mut image, Corner::BottomRight);
    let changed = |rows: std::ops::Range<usize>| {
        let rows = rows.start * 640..rows.end * 640;
        image.pixels()[rows.clone()].iter().zip(&before.pixels()[rows]).filter(|(a, b)| a != b).count()
    };
    assert_eq!(changed(0..100), 0);
    assert!(changed(200..400) > 1_000);
}

/// The prelude stays small enough to be imported whole: no name of it shadows the standard library's.
#[test]
fn the_prelude_stays_small() {
    let text = include_str!("../../src/lib.rs");
    let prelude = text.split("pub mod prelude {").nth(1).unwrap().split("\n}").next().unwrap();
    let names: Vec<&str> = prelude
        .split(['{', '}', ',', ';'])
        .map(str::trim)
        .filter(|word| {
            word.starts_with(|first: char| first.is_ascii_alphabetic()) && !word.starts_with("pub use")
        })
        .collect();
    assert!((50..=75).contains(&names.len()), "{} names", names.len());
    for taken in [
        "Vec", "Box", "Option", "Result", "String", "Some", "None", "Ok", "Err", "Iterator", "Clone",
        "Default", "From", "Into",
    ] {
        assert!(!names.contains(&taken), "{taken}");
    }
    // Every module but the prelude has a page with a picture and a program.
    for module in text.split("\npub mod ").skip(1).filter_map(|part| part.split(' ').next()) {
        let page: Vec<&str> = text
            .split(&format!("\npub mod {module} "))
            .next()
            .unwrap()
            .lines()
            .rev()
            .take_while(|line| line.starts_with("///"))
            .collect();
        let has = |what: &str| page.iter().any(|line| line.contains(what));
        assert!(module == "prelude" || has("![") && has("```"), "{module}");
    }
}
