//! From frames of any length to steps of one length.

use serde::{Deserialize, Serialize};

use crate::foundations::error::{SpecError, within};

/// How time advances.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
#[non_exhaustive]
pub struct ClockSpec {
    /// Steps a second, 1 to 1000. Default 60.
    pub rate: f32,
    /// Most steps taken in one frame, 1 to 100; what a slow frame owes beyond that is dropped, so the simulation
    /// slows down and does not freeze. Default 4.
    pub max_steps: u32,
}

impl Default for ClockSpec {
    fn default() -> Self {
        Self { rate: 60.0, max_steps: 4 }
    }
}

impl ClockSpec {
    /// Whether the values are in range.
    ///
    /// # Errors
    /// Names the key that is not.
    pub fn check(&self) -> Result<(), SpecError> {
        within("rate", self.rate, 1.0, 1000.0, "steps a second")?;
        within("max_steps", self.max_steps as f32, 1.0, 100.0, "steps")
    }

    /// Length of a step, s.
    pub fn step(&self) -> f32 {
        1.0 / self.rate
    }
}

/// What one frame has to do.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Tick {
    /// Steps to take now.
    pub steps: u32,
    /// Whole steps that were owed beyond the cap and are given up.
    pub dropped: u32,
    /// Where between the last two states to draw: 0 at the older, 1 at the newer.
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

    /// Takes steps at another rate from now on, 1 to 1000 a second; others change nothing.
    pub fn set_rate(&mut self, rate: f32) {
        if (1.0..=1000.0).contains(&rate) {
            self.spec.rate = rate;
        }
    }

    /// Length of a step now, s.
    pub fn step(&self) -> f32 {
        self.spec.step()
    }

    /// Adds a frame's `elapsed` seconds (negative and non-finite ones count as none) and says what to do.
    pub fn advance(&mut self, elapsed: f64) -> Tick {
        let step = 1.0 / f64::from(self.spec.rate);
        // An hour is more than any cap; the limit keeps the arithmetic exact.
        let elapsed = if elapsed.is_finite() { elapsed.clamp(0.0, 3600.0) } else { 0.0 };
        self.owed += elapsed;
        // A frame of exactly n steps must give n, whatever the rounding of the sum.
        let whole = (self.owed / step + 1e-6).floor();
        self.owed = (self.owed - whole * step).max(0.0);
        let due = whole as u32;
        let steps = due.min(self.spec.max_steps);
        Tick { steps, dropped: due - steps, alpha: (self.owed / step).min(1.0) as f32 }
    }
}
