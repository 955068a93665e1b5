//! `frolic demo`: a first look at everything.

use frolic::core::Counter;
use frolic::prelude::*;
use frolic::scene::SHIPPED;
use serde::Serialize;

use super::draw::{Drawn, PLAIN, draw, summary};
use super::profile::{measure, time_of};
use super::{CommandError, Outcome, drawn_by, heed_interrupts, usable};
use crate::args;
use crate::output::{say, say_json};

/// The scene that is profiled.
const PROFILED: &str = "beacon";

#[derive(Debug, Serialize)]
struct Shown {
    pictures: Vec<Drawn>,
    profile: Profile,
    files: Vec<String>,
}

pub(super) fn run(args: &args::Demo) -> Result<Outcome, CommandError> {
    heed_interrupts();
    usable(&args.out)?;
    let note = |line: &str| {
        if !args.json {
            say(line);
        }
    };
    let mut pictures = Vec::new();
    for scene in SHIPPED {
        let mut spec = SceneSpec::find(scene.name)?;
        drawn_by(&mut spec, &args.drawing);
        let path = args.out.join(format!("{}.png", scene.name));
        let Some((drawn, frame)) = draw(scene.name, &spec, PLAIN, &path)? else {
            return Ok(Outcome::Interrupted);
        };
        note(&format!("{}: {}", path.display(), scene.about));
        note(&summary(&frame));
        pictures.push(drawn);
    }

    let mut spec = SceneSpec::find(PROFILED)?;
    drawn_by(&mut spec, &args.drawing);
    let mut plan = Plan::default();
    plan.counts = "1k,10k,100k,1m".parse()?;
    plan.vary = vec!["draw.technique=each,instanced".parse()?];
    plan.frames = 15;
    plan.time = time_of(args.time)?;
    note(&format!("\nprofile of {PROFILED}: one draw call an element, against one a batch"));
    let profile = measure(PROFILED, &spec, &plan, None)?;
    let written = write_profile(&profile, &args.out)?;
    note(&profile.table());
    if let Some(line) = at_a_million(&profile) {
        note(&line);
    }
    let files: Vec<String> = written.iter().map(|path| path.display().to_string()).collect();
    note(&format!("\n{}", files.join("\n")));
    let interrupted = profile.interrupted;
    if args.json {
        say_json(&Shown { pictures, profile, files });
    }
    Ok(if interrupted { Outcome::Interrupted } else { Outcome::Done })
}

/// The summary line.
fn at_a_million(profile: &Profile) -> Option<String> {
    let instanced = profile.variants.last()?;
    let point = instanced.points.iter().find(|point| point.count == 1_000_000)?;
    let instances = point.counters.iter().find(|(name, _)| name == Counter::Instances.name())?.1;
    Some(format!(
        "\n1 million embers, stepped and drawn whole: {:.1} ms a frame ({instances} instances, {} draw calls)",
        point.frame.median, point.draw_calls
    ))
}
