//! What is wrong with a spec: the key, the problem, and what would be right; and the range checks that all specs share.

/// A value in a spec that cannot be used.
///
/// The key is a path inside the spec (`life`, `emitter.0.rate`); whoever read the spec from a file knows the line.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{key}: {problem}; {instead}")]
#[non_exhaustive]
pub struct SpecError {
    /// Dotted path of the offending key.
    pub key: String,
    /// What is wrong with it.
    pub problem: String,
    /// What to write instead.
    pub instead: String,
}

impl SpecError {
    /// An error about `key`: what is wrong, and what to write instead.
    pub fn new(key: impl Into<String>, problem: impl Into<String>, instead: impl Into<String>) -> Self {
        Self { key: key.into(), problem: problem.into(), instead: instead.into() }
    }

    /// The same error seen from the spec that holds this one: `outer.key`.
    pub fn under(mut self, outer: &str) -> Self {
        self.key = if self.key.is_empty() { outer.to_owned() } else { format!("{outer}.{}", self.key) };
        self
    }
}

/// Names to choose from, for a message: a list of any length stays within a few lines.
pub fn listed<'a>(names: impl IntoIterator<Item = &'a str>) -> String {
    const MOST: usize = 24;
    let names: Vec<&str> = names.into_iter().collect();
    let shown = names[..names.len().min(MOST)].join(", ");
    if names.len() > MOST { format!("{shown} and {} more", names.len() - MOST) } else { shown }
}

/// Refuses a number outside `min..=max`, or one that is not finite.
///
/// # Errors
/// Names `key`, the value, and the range with its unit.
pub fn within(key: &str, value: f32, min: f32, max: f32, unit: &str) -> Result<(), SpecError> {
    if value.is_finite() && value >= min && value <= max {
        return Ok(());
    }
    let unit = if unit.is_empty() { String::new() } else { format!(" {unit}") };
    Err(SpecError::new(
        key,
        format!("{value} is out of range"),
        format!("write a number from {min} to {max}{unit}"),
    ))
}

/// Refuses a vector with a component outside `-max..=max`, or one that is not finite.
///
/// # Errors
/// As [`within`].
pub fn vector_within(key: &str, value: [f32; 3], max: f32, unit: &str) -> Result<(), SpecError> {
    value.iter().try_for_each(|&component| within(key, component, -max, max, unit))
}

/// Refuses a list of `count` that is longer than `most`.
///
/// # Errors
/// Names `key`, the count and the most.
pub fn at_most(key: &str, count: usize, most: usize) -> Result<(), SpecError> {
    if count <= most {
        return Ok(());
    }
    Err(SpecError::new(key, format!("there are {count}"), format!("keep to {most}")))
}

/// Refuses a list that is longer than `most`, or the first item that does not pass; errors of the nth are under `key.n`.
pub(crate) fn each<T>(
    key: &str,
    list: &[T],
    most: usize,
    check: impl Fn(&T) -> Result<(), SpecError>,
) -> Result<(), SpecError> {
    at_most(key, list.len(), most)?;
    let under = |(nth, item)| check(item).map_err(|error| error.under(&format!("{key}.{nth}")));
    list.iter().enumerate().try_for_each(under)
}

/// Refuses a vector that points nowhere.
pub(crate) fn direction(key: &str, value: [f32; 3]) -> Result<(), SpecError> {
    vector_within(key, value, 1e6, "")?;
    if glam::Vec3::from(value).length() < 1e-6 {
        return Err(SpecError::new(key, "has no length", "write a direction such as [0, 1, 0]"));
    }
    Ok(())
}
