//! A finished (or interrupted) profile as plain data: the content of `profile.json`.

use frolic_core::{Counter, Frame, Stage};
use serde::{Deserialize, Serialize};

use crate::stats::{median, quantile};

/// Version of `profile.json`.
pub const FORMAT_VERSION: u32 = 1;

/// Everything measured, and what is needed to measure it again.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[non_exhaustive]
pub struct Profile {
    /// Version of the format: 1.
    pub frolic_profile: u32,
    /// Name of the scene.
    pub scene: String,
    /// The scene, as TOML.
    pub scene_text: String,
    /// The population whose count climbs.
    pub population: String,
    /// Frames timed a point.
    pub frames: u32,
    /// A variant stops climbing when a frame takes longer, ms.
    pub frame_limit_ms: f64,
    /// Where it was measured.
    pub machine: Machine,
    /// Whether it was interrupted; what is there is whole.
    pub interrupted: bool,
    /// What went wrong with a graphics device on the way, if anything; what is there is whole.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub fault: Option<String>,
    /// One entry a variant.
    pub variants: Vec<VariantProfile>,
}

/// Where a profile was measured.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[non_exhaustive]
pub struct Machine {
    /// Processor architecture.
    pub architecture: String,
    /// Operating system.
    pub system: String,
    /// Instruction set of the hot loops.
    pub instruction_set: String,
    /// Threads the machine offers.
    pub threads: u32,
    /// Version of Frolic.
    pub frolic: String,
    /// The graphics device, where a variant was drawn by one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub device: Option<String>,
}

/// One variant's curve.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[non_exhaustive]
pub struct VariantProfile {
    /// Its settings in words: values, with the last part of their key where they are numbers; the
    /// scene's name when nothing varies.
    pub name: String,
    /// The keys set, with their values.
    pub settings: Vec<(String, String)>,
    /// Measured counts, rising.
    pub points: Vec<Point>,
    /// Why it did not reach the top, if it did not.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub stopped: Option<Stop>,
}

/// Why a variant stopped climbing.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[non_exhaustive]
pub struct Stop {
    /// The count that was not finished.
    pub count: u32,
    /// Why.
    pub reason: String,
}

/// What was measured at one count.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[non_exhaustive]
pub struct Point {
    /// Elements of the climbing population that were asked for.
    pub count: u32,
    /// Elements alive in all populations, median frame.
    pub alive: u64,
    /// Frame times, ms.
    pub frame: Times,
    /// Processor time of all threads a frame, mean, ms.
    pub cpu_ms: f64,
    /// Median time of each stage, ms, in the order of a frame; what is outside all stages comes last, as `other`.
    pub stages: Vec<StageTime>,
    /// Draw calls a frame, median.
    pub draw_calls: u64,
    /// Every counter of the median frame.
    pub counters: Vec<(String, u64)>,
    /// Bytes held for elements and for drawing them, over the elements alive.
    pub bytes_per_element: f64,
    /// Most memory that the process held while this was measured, bytes; 0 where the system does not tell.
    pub peak_memory: u64,
}

/// Spread of frame times, ms.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[non_exhaustive]
pub struct Times {
    /// Half of all frames were faster.
    pub median: f64,
    /// 95 of 100 were faster.
    pub p95: f64,
    /// 99 of 100 were faster.
    pub p99: f64,
    /// The slowest.
    pub worst: f64,
}

/// A stage's share of a frame.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[non_exhaustive]
pub struct StageTime {
    /// Its name.
    pub stage: String,
    /// Its median time, ms.
    pub ms: f64,
}

impl Point {
    /// Sums up the frames of one count, of which there is at least one.
    pub(crate) fn of(count: u32, frames: &[Frame], cpu_ms: f64, peak_memory: u64) -> Self {
        let ms = |time: std::time::Duration| time.as_secs_f64() * 1e3;
        let mut totals: Vec<f64> = frames.iter().map(|frame| ms(frame.total())).collect();
        totals.sort_by(f64::total_cmp);
        let frame = Times {
            median: quantile(&totals, 0.5),
            p95: quantile(&totals, 0.95),
            p99: quantile(&totals, 0.99),
            worst: quantile(&totals, 1.0),
        };
        let middle = |value: &dyn Fn(&Frame) -> f64| median(&frames.iter().map(value).collect::<Vec<_>>());
        let mut stages: Vec<StageTime> = Stage::ALL
            .iter()
            .map(|&stage| StageTime {
                stage: stage.name().to_owned(),
                ms: middle(&|frame| ms(frame.stage(stage))),
            })
            .collect();
        stages.push(StageTime { stage: "other".to_owned(), ms: middle(&|frame| ms(frame.other())) });
        let counter = |counter: Counter| middle(&|frame| frame.count(counter) as f64) as u64;
        let alive = counter(Counter::Alive);
        let bytes = counter(Counter::ElementBytes) + counter(Counter::DrawBytes);
        Self {
            count,
            alive,
            frame,
            cpu_ms,
            stages,
            draw_calls: counter(Counter::DrawCalls),
            counters: Counter::ALL.iter().map(|&c| (c.name().to_owned(), counter(c))).collect(),
            bytes_per_element: bytes as f64 / alive.max(1) as f64,
            peak_memory,
        }
    }

    /// The stages that took longest, longest first.
    pub fn costliest(&self) -> Vec<&StageTime> {
        let mut stages: Vec<&StageTime> = self.stages.iter().collect();
        stages.sort_by(|a, b| b.ms.total_cmp(&a.ms));
        stages
    }
}
