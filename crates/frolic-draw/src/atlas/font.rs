//! Text: glyphs into an atlas, lines of text into sprites.

use std::collections::HashMap;

use ab_glyph::{Font as _, FontRef, GlyphId, PxScale, ScaleFont};
use frolic_core::{SpecError, within};

use super::{AtlasBuilder, Picture, RegionId, Sheet};
use crate::sprite::{Fill, Sprite};

/// A font whose glyphs of some sizes are in an atlas.
///
/// Glyphs are drawn at the very size they are shown at, so that text on the screen is sharp down to 12 pixels; text in the world is
/// drawn large and looked up smaller.
#[derive(Debug, Clone)]
pub struct Font {
    sizes: Vec<SizedFont>,
}

#[derive(Debug, Clone)]
struct SizedFont {
    /// Height of a line's letters, in pixels.
    size: f32,
    ascent: f32,
    line: f32,
    glyphs: HashMap<char, Glyph>,
    kerning: HashMap<(char, char), f32>,
}

#[derive(Debug, Clone, Copy)]
struct Glyph {
    advance: f32,
    /// Left and upper end of its picture from the pen, in pixels; none for a blank.
    picture: Option<(RegionId, [f32; 2], [f32; 2])>,
}

/// Where lines stand relative to the place of the text.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, serde::Serialize, serde::Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub enum Align {
    /// The place is the left end.
    #[default]
    Left,
    /// The place is the middle.
    Centre,
    /// The place is the right end.
    Right,
}

/// How a text is set.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct TextStyle {
    /// Height of the letters: pixels, or metres in the world.
    pub size: f32,
    /// Where lines stand relative to the place.
    pub align: Align,
    /// Colour in linear light, and opacity.
    pub tint: [f32; 4],
}

impl Font {
    /// Printable ASCII and the signs that labels need: what [`Font::add`] draws.
    pub const CHARACTERS: &'static str = " !\"#$%&'()*+,-./0123456789:;<=>?@ABCDEFGHIJKLMNOPQRSTUVWXYZ[\\]^_`abcdefghijklmnopqrstuvwxyz{|}~\
         ÄÅÆÉÖØÜßäåæçèéêíóôöøúüñ°±²³µ·×–—‘’“”…→←↑↓";

    /// The built-in font: DejaVu Sans Bold, of a free licence.
    pub fn shipped() -> &'static [u8] {
        dejavu::sans::bold()
    }

    /// Draws the glyphs of [`Font::CHARACTERS`] of a TrueType or OpenType font at these sizes, pixels (1 to 512), into an atlas. A character
    /// that the font does not have is drawn as the font's empty box.
    ///
    /// # Errors
    /// Not a font, or a size out of range.
    pub fn add(
        builder: &mut AtlasBuilder,
        name: &str,
        font: &[u8],
        sizes: &[f32],
    ) -> Result<Self, SpecError> {
        let font = FontRef::try_from_slice(font).map_err(|_| {
            SpecError::new("font", "is not a TrueType or OpenType font", "give a .ttf or .otf file")
        })?;
        if sizes.is_empty() {
            return Err(SpecError::new("font", "has no sizes", "name at least one"));
        }
        let mut pictures = Vec::new();
        let mut sized = Vec::new();
        for &size in sizes {
            within("font.size", size, 1.0, 512.0, "pixels")?;
            sized.push(SizedFont::draw(&font, size, &mut pictures));
        }
        if pictures.is_empty() {
            return Err(SpecError::new("font", "has no visible glyph", "give a font with letters"));
        }
        let sheet = builder.add(name, pictures);
        let position = |glyph: &mut Glyph| {
            if let Some((region, ..)) = &mut glyph.picture {
                *region = sheet.frame(region.0);
            }
        };
        sized.iter_mut().flat_map(|sized| sized.glyphs.values_mut()).for_each(position);
        Ok(Self { sizes: sized })
    }

    /// Width and height of a text at a size, in the unit of the size.
    pub fn measure(&self, text: &str, size: f32) -> [f32; 2] {
        let sized = self.nearest(size);
        let scale = size / sized.size;
        let lines: Vec<&str> = text.split('\n').collect();
        let width = lines.iter().map(|line| sized.width(line)).fold(0.0, f32::max);
        [width * scale, sized.line * lines.len() as f32 * scale]
    }

    /// Sets a text on the screen: `place` is pixels from the left and top, at the upper end of the first line. Letters stand on whole
    /// pixels where the font has the very size.
    pub fn on_screen(&self, text: &str, place: [f32; 2], style: &TextStyle, into: &mut Vec<Sprite>) {
        let sized = self.nearest(style.size);
        let exact = sized.size == style.size;
        sized.set(text, style, |region, [x, y], size| {
            let at = [place[0] + x, place[1] + y].map(|v| if exact { v.round() } else { v });
            into.push(Sprite {
                position: [at[0], at[1], 0.0],
                size,
                pivot: [0.0, 0.0],
                tint: style.tint,
                fill: Fill::Picture(region),
                ..Sprite::default()
            });
        });
    }

    /// Sets a text in the world on the plane of `like`: its position is the upper end of the first line, its `stand` says how the text faces.
    pub fn in_world(&self, text: &str, like: &Sprite, style: &TextStyle, into: &mut Vec<Sprite>) {
        let sized = self.sizes.last().unwrap_or(&self.sizes[0]);
        sized.set(text, style, |region, [x, y], size| {
            into.push(Sprite {
                size,
                // The pivot carries the place within the text, so that all letters turn about one point.
                pivot: [-x / size[0], -y / size[1]],
                tint: style.tint,
                fill: Fill::Picture(region),
                corner: 0.0,
                border: 0.0,
                ..*like
            });
        });
    }

    /// The smallest size that is not below the one wanted, or else the largest.
    fn nearest(&self, size: f32) -> &SizedFont {
        let fits = self.sizes.iter().filter(|sized| sized.size >= size - 1e-3);
        let largest = self.sizes.iter().max_by(|a, b| a.size.total_cmp(&b.size));
        fits.min_by(|a, b| a.size.total_cmp(&b.size)).or(largest).unwrap_or(&self.sizes[0])
    }
}

impl SizedFont {
    fn draw(font: &FontRef<'_>, size: f32, pictures: &mut Vec<Picture>) -> Self {
        let scaled = font.as_scaled(PxScale::from(size));
        let mut glyphs = HashMap::new();
        let mut kerning = HashMap::new();
        for character in Font::CHARACTERS.chars() {
            let id: GlyphId = scaled.glyph_id(character);
            let outline = scaled.outline_glyph(id.with_scale(size));
            let picture = outline.and_then(|outline| {
                let bounds = outline.px_bounds();
                let [w, h] = [bounds.width(), bounds.height()].map(|side| side.ceil() as u32);
                let mut pixels = vec![[255, 255, 255, 0]; (w * h) as usize];
                outline.draw(|x, y, coverage| {
                    if let Some(pixel) = pixels.get_mut((y * w + x) as usize) {
                        pixel[3] = (coverage.clamp(0.0, 1.0) * 255.0 + 0.5) as u8;
                    }
                });
                let picture = Picture::new([w, h], pixels).ok()?;
                pictures.push(picture);
                let region = RegionId(pictures.len() as u32 - 1);
                Some((region, [bounds.min.x, bounds.min.y], [w as f32, h as f32]))
            });
            glyphs.insert(character, Glyph { advance: scaled.h_advance(id), picture });
            for next in Font::CHARACTERS.chars() {
                let kern = scaled.kern(id, scaled.glyph_id(next));
                if kern != 0.0 {
                    kerning.insert((character, next), kern);
                }
            }
        }
        let line = scaled.height() + scaled.line_gap();
        Self { size, ascent: scaled.ascent(), line, glyphs, kerning }
    }

    /// A character's glyph; one that was not drawn shows as the replacement.
    fn glyph(&self, character: char) -> Option<&Glyph> {
        self.glyphs.get(&character).or_else(|| self.glyphs.get(&'?'))
    }

    fn width(&self, line: &str) -> f32 {
        let mut pen = 0.0;
        self.walk(line, |_, glyph| pen += glyph, |_, _| ());
        pen
    }

    /// Walks along a line: `advance` hears how far the pen moves, `glyph` what stands at it.
    fn walk(&self, line: &str, mut advance: impl FnMut(char, f32), mut glyph: impl FnMut(usize, &Glyph)) {
        let mut before: Option<char> = None;
        for (nth, character) in line.chars().enumerate() {
            let Some(shape) = self.glyph(character) else { continue };
            if let Some(kern) = before.and_then(|before| self.kerning.get(&(before, character))) {
                advance(character, *kern);
            }
            glyph(nth, shape);
            advance(character, shape.advance);
            before = Some(character);
        }
    }

    /// Calls `put` with the region, place and size of each letter, in the unit of the style's size.
    fn set(&self, text: &str, style: &TextStyle, mut put: impl FnMut(RegionId, [f32; 2], [f32; 2])) {
        let scale = style.size / self.size;
        for (nth, line) in text.split('\n').enumerate() {
            let start = match style.align {
                Align::Left => 0.0,
                Align::Centre => -self.width(line) * 0.5,
                Align::Right => -self.width(line),
            };
            let base = self.ascent + self.line * nth as f32;
            let pen = std::cell::Cell::new(start);
            self.walk(
                line,
                |_, by| pen.set(pen.get() + by),
                |_, glyph| {
                    if let Some((region, [left, top], size)) = glyph.picture {
                        let at = [pen.get() + left, base + top];
                        put(region, at.map(|v| v * scale), size.map(|v| v * scale));
                    }
                },
            );
        }
    }
}

impl Sheet {
    pub(crate) fn first(self) -> RegionId {
        RegionId(self.first)
    }
}
