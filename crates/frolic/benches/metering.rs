//! What the meter costs: the command with its meter against the same without (built with `--cfg frolic_unmetered`, which leaves the time of
//! the whole frame and takes out stages, counters and bytes), in processes of their own, turn about, on the beacon's fire of 100 000 embers.
//!
//! `cargo bench -p frolic --bench metering [-- SECONDS]`; the first run builds both, which takes minutes.

mod support;

use std::path::Path;
use std::time::Duration;

use frolic::core::trace::{Trace, What};
use frolic::prelude::*;
use frolic::profile::{OtherProgram, compare_builds, sweep_builds};

/// Embers of a frame.
const COUNT: u32 = 100_000;

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let seconds = std::env::args().skip(1).find_map(|word| word.parse::<u64>().ok()).unwrap_or(120);
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    let programs = [
        support::command(&root, "metered", "")?,
        support::command(&root, "unmetered", "--cfg frolic_unmetered")?,
    ];

    let scene = SceneSpec::find("beacon")?;
    let mut plan = Plan::default();
    plan.counts = COUNT.to_string().parse()?;
    plan.frames = 100_000;
    plan.within = 0.001;
    plan.time = Some(Duration::from_secs(seconds));
    let program = |nth: usize, _: &[(String, String)]| {
        OtherProgram::new(&programs[nth], ["frames", "beacon"].map(str::to_owned))
    };
    let profile = sweep_builds("beacon", &scene, &plan, program, |_| true)?;
    let comparison = compare_builds(&profile)?;
    for variant in &profile.variants {
        if let Some(point) = variant.points.last() {
            println!("{}: {:.3} ms, {} frames", variant.name, point.frame.median, point.frames);
        }
    }
    let frame =
        comparison.changes.iter().find(|change| change.stage.is_none()).ok_or("no frame was taken")?;
    let percent = |ratio: f64| (ratio - 1.0) * 100.0;
    println!(
        "with the meter a frame of {COUNT} takes {:+.2} % ({:+.2} to {:+.2} %) of its time without; the bar is 1 %",
        percent(frame.ratio),
        percent(frame.interval.low),
        percent(frame.interval.high)
    );

    // The same from within: how many calls a frame makes, and what so many cost by themselves.
    let mut scene = Scene::new(&scene.scaled(COUNT))?;
    let mut meter = Meter::new();
    scene.run_to(4.0, &mut meter);
    scene.draw(&mut meter)?;
    let trace = Trace::begin();
    meter.begin_frame();
    scene.step(1.0 / 60.0, 1, &mut meter);
    scene.draw(&mut meter)?;
    let whole = meter.end_frame().total();
    let lanes = trace.end();
    let spans = lanes.iter().flat_map(|lane| &lane.spans);
    let stages = spans.filter(|span| matches!(span.what, What::Stage(_))).count();
    let each = cost_of_a_stage();
    println!(
        "{stages} stages are started and stopped in a frame of {whole:.1?}, at {:.0} ns each: {:.4} %",
        each * 1e9,
        each * stages as f64 / whole.as_secs_f64() * 100.0
    );
    Ok(())
}

/// Seconds that starting and stopping a stage, adding to a counter and telling bytes take.
fn cost_of_a_stage() -> f64 {
    const TIMES: u32 = 200_000;
    let mut meter = Meter::new();
    let began = std::time::Instant::now();
    for nth in 0..TIMES {
        let started = meter.start(Stage::Raster);
        meter.add(Counter::Alive, u64::from(std::hint::black_box(nth)));
        meter.moved(Stage::Raster, 8);
        meter.stop(started);
    }
    std::hint::black_box(&meter);
    began.elapsed().as_secs_f64() / f64::from(TIMES)
}
