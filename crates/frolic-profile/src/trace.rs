//! Spans of every thread in a few frames, for any viewer of the open trace-event format.

use std::time::{Duration, Instant};

use frolic_core::trace::{Lane, Span, Trace, What};
use serde_json::{Value, json};

use crate::numbers::short;
use crate::subject::Run;

/// Number of traced frames.
const FRAMES: usize = 3;

/// Frames longer than this are not repeated for a trace.
pub(crate) const LONGEST: Duration = Duration::from_secs(1);

/// Trace of a few frames at one count.
#[derive(Debug, Clone, PartialEq)]
#[non_exhaustive]
pub struct FrameTrace {
    /// Name of the variant.
    pub variant: String,
    /// Number of elements.
    pub count: u32,
    /// Spans of each thread.
    pub lanes: Vec<Lane>,
}

impl FrameTrace {
    /// Traces some untimed frames. Returns `None` if they are very long, fail, or belong to another process, whose threads are unknown.
    pub(crate) fn take(variant: &str, count: u32, run: &mut dyn Run) -> Option<Self> {
        if run.elsewhere().is_some() {
            return None;
        }
        let trace = Trace::begin();
        for _ in 0..FRAMES {
            if run.frame().ok()?.total() > LONGEST {
                return None;
            }
        }
        Some(Self { variant: variant.to_owned(), count, lanes: trace.end() })
    }
}

/// Traces in the JSON object form of the trace-event format: complete events (`ph` `X`, times in µs), a process for each variant, and its threads.
pub(crate) fn trace_events(traces: &[FrameTrace]) -> Value {
    let mut events = Vec::new();
    for (process, trace) in (1u32..).zip(traces) {
        let name = format!("{} at {}", trace.variant, short(trace.count));
        events.push(json!({ "ph": "M", "name": "process_name", "pid": process, "args": { "name": name } }));
        let spans = trace.lanes.iter().flat_map(|lane| &lane.spans);
        let Some(first) = spans.map(|span| span.began).min() else { continue };
        for (thread, lane) in (1u32..).zip(&trace.lanes) {
            let name = &lane.thread;
            events.push(json!({
                "ph": "M", "name": "thread_name", "pid": process, "tid": thread, "args": { "name": name }
            }));
            events.extend(lane.spans.iter().map(|span| event(span, first, process, thread)));
            if lane.lost > 0 {
                let (at, lost) = (micros(span_end(lane).duration_since(first)), lane.lost);
                events.push(json!({
                    "ph": "i", "s": "t", "name": "no more room", "pid": process, "tid": thread, "ts": at,
                    "args": { "spans lost": lost }
                }));
            }
        }
    }
    json!({ "displayTimeUnit": "ms", "traceEvents": events })
}

fn event(span: &Span, first: Instant, process: u32, thread: u32) -> Value {
    let (name, category) = match span.what {
        What::Frame => ("frame", "frame"),
        What::Stage(stage) => (stage.name(), "stage"),
        What::Part(stage) => (stage.name(), "part"),
        _ => ("other", "other"),
    };
    json!({
        "ph": "X", "name": name, "cat": category, "pid": process, "tid": thread,
        "ts": micros(span.began.duration_since(first)), "dur": micros(span.took)
    })
}

fn span_end(lane: &Lane) -> Instant {
    lane.spans.last().map_or_else(Instant::now, |span| span.began + span.took)
}

fn micros(time: Duration) -> f64 {
    time.as_nanos() as f64 / 1e3
}
