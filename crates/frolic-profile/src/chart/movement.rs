//! How a flock moves against its count: order, milling, distance to the nearest and groups, a line for each variant. What is faster but moves differently
//! stands out.

use frolic_core::Counter;
use plotters::prelude::DrawingBackend;
use plotters::style::text_anchor::HPos;

use super::paper::{Axis, COLOURS, Drawing, Fault, Frame, HEIGHT, INK, Paper, WIDTH, cut};
use super::{ends, left_out, panels};
use crate::numbers::short;
use crate::profile::Profile;

/// What is charted: its name, and a factor that makes its unit of the counter's.
const GAUGES: [(Counter, &str, f64); 4] = [
    (Counter::OrderPermille, "order: 1 if all go one way", 1e-3),
    (Counter::MillingPermille, "milling: 1 if all circle one way", 1e-3),
    (Counter::NearestMicrometres, "to the nearest, millimetres", 1e-3),
    (Counter::Groups, "groups", 1.0),
];

#[derive(Debug, Clone, PartialEq)]
pub(super) struct Movement {
    title: String,
    across: String,
    below: String,
    lines: Vec<Line>,
    x: [f64; 2],
    /// Greatest value of each gauge.
    most: [f64; 4],
}

#[derive(Debug, Clone, PartialEq)]
struct Line {
    /// Index among all variants, which selects the colour.
    nth: usize,
    name: String,
    points: Vec<(f64, [f64; 4])>,
}

impl Movement {
    /// The chart of a profile's flock; none if no flock moved in it.
    pub(super) fn of(profile: &Profile) -> Option<Self> {
        let lines: Vec<Line> = panels(profile)
            .into_iter()
            .map(|(nth, variant)| Line {
                nth,
                name: variant.name.clone(),
                points: variant
                    .points
                    .iter()
                    .map(|point| {
                        let level = |(counter, _, factor): (Counter, _, f64)| {
                            point.counter(counter.name()).unwrap_or(0) as f64 * factor
                        };
                        (f64::from(point.count.max(1)), GAUGES.map(level))
                    })
                    .collect(),
            })
            .collect();
        let points = || lines.iter().flat_map(|line| &line.points);
        let most = [0, 1, 2, 3].map(|nth| points().map(|point| point.1[nth]).fold(0.0, f64::max));
        if most == [0.0; 4] {
            return None;
        }
        let [x0, x1] = ends(points().map(|point| point.0));
        let room = if x1 > x0 { (x1 / x0).powf(0.05) } else { 2.0 };
        let title = if profile.moves_differently().next().is_some() {
            format!("{}: not all variants move alike", profile.scene)
        } else if lines.len() > 1 {
            format!("{}: all variants move alike", profile.scene)
        } else {
            format!("{}: how its flock moves", profile.scene)
        };
        Some(Self {
            title,
            across: format!("{} alive", profile.population),
            below: format!(
                "levels of the median frame; groups are joined by steps of the radius of cohesion{}",
                left_out(profile)
            ),
            lines,
            x: [x0 / room, x1.max(1.0) * room],
            most,
        })
    }
}

impl Drawing for Movement {
    fn draw<B: DrawingBackend>(&self, paper: &Paper<'_, B>) -> Result<(), Fault<B>> {
        paper.clear()?;
        paper.words(&self.title, "", &self.below)?;
        paper.text(&self.across, WIDTH / 2, HEIGHT - 62, 18, INK, HPos::Center, false)?;
        let (left, top, wide, high) = (96, 140, (WIDTH - 96 - 60) / 2, (HEIGHT - 140 - 116) / 2);
        for (nth, (_, name, _)) in GAUGES.iter().enumerate() {
            let (column, row) = (nth as i32 % 2, nth as i32 / 2);
            let (from, upper) = (left + column * (wide + 10), top + row * (high + 20));
            let most = if nth < 2 { 1.0 } else { (self.most[nth] * 1.15).max(1.0) };
            let frame = Frame {
                left: from,
                right: from + wide - 70,
                top: upper + 10,
                bottom: upper + high - 30,
                x: Axis::log(self.x),
                y: Axis::up_to(most),
            };
            frame.rules_across(paper, 6, |count| short(count as u32))?;
            frame.rules_up(paper, 5, Some(""))?;
            paper.text(name, from, upper - 12, 16, INK, HPos::Left, true)?;
            for line in &self.lines {
                let places: Vec<(i32, i32)> =
                    line.points.iter().map(|(count, levels)| frame.place(*count, levels[nth])).collect();
                if places.len() > 1 {
                    paper.line_of(line.nth, &places)?;
                }
                for place in &places {
                    paper.marker(line.nth, *place)?;
                }
            }
        }
        // Names of the lines, side by side below the title.
        if self.lines.len() > 1 {
            let each = (WIDTH - 160) / self.lines.len() as i32;
            for (at, line) in self.lines.iter().enumerate() {
                let x = 96 + each * at as i32;
                paper.marker(line.nth, (x, 102))?;
                let most = (each / 11).max(4) as usize;
                let colour = COLOURS[line.nth % COLOURS.len()];
                paper.text(&cut(&line.name, most), x + 14, 102, 16, colour, HPos::Left, true)?;
            }
        }
        Ok(())
    }
}
