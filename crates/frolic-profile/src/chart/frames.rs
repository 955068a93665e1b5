//! Frame time against element count, one line for each variant.
//!
//! Variants differ by colour, marker and dash, and have their name at the end of their line. The title states what
//! the picture shows.

use plotters::prelude::DrawingBackend;
use plotters::style::text_anchor::HPos;

use super::ends;
use super::paper::{Axis, COLOURS, Drawing, FAINT, Fault, Frame, HEIGHT, INK, Paper, Scale, WIDTH, cut, svg};
use crate::error::ProfileError;
use crate::numbers::{rough, short};
use crate::profile::{Profile, VariantProfile};

/// Most characters of a name beside its line.
const LONGEST: usize = 28;

/// Lines, titles and ranges.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct Frames {
    title: String,
    below: String,
    across: String,
    lines: Vec<Line>,
    x: Axis,
    y: Axis,
    /// Visible layer.
    layer: Layer,
}

/// Layers of the chart: all, or one for a page that combines them.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Layer {
    All,
    Ground,
    Line(usize),
}

#[derive(Debug, Clone, PartialEq)]
struct Line {
    name: String,
    /// Count and milliseconds.
    points: Vec<(f64, f64)>,
    /// Confidence intervals, in milliseconds.
    bars: Vec<[f64; 2]>,
    /// Knees: counts, and the times there.
    knees: Vec<(f64, f64)>,
    stopped: bool,
}

impl Frames {
    /// The chart of a profile's median frame times.
    pub(super) fn of(profile: &Profile, scale: Scale) -> Self {
        let lines: Vec<Line> = profile
            .measured()
            .map(|variant| Line {
                name: variant.name.clone(),
                points: variant
                    .points
                    .iter()
                    .map(|p| (f64::from(p.count.max(1)), p.frame.median.max(1e-3)))
                    .collect(),
                bars: variant
                    .points
                    .iter()
                    .map(|p| [p.frame.interval.low.max(1e-3), p.frame.interval.high.max(1e-3)])
                    .collect(),
                knees: knees(variant),
                stopped: variant.stopped.is_some(),
            })
            .collect();
        let all = || lines.iter().flat_map(|line| line.points.iter().copied());
        let ([x0, x1], [y0, y1]) = (ends(all().map(|p| p.0)), ends(all().map(|p| p.1)));
        let (x0, x1, y0, y1) = (x0.min(1e9), x1.max(1.0), y0.min(10.0), y1.max(40.0));
        let room = if x1 > x0 { (x1 / x0).powf(0.02) } else { 2.0 };
        let machine = &profile.machine;
        let stopped = if lines.iter().any(|line| line.stopped) {
            format!("; a cross ends a line whose frames passed {:.0} ms", profile.frame_limit_ms)
        } else {
            String::new()
        };
        Self {
            title: title(profile),
            below: format!(
                "median of up to {} frames with its 95 % interval, {} threads, {} on {}{}{stopped}",
                profile.frames,
                machine.threads,
                machine.instruction_set,
                machine.architecture,
                machine.device.as_ref().map_or(String::new(), |device| format!("; on the device {device}")),
            ),
            across: format!("{} alive", profile.population),
            lines,
            x: match scale {
                Scale::Log => Axis::log([x0 / room, x1 * room]),
                Scale::Linear => Axis::up_to(x1),
            },
            y: match scale {
                Scale::Log => Axis::log([y0 / 1.35, y1 * 1.35]),
                Scale::Linear => Axis::up_to(y1),
            },
            layer: Layer::All,
        }
    }

    /// The plot's frame.
    fn frame(&self) -> Frame {
        // Space at the right for the longest name; a letter of the bold font is at most 11/16 of its size wide.
        let longest = self.lines.iter().map(|line| line.name.chars().count().min(LONGEST)).max().unwrap_or(0);
        let right = WIDTH - 80 - 11 * longest as i32;
        Frame { left: 96, right, top: 112, bottom: HEIGHT - 112, x: self.x, y: self.y }
    }

    /// Titles, axes, and the target frame time.
    fn ground<B: DrawingBackend>(&self, paper: &Paper<'_, B>) -> Result<(), Fault<B>> {
        let frame = self.frame();
        paper.clear()?;
        paper.words(&self.title, "frame time, milliseconds (lower is better)", &self.below)?;
        let middle = (frame.left + frame.right) / 2;
        paper.text(&self.across, middle, HEIGHT - 66, 18, INK, HPos::Center, false)?;
        frame.rules_across(paper, 8, |count| short(count as u32))?;
        frame.rules_up(paper, 8, Some(""))?;
        for (fps, ms) in [(60, 1000.0 / 60.0), (30, 1000.0 / 30.0)] {
            frame.limit(paper, ms, &format!("{fps} fps"))?;
        }
        Ok(())
    }

    /// Heights of the labels of knees: at the axis, where no line is in the way, or above other labels.
    fn bends(&self, nth: usize) -> Vec<i32> {
        let frame = self.frame();
        // Left, right and height of labels of this line and the lines before.
        let mut written: Vec<[i32; 3]> = Vec::new();
        let mut heights = Vec::new();
        for line in &self.lines[..=nth] {
            heights.clear();
            for &(count, ms) in &line.knees {
                let left = frame.place(count, ms).0 + 6;
                let right = left + bend(count).chars().count() as i32 * 9;
                let touches = |at: i32| {
                    written
                        .iter()
                        .any(|&[from, to, height]| left < to && from < right && (height - at).abs() < 18)
                };
                let mut at = frame.bottom - 16;
                while touches(at) {
                    at -= 20;
                }
                written.push([left, right, at]);
                heights.push(at);
            }
        }
        heights
    }

    /// A line with its intervals, markers and knees.
    fn line<B: DrawingBackend>(&self, paper: &Paper<'_, B>, nth: usize) -> Result<(), Fault<B>> {
        let (frame, line) = (self.frame(), &self.lines[nth]);
        let colour = COLOURS[nth % COLOURS.len()];
        let places: Vec<(i32, i32)> = line.points.iter().map(|&(x, y)| frame.place(x, y)).collect();
        paper.line_of(nth, &places)?;
        for (&(x, _), bar) in line.points.iter().zip(&line.bars) {
            let [low, high] = self.y.range;
            let ends = bar.map(|y| frame.place(x, y.clamp(low, high)));
            // Longer than the marker is high.
            if ends[0].1 - ends[1].1 > 14 {
                paper.line(&ends, colour, 2)?;
            }
        }
        for &place in &places {
            paper.marker(nth, place)?;
        }
        for (&(count, ms), at) in line.knees.iter().zip(self.bends(nth)) {
            let (x, y) = frame.place(count, ms);
            // An open diamond on the line.
            paper.line(&[(x - 8, y), (x, y - 8), (x + 8, y), (x, y + 8), (x - 8, y)], colour, 2)?;
            let label = bend(count);
            paper.dashed(&[(x, y + 10), (x, at + 6)], colour, 1, 2, 6)?;
            paper.text(&label, x + 6, at, 14, colour, HPos::Left, false)?;
        }
        if let (true, Some(&(x, y))) = (line.stopped, places.last()) {
            paper.line(&[(x - 9, y - 9), (x + 9, y + 9)], INK, 3)?;
            paper.line(&[(x - 9, y + 9), (x + 9, y - 9)], INK, 3)?;
        }
        Ok(())
    }

    /// Names at the ends of their lines, moved apart where they would overlap.
    fn names<B: DrawingBackend>(&self, paper: &Paper<'_, B>, which: Option<usize>) -> Result<(), Fault<B>> {
        const APART: i32 = 24;
        let frame = self.frame();
        let mut ends: Vec<(i32, i32, usize)> = self
            .lines
            .iter()
            .enumerate()
            .filter_map(|(nth, line)| {
                line.points.last().map(|&(x, y)| frame.place(x, y)).map(|(x, y)| (y, x, nth))
            })
            .collect();
        ends.sort_unstable();
        let mut lowest = i32::MIN;
        for (y, x, nth) in ends {
            let to = y.max(lowest + APART);
            lowest = to;
            if which.is_some_and(|which| which != nth) {
                continue;
            }
            let at = frame.right + 26;
            paper.line(&[(x + 8, y), (at - 6, to)], FAINT, 2)?;
            paper.marker(nth, (at + 4, to))?;
            let name = cut(&self.lines[nth].name, LONGEST);
            paper.text(&name, at + 18, to, 16, COLOURS[nth % COLOURS.len()], HPos::Left, true)?;
        }
        Ok(())
    }
}

impl Drawing for Frames {
    fn draw<B: DrawingBackend>(&self, paper: &Paper<'_, B>) -> Result<(), Fault<B>> {
        match self.layer {
            Layer::Ground => self.ground(paper),
            Layer::Line(nth) => {
                self.line(paper, nth)?;
                self.names(paper, Some(nth))
            }
            Layer::All => {
                self.ground(paper)?;
                (0..self.lines.len()).try_for_each(|nth| self.line(paper, nth))?;
                self.names(paper, None)
            }
        }
    }
}

/// The chart in layers, as SVG texts, for a page that shows and hides lines.
pub(crate) struct Layers {
    /// Titles, axes, limits.
    pub(crate) ground: String,
    /// Each variant's line with its name.
    pub(crate) lines: Vec<String>,
    /// Positions of the points of each line, in pixels.
    pub(crate) points: Vec<Vec<(i32, i32)>>,
}

/// The chart of a profile in layers.
pub(crate) fn layers(profile: &Profile, scale: Scale) -> Result<Layers, ProfileError> {
    let mut chart = Frames::of(profile, scale);
    chart.layer = Layer::Ground;
    let ground = svg(&chart)?;
    let mut lines = Vec::new();
    for nth in 0..chart.lines.len() {
        chart.layer = Layer::Line(nth);
        lines.push(svg(&chart)?);
    }
    let frame = chart.frame();
    let points = chart.lines.iter().map(|line| line.points.iter().map(|&(x, y)| frame.place(x, y)).collect());
    Ok(Layers { ground, lines, points: points.collect() })
}

/// Label of a knee.
fn bend(count: f64) -> String {
    format!("bends at {}", short(count.round() as u32))
}

/// Knees of a variant's frame time, on its line.
fn knees(variant: &VariantProfile) -> Vec<(f64, f64)> {
    let Some(growth) = &variant.growth else { return Vec::new() };
    let on_line = |count: f64| {
        let pair = variant.points.windows(2).find(|pair| count <= f64::from(pair[1].count))?;
        let [a, b] =
            [&pair[0], &pair[1]].map(|point| (f64::from(point.count.max(1)).ln(), point.frame.median.ln()));
        let share = ((count.ln() - a.0) / (b.0 - a.0)).clamp(0.0, 1.0);
        Some((a.1 + (b.1 - a.1) * share).exp())
    };
    let round = |count: f64| f64::from(rough(count));
    growth.frame.knees.iter().filter_map(|knee| Some((round(knee.count), on_line(knee.count)?))).collect()
}

/// Title: the finding of the chart, in one sentence.
pub(crate) fn title(profile: &Profile) -> String {
    let whole: Vec<&VariantProfile> = profile.measured().collect();
    // The highest count reached by all variants.
    let top = whole.iter().filter_map(|variant| variant.points.last()).map(|point| point.count).min();
    let Some(top) = top else { return format!("{}: nothing was measured", profile.scene) };
    let at = |variant: &&VariantProfile| {
        let point = variant.points.iter().find(|point| point.count == top)?;
        Some((
            point.frame.median,
            variant.name.clone(),
            point.costliest().first().map(|stage| stage.stage.clone()),
        ))
    };
    let mut times: Vec<_> = whole.iter().filter_map(at).collect();
    times.sort_by(|a, b| a.0.total_cmp(&b.0));
    let what = format!("{} {}", short(top), profile.population);
    match &times[..] {
        [(ms, _, stage)] => {
            let stage = stage.as_deref().unwrap_or("nothing");
            format!("{}: {what} take {ms:.1} ms a frame, most of it {stage}", profile.scene)
        }
        [(best, name, _), .., (worst, other, _)] => {
            let ratio = worst / best.max(1e-9);
            if let Some(picture) = profile.other_picture() {
                let share = picture.share * 100.0;
                return format!(
                    "{}: no comparison of speed, because {share:.0} % of the picture differs",
                    profile.scene
                );
            }
            let (name, other) = (cut(name, 30), cut(other, 30));
            if ratio < 1.1 {
                return format!("{}: at {what} all variants cost about the same", profile.scene);
            }
            format!("{}: at {what}, {name} is {ratio:.1}x faster than {other}", profile.scene)
        }
        [] => format!("{}: nothing was measured", profile.scene),
    }
}
