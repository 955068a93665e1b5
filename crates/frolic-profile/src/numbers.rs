//! How counts are written.

/// `20k` for 20000, `1M` for a million; numbers that are not round stay as they are.
pub(crate) fn short(count: u32) -> String {
    match count {
        n if n >= 1_000_000 && n % 100_000 == 0 => format!("{}M", f64::from(n) / 1e6),
        n if n >= 1_000 && n % 100 == 0 => format!("{}k", f64::from(n) / 1e3),
        n => n.to_string(),
    }
}

/// A foretold count to two digits: more would be pretence.
pub(crate) fn rough(count: f64) -> u32 {
    let unit = 10f64.powf((count.max(1.0).log10().floor() - 1.0).max(0.0));
    ((count / unit).round() * unit).min(f64::from(u32::MAX)) as u32
}
