//! The tests of this crate, one binary.

mod profiles;
mod reports;
mod statistics;
