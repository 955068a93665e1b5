//! What the command prints: results, progress, complaints.

use std::io::{self, IsTerminal, Write};
use std::time::Duration;

use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};

/// Prints a line to standard output. A closed pipe ends the program quietly, as whoever reads has seen enough.
pub(crate) fn say(line: &str) {
    let mut out = io::stdout().lock();
    if writeln!(out, "{line}").and_then(|()| out.flush()).is_err() {
        std::process::exit(0);
    }
}

/// Prints plain data as JSON.
pub(crate) fn say_json(value: &impl serde::Serialize) {
    // Plain data with string keys always serialises.
    say(&serde_json::to_string_pretty(value).unwrap_or_default());
}

/// Prints an error to standard error, in one or two lines.
pub(crate) fn complain(error: &dyn std::fmt::Display) {
    // With standard error closed there is nobody left to tell.
    let _ = writeln!(io::stderr(), "frolic: {error}");
}

/// A progress bar on standard error; shown after half a second, and only on a terminal.
pub(crate) fn progress(total: u64, what: &str) -> ProgressBar {
    let target = if io::stderr().is_terminal() {
        ProgressDrawTarget::stderr_with_hz(10)
    } else {
        ProgressDrawTarget::hidden()
    };
    let bar = ProgressBar::with_draw_target(Some(total), target);
    let style =
        ProgressStyle::with_template("{prefix} {bar:30} {percent:>3}% {elapsed}, {eta} to go  {wide_msg}");
    bar.set_style(style.unwrap_or_else(|_| ProgressStyle::default_bar()).progress_chars("━━─"));
    bar.set_prefix(what.to_owned());
    bar
}

/// Milliseconds to three digits that count.
pub(crate) fn ms(time: Duration) -> String {
    let ms = time.as_secs_f64() * 1e3;
    if ms < 10.0 { format!("{ms:.2} ms") } else { format!("{ms:.0} ms") }
}
