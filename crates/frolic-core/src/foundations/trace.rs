//! Traces: while a [`Trace`] lives, it records every stage of every meter and every part of a parallel stage, with its thread.
//!
//! Without a trace a part costs one read of a flag. Each thread has a list of its own, of at most [`MOST`] spans.

use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use crate::foundations::meter::Stage;

/// Maximum number of spans of a thread.
pub const MOST: usize = 1 << 18;

/// Kind of a span.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[non_exhaustive]
pub enum What {
    /// A whole frame.
    Frame,
    /// A stage, as its meter timed it.
    Stage(Stage),
    /// The part of a stage that one thread did: a chunk, a tile, a band.
    Part(Stage),
}

/// A span of time on one thread.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Span {
    /// Kind of work.
    pub what: What,
    /// Start time.
    pub began: Instant,
    /// Duration.
    pub took: Duration,
}

/// All spans of one thread.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Lane {
    /// Name of the thread, or `thread` and a number.
    pub thread: String,
    /// Spans in the order in which they ended.
    pub spans: Vec<Span>,
    /// Number of spans that exceeded the limit and were dropped.
    pub lost: u64,
}

static ON: AtomicBool = AtomicBool::new(false);
static ONE: Mutex<()> = Mutex::new(());
static LANES: Mutex<Vec<Arc<Mutex<Lane>>>> = Mutex::new(Vec::new());

thread_local! {
    static MINE: Arc<Mutex<Lane>> = {
        let mut lanes = whole(&LANES);
        let thread = std::thread::current();
        let thread = thread.name().map_or_else(|| format!("thread {}", lanes.len()), str::to_owned);
        let lane = Arc::new(Mutex::new(Lane { thread, spans: Vec::new(), lost: 0 }));
        lanes.push(lane.clone());
        lane
    };
}

/// Locks a list; a panic of another thread leaves it valid.
fn whole<T>(lock: &Mutex<T>) -> MutexGuard<'_, T> {
    lock.lock().unwrap_or_else(PoisonError::into_inner)
}

/// Records spans while it lives. A process has one at a time; others wait.
///
/// ```
/// use frolic_core::trace::Trace;
/// use frolic_core::{Meter, Stage};
/// let trace = Trace::begin();
/// let mut meter = Meter::new();
/// meter.begin_frame();
/// let started = meter.start(Stage::Emit);
/// meter.stop(started);
/// meter.end_frame();
/// let lanes = trace.end();
/// assert_eq!(lanes.iter().map(|lane| lane.spans.len()).sum::<usize>(), 2);
/// ```
#[derive(Debug)]
pub struct Trace {
    _one: MutexGuard<'static, ()>,
}

impl Trace {
    /// Clears all lists and starts to record.
    pub fn begin() -> Self {
        let one = whole(&ONE);
        take();
        ON.store(true, Ordering::Relaxed);
        Self { _one: one }
    }

    /// Ends the trace. Returns the threads that have spans.
    pub fn end(self) -> Vec<Lane> {
        ON.store(false, Ordering::Relaxed);
        take()
    }
}

impl Drop for Trace {
    fn drop(&mut self) {
        ON.store(false, Ordering::Relaxed);
    }
}

/// Clears all lists, and removes those of threads that have ended.
fn take() -> Vec<Lane> {
    let mut taken = Vec::new();
    whole(&LANES).retain(|lane| {
        let is_alive = Arc::strong_count(lane) > 1;
        let mut lane = whole(lane);
        if !lane.spans.is_empty() {
            let spans = std::mem::take(&mut lane.spans);
            taken.push(Lane { thread: lane.thread.clone(), spans, lost: std::mem::take(&mut lane.lost) });
        }
        is_alive
    });
    taken
}

#[cold]
fn note(what: What, began: Instant, took: Duration) {
    // A thread that is ending has no list any more.
    let _ = MINE.try_with(|lane| {
        let mut lane = whole(lane);
        if lane.spans.len() < MOST {
            lane.spans.push(Span { what, began, took });
        } else {
            lane.lost += 1;
        }
    });
}

#[inline]
fn is_on() -> bool {
    ON.load(Ordering::Relaxed)
}

pub(crate) fn frame(began: Instant, took: Duration) {
    if is_on() {
        note(What::Frame, began, took);
    }
}

#[inline]
pub(crate) fn stage(stage: Stage, began: Instant, took: Duration) {
    if is_on() {
        note(What::Stage(stage), began, took);
    }
}

/// Part of a stage, from [`part`] until the value is dropped.
#[derive(Debug)]
pub struct Part(Option<(Stage, Instant)>);

/// Records that this thread works on a part of a stage until the returned value is dropped.
#[inline]
pub fn part(stage: Stage) -> Part {
    Part(is_on().then(|| (stage, Instant::now())))
}

impl Drop for Part {
    #[inline]
    fn drop(&mut self) {
        if let Some((stage, began)) = self.0 {
            note(What::Part(stage), began, began.elapsed());
        }
    }
}
