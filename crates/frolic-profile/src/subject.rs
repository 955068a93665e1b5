//! Subjects of a measurement: anything that takes frames at any count. A scene is one; a program's own loop is another.

use std::time::{Duration, Instant};

use frolic_core::{Counter, Frame, Meter, SpecError, Threads};
use frolic_scene::{Scene, SceneSpec};

/// A subject whose frames can be timed at any count.
///
/// ```
/// use frolic_core::{Meter, Stage};
/// use frolic_profile::{Plan, Run, Subject, Variant, sweep_subjects};
///
/// struct Sorting;
/// impl Subject for Sorting {
///     fn begin(&mut self, count: u32) -> Result<Box<dyn Run + '_>, String> {
///         let mut meter = Meter::new();
///         Ok(Box::new(move || {
///             let mut keys: Vec<u32> = (0..count).map(|n| n.wrapping_mul(2_654_435_761)).collect();
///             meter.begin_frame();
///             let started = meter.start(Stage::Sort);
///             keys.sort_unstable();
///             meter.stop(started);
///             Ok(meter.end_frame())
///         }))
///     }
/// }
/// let mut plan = Plan::default();
/// (plan.counts, plan.frames) = ("100,1k,10k".parse()?, 10);
/// let profile = sweep_subjects("sorting", vec![Variant::new("std", Sorting)], &plan, None, |_| true)?;
/// assert_eq!(profile.variants[0].points.len(), 3);
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
pub trait Subject {
    /// Builds the subject with a number of elements, and warms it up.
    ///
    /// # Errors
    /// The reason for not running at that count. The variant stops there.
    fn begin(&mut self, count: u32) -> Result<Box<dyn Run + '_>, String>;
}

/// A warmed-up subject.
pub trait Run {
    /// Takes a frame.
    ///
    /// # Errors
    /// The device failed. The sweep ends with the finished counts.
    fn frame(&mut self) -> Result<Frame, String>;

    /// Number of phases of a cycle that are timed in turn. Default: 1.
    fn phases(&self) -> usize {
        1
    }

    /// Moves on to the next phase, without timing.
    ///
    /// # Errors
    /// As [`Run::frame`].
    fn go_on(&mut self) -> Result<(), String> {
        Ok(())
    }

    /// The device that draws, if any.
    fn device(&self) -> Option<String> {
        None
    }

    /// Resources used by its process so far, if that is another process.
    fn elsewhere(&self) -> Option<Elsewhere> {
        None
    }
}

/// Resources used by another process so far.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Elsewhere {
    /// Processor time of all its threads.
    pub cpu: Duration,
    /// Memory held, in bytes.
    pub memory: u64,
}

impl<F: FnMut() -> Result<Frame, String>> Run for F {
    fn frame(&mut self) -> Result<Frame, String> {
        self()
    }
}

/// Length of a step while a population warms up, in seconds; longer than a frame's, as nothing is timed.
const WARM_UP_STEP: f32 = 1.0 / 20.0;

/// Number of timed phases of a scene's cycle, as a burst costs more than the time between bursts.
const PHASES: usize = 8;

/// Cycle of a scene without repeated bursts, and longest cycle, in seconds.
const CYCLE: [f32; 2] = [1.0, 8.0];

/// Longest period of a scene's bursts and rates, in seconds.
fn cycle(spec: &SceneSpec) -> f32 {
    let emitters = spec.population.iter().flat_map(|population| &population.emitter);
    let repeats = emitters.flat_map(|emitter| {
        let course = emitter.rate_over_time.as_ref().and_then(|course| course.every);
        [emitter.burst.as_ref().and_then(|burst| burst.every), course]
    });
    repeats.flatten().fold(CYCLE[0], f32::max).min(CYCLE[1])
}

/// A scene with a variable count.
#[derive(Debug)]
pub(crate) struct SceneSubject {
    pub(crate) spec: SceneSpec,
    /// Time limit for warming up.
    pub(crate) patience: Duration,
}

impl SceneSubject {
    pub(crate) fn scene(&self, count: u32) -> Result<Scene, SpecError> {
        Scene::new(&self.spec.scaled(count))
    }
}

impl Subject for SceneSubject {
    fn begin(&mut self, count: u32) -> Result<Box<dyn Run + '_>, String> {
        let mut scene = self.scene(count).map_err(|error| error.to_string())?;
        let mut meter = Meter::new();
        let warm_up = self.spec.warm_up_seconds();
        let steps = (warm_up.min(60.0) / WARM_UP_STEP).ceil() as u32 + 1;
        let started = Instant::now();
        for _ in 0..steps {
            scene.step(WARM_UP_STEP, 1, &mut meter);
            if started.elapsed() > self.patience {
                return Err(format!("settling took over {:.0?}", self.patience));
            }
        }
        let (threads, step) = (scene.threads(), scene.spec().clock.step());
        let pause = cycle(&self.spec) / PHASES as f32;
        Ok(Box::new(SceneRun { scene, meter, threads, step, pause, last: 0.0, groups: 0 }))
    }
}

/// A warmed-up scene. A frame is one fixed step, the draw list and the picture, as in a program.
struct SceneRun {
    scene: Scene,
    meter: Meter,
    threads: Threads,
    step: f32,
    /// Time between timed phases, in seconds, and start of the last one.
    pause: f32,
    last: f64,
    /// Groups of its flock in this phase.
    groups: u64,
}

impl Run for SceneRun {
    fn frame(&mut self) -> Result<Frame, String> {
        let Self { scene, meter, threads, step, groups, .. } = self;
        threads.run(|| {
            meter.begin_frame();
            meter.set(Counter::Groups, *groups);
            // With a frame budget, the clock decides the number of steps.
            match scene.frame_budget() {
                Some(_) => scene.tick(f64::from(*step), meter),
                None => scene.step(*step, 1, meter),
            }
            scene.draw_in_place(meter).map_err(|error| error.to_string())?;
            let frame = meter.end_frame();
            scene.keep_budget(&frame);
            Ok(frame)
        })
    }

    fn phases(&self) -> usize {
        PHASES
    }

    fn go_on(&mut self) -> Result<(), String> {
        let Self { scene, meter, step, pause, last, groups, .. } = self;
        let now = scene.time();
        let left = (*last + f64::from(*pause) - now).max(0.0) as f32;
        // In long steps, then to the exact time.
        let long = (left / WARM_UP_STEP).floor();
        scene.step(WARM_UP_STEP, long as u32, meter);
        scene.step(*step, ((left - long * WARM_UP_STEP) / *step).round() as u32, meter);
        *last = now + f64::from(left);
        *groups = scene.groups().unwrap_or(0) as u64;
        Ok(())
    }

    fn device(&self) -> Option<String> {
        self.scene.is_on_device().then(|| self.scene.remark().unwrap_or_default().to_owned())
    }
}
