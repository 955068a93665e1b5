//! The commands, one file each, and shared parts: choosing a scene, running it to a time, folders, Ctrl-C.

mod bake;
mod ceiling;
mod check;
mod demo;
mod diff;
mod draw;
mod export;
mod frames;
mod profile;
mod report;
mod scenes;

use std::path::Path;
use std::process::ExitCode;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use frolic::prelude::*;
use frolic::profile::{PlanError, ProfileError};
use frolic::scene::Backend;
use frolic::scene::write_beside;

use crate::args::{Chosen, Command, Drawing};
use crate::output;

/// Bad input, with a message for the user.
#[derive(Debug, thiserror::Error)]
pub(crate) enum CommandError {
    #[error(transparent)]
    Scene(#[from] SceneError),
    #[error(transparent)]
    Spec(#[from] SpecError),
    #[error(transparent)]
    Profile(#[from] ProfileError),
    #[error(transparent)]
    Plan(#[from] PlanError),
    /// A graphics device that failed while a profile ran.
    #[error("{0}")]
    Fault(String),
    #[error("{0}")]
    Usage(String),
}

impl CommandError {
    /// True if a graphics device failed.
    pub(crate) fn is_device(&self) -> bool {
        matches!(self, Self::Scene(SceneError::Device(_)) | Self::Fault(_))
    }
}

/// How a command ended that was not stopped by bad input.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Outcome {
    Done,
    /// Interrupted by Ctrl-C. Finished results are kept.
    Interrupted,
    /// A check failed, and has said so.
    Failed,
}

impl From<Outcome> for ExitCode {
    fn from(outcome: Outcome) -> Self {
        match outcome {
            Outcome::Done => ExitCode::SUCCESS,
            Outcome::Interrupted | Outcome::Failed => ExitCode::FAILURE,
        }
    }
}

pub(crate) fn run(command: &Command) -> Result<Outcome, CommandError> {
    match command {
        Command::Demo(args) => demo::run(args),
        Command::Draw(args) => draw::run(args),
        Command::Profile(args) => profile::run(args),
        Command::Report(args) => report::run(args),
        Command::Ceiling(args) => ceiling::run(args),
        Command::Frames(args) => frames::run(args),
        Command::Diff(args) => diff::run(args),
        Command::Bake(args) => bake::run(args),
        Command::Export(args) => export::run(args),
        Command::Check(args) => check::run(args),
        Command::Scenes(args) => scenes::run(args),
    }
}

/// The requested scene with its changes.
fn choose(chosen: &Chosen) -> Result<SceneSpec, CommandError> {
    let mut spec = SceneSpec::find(&chosen.scene)?;
    for setting in &chosen.settings {
        let (key, value) = setting.split_once('=').ok_or_else(|| {
            CommandError::Usage(format!("--set {setting}: write KEY=VALUE, such as embers.count=5000"))
        })?;
        spec = spec.set(key, value)?;
    }
    Ok(spec)
}

/// Draws the scene as the arguments ask.
fn drawn_by(spec: &mut SceneSpec, drawing: &Drawing) {
    if let Some(backend) = drawing.backend {
        spec.backend = backend;
    }
}

/// Reports that the backend fell back.
fn remark_on(scene: &Scene) {
    if let (Some(remark), Backend::Auto, false) = (scene.remark(), scene.spec().backend, scene.is_on_device())
    {
        output::complain(&remark);
    }
}

/// A scene's name without folder and ending.
fn short_name(scene: &str) -> String {
    let stem = Path::new(scene).file_stem().unwrap_or_default();
    stem.to_string_lossy().into_owned()
}

/// Whether a path's ending, after the dot, is this.
fn has_ending(path: &Path, ending: &str) -> bool {
    path.extension().is_some_and(|it| it == ending)
}

/// Finds out that a folder cannot be written before time was spent on filling it.
fn usable(folder: &Path) -> Result<(), CommandError> {
    let probe = folder.join(".frolic-probe");
    write_beside(&probe, |_| Ok(())).map_err(|error| match error {
        SceneError::Write { source, .. } => SceneError::Write { path: folder.to_owned(), source },
        other => other,
    })?;
    // It was just written; if it cannot be removed it does no harm.
    let _ = std::fs::remove_file(probe);
    Ok(())
}

/// Runs a scene to a moment with a progress bar; `false` when Ctrl-C came first.
fn run_to(scene: &mut Scene, seconds: f64, meter: &mut Meter) -> bool {
    let bar = output::progress((seconds * 1000.0) as u64, "running");
    while scene.run_some(seconds, 8, meter) {
        bar.set_position((scene.time() * 1000.0) as u64);
        bar.set_message(format!("{} alive", scene.alive()));
        if interrupted() {
            bar.abandon();
            return false;
        }
    }
    bar.finish_and_clear();
    true
}

/// Seconds of an option as a time.
fn seconds(option: &str, value: f64) -> Result<Duration, CommandError> {
    Duration::try_from_secs_f64(value)
        .map_err(|_| CommandError::Usage(format!("{option}: write a number above 0, and not too large")))
}

static INTERRUPTED: AtomicBool = AtomicBool::new(false);

/// From here on the first Ctrl-C is noted, and the second ends the program.
fn heed_interrupts() {
    // A second handler cannot be set; the first one then serves.
    let _ = ctrlc::set_handler(|| {
        if INTERRUPTED.swap(true, Ordering::Relaxed) {
            std::process::exit(1);
        }
    });
}

fn interrupted() -> bool {
    INTERRUPTED.load(Ordering::Relaxed)
}
