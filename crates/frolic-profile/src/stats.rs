//! Order statistics of frame times.

/// The value below which a share `q` (0..1) of the sorted samples lies, between neighbours by their distance (type 7 of Hyndman
/// and Fan, "Sample Quantiles in Statistical Packages", 1996). 0 for no samples.
///
/// ```
/// use frolic_profile::stats::quantile;
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

/// The middle value of samples in any order; 0 for none.
pub fn median(samples: &[f64]) -> f64 {
    let mut sorted = samples.to_vec();
    sorted.sort_by(f64::total_cmp);
    quantile(&sorted, 0.5)
}
