//! Output of the command: results, progress, errors.

use std::io::{self, IsTerminal, Write};
use std::time::Duration;

use comfy_table::{Cell, CellAlignment, LineStyle, Table, TableStyle};
use frolic::prelude::{Counter, Frame, ImageSize};
use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};

/// Prints a line to standard output. If the pipe is closed the program ends quietly.
pub(crate) fn say(line: &str) {
    let mut out = io::stdout().lock();
    if let Err(error) = writeln!(out, "{line}").and_then(|()| out.flush()) {
        if error.kind() == io::ErrorKind::BrokenPipe {
            std::process::exit(0);
        }
        complain(&format!("standard output: {error}; files that were written are complete"));
        std::process::exit(2);
    }
}

/// Columns of the terminal that is printed to; 100 where there is none.
pub(crate) fn columns() -> u16 {
    terminal_size::terminal_size_of(io::stdout()).map_or(100, |(terminal_size::Width(columns), _)| columns)
}

/// Prints plain data as JSON.
pub(crate) fn say_json(value: &impl serde::Serialize) {
    // Plain data with string keys always serialises.
    say(&serde_json::to_string_pretty(value).unwrap_or_default());
}

/// Prints an error to standard error, in one or two lines.
pub(crate) fn complain(error: &dyn std::fmt::Display) {
    // Standard error is closed, so nothing can be reported.
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

/// Bytes to three digits that count.
pub(crate) fn bytes(count: u64) -> String {
    match count {
        0..1_000 => format!("{count} B"),
        1_000..1_000_000 => format!("{:.1} kB", count as f64 / 1e3),
        _ => format!("{:.1} MB", count as f64 / 1e6),
    }
}

/// A table with these names over its columns.
pub(crate) fn table(head: &[&str]) -> Table {
    let mut table = Table::new();
    let style = TableStyle::new().header_separator(LineStyle::none().fill('─').junction('─'));
    table.load_style(style).set_header(head);
    table
}

/// The counters of a frame as a table: draw calls and their reasons, drawn and culled elements, pixels, bytes.
pub(crate) fn stats(frame: &Frame, size: ImageSize) -> String {
    let count = |counter: Counter| group(frame.count(counter));
    let mut table = table(&["counter", "", "what it says"]);
    let mut row = |name: &str, value: String, says: &str| {
        table.add_row([
            Cell::new(name),
            Cell::new(value).set_alignment(CellAlignment::Right),
            Cell::new(says),
        ]);
    };
    row("draw_calls", count(Counter::DrawCalls), "batches handed to the backend");
    for (counter, says) in [
        (Counter::BreaksMesh, "started: the mesh or shape differs"),
        (Counter::BreaksLook, "started: the look differs"),
        (Counter::BreaksAtlas, "started: the atlas page differs"),
        (Counter::BreaksLayer, "started: a new layer, or transparent after solid"),
        (Counter::BreaksCapacity, "started: the batch before was full"),
    ] {
        row(counter.name(), count(counter), says);
    }
    let on_device = frame.count(Counter::Submits) > 0;
    if on_device {
        for (counter, says) in [
            (Counter::Instances, "in all draw calls, without device-resident elements"),
            (Counter::DeviceDraws, "draw calls recorded for the device, shadows included"),
            (Counter::Dispatches, "compute dispatches"),
            (Counter::Passes, "render and compute passes"),
            (Counter::PipelineChanges, "pipelines set"),
            (Counter::BindChanges, "bind groups set"),
            (Counter::Submits, "submissions"),
            (Counter::UploadedBytes, "written to the device"),
            (Counter::UploadedElementBytes, "of them elements"),
            (Counter::DownloadedBytes, "read back"),
            (Counter::DeviceBytes, "held on the device"),
            (Counter::ReadbackAge, "age of the latest counts read back, in frames"),
        ] {
            row(counter.name(), count(counter), says);
        }
        row("draw_bytes", count(Counter::DrawBytes), "held for the list");
        return table.to_string();
    }
    for (counter, says) in [
        (Counter::Instances, "in all draw calls"),
        (Counter::Culled, "of them outside the picture, or not yet emitted"),
        (Counter::CulledInChunks, "culled with their chunk, before any draw call"),
        (Counter::Thinned, "thinned out: far or small"),
        (Counter::Coarse, "drawn at coarse detail"),
        (Counter::Tiny, "meshes drawn as spots"),
        (Counter::ChunksKept, "chunks of instances that kept their records"),
        (Counter::Sorted, "sorted by depth for the list"),
        (Counter::Triangles, "of what was kept"),
        (Counter::Vertices, "worked on"),
        (Counter::ShadowRecords, "triangles and ribbons drawn into the shadow map"),
        (Counter::ShadowKept, "tiles of the shadow map kept from an earlier frame"),
        (Counter::BinRecords, "references in tiles; one record may touch several"),
        (Counter::Records, "discs, rectangles, triangles and pieces of ribbons"),
        (Counter::PixelsTouched, "covered, and not hidden when drawn"),
        (Counter::Samples, "of solid shapes, that passed the depth test"),
        (Counter::PixelsShaded, "in which a visible triangle was coloured"),
    ] {
        row(counter.name(), count(counter), says);
    }
    if frame.count(Counter::GroupHits) + frame.count(Counter::GroupMisses) > 0 {
        for (counter, says) in [
            (Counter::GroupHits, "groups drawn from cached pictures, and their shadows"),
            (Counter::GroupMisses, "groups whose pictures were rendered"),
            (Counter::GroupBytes, "of pictures, held"),
        ] {
            row(counter.name(), count(counter), says);
        }
    }
    let pixels = (size.width() * size.height()) as f64;
    row(
        "overdraw",
        format!("{:.2}", frame.count(Counter::PixelsTouched) as f64 / pixels),
        "pixels touched, over pixels of the picture",
    );
    row("draw_bytes", count(Counter::DrawBytes), "held for the list, bins and tiles");
    table.to_string()
}

/// A number with its thousands set apart.
fn group(number: u64) -> String {
    let digits = number.to_string();
    let mut out = String::new();
    for (nth, digit) in digits.chars().enumerate() {
        if nth > 0 && (digits.len() - nth).is_multiple_of(3) {
            out.push(' ');
        }
        out.push(digit);
    }
    out
}
