//! `frolic draw`: one picture.

use std::collections::BTreeMap;
use std::path::Path;

use frolic::prelude::*;
use serde::Serialize;

use super::{CommandError, Outcome, choose, heed_interrupts, run_to, short_name, usable};
use crate::args;
use crate::output::{ms, say, say_json};

/// What `--json` prints.
#[derive(Debug, Serialize)]
pub(super) struct Drawn {
    scene: String,
    picture: String,
    size: [u32; 2],
    at: f32,
    frame_ms: f64,
    stages_ms: BTreeMap<&'static str, f64>,
    counters: BTreeMap<&'static str, u64>,
}

pub(super) fn run(args: &args::Draw) -> Result<Outcome, CommandError> {
    heed_interrupts();
    let mut spec = choose(&args.chosen)?;
    if let Some(size) = args.size {
        spec.draw.size = size;
    }
    if let Some(at) = args.at {
        spec.draw.at = at;
    }
    spec.check()?;
    let name = short_name(&args.chosen.scene);
    let path = args.output.clone().unwrap_or_else(|| format!("{name}.png").into());
    let Some((drawn, frame)) = draw(&name, &spec, &path)? else { return Ok(Outcome::Interrupted) };
    if args.json {
        say_json(&drawn);
        return Ok(Outcome::Done);
    }
    say(&format!("{}: {} at {} s", path.display(), spec.draw.size, spec.draw.at));
    say(&summary(&frame));
    Ok(Outcome::Done)
}

/// Runs a scene, draws it twice (the second is timed, with sky and ground kept) and writes the picture; `None` when
/// interrupted, which writes nothing.
pub(super) fn draw(
    name: &str,
    spec: &SceneSpec,
    path: &Path,
) -> Result<Option<(Drawn, Frame)>, CommandError> {
    let mut scene = Scene::new(spec)?;
    usable(path.parent().unwrap_or(Path::new("")))?;
    let mut meter = Meter::new();
    if !run_to(&mut scene, f64::from(spec.draw.at), &mut meter) {
        return Ok(None);
    }
    scene.draw(&mut meter);
    let alive = scene.alive() as u64;
    meter.begin_frame();
    let image = scene.draw(&mut meter);
    meter.add(Counter::Alive, alive);
    let frame = meter.end_frame();
    write_png(path, image)?;
    let millis = |time: std::time::Duration| time.as_secs_f64() * 1e3;
    let drawn = Drawn {
        scene: name.to_owned(),
        picture: path.display().to_string(),
        size: spec.draw.size.into(),
        at: spec.draw.at,
        frame_ms: millis(frame.total()),
        stages_ms: Stage::ALL.iter().map(|&stage| (stage.name(), millis(frame.stage(stage)))).collect(),
        counters: Counter::ALL.iter().map(|&counter| (counter.name(), frame.count(counter))).collect(),
    };
    Ok(Some((drawn, frame)))
}

/// The frame in a few lines.
pub(super) fn summary(frame: &Frame) -> String {
    let count = |counter| frame.count(counter);
    let stages: Vec<String> = Stage::ALL
        .iter()
        .filter(|&&stage| !frame.stage(stage).is_zero())
        .map(|&stage| format!("{} {}", stage.name(), ms(frame.stage(stage))))
        .collect();
    format!(
        "  {} alive, {} drawn in {} draw calls, {} culled, {} pixels touched\n  drawn in {}: {}",
        count(Counter::Alive),
        count(Counter::Instances) - count(Counter::Culled),
        count(Counter::DrawCalls),
        count(Counter::Culled),
        count(Counter::PixelsTouched),
        ms(frame.total()),
        stages.join(", "),
    )
}
