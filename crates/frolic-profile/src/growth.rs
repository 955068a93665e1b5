//! Growth of frame time with count: exponents, their ranges, and knees between them.
//!
//! On logarithmic axes a power is a straight line. Points are divided into at most three ranges of at least three points, each fitted by
//! least squares. The Bayesian information criterion (Schwarz, "Estimating the Dimension of a Model", 1978) chooses the number of ranges. Where two
//! lines cross is a knee, for example at the end of a fixed cost, at a full cache, or where a stage turns quadratic. O(points³).

use frolic_statistics::Interval;
use serde::{Deserialize, Serialize};

/// Relative noise below which a better fit is not significant.
const FLOOR: f64 = 0.02;

/// Difference below which two exponents count as equal.
const SAME: f64 = 0.2;

/// Least number of points of a range, if there are several ranges.
const FEWEST: usize = 3;

/// Growth of a time over the highest range of counts with one exponent.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[non_exhaustive]
pub struct Growth {
    /// Exponent: time is proportional to this power of the count.
    pub exponent: f64,
    /// 95 % confidence interval of the exponent, from the scatter of the points around the line (Student's t).
    pub interval: Interval,
    /// First and last count of the range.
    pub counts: [f64; 2],
    /// Time at the last count according to the fit, in milliseconds.
    pub ms: f64,
    /// Knees in rising order, each with the exponents before and after.
    pub knees: Vec<Knee>,
}

/// A count at which the exponent changes.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Knee {
    /// Count at which the fitted lines cross.
    pub count: f64,
    /// Exponent below it.
    pub before: f64,
    /// Exponent above it.
    pub after: f64,
}

impl Growth {
    /// Fits times in milliseconds over counts. Points at 0 are left out. `noise` is the relative error of a time, at least 0.02. Returns `None` for
    /// fewer than two points.
    ///
    /// ```
    /// use frolic_profile::Growth;
    /// let points: Vec<(f64, f64)> = (0..12).map(|k| 1000.0 * 2f64.powi(k)).map(|n| (n, n * n * 1e-9)).collect();
    /// let growth = Growth::of(&points, 0.0).unwrap();
    /// assert!((growth.exponent - 2.0).abs() < 1e-6 && growth.knees.is_empty());
    /// ```
    pub fn of(points: &[(f64, f64)], noise: f64) -> Option<Self> {
        let mut logs: Vec<(f64, f64)> = points
            .iter()
            .filter(|(count, ms)| *count > 0.0 && *ms > 0.0 && count.is_finite() && ms.is_finite())
            .map(|(count, ms)| (count.ln(), ms.ln()))
            .collect();
        logs.sort_by(|a, b| a.0.total_cmp(&b.0));
        logs.dedup_by(|a, b| a.0 == b.0);
        if logs.len() < 2 {
            return None;
        }
        let cuts = best_cuts(&logs, noise.max(FLOOR));
        let ends = cuts.iter().copied().chain([logs.len()]);
        let starts = [0].into_iter().chain(cuts.iter().copied());
        let lines: Vec<Line> = starts.zip(ends).map(|(from, to)| Line::through(&logs[from..to])).collect();
        let last = lines.last()?;
        let knees = lines.windows(2).filter_map(|pair| {
            let [a, b] = pair else { return None };
            // Between the ranges, wherever the lines cross.
            let cross = (b.base - a.base) / (a.slope - b.slope);
            let count = cross.clamp(a.ends[1], b.ends[0]).exp();
            Some(Knee { count, before: a.slope, after: b.slope })
        });
        Some(Self {
            exponent: last.slope,
            interval: last.interval(),
            counts: last.ends.map(f64::exp),
            ms: (last.base + last.slope * last.ends[1]).exp(),
            knees: knees.collect(),
        })
    }

    /// Fitted time at a count, in milliseconds, by the last range.
    pub fn at(&self, count: f64) -> f64 {
        self.ms * (count / self.counts[1]).powf(self.exponent)
    }

    /// Count at which the fit of the last range reaches a time in milliseconds; `None` if it does not grow towards it.
    pub fn reaches(&self, ms: f64) -> Option<f64> {
        if self.exponent < 0.05 || ms <= 0.0 {
            return None;
        }
        let count = self.counts[1] * (ms / self.ms).powf(1.0 / self.exponent);
        (count.is_finite() && count < 1e12).then_some(count)
    }
}

/// A line through logarithms of points.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Line {
    pub(crate) slope: f64,
    pub(crate) base: f64,
    /// First and last x.
    ends: [f64; 2],
    /// Sum of squared residuals, sum of squares of x about its mean, and number of points.
    rest: f64,
    pub(crate) spread: f64,
    points: usize,
}

impl Line {
    /// Fits by least squares.
    pub(crate) fn through(points: &[(f64, f64)]) -> Self {
        let n = points.len() as f64;
        let mean = |of: fn(&(f64, f64)) -> f64| points.iter().map(of).sum::<f64>() / n;
        let (x, y) = (mean(|p| p.0), mean(|p| p.1));
        let spread: f64 = points.iter().map(|p| (p.0 - x).powi(2)).sum();
        let slope = points.iter().map(|p| (p.0 - x) * (p.1 - y)).sum::<f64>() / spread.max(1e-12);
        let base = y - slope * x;
        let rest = points.iter().map(|p| (p.1 - base - slope * p.0).powi(2)).sum();
        let ends = [points.first().map_or(0.0, |p| p.0), points.last().map_or(0.0, |p| p.0)];
        Self { slope, base, ends, rest, spread, points: points.len() }
    }

    fn interval(&self) -> Interval {
        let free = self.points.saturating_sub(2);
        // Two points have no scatter.
        let deviation = if free == 0 { FLOOR } else { (self.rest / free as f64).sqrt() };
        let off = student(free) * deviation / self.spread.max(1e-12).sqrt();
        Interval { low: self.slope - off, high: self.slope + off }
    }
}

/// The 0.975 quantile of Student's t (1908).
fn student(free: usize) -> f64 {
    const TABLE: [f64; 11] = [12.7, 12.7, 4.30, 3.18, 2.78, 2.57, 2.45, 2.36, 2.31, 2.26, 2.23];
    TABLE.get(free).copied().unwrap_or(1.96 + 2.6 / free as f64)
}

/// Returns the best indices to divide points at, in rising order.
fn best_cuts(logs: &[(f64, f64)], floor: f64) -> Vec<usize> {
    let n = logs.len();
    let score = |cuts: &[usize]| {
        let mut from = 0;
        let mut rest = 0.0;
        for &to in cuts.iter().chain([&n]) {
            rest += Line::through(&logs[from..to]).rest;
            from = to;
        }
        // Two parameters for each line and one for each cut.
        let numbers = 2.0 + 3.0 * cuts.len() as f64;
        n as f64 * (rest / n as f64 + floor * floor).ln() + numbers * (n as f64).ln()
    };
    let is_bent = |cuts: &[usize]| {
        let mut from = 0;
        let mut slopes = Vec::new();
        for &to in cuts.iter().chain([&n]) {
            slopes.push(Line::through(&logs[from..to]).slope);
            from = to;
        }
        slopes.windows(2).all(|pair| (pair[0] - pair[1]).abs() > SAME)
    };
    let mut best = (score(&[]), Vec::new());
    let mut consider = |cuts: &[usize]| {
        let score = score(cuts);
        if score < best.0 && is_bent(cuts) {
            best = (score, cuts.to_vec());
        }
    };
    for first in FEWEST..=n.saturating_sub(FEWEST) {
        consider(&[first]);
        for second in first + FEWEST..=n.saturating_sub(FEWEST) {
            consider(&[first, second]);
        }
    }
    best.1
}
