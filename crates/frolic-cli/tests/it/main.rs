//! The tests of this crate, one binary.

mod command;
mod demo;
mod device;
mod report;
mod watch;
