//! Keeps frames within a time budget by reducing quality settings in a given order, and reports each change.
//!
//! It evaluates windows of twelve frames. If all but one frame of a window take too long, or nearly, it reduces the first setting of the order that
//! is above its minimum, in proportion. After a time well under the budget it raises the setting that was reduced last by a little; each time that
//! exceeds the budget it waits twice as long before the next attempt, so that settings do not oscillate. Settings move over half a window, so
//! that nothing pops.

use derive_setters::Setters;
use std::time::Duration;

use serde::{Deserialize, Serialize};

use crate::foundations::error::{SpecError, within};
use crate::foundations::state::{SavedState, unfit};

/// Frames of a window.
const WINDOW: usize = 12;
/// Number of frames over which a setting moves to its target.
const GLIDE: f32 = 6.0;
/// Frames below this share of the budget leave room to raise a setting.
const CALM: f64 = 0.75;
/// Factor by which a setting is raised.
const RAISE: f32 = 1.1;
/// Number of calm windows before a setting is raised: at first, and at most.
const CALM_WINDOWS: [u32; 2] = [4, 64];

/// A quality setting that a frame budget reduces.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub enum QualitySetting {
    /// Distance, and size on the screen, to which elements are drawn in full detail.
    Detail,
    /// Share of elements that is drawn. They are enlarged, so that they cover as much.
    Density,
    /// Steps a second; drawing interpolates between them.
    Rate,
    /// Quality of the picture on the CPU: full at a share of 1, a draft at a half.
    Picture,
}

impl QualitySetting {
    /// Its name in reports and files.
    pub fn name(self) -> &'static str {
        match self {
            Self::Detail => "detail",
            Self::Density => "density",
            Self::Rate => "rate",
            Self::Picture => "picture",
        }
    }
}

/// A frame budget, and the settings that may be reduced for it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, Setters)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields, default)]
#[non_exhaustive]
pub struct FrameBudgetSpec {
    /// Maximum time of a frame, in seconds, 0.0001 to 10. Default: 1/60.
    pub seconds: f32,
    /// Settings in order of reduction, of detail, density, rate and picture. Default: detail, density, rate.
    #[setters(into)]
    pub order: Vec<QualitySetting>,
    /// Minimum share of detail, 0.05 to 1. Default: 0.25.
    pub least_detail: f32,
    /// Minimum share of elements that are drawn, 0.02 to 1. Default: 0.2.
    pub least_density: f32,
    /// Minimum share of the steps a second, 0.1 to 1. Default: 0.5.
    pub least_rate: f32,
}

impl Default for FrameBudgetSpec {
    fn default() -> Self {
        Self {
            seconds: 1.0 / 60.0,
            order: vec![QualitySetting::Detail, QualitySetting::Density, QualitySetting::Rate],
            least_detail: 0.25,
            least_density: 0.2,
            least_rate: 0.5,
        }
    }
}

impl FrameBudgetSpec {
    /// A budget of this many seconds a frame.
    pub fn new(seconds: f32) -> Self {
        Self { seconds, ..Self::default() }
    }

    /// Whether the values are in range.
    ///
    /// # Errors
    /// Names the key that is out of range, or a setting that occurs twice.
    pub fn check(&self) -> Result<(), SpecError> {
        within("seconds", self.seconds, 1e-4, 10.0, "s")?;
        within("least_detail", self.least_detail, 0.05, 1.0, "")?;
        within("least_density", self.least_density, 0.02, 1.0, "")?;
        within("least_rate", self.least_rate, 0.1, 1.0, "")?;
        let twice = |(nth, setting): (usize, &QualitySetting)| self.order[..nth].contains(setting);
        if self.order.is_empty() || self.order.iter().enumerate().any(twice) {
            let problem = "is empty, or names a setting twice";
            return Err(SpecError::new(
                "order",
                problem,
                "write order = [\"detail\", \"density\", \"rate\"]",
            ));
        }
        Ok(())
    }

    fn least(&self, setting: QualitySetting) -> f32 {
        match setting {
            QualitySetting::Detail => self.least_detail,
            QualitySetting::Density => self.least_density,
            QualitySetting::Rate => self.least_rate,
            QualitySetting::Picture => 0.5,
        }
    }
}

/// A change that a frame budget made.
#[derive(Debug, Clone, Copy, PartialEq)]
#[non_exhaustive]
pub struct QualityChange {
    /// The setting.
    pub setting: QualitySetting,
    /// Share before the change.
    pub from: f32,
    /// Share after the change.
    pub to: f32,
    /// Time of the frames that caused it.
    pub took: Duration,
}

impl std::fmt::Display for QualityChange {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let did = if self.to < self.from { "lowered" } else { "raised" };
        let (name, percent) = (self.setting.name(), self.to * 100.0);
        write!(
            f,
            "{name} {did} to {percent:.0} %, because frames took {:.1} ms",
            self.took.as_secs_f64() * 1e3
        )
    }
}

/// State of a setting.
#[derive(Debug, Clone, Copy, PartialEq)]
struct Held {
    setting: QualitySetting,
    least: f32,
    wanted: f32,
    now: f32,
}

/// Keeps frames within the budget of a [`FrameBudgetSpec`]. Report the time of every frame to it.
///
/// ```
/// use std::time::Duration;
/// use frolic_core::{FrameBudget, FrameBudgetSpec, QualitySetting};
/// let mut budget = FrameBudget::new(&FrameBudgetSpec::new(0.010).order([QualitySetting::Density]))?;
/// // A frame of 4 ms and 16 ms of elements.
/// for _ in 0..500 {
///     let took = 0.004 + 0.016 * f64::from(budget.share(QualitySetting::Density));
///     if let Some(change) = budget.after(Duration::from_secs_f64(took)) {
///         println!("{change}");
///     }
/// }
/// let share = budget.share(QualitySetting::Density);
/// assert!((0.2..0.376).contains(&share), "{share}");
/// assert_eq!(budget.share(QualitySetting::Rate), 1.0);
/// # Ok::<(), frolic_core::SpecError>(())
/// ```
#[derive(Debug, Clone)]
pub struct FrameBudget {
    budget: f64,
    levers: Vec<Held>,
    /// Times of the last frames, in seconds.
    window: Vec<f64>,
    /// Number of frames until settings reach their targets.
    settling: u32,
    /// Number of calm windows in a row, number to wait for, and whether the last change was a raise.
    calm: u32,
    patience: u32,
    raised: bool,
}

/// Saved state of a frame budget.
#[derive(Debug, Serialize, Deserialize)]
struct BudgetState {
    /// Share that each setting has, and the share that it moves to, in their order.
    shares: Vec<[f32; 2]>,
    window: Vec<f64>,
    settling: u32,
    calm: u32,
    patience: u32,
    raised: bool,
}

impl FrameBudget {
    /// Returns its state: shares of the settings, and times of the last frames.
    pub fn save(&self) -> SavedState {
        let mut state = SavedState::default();
        let Self { window, settling, calm, patience, raised, .. } = self.clone();
        let shares = self.levers.iter().map(|held| [held.now, held.wanted]).collect();
        state.put("budget", &BudgetState { shares, window, settling, calm, patience, raised });
        state
    }

    /// Takes over a state that a frame budget of the same spec saved.
    ///
    /// # Errors
    /// The state is of another spec, or damaged. The frame budget then stays as it is.
    pub fn restore(&mut self, state: &SavedState) -> Result<(), SpecError> {
        let BudgetState { shares, window, settling, calm, patience, raised } = state.value("budget")?;
        let is_share = |share: &f32| (0.0..=1.0).contains(share);
        if shares.len() != self.levers.len()
            || window.len() >= WINDOW
            || !shares.iter().flatten().all(is_share)
        {
            return Err(unfit("budget", "is of another frame budget"));
        }
        for (held, [now, wanted]) in self.levers.iter_mut().zip(shares) {
            (held.now, held.wanted) = (now, wanted);
        }
        self.window.clear();
        self.window.extend(window);
        self.patience = patience.clamp(CALM_WINDOWS[0], CALM_WINDOWS[1]);
        (self.settling, self.calm, self.raised) = (settling, calm.min(self.patience), raised);
        Ok(())
    }

    /// A frame budget with all settings at their full share.
    ///
    /// # Errors
    /// As [`FrameBudgetSpec::check`].
    pub fn new(spec: &FrameBudgetSpec) -> Result<Self, SpecError> {
        spec.check()?;
        let held =
            |&setting: &QualitySetting| Held { setting, least: spec.least(setting), wanted: 1.0, now: 1.0 };
        Ok(Self {
            budget: f64::from(spec.seconds),
            levers: spec.order.iter().map(held).collect(),
            window: Vec::with_capacity(WINDOW),
            settling: 0,
            calm: 0,
            patience: CALM_WINDOWS[0],
            raised: false,
        })
    }

    /// Present share of a setting, above 0 to 1; 1 if it is not reduced, or may not be.
    pub fn share(&self, setting: QualitySetting) -> f32 {
        self.levers.iter().find(|held| held.setting == setting).map_or(1.0, |held| held.now)
    }

    /// Whether every setting has reached its minimum.
    pub fn is_spent(&self) -> bool {
        self.levers.iter().all(|held| held.wanted <= held.least)
    }

    /// Reports the time of a frame. Returns the change that follows, if any.
    pub fn after(&mut self, took: Duration) -> Option<QualityChange> {
        for held in &mut self.levers {
            let left = held.wanted - held.now;
            let most = (held.wanted.max(held.now) / GLIDE).max(1e-3);
            held.now += left.clamp(-most, most);
        }
        if self.settling > 0 {
            self.settling -= 1;
            return None;
        }
        self.window.push(took.as_secs_f64());
        if self.window.len() < WINDOW {
            return None;
        }
        self.window.sort_unstable_by(f64::total_cmp);
        // All but the slowest: other work may disturb one frame.
        let slow = self.window[WINDOW - 2];
        self.window.clear();
        let change = if slow > self.budget {
            self.calm = 0;
            if std::mem::take(&mut self.raised) {
                self.patience = (self.patience * 2).min(CALM_WINDOWS[1]);
            }
            self.lower(slow)
        } else if slow < self.budget * CALM {
            self.calm += 1;
            if self.calm < self.patience { None } else { self.raise(slow) }
        } else {
            self.calm = 0;
            None
        };
        if change.is_some() {
            self.settling = GLIDE as u32 + 1;
        }
        change
    }

    fn lower(&mut self, slow: f64) -> Option<QualityChange> {
        let held = self.levers.iter_mut().find(|held| held.wanted > held.least)?;
        // A little below the budget, so that the next window fits.
        let by = (self.budget / slow * 0.95).clamp(0.6, 0.97) as f32;
        // There is nothing between a full picture and a draft.
        let to = if held.setting == QualitySetting::Picture { held.least } else { held.wanted * by };
        Some(held.go(to.max(held.least), slow))
    }

    fn raise(&mut self, slow: f64) -> Option<QualityChange> {
        self.calm = 0;
        let held = self.levers.iter_mut().rev().find(|held| held.wanted < 1.0)?;
        self.raised = true;
        let to = if held.setting == QualitySetting::Picture { 1.0 } else { held.wanted * RAISE };
        let to = to.min(1.0);
        Some(held.go(to, slow))
    }
}

impl Held {
    fn go(&mut self, to: f32, slow: f64) -> QualityChange {
        let from = std::mem::replace(&mut self.wanted, to);
        QualityChange { setting: self.setting, from, to, took: Duration::from_secs_f64(slow.clamp(0.0, 1e6)) }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn seconds(took: f64) -> Duration {
        Duration::from_secs_f64(took)
    }

    /// Each setting is reduced in its turn, down to its minimum, and never below.
    #[test]
    fn quality_settings_are_lowered_in_order() {
        let spec = FrameBudgetSpec::new(0.010).order([QualitySetting::Density, QualitySetting::Rate]);
        let mut budget = FrameBudget::new(&spec).unwrap();
        let mut order = Vec::new();
        for _ in 0..2000 {
            order.extend(budget.after(seconds(0.030)).map(|change| change.setting));
        }
        let turn = order.iter().position(|setting| *setting == QualitySetting::Rate).unwrap();
        assert!(order[..turn].iter().all(|setting| *setting == QualitySetting::Density));
        assert!(order[turn..].iter().all(|setting| *setting == QualitySetting::Rate));
        assert!(budget.is_spent());
        assert!((budget.share(QualitySetting::Density) - spec.least_density).abs() < 1e-5);
        assert!((budget.share(QualitySetting::Rate) - spec.least_rate).abs() < 1e-5);
        assert_eq!(budget.share(QualitySetting::Detail), 1.0, "it was not in the order");
    }

    /// When the load falls, all settings are raised again, the last reduced first, and one slow frame in a window changes nothing.
    #[test]
    fn lowered_settings_come_back() {
        let mut budget = FrameBudget::new(&FrameBudgetSpec::new(0.010)).unwrap();
        (0..600).for_each(|_| _ = budget.after(seconds(0.030)));
        assert!(budget.share(QualitySetting::Detail) < 0.3 && budget.share(QualitySetting::Density) < 0.5);
        let mut raised = Vec::new();
        for nth in 0..12_000 {
            let took = if nth % 12 == 5 { 0.030 } else { 0.002 };
            raised.extend(budget.after(seconds(took)));
        }
        assert!(raised.iter().all(|change| change.to > change.from));
        for setting in [QualitySetting::Detail, QualitySetting::Density, QualitySetting::Rate] {
            assert!((budget.share(setting) - 1.0).abs() < 1e-5, "{setting:?}");
        }
    }

    /// Where the full share always exceeds the budget, attempts to raise it become rare.
    #[test]
    fn it_does_not_swing() {
        let mut budget =
            FrameBudget::new(&FrameBudgetSpec::new(0.010).order([QualitySetting::Density])).unwrap();
        let mut late = 0;
        let mut changes = 0;
        for nth in 0..6000 {
            // A jump: over the budget at 0.7, far under it below.
            let took = if budget.share(QualitySetting::Density) > 0.7 { 0.012 } else { 0.005 };
            let changed = budget.after(seconds(took)).is_some();
            if nth > 3000 {
                changes += u32::from(changed);
                late += u32::from(took > 0.010);
            }
        }
        assert!(changes < 16 && late < 150, "{changes} changes, {late} late frames");
    }

    proptest! {
        /// Any load that the settings can reduce enough ends under the budget, and no setting jumps.
        #[test]
        fn loads_end_under_the_budget(fixed in 0.0f64..0.006, per in 0.0f64..0.05, seed in 0u64..1000) {
            let spec = FrameBudgetSpec::new(0.010).order([QualitySetting::Density, QualitySetting::Rate]);
            let mut budget = FrameBudget::new(&spec).unwrap();
            let least = fixed + per * 0.2 * 0.5;
            let (mut before, mut late) = (1.0f32, 0);
            for nth in 0..3000u64 {
                let share = f64::from(budget.share(QualitySetting::Density) * budget.share(QualitySetting::Rate));
                let noise = 1.0 + 0.02 * ((nth.wrapping_mul(seed | 1) % 7) as f64 / 7.0);
                let took = (fixed + per * share) * noise;
                budget.after(seconds(took));
                let now = budget.share(QualitySetting::Density);
                prop_assert!((now - before).abs() <= before.max(now) / GLIDE + 1e-3);
                before = now;
                late += u32::from(nth >= 2000 && took > 0.010);
            }
            if least < 0.0095 {
                prop_assert!(late < 100, "{late} of the last thousand were late");
            }
        }
    }

    #[test]
    fn inconsistent_specs_are_refused() {
        for spec in [
            FrameBudgetSpec::new(0.0),
            FrameBudgetSpec::new(f32::NAN),
            FrameBudgetSpec::new(0.01).order([]),
            FrameBudgetSpec::new(0.01).order([QualitySetting::Rate, QualitySetting::Rate]),
            FrameBudgetSpec { least_rate: 0.0, ..FrameBudgetSpec::default() },
        ] {
            assert!(FrameBudget::new(&spec).is_err(), "{spec:?}");
        }
        // Frames of any time, even 0 or NaN, do not panic.
        let mut budget = FrameBudget::new(&FrameBudgetSpec::default()).unwrap();
        (0..50).for_each(|_| _ = budget.after(Duration::MAX));
        (0..50).for_each(|_| _ = budget.after(Duration::ZERO));
    }
}
