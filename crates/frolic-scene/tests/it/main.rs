//! The tests of this crate, one binary.

#[cfg(feature = "gpu")]
mod device;
mod files;
mod forms;
mod growth;
mod keeper;
mod own_family;
mod particles;
mod parts;
mod running;
