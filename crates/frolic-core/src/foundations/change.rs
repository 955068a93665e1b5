//! Effect of a change on what is running.

/// Effect of a changed spec on a running population or world.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[non_exhaustive]
pub enum Change {
    /// The specs are equal.
    Unchanged,
    /// The change holds from the next step on. Elements, time and random numbers stay.
    Live,
}
