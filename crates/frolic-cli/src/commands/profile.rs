//! `frolic profile`: frame time against count.

use std::path::{Path, PathBuf};
use std::time::Duration;

use frolic::prelude::*;
use frolic::profile::{
    Comparison, Journal, OtherProgram, ProfileError, Progress, check_plan, compare_builds, sweep_builds,
};

use super::{
    CommandError, Outcome, choose, drawn_by, has_ending, heed_interrupts, interrupted, seconds, short_name,
    usable,
};
use crate::args;
use crate::output::{columns, complain, progress, say, say_json};

/// Seconds for a whole profile as `--time` has them; none is as long as it takes.
pub(super) fn time_of(time: f64) -> Result<Option<Duration>, CommandError> {
    if time == 0.0 { Ok(None) } else { seconds("--time", time).map(Some) }
}

pub(super) fn run(args: &args::ProfileArgs) -> Result<Outcome, CommandError> {
    heed_interrupts();
    let mut spec = choose(&args.chosen)?;
    drawn_by(&mut spec, &args.drawing);
    let mut plan = Plan::default();
    plan.counts = args.counts.clone();
    plan.vary.clone_from(&args.vary);
    plan.frames = args.frames;
    plan.within = args.within;
    plan.time = time_of(args.time)?;
    plan.target = seconds("--target-rate", 1.0 / args.target_rate)?;
    plan.frame_limit = Duration::try_from_secs_f64(args.frame_limit).map_err(|_| {
        CommandError::Usage(format!("--frame-limit {}: write seconds from 0.001 to 3600", args.frame_limit))
    })?;
    let name = short_name(&args.chosen.scene);
    check_plan(&name, &spec, &plan)?;
    usable(&args.out)?;

    if let Some(other) = &args.against {
        return against(args, &name, &spec, &plan, other);
    }
    let journal = args.out.join("journal.jsonl");
    let of = plan.journal_of(&spec)?;
    let mut journal =
        if args.resume { Journal::resume(&journal, &of)? } else { Journal::begin(&journal, &of)? };
    let profile = measure(&name, &spec, &plan, Some(&mut journal))?;
    let written = write_profile(&profile, &args.out)?;
    if args.json {
        say_json(&profile);
    } else {
        say(&profile.table_within(columns()));
        print_written(&args.out, &written);
    }
    if !profile.interrupted && profile.fault.is_none() {
        journal.remove();
    } else {
        complain(&format!("{}: go on with --resume", args.out.display()));
    }
    if let Some(fault) = &profile.fault {
        // Finished counts are written.
        return Err(CommandError::Fault(fault.clone()));
    }
    Ok(if profile.interrupted { Outcome::Interrupted } else { Outcome::Done })
}

/// Lists the files that were written into a folder.
pub(super) fn print_written(folder: &Path, written: &[PathBuf]) {
    let word = |part: Option<&std::ffi::OsStr>| part.unwrap_or_default().to_string_lossy().into_owned();
    let charts: Vec<String> =
        written.iter().filter(|path| has_ending(path, "svg")).map(|path| word(path.file_stem())).collect();
    let others = written.iter().filter(|path| !has_ending(path, "svg") && !has_ending(path, "png"));
    let others: Vec<String> = others.map(|path| word(path.file_name())).collect();
    say(&format!(
        "\n{}: {}\n  and as .svg and .png: {}",
        folder.display(),
        others.join(", "),
        charts.join(", ")
    ));
}

/// This build and another, turn about.
fn against(
    args: &args::ProfileArgs,
    name: &str,
    spec: &SceneSpec,
    plan: &Plan,
    other: &Path,
) -> Result<Outcome, CommandError> {
    let this = std::env::current_exe()
        .map_err(|error| CommandError::Usage(format!("this program cannot find itself: {error}")))?;
    if !other.is_file() {
        let problem = format!("--against {}: not a file; name the frolic of another build", other.display());
        return Err(CommandError::Usage(problem));
    }
    let program = |nth: usize, settings: &[(String, String)]| {
        let mut words = vec!["frames".to_owned(), args.chosen.scene.clone()];
        words.extend(args.drawing.backend.iter().flat_map(|it| ["--backend".to_owned(), it.to_string()]));
        let varied = settings.iter().map(|(key, value)| format!("{key}={value}"));
        let all = args.chosen.settings.iter().cloned().chain(varied);
        words.extend(all.flat_map(|setting| ["--set".to_owned(), setting]));
        OtherProgram::new(if nth == 0 { &*this } else { other }, words)
    };
    let profile = with_bar(|watch| sweep_builds(name, spec, plan, program, watch))?;
    let written = write_profile(&profile, &args.out)?;
    let comparison: Comparison = compare_builds(&profile).map_err(|error| {
        let stops = profile.variants.iter().filter_map(|variant| variant.stopped.as_ref());
        let why = stops.map(|stop| stop.reason.clone()).next().unwrap_or_else(|| error.to_string());
        CommandError::Usage(format!("--against {why}"))
    })?;
    if !args.json {
        say(&profile.table_within(columns()));
        print_written(&args.out, &written);
        say("\nfrom the other build to this one:");
    }
    let outcome = super::diff::print(&comparison, args.fail_over, args.json);
    Ok(if profile.interrupted { Outcome::Interrupted } else { outcome })
}

/// A sweep with a progress bar that Ctrl-C ends early.
pub(super) fn measure(
    name: &str,
    spec: &SceneSpec,
    plan: &Plan,
    journal: Option<&mut Journal>,
) -> Result<Profile, CommandError> {
    with_bar(|watch| sweep(name, spec, plan, journal, watch))
}

/// Something that is watched as a sweep is, with a progress bar that Ctrl-C ends early.
fn with_bar(
    run: impl FnOnce(&mut dyn FnMut(&Progress<'_>) -> bool) -> Result<Profile, ProfileError>,
) -> Result<Profile, CommandError> {
    let bar = progress(0, "profiling");
    let profile = run(&mut |now| {
        bar.set_length(now.total);
        bar.set_position(now.done);
        bar.set_message(format!("{} at {}", now.variant, now.count));
        !interrupted()
    })?;
    bar.finish_and_clear();
    Ok(profile)
}
