//! The tests of this crate, one binary.

mod assets;
#[cfg(feature = "gpu")]
mod device;
mod files;
mod growth;
mod keeper;
mod own_family;
mod particles;
mod parts;
mod running;
