//! `frolic profile`: frame time against count.

use std::time::Duration;

use frolic::prelude::*;
use frolic::profile::{Journal, check_plan};

use super::{
    CommandError, Outcome, choose, drawn_by, heed_interrupts, interrupted, seconds, short_name, usable,
};
use crate::args;
use crate::output::{complain, progress, say, say_json};

pub(super) fn run(args: &args::ProfileArgs) -> Result<Outcome, CommandError> {
    heed_interrupts();
    let mut spec = choose(&args.chosen)?;
    drawn_by(&mut spec, &args.drawing);
    let mut plan = Plan::default();
    plan.counts = args.counts.clone();
    plan.vary.clone_from(&args.vary);
    plan.frames = args.frames;
    plan.within = args.within;
    plan.time = match args.time {
        0.0 => None,
        time => Some(seconds("--time", time)?),
    };
    plan.target = seconds("--target-rate", 1.0 / args.target_rate)?;
    plan.frame_limit = Duration::try_from_secs_f64(args.frame_limit).map_err(|_| {
        CommandError::Usage(format!("--frame-limit {}: write seconds from 0.001 to 3600", args.frame_limit))
    })?;
    let name = short_name(&args.chosen.scene);
    check_plan(&name, &spec, &plan)?;
    usable(&args.out)?;

    let journal = args.out.join("journal.jsonl");
    let of = plan.journal_of(&spec)?;
    let mut journal =
        if args.resume { Journal::resume(&journal, &of)? } else { Journal::begin(&journal, &of)? };
    let profile = measure(&name, &spec, &plan, Some(&mut journal))?;
    let written = write_profile(&profile, &args.out)?;
    if args.json {
        say_json(&profile);
    } else {
        say(&profile.table());
        let names: Vec<String> = written
            .iter()
            .filter_map(|path| Some(path.file_name()?.to_string_lossy().into_owned()))
            .collect();
        say(&format!("\n{}: {}", args.out.display(), names.join(", ")));
    }
    if !profile.interrupted && profile.fault.is_none() {
        journal.remove();
    } else {
        complain(&format!("{}: go on with --resume", args.out.display()));
    }
    if let Some(fault) = &profile.fault {
        // What was finished is written.
        return Err(SceneError::Device(fault.clone()).into());
    }
    Ok(if profile.interrupted { Outcome::Interrupted } else { Outcome::Done })
}

/// A sweep with a progress bar that Ctrl-C ends early.
pub(super) fn measure(
    name: &str,
    spec: &SceneSpec,
    plan: &Plan,
    journal: Option<&mut Journal>,
) -> Result<Profile, CommandError> {
    let bar = progress(0, "profiling");
    let profile = sweep(name, spec, plan, journal, |now| {
        bar.set_length(now.total);
        bar.set_position(now.done);
        bar.set_message(format!("{} at {}", now.variant, now.count));
        !interrupted()
    })?;
    bar.finish_and_clear();
    Ok(profile)
}
