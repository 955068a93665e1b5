//! Affordable counts: the largest count whose frames fit a budget, found in few runs.
//!
//! Counts grow by extrapolation until one does not fit. Further runs gather where the line through the results crosses the
//! budget, until the crossing is precise enough. Its interval comes from lines through resampled runs.

use std::time::{Duration, Instant};

use frolic_scene::SceneSpec;
use frolic_statistics::{
    CONFIDENCE, Dice, Interval, RESAMPLES, around, bootstrap, median, quantile_of, resample, slices,
};
use serde::{Deserialize, Serialize};

use crate::error::PlanError;
use crate::error::ProfileError;
use crate::growth::Line;
use crate::plan::Plan;
use crate::profile::ms;
use crate::subject::{Run, Subject};
use crate::sweep::{TURN, Variant, prepare};

/// Least number of rounds of a run near the budget.
const ROUNDS: usize = 8;

/// Factor from the budget within which one run does not tell on which side it is.
const NEAR: f64 = 1.3;

/// Most runs of one search.
const MOST_RUNS: usize = 60;

/// After a first answer, runs alternate between it and this fraction below and above it, so that the line has a length.
const SPREAD: [f64; 3] = [1.0, 0.78, 1.25];

/// Settings of a search: quantile, budget and precision.
#[derive(Debug, Clone, PartialEq)]
#[non_exhaustive]
pub struct CeilingPlan {
    /// Time that 95 of 100 frames must not exceed; 10 µs to 1 h. Default: 1/60 s.
    pub budget: Duration,
    /// First count. Default: 1000.
    pub first: u32,
    /// Largest count. Default: 100 million.
    pub most: u32,
    /// Half width of the answer's interval as a fraction of the answer, if time allows; 0.005 to 1. Default: 0.05.
    pub within: f64,
    /// Time limit for one variant. Default: 40 s.
    pub time: Duration,
}

impl Default for CeilingPlan {
    fn default() -> Self {
        Self {
            budget: Duration::from_nanos(16_666_667),
            first: 1_000,
            most: 100_000_000,
            within: 0.05,
            time: Duration::from_secs(40),
        }
    }
}

impl CeilingPlan {
    /// Checks that all values are in range.
    ///
    /// # Errors
    /// Names the value that is out of range.
    pub fn check(&self) -> Result<(), PlanError> {
        let wrong = |what: &'static str, text: String, problem: &str| {
            Err(PlanError { what, text, problem: problem.to_owned() })
        };
        if !(1e-5..=3600.0).contains(&self.budget.as_secs_f64()) {
            return wrong("budget", format!("{:?}", self.budget), "write a time from 0.01ms to 3600s");
        }
        if !(0.005..=1.0).contains(&self.within) {
            return wrong("within", self.within.to_string(), "write a share from 0.005 to 1");
        }
        if self.first == 0 || self.most < self.first {
            return wrong("first", self.first.to_string(), "write a count from 1 to the maximum");
        }
        Ok(())
    }
}

/// The largest count that fits a budget.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[non_exhaustive]
pub struct Ceiling {
    /// Name and settings of the variant.
    pub variant: String,
    /// See `variant`.
    pub settings: Vec<(String, String)>,
    /// Budget, in milliseconds.
    pub budget_ms: f64,
    /// Count; 0 if not even one element fits.
    pub count: u32,
    /// 95 % confidence interval of the count.
    pub interval: Interval,
    /// Reason for ending without a crossing: the largest count fits, the smallest does not, or a count could not run.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub remark: Option<String>,
    /// All runs, in order.
    pub tried: Vec<Tried>,
}

/// One run of a search.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[non_exhaustive]
pub struct Tried {
    /// Number of elements.
    pub count: u32,
    /// 95th percentile of the frame times, in milliseconds.
    pub p95: f64,
    /// 95 % confidence interval of the percentile.
    pub interval: Interval,
    /// Median time of each stage, as in a point of a profile.
    #[serde(skip)]
    phases: usize,
    /// Frame times in milliseconds, by round.
    #[serde(skip)]
    rounds: Vec<Vec<f64>>,
}

/// Searches the ceilings of a scene, one for each variant of the plan. Calls `watch` before every run with the variant and the
/// count; if it returns `false`, the search ends with the finished variants.
///
/// # Errors
/// As [`sweep`](crate::sweep()), and for a budget out of range.
pub fn ceilings(
    name: &str,
    scene: &SceneSpec,
    plan: &Plan,
    search: &CeilingPlan,
    mut watch: impl FnMut(&str, u32) -> bool,
) -> Result<Vec<Ceiling>, ProfileError> {
    search.check()?;
    let mut found = Vec::new();
    for variant in prepare(name, scene, plan)? {
        let Variant { name, settings, mut subject } = variant;
        let Some(mut ceiling) = ceiling(&mut *subject, search, |count| watch(&name, count))? else { break };
        (ceiling.variant, ceiling.settings) = (name, settings);
        found.push(ceiling);
    }
    Ok(found)
}

/// Searches the ceiling of anything that takes frames at any count. Returns `None` if `watch` ended the search.
///
/// # Errors
/// The budget is out of range, or the subject cannot run at its first count.
pub fn ceiling(
    subject: &mut dyn Subject,
    search: &CeilingPlan,
    mut watch: impl FnMut(u32) -> bool,
) -> Result<Option<Ceiling>, ProfileError> {
    search.check()?;
    let (budget, started) = (ms(search.budget), Instant::now());
    let is_late = || started.elapsed() > search.time;
    let mut tried: Vec<Tried> = Vec::new();
    let mut remark = None;
    // The largest count that fits, and the smallest that does not.
    let (mut fits, mut fails): (Option<u32>, Option<u32>) = (None, None);
    let mut next = search.first;
    while tried.len() < MOST_RUNS {
        if !watch(next) {
            return Ok(None);
        }
        let is_bracketed = fits.is_some() && fails.is_some();
        let run = match run(subject, next, budget, is_bracketed, is_late) {
            Ok(run) => run,
            Err(problem) if tried.is_empty() => return Err(ProfileError::Format(problem)),
            Err(problem) => {
                remark = Some(format!("{next} cannot run: {problem}"));
                break;
            }
        };
        if run.p95 <= budget {
            fits = fits.max(Some(next));
        } else {
            fails = Some(fails.unwrap_or(next).min(next));
        }
        tried.push(run);
        next = match (fits, fails) {
            (Some(low), None) if low >= search.most => {
                remark = Some("the largest allowed count fits".to_owned());
                break;
            }
            (None, Some(1)) => {
                remark = Some("not even one element fits".to_owned());
                break;
            }
            _ if is_late() => break,
            (Some(low), None) => larger(&tried, budget, low).min(search.most),
            (None, Some(high)) => (high / 8).max(1),
            (Some(low), Some(high)) => match cross(&tried, budget) {
                Some((count, interval)) if interval.half_width_of(count) <= search.within => break,
                Some((count, _)) => {
                    let spread = SPREAD[tried.len() % SPREAD.len()];
                    // Never far outside of the measured counts, whatever the line predicts.
                    let (least, most) = (f64::from(low.min(high)) * 0.5, f64::from(high.max(low)) * 2.0);
                    (count * spread).clamp(least, most).round() as u32
                }
                // Nothing is left to halve: frames jump over the budget, or vary too much.
                None if f64::from(high) < f64::from(low) * 1.01 => break,
                None => (f64::from(low) * f64::from(high)).sqrt() as u32,
            },
            (None, None) => break,
        }
        .max(1);
    }
    let whole = |count: f64| count.clamp(0.0, f64::from(u32::MAX)) as u32;
    let (count, interval) = match (cross(&tried, budget), fits, fails) {
        (Some((count, interval)), Some(_), Some(_)) => (whole(count), interval),
        (_, Some(low), Some(high)) => {
            let interval = certain(&tried, budget);
            if interval.half_width_of(f64::from(low)) > search.within {
                remark.get_or_insert_with(|| {
                    "frames vary too much to tell where they cross the budget".to_owned()
                });
            }
            (low.min(high), interval)
        }
        (_, Some(low), _) => (low, Interval { low: f64::from(low), high: f64::INFINITY }),
        _ => (0, Interval::default()),
    };
    if remark.is_none() && (fits.is_none() || fails.is_none()) {
        remark = Some("time ran out before a count was found that does not fit".to_owned());
    }
    // JSON has no infinity.
    let interval = Interval { high: interval.high.min(f64::from(u32::MAX)), ..interval };
    Ok(Some(Ceiling {
        variant: String::new(),
        settings: Vec::new(),
        budget_ms: budget,
        count,
        interval,
        remark,
        tried,
    }))
}

/// From the largest count up to which all runs are well below the budget, to the smallest from which all are well above it.
fn certain(tried: &[Tried], budget: f64) -> Interval {
    let mut runs: Vec<&Tried> = tried.iter().collect();
    runs.sort_by_key(|run| run.count);
    let fits = runs.iter().take_while(|run| run.p95 <= budget / NEAR).last();
    let fails = runs.iter().rev().take_while(|run| run.p95 > budget * NEAR).last();
    Interval {
        low: fits.map_or(0.0, |run| f64::from(run.count)),
        high: fails.map_or(f64::INFINITY, |run| f64::from(run.count)),
    }
}

/// Measures frames at a count.
fn run(
    subject: &mut dyn Subject,
    count: u32,
    budget: f64,
    is_near: bool,
    is_late: impl Fn() -> bool,
) -> Result<Tried, String> {
    let mut running: Box<dyn Run + '_> = subject.begin(count)?;
    // The first frames allocate buffers that later frames reuse.
    for _ in 0..2 {
        let frame = running.frame()?;
        if ms(frame.total()) > budget * 8.0 {
            break;
        }
    }
    let mut rounds: Vec<Vec<f64>> = Vec::new();
    let p95 = |samples: &[f64]| quantile_of(samples, 0.95);
    loop {
        running.go_on()?;
        let mut round = Vec::with_capacity(TURN as usize);
        for _ in 0..TURN {
            round.push(ms(running.frame()?.total()));
        }
        rounds.push(round);
        let value = p95(&rounds.concat());
        // Far from the budget a short run is enough; near it a whole cycle is timed.
        let far = !is_near || value > budget * 3.0 || value < budget * 0.2;
        let phases = running.phases().max(1);
        let least = if far { 2 } else { ROUNDS.next_multiple_of(phases) };
        if rounds.len() >= least || rounds.len() > 1 && is_late() {
            let interval = bootstrap(&rounds, phases, p95);
            return Ok(Tried { count, p95: value, interval, phases, rounds });
        }
    }
}

/// Extrapolates to a larger count, a little over the budget, so that the search closes in from above.
fn larger(tried: &[Tried], budget: f64, low: u32) -> u32 {
    let mut by_count: Vec<&Tried> = tried.iter().collect();
    by_count.sort_by_key(|run| run.count);
    let exponent = match by_count[..] {
        [.., a, b] if a.count < b.count => {
            let rise = (b.p95 / a.p95).ln() / (f64::from(b.count) / f64::from(a.count)).ln();
            rise.clamp(0.3, 3.0)
        }
        _ => 1.0,
    };
    let last = by_count.last().map_or(budget, |run| run.p95);
    let ratio = (budget * 1.1 / last).powf(1.0 / exponent).clamp(1.3, 30.0);
    (f64::from(low) * ratio).min(f64::from(u32::MAX)) as u32
}

/// Returns the crossing of the budget by the line through nearby runs, with the crossings by lines through resampled runs.
fn cross(tried: &[Tried], budget: f64) -> Option<(f64, Interval)> {
    // Uses the nearest runs that tell a rise from noise: farther off, the line may bend.
    [NEAR, 2.0].iter().find_map(|far| {
        let near: Vec<&Tried> =
            tried.iter().filter(|run| (budget / far..budget * far).contains(&run.p95)).collect();
        cross_of(&near, budget)
    })
}

/// The medians of the runs give the line, and all their frames together give the distance of the 95th percentile above it (a restricted regression
/// quantile: He, "Quantile Curves without Crossing", 1997), as one run has too few slow frames.
fn cross_of(near: &[&Tried], budget: f64) -> Option<(f64, Interval)> {
    if near.len() < 3 {
        return None;
    }
    let crossing = |runs: &[Vec<f64>]| -> Option<f64> {
        let logs = || near.iter().zip(runs).map(|(run, frames)| (f64::from(run.count).ln(), frames));
        let points: Vec<(f64, f64)> = logs().map(|(x, frames)| (x, median(frames).max(1e-9).ln())).collect();
        let line = Line::through(&points);
        let off = |(x, frames): (f64, &Vec<f64>)| -> Vec<f64> {
            let on_line = line.base + line.slope * x;
            frames.iter().map(|ms| ms.max(1e-9).ln() - on_line).collect()
        };
        let above = quantile_of(&logs().flat_map(off).collect::<Vec<_>>(), 0.95);
        let is_rising = line.spread > 1e-9 && line.slope > 0.1;
        is_rising.then(|| ((budget.ln() - above - line.base) / line.slope).exp())
    };
    let frames: Vec<Vec<f64>> = near.iter().map(|run| run.rounds.concat()).collect();
    let count = crossing(&frames)?;
    let mut dice = Dice::new(near.len() as u64);
    let rounds: Vec<Vec<&[f64]>> = near.iter().map(|run| slices(&run.rounds)).collect();
    let mut drawn: Vec<Vec<f64>> = vec![Vec::new(); near.len()];
    let resampled = (0..RESAMPLES).filter_map(|_| {
        for ((run, rounds), drawn) in near.iter().zip(&rounds).zip(&mut drawn) {
            resample(rounds, run.phases, &mut dice, drawn);
        }
        crossing(&drawn)
    });
    let values: Vec<f64> = resampled.collect();
    // If many of them do not rise, the interval of the others is too narrow.
    (values.len() * 20 >= RESAMPLES as usize * 19).then(|| (count, around(values, CONFIDENCE)))
}
