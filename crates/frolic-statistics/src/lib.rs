//! Statistics of frame times. They are skewed and come in runs, so there are no means here: order statistics, and intervals by resampling
//! whole rounds.
//!
//! It is a separate crate because a profile runs it thousands of times, while charts and reports around it are not optimised.

#![warn(clippy::unwrap_used, clippy::print_stdout, clippy::print_stderr)]

/// Confidence level of intervals.
pub const CONFIDENCE: f64 = 0.95;

/// Number of resamples for an interval.
pub const RESAMPLES: u32 = 400;

/// A confidence interval at the level [`CONFIDENCE`].
#[derive(Debug, Clone, Copy, Default, PartialEq, serde::Serialize, serde::Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Interval {
    /// Its lower end.
    pub low: f64,
    /// Its upper end.
    pub high: f64,
}

impl Interval {
    /// Returns half its width divided by a value; infinite if the value is 0.
    pub fn half_width_of(&self, value: f64) -> f64 {
        if value > 0.0 { (self.high - self.low) * 0.5 / value } else { f64::INFINITY }
    }

    /// Returns whether a value is inside.
    pub fn holds(&self, value: f64) -> bool {
        self.low <= value && value <= self.high
    }
}

/// Returns the quantile `q`, 0 to 1, of sorted samples, interpolated between neighbours (type 7 of Hyndman
/// and Fan, "Sample Quantiles in Statistical Packages", 1996). 0 for no samples.
///
/// ```
/// use frolic_statistics::quantile;
/// assert_eq!(quantile(&[1.0, 2.0, 3.0, 4.0], 0.5), 2.5);
/// assert_eq!(quantile(&[], 0.5), 0.0);
/// ```
pub fn quantile(sorted: &[f64], q: f64) -> f64 {
    let Some(last) = sorted.len().checked_sub(1) else { return 0.0 };
    let place = q.clamp(0.0, 1.0) * last as f64;
    let below = place.floor() as usize;
    let above = (below + 1).min(last);
    sorted[below] + (sorted[above] - sorted[below]) * (place - below as f64)
}

/// Returns a quantile of unsorted samples.
pub fn quantile_of(samples: &[f64], q: f64) -> f64 {
    let mut sorted = samples.to_vec();
    sorted.sort_by(f64::total_cmp);
    quantile(&sorted, q)
}

/// Returns the median of unsorted samples; 0 if there are none.
pub fn median(samples: &[f64]) -> f64 {
    quantile_of(samples, 0.5)
}

/// Random numbers for resampling and for the order of turns: the same on every run. SplitMix64, Steele et al., "Fast Splittable Pseudorandom
/// Number Generators" (2014).
#[derive(Debug, Clone)]
pub struct Dice(u64);

impl Dice {
    /// A separate stream for each seed.
    pub fn new(seed: u64) -> Self {
        Self(seed)
    }

    fn roll(&mut self) -> u64 {
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mut z = self.0;
        z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        z ^ (z >> 31)
    }

    /// A whole number below `most`, which is at least 1.
    pub fn below(&mut self, most: usize) -> usize {
        ((u128::from(self.roll()) * most as u128) >> 64) as usize
    }

    /// An even number from 0 to 1.
    pub fn unit(&mut self) -> f64 {
        (self.roll() >> 11) as f64 / (1u64 << 53) as f64
    }

    /// Puts things into any order (Fisher and Yates, 1938).
    pub fn shuffle<T>(&mut self, things: &mut [T]) {
        for last in (1..things.len()).rev() {
            things.swap(last, self.below(last + 1));
        }
    }
}

/// Returns the confidence interval of a statistic of samples in rounds. Whole rounds are resampled with replacement, as samples within a round are alike
/// (Efron, "Bootstrap Methods: Another Look at the Jackknife", 1979; whole clusters as in Field and Welsh, "Bootstrapping Clustered Data",
/// 2007). Where rounds take turns at `phases` of a cycle, each is resampled from its own phase, so that differences between
/// phases do not widen the interval. With fewer than two rounds it is the range of the samples. The same samples give the same interval.
///
/// ```
/// use frolic_statistics::{bootstrap, median};
/// let rounds = [[4.0, 4.1], [3.9, 4.0], [4.2, 4.0], [4.1, 3.8], [4.0, 4.0]];
/// let interval = bootstrap(&rounds, 1, median);
/// assert!(interval.holds(4.0) && interval.half_width_of(4.0) < 0.05);
/// ```
pub fn bootstrap<R: AsRef<[f64]>>(
    rounds: &[R],
    phases: usize,
    statistic: impl Fn(&[f64]) -> f64,
) -> Interval {
    interval_of(&slices(rounds), phases, &statistic)
}

/// Not generic: generic code would be compiled in the calling crate, which may not be optimised.
fn interval_of(rounds: &[&[f64]], phases: usize, statistic: &dyn Fn(&[f64]) -> f64) -> Interval {
    let all: Vec<f64> = rounds.concat();
    if rounds.len() < 2 {
        return Interval { low: quantile_of(&all, 0.0), high: quantile_of(&all, 1.0) };
    }
    let mut dice = Dice::new(rounds.len() as u64);
    let mut drawn = Vec::with_capacity(all.len());
    let values = (0..RESAMPLES).map(|_| {
        resample(rounds, phases, &mut dice, &mut drawn);
        statistic(&drawn)
    });
    around(values.collect(), CONFIDENCE)
}

/// The interval of the ratio of two statistics, `new` over `base`: rounds of both are drawn apart.
///
/// `confidence`: share of the time that it is right, 0 to 1.
pub fn bootstrap_ratio<R: AsRef<[f64]>>(
    base: &[R],
    new: &[R],
    phases: usize,
    confidence: f64,
    statistic: impl Fn(&[f64]) -> f64,
) -> Interval {
    ratio_of([&slices(base), &slices(new)], phases, confidence, &statistic)
}

fn ratio_of(
    [base, new]: [&[&[f64]]; 2],
    phases: usize,
    confidence: f64,
    statistic: &dyn Fn(&[f64]) -> f64,
) -> Interval {
    let mut dice = Dice::new((base.len() + new.len()) as u64);
    let mut drawn = Vec::new();
    let mut draw = |rounds: &[&[f64]]| {
        resample(rounds, phases, &mut dice, &mut drawn);
        statistic(&drawn)
    };
    if base.is_empty() || new.is_empty() {
        return Interval { low: 0.0, high: f64::INFINITY };
    }
    around((0..RESAMPLES * 2).map(|_| draw(new) / draw(base).max(1e-12)).collect(), confidence)
}

/// As [`bootstrap_ratio`], for rounds that took turns: rounds of one turn are resampled together, so that a disturbance of both cancels. If one
/// has more rounds, its last are left out.
///
/// ```
/// use frolic_statistics::{bootstrap_pairs, bootstrap_ratio, median};
/// // The machine slows down; the new is 2 % slower all the time.
/// let base: Vec<[f64; 3]> = (0..20).map(|turn| [1.0, 1.01, 1.02].map(|ms| ms + f64::from(turn) * 0.1)).collect();
/// let new: Vec<[f64; 3]> = base.iter().map(|turn| turn.map(|ms| ms * 1.02)).collect();
/// let interval = bootstrap_pairs(&base, &new, 1, 0.95, median);
/// assert!(interval.low > 1.015 && interval.high < 1.025);
/// assert!(bootstrap_ratio(&base, &new, 1, 0.95, median).holds(1.0));
/// ```
pub fn bootstrap_pairs<R: AsRef<[f64]>>(
    base: &[R],
    new: &[R],
    phases: usize,
    confidence: f64,
    statistic: impl Fn(&[f64]) -> f64,
) -> Interval {
    pairs_of([&slices(base), &slices(new)], phases, confidence, &statistic)
}

fn pairs_of(
    [base, new]: [&[&[f64]]; 2],
    phases: usize,
    confidence: f64,
    statistic: &dyn Fn(&[f64]) -> f64,
) -> Interval {
    let n = base.len().min(new.len());
    if n == 0 {
        return Interval { low: 0.0, high: f64::INFINITY };
    }
    let (base, new) = (&base[..n], &new[..n]);
    let (mut one, mut other) = (Vec::new(), Vec::new());
    let values = (0..u64::from(RESAMPLES) * 2).map(|seed| {
        // The same dice for both: the same turns.
        resample(base, phases, &mut Dice::new(seed), &mut one);
        resample(new, phases, &mut Dice::new(seed), &mut other);
        statistic(&other) / statistic(&one).max(1e-12)
    });
    around(values.collect(), confidence)
}

/// Borrows rounds as [`resample`] takes them.
pub fn slices<R: AsRef<[f64]>>(rounds: &[R]) -> Vec<&[f64]> {
    rounds.iter().map(AsRef::as_ref).collect()
}

/// Returns the number of phases to resample separately: all if each has at least two rounds, else 1.
pub fn resolved_phases(rounds: usize, phases: usize) -> usize {
    if rounds / 2 >= phases { phases.max(1) } else { 1 }
}

/// Draws as many rounds with replacement, each from its own phase, or from all rounds if phases have only one.
pub fn resample(rounds: &[&[f64]], phases: usize, dice: &mut Dice, drawn: &mut Vec<f64>) {
    drawn.clear();
    let phases = resolved_phases(rounds.len(), phases);
    for nth in 0..rounds.len() {
        let phase = nth % phases;
        let of_phase = (rounds.len() - phase).div_ceil(phases);
        drawn.extend_from_slice(rounds[phase + dice.below(of_phase) * phases]);
    }
}

/// Returns the interval that holds the middle share of values.
pub fn around(mut values: Vec<f64>, share: f64) -> Interval {
    values.sort_by(f64::total_cmp);
    let tail = (1.0 - share) * 0.5;
    Interval { low: quantile(&values, tail), high: quantile(&values, 1.0 - tail) }
}

/// How many samples at the start belong to the warm-up: leaving these out makes the rest known best (the marginal standard error rule of
/// White, "An Effective Truncation Heuristic for Bias Reduction in Simulation Output", 1997, on medians of five). At most half.
pub fn warm_up(samples: &[f64]) -> usize {
    const BATCH: usize = 5;
    let batches: Vec<f64> = samples.chunks_exact(BATCH).map(median).collect();
    let error = |skip: usize| {
        let rest = &batches[skip..];
        let middle = rest.iter().sum::<f64>() / rest.len() as f64;
        rest.iter().map(|value| (value - middle).powi(2)).sum::<f64>() / (rest.len() as f64).powi(2)
    };
    let errors: Vec<f64> =
        (0..=batches.len() / 2).take_while(|skip| batches.len() - skip >= 2).map(error).collect();
    // The first that is about as good as the best: level samples differ by chance alone.
    let best = errors.iter().copied().fold(f64::INFINITY, f64::min);
    errors.iter().position(|error| *error <= best * 2.0).unwrap_or(0) * BATCH
}
