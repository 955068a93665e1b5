//! Measuring: variants interleaved, counts climbing, nobody left to hang.
//!
//! At each count the variants take turns, a few frames each, in an order that is reversed every other round; so a
//! disturbance of the machine meets all of them. A frame is what a program does: one fixed step, the draw list, the picture.

use std::time::{Duration, Instant};

use cpu_time::ProcessTime;
use frolic_core::{Frame, Meter, SpecError, simd};
use frolic_scene::{Scene, SceneError, SceneSpec};

use crate::plan::{Plan, PlanError};
use crate::profile::{FORMAT_VERSION, Machine, Point, Profile, Stop, VariantProfile};

/// Frames a variant takes before it is the next one's turn.
const TURN: u32 = 5;

/// Length of a step while a population settles, s; longer than a frame's, as nothing is timed.
const SETTLE_STEP: f32 = 1.0 / 20.0;

/// Why a profile could not be made.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum ProfileError {
    /// The plan cannot be followed.
    #[error(transparent)]
    Plan(#[from] PlanError),
    /// A varied key or value does not fit the scene, or a result cannot be written.
    #[error(transparent)]
    Scene(#[from] SceneError),
    /// The scene cannot run at the lowest count.
    #[error(transparent)]
    Spec(#[from] SpecError),
    /// The file is no profile of this version.
    #[error("{0}")]
    Format(String),
    /// A chart cannot be drawn.
    #[error("the chart cannot be drawn: {0}")]
    Chart(String),
}

/// How far a sweep is; handed to the caller's watcher, whose answer says whether to go on.
#[derive(Debug, Clone)]
#[non_exhaustive]
pub struct Progress<'a> {
    /// Frames and settling runs done, of `total`.
    pub done: u64,
    /// All there would be if no variant stopped early.
    pub total: u64,
    /// The count being measured.
    pub count: u32,
    /// The variant being measured.
    pub variant: &'a str,
}

/// Finds out whether a plan fits a scene, without measuring.
///
/// # Errors
/// As [`sweep`].
pub fn check_plan(name: &str, scene: &SceneSpec, plan: &Plan) -> Result<(), ProfileError> {
    prepare(name, scene, plan).map(|_| ())
}

/// The variants of a plan, each able to run at the first count: a mistake is better told at once.
fn prepare(name: &str, scene: &SceneSpec, plan: &Plan) -> Result<Vec<Variant>, ProfileError> {
    plan.check()?;
    if scene.climbing().is_none() {
        let problem = "has no population whose count could climb; add one".to_owned();
        return Err(SceneError::Text { place: name.to_owned(), problem }.into());
    }
    let first = plan.counts.counts().first().copied().unwrap_or(0);
    let variant = |settings: Vec<(String, String)>| -> Result<Variant, ProfileError> {
        let spec = settings.iter().try_fold(scene.clone(), |spec, (key, value)| spec.set(key, value))?;
        let variant = Variant::new(name, spec, settings);
        variant.scene(first)?;
        Ok(variant)
    };
    plan.variants()?.into_iter().map(variant).collect()
}

/// Measures a scene. `watch` is asked before every turn; when it answers `false` the profile ends with what is finished.
///
/// # Errors
/// A plan or a setting that does not fit; a scene that cannot run even at the first count. A variant that
/// cannot run at a higher count stops there and says why.
pub fn sweep(
    name: &str,
    scene: &SceneSpec,
    plan: &Plan,
    mut watch: impl FnMut(&Progress<'_>) -> bool,
) -> Result<Profile, ProfileError> {
    let mut variants = prepare(name, scene, plan)?;
    let climbing = scene.climbing().map(|population| population.name.clone()).unwrap_or_default();

    let mut profile = Profile {
        frolic_profile: FORMAT_VERSION,
        scene: name.to_owned(),
        scene_text: scene.to_toml(),
        population: climbing,
        frames: plan.frames,
        frame_limit_ms: plan.frame_limit.as_secs_f64() * 1e3,
        machine: this_machine(),
        interrupted: false,
        fault: None,
        variants: Vec::new(),
    };
    let mut progress = Tally::new(plan, variants.len());
    'climb: for &count in plan.counts.counts() {
        let mut climbers = Vec::new();
        for variant in variants.iter_mut().filter(|variant| variant.result.stopped.is_none()) {
            if !progress.ask(&mut watch, count, &variant.result.name) {
                profile.interrupted = true;
                break 'climb;
            }
            if let Some(climber) = Climber::settle(variant, count, plan) {
                climbers.push(climber);
            }
            progress.done += 1;
        }
        let rounds = plan.frames.div_ceil(TURN);
        for round in 0..rounds {
            let turn = TURN.min(plan.frames - round * TURN);
            // There and back: no variant is always first.
            climbers.reverse();
            for climber in &mut climbers {
                if !progress.ask(&mut watch, count, &climber.variant.result.name) {
                    profile.interrupted = true;
                    break 'climb;
                }
                climber.take(turn, plan.frame_limit);
                progress.done += u64::from(turn);
            }
        }
        for climber in climbers {
            if climber.scene.is_on_device() && profile.machine.device.is_none() {
                profile.machine.device = climber.scene.remark().map(str::to_owned);
            }
            let fault = climber.finish(count, plan.frame_limit);
            profile.fault = profile.fault.take().or(fault);
        }
    }
    profile.variants = variants.into_iter().map(|variant| variant.result).collect();
    Ok(profile)
}

/// Counts what is done, and asks the watcher.
struct Tally {
    done: u64,
    total: u64,
}

impl Tally {
    fn new(plan: &Plan, variants: usize) -> Self {
        let points = plan.counts.counts().len() as u64 * variants as u64;
        Self { done: 0, total: points * (u64::from(plan.frames) + 1) }
    }

    fn ask(&self, watch: &mut impl FnMut(&Progress<'_>) -> bool, count: u32, variant: &str) -> bool {
        watch(&Progress { done: self.done, total: self.total, count, variant })
    }
}

struct Variant {
    spec: SceneSpec,
    result: VariantProfile,
}

impl Variant {
    fn new(scene: &str, spec: SceneSpec, settings: Vec<(String, String)>) -> Self {
        // A word says what it is; a number needs its key.
        let word = |(key, value): &(String, String)| match value.parse::<f64>() {
            Ok(_) => format!("{}={value}", key.rsplit('.').next().unwrap_or(key)),
            Err(_) => value.clone(),
        };
        let words: Vec<String> = settings.iter().map(word).collect();
        let name = if words.is_empty() { scene.to_owned() } else { words.join(" ") };
        Self { spec, result: VariantProfile { name, settings, points: Vec::new(), stopped: None } }
    }

    fn scene(&self, count: u32) -> Result<Scene, SpecError> {
        Scene::new(&self.spec.scaled(count))
    }
}

/// A variant at one count.
struct Climber<'a> {
    variant: &'a mut Variant,
    scene: Scene,
    meter: Meter,
    frames: Vec<Frame>,
    cpu: Duration,
    peak: u64,
    over: Option<Duration>,
    /// What went wrong with the device.
    fault: Option<String>,
}

impl<'a> Climber<'a> {
    /// Builds the scene, lets it settle and warms it up; `None` when it cannot, which is noted.
    fn settle(variant: &'a mut Variant, count: u32, plan: &Plan) -> Option<Self> {
        let stop = |reason: String| Some(Stop { count, reason });
        let mut scene = match variant.scene(count) {
            Ok(scene) => scene,
            Err(error) => {
                variant.result.stopped = stop(error.to_string());
                return None;
            }
        };
        let mut meter = Meter::new();
        // Long enough for the longest-lived of the climbing population to have come and gone. The time limit
        // holds here as well, with a generous share for the whole run.
        let life = variant.spec.climbing().map_or(0.0, |population| population.life.max);
        let steps = (life.min(60.0) / SETTLE_STEP).ceil() as u32 + 1;
        let started = Instant::now();
        for _ in 0..steps {
            scene.step(SETTLE_STEP, 1, &mut meter);
            if started.elapsed() > plan.frame_limit * 20 {
                variant.result.stopped = stop(format!("settling took over {:.0?}", plan.frame_limit * 20));
                return None;
            }
        }
        let frames = Vec::with_capacity(plan.frames as usize);
        let mut climber =
            Self { variant, scene, meter, frames, cpu: Duration::ZERO, peak: 0, over: None, fault: None };
        climber.take(plan.warm_up.max(1), plan.frame_limit);
        climber.frames.clear();
        climber.cpu = Duration::ZERO;
        Some(climber)
    }

    /// Takes frames, until the limit is passed twice in a row or by far.
    fn take(&mut self, turn: u32, limit: Duration) {
        if self.over.is_some() || self.fault.is_some() {
            return;
        }
        let Self { scene, meter, frames, over, peak, fault, .. } = self;
        let step = scene.spec().clock.step();
        let threads = scene.threads();
        let cpu = ProcessTime::now();
        threads.run(|| {
            for _ in 0..turn {
                meter.begin_frame();
                scene.step(step, 1, meter);
                if let Err(error) = scene.draw_in_place(meter) {
                    *fault = Some(error.to_string());
                    break;
                }
                let frame = meter.end_frame();
                let slow_before = frames.last().is_some_and(|last: &Frame| last.total() > limit);
                frames.push(frame);
                // One slow frame may be the machine's doing; two in a row, or a very slow one, are not.
                if frame.total() > limit * 4 || frame.total() > limit && slow_before {
                    *over = Some(frame.total());
                    break;
                }
            }
        });
        self.cpu += cpu.elapsed();
        *peak = (*peak).max(memory());
    }

    /// Notes the point; returns what went wrong with the device, if anything.
    fn finish(self, count: u32, limit: Duration) -> Option<String> {
        let Self { variant, frames, cpu, peak, over, fault, .. } = self;
        if !frames.is_empty() {
            let cpu_ms = cpu.as_secs_f64() * 1e3 / frames.len() as f64;
            variant.result.points.push(Point::of(count, &frames, cpu_ms, peak));
        }
        if let Some(over) = over {
            let reason = format!(
                "a frame took {:.2} s, over the limit of {:.2} s",
                over.as_secs_f64(),
                limit.as_secs_f64()
            );
            variant.result.stopped = Some(Stop { count, reason });
        }
        if let Some(reason) = &fault {
            variant.result.stopped = Some(Stop { count, reason: reason.clone() });
        }
        fault
    }
}

/// Memory the process holds, bytes.
fn memory() -> u64 {
    memory_stats::memory_stats().map_or(0, |stats| stats.physical_mem as u64)
}

fn this_machine() -> Machine {
    Machine {
        architecture: std::env::consts::ARCH.to_owned(),
        system: std::env::consts::OS.to_owned(),
        instruction_set: simd::name(simd::Level::new()),
        threads: std::thread::available_parallelism().map_or(1, |threads| threads.get() as u32),
        frolic: env!("CARGO_PKG_VERSION").to_owned(),
        device: None,
    }
}
