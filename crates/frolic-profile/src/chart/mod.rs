//! Charts of a profile, each with its finding as the title:
//!
//! | chart | file |
//! | --- | --- |
//! | frame time against count, a line for each variant | `frames.rs` |
//! | stages of frames, stacked, against count | `stages.rs` |
//! | distribution of frames: median, p95, p99, worst | `spread.rs` |
//! | frames in the order in which they were taken | `timeline.rs` |
//! | how a flock moves, against count | `movement.rs` |
//! | affordable counts, a bar for each variant | `ceilings.rs` |
//!
//! `paper.rs` has the drawing area.

mod ceilings;
mod frames;
mod movement;
mod paper;
mod spread;
mod stages;
mod timeline;

use ceilings::Ceilings;
use frames::Frames;
use movement::Movement;
use spread::Spread;
use stages::Stages;
use timeline::Timeline;

pub(crate) use frames::{Layers, layers, title as headline};
pub(crate) use paper::{COLOURS, FAINT, GREY, INK, LIMIT, PAPER, Scale, cut};
pub(crate) use stages::{CUSTOM_SHADES, SHADES, shade};

use crate::ceiling::Ceiling;
use crate::error::ProfileError;
use crate::profile::{Profile, VariantProfile};

/// Most variants side by side. The others are in the table.
const MOST_PANELS: usize = 4;

/// A chart: lines, titles and ranges.
#[derive(Debug, Clone, PartialEq)]
pub struct Chart(Kind);

#[derive(Debug, Clone, PartialEq)]
enum Kind {
    Frames(Frames),
    Stages(Stages),
    Spread(Spread),
    Timeline(Timeline),
    Movement(Movement),
    Ceilings(Ceilings),
}

impl Chart {
    /// Median frame times of a profile against the count, both logarithmic, a line for each variant.
    pub fn of(profile: &Profile) -> Self {
        Self(Kind::Frames(Frames::of(profile, Scale::Log)))
    }

    /// Stages of frames at each count, in milliseconds and as fractions, for at most four variants.
    pub fn stages(profile: &Profile) -> Self {
        Self(Kind::Stages(Stages::of(profile)))
    }

    /// Bands from the median to p95 and p99, and the worst frame, against the count, for at most four variants.
    pub fn spread(profile: &Profile) -> Self {
        Self(Kind::Spread(Spread::of(profile)))
    }

    /// Frames of each variant's highest count, in order, for at most four variants.
    pub fn timeline(profile: &Profile) -> Self {
        Self(Kind::Timeline(Timeline::of(profile)))
    }

    /// Order, milling, distance to the nearest and groups of a flock against the count, for at most four variants; none if no flock moved.
    pub fn movement(profile: &Profile) -> Option<Self> {
        Movement::of(profile).map(|movement| Self(Kind::Movement(movement)))
    }

    /// Ceilings as bars with their intervals, largest first; `what` names the elements.
    pub fn ceilings(scene: &str, what: &str, found: &[Ceiling]) -> Self {
        Self(Kind::Ceilings(Ceilings::of(scene, what, found)))
    }

    /// Returns the chart as SVG text.
    ///
    /// # Errors
    /// The chart cannot be drawn.
    pub fn svg(&self) -> Result<String, ProfileError> {
        match &self.0 {
            Kind::Frames(it) => paper::svg(it),
            Kind::Stages(it) => paper::svg(it),
            Kind::Spread(it) => paper::svg(it),
            Kind::Timeline(it) => paper::svg(it),
            Kind::Movement(it) => paper::svg(it),
            Kind::Ceilings(it) => paper::svg(it),
        }
    }

    /// Returns the chart as PNG, 1280 by 800 pixels.
    ///
    /// # Errors
    /// The chart cannot be drawn.
    pub fn png(&self) -> Result<Vec<u8>, ProfileError> {
        match &self.0 {
            Kind::Frames(it) => paper::png(it),
            Kind::Stages(it) => paper::png(it),
            Kind::Spread(it) => paper::png(it),
            Kind::Timeline(it) => paper::png(it),
            Kind::Movement(it) => paper::png(it),
            Kind::Ceilings(it) => paper::png(it),
        }
    }
}

/// All charts of a profile, with their names.
pub(crate) fn charts(profile: &Profile) -> Vec<(&'static str, Chart)> {
    let mut all = vec![
        ("frames", Chart::of(profile)),
        ("stages", Chart::stages(profile)),
        ("spread", Chart::spread(profile)),
        ("timeline", Chart::timeline(profile)),
    ];
    all.extend(Chart::movement(profile).map(|chart| ("movement", chart)));
    all
}

/// The variants with points that fit side by side, each with its index among all.
fn panels(profile: &Profile) -> Vec<(usize, &VariantProfile)> {
    let all = profile.variants.iter().enumerate();
    all.filter(|(_, variant)| !variant.points.is_empty()).take(MOST_PANELS).collect()
}

/// Least and greatest of positive values; infinity and 0 if there are none.
fn ends(values: impl Iterator<Item = f64>) -> [f64; 2] {
    values.fold([f64::INFINITY, 0.0f64], |[low, high], value| [low.min(value), high.max(value)])
}

/// Note on variants that are left out.
fn left_out(profile: &Profile) -> String {
    match profile.measured().count().saturating_sub(MOST_PANELS) {
        0 => String::new(),
        more => format!("; {more} more variants are in the table"),
    }
}
