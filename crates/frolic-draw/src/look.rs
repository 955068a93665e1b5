//! How instances look: blend, colour over age, light.

use fearless_simd::f32x8;
use fearless_simd::prelude::*;
use frolic_core::{Ramp, SpecError, vector_within, within};
use glam::Vec3;
use serde::{Deserialize, Serialize};

use crate::colour::Colour;

/// How a transparent instance meets what is behind it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub enum Blend {
    /// Covers what is behind by its opacity; drawn back to front.
    #[default]
    Alpha,
    /// Adds its light; order does not matter.
    Additive,
}

/// The look of a population of round soft billboards.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
#[non_exhaustive]
pub struct LookSpec {
    /// How it meets what is behind. Default alpha.
    pub blend: Blend,
    /// Colour over age. Default white.
    pub colour_over_age: Ramp<Colour>,
    /// Opacity over age, 0 to 1. Default 1.
    pub opacity_over_age: Ramp<f32>,
    /// Factor on the radius over age. Default 1.
    pub size_over_age: Ramp<f32>,
    /// Factor on the colour, 0 to 1e6; above 1 it glows. Default 1.
    pub glow: f32,
    /// How much of its colour comes from lights and sky and not from itself, 0 to 1. Default 0.
    pub lit: f32,
    /// Depth over which an instance fades into solid ground behind it, m, 0.001 to 1000. Default 0.05.
    pub soft: f32,
}

impl Default for LookSpec {
    fn default() -> Self {
        Self {
            blend: Blend::Alpha,
            colour_over_age: Ramp::constant(Colour::new(1.0, 1.0, 1.0)),
            opacity_over_age: Ramp::constant(1.0),
            size_over_age: Ramp::constant(1.0),
            glow: 1.0,
            lit: 0.0,
            soft: 0.05,
        }
    }
}

impl LookSpec {
    /// Additive light of this colour over age, given as sRGB `#rrggbb` stops, times `glow`.
    ///
    /// # Errors
    /// When a colour is not `#rrggbb`.
    pub fn glowing<'a>(
        glow: f32,
        stops: impl IntoIterator<Item = (f32, &'a str)>,
    ) -> Result<Self, SpecError> {
        Ok(Self { blend: Blend::Additive, glow, colour_over_age: hex_stops(stops)?, ..Self::default() })
    }

    /// Smoke-like cover of this colour over age, given as sRGB `#rrggbb` stops, lit by lights and sky.
    ///
    /// # Errors
    /// When a colour is not `#rrggbb`.
    pub fn covering<'a>(stops: impl IntoIterator<Item = (f32, &'a str)>) -> Result<Self, SpecError> {
        Ok(Self { lit: 1.0, colour_over_age: hex_stops(stops)?, ..Self::default() })
    }

    /// The same with this opacity over age.
    pub fn opacity(mut self, stops: impl IntoIterator<Item = (f32, f32)>) -> Self {
        self.opacity_over_age = Ramp::new(stops);
        self
    }

    /// The same with this factor on the radius over age.
    pub fn size(mut self, stops: impl IntoIterator<Item = (f32, f32)>) -> Self {
        self.size_over_age = Ramp::new(stops);
        self
    }

    /// Checks the look and tabulates its ramps.
    ///
    /// # Errors
    /// Names the key that is out of range.
    pub fn build(&self) -> Result<Look, SpecError> {
        self.colour_over_age.check("colour_over_age")?;
        self.opacity_over_age.check("opacity_over_age")?;
        self.size_over_age.check("size_over_age")?;
        if self.opacity_over_age.stops().iter().any(|&(_, opacity)| opacity > 1.0) {
            return Err(SpecError::new(
                "opacity_over_age",
                "an opacity is above 1",
                "write opacities from 0 to 1",
            ));
        }
        within("glow", self.glow, 0.0, 1e6, "")?;
        within("lit", self.lit, 0.0, 1.0, "")?;
        within("soft", self.soft, 0.001, 1000.0, "m")?;
        let at = |n: usize| n as f32 / LAST_ROW;
        let table = std::array::from_fn(|n| {
            let Colour { r, g, b } = self.colour_over_age.at(at(n));
            LookAtAge {
                colour: [r * self.glow, g * self.glow, b * self.glow],
                opacity: self.opacity_over_age.at(at(n)),
                size: self.size_over_age.at(at(n)),
            }
        });
        Ok(Look { table: Box::new(table), blend: self.blend, lit: self.lit, per_soft: 1.0 / self.soft })
    }
}

fn hex_stops<'a>(stops: impl IntoIterator<Item = (f32, &'a str)>) -> Result<Ramp<Colour>, SpecError> {
    let stop = |(at, text): (f32, &'a str)| {
        let colour = Colour::hex(text).ok_or_else(|| {
            SpecError::new("colour_over_age", format!("'{text}' is no colour"), "write \"#rrggbb\"")
        })?;
        Ok((at, colour))
    };
    Ok(Ramp::new(stops.into_iter().map(stop).collect::<Result<Vec<_>, SpecError>>()?))
}

/// Ages that a look is tabulated at: steps too small to see, in a table that stays in the first-level cache.
const TABLE: usize = 512;
const LAST_ROW: f32 = (TABLE - 1) as f32;

/// What a look is at one age.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(crate) struct LookAtAge {
    /// Colour with its glow, not yet times opacity.
    pub(crate) colour: [f32; 3],
    pub(crate) opacity: f32,
    /// Factor on the radius.
    pub(crate) size: f32,
}

/// A checked [`LookSpec`], ready for drawing.
#[derive(Debug, Clone)]
pub struct Look {
    table: Box<[LookAtAge; TABLE]>,
    pub(crate) blend: Blend,
    pub(crate) lit: f32,
    /// One over the depth of the soft edge, 1/m.
    pub(crate) per_soft: f32,
}

impl Look {
    /// The look at an age fraction; callers keep it within 0..=1.
    pub(crate) fn at(&self, age: f32) -> &LookAtAge {
        self.at_row((age * LAST_ROW + 0.5) as usize)
    }

    /// Rows of the table, not yet cut to whole ones, for age fractions.
    #[inline(always)]
    pub(crate) fn row<S: Simd>(age: f32x8<S>) -> f32x8<S> {
        age * LAST_ROW + 0.5
    }

    #[inline(always)]
    pub(crate) fn at_row(&self, row: usize) -> &LookAtAge {
        &self.table[row.min(TABLE - 1)]
    }

    /// Whether instances have to come back to front.
    pub fn needs_depth_order(&self) -> bool {
        self.blend == Blend::Alpha
    }
}

/// A point light. Its light falls off as `power / (distance² + radius²)`.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
#[non_exhaustive]
pub struct LightSpec {
    /// Where, m.
    pub position: [f32; 3],
    /// Colour. Default white.
    pub colour: Colour,
    /// Light on a wall 1 m away that faces it, 0 to 1e6. Default 1.
    pub power: f32,
    /// Radius of what shines, m, 0.001 to 1e4: closer than that the light grows no more. Default 0.5.
    pub radius: f32,
}

impl Default for LightSpec {
    fn default() -> Self {
        Self { position: [0.0; 3], colour: Colour::new(1.0, 1.0, 1.0), power: 1.0, radius: 0.5 }
    }
}

impl LightSpec {
    /// A light at a place, m, of a colour and power.
    pub fn new(position: [f32; 3], colour: Colour, power: f32) -> Self {
        Self { position, colour, power, ..Self::default() }
    }

    /// Whether the values are in range.
    ///
    /// # Errors
    /// Names the key that is not.
    pub fn check(&self) -> Result<(), SpecError> {
        vector_within("position", self.position, 1e6, "m")?;
        self.colour.check("colour")?;
        within("power", self.power, 0.0, 1e6, "")?;
        within("radius", self.radius, 0.001, 1e4, "m")
    }

    /// Light that arrives at a point, facing it.
    #[inline(always)]
    pub(crate) fn at(&self, point: Vec3) -> Vec3 {
        let d = Vec3::from(self.position) - point;
        self.colour.vec() * (self.power / (d.dot(d) + self.radius * self.radius))
    }
}
