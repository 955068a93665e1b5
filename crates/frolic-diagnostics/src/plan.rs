//! Plans: a rectangle of ground from above, x to the right and -z up, with the elements that stand on it or the wind above it.

use frolic_core::World;
use glam::{Vec2, Vec3};

use crate::readout::group;
use crate::reference::LinearImage;
use crate::show::{Canvas, Line, on_scale, sort, title};
use frolic_draw::{Image, ImageSize};

/// A rectangle of ground seen from above.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct PlanView {
    /// Its middle, x and z, in metres.
    centre: Vec2,
    /// Pixels per metre.
    scale: f32,
    size: ImageSize,
}

/// One element on a plan.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Mark {
    /// x and z, in metres.
    pub place: [f32; 2],
    /// Rotation about y, in radians.
    pub turn: f32,
    /// Radius of the space it takes up, in metres.
    pub radius: f32,
    /// Tint, 0 to 1.
    pub tint: f32,
    /// Number of its kind.
    pub kind: u32,
}

impl PlanView {
    /// A plan of a rectangle given by its least and greatest x and z, in metres, with a margin, for a picture of this size.
    pub fn of(low: [f32; 2], high: [f32; 2], size: ImageSize) -> Self {
        let (low, high) = (Vec2::from(low), Vec2::from(high));
        let extent = (high - low).max(Vec2::splat(1e-3));
        let scale = (size.width() as f32 / extent.x).min(size.height() as f32 / extent.y) * 0.92;
        Self { centre: (low + high) * 0.5, scale, size }
    }

    fn place(&self, pixel: Vec2) -> Vec2 {
        let half = Vec2::new(self.size.width() as f32, self.size.height() as f32) * 0.5;
        self.centre + (pixel - half) / self.scale
    }

    fn pixel(&self, place: Vec2) -> Vec2 {
        let half = Vec2::new(self.size.width() as f32, self.size.height() as f32) * 0.5;
        half + (place - self.centre) * self.scale
    }

    /// Draws a mark for each element, coloured by tint, or by kind if there are several kinds. Elements too dense to tell apart are shown as a density.
    /// Contour lines show the height of the ground, if it is given. `name` is the name of the population.
    pub fn placement(
        &self,
        name: &str,
        marks: &[Mark],
        height: Option<&dyn Fn(f32, f32) -> Option<f32>>,
        image: &mut Image,
    ) {
        let mut canvas = Canvas::empty(self.size);
        let step = height.and_then(|height| self.heights(&mut canvas, height));
        let inside = |mark: &Mark| mark.place.iter().all(|v| v.is_finite());
        let ground = (self.size.width() * self.size.height()) as f32;
        let dense = marks.len() as f32 > ground * 0.2;
        let kinds = marks.iter().map(|mark| mark.kind).max().unwrap_or(0) + 1;
        let mut legend = vec![title(&format!("{} of {name}, from above", thousands(marks.len())))];
        if dense {
            let most = self.density(&mut canvas, marks);
            let many = most * self.scale * self.scale;
            for share in [0.15, 0.5, 1.0] {
                let text = format!("{} a square metre", tidy(many * share));
                legend.push(Line { colour: Some(on_scale(share)), text });
            }
        } else {
            for mark in marks.iter().filter(|mark| inside(mark)) {
                let tone = if kinds > 1 { sort(mark.kind) } else { on_scale(0.25 + mark.tint * 0.7) };
                self.mark(&mut canvas, mark, tone);
            }
            if kinds > 1 {
                for kind in 0..kinds.min(6) {
                    let many = marks.iter().filter(|mark| mark.kind == kind).count();
                    let text = format!("kind {kind}: {}", thousands(many));
                    legend.push(Line { colour: Some(sort(kind)), text });
                }
            } else {
                for (share, text) in [(0.0, "tint 0"), (0.5, "tint 0.5"), (1.0, "tint 1")] {
                    legend.push(Line { colour: Some(on_scale(0.25 + share * 0.7)), text: text.to_owned() });
                }
            }
        }
        if let Some(step) = step {
            let tone = Some(CONTOUR);
            legend.push(Line { colour: tone, text: format!("heights, every {} m", tidy(step)) });
        }
        self.finish(canvas, legend, image);
    }

    /// Draws elements by how many others each sees, the `tint` of its mark over `most`, and links from some to those that they see: two ends each, in metres.
    pub fn neighbours(
        &self,
        name: &str,
        marks: &[Mark],
        most: f32,
        links: &[[[f32; 3]; 2]],
        image: &mut Image,
    ) {
        let mut canvas = Canvas::empty(self.size);
        // The lonely first, so that crowds are on top.
        let mut order: Vec<&Mark> =
            marks.iter().filter(|mark| mark.place.iter().all(|v| v.is_finite())).collect();
        order.sort_by(|a, b| a.tint.total_cmp(&b.tint));
        for mark in order {
            self.mark(&mut canvas, mark, on_scale(0.12 + 0.85 * mark.tint));
        }
        for [a, b] in links {
            let at = |end: &[f32; 3]| self.pixel(Vec2::new(end[0], end[2]));
            stroke(&mut canvas.picture, at(a), at(b));
        }
        self.finish(canvas, sight_legend(name, marks.len(), most, "from above"), image);
    }

    /// Draws speed, in metres per second, and direction of the air at a height and a time.
    pub fn wind(&self, world: &World, time: f64, height: f32, image: &mut Image) {
        let mut canvas = Canvas::empty(self.size);
        let (w, h) = (self.size.width(), self.size.height());
        let mut air = vec![Vec3::ZERO; w * h];
        let [mut px, py, mut pz] = [vec![0.0; w], vec![height; w], vec![0.0; w]];
        let [mut ax, mut ay, mut az] = [vec![0.0; w], vec![0.0; w], vec![0.0; w]];
        for y in 0..h {
            for x in 0..w {
                let at = self.place(Vec2::new(x as f32 + 0.5, y as f32 + 0.5));
                (px[x], pz[x]) = (at.x, at.y);
            }
            world.air(time, [&px, &py, &pz], [&mut ax, &mut ay, &mut az]);
            for x in 0..w {
                air[y * w + x] = Vec3::new(ax[x], ay[x], az[x]);
            }
        }
        let most = air.iter().map(|air| air.length()).fold(0.0, f32::max);
        let per = if most > 0.0 { 1.0 / most } else { 0.0 };
        for y in 0..h {
            for x in 0..w {
                // Dimmed, so that arrows stand out.
                *canvas.picture.pixel_mut(x, y) = (on_scale(air[y * w + x].length() * per) * 0.62).to_array();
            }
        }
        let spacing = (h / 20).max(16);
        for y in (spacing / 2..h).step_by(spacing) {
            for x in (spacing / 2..w).step_by(spacing) {
                let air = air[y * w + x];
                let way = Vec2::new(air.x, air.z) * per * spacing as f32 * 0.85;
                if way.length() > 1.5 {
                    let from = Vec2::new(x as f32, y as f32) - way * 0.5;
                    arrow(&mut canvas.picture, from, from + way);
                }
            }
        }
        let mut legend = vec![title(&format!("air at {} m, {} s", tidy(height), tidy(time as f32)))];
        for share in [0.0, 0.33, 0.67, 1.0] {
            let text = format!("{} m/s", tidy(most * share));
            legend.push(Line { colour: Some(on_scale(share) * 0.62), text });
        }
        self.finish(canvas, legend, image);
    }

    /// Draws contour lines. Returns their spacing, in metres; none on level ground.
    fn heights(&self, canvas: &mut Canvas, height: &dyn Fn(f32, f32) -> Option<f32>) -> Option<f32> {
        let (w, h) = (self.size.width(), self.size.height());
        let at = |x: usize, y: usize| {
            let place = self.place(Vec2::new(x as f32, y as f32));
            height(place.x, place.y)
        };
        let all: Vec<Option<f32>> = (0..(w + 1) * (h + 1)).map(|n| at(n % (w + 1), n / (w + 1))).collect();
        let (low, high) =
            all.iter().flatten().fold((f32::INFINITY, f32::NEG_INFINITY), |(l, h), v| (l.min(*v), h.max(*v)));
        if high - low < 1e-3 {
            return None;
        }
        let step = round_number((high - low) / 10.0);
        for y in 0..h {
            for x in 0..w {
                let corners = [0, 1, w + 1, w + 2].map(|off| all[y * (w + 1) + x + off]);
                let [Some(a), Some(b), Some(c), Some(_)] = corners else { continue };
                let band = |v: f32| (v / step).floor();
                if band(a) != band(b) || band(a) != band(c) {
                    *canvas.picture.pixel_mut(x, y) = CONTOUR.to_array();
                } else {
                    let shade = 0.012 + 0.022 * (a - low) / (high - low);
                    *canvas.picture.pixel_mut(x, y) = [shade, shade, shade * 1.25];
                }
            }
        }
        Some(step)
    }

    /// Draws a spot, with a line that shows its direction if there is room.
    fn mark(&self, canvas: &mut Canvas, mark: &Mark, tone: Vec3) {
        let at = self.pixel(mark.place.into());
        let radius = (mark.radius * self.scale).clamp(0.8, 40.0);
        let (sin, cos) = libm::sincosf(mark.turn);
        let way = Vec2::new(sin, cos);
        let reach = if radius > 2.0 { radius * 2.2 } else { radius };
        let Some([low, high]) = pixels_around(self.size, at, reach + 1.0) else { return };
        for y in low.y as usize..=high.y as usize {
            for x in low.x as usize..=high.x as usize {
                let off = Vec2::new(x as f32 + 0.5, y as f32 + 0.5) - at;
                let spot = (radius + 0.5 - off.length()).clamp(0.0, 1.0);
                let along = off.dot(way);
                let aside = (off - way * along).length();
                let line = if reach > radius && along > 0.0 && along < reach { 1.2 - aside } else { 0.0 };
                let share = spot.max(line.clamp(0.0, 1.0));
                if share > 0.0 {
                    let pixel = canvas.picture.pixel_mut(x, y);
                    *pixel = Vec3::from(*pixel).lerp(tone, share * 0.92).to_array();
                }
            }
        }
    }

    /// Colours pixels by density, smoothed over a few pixels. Returns the density of the lightest colour, in elements per pixel.
    fn density(&self, canvas: &mut Canvas, marks: &[Mark]) -> f32 {
        const CELL: usize = 2;
        let (w, h) = (self.size.width().div_ceil(CELL), self.size.height().div_ceil(CELL));
        let mut cells = vec![0.0f32; w * h];
        for mark in marks {
            let at = self.pixel(mark.place.into()) / CELL as f32;
            if at.x >= 0.0 && at.y >= 0.0 && (at.x as usize) < w && (at.y as usize) < h {
                cells[at.y as usize * w + at.x as usize] += 1.0 / (CELL * CELL) as f32;
            }
        }
        let mut some: Vec<f32> = cells.iter().copied().filter(|many| *many > 0.0).collect();
        some.sort_by(f32::total_cmp);
        let most = some.get(some.len().saturating_sub(1 + some.len() / 50)).copied().unwrap_or(1.0);
        for y in 0..self.size.height() {
            for x in 0..self.size.width() {
                let many = cells[(y / CELL) * w + x / CELL];
                if many > 0.0 {
                    *canvas.picture.pixel_mut(x, y) = on_scale(0.12 + 0.88 * many / most).to_array();
                }
            }
        }
        most
    }

    /// Adds the scale bar and the legend, and writes the picture.
    fn finish(&self, mut canvas: Canvas, mut legend: Vec<Line>, image: &mut Image) {
        let metres = round_number(self.size.width() as f32 / self.scale / 6.0);
        legend.push(Line { colour: Some(Vec3::ONE), text: format!("the bar is {} m", tidy(metres)) });
        let (w, h) = (self.size.width(), self.size.height());
        let long = ((metres * self.scale) as usize).min(w.saturating_sub(48));
        // In the middle, as the legend takes a corner.
        for x in 0..long {
            for y in 0..6.min(h) {
                let rim = x < 2 || x + 2 >= long || y == 0 || y == 5;
                let (x, y) = (w.saturating_sub(long) / 2 + x, h.saturating_sub(30).max(6) + y);
                if x < w && y < h {
                    *canvas.picture.pixel_mut(x, y) = if rim { [0.02; 3] } else { [0.85; 3] };
                }
            }
        }
        canvas.finish(&legend, image);
    }
}

const CONTOUR: Vec3 = Vec3::new(0.10, 0.11, 0.15);

/// Rounds a positive number to 1, 2 or 5 times a power of ten.
fn round_number(v: f32) -> f32 {
    let ten = 10f32.powf(v.max(1e-9).log10().floor());
    let share = v / ten;
    ten * if share < 1.5 {
        1.0
    } else if share < 3.5 {
        2.0
    } else if share < 7.5 {
        5.0
    } else {
        10.0
    }
}

/// Formats a number for a legend.
fn tidy(v: f32) -> String {
    if v.abs() >= 20.0 {
        format!("{v:.0}")
    } else {
        let text = format!("{v:.2}");
        text.trim_end_matches('0').trim_end_matches('.').to_owned()
    }
}

/// Formats a count with spaces between thousands.
fn thousands(count: usize) -> String {
    let mut text = String::new();
    group(&mut text, count as u64);
    text
}

fn arrow(picture: &mut LinearImage, from: Vec2, to: Vec2) {
    let way = to - from;
    let long = way.length();
    let along = way / long;
    let side = along.perp();
    let head = (long * 0.4).min(7.0);
    for (a, b) in
        [(from, to), (to, to - along * head + side * head * 0.5), (to, to - along * head - side * head * 0.5)]
    {
        stroke(picture, a, b);
    }
}

/// The pixels of a picture within a distance of a place; none if there are none.
pub(crate) fn pixels_around(size: ImageSize, at: Vec2, reach: f32) -> Option<[Vec2; 2]> {
    let (low, high) = (at - reach, at + reach);
    let most = Vec2::new(size.width() as f32, size.height() as f32) - 1.0;
    let outside = high.x < 0.0 || high.y < 0.0 || low.x > most.x || low.y > most.y;
    (!outside).then(|| [low.clamp(Vec2::ZERO, most), high.clamp(Vec2::ZERO, most)])
}

/// What the colours of elements by how many others they see mean.
pub(crate) fn sight_legend(name: &str, count: usize, most: f32, how: &str) -> Vec<Line> {
    let mut legend = vec![title(&format!("{} of {name}, {how}", thousands(count)))];
    for share in [0.0, 0.5, 1.0] {
        let text = format!("sees {} others", tidy((most * share).round()));
        legend.push(Line { colour: Some(on_scale(0.12 + 0.85 * share)), text });
    }
    legend.push(Line { colour: Some(Vec3::ONE), text: "links of some elements".to_owned() });
    legend
}

/// Draws an antialiased line, about one and a half pixels wide.
pub(crate) fn stroke(picture: &mut LinearImage, a: Vec2, b: Vec2) {
    let most = Vec2::new(picture.size().width() as f32, picture.size().height() as f32) - 1.0;
    let (low, high) = ((a.min(b) - 2.0).clamp(Vec2::ZERO, most), (a.max(b) + 2.0).clamp(Vec2::ZERO, most));
    let way = b - a;
    for y in low.y as usize..=high.y as usize {
        for x in low.x as usize..=high.x as usize {
            let at = Vec2::new(x as f32 + 0.5, y as f32 + 0.5);
            let share = ((at - a).dot(way) / way.length_squared().max(1e-6)).clamp(0.0, 1.0);
            let cover = (1.3 - (at - a - way * share).length()).clamp(0.0, 1.0);
            let pixel = picture.pixel_mut(x, y);
            *pixel = Vec3::from(*pixel).lerp(Vec3::splat(0.92), cover * 0.85).to_array();
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_read_well() {
        assert_eq!([0.031, 0.4, 1.2, 7.0, 80.0].map(round_number), [0.02, 0.5, 1.0, 5.0, 100.0]);
        assert_eq!((tidy(2.50), tidy(3.0), tidy(1234.4)), ("2.5".into(), "3".into(), "1234".into()));
        assert_eq!(
            (thousands(7), thousands(1000), thousands(10_234_567)),
            ("7".into(), "1 000".into(), "10 234 567".into())
        );
    }

    #[test]
    fn a_mark_is_where_it_stands() {
        let size = ImageSize::new(200, 100).unwrap();
        let plan = PlanView::of([-10.0, -5.0], [10.0, 5.0], size);
        let mark = Mark { place: [5.0, -2.0], turn: 0.0, radius: 0.2, tint: 1.0, kind: 0 };
        let mut canvas = Canvas::empty(size);
        let before = canvas.picture.pixels().to_vec();
        plan.mark(&mut canvas, &mark, Vec3::ONE);
        let [x, y] = plan.pixel(mark.place.into()).to_array().map(|v| v as usize);
        // Right of the middle, and above it, as -z is up.
        assert!(x > 140 && y < 40);
        let changed = |n: usize| canvas.picture.pixels()[n] != before[n];
        assert!(changed(y * 200 + x) && (0..before.len()).filter(|&n| changed(n)).count() < 60);
        // One that is nowhere near marks nothing, and does not fail.
        plan.mark(&mut canvas, &Mark { place: [1e9, 1e9], ..mark }, Vec3::ONE);
    }
}
