//! A finished (or interrupted) profile as plain data: the content of `profile.json`.

use frolic_core::limits::Limits;
use frolic_core::{Counter, Frame, Stage};
use frolic_statistics::{Interval, bootstrap, median, quantile, quantile_of, resolved_phases, warm_up};
use serde::{Deserialize, Serialize};

use crate::growth::Growth;
use crate::noise::{Noise, Pace, Taken};
use crate::pictures::PictureDifference;
use crate::trace::FrameTrace;

/// Version of `profile.json`.
pub const FORMAT_VERSION: u32 = 2;

/// A measured profile, with everything needed to repeat the measurement.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[non_exhaustive]
pub struct Profile {
    /// Version of the format: 2.
    pub frolic_profile: u32,
    /// Name of the scene.
    pub scene: String,
    /// The scene, as TOML.
    pub scene_text: String,
    /// Population whose count is varied.
    pub population: String,
    /// Most timed frames of a point.
    pub frames: u32,
    /// Half width of a median's interval, as a fraction of it, at which a point is precise enough.
    pub within: f64,
    /// Target frame time, in milliseconds. Longer frames count as missed.
    pub target_ms: f64,
    /// Frame time at which a variant stops, in milliseconds.
    pub frame_limit_ms: f64,
    /// Machine that measured it.
    pub machine: Machine,
    /// Median time of the reference loop.
    pub pace: Pace,
    /// Differences of the other variants' pictures to the first.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub pictures: Vec<PictureDifference>,
    /// True if it was interrupted. Finished counts are complete.
    pub interrupted: bool,
    /// Error of a graphics device that ended the profile, if any. Finished counts are complete.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub fault: Option<String>,
    /// Variants.
    pub variants: Vec<VariantProfile>,
    /// Spans of every thread in a few frames of each variant's highest count; stored in `trace.json` only.
    #[serde(skip)]
    pub traces: Vec<FrameTrace>,
}

/// The machine of a profile.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[non_exhaustive]
pub struct Machine {
    /// Processor architecture.
    pub architecture: String,
    /// Operating system.
    pub system: String,
    /// Instruction set of the hot loops.
    pub instruction_set: String,
    /// Number of hardware threads.
    pub threads: u32,
    /// Version of Frolic.
    pub frolic: String,
    /// Limits of the machine, measured at the start.
    pub limits: Limits,
    /// Graphics device, if a variant used one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub device: Option<String>,
}

/// Measurements of one variant.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[non_exhaustive]
pub struct VariantProfile {
    /// Name: its settings, as values, with the last part of their key for numbers; the
    /// scene's name when nothing varies.
    pub name: String,
    /// Keys that were set, with their values.
    pub settings: Vec<(String, String)>,
    /// Points, by rising count.
    pub points: Vec<Point>,
    /// Growth of its times with count; needs at least two counts.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub growth: Option<VariantGrowth>,
    /// Reason for stopping before the highest count, if it did.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub stopped: Option<Stop>,
}

/// Reason for stopping at a count.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[non_exhaustive]
pub struct Stop {
    /// Count that was not finished.
    pub count: u32,
    /// Reason.
    pub reason: String,
}

/// Growth of a variant's times with count.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[non_exhaustive]
pub struct VariantGrowth {
    /// Growth of the median frame.
    pub frame: Growth,
    /// Stages of at least 2 % of the frame at the highest count, in the order in which they alone reach the target.
    pub stages: Vec<StageGrowth>,
}

/// Growth of one stage.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[non_exhaustive]
pub struct StageGrowth {
    /// Name of the stage.
    pub stage: String,
    /// Growth.
    pub growth: Growth,
    /// Count at which the stage alone reaches the target frame time; none if it does not grow.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub fills_at: Option<f64>,
}

/// Measurements at one count.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[non_exhaustive]
pub struct Point {
    /// Requested number of elements of the measured population.
    pub count: u32,
    /// Elements alive in all populations, in the median frame.
    pub alive: u64,
    /// Frame times, in milliseconds.
    pub frame: Times,
    /// Number of timed frames, and of warm-up frames before them.
    pub frames: u64,
    /// See `frames`.
    pub warm_up: u64,
    /// Mean processor time of all threads in one frame, in milliseconds.
    pub cpu_ms: f64,
    /// Median time of each stage in milliseconds, in the order of a frame; `other` is the time outside all stages.
    pub stages: Vec<StageTime>,
    /// Median number of draw calls.
    pub draw_calls: u64,
    /// All counters of the median frame.
    pub counters: Vec<(String, u64)>,
    /// Bytes held for elements and for drawing them, over the number of live elements.
    pub bytes_per_element: f64,
    /// Peak memory of the process during the measurement, and its memory at the end, in bytes; 0 if the system does not
    /// report it.
    pub peak_memory: u64,
    /// See `peak_memory`.
    pub memory: u64,
    /// State of the machine during the measurement.
    pub noise: Noise,
    /// Number of phases of the scene's cycle that were timed in turn.
    pub phases: u32,
    /// Frames by turn.
    pub rounds: Vec<Round>,
}

/// Frames of one turn.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[non_exhaustive]
pub struct Round {
    /// Frame times, in milliseconds.
    pub ms: Vec<f64>,
    /// Reference loop around them.
    pub pace: Pace,
    /// True if other work disturbed the machine.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub disturbed: bool,
}

impl AsRef<[f64]> for Round {
    fn as_ref(&self) -> &[f64] {
        &self.ms
    }
}

/// Distribution of frame times, in milliseconds.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[non_exhaustive]
pub struct Times {
    /// Median.
    pub median: f64,
    /// 95 % confidence interval of the median, by resampling rounds.
    pub interval: Interval,
    /// 95th percentile.
    pub p95: f64,
    /// 95 % confidence interval of the 95th percentile.
    pub p95_interval: Interval,
    /// 99th percentile.
    pub p99: f64,
    /// Slowest frame.
    pub worst: f64,
    /// Fraction of frames longer than the target.
    pub missed: f64,
}

/// Time of one stage.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[non_exhaustive]
pub struct StageTime {
    /// Name of the stage.
    pub stage: String,
    /// Median time, in milliseconds.
    pub ms: f64,
    /// Median bytes moved in a frame: reads and writes of columns, keys, records and pixels. 0 for stages without a count.
    #[serde(default)]
    pub bytes: u64,
    /// Achieved fraction of the memory bandwidth, or of the last cache's if all data fits. None without a byte count.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub of_limit: Option<f64>,
    /// Median in each round, in milliseconds.
    pub rounds: Vec<f64>,
}

/// A turn as it was measured.
#[derive(Debug, Clone, Default)]
pub(crate) struct Turn {
    pub(crate) frames: Vec<Frame>,
    pub(crate) taken: Taken,
    /// Reference loop before and after.
    pub(crate) pace: Option<[Pace; 2]>,
    /// Bytes held: most, and last.
    pub(crate) peak: u64,
    pub(crate) memory: u64,
}

pub(crate) fn ms(time: std::time::Duration) -> f64 {
    time.as_secs_f64() * 1e3
}

impl Turn {
    pub(crate) fn totals(&self) -> Vec<f64> {
        self.frames.iter().map(|frame| ms(frame.total())).collect()
    }

    fn pace(&self) -> Pace {
        let [before, after] = self.pace.unwrap_or_default();
        let middle = |a: f64, b: f64| (a + b) * 0.5;
        Pace { compute: middle(before.compute, after.compute), memory: middle(before.memory, after.memory) }
    }

    /// Returns whether either reference loop around it was slow.
    fn is_disturbed(&self, usual: Pace) -> bool {
        self.pace.is_some_and(|around| around.iter().any(|pace| pace.is_disturbed(usual)))
    }
}

/// All frames relative to the median of their phase, so that a cycle is not mistaken for a warm-up.
fn levelled(turns: &[Turn], phases: usize) -> Vec<f64> {
    let totals: Vec<Vec<f64>> = turns.iter().map(Turn::totals).collect();
    let phases = resolved_phases(totals.len(), phases);
    let usual: Vec<f64> = (0..phases)
        .map(|phase| {
            median(&totals.iter().skip(phase).step_by(phases).flatten().copied().collect::<Vec<_>>())
        })
        .collect();
    let share = |(nth, totals): (usize, &Vec<f64>)| {
        let usual = usual[nth % phases].max(1e-9);
        totals.iter().map(|total| total / usual).collect::<Vec<_>>()
    };
    totals.iter().enumerate().flat_map(share).collect()
}

impl Profile {
    /// Variants with points.
    pub(crate) fn measured(&self) -> impl Iterator<Item = &VariantProfile> {
        self.variants.iter().filter(|variant| !variant.points.is_empty())
    }

    /// Names of custom stages of all points, in order.
    pub(crate) fn custom_stages(&self) -> Vec<&str> {
        let built_in = |name: &str| name == "other" || Stage::ALL.iter().any(|stage| stage.name() == name);
        let mut names = Vec::new();
        for time in self.variants.iter().flat_map(|variant| &variant.points).flat_map(|point| &point.stages) {
            if !built_in(&time.stage) && !names.contains(&&*time.stage) {
                names.push(&*time.stage);
            }
        }
        names
    }

    /// Variant whose picture differs most from the first's, if it differs too much to compare speeds.
    pub fn other_picture(&self) -> Option<&PictureDifference> {
        let differ = self.pictures.iter().filter(|picture| !picture.same);
        differ.max_by(|a, b| a.share.total_cmp(&b.share))
    }
}

impl Point {
    /// Summarises the turns of one count, which have at least one frame. `phases` is that of [`Run::phases`](crate::Run::phases);
    /// `usual` is the sweep's pace.
    pub(crate) fn of(
        count: u32,
        turns: &[Turn],
        phases: usize,
        usual: Pace,
        limits: &Limits,
        target_ms: f64,
    ) -> Self {
        let skipped = warm_up(&levelled(turns, phases));
        // Without the warm-up.
        let mut left = skipped;
        let kept: Vec<(&Turn, &[Frame])> = turns
            .iter()
            .map(|turn| {
                let skip = left.min(turn.frames.len());
                left -= skip;
                (turn, &turn.frames[skip..])
            })
            .filter(|(_, frames)| !frames.is_empty())
            .collect();
        let rounds: Vec<Round> = kept
            .iter()
            .map(|(turn, frames)| Round {
                ms: frames.iter().map(|frame| ms(frame.total())).collect(),
                pace: turn.pace(),
                disturbed: turn.is_disturbed(usual),
            })
            .collect();
        let mut totals: Vec<f64> = rounds.iter().flat_map(|round| round.ms.iter().copied()).collect();
        totals.sort_by(f64::total_cmp);
        let timed = totals.len();
        let frame = Times {
            median: quantile(&totals, 0.5),
            interval: bootstrap(&rounds, phases, median),
            p95: quantile(&totals, 0.95),
            p95_interval: bootstrap(&rounds, phases, |samples| quantile_of(samples, 0.95)),
            p99: quantile(&totals, 0.99),
            worst: quantile(&totals, 1.0),
            missed: totals.iter().filter(|total| **total > target_ms).count() as f64 / timed.max(1) as f64,
        };
        let all = || kept.iter().flat_map(|(_, frames)| frames.iter());
        let middle = |value: &dyn Fn(&Frame) -> f64| median(&all().map(value).collect::<Vec<_>>());
        let by_round = |value: &dyn Fn(&Frame) -> f64| -> Vec<f64> {
            kept.iter().map(|(_, frames)| median(&frames.iter().map(value).collect::<Vec<_>>())).collect()
        };
        let stage_time = |name: &str, bytes: u64, value: &dyn Fn(&Frame) -> f64| {
            let ms = middle(value);
            let of_limit = (bytes > 0 && ms > 0.0)
                .then(|| bytes as f64 / (ms * 1e-3) / limits.bytes_per_s(bytes).max(1.0));
            StageTime { stage: name.to_owned(), ms, bytes, of_limit, rounds: by_round(value) }
        };
        let of_stage = |stage: Stage| {
            let bytes = middle(&|frame| frame.moved(stage) as f64) as u64;
            stage_time(stage.name(), bytes, &|frame| ms(frame.stage(stage)))
        };
        // Custom stages and counters of other subjects of this process are left out.
        let own = |stage: &Stage| {
            !matches!(stage, Stage::Custom(_)) || all().any(|frame| !frame.stage(*stage).is_zero())
        };
        let counted = |counter: &Counter| {
            !matches!(counter, Counter::Custom(_)) || all().any(|frame| frame.count(*counter) > 0)
        };
        let mut stages: Vec<StageTime> = Stage::all().filter(own).map(of_stage).collect();
        stages.push(stage_time("other", 0, &|frame| ms(frame.other())));
        let counter = |counter: Counter| middle(&|frame| frame.count(counter) as f64) as u64;
        let alive = counter(Counter::Alive);
        let bytes = counter(Counter::ElementBytes) + counter(Counter::DrawBytes);
        let frames_of_all: usize = turns.iter().map(|turn| turn.frames.len()).sum();
        let sum = |value: &dyn Fn(&Turn) -> f64| turns.iter().map(value).sum::<f64>();
        let each = |value: &dyn Fn(&Turn) -> f64| sum(value) / frames_of_all.max(1) as f64;
        let paced: Vec<f64> = rounds
            .iter()
            .filter(|round| round.pace.compute > 0.0)
            .map(|round| round.pace.over(usual))
            .collect();
        let noise = Noise {
            cores: sum(&|turn| turn.taken.cpu.as_secs_f64())
                / sum(&|turn| turn.taken.wall.as_secs_f64()).max(1e-9),
            slowdown: if paced.is_empty() { 1.0 } else { median(&paced) },
            disturbed: rounds.iter().filter(|round| round.disturbed).map(|round| round.ms.len() as u64).sum(),
            switches: each(&|turn| turn.taken.counted.switches as f64),
            forced_switches: each(&|turn| turn.taken.counted.forced_switches as f64),
            faults: each(&|turn| turn.taken.counted.faults as f64),
            disk_faults: each(&|turn| turn.taken.counted.disk_faults as f64),
        };
        Self {
            count,
            alive,
            frame,
            frames: timed as u64,
            warm_up: skipped as u64,
            cpu_ms: each(&|turn| ms(turn.taken.cpu)),
            stages,
            draw_calls: counter(Counter::DrawCalls),
            counters: Counter::all().filter(counted).map(|c| (c.name().to_owned(), counter(c))).collect(),
            bytes_per_element: bytes as f64 / alive.max(1) as f64,
            peak_memory: turns.iter().map(|turn| turn.peak).max().unwrap_or(0),
            memory: turns.last().map_or(0, |turn| turn.memory),
            noise,
            phases: phases as u32,
            rounds,
        }
    }

    /// Time of a stage, by name.
    pub fn stage(&self, name: &str) -> Option<&StageTime> {
        self.stages.iter().find(|time| time.stage == name)
    }

    /// Median of a counter, by name.
    pub fn counter(&self, name: &str) -> Option<u64> {
        self.counters.iter().find(|(own, _)| own == name).map(|(_, count)| *count)
    }

    /// Custom counters, in order.
    pub(crate) fn custom_counters(&self) -> impl Iterator<Item = (&str, u64)> {
        let built_in = |name: &str| Counter::ALL.iter().any(|counter| counter.name() == name);
        let own = self.counters.iter().filter(move |(name, _)| !built_in(name));
        own.map(|(name, count)| (name.as_str(), *count))
    }

    /// Stages, longest first.
    pub fn costliest(&self) -> Vec<&StageTime> {
        let mut stages: Vec<&StageTime> = self.stages.iter().collect();
        stages.sort_by(|a, b| b.ms.total_cmp(&a.ms));
        stages
    }
}

/// Interpolates the count at which times first reach a time.
fn first_over(times: &[(f64, f64)], ms: f64) -> Option<f64> {
    let nth = times.iter().position(|(_, time)| *time >= ms)?;
    let (count, time) = times[nth];
    let Some((before, low)) = nth.checked_sub(1).map(|nth| times[nth]) else { return Some(count) };
    if before <= 0.0 || low <= 0.0 {
        return Some(count);
    }
    let share = (ms / low).ln() / (time / low).ln();
    Some(before * (count / before).powf(share.clamp(0.0, 1.0)))
}

impl VariantGrowth {
    /// Growth of the times of points, in rising order; `None` for fewer than two.
    pub(crate) fn of(points: &[Point], target_ms: f64) -> Option<Self> {
        let last = points.last()?;
        let off = |point: &Point| point.frame.interval.half_width_of(point.frame.median);
        let noise = median(&points.iter().map(off).collect::<Vec<_>>());
        let count = |point: &Point| f64::from(point.count);
        let times: Vec<_> = points.iter().map(|point| (count(point), point.frame.median)).collect();
        let frame = Growth::of(&times, noise)?;
        let of = |nth: usize, stage: &StageTime| {
            let times: Vec<_> =
                points.iter().filter_map(|point| Some((count(point), point.stages.get(nth)?.ms))).collect();
            let growth = Growth::of(&times, noise)?;
            let fills_at = first_over(&times, target_ms).or_else(|| growth.reaches(target_ms));
            Some(StageGrowth { stage: stage.stage.clone(), growth, fills_at })
        };
        let large = |stage: &StageTime| stage.ms >= last.frame.median * 0.02;
        let stages = last.stages.iter().enumerate().filter(|(_, stage)| large(stage));
        let mut stages: Vec<_> = stages.filter_map(|(nth, stage)| of(nth, stage)).collect();
        let first = |stage: &StageGrowth| stage.fills_at.unwrap_or(f64::INFINITY);
        stages.sort_by(|a, b| first(a).total_cmp(&first(b)));
        Some(Self { frame, stages })
    }
}

/// A stage of a point relative to the limits of the machine.
pub(crate) struct Against {
    pub(crate) stage: String,
    pub(crate) ms: f64,
    /// Fraction of the median frame.
    pub(crate) share: f64,
    pub(crate) ns_per_element: f64,
    /// Figures of stages that count moved bytes.
    pub(crate) moved: Option<MovedPer>,
}

pub(crate) struct MovedPer {
    pub(crate) bytes_per_element: f64,
    pub(crate) gb_per_s: f64,
    pub(crate) of_limit: f64,
}

impl StageTime {
    /// Returns whether it is part of the frame's wall time, unlike stages of a device.
    pub(crate) fn is_of_frame(&self) -> bool {
        Stage::named(&self.stage).is_none_or(|stage| !stage.on_device())
    }
}

impl Point {
    /// Stages of at least 1 % of the frame, in the order of a frame.
    pub(crate) fn against(&self) -> Vec<Against> {
        let alive = self.alive.max(1) as f64;
        let large = self.stages.iter().filter(|stage| stage.ms >= self.frame.median * 0.01);
        let row = |stage: &StageTime| Against {
            stage: stage.stage.clone(),
            ms: stage.ms,
            share: stage.ms / self.frame.median.max(1e-9),
            ns_per_element: stage.ms * 1e6 / alive,
            moved: stage.of_limit.filter(|_| stage.bytes > 0).map(|of_limit| MovedPer {
                bytes_per_element: stage.bytes as f64 / alive,
                gb_per_s: stage.bytes as f64 / (stage.ms * 1e6).max(1e-9),
                of_limit,
            }),
        };
        large.filter(|stage| stage.is_of_frame()).map(row).collect()
    }
}
