//! A read-out over a picture: a graph of the last frames, their stages, draw calls, elements and memory.
//!
//! Any program with a meter can use it; it needs no scene. Glyphs are rasterised once. Painting allocates nothing and takes a fraction of a
//! millisecond.

use ab_glyph::{Font as _, FontRef, ScaleFont, point};
use frolic_core::{Counter, Frame, Meter, Stage};

use frolic_draw::Image;

/// Number of frames in the graph.
const FRAMES: usize = 120;
/// Number of frames over which values are averaged.
const SMOOTH: usize = 30;
/// Width and padding of the panel, in pixels.
const WIDTH: usize = 316;
const ROOM: usize = 12;
/// Height of the graph and of a line of text, in pixels.
const GRAPH: usize = 72;
const LINE: usize = 17;
const SIZE: f32 = 13.0;
/// Number of stages listed, longest first.
const STAGES: usize = 5;

const PANEL: [u8; 3] = [16, 20, 26];
const TEXT: [u8; 3] = [236, 234, 226];
const QUIET: [u8; 3] = [156, 162, 170];
const GOOD: [u8; 3] = [132, 190, 140];
const LATE: [u8; 3] = [236, 132, 76];
const RULE: [u8; 3] = [214, 180, 110];

/// The corner of the picture that a read-out is painted into.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
#[non_exhaustive]
pub enum Corner {
    /// Left, at the top.
    #[default]
    TopLeft,
    /// Right, at the top.
    TopRight,
    /// Left, at the bottom.
    BottomLeft,
    /// Right, at the bottom.
    BottomRight,
}

/// A glyph: advance, offset and size of its bitmap, and coverage of each pixel.
#[derive(Debug, Clone, Default)]
struct Letter {
    advance: f32,
    place: [i32; 2],
    size: [usize; 2],
    cover: Vec<u8>,
}

/// Keeps the last frames of a meter and paints them.
///
/// ```
/// use frolic_core::{Counter, Meter};
/// use frolic_diagnostics::{Corner, Readout};
/// use frolic_draw::{Image, ImageSize};
/// let mut meter = Meter::new();
/// let mut readout = Readout::new(1.0 / 60.0);
/// for _ in 0..3 {
///     meter.begin_frame();
///     meter.add(Counter::Alive, 12_000);
///     readout.add(&meter.end_frame());
/// }
/// let mut picture = Image::new(ImageSize::new(640, 400)?);
/// readout.paint(&mut picture, Corner::TopLeft);
/// assert!(readout.lines()[0].starts_with("frame"));
/// # Ok::<(), frolic_core::SpecError>(())
/// ```
#[derive(Debug, Clone)]
pub struct Readout {
    target: f32,
    /// Ring of the last frames; the newest is at `next - 1`.
    frames: Vec<Frame>,
    next: usize,
    letters: Vec<Letter>,
    ascent: f32,
    lines: Vec<String>,
}

impl Readout {
    /// An empty read-out. Frames longer than `target`, in seconds, are shown as late.
    pub fn new(target: f32) -> Self {
        let mut letters = vec![Letter::default(); 128];
        let mut ascent = SIZE;
        // The font is part of the program; without it there would be a graph without words.
        if let Ok(font) = FontRef::try_from_slice(dejavu::sans::bold()) {
            let scaled = font.as_scaled(SIZE);
            ascent = scaled.ascent();
            for byte in 32u8..127 {
                letters[usize::from(byte)] = letter(&font, char::from(byte));
            }
        }
        let target = if target.is_finite() && target > 0.0 { target } else { 1.0 / 60.0 };
        let lines = vec![String::with_capacity(64); 4 + STAGES];
        Self { target, frames: Vec::with_capacity(FRAMES), next: 0, letters, ascent, lines }
    }

    /// Adds a finished frame.
    pub fn add(&mut self, frame: &Frame) {
        if self.frames.len() < FRAMES {
            self.frames.push(*frame);
        } else {
            self.frames[self.next] = *frame;
        }
        self.next = (self.next + 1) % FRAMES;
        self.update_lines();
    }

    /// Adds the last frame that a meter finished.
    pub fn add_last(&mut self, meter: &Meter) {
        self.add(meter.last());
    }

    /// Returns the text, line by line, for a program that draws text itself.
    pub fn lines(&self) -> &[String] {
        &self.lines
    }

    /// Iterates over the frames, newest first.
    fn newest(&self) -> impl Iterator<Item = &Frame> {
        let n = self.frames.len();
        (0..n).map(move |back| &self.frames[(self.next + n - 1 - back) % n])
    }

    /// Updates the lines of text.
    fn update_lines(&mut self) {
        use std::fmt::Write;
        let mut times = [0.0f32; FRAMES];
        let mut stages = [(0.0f32, Stage::Integrate); Stage::MOST];
        let mut counted = 0;
        for (nth, frame) in self.newest().enumerate() {
            times[nth] = frame.total().as_secs_f32() * 1e3;
            if nth < SMOOTH {
                for stage in Stage::all() {
                    let sum = &mut stages[stage.index()];
                    *sum = (sum.0 + frame.stage(stage).as_secs_f32() * 1e3, stage);
                }
                counted = nth + 1;
            }
        }
        let mut recent = times;
        let recent = &mut recent[..counted];
        recent.sort_unstable_by(f32::total_cmp);
        let middle = recent.get(counted / 2).copied().unwrap_or(0.0);
        let worst = times.iter().copied().fold(0.0, f32::max);
        stages.sort_unstable_by(|a, b| b.0.total_cmp(&a.0));
        let newest = self.newest().next().copied().unwrap_or_default();
        let count = |counter: Counter| newest.count(counter);
        let mut lines = std::mem::take(&mut self.lines);
        lines.iter_mut().for_each(String::clear);
        // Writing to text cannot fail.
        let fps = if middle > 0.0 { 1e3 / middle } else { 0.0 };
        let _ = write!(lines[0], "frame {middle:.1} ms   {fps:.0} fps   worst {worst:.1}");
        let _ = write!(lines[1], "alive ");
        group(&mut lines[1], count(Counter::Alive));
        let _ = write!(lines[1], "   drawn ");
        group(&mut lines[1], count(Counter::Instances).saturating_sub(count(Counter::Culled)));
        let _ = write!(lines[2], "draw calls ");
        group(&mut lines[2], count(Counter::DrawCalls));
        let _ = write!(lines[2], "   steps {}", count(Counter::Steps));
        if count(Counter::StepsDropped) > 0 {
            let _ = write!(lines[2], " (-{})", count(Counter::StepsDropped));
        }
        let mib = |bytes: u64| bytes as f64 / f64::from(1 << 20);
        let held = count(Counter::ElementBytes) + count(Counter::DrawBytes) + count(Counter::DeviceBytes);
        let _ = write!(lines[3], "memory {:.1} MiB", mib(held));
        if count(Counter::DetailPercent) > 0 {
            let of = [Counter::DetailPercent, Counter::DensityPercent, Counter::RatePercent].map(count);
            let _ = write!(lines[3], "   kept {}/{}/{} %", of[0], of[1], of[2]);
            if (1..75).contains(&count(Counter::PicturePercent)) {
                let _ = write!(lines[3], ", draft");
            }
        }
        for (line, (sum, stage)) in lines[4..].iter_mut().zip(stages) {
            let ms = sum / counted.max(1) as f32;
            if ms > 0.0005 {
                let _ = write!(line, "{} {ms:.2}", stage.name());
            }
        }
        self.lines = lines;
    }

    /// Paints the read-out over a picture. In a small picture only the part that fits is painted.
    pub fn paint(&self, image: &mut Image, corner: Corner) {
        let height = ROOM * 2 + GRAPH + 6 + LINE * self.lines.len();
        let size = image.size();
        let (w, h) = (size.width(), size.height());
        let far = |whole: usize, part: usize| whole.saturating_sub(part + ROOM);
        let (x, y) = match corner {
            Corner::TopLeft => (ROOM, ROOM),
            Corner::TopRight => (far(w, WIDTH), ROOM),
            Corner::BottomLeft => (ROOM, far(h, height)),
            Corner::BottomRight => (far(w, WIDTH), far(h, height)),
        };
        let mut paper = Paper { pixels: image.pixels_mut(), w, h };
        paper.block([x, y], [WIDTH, height], PANEL, 208);
        let (left, right, top) = (x + ROOM, x + WIDTH - ROOM, y + ROOM);
        self.graph(&mut paper, [left, top]);
        let mut down = top + GRAPH + 6;
        for (nth, line) in self.lines.iter().enumerate() {
            let is_stage = nth >= 4;
            let colour = if nth == 0 || is_stage { TEXT } else { QUIET };
            let Some((word, ms)) = line.rsplit_once(' ').filter(|_| is_stage) else {
                self.set(&mut paper, line, left as f32, down, colour);
                down += LINE;
                continue;
            };
            // A bar as long as the stage's share of the target.
            let share = ms.parse::<f32>().unwrap_or(0.0) / (self.target * 1e3);
            let room = (right - left - 130) as f32;
            let over = share > 1.0;
            paper.block(
                [left + 84, down + 4],
                [(share.clamp(0.0, 1.0) * room) as usize, 9],
                if over { LATE } else { GOOD },
                200,
            );
            self.set(&mut paper, word, left as f32, down, QUIET);
            self.set(&mut paper, ms, right as f32 - self.width(ms), down, colour);
            down += LINE;
        }
    }

    /// Paints the graph: one bar a frame, newest at the right, with a line at the target.
    fn graph(&self, paper: &mut Paper<'_>, [left, top]: [usize; 2]) {
        let wide = WIDTH - ROOM * 2;
        let most = self.newest().map(|frame| frame.total().as_secs_f32()).fold(self.target * 2.0, f32::max);
        // Rare long frames do not flatten the rest.
        let most = most.min(self.target * 4.0);
        for (back, frame) in self.newest().enumerate() {
            let took = frame.total().as_secs_f32();
            let tall = ((took / most).min(1.0) * GRAPH as f32).round().max(1.0) as usize;
            let (from, to) = (wide * (FRAMES - 1 - back) / FRAMES, wide * (FRAMES - back) / FRAMES);
            let colour = if took > self.target { LATE } else { GOOD };
            paper.block([left + from, top + GRAPH - tall], [(to - from).max(2) - 1, tall], colour, 235);
        }
        let rule = top + GRAPH - (self.target / most * GRAPH as f32) as usize;
        paper.block([left, rule], [wide, 1], RULE, 220);
    }

    fn width(&self, text: &str) -> f32 {
        text.bytes().map(|byte| self.letters[usize::from(byte & 127)].advance).sum()
    }

    fn set(&self, paper: &mut Paper<'_>, text: &str, mut x: f32, y: usize, colour: [u8; 3]) {
        for byte in text.bytes() {
            let letter = &self.letters[usize::from(byte & 127)];
            let at = [x.round() as i32 + letter.place[0], y as i32 + self.ascent as i32 + letter.place[1]];
            paper.stamp(at, letter, colour);
            x += letter.advance;
        }
    }
}

/// Rasterises a glyph.
fn letter(font: &FontRef<'_>, character: char) -> Letter {
    let glyph = font.glyph_id(character).with_scale_and_position(SIZE, point(0.0, 0.0));
    let advance = font.as_scaled(SIZE).h_advance(glyph.id);
    let Some(outline) = font.outline_glyph(glyph) else { return Letter { advance, ..Letter::default() } };
    let bounds = outline.px_bounds();
    let size = [bounds.width() as usize, bounds.height() as usize];
    let mut cover = vec![0; size[0] * size[1]];
    outline.draw(|x, y, share| {
        if let Some(into) = cover.get_mut(y as usize * size[0] + x as usize) {
            *into = (share.clamp(0.0, 1.0) * 255.0) as u8;
        }
    });
    Letter { advance, place: [bounds.min.x as i32, bounds.min.y as i32], size, cover }
}

/// Writes a number with spaces between thousands.
pub(crate) fn group(text: &mut String, number: u64) {
    use std::fmt::Write;
    let mut unit = 1_000_000_000_000;
    while unit > 1 && number / unit == 0 {
        unit /= 1000;
    }
    let _ = write!(text, "{}", number / unit);
    while unit > 1 {
        unit /= 1000;
        let _ = write!(text, " {:03}", number / unit % 1000);
    }
}

/// The picture that is painted on.
struct Paper<'a> {
    pixels: &'a mut [[u8; 4]],
    w: usize,
    h: usize,
}

impl Paper<'_> {
    fn block(&mut self, [x, y]: [usize; 2], [wide, tall]: [usize; 2], colour: [u8; 3], cover: u8) {
        for j in y.min(self.h)..(y + tall).min(self.h) {
            for pixel in &mut self.pixels[j * self.w + x.min(self.w)..j * self.w + (x + wide).min(self.w)] {
                mix(pixel, colour, cover);
            }
        }
    }

    fn stamp(&mut self, [x, y]: [i32; 2], letter: &Letter, colour: [u8; 3]) {
        for (nth, &cover) in letter.cover.iter().enumerate().filter(|(_, cover)| **cover > 0) {
            let (i, j) = (x + (nth % letter.size[0]) as i32, y + (nth / letter.size[0]) as i32);
            if (0..self.w as i32).contains(&i) && (0..self.h as i32).contains(&j) {
                mix(&mut self.pixels[j as usize * self.w + i as usize], colour, cover);
            }
        }
    }
}

fn mix(pixel: &mut [u8; 4], colour: [u8; 3], cover: u8) {
    let share = u32::from(cover);
    for (channel, new) in pixel.iter_mut().zip(colour) {
        *channel = ((u32::from(*channel) * (255 - share) + u32::from(new) * share + 127) / 255) as u8;
    }
    pixel[3] = pixel[3].max(cover);
}

#[cfg(test)]
mod tests {
    use std::time::Duration;

    use super::*;
    use frolic_draw::ImageSize;

    fn frame(ms: f64) -> Frame {
        let time = |ms: f64| Duration::from_secs_f64(ms * 1e-3);
        Frame::new(time(ms))
            .with_stage(Stage::Raster, time(ms * 0.5))
            .with_stage(Stage::Sort, time(ms * 0.25))
            .with_count(Counter::Alive, 1_234_567)
            .with_count(Counter::DrawCalls, 3)
    }

    #[test]
    fn it_says_what_frames_were() {
        let mut readout = Readout::new(0.016);
        (0..200).for_each(|_| readout.add(&frame(8.0)));
        let lines = readout.lines();
        assert_eq!(lines[0], "frame 8.0 ms   125 fps   worst 8.0");
        assert!(lines[1].starts_with("alive 1 234 567"), "{}", lines[1]);
        assert!(lines[2].starts_with("draw calls 3"), "{}", lines[2]);
        assert_eq!((lines[4].as_str(), lines[5].as_str()), ("raster 4.00", "sort 2.00"));
        assert!(lines[6].is_empty(), "stages that take no time are not listed");
        // One late frame is the worst for as long as the graph shows it.
        readout.add(&frame(40.0));
        assert!(readout.lines()[0].ends_with("worst 40.0") && readout.lines()[0].starts_with("frame 8.0"));
        (0..FRAMES).for_each(|_| readout.add(&frame(8.0)));
        assert!(readout.lines()[0].ends_with("worst 8.0"));
    }

    #[test]
    fn it_is_painted_into_any_picture() {
        let mut readout = Readout::new(f32::NAN);
        readout.add(&frame(30.0));
        for (w, h) in [(1, 1), (40, 300), (640, 400)] {
            for corner in [Corner::TopLeft, Corner::TopRight, Corner::BottomLeft, Corner::BottomRight] {
                let mut image = Image::new(ImageSize::new(w, h).unwrap());
                let before = image.clone();
                readout.paint(&mut image, corner);
                assert!(w < 20 || image != before, "{w}x{h} {corner:?}");
            }
        }
        // Outside of its panel nothing changes.
        let mut image = Image::new(ImageSize::new(640, 400).unwrap());
        readout.paint(&mut image, Corner::BottomRight);
        assert!(image.pixels()[..640 * 100].iter().all(|pixel| *pixel == [0, 0, 0, 255]));
    }

    #[test]
    fn thousands_are_set_apart() {
        for (number, says) in [(0, "0"), (999, "999"), (1_000, "1 000"), (12_003_045, "12 003 045")] {
            let mut text = String::new();
            group(&mut text, number);
            assert_eq!(text, says);
        }
    }
}
