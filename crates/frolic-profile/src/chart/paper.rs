//! Drawing area of charts: background, axes, markers and text, in units of a picture of 1280 by 800, as SVG and as PNG. The PNG is drawn
//! at three times its size and reduced, which smooths its text.

use std::sync::OnceLock;

use plotters::coord::Shift;
use plotters::element::DashedPathElement;
use plotters::prelude::*;
use plotters::style::text_anchor::{HPos, Pos, VPos};
use plotters::style::{FontStyle, register_font};

use crate::error::ProfileError;

pub(super) const WIDTH: i32 = 1280;
pub(super) const HEIGHT: i32 = 800;

/// Factor of the larger bitmap.
const LARGER: i32 = 3;

pub(crate) const PAPER: RGBColor = RGBColor(252, 251, 247);
pub(crate) const INK: RGBColor = RGBColor(34, 38, 46);
pub(crate) const FAINT: RGBColor = RGBColor(226, 224, 216);
pub(crate) const GREY: RGBColor = RGBColor(112, 116, 124);
pub(crate) const LIMIT: RGBColor = RGBColor(150, 108, 60);

/// Colours that differ by lightness as well as by hue.
pub(crate) const COLOURS: [RGBColor; 6] = [
    RGBColor(200, 80, 20),
    RGBColor(24, 92, 140),
    RGBColor(120, 148, 40),
    RGBColor(120, 60, 130),
    RGBColor(20, 140, 140),
    RGBColor(90, 60, 40),
];

/// An error of a drawing.
pub(super) type Fault<B> = DrawingAreaErrorKind<<B as DrawingBackend>::ErrorType>;

/// A drawing area in units of the final size.
pub(super) struct Paper<'a, B: DrawingBackend> {
    area: &'a DrawingArea<B, Shift>,
    scale: i32,
}

/// Something that can be drawn on any paper.
pub(super) trait Drawing {
    fn draw<B: DrawingBackend>(&self, paper: &Paper<'_, B>) -> Result<(), Fault<B>>;
}

/// A drawing as SVG text.
pub(super) fn svg(drawing: &impl Drawing) -> Result<String, ProfileError> {
    fonts()?;
    let mut text = String::new();
    {
        let area = SVGBackend::with_string(&mut text, (WIDTH as u32, HEIGHT as u32)).into_drawing_area();
        let failed = |error: &dyn std::fmt::Display| ProfileError::Chart(error.to_string());
        drawing.draw(&Paper { area: &area, scale: 1 }).map_err(|error| failed(&error))?;
        area.present().map_err(|error| failed(&error))?;
    }
    Ok(text)
}

/// A drawing as PNG bytes, 1280 by 800 pixels.
pub(super) fn png(drawing: &impl Drawing) -> Result<Vec<u8>, ProfileError> {
    fonts()?;
    let failed = |error: &dyn std::fmt::Display| ProfileError::Chart(error.to_string());
    let (w, h) = (WIDTH * LARGER, HEIGHT * LARGER);
    let mut large = vec![0; (w * h * 3) as usize];
    {
        let area = BitMapBackend::with_buffer(&mut large, (w as u32, h as u32)).into_drawing_area();
        drawing.draw(&Paper { area: &area, scale: LARGER }).map_err(|error| failed(&error))?;
        area.present().map_err(|error| failed(&error))?;
    }
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

impl<B: DrawingBackend> Paper<'_, B> {
    /// Fills the background.
    pub(super) fn clear(&self) -> Result<(), Fault<B>> {
        self.area.fill(&PAPER)
    }

    fn scaled(&self, places: &[(i32, i32)]) -> Vec<(i32, i32)> {
        places.iter().map(|&(x, y)| (x * self.scale, y * self.scale)).collect()
    }

    pub(super) fn line(&self, places: &[(i32, i32)], colour: RGBColor, width: u32) -> Result<(), Fault<B>> {
        let style = colour.stroke_width(width * self.scale as u32);
        self.area.draw(&PathElement::new(self.scaled(places), style))
    }

    pub(super) fn dashed(
        &self,
        places: &[(i32, i32)],
        colour: RGBColor,
        width: u32,
        dash: i32,
        gap: i32,
    ) -> Result<(), Fault<B>> {
        let style = colour.stroke_width(width * self.scale as u32);
        let places = self.scaled(places);
        self.area.draw(&DashedPathElement::new(
            places.iter().copied(),
            dash * self.scale,
            gap * self.scale,
            style,
        ))
    }

    /// Draws a line in the style of the nth variant.
    pub(super) fn line_of(&self, nth: usize, places: &[(i32, i32)]) -> Result<(), Fault<B>> {
        let colour = COLOURS[nth % COLOURS.len()];
        match nth % 3 {
            0 => self.line(places, colour, 3),
            1 => self.dashed(places, colour, 3, 12, 6),
            _ => self.dashed(places, colour, 3, 4, 5),
        }
    }

    /// Draws one of three markers.
    pub(super) fn marker(&self, nth: usize, (x, y): (i32, i32)) -> Result<(), Fault<B>> {
        let colour = COLOURS[nth % COLOURS.len()].filled();
        let (x, y, s) = (x * self.scale, y * self.scale, self.scale);
        match nth % 3 {
            0 => self.area.draw(&Circle::new((x, y), 6 * s, colour)),
            1 => self.area.draw(&Rectangle::new([(x - 5 * s, y - 5 * s), (x + 5 * s, y + 5 * s)], colour)),
            _ => self.area.draw(&TriangleMarker::new((x, y), 7 * s, colour)),
        }
    }

    pub(super) fn dot(&self, (x, y): (i32, i32), radius: i32, colour: RGBColor) -> Result<(), Fault<B>> {
        self.area.draw(&Circle::new((x * self.scale, y * self.scale), radius * self.scale, colour.filled()))
    }

    /// A filled rectangle between two corners.
    pub(super) fn block(&self, corners: [(i32, i32); 2], colour: RGBAColor) -> Result<(), Fault<B>> {
        let [a, b] = corners.map(|(x, y)| (x * self.scale, y * self.scale));
        self.area.draw(&Rectangle::new([a, b], colour.filled()))
    }

    /// A filled shape.
    pub(super) fn shape(&self, places: &[(i32, i32)], colour: RGBAColor) -> Result<(), Fault<B>> {
        self.area.draw(&Polygon::new(self.scaled(places), colour.filled()))
    }

    #[expect(clippy::too_many_arguments, reason = "inputs of one line of a chart")]
    pub(super) fn text(
        &self,
        text: &str,
        x: i32,
        y: i32,
        size: i32,
        colour: RGBColor,
        side: HPos,
        bold: bool,
    ) -> Result<(), Fault<B>> {
        let weight = if bold { FontStyle::Bold } else { FontStyle::Normal };
        let font = ("sans-serif", f64::from(size * self.scale), weight).into_font();
        let style = TextStyle::from(font).color(&colour).pos(Pos::new(side, VPos::Center));
        // The font's centre is a little above that of its lower-case letters.
        let y = y + size / 8;
        self.area.draw(&Text::new(text.to_owned(), (x * self.scale, y * self.scale), style))
    }

    /// Draws the title, smaller if it is long, the label of the vertical axis, and a note below.
    pub(super) fn words(&self, title: &str, up: &str, below: &str) -> Result<(), Fault<B>> {
        let size =
            (f64::from(WIDTH - 80) / (title.chars().count().max(1) as f64 * 0.66)).clamp(15.0, 27.0) as i32;
        self.text(title, 40, 40, size, INK, HPos::Left, true)?;
        self.text(up, 40, 76, 17, GREY, HPos::Left, false)?;
        self.text(below, 40, HEIGHT - 30, 15, GREY, HPos::Left, false)
    }
}

/// Scale of an axis.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Scale {
    Log,
    Linear,
}

/// Range of values along one side of a plot.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(super) struct Axis {
    pub(super) scale: Scale,
    pub(super) range: [f64; 2],
}

impl Axis {
    pub(super) fn log(range: [f64; 2]) -> Self {
        Self { scale: Scale::Log, range }
    }

    /// From 0 to a value, with space above it.
    pub(super) fn up_to(most: f64) -> Self {
        Self { scale: Scale::Linear, range: [0.0, most.max(1e-6) * 1.08] }
    }

    /// Position of a value, 0 to 1 from end to end.
    fn share(&self, value: f64) -> f64 {
        let [low, high] = self.range;
        match self.scale {
            Scale::Log => (value.max(1e-9).ln() - low.ln()) / (high.ln() - low.ln()).max(1e-9),
            Scale::Linear => (value - low) / (high - low).max(1e-9),
        }
    }

    pub(super) fn holds(&self, value: f64) -> bool {
        (self.range[0]..=self.range[1]).contains(&value)
    }

    /// Grid values, and whether each has a label.
    pub(super) fn ticks(&self, most: usize) -> Vec<(f64, bool)> {
        let [low, high] = self.range;
        match self.scale {
            Scale::Log => {
                let decades = low.log10().floor() as i32..=high.log10().ceil() as i32;
                let steps = decades.map(|e| 10f64.powi(e)).flat_map(|d| [d, d * 2.0, d * 5.0]);
                let values: Vec<f64> = steps.filter(|value| self.holds(*value)).collect();
                let is_decade = |v: f64| (v.log10() - v.log10().round()).abs() < 1e-9;
                let few = values.len() <= most;
                values.into_iter().map(|value| (value, few || is_decade(value))).collect()
            }
            Scale::Linear => {
                let rough = (high - low) / most.max(1) as f64;
                let decade = 10f64.powf(rough.max(1e-12).log10().floor());
                let step = [1.0, 2.0, 5.0, 10.0].map(|n| n * decade).into_iter().find(|step| *step >= rough);
                let step = step.unwrap_or(decade * 10.0);
                (0..=(high / step) as u32).map(|nth| (f64::from(nth) * step, true)).collect()
            }
        }
    }
}

/// Frame of a plot, in units of the final size.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(super) struct Frame {
    pub(super) left: i32,
    pub(super) right: i32,
    pub(super) top: i32,
    pub(super) bottom: i32,
    pub(super) x: Axis,
    pub(super) y: Axis,
}

impl Frame {
    pub(super) fn place(&self, x: f64, y: f64) -> (i32, i32) {
        let across = f64::from(self.left) + self.x.share(x) * f64::from(self.right - self.left);
        let down = f64::from(self.bottom) - self.y.share(y) * f64::from(self.bottom - self.top);
        (across.round() as i32, down.round() as i32)
    }

    /// Horizontal grid lines at round values, with labels in a unit or without.
    pub(super) fn rules_up<B: DrawingBackend>(
        &self,
        paper: &Paper<'_, B>,
        most: usize,
        unit: Option<&str>,
    ) -> Result<(), Fault<B>> {
        for (value, labelled) in self.y.ticks(most) {
            let y = self.place(self.x.range[0], value).1;
            paper.line(&[(self.left, y), (self.right, y)], FAINT, if labelled { 2 } else { 1 })?;
            if let (true, Some(unit)) = (labelled, unit) {
                let label = format!("{}{unit}", round(value));
                paper.text(&label, self.left - 10, y, 15, INK, HPos::Right, false)?;
            }
        }
        Ok(())
    }

    /// Vertical grid lines at round values, with labels.
    pub(super) fn rules_across<B: DrawingBackend>(
        &self,
        paper: &Paper<'_, B>,
        most: usize,
        label: impl Fn(f64) -> String,
    ) -> Result<(), Fault<B>> {
        for (value, labelled) in self.x.ticks(most) {
            let x = self.place(value, self.y.range[0]).0;
            paper.line(&[(x, self.top), (x, self.bottom)], FAINT, if labelled { 2 } else { 1 })?;
            if labelled {
                paper.text(&label(value), x, self.bottom + 18, 15, INK, HPos::Center, false)?;
            }
        }
        Ok(())
    }

    /// A labelled, dashed horizontal line at a time, if in range.
    pub(super) fn limit<B: DrawingBackend>(
        &self,
        paper: &Paper<'_, B>,
        ms: f64,
        word: &str,
    ) -> Result<(), Fault<B>> {
        if !self.y.holds(ms) {
            return Ok(());
        }
        let y = self.place(self.x.range[0], ms).1;
        paper.dashed(&[(self.left, y), (self.right, y)], LIMIT, 2, 7, 5)?;
        if word.is_empty() {
            return Ok(());
        }
        paper.text(word, self.left + 8, y - 11, 14, LIMIT, HPos::Left, false)
    }
}

/// A round value in its shortest form.
fn round(value: f64) -> String {
    match value {
        v if v.fract().abs() < 1e-9 => format!("{v:.0}"),
        v if v < 0.1 => format!("{v:.3}").trim_end_matches('0').to_owned(),
        v => format!("{v:.2}").trim_end_matches('0').trim_end_matches('.').to_owned(),
    }
}

/// Shortens a text to at most `most` characters.
pub(crate) fn cut(text: &str, most: usize) -> String {
    if text.chars().count() <= most {
        return text.to_owned();
    }
    text.chars().take(most - 1).chain(['…']).collect()
}

/// Means of blocks of `by` by `by` pixels.
fn reduce(large: &[u8], width: usize, by: usize) -> Vec<u8> {
    let mut small = Vec::with_capacity(large.len() / by / by);
    let mut sums = vec![0u32; width / by * 3];
    let area = (by * by) as u32;
    for band in large.chunks_exact(width * by * 3) {
        sums.fill(0);
        for row in band.chunks_exact(width * 3) {
            for (pixels, sums) in row.chunks_exact(by * 3).zip(sums.chunks_exact_mut(3)) {
                for pixel in pixels.chunks_exact(3) {
                    sums[0] += u32::from(pixel[0]);
                    sums[1] += u32::from(pixel[1]);
                    sums[2] += u32::from(pixel[2]);
                }
            }
        }
        for sum in &sums {
            small.push(((sum + area / 2) / area) as u8);
        }
    }
    small
}

/// Registers the embedded font, once.
fn fonts() -> Result<(), ProfileError> {
    static DONE: OnceLock<bool> = OnceLock::new();
    let done = *DONE.get_or_init(|| {
        register_font("sans-serif", FontStyle::Normal, dejavu::sans::regular()).is_ok()
            && register_font("sans-serif", FontStyle::Bold, dejavu::sans::bold()).is_ok()
    });
    if done { Ok(()) } else { Err(ProfileError::Chart("the embedded font cannot be read".to_owned())) }
}
