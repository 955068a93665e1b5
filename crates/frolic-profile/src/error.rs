//! Errors of profiles.

use frolic_core::SpecError;
use frolic_scene::SceneError;

/// Error of a plan.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{what} '{text}': {problem}")]
#[non_exhaustive]
pub struct PlanError {
    /// Part of the plan: `counts` or `vary`.
    pub what: &'static str,
    /// Text of that part.
    pub text: String,
    /// Problem and remedy.
    pub problem: String,
}

/// Error of a profile.
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
    /// The file is not a profile of this version, or cannot be compared with another.
    #[error("{0}")]
    Format(String),
    /// A chart cannot be drawn.
    #[error("the chart cannot be drawn: {0}")]
    Chart(String),
}
