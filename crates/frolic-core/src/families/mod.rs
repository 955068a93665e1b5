//! Families of elements, each with rules of its own; all that the rest of the house knows of them is in `poses.rs` and `world/bodies/`.

pub(crate) mod blades;
pub(crate) mod fixed;
pub(crate) mod growing;
pub(crate) mod particles;
pub(crate) mod walkers;
