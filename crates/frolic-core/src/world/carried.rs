//! How far the steady wind has carried the air: noise moves with it.

use serde::{Deserialize, Serialize};

/// The steady wind at a moment, and the way of the air until then.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(crate) struct Carried {
    /// Wind, in m/s.
    pub(crate) wind: [f32; 3],
    /// The moment, in seconds.
    pub(crate) time: f64,
    from: Start,
}

/// Where the way begins to follow the present wind.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize, Deserialize)]
pub(crate) struct Start {
    /// Time of the last change of the wind, in seconds.
    since: f64,
    /// Way until then, in metres.
    metres: [f64; 3],
}

impl Start {
    /// The moment of a change of the wind, from here on.
    pub(crate) fn changed(before: &Carried) -> Self {
        Self { since: before.time, metres: before.metres() }
    }

    /// A wind from here on, at a time, in seconds.
    pub(crate) fn at(self, wind: [f32; 3], time: f64) -> Carried {
        Carried { wind, time, from: self }
    }
}

impl Carried {
    /// A wind that never changed, at a time, in seconds.
    #[cfg(test)]
    pub(crate) fn steady(wind: [f32; 3], time: f64) -> Self {
        Start::default().at(wind, time)
    }

    /// Whether the wind never changed.
    pub(crate) fn is_steady(&self) -> bool {
        self.from == Start::default()
    }

    /// Way of the air, in metres.
    pub(crate) fn metres(&self) -> [f64; 3] {
        let Start { since, metres } = self.from;
        std::array::from_fn(|axis| metres[axis] + f64::from(self.wind[axis]) * (self.time - since))
    }
}
