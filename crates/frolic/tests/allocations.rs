//! A frame allocates nothing after warm-up, and changes keep nothing: every thread's allocations are counted. A test binary of its own, as
//! anything that ran beside it would be counted too; one test, as the harness allocates between two.

use std::alloc::System;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use frolic::core::neighbours::{NeighbourSpec, Neighbours};
use frolic::core::random::{hash3, unit};
use frolic::diagnostics::{Corner, Readout};
use frolic::prelude::*;
use stats_alloc::{INSTRUMENTED_SYSTEM, Region, StatsAlloc};

#[global_allocator]
static COUNTED: &StatsAlloc<System> = &INSTRUMENTED_SYSTEM;

/// Whether a count was repeated. The test harness allocates once, in its own thread, to say that a test takes over 60 seconds, so one
/// repetition is allowed in the whole process.
static REPEATED: AtomicBool = AtomicBool::new(false);

/// What `frames` allocates, on all threads.
fn counted(mut frames: impl FnMut()) -> stats_alloc::Stats {
    let mut count = || {
        let region = Region::new(COUNTED);
        frames();
        region.change()
    };
    let change = count();
    let none = change.allocations + change.reallocations == 0;
    if none || REPEATED.swap(true, Ordering::Relaxed) { change } else { count() }
}

/// Steps and draws frames until nothing is new, then counts what further ones allocate.
fn allocated(spec: &SceneSpec, settle: impl Fn(&mut Scene, &mut Meter) + Sync) -> stats_alloc::Stats {
    let mut scene = Scene::new(spec).unwrap();
    let mut meter = Meter::new();
    // As a program shows them.
    let (mut readout, mut shown) = (Readout::new(1.0 / 60.0), Image::new(spec.draw.size));
    let threads = scene.threads();
    threads.run(|| {
        settle(&mut scene, &mut meter);
        let mut frames = |count: u32| {
            for _ in 0..count {
                meter.begin_frame();
                scene.tick(1.0 / 60.0, &mut meter);
                scene.draw(&mut meter).unwrap();
                let frame = meter.end_frame();
                scene.keep_budget(&frame);
                readout.add(&frame);
                readout.paint(&mut shown, Corner::TopLeft);
            }
        };
        // Long enough that whatever comes and goes was drawn at least once.
        frames(300);
        counted(|| frames(120))
    })
}

#[test]
#[ignore = "slow: scripts/test runs it"]
fn frames_allocate_nothing_and_changes_keep_nothing() {
    frames_allocate_nothing();
    moving_cameras_allocate_nothing();
    neighbours_allocate_nothing();
    changes_keep_nothing(
        "beacon",
        2_000,
        &[
            ("world.wind", ["[3, 0, 0]", "[4, 0, 1]"]),
            ("embers.motion.drag", ["0.9", "0.5"]),
            ("embers.emitter.0.rate", ["40", "400"]),
            ("embers.count", ["900", "1800"]),
            ("camera.exposure", ["1", "1.5"]),
            ("draw.technique", ["\"batched\"", "\"instanced\""]),
        ],
    );
    changes_keep_nothing(
        "dunes",
        2_000,
        &[
            ("world.wind", ["[3, 0, 0]", "[4, 0, 1]"]),
            ("marram.blades.drag", ["3.5", "2"]),
            ("marram.blades.length", ["[0.3, 0.6]", "[0.4, 0.9]"]),
            ("sun.power", ["1", "0.8"]),
        ],
    );
}

fn frames_allocate_nothing() {
    for technique in ["each", "batched", "instanced"] {
        // An order over all populations is made by the list; with it, drawing is the same however elements become draw calls.
        let orders: &[&str] = if technique == "each" { &["population"] } else { &["population", "all"] };
        for &order in orders {
            let spec = SceneSpec::find("beacon").unwrap().set("draw.technique", technique).unwrap();
            let spec = spec.set("draw.depth_order", order).unwrap();
            let spec = spec.set("draw.size", "[160, 100]").unwrap().set("threads", "2").unwrap();
            // Until the populations stand and the burst has come and gone.
            let allocated = allocated(&spec.scaled(3_000), |scene, meter| scene.step(1.0 / 20.0, 200, meter));
            assert_eq!(allocated.allocations, 0, "beacon, {technique}, {order}: {allocated:?}");
            assert_eq!(allocated.reallocations, 0, "beacon, {technique}, {order}: {allocated:?}");
        }
        // A frame budget that has lowered whatever it may.
        let spec = SceneSpec::find("beacon").unwrap().set("draw.technique", technique).unwrap();
        let spec = spec.set("frame_budget", "{ seconds = 0.0001 }").unwrap();
        let spec = spec.set("draw.size", "[160, 100]").unwrap().set("threads", "2").unwrap();
        let kept = allocated(&spec.scaled(3_000), |scene, meter| {
            scene.step(1.0 / 20.0, 200, meter);
            for _ in 0..600 {
                scene.keep_budget(&Frame::new(Duration::from_millis(40)));
            }
        });
        assert_eq!(kept.allocations + kept.reallocations, 0, "kept, {technique}: {kept:?}");
        // Solid things, shadows, boards, and a clock that goes on.
        let spec = SceneSpec::find("pennants").unwrap().set("draw.technique", technique).unwrap();
        let spec = spec.set("draw.size", "[160, 100]").unwrap().set("threads", "2").unwrap();
        let spec = spec.set("sun.shadow_map", "128").unwrap();
        let allocated = allocated(&spec.scaled(60), |_, _| ());
        assert_eq!(allocated.allocations, 0, "pennants, {technique}: {allocated:?}");
        assert_eq!(allocated.reallocations, 0, "pennants, {technique}: {allocated:?}");
    }
    // A crowd that crosses around posts.
    let crowd = r#"
        frolic = 1
        [clock]
        rate = 20
        [[world.obstacle]]
        shape = { post = { position = [0.0, 0.0, 0.0], radius = 1.5 } }
        [[population]]
        name = "band"
        count = 3000
        size = 0.25
        [population.crowd]
        start = { box = { size = [60.0, 0.0, 60.0] } }
        goal = { across = [0.0, 0.0, 0.0] }
        tint_by = "waiting"
    "#;
    let spec = SceneSpec::parse(crowd, "band.toml").unwrap().set("threads", "2").unwrap();
    let spec = spec.set("draw.size", "[160, 100]").unwrap();
    let walked = allocated(&spec, |scene, meter| scene.step(1.0 / 20.0, 200, meter));
    assert_eq!(walked.allocations + walked.reallocations, 0, "crowd: {walked:?}");
    // Blades in the wind, under walkers, and what grows.
    for (name, few) in [("dunes", 3_000), ("mussels", 8_000), ("shoal", 3_000)] {
        let spec = SceneSpec::find(name).unwrap().set("draw.size", "[160, 100]").unwrap();
        let spec = spec.set("threads", "2").unwrap().scaled(few);
        let stood = allocated(&spec, |scene, meter| scene.step(1.0 / 20.0, 20, meter));
        assert_eq!(stood.allocations + stood.reallocations, 0, "{name}: {stood:?}");
    }
}

/// A camera that moves in each frame has the backdrop painted anew, in memory that is there.
fn moving_cameras_allocate_nothing() {
    for name in ["beacon", "pennants"] {
        let spec = SceneSpec::find(name).unwrap().set("draw.size", "[160, 100]").unwrap();
        let spec = spec.set("threads", "2").unwrap().scaled(60);
        let (mut scene, mut meter) = (Scene::new(&spec).unwrap(), Meter::new());
        let threads = scene.threads();
        threads.run(|| {
            let mut turn = 0;
            let mut frames = |count: u32| {
                for _ in 0..count {
                    // Back and forth, so that each view was seen before.
                    turn = (turn + 1) % 20;
                    let mut camera = spec.camera;
                    camera.position[0] += (turn as f32 - 10.0).abs() * 0.02;
                    scene.set_camera(camera).unwrap();
                    meter.begin_frame();
                    scene.draw(&mut meter).unwrap();
                    meter.end_frame();
                }
            };
            frames(60);
            let change = counted(|| frames(60));
            assert_eq!(change.allocations + change.reallocations, 0, "moving, {name}: {change:?}");
        });
    }
}

fn neighbours_allocate_nothing() {
    let places = [0, 1, 2].map(|axis| {
        let at = |nth| unit(hash3(nth, 3, 4)[axis]) * 9.0;
        (0..20_000).map(at).collect::<Vec<f32>>()
    });
    let mut near = Neighbours::new(&NeighbourSpec::new(0.5)).unwrap();
    let (mut counts, mut scratch, mut column) = (Vec::new(), Vec::new(), vec![0.0f32; 20_000]);
    let (mut spare, mut meter) = (Vec::new(), Meter::new());
    Threads::new(2).run(|| {
        let mut steps = |count: u32| {
            for _ in 0..count {
                near.find(&[[&places[0], &places[1], &places[2]]], &mut meter).unwrap();
                near.each(0, 0.5, |_, _, others| others.count(), &mut counts, &mut scratch, &mut meter)
                    .unwrap();
                near.arrange(0, &mut column, &mut spare).unwrap();
            }
        };
        steps(3);
        let change = counted(|| steps(5));
        assert_eq!(change.allocations + change.reallocations, 0, "neighbours: {change:?}");
    });
}

/// Six thousand changes of a running scene, and a frame after every hundredth.
fn changes_keep_nothing(name: &str, few: u32, keys: &[(&str, [&str; 2])]) {
    let spec = SceneSpec::find(name).unwrap().set("draw.size", "[80, 50]").unwrap();
    let mut scene = Scene::new(&spec.set("threads", "2").unwrap().scaled(few)).unwrap();
    let mut meter = Meter::new();
    let threads = scene.threads();
    threads.run(|| {
        scene.step(1.0 / 20.0, 200, &mut meter);
        let mut changes = |count: usize| {
            let region = Region::new(COUNTED);
            for nth in 0..count {
                let (path, values) = keys[nth % keys.len()];
                scene.set(path, values[nth / keys.len() % 2]).unwrap();
                if nth % 100 == 99 {
                    meter.begin_frame();
                    scene.tick(1.0 / 60.0, &mut meter);
                    scene.draw(&mut meter).unwrap();
                    meter.end_frame();
                }
            }
            let change = region.change();
            change.bytes_allocated as i64 - change.bytes_deallocated as i64
        };
        // After each 1200 all keys have their first values again. A buffer that grows does so in some of the five rounds, what is kept for good
        // in all.
        let kept = [0; 5].map(|_| changes(1_200));
        assert!(kept.iter().any(|bytes| *bytes < 4096), "{name}: each 1200 changes keep {kept:?} bytes");
    });
}
