//! Load of the machine: a short reference loop between samples, and resources counted by the system.
//!
//! The loop always does the same work, so its time shows the state of the machine. One half is arithmetic in registers, the other reads
//! memory beyond all caches.

use std::hint::black_box;
use std::time::{Duration, Instant};

use cpu_time::ProcessTime;
use serde::{Deserialize, Serialize};

/// Bytes read by the memory half, a window at a time: more than a last-level cache.
const MEMORY: usize = 96 << 20;
/// Bytes of a window.
const WINDOW: usize = 2 << 20;
/// Rounds of the arithmetic half.
const ROUNDS: u32 = 3_000;

/// Factor over the sweep's median from which the machine counts as disturbed.
const DISTURBED: f64 = 1.25;

/// Time of the reference loop, in milliseconds.
#[derive(Debug, Clone, Copy, Default, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Pace {
    /// Arithmetic half.
    pub compute: f64,
    /// Memory half.
    pub memory: f64,
}

impl Pace {
    /// Factor by which it is slower than another: the greater of both ratios.
    pub fn over(self, usual: Self) -> f64 {
        (self.compute / usual.compute.max(1e-9)).max(self.memory / usual.memory.max(1e-9))
    }

    /// Returns whether the machine was disturbed, compared with its usual pace.
    pub fn is_disturbed(self, usual: Self) -> bool {
        self.over(usual) > DISTURBED
    }
}

/// The loop, with the memory that it reads.
#[derive(Debug)]
pub struct Reference {
    memory: Vec<f32>,
    at: usize,
}

impl Default for Reference {
    fn default() -> Self {
        Self { memory: vec![1.0; MEMORY / size_of::<f32>()], at: 0 }
    }
}

impl Reference {
    /// Measures the machine's pace, in under a millisecond.
    pub fn pace(&mut self) -> Pace {
        let ms = |started: Instant| started.elapsed().as_secs_f64() * 1e3;
        let started = Instant::now();
        let mut sums = [1.0f32; 16];
        for _ in 0..black_box(ROUNDS) {
            for sum in &mut sums {
                *sum = *sum * 0.999_9 + 1e-4;
            }
        }
        black_box(sums);
        let compute = ms(started);
        let window = WINDOW / size_of::<f32>();
        self.at = (self.at + window) % (self.memory.len() - window);
        let started = Instant::now();
        let mut sums = [0.0f32; 16];
        for chunk in self.memory[self.at..self.at + window].chunks_exact(16) {
            for (sum, value) in sums.iter_mut().zip(chunk) {
                *sum += value;
            }
        }
        black_box(sums);
        Pace { compute, memory: ms(started) }
    }
}

/// Resources of this process counted by the system so far; 0 where it counts none.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Counted {
    /// Voluntary context switches.
    pub switches: u64,
    /// Involuntary context switches.
    pub forced_switches: u64,
    /// Minor page faults.
    pub faults: u64,
    /// Major page faults.
    pub disk_faults: u64,
}

impl Counted {
    /// Returns the present counts over all threads.
    pub fn now() -> Self {
        let mut counted = Self::default();
        if let Ok(threads) = std::fs::read_dir("/proc/self/task") {
            for thread in threads.flatten() {
                let Ok(status) = std::fs::read_to_string(thread.path().join("status")) else { continue };
                let field = |name: &str| {
                    let line = status.lines().find_map(|line| line.strip_prefix(name));
                    line.and_then(|rest| rest.trim().parse::<u64>().ok()).unwrap_or(0)
                };
                counted.switches += field("voluntary_ctxt_switches:");
                counted.forced_switches += field("nonvoluntary_ctxt_switches:");
            }
        }
        if let Ok(stat) = std::fs::read_to_string("/proc/self/stat") {
            // After the name, which is in brackets and may hold anything.
            let fields: Vec<&str> = stat.rsplit(") ").next().unwrap_or("").split(' ').collect();
            let field = |nth: usize| fields.get(nth).and_then(|field| field.parse().ok()).unwrap_or(0);
            (counted.faults, counted.disk_faults) = (field(7), field(9));
        }
        counted
    }

    /// Returns the difference to an earlier count.
    pub fn since(self, before: Self) -> Self {
        Self {
            switches: self.switches.saturating_sub(before.switches),
            forced_switches: self.forced_switches.saturating_sub(before.forced_switches),
            faults: self.faults.saturating_sub(before.faults),
            disk_faults: self.disk_faults.saturating_sub(before.disk_faults),
        }
    }
}

/// State of the machine during a point.
#[derive(Debug, Clone, Copy, Default, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[non_exhaustive]
pub struct Noise {
    /// Cores kept busy by the process: processor time over wall time.
    pub cores: f64,
    /// Factor by which the reference loop was slower than its median over the sweep; 1 is usual.
    pub slowdown: f64,
    /// Number of frames timed while other work disturbed the machine. They are counted like the others.
    pub disturbed: u64,
    /// Voluntary and involuntary context switches, minor and major page faults, each for one frame.
    pub switches: f64,
    /// See `switches`.
    pub forced_switches: f64,
    /// See `switches`.
    pub faults: f64,
    /// See `switches`.
    pub disk_faults: f64,
}

/// Watches the process over a turn.
#[derive(Debug)]
pub(crate) struct Watch {
    started: Instant,
    cpu: ProcessTime,
    counted: Counted,
}

/// Resources of one turn.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
pub(crate) struct Taken {
    pub(crate) wall: Duration,
    pub(crate) cpu: Duration,
    pub(crate) counted: Counted,
}

impl Watch {
    pub(crate) fn start() -> Self {
        let counted = Counted::now();
        Self { started: Instant::now(), cpu: ProcessTime::now(), counted }
    }

    pub(crate) fn stop(self) -> Taken {
        let (wall, cpu) = (self.started.elapsed(), self.cpu.elapsed());
        Taken { wall, cpu, counted: Counted::now().since(self.counted) }
    }
}

/// Memory of the process in bytes, without the buffer of a [`Reference`].
pub(crate) fn memory() -> u64 {
    memory_of_process().saturating_sub(MEMORY as u64)
}

/// Memory held by the process, in bytes.
pub(crate) fn memory_of_process() -> u64 {
    memory_stats::memory_stats().map_or(0, |stats| stats.physical_mem as u64)
}
