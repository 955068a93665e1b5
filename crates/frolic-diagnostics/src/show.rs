//! Diagnostic views of a frame, with a legend.
//!
//! They are painted pixel by pixel and element by element, from the same records as the picture. This is slow.

use std::str::FromStr;

use frolic_core::{Meter, SpecError};
use glam::Vec3;

use frolic_draw::backend::{Level, srgb};
use frolic_draw::cpu::{Instance, walk};
use frolic_draw::{
    Align, AtlasBuilder, BackdropSpec, Break, CameraSpec, Colour, DrawList, Font, Image, ImageSize,
    Instances, Library, LookSpec, Renderer, Sprite, TextStyle, View,
};
use frolic_list::{ListScratch, ListSpec, Surroundings};

use crate::reference::{LinearImage, disc_coverage, each_pixel, pieces, quad_pixels};

/// A rendered frame, or a diagnostic view of it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
#[non_exhaustive]
pub enum Show {
    /// The rendered frame.
    #[default]
    Picture,
    /// Number of elements that touch each pixel.
    Overdraw,
    /// Depth of the nearest element.
    Depth,
    /// Draw call of each element, and why batches broke.
    Batches,
    /// Level of detail of each element.
    Detail,
    /// Sunlit and shadowed areas, and the shadow map.
    Shadow,
    /// Plan of the elements that were placed. Scenes only.
    Placement,
    /// Plan of the wind. Scenes only.
    Wind,
    /// Plan of a flock: how many each element sees, and links of some. Scenes only.
    Neighbours,
    /// The same where the camera sees them. Scenes only.
    NeighboursInView,
}

impl Show {
    /// All views.
    pub const ALL: [Self; 10] = [
        Self::Picture,
        Self::Overdraw,
        Self::Depth,
        Self::Batches,
        Self::Detail,
        Self::Shadow,
        Self::Placement,
        Self::Wind,
        Self::Neighbours,
        Self::NeighboursInView,
    ];

    /// Its name.
    pub const fn name(self) -> &'static str {
        match self {
            Self::Picture => "picture",
            Self::Overdraw => "overdraw",
            Self::Depth => "depth",
            Self::Batches => "batches",
            Self::Detail => "detail",
            Self::Shadow => "shadow",
            Self::Placement => "placement",
            Self::Wind => "wind",
            Self::Neighbours => "neighbours",
            Self::NeighboursInView => "neighbours-in-view",
        }
    }
}

impl FromStr for Show {
    type Err = SpecError;

    fn from_str(text: &str) -> Result<Self, SpecError> {
        Self::ALL.into_iter().find(|show| show.name() == text).ok_or_else(|| {
            let names = Self::ALL.map(Self::name).join(", ");
            SpecError::new("show", format!("no view is named '{text}'"), format!("write one of: {names}"))
        })
    }
}

/// A colour scale from low to high. Its lightness rises throughout, so it reads without colour too.
const SCALE: [&str; 7] = ["#161a33", "#233f7a", "#1f7a8c", "#3fae6a", "#a8b534", "#f2b24a", "#fff1d6"];

/// Colours for unordered values; neighbours are easy to tell apart.
const SORTS: [&str; 10] = [
    "#4f8fd9", "#e08a3c", "#5bb56b", "#c75b8e", "#d9c74a", "#8a6fd1", "#49b8b8", "#b5683f", "#9ab648",
    "#d97a7a",
];

/// A line of a legend.
pub(crate) struct Line {
    pub(crate) colour: Option<Vec3>,
    pub(crate) text: String,
}

pub(crate) fn colour(hex: &str) -> Vec3 {
    Colour::hex(hex).map_or(Vec3::ONE, Colour::vec)
}

/// Returns the colour at a place of the scale, 0 to 1.
pub(crate) fn on_scale(share: f32) -> Vec3 {
    let at = share.clamp(0.0, 1.0) * (SCALE.len() - 1) as f32;
    let step = (at as usize).min(SCALE.len() - 2);
    colour(SCALE[step]).lerp(colour(SCALE[step + 1]), at - step as f32)
}

/// The view being painted.
pub(crate) struct Canvas {
    pub(crate) picture: LinearImage,
    /// Depth of the nearest solid element, in metres.
    depth: Vec<f32>,
    /// Number of elements that touch each pixel.
    touched: Vec<u32>,
}

impl Show {
    /// Draws the list, then paints this view of the frame into `image`, which is resized to the view if necessary.
    ///
    /// ```
    /// use frolic_core::Meter;
    /// use frolic_diagnostics::Show;
    /// use frolic_draw::{BackdropSpec, CameraSpec, Image, ImageSize, Renderer};
    /// use frolic_list::{ListScratch, ListSpec, Surroundings};
    ///
    /// let size = ImageSize::new(64, 40)?;
    /// let (view, backdrop) = (CameraSpec::default().view(size)?, BackdropSpec::default());
    /// let (mut scratch, mut meter) = (ListScratch::default(), Meter::new());
    /// let list = scratch.list([], &ListSpec::default(), &view, &Surroundings::new(&backdrop), &mut meter);
    /// let (mut renderer, mut image) = (Renderer::new(), Image::new(size));
    /// Show::Overdraw.paint(&mut renderer, &list, &view, &backdrop, &mut image, &mut meter);
    /// # Ok::<(), frolic_core::SpecError>(())
    /// ```
    pub fn paint(
        self,
        renderer: &mut Renderer,
        list: &DrawList<'_>,
        view: &View,
        backdrop: &BackdropSpec,
        image: &mut Image,
        meter: &mut Meter,
    ) {
        // The frame itself is drawn first: its depths and shadows are what some diagnostics show.
        renderer.render(list, view, backdrop, image, meter);
        // Plans are of a scene and not of a draw list.
        if matches!(
            self,
            Self::Picture | Self::Placement | Self::Wind | Self::Neighbours | Self::NeighboursInView
        ) {
            return;
        }
        let size = view.size();
        let mut canvas = Canvas { depth: renderer.backdrop_depths(size), ..Canvas::empty(size) };
        let legend = match self {
            Self::Picture | Self::Placement | Self::Wind | Self::Neighbours | Self::NeighboursInView => {
                return;
            }
            Self::Overdraw => canvas.overdraw(list, view),
            Self::Depth => canvas.depths(list, view),
            Self::Batches => canvas.batches(list, view),
            Self::Detail => canvas.details(list, view),
            Self::Shadow => canvas.shadows(list, view, renderer),
        };
        canvas.finish(&legend, image);
    }
}

/// Returns a colour for an unordered value.
pub(crate) fn sort(nth: u32) -> Vec3 {
    colour(SORTS[nth as usize % SORTS.len()])
}

impl Canvas {
    /// An empty, dark canvas.
    pub(crate) fn empty(size: ImageSize) -> Self {
        let pixels = size.width() * size.height();
        Self {
            picture: LinearImage::new(size, colour("#10131f").to_array()),
            depth: vec![f32::INFINITY; pixels],
            touched: vec![0; pixels],
        }
    }

    /// Draws the legend and writes the picture to `image`, which is resized if necessary.
    pub(crate) fn finish(mut self, legend: &[Line], image: &mut Image) {
        self.legend(legend);
        if image.size() != self.picture.size() {
            *image = Image::new(self.picture.size());
        }
        let byte = |light: f32| (srgb(f64::from(light.clamp(0.0, 1.0))) * 255.0 + 0.5) as u8;
        for (into, from) in image.pixels_mut().iter_mut().zip(self.picture.pixels()) {
            let [r, g, b] = from.map(byte);
            *into = [r, g, b, 255];
        }
    }

    fn at(&self, x: usize, y: usize) -> usize {
        y * self.picture.size().width() + x
    }

    /// Visits the pixels that an instance touches: x, y, coverage, depth, and whether it is depth-tested.
    fn pixels(
        &self,
        list: &DrawList<'_>,
        view: &View,
        instance: &Instance<'_>,
        visit: &mut dyn FnMut(usize, usize, f32, f32, bool),
    ) {
        let size = self.picture.size();
        let tests = instance.look.parts().depth.test;
        if let Some(splat) = &instance.splat {
            each_pixel(size, splat.extent(), |x, y| {
                let share = disc_coverage(splat, x, y);
                if share > 0.0 {
                    visit(x, y, share * (splat.cover + 0.3).min(1.0), splat.depth, tests);
                }
            });
        }
        for quad in &instance.shapes.quads {
            quad_pixels(list, view, quad, size, |x, y, share, paint, depth, tests| {
                visit(x, y, share * paint.w.max(0.15), depth, tests);
            });
        }
        pieces(
            instance.shapes,
            instance.look,
            &mut |x, y, s, near, _| {
                if s == 1 {
                    visit(x, y, 1.0, 1.0 / near, tests);
                }
            },
            size,
        );
    }

    /// Paints each instance in its own colour: solid ones with a depth test, transparent ones blended.
    fn paint(&mut self, list: &DrawList<'_>, view: &View, mut tint: impl FnMut(&Instance<'_>) -> Vec3) {
        // Backdrop in greys by its depth, for orientation.
        for at in 0..self.depth.len() {
            let grey =
                if self.depth[at].is_finite() { 0.05 + 0.10 / (1.0 + self.depth[at] * 0.02) } else { 0.035 };
            let (x, y) = (at % self.picture.size().width(), at / self.picture.size().width());
            *self.picture.pixel_mut(x, y) = [grey * 0.9, grey, grey * 1.15];
        }
        walk(list, view, |instance| {
            let tint = tint(instance);
            let mut met: Vec<(usize, usize, f32, f32)> = Vec::new();
            self.pixels(list, view, instance, &mut |x, y, share, depth, tests| {
                if !tests || depth < self.depth[self.at(x, y)] + 1e-3 {
                    met.push((x, y, share, depth));
                }
            });
            for (x, y, share, depth) in met {
                let at = self.at(x, y);
                let pixel = self.picture.pixel_mut(x, y);
                let share = if instance.look.is_solid() { 1.0 } else { share };
                *pixel = Vec3::from(*pixel).lerp(tint, share).to_array();
                if instance.look.is_solid() && instance.look.parts().depth.write {
                    self.depth[at] = self.depth[at].min(depth);
                }
            }
        });
    }

    fn overdraw(&mut self, list: &DrawList<'_>, view: &View) -> Vec<Line> {
        walk(list, view, |instance| {
            let mut met: Vec<usize> = Vec::new();
            self.pixels(list, view, instance, &mut |x, y, _, _, _| met.push(self.at(x, y)));
            met.into_iter().for_each(|at| self.touched[at] += 1);
        });
        let share = |count: u32| libm::log2f(1.0 + count as f32) / 8.0;
        for at in 0..self.touched.len() {
            let (x, y) = (at % self.picture.size().width(), at / self.picture.size().width());
            *self.picture.pixel_mut(x, y) = on_scale(share(self.touched[at])).to_array();
        }
        let total: u64 = self.touched.iter().map(|&count| u64::from(count)).sum();
        let drawn = self.touched.iter().filter(|&&count| count > 0).count().max(1);
        let most = self.touched.iter().max().copied().unwrap_or(0);
        let mut lines = vec![title(&format!(
            "overdraw: mean {:.1} over touched pixels, maximum {most}",
            total as f64 / drawn as f64
        ))];
        for count in [0, 1, 3, 7, 15, 31, 63, 127, 255] {
            let text = if count == 255 { "255 and more".to_owned() } else { count.to_string() };
            lines.push(Line { colour: Some(on_scale(share(count))), text });
        }
        lines
    }

    fn depths(&mut self, list: &DrawList<'_>, view: &View) -> Vec<Line> {
        let mut nearest = self.depth.clone();
        walk(list, view, |instance| {
            let mut met: Vec<(usize, f32)> = Vec::new();
            self.pixels(list, view, instance, &mut |x, y, share, depth, tests| {
                // Of transparent elements only the denser part counts; sprites on the screen have no depth.
                if tests && (instance.look.is_solid() || share > 0.25) {
                    met.push((self.at(x, y), depth));
                }
            });
            met.into_iter().for_each(|(at, depth)| nearest[at] = nearest[at].min(depth));
        });
        let some = nearest.iter().filter(|depth| depth.is_finite());
        let (low, high) = some.fold((f32::INFINITY, 0.0f32), |(l, h), d| (l.min(*d), h.max(*d)));
        let (low, high) = if low < high { (low.max(0.05), high) } else { (1.0, 2.0) };
        let share = |depth: f32| 1.0 - libm::logf(depth / low) / libm::logf(high / low);
        for (at, depth) in nearest.iter().enumerate() {
            let (x, y) = (at % self.picture.size().width(), at / self.picture.size().width());
            let tone =
                if depth.is_finite() { on_scale(0.06 + 0.94 * share(*depth)) } else { colour("#0b0d16") };
            *self.picture.pixel_mut(x, y) = tone.to_array();
        }
        let mut lines = vec![title("depth: distance along the view")];
        for step in 0..6 {
            let depth = low * libm::powf(high / low, step as f32 / 5.0);
            let text = if depth < 10.0 { format!("{depth:.1} m") } else { format!("{depth:.0} m") };
            lines.push(Line { colour: Some(on_scale(0.06 + 0.94 * share(depth))), text });
        }
        lines.push(Line { colour: Some(colour("#0b0d16")), text: "sky".to_owned() });
        lines
    }

    fn batches(&mut self, list: &DrawList<'_>, view: &View) -> Vec<Line> {
        let tone = |batch: usize| colour(SORTS[batch % SORTS.len()]);
        self.paint(list, view, |instance| tone(instance.batch));
        let calls = list.batches();
        let many =
            if calls.len() == 1 { "1 draw call".to_owned() } else { format!("{} draw calls", calls.len()) };
        let mut lines = vec![title(&format!("batches: {} instances in {many}", list.instances()))];
        const SHOWN: usize = 9;
        for (nth, batch) in calls.iter().take(SHOWN).enumerate() {
            let kind = if batch.solid { "solid" } else { "transparent" };
            let text = match batch.why {
                Break::First => format!("{} {kind}, the first", batch.count),
                why => format!("{} {kind}; broke on {}", batch.count, why.name()),
            };
            lines.push(Line { colour: Some(tone(nth)), text });
        }
        if calls.len() > SHOWN {
            let mut whys: Vec<(&str, usize)> = Vec::new();
            for batch in &calls[SHOWN..] {
                match whys.iter_mut().find(|(why, _)| *why == batch.why.name()) {
                    Some((_, count)) => *count += 1,
                    None => whys.push((batch.why.name(), 1)),
                }
            }
            let whys: Vec<String> = whys.iter().map(|(why, count)| format!("{count} on {why}")).collect();
            let text = format!("and {} more: {}", calls.len() - SHOWN, whys.join(", "));
            lines.push(Line { colour: None, text });
        }
        lines
    }

    fn details(&mut self, list: &DrawList<'_>, view: &View) -> Vec<Line> {
        let tone = |level: Level| match level {
            Level::Full => colour("#5bb56b"),
            Level::Coarse => colour("#e0a83c"),
            Level::Thinned => colour("#c75b8e"),
            Level::Tiny => colour("#5b8fc7"),
        };
        let mut counts = [0usize; 4];
        self.paint(list, view, |instance| {
            counts[instance.level as usize] += 1;
            tone(instance.level)
        });
        let left: usize = list.instances() - counts.iter().sum::<usize>();
        let line = |level: Level, text: &str| Line {
            colour: Some(tone(level)),
            text: format!("{} {text}", counts[level as usize]),
        };
        vec![
            title(&format!("detail of {} instances", list.instances())),
            line(Level::Full, "in full detail"),
            line(Level::Coarse, "in coarse form"),
            line(Level::Thinned, "represent several small elements"),
            line(Level::Tiny, "drawn as spots, hardly larger than a pixel"),
            Line { colour: None, text: format!("{left} left out: not alive, too far or thinned out") },
        ]
    }

    fn shadows(&mut self, list: &DrawList<'_>, view: &View, renderer: &Renderer) -> Vec<Line> {
        let size = self.picture.size();
        let (w, h) = (size.width(), size.height());
        walk(list, view, |instance| {
            let mut met: Vec<(usize, f32)> = Vec::new();
            if instance.look.is_solid() {
                self.pixels(list, view, instance, &mut |x, y, _, depth, _| met.push((self.at(x, y), depth)));
            }
            met.into_iter().for_each(|(at, depth)| self.depth[at] = self.depth[at].min(depth));
        });
        let (bright, dark, sky) = (colour("#f4e6c4"), colour("#3b4470"), colour("#10131f"));
        for at in 0..w * h {
            let (x, y) = (at % w, at / w);
            let depth = self.depth[at];
            let tone = if depth.is_finite() {
                let lit = renderer.sunlight_at(view.point(x as f32 + 0.5, y as f32 + 0.5, depth));
                // Some shading by depth separates objects.
                dark.lerp(bright, lit) * (0.72 + 0.28 / (1.0 + depth * 0.05))
            } else {
                sky
            };
            *self.picture.pixel_mut(x, y) = tone.to_array();
        }
        // The shadow map, in the upper right corner.
        let (side, map) = renderer.sun_map();
        let inset = (h * 2 / 5).min(w * 2 / 5);
        let margin = h / 50;
        if !map.is_empty() && inset > 8 && w > inset + 2 * margin {
            for j in 0..inset {
                for i in 0..inset {
                    let edge = i < 2 || j < 2 || i + 2 >= inset || j + 2 >= inset;
                    let (x, y) = (i * side / inset, j * side / inset);
                    let tone = if edge { colour("#c9cfdf") } else { on_scale(map[y * side + x]) };
                    *self.picture.pixel_mut(w - margin - inset + i, margin + j) = tone.to_array();
                }
            }
        }
        let some = list.lighting().shadows() && !map.is_empty();
        let [drawn, tiles] = renderer.shadow_tiles();
        vec![
            title(if some { "shadow: sunlit and shadowed areas" } else { "shadow: no shadow map" }),
            Line { colour: Some(bright), text: "in the sun".to_owned() },
            Line { colour: Some(dark), text: "in shadow".to_owned() },
            Line { colour: Some(sky), text: "no solid surface".to_owned() },
            Line { colour: None, text: format!("upper right: shadow map, {side} x {side}") },
            Line {
                colour: None,
                text: format!("{drawn} of {tiles} tiles drawn anew, {} kept", tiles - drawn),
            },
        ]
    }

    /// Returns the corner with the most uniform picture, where a panel hides least. The upper right corner is used by views.
    fn calmest(&self, panel: [f32; 2], margin: f32) -> [f32; 2] {
        let size = self.picture.size();
        let (right, lower) =
            (size.width() as f32 - margin - panel[0], size.height() as f32 - margin - panel[1]);
        let unrest = |[x, y]: [f32; 2]| {
            let tone = |i: usize, j: usize| {
                let at = |from: f32, length: f32, step: usize, most: usize| {
                    ((from + length * step as f32 / 16.0).max(0.0) as usize).min(most - 1)
                };
                let x = at(x, panel[0], i, size.width());
                Vec3::from(self.picture.pixels()[at(y, panel[1], j, size.height()) * size.width() + x])
            };
            (0..16 * 16).map(|n| tone(n % 16, n / 16).distance(tone(n % 16 + 1, n / 16))).sum::<f32>()
        };
        let corners = [[margin, lower], [right, lower], [margin, margin]];
        let calmest = corners.into_iter().min_by(|a, b| unrest(*a).total_cmp(&unrest(*b)));
        calmest.unwrap_or([margin, lower])
    }

    /// Draws the legend into a corner, as sprites.
    fn legend(&mut self, lines: &[Line]) {
        let size = self.picture.size();
        let text_size = if size.height() >= 600 { 16.0 } else { 12.0 };
        let mut builder = AtlasBuilder::default();
        let Ok(font) = Font::add(&mut builder, "legend", Font::shipped(), &[text_size]) else { return };
        let Ok(atlas) = builder.build() else { return };
        let library = Library { atlas: atlas.into(), ..Library::default() };
        let mut spec = LookSpec::sprites(true, 0);
        spec.depth.test = false;
        let Ok(look) = spec.build_with(&library) else { return };
        let step = text_size * 1.45;
        let swatch = text_size * 1.5;
        let wide = lines.iter().map(|line| font.measure(&line.text, text_size)[0]).fold(0.0, f32::max);
        let (pad, margin) = (text_size * 0.8, text_size);
        let panel = [wide + swatch + 3.0 * pad, step * lines.len() as f32 + 2.0 * pad];
        let corner = self.calmest(panel, margin);
        let mut sprites = vec![Sprite {
            position: [corner[0], corner[1], 0.0],
            size: panel,
            pivot: [0.0, 0.0],
            tint: [0.004, 0.005, 0.010, 0.94],
            corner: text_size * 0.6,
            border: 1.5,
            border_tint: [0.20, 0.23, 0.32, 1.0],
            ..Sprite::default()
        }];
        for (nth, line) in lines.iter().enumerate() {
            let y = corner[1] + pad + step * nth as f32;
            let mut x = corner[0] + pad;
            if let Some(tone) = line.colour {
                sprites.push(Sprite {
                    position: [x, y + text_size * 0.04, 0.0],
                    size: [swatch, text_size],
                    pivot: [0.0, 0.0],
                    tint: [tone.x, tone.y, tone.z, 1.0],
                    corner: 3.0,
                    border: 1.0,
                    border_tint: [0.35, 0.38, 0.46, 1.0],
                    ..Sprite::default()
                });
                x += swatch + pad;
            }
            let style = TextStyle { size: text_size, align: Align::Left, tint: [0.83, 0.86, 0.92, 1.0] };
            font.on_screen(&line.text, [x, y], &style, &mut sprites);
        }
        let backdrop = BackdropSpec::default();
        let Ok(view) = CameraSpec::default().view(size) else { return };
        let mut scratch = ListScratch::default();
        let around = Surroundings::new(&backdrop);
        let populations = [(Instances::sprites(&sprites), &look)];
        let list = scratch.list(populations, &ListSpec::default(), &view, &around, &mut Meter::new());
        self.picture.draw(&list, &view);
    }
}

pub(crate) fn title(text: &str) -> Line {
    Line { colour: None, text: text.to_owned() }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lightness_rises_along_the_scale() {
        let lightness = |step: u32| on_scale(step as f32 / 100.0).dot(Vec3::new(0.2126, 0.7152, 0.0722));
        for step in 0..100 {
            assert!(lightness(step) < lightness(step + 1), "at {step} %");
        }
    }
}
