//! Errors of reading, running and writing scenes.

use std::io;
use std::path::PathBuf;

use frolic_core::SpecError;

/// A scene cannot be read, run or written.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum SceneError {
    /// The graphics device failed.
    #[error(transparent)]
    Device(#[from] DeviceError),
    /// The elements of a population could not be stepped or drawn. It has ended; the rest of the scene goes on.
    #[error("population '{population}' has ended: {problem}")]
    Population {
        /// Its name.
        population: String,
        /// The problem.
        problem: String,
    },
    /// The file cannot be read.
    #[error("{path}: cannot be read: {source}")]
    Read {
        /// The file.
        path: PathBuf,
        /// The cause.
        source: io::Error,
    },
    /// The text is not a scene.
    #[error("{place}: {problem}")]
    Text {
        /// File name and line, `my.toml:12`.
        place: String,
        /// The problem and a remedy.
        problem: String,
    },
    /// A value cannot be used.
    #[error("{place}: {source}")]
    Value {
        /// File name and line, or the setting that contains the value.
        place: String,
        /// The key, the problem and a remedy.
        source: SpecError,
    },
    /// The scene has nothing of the requested kind.
    #[error(transparent)]
    Missing(#[from] SpecError),
    /// A saved scene is of another version of the format.
    #[error(
        "the saved scene is of version {found}; this build reads version {supported}: save it again with this build"
    )]
    StateVersion {
        /// Its version.
        found: u32,
        /// The version that this build reads.
        supported: u32,
    },
    /// There is no such scene.
    #[error("no scene '{name}': not a file, and not one of the shipped scenes{hint}")]
    Unknown {
        /// The requested name.
        name: String,
        /// A clause with the nearest valid name.
        hint: String,
    },
    /// A texture, mesh or grid cannot be used.
    #[error("{path}: {problem}")]
    File {
        /// The file.
        path: PathBuf,
        /// The problem and a remedy.
        problem: String,
    },
    /// A result cannot be written.
    #[error("{path}: cannot be written: {source}")]
    Write {
        /// The file or folder.
        path: PathBuf,
        /// The cause.
        source: io::Error,
    },
}

/// A graphics device cannot do something, or there is none.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum DeviceError {
    /// This build has no support for graphics devices.
    #[error("this build draws on the CPU only; build with --features gpu to draw on a graphics device")]
    NotBuilt,
    /// A diagnostic view that only the CPU paints.
    #[error("{view} is drawn by the CPU only; use backend = \"cpu\"")]
    CpuOnly {
        /// Name of the view.
        view: &'static str,
    },
    /// The device failed.
    #[cfg(feature = "gpu")]
    #[error(transparent)]
    Gpu(#[from] frolic_gpu::GpuError),
}

/// Returns the candidate that a misspelt word most likely stands for, if any is near.
pub(crate) fn nearest<'a>(word: &str, candidates: impl IntoIterator<Item = &'a str>) -> Option<&'a str> {
    let score = |candidate: &'a str| (strsim::jaro_winkler(word, candidate), candidate);
    let best = candidates.into_iter().map(score).max_by(|a, b| a.0.total_cmp(&b.0))?;
    (best.0 > 0.75).then_some(best.1)
}

/// Returns a clause that says what to write instead of a misspelt word.
pub(crate) fn advice<'a>(word: &str, candidates: impl IntoIterator<Item = &'a str>) -> String {
    match nearest(word, candidates) {
        Some(near) => format!("did you mean '{near}'?"),
        None => "none is like it.".to_owned(),
    }
}
