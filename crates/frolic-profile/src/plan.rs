//! What a profile is to measure: counts, variants, frames, limits.

use std::fmt;
use std::str::FromStr;
use std::time::Duration;

/// Why a plan cannot be followed.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{what} '{text}': {problem}")]
#[non_exhaustive]
pub struct PlanError {
    /// Which part of the plan: `counts`, `vary`.
    pub what: &'static str,
    /// How it was written.
    pub text: String,
    /// What is wrong, and what to write instead.
    pub problem: String,
}

/// Counts to climb, rising.
///
/// Written as a list (`1k,30k,1m`) or a range (`1k..1m`, three counts a decade: 1, 2, 5); `k` and `m` stand for thousand and
/// million.
///
/// ```
/// use frolic_profile::Ladder;
/// let ladder: Ladder = "1k..10k".parse()?;
/// assert_eq!(ladder.counts(), [1_000, 2_000, 5_000, 10_000]);
/// assert!("1m..1k".parse::<Ladder>().is_err());
/// # Ok::<(), frolic_profile::PlanError>(())
/// ```
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Ladder(Vec<u32>);

/// Most counts of a ladder, and most variants of a plan.
const MOST: usize = 100;

impl Ladder {
    /// The counts.
    pub fn counts(&self) -> &[u32] {
        &self.0
    }
}

impl Default for Ladder {
    /// 1k..1m.
    fn default() -> Self {
        Self(rungs(1_000, 1_000_000))
    }
}

impl fmt::Display for Ladder {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let counts: Vec<String> = self.0.iter().map(u32::to_string).collect();
        f.write_str(&counts.join(","))
    }
}

impl FromStr for Ladder {
    type Err = PlanError;

    fn from_str(text: &str) -> Result<Self, PlanError> {
        let wrong = |problem: String| PlanError { what: "counts", text: text.to_owned(), problem };
        let count = |word: &str| {
            count(word).ok_or_else(|| {
                wrong(format!("'{word}' is no count; write whole numbers such as 500, 20k or 1m"))
            })
        };
        let counts = match text.split_once("..") {
            Some((from, to)) => {
                let (from, to) = (count(from)?, count(to)?);
                if from > to {
                    return Err(wrong(format!("it runs backwards; write {}..{}", short(to), short(from))));
                }
                rungs(from, to)
            }
            None => text.split(',').map(count).collect::<Result<Vec<_>, _>>()?,
        };
        if counts.len() > MOST {
            return Err(wrong(format!("{} counts; keep to {MOST}", counts.len())));
        }
        if let Some(pair) = counts.windows(2).find(|pair| pair[0] >= pair[1]) {
            return Err(wrong(format!(
                "{} comes before {}; let counts rise",
                short(pair[0]),
                short(pair[1])
            )));
        }
        Ok(Self(counts))
    }
}

/// `20k` for 20000, `1M` for a million; numbers that are not round stay as they are.
pub(crate) fn short(count: u32) -> String {
    match count {
        n if n >= 1_000_000 && n % 100_000 == 0 => format!("{}M", f64::from(n) / 1e6),
        n if n >= 1_000 && n % 100 == 0 => format!("{}k", f64::from(n) / 1e3),
        n => n.to_string(),
    }
}

fn count(word: &str) -> Option<u32> {
    let word = word.trim();
    let (digits, unit) = match word.char_indices().last()? {
        (at, 'k' | 'K') => (&word[..at], 1e3),
        (at, 'm' | 'M') => (&word[..at], 1e6),
        _ => (word, 1.0),
    };
    if !digits.bytes().all(|byte| byte.is_ascii_digit() || byte == b'.') {
        return None;
    }
    let value = digits.parse::<f64>().ok()? * unit;
    (value.fract() == 0.0 && value <= f64::from(u32::MAX)).then_some(value as u32)
}

/// From `from` to `to` by way of 1, 2 and 5 of each decade between.
fn rungs(from: u32, to: u32) -> Vec<u32> {
    let mut counts = vec![from];
    let mut decade = 1u64;
    while decade <= u64::from(to) {
        let steps = [decade, decade * 2, decade * 5].into_iter();
        counts.extend(steps.filter(|&n| n > u64::from(from) && n < u64::from(to)).map(|n| n as u32));
        decade *= 10;
    }
    if to > from {
        counts.push(to);
    }
    counts
}

/// A key of the scene and the values to try: `draw.technique=each,batched,instanced`.
///
/// Commas inside brackets belong to the value: `embers.life=[1,2],[2,4]`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Variation {
    /// Path of the key.
    pub key: String,
    /// Values, as text.
    pub values: Vec<String>,
}

impl FromStr for Variation {
    type Err = PlanError;

    fn from_str(text: &str) -> Result<Self, PlanError> {
        let wrong =
            |problem: &str| PlanError { what: "vary", text: text.to_owned(), problem: problem.to_owned() };
        let (key, values) = text
            .split_once('=')
            .ok_or_else(|| wrong("write KEY=A,B,.. such as draw.technique=each,instanced"))?;
        let values = split(values);
        if key.trim().is_empty() || values.iter().any(String::is_empty) {
            return Err(wrong("a key or a value is missing; write KEY=A,B,.."));
        }
        Ok(Self { key: key.trim().to_owned(), values })
    }
}

/// Splits at commas outside brackets and quotes.
fn split(text: &str) -> Vec<String> {
    let (mut parts, mut depth, mut quoted) = (vec![String::new()], 0i32, false);
    for c in text.chars() {
        match c {
            '"' => quoted = !quoted,
            '[' | '{' if !quoted => depth += 1,
            ']' | '}' if !quoted => depth -= 1,
            ',' if depth == 0 && !quoted => {
                parts.push(String::new());
                continue;
            }
            _ => {}
        }
        if let Some(part) = parts.last_mut() {
            part.push(c);
        }
    }
    parts.iter().map(|part| part.trim().to_owned()).collect()
}

/// What to measure.
#[derive(Debug, Clone, PartialEq)]
#[non_exhaustive]
pub struct Plan {
    /// Counts to climb. Default 1k..1m.
    pub counts: Ladder,
    /// Keys to vary, every value of each with every value of the others. Default none.
    pub vary: Vec<Variation>,
    /// Frames timed a count and variant, 1 to 100000. Default 60.
    pub frames: u32,
    /// Frames before those that are timed, at most 100000. Default 5.
    pub warm_up: u32,
    /// A variant of which two frames in a row take longer than this, or one four times as long, stops climbing; 1 ms to
    /// 1 h. Default 2 s.
    pub frame_limit: Duration,
}

impl Default for Plan {
    fn default() -> Self {
        Self {
            counts: Ladder::default(),
            vary: Vec::new(),
            frames: 60,
            warm_up: 5,
            frame_limit: Duration::from_secs(2),
        }
    }
}

impl Plan {
    /// Whether frames, warm-up and limit are in range.
    ///
    /// # Errors
    /// Names the one that is not.
    pub fn check(&self) -> Result<(), PlanError> {
        let wrong = |what: &'static str, text: String, problem: &str| {
            Err(PlanError { what, text, problem: problem.to_owned() })
        };
        if !(1..=100_000).contains(&self.frames) {
            return wrong("frames", self.frames.to_string(), "write a number from 1 to 100000");
        }
        if self.warm_up > 100_000 {
            return wrong("warm-up", self.warm_up.to_string(), "write a number from 0 to 100000");
        }
        let limit = self.frame_limit.as_secs_f64();
        if !(0.001..=3600.0).contains(&limit) {
            return wrong("frame-limit", limit.to_string(), "write seconds from 0.001 to 3600");
        }
        self.variants().map(|_| ())
    }

    /// Every combination of the varied keys, as settings; one empty combination when nothing varies.
    ///
    /// # Errors
    /// When there are more than 100.
    pub fn variants(&self) -> Result<Vec<Vec<(String, String)>>, PlanError> {
        let mut variants = vec![Vec::new()];
        for variation in &self.vary {
            let extended = variants.iter().flat_map(|variant: &Vec<(String, String)>| {
                variation.values.iter().map(|value| {
                    let mut variant = variant.clone();
                    variant.push((variation.key.clone(), value.clone()));
                    variant
                })
            });
            variants = extended.take(MOST + 1).collect();
            if variants.len() > MOST {
                let problem = format!("makes more than {MOST} variants; vary fewer keys or values");
                return Err(PlanError { what: "vary", text: variation.key.clone(), problem });
            }
        }
        Ok(variants)
    }
}
