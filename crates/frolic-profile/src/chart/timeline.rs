//! Frames in the order in which they were taken: each variant's highest count, a dot for each frame, disturbed ones marked.

use plotters::prelude::{Color, DrawingBackend};
use plotters::style::text_anchor::HPos;

use super::paper::{Axis, COLOURS, Drawing, Fault, Frame, HEIGHT, INK, LIMIT, Paper, Scale, WIDTH, cut};
use super::{left_out, panels};
use crate::numbers::short;
use crate::profile::{Point, Profile};

#[derive(Debug, Clone, PartialEq)]
pub(super) struct Timeline {
    title: String,
    below: String,
    target_ms: f64,
    panels: Vec<Panel>,
}

#[derive(Debug, Clone, PartialEq)]
struct Panel {
    nth: usize,
    name: String,
    median: f64,
    /// Turns: frame times in milliseconds, and whether other work disturbed the machine.
    rounds: Vec<(Vec<f64>, bool)>,
}

impl Timeline {
    pub(super) fn of(profile: &Profile) -> Self {
        let top =
            |point: &Point| point.rounds.iter().map(|round| (round.ms.clone(), round.disturbed)).collect();
        let panels: Vec<Panel> = panels(profile)
            .into_iter()
            .filter_map(|(nth, variant)| {
                let point = variant.points.last()?;
                let (name, median) = (cut(&variant.name, 40), point.frame.median);
                let name = format!("{name} at {}, median {median:.1} ms (dotted)", short(point.count));
                Some(Panel { nth, name, median: point.frame.median, rounds: top(point) })
            })
            .collect();
        let frames = || panels.iter().flat_map(|panel| panel.rounds.iter());
        let all: usize = frames().map(|(ms, _)| ms.len()).sum();
        let disturbed: usize = frames().filter(|(_, disturbed)| *disturbed).map(|(ms, _)| ms.len()).sum();
        let late = frames().flat_map(|(ms, _)| ms).filter(|ms| **ms > profile.target_ms).count();
        Self {
            title: format!(
                "{}: {late} of {all} frames at the highest counts took over {:.1} ms, {disturbed} while the machine was disturbed",
                profile.scene, profile.target_ms
            ),
            below: format!(
                "each dot a frame, those of a turn joined; shaded: the reference loop was slow around them{}",
                left_out(profile)
            ),
            target_ms: profile.target_ms,
            panels,
        }
    }
}

impl Drawing for Timeline {
    fn draw<B: DrawingBackend>(&self, paper: &Paper<'_, B>) -> Result<(), Fault<B>> {
        paper.clear()?;
        paper.words(
            &self.title,
            "frame time, milliseconds, in the order in which frames were taken",
            &self.below,
        )?;
        let (top, bottom) = (104, HEIGHT - 62);
        let each = (bottom - top) / self.panels.len().max(1) as i32;
        for (at, panel) in self.panels.iter().enumerate() {
            let from = top + each * at as i32;
            panel.draw(paper, [from + 30, from + each - 24], self.target_ms)?;
        }
        Ok(())
    }
}

impl Panel {
    fn draw<B: DrawingBackend>(
        &self,
        paper: &Paper<'_, B>,
        [top, bottom]: [i32; 2],
        target_ms: f64,
    ) -> Result<(), Fault<B>> {
        let frames: usize = self.rounds.iter().map(|(ms, _)| ms.len()).sum();
        let worst = self.rounds.iter().flat_map(|(ms, _)| ms).copied().fold(self.median, f64::max);
        let x = Axis { scale: Scale::Linear, range: [0.0, frames.max(1) as f64] };
        // The target is shown if it is near.
        let most = if target_ms < worst * 1.5 { worst.max(target_ms * 1.1) } else { worst };
        let frame = Frame { left: 96, right: WIDTH - 60, top, bottom, x, y: Axis::up_to(most) };
        let colour = COLOURS[self.nth % COLOURS.len()];
        paper.text(&self.name, frame.left, top - 16, 16, colour, HPos::Left, true)?;
        let mut first = 0;
        for (ms, disturbed) in &self.rounds {
            let ends = [frame.place(first as f64, 0.0), frame.place((first + ms.len()) as f64, 0.0)];
            if *disturbed {
                paper.block([(ends[0].0, top), (ends[1].0, bottom)], LIMIT.mix(0.14))?;
            }
            first += ms.len();
        }
        frame.rules_up(paper, ((bottom - top) / 60).clamp(2, 8) as usize, Some(""))?;
        frame.limit(paper, target_ms, &format!("{target_ms:.1} ms"))?;
        let median = frame.place(0.0, self.median).1;
        paper.dashed(&[(frame.left, median), (frame.right, median)], colour, 1, 3, 4)?;
        let mut first = 0;
        let radius = if frames > 300 { 2 } else { 3 };
        for (ms, _) in &self.rounds {
            let place = |(nth, ms): (usize, &f64)| frame.place((first + nth) as f64 + 0.5, *ms);
            let places: Vec<(i32, i32)> = ms.iter().enumerate().map(place).collect();
            // Frames of a turn follow each other directly.
            if places.len() > 1 {
                paper.line(&places, colour, 1)?;
            }
            places.iter().try_for_each(|&place| paper.dot(place, radius, colour))?;
            first += ms.len();
        }
        paper.line(&[(frame.left, bottom), (frame.right, bottom)], INK, 1)
    }
}
