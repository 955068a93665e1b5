//! The tests of this crate, one binary.

mod plans;
mod profiles;
mod reports;
mod statistics;
