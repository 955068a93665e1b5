//! Figures that go with the world's pushers, so that whoever bends the blades is seen.

use glam::Vec3;
use serde::{Deserialize, Serialize};

use crate::assets::Forms;
use crate::foundations::error::{SpecError, within};
use crate::placement::{Terrain, TerrainSpec};
use crate::world::pushers::Pushing;

/// How elements go with the world's pushers: one with each, turned the way it goes. Those without a pusher are not there.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
#[non_exhaustive]
pub struct WalkSpec {
    /// The ground that they stand on. Default they are as high as their pusher.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub terrain: Option<TerrainSpec>,
    /// The pusher that the first goes with, counted from 0. Default 0.
    pub first: u32,
    /// Length of a step, m, 0 to 100: they rise and fall with each. Default 0: they glide.
    pub stride: f32,
}

impl WalkSpec {
    /// With steps of a length, m, on a ground.
    pub fn new(stride: f32, terrain: Option<TerrainSpec>) -> Self {
        Self { terrain, stride, first: 0 }
    }

    /// The same from this pusher on, counted from 0.
    pub fn from(self, first: u32) -> Self {
        Self { first, ..self }
    }

    pub(crate) fn check(&self) -> Result<(), SpecError> {
        within("stride", self.stride, 0.0, 100.0, "m")?;
        self.terrain.as_ref().map_or(Ok(()), |it| it.check().map_err(|error| error.under("terrain")))
    }

    pub(crate) fn build(&self, forms: &Forms) -> Result<Walk, SpecError> {
        let terrain = self.terrain.as_ref().map(|terrain| terrain.build(forms)).transpose();
        let terrain = terrain.map_err(|error| error.under("terrain"))?;
        Ok(Walk { terrain, first: self.first as usize, stride: self.stride })
    }
}

/// A walk made ready.
#[derive(Debug)]
pub(crate) struct Walk {
    terrain: Option<Terrain>,
    /// The pusher of the first figure.
    pub(crate) first: usize,
    stride: f32,
}

/// How far a figure leans into its way, radians.
const LEAN: f32 = 0.05;

/// A figure at one moment.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(crate) struct Figure {
    pub(crate) at: Vec3,
    /// Way that it has gone, m.
    pub(crate) gone: f32,
    pub(crate) turn: f32,
    pub(crate) tilt: f32,
}

impl Walk {
    /// Where a figure is that was elsewhere a moment ago.
    pub(crate) fn go(&self, before: Figure, pushing: &Pushing) -> Figure {
        let Vec3 { x, y, z } = pushing.at;
        let ground = self.terrain.as_ref().and_then(|terrain| terrain.at(x, z)).map_or(y, |foot| foot.y);
        // What was nowhere has not gone anywhere yet.
        let way = libm::hypotf(x - before.at.x, z - before.at.z);
        let gone = if way.is_finite() { before.gone + way } else { 0.0 };
        // Highest in the middle of a step, when a leg is upright under it.
        let rise = if self.stride > 0.0 {
            libm::sinf(gone / self.stride * std::f32::consts::PI).abs() * self.stride * 0.06
        } else {
            0.0
        };
        let heads = pushing.heading != glam::Vec2::ZERO;
        let turn = if heads { libm::atan2f(pushing.heading.x, pushing.heading.y) } else { before.turn };
        Figure { at: Vec3::new(x, ground + rise, z), gone, turn, tilt: if heads { LEAN } else { 0.0 } }
    }
}
