//! How a time grows with the count: exponents, where they hold, and where they change.
//!
//! On logarithmic axes a power is a straight line. Points are cut into at most three stretches of at least three points; each is fitted by
//! least squares, and as many are taken as the Bayesian information criterion (Schwarz, "Estimating the Dimension of a Model", 1978) wants. Where two
//! lines cross is a knee: a fixed cost that is overtaken, a cache that is full, a stage that turns quadratic. O(points³).

use frolic_statistics::Interval;
use serde::{Deserialize, Serialize};

/// Noise below which a better fit proves nothing, as a share of a time.
const FLOOR: f64 = 0.02;

/// Exponents closer than this are one.
const SAME: f64 = 0.2;

/// Fewest points of a stretch where there are several.
const FEWEST: usize = 3;

/// How a time grows over the highest stretch of counts on which it is straight.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[non_exhaustive]
pub struct Growth {
    /// Time goes with this power of the count.
    pub exponent: f64,
    /// Where it lies, by the scatter of the points around the line (Student's t).
    pub interval: Interval,
    /// The first and the last count of the stretch.
    pub counts: [f64; 2],
    /// Time at the last count, on the line, ms.
    pub ms: f64,
    /// Counts at which it changes, rising, with the exponents before and after.
    pub knees: Vec<Knee>,
}

/// A count at which a time starts to grow otherwise.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Knee {
    /// Where the lines cross.
    pub count: f64,
    /// The exponent below it.
    pub before: f64,
    /// The exponent above it.
    pub after: f64,
}

impl Growth {
    /// The growth of times, ms, with counts; what is 0 is left out. `noise`: share that a time may be off by, at least 0.02. `None` with
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
            // Between the stretches, wherever the lines cross.
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

    /// The time at a count, on the line of the last stretch, ms.
    pub fn at(&self, count: f64) -> f64 {
        self.ms * (count / self.counts[1]).powf(self.exponent)
    }

    /// The count at which the line of the last stretch reaches a time, ms; `None` where it does not grow towards it.
    pub fn reaches(&self, ms: f64) -> Option<f64> {
        if self.exponent < 0.05 || ms <= 0.0 {
            return None;
        }
        let count = self.counts[1] * (ms / self.ms).powf(1.0 / self.exponent);
        (count.is_finite() && count < 1e12).then_some(count)
    }
}

/// A line through logarithms.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Line {
    pub(crate) slope: f64,
    pub(crate) base: f64,
    /// First and last x.
    ends: [f64; 2],
    /// Sum of squares around it, of x around its mean, and how many points.
    rest: f64,
    pub(crate) spread: f64,
    points: usize,
}

impl Line {
    /// By least squares.
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
        // Two points say nothing of their scatter.
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

/// Where to cut, rising.
fn best_cuts(logs: &[(f64, f64)], floor: f64) -> Vec<usize> {
    let n = logs.len();
    let score = |cuts: &[usize]| {
        let mut from = 0;
        let mut rest = 0.0;
        for &to in cuts.iter().chain([&n]) {
            rest += Line::through(&logs[from..to]).rest;
            from = to;
        }
        // Two numbers a line and one a cut.
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
