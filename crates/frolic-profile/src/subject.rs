//! Subjects of a measurement: anything that takes frames at any count. A scene is one; a program's own loop is another.

use std::time::{Duration, Instant};

use frolic_core::{Frame, Meter, SpecError, Threads};
use frolic_scene::{Scene, SceneSpec};

/// Something whose frames can be timed at any count.
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
    /// Builds it with a number of elements, and warms it up.
    ///
    /// # Errors
    /// Why it cannot run at that count; its curve ends there and says so.
    fn begin(&mut self, count: u32) -> Result<Box<dyn Run + '_>, String>;
}

/// One that is ready.
pub trait Run {
    /// Takes a frame.
    ///
    /// # Errors
    /// Error of the device it runs on. The sweep then ends with the finished counts.
    fn frame(&mut self) -> Result<Frame, String>;

    /// Number of phases of its cycle that are timed in turn. Default: 1.
    fn phases(&self) -> usize {
        1
    }

    /// Goes on to the next such moment, untimed.
    ///
    /// # Errors
    /// As [`Run::frame`].
    fn go_on(&mut self) -> Result<(), String> {
        Ok(())
    }

    /// The device it is drawn by, if by any.
    fn device(&self) -> Option<String> {
        None
    }

    /// Resources used by its process so far, if it is another process.
    fn elsewhere(&self) -> Option<Elsewhere> {
        None
    }
}

/// Resources used by another process so far.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Elsewhere {
    /// Processor time of all its threads.
    pub cpu: Duration,
    /// Memory that it holds, bytes.
    pub memory: u64,
}

impl<F: FnMut() -> Result<Frame, String>> Run for F {
    fn frame(&mut self) -> Result<Frame, String> {
        self()
    }
}

/// Length of a step while a population settles, in seconds; longer than a frame's, as nothing is timed.
const WARM_UP_STEP: f32 = 1.0 / 20.0;

/// Phases of a scene's cycle that are timed: a burst costs more than the time between bursts.
const PHASES: usize = 8;

/// Cycle assumed for a scene without repeated bursts, and the longest cycle that is followed, in seconds.
const CYCLE: [f32; 2] = [1.0, 8.0];

/// The longest that a scene's bursts and rates take to repeat themselves, in seconds.
fn cycle(spec: &SceneSpec) -> f32 {
    let emitters = spec.population.iter().flat_map(|population| &population.emitter);
    let repeats = emitters.flat_map(|emitter| {
        let course = emitter.rate_over_time.as_ref().and_then(|course| course.every);
        [emitter.burst.as_ref().and_then(|burst| burst.every), course]
    });
    repeats.flatten().fold(CYCLE[0], f32::max).min(CYCLE[1])
}

/// A scene whose climbing population is given any count.
#[derive(Debug)]
pub(crate) struct SceneSubject {
    pub(crate) spec: SceneSpec,
    /// Longest that settling may take.
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
        Ok(Box::new(SceneRun { scene, meter, threads, step, pause, last: 0.0 }))
    }
}

/// A warmed-up scene. A frame is one fixed step, the draw list and the picture, as in a program.
struct SceneRun {
    scene: Scene,
    meter: Meter,
    threads: Threads,
    step: f32,
    /// From one moment that is timed to the next, in seconds; and when the last one began.
    pause: f32,
    last: f64,
}

impl Run for SceneRun {
    fn frame(&mut self) -> Result<Frame, String> {
        let Self { scene, meter, threads, step, .. } = self;
        threads.run(|| {
            meter.begin_frame();
            // With a frame budget the clock says how many steps a frame takes.
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
        let Self { scene, meter, step, pause, last, .. } = self;
        let now = scene.time();
        let left = (*last + f64::from(*pause) - now).max(0.0) as f32;
        // In long steps, then on to the moment itself.
        let long = (left / WARM_UP_STEP).floor();
        scene.step(WARM_UP_STEP, long as u32, meter);
        scene.step(*step, ((left - long * WARM_UP_STEP) / *step).round() as u32, meter);
        *last = now + f64::from(left);
        Ok(())
    }

    fn device(&self) -> Option<String> {
        self.scene.is_on_device().then(|| self.scene.remark().unwrap_or_default().to_owned())
    }
}
