//! A profile as a table of at most 100 columns.

use comfy_table::{Cell, CellAlignment, ContentArrangement, LineStyle, Table, TableStyle};

use crate::chart::cut;
use crate::plan::{rough, short};
use crate::profile::{Point, Profile, StageTime, VariantGrowth, VariantProfile};

/// Widest line, columns.
const WIDTH: u16 = 100;

impl Profile {
    /// The table: one line a count and variant, aligned, with units in the head.
    pub fn table(&self) -> String {
        let mut table = Table::new();
        let style = TableStyle::new().header_separator(LineStyle::none().fill('─').junction('─'));
        table.load_style(style).set_content_arrangement(ContentArrangement::Dynamic).set_width(WIDTH);
        let several = self.variants.len() > 1;
        let mut head = vec![self.population.as_str()];
        if several {
            head.push("variant");
        }
        head.extend([
            "median ms",
            "p95",
            "p99",
            "worst",
            "missed",
            "CPU ms",
            "draw calls",
            "B/el",
            "MiB",
            "costs most",
        ]);
        table.set_header(head.iter().map(Cell::new));
        for (count, variant, point) in self.rows() {
            let mut row = vec![Cell::new(short(count)).set_alignment(CellAlignment::Right)];
            if several {
                row.push(Cell::new(variant));
            }
            let numbers = [
                format!(
                    "{} ±{:.0}%",
                    ms(point.frame.median),
                    (point.frame.interval.half_width_of(point.frame.median) * 100.0).min(999.0)
                ),
                ms(point.frame.p95),
                ms(point.frame.p99),
                ms(point.frame.worst),
                format!("{:.0}%", point.frame.missed * 100.0),
                ms(point.cpu_ms),
                point.draw_calls.to_string(),
                format!("{:.0}", point.bytes_per_element),
                format!("{}", point.peak_memory >> 20),
            ];
            row.extend(numbers.map(|text| Cell::new(text).set_alignment(CellAlignment::Right)));
            row.push(Cell::new(costs(point)));
            table.add_row(row);
        }
        for column in table.column_iter_mut() {
            column.set_padding((0, 1));
        }
        let mut lines: Vec<String> = table.lines().map(|line| line.trim_end().to_owned()).collect();
        lines.extend(self.split());
        lines.extend(self.growth());
        lines.extend(self.sameness());
        lines.extend(self.disturbance());
        for variant in &self.variants {
            if let Some(stop) = &variant.stopped {
                lines.push(format!("{} stopped at {}: {}", variant.name, short(stop.count), stop.reason));
            }
        }
        lines.join("\n")
    }

    /// What each variant's highest count is made of, stage by stage; a line a variant.
    fn split(&self) -> Vec<String> {
        let tops = self.variants.iter().filter_map(|variant| Some((variant, variant.points.last()?)));
        let line = |(variant, point): (&VariantProfile, &Point)| {
            let mut line = format!("{} at {}:", variant.name, short(point.count));
            for (nth, stage) in point.costliest().into_iter().enumerate() {
                let share = share(stage, point);
                let word = format!("{} {} {} ms", if nth == 0 { "" } else { "," }, stage.stage, ms(stage.ms));
                if share < 0.5 || line.chars().count() + word.chars().count() > usize::from(WIDTH) {
                    break;
                }
                line.push_str(&word);
            }
            line
        };
        let mut lines: Vec<String> = tops.map(line).collect();
        if !lines.is_empty() {
            lines.insert(0, String::new());
        }
        lines
    }

    /// How each variant grows, and which stage fills the frame first; two lines a variant.
    fn growth(&self) -> Vec<String> {
        let mut lines = Vec::new();
        let whole = |count: f64| short(rough(count));
        for variant in &self.variants {
            let Some(VariantGrowth { frame, stages }) = &variant.growth else { continue };
            if variant.points.len() < 3 {
                continue;
            }
            let mut line = format!(
                "{}: from {} on the frame grows as n^{:.2} ({:.2} to {:.2})",
                cut(&variant.name, 30),
                short(frame.counts[0].round() as u32),
                frame.exponent,
                frame.interval.low,
                frame.interval.high,
            );
            for knee in frame.knees.iter().rev() {
                line.push_str(&format!(", below {} as n^{:.2}", whole(knee.count), knee.before));
            }
            lines.push(line);
            let mut filling = stages.iter().filter_map(|stage| Some((&stage.stage, stage.fills_at?)));
            if let Some((first, at)) = filling.next() {
                let mut line =
                    format!("  {first} alone fills {} ms first, at {}", ms(self.target_ms), whole(at));
                if let Some((second, at)) = filling.next() {
                    line.push_str(&format!("; then {second}, at {}", whole(at)));
                }
                lines.push(line);
            }
        }
        if !lines.is_empty() {
            lines.insert(0, String::new());
        }
        lines
    }

    /// Whether the variants draw the same picture.
    fn sameness(&self) -> Option<String> {
        if let Some(other) = self.other_picture() {
            return Some(format!(
                "the picture of {} is another: {:.1} % of pixels differ from {}'s, by up to {} of 255",
                cut(&other.variant, 30),
                other.share * 100.0,
                cut(&self.variants.first()?.name, 30),
                other.largest,
            ));
        }
        let largest = self.pictures.iter().map(|picture| picture.largest).max()?;
        Some(format!("all draw the same picture: channels differ by at most {largest} of 255"))
    }

    /// What is to be said of the machine, if anything.
    fn disturbance(&self) -> Option<String> {
        let points = || self.variants.iter().flat_map(|variant| &variant.points);
        let disturbed: u64 = points().map(|point| point.noise.disturbed).sum();
        let all: u64 = points().map(|point| point.frames).sum();
        (disturbed > 0).then(|| {
            format!("{disturbed} of {all} frames were timed while the machine was disturbed; they are marked, and count")
        })
    }

    /// Points by count, variants side by side.
    fn rows(&self) -> Vec<(u32, &str, &Point)> {
        let mut rows: Vec<_> = self
            .variants
            .iter()
            .enumerate()
            .flat_map(|(nth, variant)| {
                variant.points.iter().map(move |point| (point.count, nth, variant, point))
            })
            .collect();
        rows.sort_by_key(|&(count, nth, ..)| (count, nth));
        rows.into_iter().map(|(count, _, variant, point)| (count, variant.name.as_str(), point)).collect()
    }
}

/// Milliseconds with three digits that count.
fn ms(value: f64) -> String {
    match value {
        v if v < 9.995 => format!("{v:.2}"),
        v if v < 99.95 => format!("{v:.1}"),
        v => format!("{v:.0}"),
    }
}

/// The stage that costs most, with its share.
fn costs(point: &Point) -> String {
    let costliest = point.costliest().into_iter().next();
    costliest.map(|stage| format!("{} {:.0}%", stage.stage, share(stage, point))).unwrap_or_default()
}

/// A stage's share of the median frame, percent.
fn share(stage: &StageTime, point: &Point) -> f64 {
    (stage.ms / point.frame.median.max(1e-9) * 100.0).min(100.0)
}
