//! Stages of frames: a stacked column for each count, in milliseconds above, as fractions below.

use frolic_core::Stage;
use plotters::prelude::{Color, DrawingBackend};
use plotters::style::RGBColor;
use plotters::style::text_anchor::HPos;

use super::paper::{Axis, Drawing, Fault, Frame, GREY, HEIGHT, INK, Paper, WIDTH, cut};
use super::{left_out, panels};
use crate::numbers::short;
use crate::profile::{Point, Profile};

/// Colours of CPU stages and of time outside all stages. Similar work has similar colours.
pub(crate) const SHADES: [(&str, RGBColor); 15] = [
    ("integrate", RGBColor(200, 80, 20)),
    ("retire", RGBColor(226, 140, 60)),
    ("emit", RGBColor(242, 196, 120)),
    ("gather", RGBColor(140, 56, 30)),
    ("sort", RGBColor(112, 56, 124)),
    ("batch", RGBColor(172, 124, 186)),
    ("backdrop", RGBColor(120, 148, 40)),
    ("shadow", RGBColor(66, 88, 48)),
    ("project", RGBColor(20, 132, 130)),
    ("raster", RGBColor(24, 92, 140)),
    ("resolve", RGBColor(118, 172, 210)),
    ("encode", RGBColor(92, 64, 44)),
    ("submit", RGBColor(160, 132, 104)),
    ("wait", RGBColor(204, 192, 172)),
    ("other", RGBColor(158, 158, 158)),
];

/// Colours of custom stages.
pub(crate) const CUSTOM_SHADES: [RGBColor; 5] = [
    RGBColor(196, 60, 104),
    RGBColor(214, 176, 28),
    RGBColor(60, 160, 96),
    RGBColor(84, 100, 190),
    RGBColor(230, 150, 160),
];

/// The colour of a stage. Custom ones have theirs by their name.
pub(crate) fn shade(stage: &str) -> RGBColor {
    let known = SHADES.iter().find(|(name, _)| *name == stage).map(|(_, colour)| *colour);
    let sum = stage.bytes().fold(0usize, |sum, byte| sum.wrapping_mul(31).wrapping_add(usize::from(byte)));
    known.unwrap_or(CUSTOM_SHADES[sum % CUSTOM_SHADES.len()])
}

/// Stages below this fraction of every frame are part of `other`.
const SMALLEST: f64 = 0.02;

#[derive(Debug, Clone, PartialEq)]
pub(super) struct Stages {
    title: String,
    below: String,
    /// Visible stages, from the bottom up.
    stages: Vec<String>,
    panels: Vec<Panel>,
    /// Longest stack, in milliseconds.
    most: f64,
}

#[derive(Debug, Clone, PartialEq)]
struct Panel {
    name: String,
    /// Count, and milliseconds of each visible stage.
    columns: Vec<(u32, Vec<f64>)>,
}

/// Time of a stage that is part of the frame, in milliseconds.
fn of(point: &Point, stage: &str) -> f64 {
    point.stage(stage).map_or(0.0, |time| time.ms)
}

impl Stages {
    pub(super) fn of(profile: &Profile) -> Self {
        let shown = panels(profile);
        let points = || shown.iter().flat_map(|(_, variant)| &variant.points);
        let own = profile.custom_stages();
        let built_in = Stage::ALL.iter().filter(|stage| !stage.on_device()).map(|stage| stage.name());
        let of_frame = built_in.chain(own.iter().copied());
        let is_large = |stage: &&str| points().any(|point| of(point, stage) >= point.frame.median * SMALLEST);
        let mut stages: Vec<String> = of_frame.clone().filter(is_large).map(str::to_owned).collect();
        stages.push("other".to_owned());
        let column = |point: &Point| {
            let mut parts: Vec<f64> = stages.iter().map(|stage| of(point, stage)).collect();
            let small: f64 = of_frame
                .clone()
                .filter(|stage| !stages.iter().any(|shown| shown == stage))
                .map(|stage| of(point, stage))
                .sum();
            if let Some(other) = parts.last_mut() {
                *other += small;
            }
            (point.count, parts)
        };
        let panels: Vec<Panel> = shown
            .iter()
            .map(|(_, variant)| Panel {
                name: variant.name.clone(),
                columns: variant.points.iter().map(column).collect(),
            })
            .collect();
        let sum = |(_, parts): &(u32, Vec<f64>)| parts.iter().sum::<f64>();
        let most = panels.iter().flat_map(|panel| &panel.columns).map(sum).fold(0.0, f64::max);
        let below = format!(
            "medians of each stage; up to {} frames a count; stages below {:.0} % of every frame are in other{}",
            profile.frames,
            SMALLEST * 100.0,
            left_out(profile)
        );
        Self { title: title(profile), below, stages, panels, most }
    }
}

/// Names the longest stage at the lowest count and at the highest.
fn title(profile: &Profile) -> String {
    let largest = |point: &Point| {
        let most = point.costliest().into_iter().find(|time| time.is_of_frame())?;
        let share = (most.ms / point.frame.median.max(1e-9) * 100.0).min(100.0);
        Some((most.stage.clone(), share, short(point.count)))
    };
    let ends = profile.measured().next().and_then(|variant| {
        Some((largest(variant.points.first()?)?, largest(variant.points.last()?)?, &variant.name))
    });
    let Some(((low, low_share, from), (high, high_share, to), name)) = ends else {
        return format!("{}: nothing was measured", profile.scene);
    };
    let who = if profile.variants.len() > 1 { format!(", {}", cut(name, 24)) } else { String::new() };
    let (scene, what) = (&profile.scene, &profile.population);
    if from == to {
        return format!("{scene}{who}: at {to} {what} {high} is {high_share:.0} % of the frame");
    }
    if low == high {
        return format!(
            "{scene}{who}: {high} is {low_share:.0} % of the frame at {from} {what}, {high_share:.0} % at {to}"
        );
    }
    format!(
        "{scene}{who}: {low} leads at {from} {what} ({low_share:.0} %), {high} at {to} ({high_share:.0} %)"
    )
}

impl Drawing for Stages {
    fn draw<B: DrawingBackend>(&self, paper: &Paper<'_, B>) -> Result<(), Fault<B>> {
        paper.clear()?;
        paper.words(
            &self.title,
            "milliseconds a frame, stage on stage (dashed: 60 fps); below: shares of the frame",
            &self.below,
        )?;
        let (left, right) = (96, WIDTH - 170);
        let each = (right - left) / self.panels.len().max(1) as i32;
        for (nth, panel) in self.panels.iter().enumerate() {
            let from = left + each * nth as i32;
            self.panel(
                paper,
                panel,
                [from, from + each - if nth + 1 < self.panels.len() { 24 } else { 0 }],
                nth == 0,
            )?;
        }
        // From the top down, as they are stacked.
        for (nth, stage) in self.stages.iter().rev().enumerate() {
            let y = 136 + 26 * nth as i32;
            paper.block([(right + 22, y - 8), (right + 38, y + 8)], shade(stage).to_rgba())?;
            paper.text(stage, right + 48, y, 16, INK, HPos::Left, false)?;
        }
        Ok(())
    }
}

impl Stages {
    fn panel<B: DrawingBackend>(
        &self,
        paper: &Paper<'_, B>,
        panel: &Panel,
        [left, right]: [i32; 2],
        is_first: bool,
    ) -> Result<(), Fault<B>> {
        let n = panel.columns.len().max(1);
        let x = Axis { scale: super::Scale::Linear, range: [0.0, n as f64] };
        let upper = Frame { left, right, top: 128, bottom: 424, x, y: Axis::up_to(self.most) };
        let shares = Axis { scale: super::Scale::Linear, range: [0.0, 100.0] };
        let lower = Frame { left, right, top: 456, bottom: HEIGHT - 116, x, y: shares };
        // Only the first panel has room for labels.
        upper.rules_up(paper, 6, is_first.then_some(""))?;
        lower.rules_up(paper, 4, is_first.then_some(" %"))?;
        if self.panels.len() > 1 {
            let most = ((right - left) / 10).max(4) as usize;
            paper.text(&cut(&panel.name, most), (left + right) / 2, 112, 16, INK, HPos::Center, true)?;
        }
        upper.limit(paper, 1000.0 / 60.0, "")?;
        // Labels without overlap.
        let width = (right - left) / n as i32;
        let every = (52 / width.max(1) + 1) as usize;
        for (nth, (count, parts)) in panel.columns.iter().enumerate() {
            let total: f64 = parts.iter().sum();
            let ends = [nth as f64 + 0.12, nth as f64 + 0.88];
            for (frame, whole) in [(upper, 1.0), (lower, 100.0 / total.max(1e-9))] {
                let mut under = 0.0;
                for (stage, ms) in self.stages.iter().zip(parts) {
                    let over = under + ms * whole;
                    let corners = [frame.place(ends[0], under), frame.place(ends[1], over)];
                    if corners[0].1 > corners[1].1 {
                        paper.block(corners, shade(stage).to_rgba())?;
                    }
                    under = over;
                }
            }
            // The last column has its label, and earlier ones that do not overlap.
            if (n - 1 - nth).is_multiple_of(every) {
                let at = (lower.place(ends[0], 0.0).0 + lower.place(ends[1], 0.0).0) / 2;
                paper.text(&short(*count), at, HEIGHT - 98, 15, INK, HPos::Center, false)?;
                if width > 40 {
                    let top = upper.place(0.0, total).1 - 12;
                    let ms = if total < 10.0 { format!("{total:.1}") } else { format!("{total:.0}") };
                    paper.text(&ms, at, top.max(upper.top - 4), 14, GREY, HPos::Center, false)?;
                }
            }
        }
        Ok(())
    }
}
