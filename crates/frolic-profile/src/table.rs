//! A profile as a table of up to 100 columns.

use comfy_table::{Cell, CellAlignment, ContentArrangement, LineStyle, Table, TableStyle};

use frolic_core::Counter;
use frolic_core::limits::Limits;

use crate::chart::cut;
use crate::numbers::{rough, short};
use crate::profile::{Point, Profile, StageTime, VariantGrowth, VariantProfile};

/// Widest line in columns, and the narrowest that holds all numbers.
const WIDTH: u16 = 100;
const FULL: u16 = 84;

/// Drift of the pace below which no line is printed.
const DRIFT: f64 = 1.1;

/// How a flock moved: order and milling, 0 to 1, distance to the nearest, in millimetres, and groups.
#[derive(Debug, Clone, Copy)]
struct Moved<'a> {
    name: &'a str,
    count: u32,
    levels: [f64; 3],
    groups: u64,
}

impl Profile {
    /// Returns the table, one line for each count and variant, with units in the head; at most 100 columns wide.
    pub fn table(&self) -> String {
        self.table_within(WIDTH)
    }

    /// Returns the table for a terminal of 20 to 100 columns. A narrow one holds the most important numbers. Lines below the table
    /// are not wrapped.
    pub fn table_within(&self, columns: u16) -> String {
        let columns = columns.clamp(20, WIDTH);
        let full = columns >= FULL;
        let mut table = Table::new();
        let style = TableStyle::new().header_separator(LineStyle::none().fill('─').junction('─'));
        table.load_style(style).set_content_arrangement(ContentArrangement::Dynamic).set_width(columns);
        let several = self.variants.len() > 1;
        let mut head = vec![self.population.as_str()];
        if several {
            head.push("variant");
        }
        const HEADS: [&str; 9] =
            ["median ms", "p95", "p99", "worst", "missed", "CPU ms", "draw calls", "B/el", "MiB"];
        // Columns of a narrow table.
        let is_shown = |head: &str| full || matches!(head, "median ms" | "p95" | "draw calls");
        head.extend(HEADS.into_iter().filter(|head| is_shown(head)));
        if full {
            head.push("costs most");
        }
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
            let shown = HEADS.into_iter().zip(numbers).filter(|(head, _)| is_shown(head));
            row.extend(shown.map(|(_, text)| Cell::new(text).set_alignment(CellAlignment::Right)));
            if full {
                row.push(Cell::new(costs(point)));
            }
            table.add_row(row);
        }
        for column in table.column_iter_mut() {
            column.set_padding((0, 1));
        }
        let mut lines: Vec<String> = table.lines().map(|line| line.trim_end().to_owned()).collect();
        let more = [self.split(), self.against(), self.findings()];
        for part in more.into_iter().filter(|part| !part.is_empty()) {
            lines.push(String::new());
            lines.extend(part);
        }
        lines.join("\n")
    }

    /// Findings: growth, costliest stages, equality of pictures, disturbances, reasons for stopping.
    pub(crate) fn findings(&self) -> Vec<String> {
        let mut lines = self.growth();
        lines.extend(self.sameness());
        lines.extend(self.movement());
        lines.extend(self.disturbance());
        lines.extend(self.drift());
        for variant in &self.variants {
            if let Some(stop) = &variant.stopped {
                lines.push(format!("{} stopped at {}: {}", variant.name, short(stop.count), stop.reason));
            }
        }
        lines
    }

    /// Limits of the machine, in words.
    pub(crate) fn limits(&self) -> String {
        let Limits { memory_bytes_per_s, cache_bytes_per_s, cache_bytes, flops, .. } = self.machine.limits;
        format!(
            "this machine: memory {:.1} GB/s, last cache {:.1} GB/s ({} MiB), arithmetic {:.0} Gflop/s",
            memory_bytes_per_s * 1e-9,
            cache_bytes_per_s * 1e-9,
            cache_bytes >> 20,
            flops * 1e-9
        )
    }

    /// Stages of the highest count relative to the limits of the machine, for a single variant.
    fn against(&self) -> Vec<String> {
        let [VariantProfile { points, .. }] = &self.variants[..] else { return vec![self.limits()] };
        let Some(point) = points.last() else { return Vec::new() };
        let head = format!("{:<12}{:>9}{:>12}{:>11}{:>9}", "stage", "ms", "ns/element", "B/element", "GB/s");
        let mut lines = vec![self.limits(), head];
        for row in point.against() {
            let mut line = format!("{:<12}{:>9}{:>12.1}", row.stage, ms(row.ms), row.ns_per_element);
            if let Some(moved) = row.moved {
                let part = format!("{:>11.0}{:>9.1}", moved.bytes_per_element, moved.gb_per_s);
                line.push_str(&part);
                let bound = if moved.of_limit >= 0.5 { ": bound by memory" } else { "" };
                line.push_str(&format!("  {:.0} % of the limit{bound}", moved.of_limit * 100.0));
            }
            lines.push(line);
        }
        lines
    }

    /// Stages of each variant's highest count, one line for each variant.
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
            for (nth, (name, count)) in point.custom_counters().enumerate() {
                line.push_str(&format!("{} {name} {count}", if nth == 0 { "; counted:" } else { "," }));
            }
            line
        };
        tops.map(line).collect()
    }

    /// Growth of each variant, and the stage that reaches the target first, in two lines for each variant.
    fn growth(&self) -> Vec<String> {
        let mut lines = Vec::new();
        let whole = |count: f64| short(rough(count));
        for variant in &self.variants {
            let Some(VariantGrowth { frame, stages }) = &variant.growth else { continue };
            if variant.points.len() < 3 {
                continue;
            }
            let mut line = format!(
                "{}: from {} on, frame time grows as n^{:.2} ({:.2} to {:.2})",
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
                    format!("  {first} alone takes {} ms first, at {}", ms(self.target_ms), whole(at));
                if let Some((second, at)) = filling.next() {
                    line.push_str(&format!("; then {second}, at {}", whole(at)));
                }
                lines.push(line);
            }
        }
        lines
    }

    /// Equality of the variants' pictures.
    fn sameness(&self) -> Option<String> {
        if let Some(other) = self.other_picture() {
            return Some(format!(
                "the picture of {} differs: {:.1} % of pixels differ from {}'s, by up to {} of 255, on average by {:.1}",
                cut(&other.variant, 30),
                other.share * 100.0,
                cut(&self.variants.first()?.name, 30),
                other.largest,
                other.mean,
            ));
        }
        let largest = self.pictures.iter().map(|picture| picture.largest).max()?;
        Some(format!("all draw the same picture: channels differ by at most {largest} of 255"))
    }

    /// How a flock moved, variant by variant at their highest counts, and which moved differently.
    fn movement(&self) -> Vec<String> {
        let moved = self.moved();
        let mut lines = Vec::new();
        for Moved { name, count, levels: [order, milling, nearest], groups } in &moved {
            let groups = match groups {
                // A device does not count them.
                0 => String::new(),
                1 => ", one group".to_owned(),
                groups => format!(", {} groups", short(*groups as u32)),
            };
            let of = if moved.len() > 1 { format!("{}, ", cut(name, 30)) } else { String::new() };
            let count = short(*count);
            lines.push(format!(
                "{of}{count}: order {order:.2}, milling {milling:.2}, {nearest:.0} mm to the nearest{groups}"
            ));
        }
        for name in self.moves_differently() {
            lines.push(format!("{} moves differently from {}", cut(name, 30), cut(moved[0].name, 30)));
        }
        lines
    }

    /// Variants whose flock moves differently from that of the first one with a flock, at the same count.
    pub(crate) fn moves_differently(&self) -> impl Iterator<Item = &str> {
        let moved = self.moved();
        let first = moved.first().copied();
        moved.into_iter().skip(1).filter_map(move |other| {
            let first = first?;
            let far = |nth: usize, least: f64| (other.levels[nth] - first.levels[nth]).abs() > least;
            let differs = far(0, 0.1) || far(1, 0.1) || far(2, first.levels[2] * 0.1);
            (other.count == first.count && differs).then_some(other.name)
        })
    }

    /// How the flock of each variant moved at its highest count.
    fn moved(&self) -> Vec<Moved<'_>> {
        let all = self.variants.iter().filter_map(|variant| {
            let point = variant.points.last()?;
            let counter = |counter: Counter| point.counter(counter.name()).unwrap_or(0);
            let levels = [Counter::OrderPermille, Counter::MillingPermille, Counter::NearestMicrometres];
            let levels = levels.map(|level| counter(level) as f64 / 1e3);
            let moved =
                Moved { name: &variant.name, count: point.count, levels, groups: counter(Counter::Groups) };
            levels.iter().any(|level| *level > 0.0).then_some(moved)
        });
        all.collect()
    }

    /// Disturbances of the machine, if any.
    fn disturbance(&self) -> Option<String> {
        let points = || self.variants.iter().flat_map(|variant| &variant.points);
        let disturbed: u64 = points().map(|point| point.noise.disturbed).sum();
        let all: u64 = points().map(|point| point.frames).sum();
        (disturbed > 0).then(|| {
            format!("{disturbed} of {all} frames were timed while the machine was disturbed; they are marked and still counted")
        })
    }

    /// Drift of the machine's pace between points, if significant.
    fn drift(&self) -> Option<String> {
        let points = self.variants.iter().flat_map(|variant| &variant.points);
        let paces = points.map(|point| point.noise.slowdown).filter(|pace| *pace > 0.0);
        let (least, most) =
            paces.fold((f64::INFINITY, 0.0f64), |(low, high), pace| (low.min(pace), high.max(pace)));
        (most > least * DRIFT).then(|| {
            format!("the machine's pace moved from {least:.2} to {most:.2} of its median; diff --undrift divides that out")
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

/// Milliseconds with three significant digits.
pub(crate) fn ms(value: f64) -> String {
    match value {
        v if v < 9.995 => format!("{v:.2}"),
        v if v < 99.95 => format!("{v:.1}"),
        v => format!("{v:.0}"),
    }
}

/// The costliest stage, with its share.
fn costs(point: &Point) -> String {
    let costliest = point.costliest().into_iter().next();
    costliest.map(|stage| format!("{} {:.0}%", stage.stage, share(stage, point))).unwrap_or_default()
}

/// Share of a stage in the median frame, in percent.
fn share(stage: &StageTime, point: &Point) -> f64 {
    (stage.ms / point.frame.median.max(1e-9) * 100.0).min(100.0)
}
