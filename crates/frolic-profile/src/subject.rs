//! What can be measured: anything that takes frames at any count. A scene is one; a program's own loop is another.

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
///             let started = meter.start();
///             keys.sort_unstable();
///             meter.stop(Stage::Sort, started);
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
    /// Makes it ready with so many elements, and lets it settle.
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
    /// What went wrong with the device it runs on; the sweep ends with what is finished.
    fn frame(&mut self) -> Result<Frame, String>;

    /// The device it is drawn by, if by any.
    fn device(&self) -> Option<String> {
        None
    }
}

impl<F: FnMut() -> Result<Frame, String>> Run for F {
    fn frame(&mut self) -> Result<Frame, String> {
        self()
    }
}

/// Length of a step while a population settles, s; longer than a frame's, as nothing is timed.
const SETTLE_STEP: f32 = 1.0 / 20.0;

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
        // Long enough for the longest-lived of the climbing population to have come and gone.
        let life = self.spec.climbing().map_or(0.0, |population| population.life.max);
        let steps = (life.min(60.0) / SETTLE_STEP).ceil() as u32 + 1;
        let started = Instant::now();
        for _ in 0..steps {
            scene.step(SETTLE_STEP, 1, &mut meter);
            if started.elapsed() > self.patience {
                return Err(format!("settling took over {:.0?}", self.patience));
            }
        }
        let (threads, step) = (scene.threads(), scene.spec().clock.step());
        Ok(Box::new(SceneRun { scene, meter, threads, step }))
    }
}

/// A scene that has settled. A frame is what a program does: one fixed step, the draw list, the picture.
struct SceneRun {
    scene: Scene,
    meter: Meter,
    threads: Threads,
    step: f32,
}

impl Run for SceneRun {
    fn frame(&mut self) -> Result<Frame, String> {
        let Self { scene, meter, threads, step } = self;
        threads.run(|| {
            meter.begin_frame();
            scene.step(*step, 1, meter);
            scene.draw_in_place(meter).map_err(|error| error.to_string())?;
            Ok(meter.end_frame())
        })
    }

    fn device(&self) -> Option<String> {
        self.scene.is_on_device().then(|| self.scene.remark().unwrap_or_default().to_owned())
    }
}
