//! Pictures of a profile, each saying one thing in its title:
//!
//! | chart | file |
//! | --- | --- |
//! | frame time against count, a line a variant | `frames.rs` |
//! | what frames are made of, stage on stage, against count | `stages.rs` |
//! | how far frames spread: median, p95, p99, worst | `spread.rs` |
//! | frame after frame as they came | `timeline.rs` |
//! | how many fit a budget, a bar a variant | `ceilings.rs` |
//!
//! What they are drawn on is in `paper.rs`.

mod ceilings;
mod frames;
mod paper;
mod spread;
mod stages;
mod timeline;

use ceilings::Ceilings;
use frames::Frames;
use spread::Spread;
use stages::Stages;
use timeline::Timeline;

pub(crate) use frames::{Layers, layers, title as headline};
pub(crate) use paper::{COLOURS, FAINT, GREY, INK, LIMIT, PAPER, Scale, cut};
pub(crate) use stages::{SHADES, shade};

use crate::ceiling::Ceiling;
use crate::error::ProfileError;
use crate::profile::{Profile, VariantProfile};

/// Variants that are shown side by side, at most: the others are in the table.
const MOST_PANELS: usize = 4;

/// A chart made ready: lines, titles and ranges.
#[derive(Debug, Clone, PartialEq)]
pub struct Chart(Kind);

#[derive(Debug, Clone, PartialEq)]
enum Kind {
    Frames(Frames),
    Stages(Stages),
    Spread(Spread),
    Timeline(Timeline),
    Ceilings(Ceilings),
}

impl Chart {
    /// A profile's median frame times against the count, both logarithmic, a line a variant.
    pub fn of(profile: &Profile) -> Self {
        Self(Kind::Frames(Frames::of(profile, Scale::Log)))
    }

    /// What frames are made of at each count: in milliseconds and as shares, for four variants at most.
    pub fn stages(profile: &Profile) -> Self {
        Self(Kind::Stages(Stages::of(profile)))
    }

    /// Bands from the median to p95 and p99, and the worst frame, against the count; for four variants at most.
    pub fn spread(profile: &Profile) -> Self {
        Self(Kind::Spread(Spread::of(profile)))
    }

    /// The frames of each variant's highest count, one after the other; for four variants at most.
    pub fn timeline(profile: &Profile) -> Self {
        Self(Kind::Timeline(Timeline::of(profile)))
    }

    /// Ceilings as bars with their intervals, the largest first; `what` are the elements.
    pub fn ceilings(scene: &str, what: &str, found: &[Ceiling]) -> Self {
        Self(Kind::Ceilings(Ceilings::of(scene, what, found)))
    }

    /// As SVG text.
    ///
    /// # Errors
    /// When the drawing fails.
    pub fn svg(&self) -> Result<String, ProfileError> {
        match &self.0 {
            Kind::Frames(it) => paper::svg(it),
            Kind::Stages(it) => paper::svg(it),
            Kind::Spread(it) => paper::svg(it),
            Kind::Timeline(it) => paper::svg(it),
            Kind::Ceilings(it) => paper::svg(it),
        }
    }

    /// As PNG bytes, 1280 by 800 pixels.
    ///
    /// # Errors
    /// When the drawing fails.
    pub fn png(&self) -> Result<Vec<u8>, ProfileError> {
        match &self.0 {
            Kind::Frames(it) => paper::png(it),
            Kind::Stages(it) => paper::png(it),
            Kind::Spread(it) => paper::png(it),
            Kind::Timeline(it) => paper::png(it),
            Kind::Ceilings(it) => paper::png(it),
        }
    }
}

/// All charts of a profile, with their names.
pub(crate) fn charts(profile: &Profile) -> [(&'static str, Chart); 4] {
    [
        ("frames", Chart::of(profile)),
        ("stages", Chart::stages(profile)),
        ("spread", Chart::spread(profile)),
        ("timeline", Chart::timeline(profile)),
    ]
}

/// The variants that have points, as many as fit side by side, each with its place among all.
fn panels(profile: &Profile) -> Vec<(usize, &VariantProfile)> {
    let all = profile.variants.iter().enumerate();
    all.filter(|(_, variant)| !variant.points.is_empty()).take(MOST_PANELS).collect()
}

/// The least and the greatest of positive values; infinite and 0 for none.
fn ends(values: impl Iterator<Item = f64>) -> [f64; 2] {
    values.fold([f64::INFINITY, 0.0f64], |[low, high], value| [low.min(value), high.max(value)])
}

/// What is said below where variants are left out.
fn left_out(profile: &Profile) -> String {
    match profile.measured().count().saturating_sub(MOST_PANELS) {
        0 => String::new(),
        more => format!("; {more} more variants are in the table"),
    }
}
