//! Plans of a profile: counts, variants, frames, limits.

use std::fmt;
use std::str::FromStr;
use std::time::Duration;

use frolic_scene::SceneSpec;

use crate::error::PlanError;
use crate::journal::JournalOf;
use crate::numbers::short;

/// Counts of a profile, in rising order.
///
/// Written as a list (`1k,30k,1m`) or a range (`1k..1m`: 1, 2 and 5 of each decade; `1k..1m/6`: six a decade, evenly spaced); `k` and `m`
/// stand for thousand and million.
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
                wrong(format!("'{word}' is not a count; write whole numbers such as 500, 20k or 1m"))
            })
        };
        let counts = match text.split_once("..") {
            Some((from, to)) => {
                let (to, each) = match to.split_once('/') {
                    None => (to, None),
                    Some((to, each)) => (to, Some(each)),
                };
                let (from, to) = (count(from)?, count(to)?);
                let each = each.map(|each| match each.trim().parse::<u32>() {
                    Ok(each @ 1..=50) => Ok(each),
                    _ => Err(wrong(format!("'{each}' points a decade; write 1 to 50"))),
                });
                if from > to {
                    return Err(wrong(format!("it runs backwards; write {}..{}", short(to), short(from))));
                }
                each.transpose()?.map_or_else(|| rungs(from, to), |each| even_rungs(from, to, each))
            }
            None => text.split(',').map(count).collect::<Result<Vec<_>, _>>()?,
        };
        if counts.len() > MOST {
            return Err(wrong(format!("{} counts; keep to {MOST}", counts.len())));
        }
        if let Some(pair) = counts.windows(2).find(|pair| pair[0] >= pair[1]) {
            return Err(wrong(format!(
                "{} comes before {}; write counts in rising order",
                short(pair[0]),
                short(pair[1])
            )));
        }
        Ok(Self(counts))
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

/// Returns counts from `from` to `to`, `each` per decade, evenly spaced on a logarithmic scale. The last gap is at least half as wide as the others.
fn even_rungs(from: u32, to: u32, each: u32) -> Vec<u32> {
    let first = f64::from(from.max(1));
    let last = f64::from(to) / 10f64.powf(0.5 / f64::from(each));
    let rungs = (1..).map(|nth| (first * 10f64.powf(f64::from(nth) / f64::from(each))).round());
    let mut counts = vec![from];
    counts.extend(rungs.take_while(|&count| count <= last).map(|count| count as u32));
    counts.push(to);
    counts.dedup();
    counts
}

/// Returns counts from `from` to `to` with 1, 2 and 5 of each decade between.
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

/// A key of the scene with the values to compare: `draw.technique=each,batched,instanced`.
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

/// Plan of a profile.
#[derive(Debug, Clone, PartialEq)]
#[non_exhaustive]
pub struct Plan {
    /// Counts. Default: 1k..1m.
    pub counts: Ladder,
    /// Keys to vary. All combinations of their values are measured. Default: none.
    pub vary: Vec<Variation>,
    /// Most timed frames of a count and variant, 1 to 100000. Default: 400.
    pub frames: u32,
    /// Half width of a median's interval, as a fraction of it, at which a point is precise enough; 0.001 to 1. Default: 0.03.
    pub within: f64,
    /// Time for the whole profile; each point takes at least four turns. Default: 40 s; `None` for no limit.
    pub time: Option<Duration>,
    /// Target frame time; longer frames count as missed. Above 0. Default: 1/60 s.
    pub target: Duration,
    /// Frame time at which a variant stops at higher counts: two frames in a row longer than this, or one four times as long; 1 ms to
    /// 1 h. Default: 2 s.
    pub frame_limit: Duration,
}

impl Default for Plan {
    fn default() -> Self {
        Self {
            counts: Ladder::default(),
            vary: Vec::new(),
            frames: 400,
            within: 0.03,
            time: Some(Duration::from_secs(40)),
            target: Duration::from_nanos(16_666_667),
            frame_limit: Duration::from_secs(2),
        }
    }
}

impl Plan {
    /// Checks that frames, precision, target and limit are in range.
    ///
    /// # Errors
    /// Names the value that is out of range.
    pub fn check(&self) -> Result<(), PlanError> {
        let wrong = |what: &'static str, text: String, problem: &str| {
            Err(PlanError { what, text, problem: problem.to_owned() })
        };
        if !(1..=100_000).contains(&self.frames) {
            return wrong("frames", self.frames.to_string(), "write a number from 1 to 100000");
        }
        if !(0.001..=1.0).contains(&self.within) {
            return wrong("within", self.within.to_string(), "write a share from 0.001 to 1");
        }
        if self.target.is_zero() {
            return wrong("target", "0".to_owned(), "write a time above 0");
        }
        let limit = self.frame_limit.as_secs_f64();
        if !(0.001..=3600.0).contains(&limit) {
            return wrong("frame-limit", limit.to_string(), "write seconds from 0.001 to 3600");
        }
        self.variants().map(|_| ())
    }

    /// Identity of the journal for this plan and a scene.
    ///
    /// # Errors
    /// As [`Plan::variants`].
    pub fn journal_of(&self, scene: &SceneSpec) -> Result<JournalOf, PlanError> {
        let words = |variant: Vec<(String, String)>| {
            variant.iter().map(|(key, value)| format!("{key}={value}")).collect::<Vec<_>>().join(" ")
        };
        let variants = self.variants()?.into_iter().map(words).collect();
        Ok(JournalOf { scene: scene.to_toml(), variants })
    }

    /// All combinations of the varied keys, as settings; one empty combination if nothing varies.
    ///
    /// # Errors
    /// There are more than 100.
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
