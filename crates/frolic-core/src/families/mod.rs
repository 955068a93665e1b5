//! Families of elements, each with rules of its own. The rest of the house meets them through `poses.rs` and `world/bodies/`.

pub(crate) mod blades;
pub(crate) mod crowd;
pub(crate) mod fixed;
pub(crate) mod flock;
pub(crate) mod growing;
pub(crate) mod particles;
pub(crate) mod trail;
pub(crate) mod walkers;
