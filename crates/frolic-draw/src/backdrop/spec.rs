//! What a backdrop is described by.

use derive_setters::Setters;
use frolic_core::{SpecError, within};
use glam::Vec3;
use serde::{Deserialize, Serialize};

use crate::colour::Colour;
use crate::lamps::SunSpec;

/// Everything behind the elements.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize, Setters)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields, default)]
#[non_exhaustive]
pub struct BackdropSpec {
    /// The sky.
    pub sky: SkySpec,
    /// Flat ground. Default: none.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[setters(into)]
    pub ground: Option<GroundSpec>,
    /// Water out to the horizon. Default: none.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[setters(into)]
    pub water: Option<WaterSpec>,
}

/// A sky gradient with an afterglow.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, Setters)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields, default)]
#[non_exhaustive]
pub struct SkySpec {
    /// Colour at the zenith. Default: a dusk blue.
    pub zenith: Colour,
    /// Colour at the horizon, and of the haze.
    pub horizon: Colour,
    /// Angle in degrees over which the sky blends into the horizon's colour on both sides, 0 to 90: hides the horizon in mist or under
    /// water. Default: 0.
    pub soft_degrees: f32,
    /// Colour of the afterglow at the horizon. Default: none.
    pub afterglow: Colour,
    /// Bearing of the afterglow in degrees, from -z towards x.
    pub afterglow_degrees: f32,
    /// Brightness of stars, 0 to 100. Default: 0.
    pub stars: f32,
    /// Distance in metres at which haze hides two thirds of an object's colour, 1 to 1e6. Default: 4000.
    pub haze: f32,
    /// Height of a far coast above the horizon in degrees, 0 to 45. Default: 0: open sea.
    pub coast_degrees: f32,
    /// Albedo of the coast in sunlight; without a sun it is dark. Default: a muted green.
    pub coast_colour: Colour,
}

impl Default for SkySpec {
    fn default() -> Self {
        Self {
            zenith: Colour::new(0.02, 0.04, 0.10),
            horizon: Colour::new(0.16, 0.18, 0.24),
            soft_degrees: 0.0,
            afterglow: Colour::default(),
            afterglow_degrees: 0.0,
            stars: 0.0,
            haze: 4000.0,
            coast_degrees: 0.0,
            coast_colour: Colour::new(0.10, 0.14, 0.08),
        }
    }
}

/// Flat ground at height 0.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, Setters)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields, default)]
#[non_exhaustive]
pub struct GroundSpec {
    /// Albedo. Default: dark turf.
    pub colour: Colour,
    /// Distance from the origin to the ragged shore in metres, 0.1 to 1e6. Default: 1e6.
    pub radius: f32,
    /// Strength of mottling, 0 to 1. Default: 0.5.
    pub mottled: f32,
}

impl Default for GroundSpec {
    fn default() -> Self {
        Self { colour: Colour::new(0.10, 0.11, 0.08), radius: 1e6, mottled: 0.5 }
    }
}

/// Still water that reflects the sky.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, Setters)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields, default)]
#[non_exhaustive]
pub struct WaterSpec {
    /// Height of the surface in metres, -1e4 to 0. Default: -1.
    pub level: f32,
    /// Colour seen from straight above.
    pub colour: Colour,
    /// Slope of the waves, 0 to 1. Default: 0.05.
    pub waves: f32,
}

impl Default for WaterSpec {
    fn default() -> Self {
        Self { level: -1.0, colour: Colour::new(0.01, 0.02, 0.03), waves: 0.05 }
    }
}

impl BackdropSpec {
    /// A sky of one colour and nothing else, for transparent images.
    pub fn plain(light: f32) -> Self {
        let mut backdrop = Self::default();
        backdrop.sky.zenith = Colour::new(light, light, light);
        backdrop.sky.horizon = backdrop.sky.zenith;
        backdrop
    }

    /// Its light, if it is the same in all directions.
    pub(super) fn one_colour(&self, sun: Option<&SunSpec>) -> Option<[f32; 3]> {
        let sky = &self.sky;
        let even = sky.zenith == sky.horizon && sky.afterglow == Colour::default() && sky.stars == 0.0;
        let empty = sky.coast_degrees == 0.0 && self.ground.is_none() && self.water.is_none();
        (even && empty && sun.is_none()).then(|| sky.zenith.vec().to_array())
    }

    /// Checks that all values are in range.
    ///
    /// # Errors
    /// Names the key that is out of range.
    pub fn check(&self) -> Result<(), SpecError> {
        let sky = &self.sky;
        sky.zenith.check("sky.zenith")?;
        sky.horizon.check("sky.horizon")?;
        within("sky.soft_degrees", sky.soft_degrees, 0.0, 90.0, "degrees")?;
        sky.afterglow.check("sky.afterglow")?;
        within("sky.afterglow_degrees", sky.afterglow_degrees, -360.0, 360.0, "degrees")?;
        within("sky.stars", sky.stars, 0.0, 100.0, "")?;
        within("sky.haze", sky.haze, 1.0, 1e6, "m")?;
        within("sky.coast_degrees", sky.coast_degrees, 0.0, 45.0, "degrees")?;
        sky.coast_colour.check("sky.coast_colour")?;
        if let Some(ground) = &self.ground {
            ground.colour.check("ground.colour")?;
            within("ground.radius", ground.radius, 0.1, 1e6, "m")?;
            within("ground.mottled", ground.mottled, 0.0, 1.0, "")?;
        }
        if let Some(water) = &self.water {
            water.colour.check("water.colour")?;
            within("water.level", water.level, -1e4, 0.0, "m")?;
            within("water.waves", water.waves, 0.0, 1.0, "")?;
        }
        Ok(())
    }

    /// Light from the sky on surfaces that face up.
    pub(crate) fn ambient(&self) -> Vec3 {
        self.sky.zenith.vec() * 0.6 + self.sky.horizon.vec() * 0.4
    }

    /// Light reflected by ground or water onto surfaces that face down.
    pub(crate) fn bounce(&self, sun: Option<&SunSpec>) -> Vec3 {
        let received = self.ambient() + sun.map_or(Vec3::ZERO, |sun| sun.light() * sun.towards().y);
        match (&self.ground, &self.water) {
            (Some(ground), _) => ground.colour.vec() * received,
            // Water mirrors more than it sends back.
            (None, Some(water)) => water.colour.vec() * received + self.ambient() * 0.3,
            (None, None) => self.ambient() * 0.5,
        }
    }
}
