//! Who did what when: while a [`Trace`] is on, every stage of every meter and every part of a parallel stage is noted with its thread.
//!
//! While none is on it costs one read of a flag a part. Each thread notes in a list of its own, at most [`MOST`] spans.

use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use crate::foundations::meter::Stage;

/// Most spans a thread.
pub const MOST: usize = 1 << 18;

/// What took a stretch of time.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[non_exhaustive]
pub enum What {
    /// A whole frame.
    Frame,
    /// A stage, as its meter timed it.
    Stage(Stage),
    /// A thread's part of a stage: a chunk, a tile, a band.
    Part(Stage),
}

/// A stretch of time on one thread.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Span {
    /// What took it.
    pub what: What,
    /// When it began.
    pub began: Instant,
    /// How long it took.
    pub took: Duration,
}

/// All that one thread did.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Lane {
    /// The thread's name, or `thread` and a number.
    pub thread: String,
    /// In the order in which they ended.
    pub spans: Vec<Span>,
    /// Spans for which there was no more room.
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

/// A list that is whole even where somebody panicked.
fn whole<T>(lock: &Mutex<T>) -> MutexGuard<'_, T> {
    lock.lock().unwrap_or_else(PoisonError::into_inner)
}

/// Spans are noted while this lives; one at a time in a process, others wait.
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
    /// Forgets what was noted before and notes from here on.
    pub fn begin() -> Self {
        let one = whole(&ONE);
        take();
        ON.store(true, Ordering::Relaxed);
        Self { _one: one }
    }

    /// Ends it; the threads that did something.
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

/// Empties all lanes, and forgets those of threads that have ended.
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
    // A thread that is ending has nowhere to note it any more.
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

/// A part of a stage, from [`part`] until it is dropped.
#[derive(Debug)]
pub struct Part(Option<(Stage, Instant)>);

/// Notes that this thread does a part of a stage, until what it returns is dropped.
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
