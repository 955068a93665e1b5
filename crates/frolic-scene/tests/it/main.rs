//! The tests of this crate, one binary.

mod assets;
mod crowds;
#[cfg(feature = "gpu")]
mod device;
mod easing;
mod files;
mod flocks;
mod frame_budget;
mod growth;
mod live;
mod own_family;
mod particles;
mod parts;
mod running;
mod saved;
#[cfg(feature = "schema")]
mod schema;
mod state;
