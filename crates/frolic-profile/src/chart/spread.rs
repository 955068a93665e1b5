//! Distribution of frames: bands from the median to p95 and to p99, and the worst frame, against the count.

use plotters::prelude::{Color, DrawingBackend};
use plotters::style::text_anchor::HPos;

use super::paper::{Axis, COLOURS, Drawing, Fault, Frame, GREY, HEIGHT, INK, Paper, WIDTH, cut};
use super::{ends, left_out, panels};
use crate::numbers::short;
use crate::profile::Profile;

#[derive(Debug, Clone, PartialEq)]
pub(super) struct Spread {
    title: String,
    across: String,
    below: String,
    panels: Vec<Panel>,
    x: [f64; 2],
    y: [f64; 2],
}

#[derive(Debug, Clone, PartialEq)]
struct Panel {
    /// Index among all variants, which selects the colour.
    nth: usize,
    name: String,
    /// Count; median, p95, p99, worst.
    points: Vec<(f64, [f64; 4])>,
}

impl Spread {
    pub(super) fn of(profile: &Profile) -> Self {
        let shown: Vec<Panel> = panels(profile)
            .into_iter()
            .map(|(nth, variant)| Panel {
                nth,
                name: variant.name.clone(),
                points: variant
                    .points
                    .iter()
                    .map(|point| {
                        let it = point.frame;
                        let times = [it.median, it.p95, it.p99, it.worst].map(|ms| ms.max(1e-3));
                        (f64::from(point.count.max(1)), times)
                    })
                    .collect(),
            })
            .collect();
        let points = || shown.iter().flat_map(|panel| &panel.points);
        let [x0, x1] = ends(points().map(|point| point.0));
        let [y0, y1] = ends(points().flat_map(|point| point.1));
        let room = if x1 > x0 { (x1 / x0).powf(0.03) } else { 2.0 };
        let (x0, y0) = (x0.min(1e9), y0.min(10.0));
        // The point whose slow frames are farthest from the median.
        let ratio = |times: &[f64; 4]| times[1] / times[0];
        let widest = points().max_by(|a, b| ratio(&a.1).total_cmp(&ratio(&b.1)));
        let title = match widest {
            None => format!("{}: nothing was measured", profile.scene),
            Some((count, times)) => format!(
                "{}: one frame in twenty takes up to {:.2} times the median (at {})",
                profile.scene,
                ratio(times),
                short(*count as u32)
            ),
        };
        Self {
            title,
            across: format!("{} alive", profile.population),
            below: format!(
                "line: median; dark band: up to p95; light band: up to p99; ring: the worst of up to {} frames{}",
                profile.frames,
                left_out(profile)
            ),
            panels: shown,
            x: [x0 / room, x1.max(1.0) * room],
            y: [y0 / 1.3, y1.max(20.0) * 1.3],
        }
    }
}

impl Drawing for Spread {
    fn draw<B: DrawingBackend>(&self, paper: &Paper<'_, B>) -> Result<(), Fault<B>> {
        paper.clear()?;
        paper.words(&self.title, "frame time, milliseconds", &self.below)?;
        paper.text(&self.across, WIDTH / 2, HEIGHT - 62, 18, INK, HPos::Center, false)?;
        let (left, right) = (96, WIDTH - 60);
        let each = (right - left) / self.panels.len().max(1) as i32;
        let several = self.panels.len() > 1;
        for (at, panel) in self.panels.iter().enumerate() {
            let from = left + each * at as i32;
            let to = from + each - if at + 1 < self.panels.len() { 28 } else { 0 };
            let (x, y) = (Axis::log(self.x), Axis::log(self.y));
            let frame = Frame { left: from, right: to, top: 136, bottom: HEIGHT - 116, x, y };
            frame.rules_across(paper, (each / 90) as usize, |count| short(count as u32))?;
            frame.rules_up(paper, 8, (at == 0).then_some(""))?;
            frame.limit(paper, 1000.0 / 60.0, if at == 0 { "60 fps" } else { "" })?;
            if several {
                let most = (each / 10).max(4) as usize;
                paper.text(&cut(&panel.name, most), (from + to) / 2, 116, 16, INK, HPos::Center, true)?;
            }
            panel.draw(paper, &frame)?;
        }
        Ok(())
    }
}

impl Panel {
    fn draw<B: DrawingBackend>(&self, paper: &Paper<'_, B>, frame: &Frame) -> Result<(), Fault<B>> {
        let colour = COLOURS[self.nth % COLOURS.len()];
        let along = |which: usize| self.points.iter().map(move |(count, times)| (*count, times[which]));
        let places = |which: usize| -> Vec<(i32, i32)> {
            along(which).map(|(count, ms)| frame.place(count, ms)).collect()
        };
        if self.points.len() > 1 {
            for (to, strength) in [(2, 0.22), (1, 0.38)] {
                let mut edge = places(0);
                edge.extend(places(to).into_iter().rev());
                paper.shape(&edge, colour.mix(strength))?;
            }
            paper.line(&places(0), colour, 3)?;
        } else if let [low, high, ..] = [places(0), places(2)].concat()[..] {
            paper.line(&[low, high], colour, 8)?;
        }
        for (nth, (x, y)) in places(3).into_iter().enumerate() {
            // An open ring, joined to its band by a thread.
            paper.line(&[places(2)[nth], (x, y)], GREY, 1)?;
            paper.dot((x, y), 5, colour)?;
            paper.dot((x, y), 3, super::PAPER)?;
        }
        for place in places(0) {
            paper.dot(place, 4, colour)?;
        }
        Ok(())
    }
}
