//! Why a profile could not be made.

use frolic_core::SpecError;
use frolic_scene::SceneError;

/// Why a plan cannot be followed.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{what} '{text}': {problem}")]
#[non_exhaustive]
pub struct PlanError {
    /// Which part of the plan: `counts`, `vary`.
    pub what: &'static str,
    /// How it was written.
    pub text: String,
    /// What is wrong, and what to write instead.
    pub problem: String,
}

/// Why a profile could not be made.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum ProfileError {
    /// The plan cannot be followed.
    #[error(transparent)]
    Plan(#[from] PlanError),
    /// A varied key or value does not fit the scene, or a result cannot be written.
    #[error(transparent)]
    Scene(#[from] SceneError),
    /// The scene cannot run at the lowest count.
    #[error(transparent)]
    Spec(#[from] SpecError),
    /// The file is no profile of this version, or cannot be compared with another.
    #[error("{0}")]
    Format(String),
    /// A chart cannot be drawn.
    #[error("the chart cannot be drawn: {0}")]
    Chart(String),
}
