//! Bodies that keep apart on a device: limits that are those of the CPU.

use crate::world::apart;
use crate::world::bodies::KeepTo;

/// Most bodies of a population that keeps apart on a device.
pub const MOST_APART: u32 = 2_000_000;

/// How far pushes move a body in a step at most, in greatest radii.
pub const APART_MOST_PUSH: f32 = apart::MOST_PUSH;
/// Distance at which bodies count as touching, over the sum of their radii.
pub const APART_SKIN: f32 = apart::SKIN;
/// How much farther others may be before a sleeper misses them.
pub const APART_WIDER: f32 = apart::WIDER;
/// How far positions are shaken, over the radius.
pub const APART_SHAKE: f32 = apart::SHAKE;
/// Steps of rest after which a body sleeps.
pub const APART_TIRED: u32 = apart::TIRED as u32;
/// Speed below which a body counts as still, over that of rest.
pub const APART_CREEP: f32 = apart::CREEP;
/// Speed of one that wakes others, over that of rest.
pub const APART_LIVELY: f32 = apart::LIVELY;

/// 1 for each axis along which bodies that stay in a plane may move, else 0.
pub fn free_axes(keep_to: Option<KeepTo>) -> [f32; 3] {
    KeepTo::free(keep_to)
}
