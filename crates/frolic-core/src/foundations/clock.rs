//! Divides frames of any length into steps of one length.

use derive_setters::Setters;
use serde::{Deserialize, Serialize};

use crate::foundations::error::{SpecError, within};

/// How time advances.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, Setters)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields, default)]
#[non_exhaustive]
pub struct ClockSpec {
    /// Steps a second, 1 to 1000. Default: 60.
    pub rate: f32,
    /// Maximum number of steps in one frame, 1 to 100. Further steps are dropped: a slow frame slows the simulation instead of freezing it.
    /// Default: 4.
    pub max_steps: u32,
}

impl Default for ClockSpec {
    fn default() -> Self {
        Self { rate: 60.0, max_steps: 4 }
    }
}

impl ClockSpec {
    /// Checks that the values are in range.
    ///
    /// # Errors
    /// Names the key that is out of range.
    pub fn check(&self) -> Result<(), SpecError> {
        within("rate", self.rate, 1.0, 1000.0, "steps a second")?;
        within("max_steps", self.max_steps as f32, 1.0, 100.0, "steps")
    }

    /// Length of a step, in seconds.
    pub fn step(&self) -> f32 {
        1.0 / self.rate
    }
}

/// Steps of one frame.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Tick {
    /// Steps to take now.
    pub steps: u32,
    /// Number of steps beyond the cap, which are dropped.
    pub dropped: u32,
    /// Position of the picture between the last two states: 0 at the older, 1 at the newer.
    pub alpha: f32,
}

/// An accumulator of fixed steps, as in Fiedler, "Fix Your Timestep" (2004).
///
/// ```
/// use frolic_core::{Clock, ClockSpec};
/// let mut clock = Clock::new(ClockSpec::default());
/// let tick = clock.advance(0.025);            // one step and a half at 60 Hz
/// assert_eq!((tick.steps, tick.dropped), (1, 0));
/// assert!((tick.alpha - 0.5).abs() < 1e-3);
/// assert_eq!(clock.advance(10.0).steps, 4);   // the cap: slower, not frozen
/// ```
#[derive(Debug, Clone)]
pub struct Clock {
    spec: ClockSpec,
    owed: f64,
}

impl Clock {
    /// A clock at time zero.
    pub fn new(spec: ClockSpec) -> Self {
        Self { spec, owed: 0.0 }
    }

    /// Changes the number of steps a second, 1 to 1000; other values are ignored.
    pub fn set_rate(&mut self, rate: f32) {
        if (1.0..=1000.0).contains(&rate) {
            self.spec.rate = rate;
        }
    }

    /// Changes the spec. Time that no step has taken yet stays.
    pub fn retune(&mut self, spec: ClockSpec) {
        self.spec = spec;
    }

    /// Time that no step has taken yet, in seconds.
    pub fn owed(&self) -> f64 {
        self.owed
    }

    /// Restores the time that no step has taken yet, in seconds: less than a step, or it is ignored.
    pub fn set_owed(&mut self, seconds: f64) {
        if (0.0..=f64::from(self.step())).contains(&seconds) {
            self.owed = seconds;
        }
    }

    /// Present length of a step, in seconds.
    pub fn step(&self) -> f32 {
        self.spec.step()
    }

    /// Adds the `elapsed` seconds of a frame (negative and non-finite values count as 0) and returns its steps.
    pub fn advance(&mut self, elapsed: f64) -> Tick {
        let step = 1.0 / f64::from(self.spec.rate);
        // The limit keeps the arithmetic exact: an hour exceeds any cap.
        let elapsed = if elapsed.is_finite() { elapsed.clamp(0.0, 3600.0) } else { 0.0 };
        self.owed += elapsed;
        // A frame of exactly n steps must give n, despite rounding.
        let whole = (self.owed / step + 1e-6).floor();
        self.owed = (self.owed - whole * step).max(0.0);
        let due = whole as u32;
        let steps = due.min(self.spec.max_steps);
        Tick { steps, dropped: due - steps, alpha: (self.owed / step).min(1.0) as f32 }
    }
}
