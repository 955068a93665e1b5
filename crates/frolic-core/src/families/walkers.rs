//! Figures that follow the pushers of the world, so that what bends the blades is visible.

use derive_setters::Setters;
use glam::Vec3;
use serde::{Deserialize, Serialize};

use crate::assets::Assets;
use crate::foundations::error::{SpecError, within};
use crate::placement::{Terrain, TerrainSpec};
use crate::world::World;
use crate::world::pushers::Pushing;

/// Elements that follow the pushers of the world, one each, turned along its way. Elements without a pusher are hidden.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize, Setters)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields, default)]
#[non_exhaustive]
pub struct WalkSpec {
    /// Terrain that they stand on. Default: none; they are as high as their pusher.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[setters(into)]
    pub terrain: Option<TerrainSpec>,
    /// Name of the pusher of the first element; elements after it take the pushers after that. Default: none, the world's first pusher.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[setters(skip)]
    pub pusher: Option<String>,
    /// Length of a stride, in metres, 0 to 100: elements rise and fall with each. Default: 0; they glide.
    pub stride: f32,
}

impl WalkSpec {
    /// A stride, in metres, on a terrain.
    pub fn new(stride: f32, terrain: Option<TerrainSpec>) -> Self {
        Self { terrain, stride, pusher: None }
    }

    /// Sets the name of the pusher of the first element.
    pub fn pusher(mut self, name: &str) -> Self {
        self.pusher = Some(name.to_owned());
        self
    }

    pub(crate) fn check(&self) -> Result<(), SpecError> {
        within("stride", self.stride, 0.0, 100.0, "m")?;
        self.terrain.as_ref().map_or(Ok(()), |it| it.check().map_err(|error| error.under("terrain")))
    }

    pub(crate) fn build(&self, assets: &Assets) -> Result<Walk, SpecError> {
        let terrain = self.terrain.as_ref().map(|terrain| terrain.build(assets)).transpose();
        let terrain = terrain.map_err(|error| error.under("terrain"))?;
        Ok(Walk { terrain, pusher: self.pusher.clone(), stride: self.stride })
    }
}

/// A prepared walk.
#[derive(Debug, Clone)]
pub(crate) struct Walk {
    terrain: Option<Terrain>,
    /// Name of the pusher of the first figure.
    pusher: Option<String>,
    stride: f32,
}

/// Lean of a figure into its way, in radians.
const LEAN: f32 = 0.05;

/// A figure at one moment.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(crate) struct Figure {
    pub(crate) at: Vec3,
    /// Way since the start, in metres.
    pub(crate) gone: f32,
    pub(crate) turn: f32,
    pub(crate) tilt: f32,
}

impl Walk {
    /// Index of the pusher of the first figure; none if the world has no pusher of its name.
    pub(crate) fn first(&self, world: &World) -> Option<usize> {
        self.pusher.as_deref().map_or(Some(0), |name| world.pusher_named(name))
    }

    /// The figure at a pusher, from its last state.
    pub(crate) fn go(&self, before: Figure, pushing: &Pushing) -> Figure {
        let Vec3 { x, y, z } = pushing.at;
        let ground = self.terrain.as_ref().and_then(|terrain| terrain.at(x, z)).map_or(y, |foot| foot.y);
        // A figure that was hidden starts without a way.
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
