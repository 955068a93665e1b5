//! Comparison of two profiles of the same scene, point by point and stage by stage.
//!
//! A change is reported if the interval of the ratio of medians excludes 1, with the rounds of both resampled. The interval is wide enough
//! that fewer than one in twenty repeated runs without a change reports one.

use derive_setters::Setters;
use frolic_statistics::{Interval, bootstrap_pairs, bootstrap_ratio, median};
use serde::Serialize;

use crate::error::ProfileError;
use crate::noise::Pace;
use crate::numbers::short;
use crate::profile::{Machine, Point, Profile, Round, StageTime, VariantProfile};
use crate::sweep::{BUILDS, TURN};

/// Fraction of repeated runs without a change that must report none.
const CONFIDENCE: f64 = 0.985;

/// Fraction of the frame below which stages are not compared.
const SMALLEST: f64 = 0.02;

/// Settings of a comparison.
#[derive(Debug, Clone, Copy, PartialEq, Default, Setters)]
#[non_exhaustive]
pub struct CompareSpec {
    /// Accepts different scenes, settings and machines. Default: false.
    pub different: bool,
    /// Divides each round by the machine's pace relative to the base. Default: false.
    pub undrift: bool,
}

/// Verdict on a point or stage.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub enum Verdict {
    /// It takes less time.
    Faster,
    /// It takes more time.
    Slower,
    /// No verdict is possible.
    NoDifference,
}

impl Verdict {
    /// The verdict in words.
    pub fn words(self) -> &'static str {
        match self {
            Self::Faster => "faster",
            Self::Slower => "slower",
            Self::NoDifference => "no difference found",
        }
    }
}

/// Change of one point, or of one of its stages.
#[derive(Debug, Clone, PartialEq, Serialize)]
#[non_exhaustive]
pub struct Change {
    /// Name of the variant.
    pub variant: String,
    /// Number of elements.
    pub count: u32,
    /// Stage; none for the whole frame.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub stage: Option<String>,
    /// Median of the base, in milliseconds.
    pub base_ms: f64,
    /// Median of the new profile, in milliseconds.
    pub new_ms: f64,
    /// Ratio of the new median to the base.
    pub ratio: f64,
    /// 95 % confidence interval of the ratio.
    pub interval: Interval,
    /// Verdict.
    pub verdict: Verdict,
}

/// Result of a comparison.
#[derive(Debug, Clone, PartialEq, Serialize)]
#[non_exhaustive]
pub struct Comparison {
    /// Name of the scene.
    pub scene: String,
    /// Changes of frames, each followed by its stages, by variant and count.
    pub changes: Vec<Change>,
    /// Points that only one profile has.
    pub missing: Vec<String>,
    /// Differences between the profiles that were accepted.
    pub differs: Vec<String>,
    /// Time of the reference loop beside the new profile over its time beside the base: the machine's part of the change, if
    /// nothing was divided by it. 1 if unknown.
    pub pace: f64,
}

impl Comparison {
    /// Frames that became slower by more than a fraction, with certainty.
    pub fn slower(&self, share: f64) -> impl Iterator<Item = &Change> {
        let frames = self.changes.iter().filter(|change| change.stage.is_none());
        frames.filter(move |change| change.verdict == Verdict::Slower && change.ratio > 1.0 + share)
    }

    /// Lines of text: one for each frame, followed by the stages that changed.
    pub fn lines(&self) -> Vec<String> {
        let mut lines = Vec::new();
        let width =
            self.changes.iter().map(|change| change.variant.chars().count()).max().unwrap_or(0).min(40);
        for change in &self.changes {
            // A new stage has no ratio.
            let percent = |ratio: f64| format!("{:+.1}%", ((ratio - 1.0) * 100.0).min(9999.9));
            let times = format!(
                "{:>9.3} -> {:>9.3} ms  {:>7} ({} to {})  {}",
                change.base_ms,
                change.new_ms,
                percent(change.ratio),
                percent(change.interval.low),
                percent(change.interval.high),
                change.verdict.words(),
            );
            match &change.stage {
                None => {
                    let name: String = change.variant.chars().take(40).collect();
                    lines.push(format!("{name:<width$} {:>6}  {times}", short(change.count)));
                }
                Some(_) if change.verdict == Verdict::NoDifference => {}
                Some(stage) => lines.push(format!("{:<width$} {stage:>6}  {times}", "")),
            }
        }
        lines.extend(self.missing.iter().map(|missing| format!("only in one of them: {missing}")));
        lines
    }
}

/// Compares a profile with an older one.
///
/// # Errors
/// The scenes, settings or machines differ and may not, or the profiles have no point in common.
pub fn compare(base: &Profile, new: &Profile, spec: &CompareSpec) -> Result<Comparison, ProfileError> {
    let differs = differences(base, new);
    if let (Some(first), false) = (differs.first(), spec.different) {
        return Err(ProfileError::Format(format!("they cannot be compared: {first}")));
    }
    let is_known = base.pace.compute > 0.0 && !spec.undrift;
    let pace = if is_known { new.pace.over(base.pace) } else { 1.0 };
    // Relative to the base's pace, so that both are as on a usual day of that machine.
    let how = How { usual: spec.undrift.then_some(base.pace), paired: false };
    let comparison = between(&new.scene, &named(base), &named(new), how)?;
    Ok(Comparison { differs, pace, ..comparison })
}

/// Compares two variants of one profile, by index. They took turns, so their rounds are compared in pairs.
///
/// # Errors
/// An index is out of range, or the variants have no count in common.
pub fn compare_variants(profile: &Profile, base: usize, new: usize) -> Result<Comparison, ProfileError> {
    let variant = |nth: usize| {
        let variant = profile.variants.get(nth);
        variant.ok_or_else(|| ProfileError::Format(format!("there is no variant {nth}")))
    };
    let (base, new) = (variant(base)?, variant(new)?);
    between(&profile.scene, &[(&new.name, base)], &[(&new.name, new)], How { usual: None, paired: true })
}

/// Compares this build with the other one in a profile of [`sweep_builds`](crate::sweep_builds). The other build is the base.
///
/// # Errors
/// The profile is not of two builds, or they have no count in common.
pub fn compare_builds(profile: &Profile) -> Result<Comparison, ProfileError> {
    let of = |end: &str| -> Vec<Named<'_>> {
        let variants = profile.variants.iter();
        variants.filter_map(|variant| Some((variant.name.strip_suffix(end)?, variant))).collect()
    };
    let [this, other] = BUILDS.map(of);
    between(&profile.scene, &other, &this, How { usual: None, paired: true })
}

/// A variant with the name by which it is matched.
type Named<'a> = (&'a str, &'a VariantProfile);

fn named(profile: &Profile) -> Vec<Named<'_>> {
    profile.variants.iter().map(|variant| (variant.name.as_str(), variant)).collect()
}

/// Pairing of rounds.
#[derive(Debug, Clone, Copy)]
struct How {
    /// Pace of the base, if rounds are divided by their own pace.
    usual: Option<Pace>,
    /// True if rounds took turns.
    paired: bool,
}

/// The point of a variant at a count.
fn at<'a>(all: &[Named<'a>], name: &str, count: u32) -> Option<&'a Point> {
    let (_, variant) = all.iter().find(|(other, _)| *other == name)?;
    variant.points.iter().find(|point| point.count == count)
}

/// Compares variants of the same name, point by point.
fn between(scene: &str, base: &[Named<'_>], new: &[Named<'_>], how: How) -> Result<Comparison, ProfileError> {
    let (mut changes, mut missing) = (Vec::new(), Vec::new());
    let point_name = |name: &str, point: &Point| format!("{name} at {}", short(point.count));
    for (name, variant) in new {
        for point in &variant.points {
            match at(base, name, point.count) {
                Some(old) => point_changes(name, [old, point], how, &mut changes),
                None => missing.push(point_name(name, point)),
            }
        }
    }
    for (name, variant) in base {
        let gone = variant.points.iter().filter(|point| at(new, name, point.count).is_none());
        missing.extend(gone.map(|point| point_name(name, point)));
    }
    if changes.is_empty() {
        return Err(ProfileError::Format("the profiles share no variant at the same count".to_owned()));
    }
    Ok(Comparison { scene: scene.to_owned(), changes, missing, differs: Vec::new(), pace: 1.0 })
}

/// Differences between two profiles that should agree.
fn differences(base: &Profile, new: &Profile) -> Vec<String> {
    let mut differs = Vec::new();
    if base.scene_text != new.scene_text || base.scene != new.scene {
        differs.push(format!("the scenes differ ('{}' and '{}', or their settings)", base.scene, new.scene));
    }
    let of = |machine: &Machine| {
        let Machine { architecture, system, instruction_set, threads, device, .. } = machine;
        format!(
            "{architecture}, {system}, {instruction_set}, {threads} threads{}",
            device.as_ref().map_or(String::new(), |device| format!(", {device}"))
        )
    };
    if of(&base.machine) != of(&new.machine) {
        differs.push(format!("the machines differ ({} and {})", of(&base.machine), of(&new.machine)));
    }
    differs
}

fn point_changes(name: &str, [old, now]: [&Point; 2], how: How, changes: &mut Vec<Change>) {
    let slow = |round: &Round| match how.usual {
        Some(usual) if round.pace.compute > 0.0 => round.pace.over(usual),
        _ => 1.0,
    };
    let frames = |point: &Point| -> Vec<Vec<f64>> {
        point.rounds.iter().map(|round| round.ms.iter().map(|ms| ms / slow(round)).collect()).collect()
    };
    let stage_rounds = |point: &Point, stage: &StageTime| -> Vec<Vec<f64>> {
        stage.rounds.iter().zip(&point.rounds).map(|(ms, round)| vec![ms / slow(round)]).collect()
    };
    // The warm-up rounds are removed, so the remaining ones belong to the same turns.
    let gone = |point: &Point| (point.warm_up / u64::from(TURN)) as usize;
    let later = gone(old).max(gone(now));
    let together = |point: &Point, rounds: Vec<Vec<f64>>| -> Vec<Vec<f64>> {
        let skip = if how.paired { later - gone(point) } else { 0 };
        rounds.into_iter().skip(skip).collect()
    };
    let phases = if old.phases == now.phases { now.phases as usize } else { 1 };
    let change = |stage: Option<&str>, before: Vec<Vec<f64>>, new: Vec<Vec<f64>>| {
        let (old, new) = (together(old, before), together(now, new));
        let (base_ms, new_ms) = (median(&old.concat()), median(&new.concat()));
        let interval = if how.paired {
            bootstrap_pairs(&old, &new, phases, CONFIDENCE, median)
        } else {
            bootstrap_ratio(&old, &new, phases, CONFIDENCE, median)
        };
        let sure = old.len() > 1 && new.len() > 1;
        let verdict = match interval {
            Interval { high, .. } if sure && high < 1.0 => Verdict::Faster,
            Interval { low, .. } if sure && low > 1.0 => Verdict::Slower,
            _ => Verdict::NoDifference,
        };
        Change {
            variant: name.to_owned(),
            count: now.count,
            stage: stage.map(str::to_owned),
            base_ms,
            new_ms,
            ratio: new_ms / base_ms.max(1e-12),
            interval,
            verdict,
        }
    };
    changes.push(change(None, frames(old), frames(now)));
    for stage in &now.stages {
        let Some(before) = old.stages.iter().find(|other| other.stage == stage.stage) else { continue };
        if before.ms.max(stage.ms) >= now.frame.median * SMALLEST {
            changes.push(change(Some(&stage.stage), stage_rounds(old, before), stage_rounds(now, stage)));
        }
    }
}
