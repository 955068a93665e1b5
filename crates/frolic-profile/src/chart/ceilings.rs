//! Affordable counts: a bar for each variant with its confidence interval, largest first.

use plotters::prelude::{Color, DrawingBackend};
use plotters::style::text_anchor::HPos;

use super::paper::{Axis, COLOURS, Drawing, Fault, Frame, GREY, HEIGHT, INK, Paper, WIDTH, cut};
use crate::ceiling::Ceiling;
use crate::numbers::{rough, short};

/// Most bars of a chart.
const MOST: usize = 16;

#[derive(Debug, Clone, PartialEq)]
pub(super) struct Ceilings {
    title: String,
    across: String,
    below: String,
    /// Index among all variants, name, count, and interval; no upper end if there is no bound.
    bars: Vec<(usize, String, f64, [f64; 2], bool)>,
    most: f64,
}

impl Ceilings {
    pub(super) fn of(scene: &str, what: &str, found: &[Ceiling]) -> Self {
        let mut sorted: Vec<(usize, &Ceiling)> = found.iter().enumerate().collect();
        sorted.sort_by_key(|(_, ceiling)| std::cmp::Reverse(ceiling.count));
        let budget = found.first().map_or(0.0, |ceiling| ceiling.budget_ms);
        let many = |count: u32| short(rough(f64::from(count)));
        let title = match sorted[..] {
            [] => format!("{scene}: no searches"),
            [(_, only)] => format!("{scene}: {} {what} fit {budget:.1} ms", many(only.count)),
            [(_, best), .., (_, worst)] if worst.count > 0 => format!(
                "{scene}: {budget:.1} ms are enough for {} {what} with {}, for {} with {}",
                many(best.count),
                cut(&best.variant, 24),
                many(worst.count),
                cut(&worst.variant, 24)
            ),
            [(_, best), ..] => {
                format!(
                    "{scene}: {} {what} fit {budget:.1} ms with {}",
                    many(best.count),
                    cut(&best.variant, 30)
                )
            }
        };
        let left = sorted.len().saturating_sub(MOST);
        let left = if left > 0 { format!("; {left} smaller ones are in the table") } else { String::new() };
        let bar = |&(nth, ceiling): &(usize, &Ceiling)| {
            let count = f64::from(ceiling.count);
            let bounded = ceiling.interval.high < f64::from(u32::MAX);
            let high = if bounded { ceiling.interval.high } else { count };
            (nth, ceiling.variant.clone(), count, [ceiling.interval.low.min(count), high.max(count)], bounded)
        };
        let bars: Vec<_> = sorted.iter().take(MOST).map(bar).collect();
        let most = bars.iter().map(|(_, _, count, [_, high], _)| high.min(count * 2.0)).fold(1.0, f64::max);
        Self {
            title,
            across: format!("{what}, of which 95 of 100 frames fit the budget"),
            below: format!("whiskers: 95 % confidence interval; an arrow: no upper bound{left}"),
            bars,
            most,
        }
    }
}

impl Drawing for Ceilings {
    fn draw<B: DrawingBackend>(&self, paper: &Paper<'_, B>) -> Result<(), Fault<B>> {
        paper.clear()?;
        paper.words(&self.title, "affordable count (more is better)", &self.below)?;
        paper.text(&self.across, WIDTH / 2, HEIGHT - 62, 18, INK, HPos::Center, false)?;
        let longest = self.bars.iter().map(|bar| bar.1.chars().count().min(28)).max().unwrap_or(0) as i32;
        let (left, right, top, bottom) = (60 + longest * 10, WIDTH - 130, 116, HEIGHT - 112);
        let rows = Axis { scale: super::Scale::Linear, range: [0.0, 1.0] };
        let frame = Frame { left, right, top, bottom, x: Axis::up_to(self.most), y: rows };
        frame.rules_across(paper, 8, |count| short(count.round() as u32))?;
        let each = (bottom - top) / self.bars.len().max(1) as i32;
        let thick = (each * 3 / 5).clamp(10, 90);
        for (row, (nth, name, count, [low, high], bounded)) in self.bars.iter().enumerate() {
            let colour = COLOURS[nth % COLOURS.len()];
            let y = top + each * row as i32 + each / 2;
            let at = |value: f64| frame.place(value.min(self.most * 1.05), 0.0).0;
            paper.block([(left, y - thick / 2), (at(*count), y + thick / 2)], colour.to_rgba())?;
            paper.line(&[(at(*low), y), (at(*high), y)], INK, 2)?;
            paper.line(&[(at(*low), y - 8), (at(*low), y + 8)], INK, 2)?;
            let end = at(*high);
            if *bounded {
                paper.line(&[(end, y - 8), (end, y + 8)], INK, 2)?;
            } else {
                paper.line(&[(end, y), (end + 22, y)], INK, 2)?;
                paper.line(&[(end + 15, y - 6), (end + 22, y), (end + 15, y + 6)], INK, 2)?;
            }
            paper.text(&cut(name, 28), left - 14, y, 16, INK, HPos::Right, false)?;
            let label = short(rough(*count));
            paper.text(&label, end + if *bounded { 12 } else { 32 }, y, 16, GREY, HPos::Left, true)?;
        }
        paper.line(&[(left, top), (left, bottom)], INK, 2)
    }
}
