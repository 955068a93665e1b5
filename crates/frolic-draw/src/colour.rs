//! Colours in linear light.

use frolic_core::{RampValue, SpecError, within};
use frolic_raster::finish::WHITE;
use std::sync::LazyLock;

use serde::de::{SeqAccess, Visitor};
use serde::{Deserialize, Deserializer, Serialize, Serializer};

/// Red, green and blue in linear light, 0 and up.
///
/// Written as `"#rrggbb"` in sRGB, or as `[r, g, b]` in linear light.
///
/// ```
/// use frolic_draw::Colour;
/// assert_eq!(Colour::hex("#ffffff"), Some(Colour::new(1.0, 1.0, 1.0)));
/// assert_eq!(Colour::hex("white"), None);
/// ```
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct Colour {
    /// Red.
    pub r: f32,
    /// Green.
    pub g: f32,
    /// Blue.
    pub b: f32,
}

impl Colour {
    /// White, 1.
    pub const WHITE: Self = Self::new(1.0, 1.0, 1.0);

    /// From linear light.
    pub const fn new(r: f32, g: f32, b: f32) -> Self {
        Self { r, g, b }
    }

    /// From `#rrggbb` in sRGB.
    pub fn hex(text: &str) -> Option<Self> {
        let digits = text.strip_prefix('#').filter(|digits| digits.len() == 6)?;
        let channel = |at: usize| u8::from_str_radix(digits.get(at..at + 2)?, 16).ok().map(linear);
        Some(Self::new(channel(0)?, channel(2)?, channel(4)?))
    }

    /// Checks that all channels are finite and 0 to 1e6.
    pub(crate) fn check(self, key: &str) -> Result<(), SpecError> {
        [self.r, self.g, self.b]
            .into_iter()
            .try_for_each(|channel| within(key, channel, 0.0, 1e6, "in linear light"))
    }

    /// As a vector.
    pub fn vec(self) -> glam::Vec3 {
        glam::Vec3::new(self.r, self.g, self.b)
    }
}

/// Linear light of an 8-bit sRGB value (IEC 61966-2-1), from a table: a scene's textures have millions of texels.
pub(crate) fn linear(byte: u8) -> f32 {
    static OF_BYTES: LazyLock<[f32; 256]> = LazyLock::new(|| {
        std::array::from_fn(|byte| {
            let s = byte as f32 / 255.0;
            if s <= 0.040_45 { s / 12.92 } else { libm::powf((s + 0.055) / 1.055, 2.4) }
        })
    });
    OF_BYTES[usize::from(byte)]
}

/// The tone curve of all images: Reinhard et al., "Photographic Tone Reproduction" (2002), equation 4, with [`WHITE`] as white.
pub fn tone(light: f64) -> f64 {
    let white = f64::from(WHITE);
    (light * (1.0 + light / (white * white)) / (1.0 + light)).clamp(0.0, 1.0)
}

/// Linear light as an sRGB byte (IEC 61966-2-1).
pub fn srgb_byte(light: f32) -> u8 {
    let light = light.clamp(0.0, 1.0);
    let s = if light <= 0.003_130_8 { light * 12.92 } else { 1.055 * libm::powf(light, 1.0 / 2.4) - 0.055 };
    (s * 255.0 + 0.5) as u8
}

/// Linear light 0..1 to sRGB 0..1 (IEC 61966-2-1), in double precision.
pub fn srgb(light: f64) -> f64 {
    if light <= 0.003_130_8 { 12.92 * light } else { 1.055 * libm::pow(light, 1.0 / 2.4) - 0.055 }
}

impl RampValue for Colour {
    fn mix(a: Self, b: Self, t: f32) -> Self {
        Self::new(f32::mix(a.r, b.r, t), f32::mix(a.g, b.g, t), f32::mix(a.b, b.b, t))
    }

    fn problem(&self) -> Option<String> {
        self.r.problem().or_else(|| self.g.problem()).or_else(|| self.b.problem())
    }
}

impl Serialize for Colour {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        [self.r, self.g, self.b].serialize(serializer)
    }
}

impl<'de> Deserialize<'de> for Colour {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        struct HexOrLinear;
        impl<'de> Visitor<'de> for HexOrLinear {
            type Value = Colour;

            fn expecting(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
                f.write_str("a colour: \"#rrggbb\", or [r, g, b] in linear light")
            }

            fn visit_str<E: serde::de::Error>(self, text: &str) -> Result<Colour, E> {
                Colour::hex(text).ok_or_else(|| E::invalid_value(serde::de::Unexpected::Str(text), &self))
            }

            fn visit_seq<A: SeqAccess<'de>>(self, mut seq: A) -> Result<Colour, A::Error> {
                let mut channels = [0.0; 3];
                for (n, channel) in channels.iter_mut().enumerate() {
                    *channel = seq
                        .next_element()?
                        .ok_or_else(|| serde::de::Error::invalid_length(n, &HexOrLinear))?;
                }
                if seq.next_element::<f32>()?.is_some() {
                    return Err(serde::de::Error::invalid_length(4, &HexOrLinear));
                }
                let [r, g, b] = channels;
                Ok(Colour::new(r, g, b))
            }
        }
        deserializer.deserialize_any(HexOrLinear)
    }
}

#[cfg(feature = "schema")]
impl schemars::JsonSchema for Colour {
    fn schema_name() -> std::borrow::Cow<'static, str> {
        "Colour".into()
    }

    fn json_schema(_: &mut schemars::SchemaGenerator) -> schemars::Schema {
        schemars::json_schema!({
            "description": "A colour: \"#rrggbb\" in sRGB, or [r, g, b] in linear light, where values above 1 glow.",
            "anyOf": [
                { "type": "string", "pattern": "^#[0-9a-fA-F]{6}$" },
                { "type": "array", "items": { "type": "number" }, "minItems": 3, "maxItems": 3 }
            ]
        })
    }
}
