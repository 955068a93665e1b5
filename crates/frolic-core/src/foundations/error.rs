//! Errors of specs: the key, the problem and a remedy; and range checks that all specs share.

/// A value in a spec that cannot be used.
///
/// The key is a path inside the spec (`life`, `emitter.0.rate`). The reader of a file adds the line.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{key}: {problem}; {instead}")]
#[non_exhaustive]
pub struct SpecError {
    /// Dotted path of the offending key.
    pub key: String,
    /// The problem.
    pub problem: String,
    /// The remedy: what to write instead.
    pub instead: String,
}

impl SpecError {
    /// An error about a key: the problem, and the remedy.
    pub fn new(key: impl Into<String>, problem: impl Into<String>, instead: impl Into<String>) -> Self {
        Self { key: key.into(), problem: problem.into(), instead: instead.into() }
    }

    /// Prefixes the key with that of the enclosing spec: `outer.key`.
    pub fn under(mut self, outer: &str) -> Self {
        self.key = if self.key.is_empty() { outer.to_owned() } else { format!("{outer}.{}", self.key) };
        self
    }

    /// Replaces the first part of the key, for a spec that has another name in this place.
    pub(crate) fn renamed(mut self, from: &str, to: &str) -> Self {
        self.key = self.key.replacen(from, to, 1);
        self
    }
}

/// Lists names in a message: at most 24, then the number of the others.
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
/// Names `key`, the count and the maximum.
pub fn at_most(key: &str, count: usize, most: usize) -> Result<(), SpecError> {
    if count <= most {
        return Ok(());
    }
    Err(SpecError::new(key, format!("there are {count}"), format!("keep to {most}")))
}

/// Refuses a list that is longer than `most`, or the first item that fails its check; the error of item n is under `key.n`.
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

/// Refuses a vector without a direction.
pub(crate) fn direction(key: &str, value: [f32; 3]) -> Result<(), SpecError> {
    vector_within(key, value, 1e6, "")?;
    if glam::Vec3::from(value).length() < 1e-6 {
        return Err(SpecError::new(key, "has no length", "write a direction such as [0, 1, 0]"));
    }
    Ok(())
}
