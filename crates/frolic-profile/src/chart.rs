//! The curve: frame time against element count, both logarithmic, one line a variant.
//!
//! Variants differ by colour, marker and dash, and carry their name at the end of their line. The title says what
//! the picture shows. The PNG is drawn three times too large and reduced, which makes its text even.

use std::sync::OnceLock;

use plotters::coord::Shift;
use plotters::element::DashedPathElement;
use plotters::prelude::*;
use plotters::style::text_anchor::{HPos, Pos, VPos};
use plotters::style::{FontStyle, register_font};

use crate::plan::{rough, short};
use crate::profile::{Profile, VariantProfile};
use crate::sweep::ProfileError;

const WIDTH: i32 = 1280;
const HEIGHT: i32 = 800;

/// Most characters of a name beside its line.
const LONGEST: usize = 28;

/// How much larger than wanted the bitmap is drawn.
const LARGER: i32 = 3;

const PAPER: RGBColor = RGBColor(252, 251, 247);
const INK: RGBColor = RGBColor(34, 38, 46);
const FAINT: RGBColor = RGBColor(226, 224, 216);
const GREY: RGBColor = RGBColor(112, 116, 124);
const LIMIT: RGBColor = RGBColor(150, 108, 60);

/// Told apart by lightness as well as by hue.
const COLOURS: [RGBColor; 6] = [
    RGBColor(200, 80, 20),
    RGBColor(24, 92, 140),
    RGBColor(120, 148, 40),
    RGBColor(120, 60, 130),
    RGBColor(20, 140, 140),
    RGBColor(90, 60, 40),
];

/// A chart made ready: lines, titles and ranges.
#[derive(Debug, Clone, PartialEq)]
pub struct Chart {
    title: String,
    below: String,
    across: String,
    lines: Vec<Line>,
    x: [f64; 2],
    y: [f64; 2],
}

#[derive(Debug, Clone, PartialEq)]
struct Line {
    name: String,
    /// Count and milliseconds.
    points: Vec<(f64, f64)>,
    /// Where the milliseconds lie.
    bars: Vec<[f64; 2]>,
    /// Counts at which it starts to grow otherwise, and the time there.
    knees: Vec<(f64, f64)>,
    stopped: bool,
}

impl Chart {
    /// The chart of a profile's median frame times.
    pub fn of(profile: &Profile) -> Self {
        let lines: Vec<Line> = profile
            .variants
            .iter()
            .filter(|variant| !variant.points.is_empty())
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
        let least = |values: &mut dyn Iterator<Item = f64>| values.fold(f64::INFINITY, f64::min);
        let most = |values: &mut dyn Iterator<Item = f64>| values.fold(0.0, f64::max);
        let (x0, x1) = (least(&mut all().map(|p| p.0)).min(1e9), most(&mut all().map(|p| p.0)).max(1.0));
        let (y0, y1) = (least(&mut all().map(|p| p.1)).min(10.0), most(&mut all().map(|p| p.1)).max(40.0));
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
            x: [x0 / room, x1 * room],
            y: [y0 / 1.35, y1 * 1.35],
        }
    }

    /// As SVG text.
    ///
    /// # Errors
    /// When the drawing fails.
    pub fn svg(&self) -> Result<String, ProfileError> {
        fonts()?;
        let mut text = String::new();
        self.draw(&SVGBackend::with_string(&mut text, (WIDTH as u32, HEIGHT as u32)).into_drawing_area(), 1)
            .map_err(|error| ProfileError::Chart(error.to_string()))?;
        Ok(text)
    }

    /// As PNG bytes, 1280 by 800 pixels.
    ///
    /// # Errors
    /// When the drawing fails.
    pub fn png(&self) -> Result<Vec<u8>, ProfileError> {
        fonts()?;
        let failed = |error: &dyn std::fmt::Display| ProfileError::Chart(error.to_string());
        let (w, h) = (WIDTH * LARGER, HEIGHT * LARGER);
        let mut large = vec![0; (w * h * 3) as usize];
        self.draw(&BitMapBackend::with_buffer(&mut large, (w as u32, h as u32)).into_drawing_area(), LARGER)
            .map_err(|error| failed(&error))?;
        let small = reduce(&large, w as usize, LARGER as usize);
        let mut bytes = Vec::new();
        let mut encoder = png::Encoder::new(&mut bytes, WIDTH as u32, HEIGHT as u32);
        encoder.set_color(png::ColorType::Rgb);
        encoder.set_depth(png::BitDepth::Eight);
        let mut writer = encoder.write_header().map_err(|error| failed(&error))?;
        writer.write_image_data(&small).map_err(|error| failed(&error))?;
        writer.finish().map_err(|error| failed(&error))?;
        Ok(bytes)
    }

    fn draw<B: DrawingBackend>(
        &self,
        area: &DrawingArea<B, Shift>,
        scale: i32,
    ) -> Result<(), DrawingAreaErrorKind<B::ErrorType>> {
        area.fill(&PAPER)?;
        let paper = Paper { area, scale };
        // Room at the right for the longest name; a letter of the bold font is at most as wide as 11 in 16.
        let longest = self.lines.iter().map(|line| line.name.chars().count().min(LONGEST)).max().unwrap_or(0);
        let right = WIDTH - 80 - 11 * longest as i32;
        let frame = Frame { left: 96, right, top: 112, bottom: HEIGHT - 112, x: self.x, y: self.y };
        // A long title is set smaller and stays whole.
        let size = (f64::from(WIDTH - 80) / (self.title.chars().count().max(1) as f64 * 0.66))
            .clamp(15.0, 27.0) as i32;
        paper.text(&self.title, 40, 40, size, INK, HPos::Left, true)?;
        paper.text("frame time, milliseconds (lower is better)", 40, 76, 17, GREY, HPos::Left, false)?;
        paper.text(
            &self.across,
            (frame.left + frame.right) / 2,
            HEIGHT - 66,
            18,
            INK,
            HPos::Center,
            false,
        )?;
        paper.text(&self.below, 40, HEIGHT - 30, 15, GREY, HPos::Left, false)?;
        self.grid(&paper, &frame)?;
        for (fps, ms) in [(60, 1000.0 / 60.0), (30, 1000.0 / 30.0)] {
            if (self.y[0]..=self.y[1]).contains(&ms) {
                let y = frame.place(self.x[0], ms).1;
                paper.dashed(&[(frame.left, y), (frame.right, y)], LIMIT, 2, 7, 5)?;
                paper.text(&format!("{fps} fps"), frame.left + 8, y - 12, 15, LIMIT, HPos::Left, false)?;
            }
        }
        // Left, right and height of what is written beside lines.
        let mut labels: Vec<[i32; 3]> = Vec::new();
        for (nth, line) in self.lines.iter().enumerate() {
            let colour = COLOURS[nth % COLOURS.len()];
            let places: Vec<(i32, i32)> = line.points.iter().map(|&(x, y)| frame.place(x, y)).collect();
            match nth % 3 {
                0 => paper.line(&places, colour, 3)?,
                1 => paper.dashed(&places, colour, 3, 12, 6)?,
                _ => paper.dashed(&places, colour, 3, 4, 5)?,
            }
            for (&(x, _), bar) in line.points.iter().zip(&line.bars) {
                let ends = bar.map(|y| frame.place(x, y.clamp(self.y[0], self.y[1])));
                // Longer than the marker is high.
                if ends[0].1 - ends[1].1 > 14 {
                    paper.line(&ends, colour, 2)?;
                }
            }
            for &place in &places {
                paper.marker(nth, place, colour)?;
            }
            for &(count, ms) in &line.knees {
                let (x, y) = frame.place(count, ms);
                // An open diamond on the line.
                paper.line(&[(x - 8, y), (x, y - 8), (x + 8, y), (x, y + 8), (x - 8, y)], colour, 2)?;
                let label = format!("bends at {}", short(count.round() as u32));
                let width = label.chars().count() as i32 * 9;
                let touches = |at: i32| {
                    labels.iter().any(|&[left, right, height]: &[i32; 3]| {
                        x + 6 < right && left < x + 6 + width && (height - at).abs() < 18
                    })
                };
                // Down at the axis, where no line is in the way, or above what stands there already.
                let mut at = frame.bottom - 16;
                while touches(at) {
                    at -= 20;
                }
                labels.push([x + 6, x + 6 + width, at]);
                paper.dashed(&[(x, y + 10), (x, at + 6)], colour, 1, 2, 6)?;
                paper.text(&label, x + 6, at, 14, colour, HPos::Left, false)?;
            }
            if let (true, Some(&(x, y))) = (line.stopped, places.last()) {
                paper.line(&[(x - 9, y - 9), (x + 9, y + 9)], INK, 3)?;
                paper.line(&[(x - 9, y + 9), (x + 9, y - 9)], INK, 3)?;
            }
        }
        self.names(&paper, &frame)?;
        area.present()
    }

    /// Lines at 1, 2 and 5 of each decade, labels at those that leave room.
    fn grid<B: DrawingBackend>(
        &self,
        paper: &Paper<'_, B>,
        frame: &Frame,
    ) -> Result<(), DrawingAreaErrorKind<B::ErrorType>> {
        let decades = |range: [f64; 2]| {
            let whole =
                (range[0].log10().floor() as i32..=range[1].log10().ceil() as i32).map(|e| 10f64.powi(e));
            let steps = whole.flat_map(|decade| [decade, decade * 2.0, decade * 5.0]);
            steps.filter(move |v| (range[0]..=range[1]).contains(v)).collect::<Vec<_>>()
        };
        let is_decade = |v: f64| (v.log10() - v.log10().round()).abs() < 1e-9;
        let few = |values: &[f64]| values.len() <= 8;
        let xs = decades(self.x);
        for &value in &xs {
            let x = frame.place(value, self.y[0]).0;
            paper.line(&[(x, frame.top), (x, frame.bottom)], FAINT, if is_decade(value) { 2 } else { 1 })?;
            if is_decade(value) || few(&xs) {
                paper.text(&short(value as u32), x, frame.bottom + 18, 16, INK, HPos::Center, false)?;
            }
        }
        let ys = decades(self.y);
        for &value in &ys {
            let y = frame.place(self.x[0], value).1;
            paper.line(&[(frame.left, y), (frame.right, y)], FAINT, if is_decade(value) { 2 } else { 1 })?;
            if is_decade(value) || few(&ys) {
                let label = if value < 1.0 { format!("{value:.2}") } else { format!("{value:.0}") };
                paper.text(&label, frame.left - 12, y, 16, INK, HPos::Right, false)?;
            }
        }
        Ok(())
    }

    /// Names at the ends of their lines, moved apart where they would touch.
    fn names<B: DrawingBackend>(
        &self,
        paper: &Paper<'_, B>,
        frame: &Frame,
    ) -> Result<(), DrawingAreaErrorKind<B::ErrorType>> {
        const APART: i32 = 24;
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
            let at = frame.right + 26;
            paper.line(&[(x + 8, y), (at - 6, to)], FAINT, 2)?;
            paper.marker(nth, (at + 4, to), COLOURS[nth % COLOURS.len()])?;
            let name = cut(&self.lines[nth].name, LONGEST);
            paper.text(&name, at + 18, to, 16, COLOURS[nth % COLOURS.len()], HPos::Left, true)?;
        }
        Ok(())
    }
}

/// The plot's frame, in units of the wanted size.
struct Frame {
    left: i32,
    right: i32,
    top: i32,
    bottom: i32,
    x: [f64; 2],
    y: [f64; 2],
}

impl Frame {
    fn place(&self, x: f64, y: f64) -> (i32, i32) {
        let share = |v: f64, [low, high]: [f64; 2]| (v.ln() - low.ln()) / (high.ln() - low.ln());
        let across = f64::from(self.left) + share(x, self.x) * f64::from(self.right - self.left);
        let down = f64::from(self.bottom) - share(y, self.y) * f64::from(self.bottom - self.top);
        (across.round() as i32, down.round() as i32)
    }
}

/// A drawing area in units of the wanted size.
struct Paper<'a, B: DrawingBackend> {
    area: &'a DrawingArea<B, Shift>,
    scale: i32,
}

impl<B: DrawingBackend> Paper<'_, B> {
    fn scaled(&self, places: &[(i32, i32)]) -> Vec<(i32, i32)> {
        places.iter().map(|&(x, y)| (x * self.scale, y * self.scale)).collect()
    }

    fn line(
        &self,
        places: &[(i32, i32)],
        colour: RGBColor,
        width: u32,
    ) -> Result<(), DrawingAreaErrorKind<B::ErrorType>> {
        let style = colour.stroke_width(width * self.scale as u32);
        self.area.draw(&PathElement::new(self.scaled(places), style))
    }

    fn dashed(
        &self,
        places: &[(i32, i32)],
        colour: RGBColor,
        width: u32,
        dash: i32,
        gap: i32,
    ) -> Result<(), DrawingAreaErrorKind<B::ErrorType>> {
        let style = colour.stroke_width(width * self.scale as u32);
        let places = self.scaled(places);
        self.area.draw(&DashedPathElement::new(
            places.iter().copied(),
            dash * self.scale,
            gap * self.scale,
            style,
        ))
    }

    /// One of three shapes.
    fn marker(
        &self,
        nth: usize,
        (x, y): (i32, i32),
        colour: RGBColor,
    ) -> Result<(), DrawingAreaErrorKind<B::ErrorType>> {
        let (x, y, s) = (x * self.scale, y * self.scale, self.scale);
        match nth % 3 {
            0 => self.area.draw(&Circle::new((x, y), 6 * s, colour.filled())),
            1 => self
                .area
                .draw(&Rectangle::new([(x - 5 * s, y - 5 * s), (x + 5 * s, y + 5 * s)], colour.filled())),
            _ => self.area.draw(&TriangleMarker::new((x, y), 7 * s, colour.filled())),
        }
    }

    fn text(
        &self,
        text: &str,
        x: i32,
        y: i32,
        size: i32,
        colour: RGBColor,
        side: HPos,
        bold: bool,
    ) -> Result<(), DrawingAreaErrorKind<B::ErrorType>> {
        let weight = if bold { FontStyle::Bold } else { FontStyle::Normal };
        let font = ("sans-serif", f64::from(size * self.scale), weight).into_font();
        let style = TextStyle::from(font).color(&colour).pos(Pos::new(side, VPos::Center));
        // The font's centre lies a little above that of its small letters.
        let y = y + size / 8;
        self.area.draw(&Text::new(text.to_owned(), (x * self.scale, y * self.scale), style))
    }
}

/// Where a variant's frame starts to grow otherwise, on its line.
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

/// What the chart shows, in a sentence.
fn title(profile: &Profile) -> String {
    let whole: Vec<&VariantProfile> =
        profile.variants.iter().filter(|variant| !variant.points.is_empty()).collect();
    // The highest count that all reached.
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
                    "{}: none is called faster, as {share:.0} % of the picture differs",
                    profile.scene
                );
            }
            let (name, other) = (cut(name, 30), cut(other, 30));
            if ratio < 1.1 {
                return format!("{}: at {what} the ways cost about the same", profile.scene);
            }
            format!("{}: at {what}, {name} is {ratio:.1}x faster than {other}", profile.scene)
        }
        [] => format!("{}: nothing was measured", profile.scene),
    }
}

/// A text of at most `most` characters.
pub(crate) fn cut(text: &str, most: usize) -> String {
    if text.chars().count() <= most {
        return text.to_owned();
    }
    text.chars().take(most - 1).chain(['…']).collect()
}

/// Means of `by` x `by` pixels.
fn reduce(large: &[u8], width: usize, by: usize) -> Vec<u8> {
    let rows = large.len() / 3 / width / by;
    let mut small = Vec::with_capacity(rows * (width / by) * 3);
    for y in 0..rows {
        for x in 0..width / by {
            for channel in 0..3 {
                let places =
                    (0..by * by).map(|n| ((y * by + n / by) * width + x * by + n % by) * 3 + channel);
                let sum: usize = places.map(|at| usize::from(large[at])).sum();
                small.push(((sum + by * by / 2) / (by * by)) as u8);
            }
        }
    }
    small
}

/// Makes the embedded font known, once.
fn fonts() -> Result<(), ProfileError> {
    static DONE: OnceLock<bool> = OnceLock::new();
    let done = *DONE.get_or_init(|| {
        register_font("sans-serif", FontStyle::Normal, dejavu::sans::regular()).is_ok()
            && register_font("sans-serif", FontStyle::Bold, dejavu::sans::bold()).is_ok()
    });
    if done { Ok(()) } else { Err(ProfileError::Chart("the embedded font cannot be read".to_owned())) }
}
