//! The tests of this crate, one binary.

mod ceilings;
mod comparisons;
mod loads;
mod other_programs;
mod own_stages;
mod plans;
mod profiles;
mod reports;
mod statistics;
