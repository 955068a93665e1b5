//! Plain numbers for stepping a population elsewhere, such as on a graphics device: colliders, fields, births, and the limits of each.

mod apart;
mod colliders;
mod fields;
mod flock;
mod limits;

pub use apart::*;
pub use colliders::*;
pub use fields::*;
pub use flock::*;
pub use limits::*;

pub use crate::families::particles::{
    Births, Due, EmitterAxes, Emitters, MOST_BURSTS, TrailClock, event_seed,
};
pub use crate::world::bodies::Motion;
pub use crate::world::fields::Attractor;
pub use crate::world::gusts::{GUST_SEED, Gusts, ON_EDGE};
pub use crate::world::obstacles::{HELD, MOST_TOUCHES, SKIN};
