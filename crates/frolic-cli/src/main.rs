//! The `frolic` command.
//!
//! `args.rs` is the one list of commands and flags; each command is a file of its own under `commands/`. Results go to standard
//! output, progress and errors to standard error. Exit codes: 0 done, 1 a check failed or the run was cut short, 2 bad input.

#![warn(clippy::unwrap_used, clippy::print_stdout, clippy::print_stderr)]

mod args;
mod commands;
mod output;

use std::process::ExitCode;

use clap::Parser;

fn main() -> ExitCode {
    let arguments = args::Arguments::parse();
    match commands::run(&arguments.command) {
        Ok(outcome) => outcome.into(),
        Err(error) => {
            output::complain(&error);
            // A device that went away cut the run short; anything else was bad input.
            ExitCode::from(if error.is_device() { 1 } else { 2 })
        }
    }
}
