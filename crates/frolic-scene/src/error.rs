//! What can go wrong between a scene's text and its picture, split by who can mend it.

use std::io;
use std::path::PathBuf;

use frolic_core::SpecError;

/// Why a scene cannot be read, run or written.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum SceneError {
    /// The graphics device could not do what was asked.
    #[error("{0}")]
    Device(String),
    /// The file cannot be read.
    #[error("{path}: cannot be read: {source}")]
    Read {
        /// The file.
        path: PathBuf,
        /// Why not.
        source: io::Error,
    },
    /// The text is not a scene.
    #[error("{place}: {problem}")]
    Text {
        /// File name and line, `my.toml:12`.
        place: String,
        /// What is wrong and what would be right.
        problem: String,
    },
    /// A value cannot be used.
    #[error("{place}: {source}")]
    Value {
        /// File name and line, or the setting that brought the value in.
        place: String,
        /// The key, the problem, and what would be right.
        source: SpecError,
    },
    /// What was asked of a scene is not in it.
    #[error(transparent)]
    Missing(#[from] SpecError),
    /// No such scene.
    #[error("no scene '{name}': neither a file nor one that ships{hint}")]
    Unknown {
        /// What was asked for.
        name: String,
        /// The nearest right name, as a clause.
        hint: String,
    },
    /// A texture, mesh or grid cannot be used.
    #[error("{path}: {problem}")]
    File {
        /// The file.
        path: PathBuf,
        /// What is wrong with it and what would be right.
        problem: String,
    },
    /// A result cannot be written.
    #[error("{path}: cannot be written: {source}")]
    Write {
        /// The file or folder.
        path: PathBuf,
        /// Why not.
        source: io::Error,
    },
}

/// The candidate that `word` most likely stands for, if any is near.
pub(crate) fn nearest<'a>(word: &str, candidates: impl IntoIterator<Item = &'a str>) -> Option<&'a str> {
    let score = |candidate: &'a str| (strsim::jaro_winkler(word, candidate), candidate);
    let best = candidates.into_iter().map(score).max_by(|a, b| a.0.total_cmp(&b.0))?;
    (best.0 > 0.75).then_some(best.1)
}

/// What to write instead of a misspelt `word`, as a clause.
pub(crate) fn advice<'a>(word: &str, candidates: impl IntoIterator<Item = &'a str>) -> String {
    match nearest(word, candidates) {
        Some(near) => format!("did you mean '{near}'?"),
        None => "none is like it.".to_owned(),
    }
}
