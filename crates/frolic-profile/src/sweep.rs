//! Sweeps: interleaved variants, rising counts, and limits so that nothing hangs.
//!
//! At each count the variants take turns of a few frames in random order, so that a disturbance of the machine
//! affects all of them. Rounds continue until the interval of every median is narrow enough, or the count's share of the time is spent.
//! Between turns a reference loop measures the machine's pace, and the subject moves, untimed, to the next phase of its cycle: a
//! scene with bursts is timed over its whole cycle, at every count alike.

use std::collections::HashMap;
use std::sync::OnceLock;
use std::time::{Duration, Instant};

use frolic_core::limits::Limits;
use frolic_core::simd;
use frolic_scene::{SceneError, SceneSpec};
use frolic_statistics::{Dice, bootstrap, median};

use crate::error::ProfileError;
use crate::journal::Journal;
use crate::noise::{Pace, Reference, Watch, memory};
use crate::other::OtherProgram;
use crate::pictures::differences;
use crate::plan::Plan;
use crate::profile::{
    FORMAT_VERSION, Machine, Point, Profile, Stop, Turn, VariantGrowth, VariantProfile, ms,
};
use crate::subject::{Run, SceneSubject, Subject};
use crate::trace::{FrameTrace, LONGEST};

/// Number of frames in a turn.
pub(crate) const TURN: u32 = 5;

/// Least number of rounds, if the plan has enough frames; fewer give no trustworthy interval.
const LEAST_ROUNDS: u32 = 4;

/// Suffixes of the variants of two builds.
pub(crate) const BUILDS: [&str; 2] = [", this build", ", other build"];

/// Progress of a sweep, for the caller's `watch`, which returns whether to continue.
#[derive(Debug, Clone)]
#[non_exhaustive]
pub struct Progress<'a> {
    /// Frames and warm-ups done, of `total`; frames that a point does not need count as done.
    pub done: u64,
    /// Total if no variant stops early.
    pub total: u64,
    /// Current count.
    pub count: u32,
    /// Current variant.
    pub variant: &'a str,
}

/// A variant of a sweep.
pub struct Variant {
    pub(crate) name: String,
    pub(crate) settings: Vec<(String, String)>,
    pub(crate) subject: Box<dyn Subject>,
}

impl std::fmt::Debug for Variant {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Variant").field("name", &self.name).finish_non_exhaustive()
    }
}

impl Variant {
    /// A variant with a subject of the program's own.
    pub fn new(name: &str, subject: impl Subject + 'static) -> Self {
        Self { name: name.to_owned(), settings: Vec::new(), subject: Box::new(subject) }
    }

    /// A scene with these settings, checked at a count.
    fn scene(
        name: &str,
        scene: &SceneSpec,
        settings: Vec<(String, String)>,
        count: u32,
        plan: &Plan,
    ) -> Result<Self, ProfileError> {
        // The time limit also holds for warming up, with a generous share of the whole.
        let subject = SceneSubject { spec: with(scene, &settings)?, patience: plan.frame_limit * 20 };
        subject.scene(count)?;
        // A word needs no key; a number does.
        let word = |(key, value): &(String, String)| match value.parse::<f64>() {
            Ok(_) => format!("{}={value}", key.rsplit('.').next().unwrap_or(key)),
            Err(_) => value.clone(),
        };
        let words: Vec<String> = settings.iter().map(word).collect();
        let name = if words.is_empty() { name.to_owned() } else { words.join(" ") };
        Ok(Self { name, settings, subject: Box::new(subject) })
    }
}

/// A scene with settings.
fn with(scene: &SceneSpec, settings: &[(String, String)]) -> Result<SceneSpec, SceneError> {
    settings.iter().try_fold(scene.clone(), |spec, (key, value)| spec.set(key, value))
}

/// Checks that a plan fits a scene, without measuring.
///
/// # Errors
/// As [`sweep`].
pub fn check_plan(name: &str, scene: &SceneSpec, plan: &Plan) -> Result<(), ProfileError> {
    prepare(name, scene, plan).map(|_| ())
}

/// Returns the variants of a plan, each checked at the first count, so that a mistake is reported at once.
pub(crate) fn prepare(name: &str, scene: &SceneSpec, plan: &Plan) -> Result<Vec<Variant>, ProfileError> {
    plan.check()?;
    if scene.climbing().is_none() {
        let problem = "has no population with a count to raise; add one".to_owned();
        return Err(SceneError::Text { place: name.to_owned(), problem }.into());
    }
    let first = plan.counts.counts().first().copied().unwrap_or(0);
    let variants = plan.variants()?.into_iter();
    variants.map(|settings| Variant::scene(name, scene, settings, first, plan)).collect()
}

/// Measures a scene. Calls `watch` before every turn; if it returns `false`, the profile ends with the finished counts.
///
/// # Errors
/// A plan or setting does not fit, or the scene cannot run even at the first count. A variant that
/// cannot run at a higher count stops there with the reason.
pub fn sweep(
    name: &str,
    scene: &SceneSpec,
    plan: &Plan,
    journal: Option<&mut Journal>,
    watch: impl FnMut(&Progress<'_>) -> bool,
) -> Result<Profile, ProfileError> {
    let variants = prepare(name, scene, plan)?;
    let mut profile = measure(name, variants, plan, journal, watch)?;
    if !profile.interrupted && profile.fault.is_none() {
        let drawn = |variant: &VariantProfile| Ok((variant.name.clone(), with(scene, &variant.settings)?));
        let specs = profile.variants.iter().map(drawn).collect::<Result<Vec<_>, SceneError>>()?;
        profile.pictures = differences(&specs, plan.counts.counts());
    }
    Ok(of_scene(profile, scene))
}

/// Adds the description of a scene to a profile.
fn of_scene(mut profile: Profile, scene: &SceneSpec) -> Profile {
    profile.scene_text = scene.to_toml();
    profile.population = scene.climbing().map(|population| population.name.clone()).unwrap_or_default();
    profile
}

/// Measures a scene in this build and in another, each in a process of its own, in turns. `program(nth, variant)` returns the program that runs a
/// variant's settings in the first build (0, this one) or the second (1).
///
/// # Errors
/// As [`sweep`]. A program that cannot take frames stops its variants.
pub fn sweep_builds(
    name: &str,
    scene: &SceneSpec,
    plan: &Plan,
    program: impl Fn(usize, &[(String, String)]) -> OtherProgram,
    watch: impl FnMut(&Progress<'_>) -> bool,
) -> Result<Profile, ProfileError> {
    let mut builds = Vec::new();
    for variant in prepare(name, scene, plan)? {
        let Variant { name, settings, .. } = variant;
        for (nth, build) in BUILDS.iter().enumerate() {
            let subject = Box::new(program(nth, &settings));
            builds.push(Variant { name: format!("{name}{build}"), settings: settings.clone(), subject });
        }
    }
    Ok(of_scene(measure(name, builds, plan, None, watch)?, scene))
}

/// Measures any subject as [`sweep`] measures a scene. The varied keys of the plan are not used.
///
/// # Errors
/// The plan is out of range, or the journal cannot be written.
pub fn sweep_subjects(
    name: &str,
    variants: Vec<Variant>,
    plan: &Plan,
    journal: Option<&mut Journal>,
    watch: impl FnMut(&Progress<'_>) -> bool,
) -> Result<Profile, ProfileError> {
    plan.check()?;
    measure(name, variants, plan, journal, watch)
}

fn measure(
    name: &str,
    mut variants: Vec<Variant>,
    plan: &Plan,
    mut journal: Option<&mut Journal>,
    mut watch: impl FnMut(&Progress<'_>) -> bool,
) -> Result<Profile, ProfileError> {
    let mut profile = Profile {
        frolic_profile: FORMAT_VERSION,
        scene: name.to_owned(),
        scene_text: String::new(),
        population: "elements".to_owned(),
        frames: plan.frames,
        within: plan.within,
        target_ms: ms(plan.target),
        frame_limit_ms: ms(plan.frame_limit),
        machine: this_machine(),
        pace: Pace::default(),
        pictures: Vec::new(),
        interrupted: false,
        fault: None,
        variants: Vec::new(),
        traces: Vec::new(),
    };
    let results: Vec<VariantProfile> = variants
        .iter()
        .map(|variant| VariantProfile {
            name: variant.name.clone(),
            settings: variant.settings.clone(),
            points: Vec::new(),
            growth: None,
            stopped: None,
        })
        .collect();
    let mut sweep = Sweep {
        plan,
        results,
        measured: Vec::new(),
        reference: Reference::default(),
        paces: Vec::new(),
        dice: Dice::new(plan.counts.counts().len() as u64),
        started: Instant::now(),
        done: 0,
        total: plan.counts.counts().len() as u64 * variants.len() as u64 * (u64::from(plan.frames) + 1),
        device: None,
        fault: None,
        traces: HashMap::new(),
    };
    for (nth, &count) in plan.counts.counts().iter().enumerate() {
        let left = plan.counts.counts().len() - nth;
        if !sweep.climb(&mut variants, count, left, &mut journal, &mut watch)? {
            profile.interrupted = true;
            break;
        }
    }
    profile.pace = sweep.usual();
    for Measured { variant, count, phases, turns } in &sweep.measured {
        let point =
            Point::of(*count, turns, *phases, profile.pace, &profile.machine.limits, profile.target_ms);
        sweep.results[*variant].points.push(point);
    }
    for result in &mut sweep.results {
        result.growth = VariantGrowth::of(&result.points, profile.target_ms);
    }
    let mut traces: Vec<_> = sweep.traces.into_iter().collect();
    traces.sort_by_key(|(variant, _)| *variant);
    profile.traces = traces.into_iter().map(|(_, trace)| trace).collect();
    (profile.variants, profile.fault, profile.machine.device) = (sweep.results, sweep.fault, sweep.device);
    Ok(profile)
}

/// A finished point.
struct Measured {
    variant: usize,
    count: u32,
    phases: usize,
    turns: Vec<Turn>,
}

/// A running sweep.
struct Sweep<'a> {
    plan: &'a Plan,
    results: Vec<VariantProfile>,
    /// Finished points.
    measured: Vec<Measured>,
    reference: Reference,
    paces: Vec<Pace>,
    dice: Dice,
    started: Instant,
    done: u64,
    total: u64,
    device: Option<String>,
    fault: Option<String>,
    /// Pace of each variant's highest count so far.
    traces: HashMap<usize, FrameTrace>,
}

impl Sweep<'_> {
    /// Median pace of the machine so far.
    fn usual(&self) -> Pace {
        let of = |value: fn(&Pace) -> f64| median(&self.paces.iter().map(value).collect::<Vec<_>>());
        Pace { compute: of(|pace| pace.compute), memory: of(|pace| pace.memory) }
    }

    /// Stops a variant.
    fn stop(
        &mut self,
        variant: usize,
        stop: Stop,
        journal: &mut Option<&mut Journal>,
    ) -> Result<(), ProfileError> {
        if let Some(journal) = journal {
            journal.stopped(variant, &stop)?;
        }
        self.results[variant].stopped = Some(stop);
        Ok(())
    }

    /// Measures all running variants at a count; `left` is the number of remaining counts, this one included. Returns whether to continue.
    fn climb(
        &mut self,
        variants: &mut [Variant],
        count: u32,
        left: usize,
        journal: &mut Option<&mut Journal>,
        watch: &mut impl FnMut(&Progress<'_>) -> bool,
    ) -> Result<bool, ProfileError> {
        let (began, total) = (self.done, self.total);
        let mut ask =
            |done: u64, variant: &str| watch(&Progress { done: done.min(total), total, count, variant });
        // The remaining counts share the remaining time. The first are quick and leave more to the others.
        let share = self.plan.time.map(|time| time.saturating_sub(self.started.elapsed()) / left as u32);
        let patience = share.map(|share| (Instant::now(), share));
        let Some(mut climbers) = self.prepare(variants, count, journal, &mut ask)? else { return Ok(false) };
        if !self.take_turns(&mut climbers, count, patience, journal, &mut ask)? {
            return Ok(false);
        }
        // Unneeded frames count as done.
        self.done = self.done.max(began + climbers.len() as u64 * (u64::from(self.plan.frames) + 1));
        self.keep(climbers, count, journal)?;
        Ok(true)
    }

    /// Prepares the variants at a count, except for those that have stopped or were finished before an interruption. Returns `None` if interrupted.
    fn prepare<'v>(
        &mut self,
        variants: &'v mut [Variant],
        count: u32,
        journal: &mut Option<&mut Journal>,
        ask: &mut impl FnMut(u64, &str) -> bool,
    ) -> Result<Option<Vec<Climber<'v>>>, ProfileError> {
        let mut climbers = Vec::new();
        for (nth, variant) in variants.iter_mut().enumerate() {
            let before =
                journal.as_ref().and_then(|journal| journal.stop(nth)).filter(|it| it.count == count);
            match before {
                Some(stop) => self.results[nth].stopped = Some(stop.clone()),
                None if self.results[nth].stopped.is_some() => continue,
                None => {}
            }
            let turns = journal.as_ref().map_or_else(Vec::new, |journal| journal.turns(nth, count));
            if let Some(phases) = journal.as_ref().and_then(|journal| journal.finished(nth, count)) {
                self.paces.extend(turns.iter().filter_map(|turn| turn.pace).flatten());
                self.measure(nth, count, phases, turns);
                continue;
            }
            if !ask(self.done, &variant.name) {
                return Ok(None);
            }
            let begun = variant.subject.begin(count).and_then(|mut run| {
                // The first frame allocates buffers that later frames reuse.
                run.frame().map(|_| run)
            });
            match begun {
                Ok(run) => climbers.push(Climber::new(nth, run, turns, self.plan)),
                Err(reason) => {
                    self.stop(nth, Stop { count, reason }, journal)?;
                    if let Some(journal) = journal {
                        journal.finish(nth, count, 1)?;
                    }
                }
            }
            self.done += 1;
        }
        Ok(Some(climbers))
    }

    /// Lets the variants take turns until all are precise enough, or the time is spent. Returns whether to continue.
    fn take_turns(
        &mut self,
        climbers: &mut [Climber<'_>],
        count: u32,
        patience: Option<(Instant, Duration)>,
        journal: &mut Option<&mut Journal>,
        ask: &mut impl FnMut(u64, &str) -> bool,
    ) -> Result<bool, ProfileError> {
        let plan = self.plan;
        let phases = climbers.iter().map(Climber::phases).max().unwrap_or(1) as u32;
        let mut before = self.reference.pace();
        self.paces.push(before);
        for round in 0..plan.frames.div_ceil(TURN) {
            self.dice.shuffle(climbers);
            // Only whole cycles compare fairly.
            if round >= LEAST_ROUNDS.max(phases) && round % phases == 0 {
                let late = patience.is_some_and(|(since, share)| since.elapsed() > share);
                climbers.iter_mut().for_each(|climber| climber.ask_whether_known(plan));
                if late {
                    break;
                }
            }
            if climbers.iter().all(|climber| climber.is_done(plan)) {
                break;
            }
            for climber in climbers.iter_mut().filter(|climber| !climber.is_done(plan)) {
                if !ask(self.done, &self.results[climber.variant].name) {
                    return Ok(false);
                }
                let turn = TURN.min(plan.frames.saturating_sub(climber.taken));
                climber.take(turn, count, plan.frame_limit, journal)?;
                let after = self.reference.pace();
                self.paces.push(after);
                climber.close([before, after], count, journal)?;
                before = after;
                self.done += u64::from(turn);
            }
        }
        Ok(true)
    }

    /// Stores the samples of a count, and the reasons of variants for stopping there.
    fn keep(
        &mut self,
        mut climbers: Vec<Climber<'_>>,
        count: u32,
        journal: &mut Option<&mut Journal>,
    ) -> Result<(), ProfileError> {
        climbers.sort_by_key(|climber| climber.variant);
        for mut climber in climbers {
            if self.device.is_none() {
                self.device = climber.run.device();
            }
            let phases = climber.phases();
            // Not for frames known to be too long, and not after a device is lost.
            if climber.fault.is_none() && climber.over.is_none_or(|took| took <= LONGEST) {
                let name = &self.results[climber.variant].name;
                let trace = FrameTrace::take(name, count, climber.run.as_mut());
                self.traces.extend(trace.map(|trace| (climber.variant, trace)));
            }
            let Climber { variant, turns, over, fault, .. } = climber;
            if let Some(over) = over {
                let (took, limit) = (over.as_secs_f64(), self.plan.frame_limit.as_secs_f64());
                let reason = format!("a frame took {took:.2} s, over the limit of {limit:.2} s");
                self.stop(variant, Stop { count, reason }, journal)?;
            }
            if let Some(reason) = &fault {
                self.results[variant].stopped = Some(Stop { count, reason: reason.clone() });
            }
            if let (Some(journal), None) = (&mut *journal, &fault) {
                journal.finish(variant, count, phases)?;
            }
            self.fault = self.fault.take().or(fault);
            self.measure(variant, count, phases, turns);
        }
        Ok(())
    }

    /// Adds a finished point, if it has frames.
    fn measure(&mut self, variant: usize, count: u32, phases: usize, turns: Vec<Turn>) {
        if turns.iter().any(|turn| !turn.frames.is_empty()) {
            self.measured.push(Measured { variant, count, phases, turns });
        }
    }
}

/// A variant at one count.
struct Climber<'a> {
    variant: usize,
    run: Box<dyn Run + 'a>,
    turns: Vec<Turn>,
    /// Number of frames taken.
    taken: u32,
    /// True if its median was precise enough at the last check.
    is_known: bool,
    over: Option<Duration>,
    /// Error of the device.
    fault: Option<String>,
}

impl<'a> Climber<'a> {
    /// A warmed-up variant, with the turns taken before an interruption.
    fn new(variant: usize, run: Box<dyn Run + 'a>, turns: Vec<Turn>, plan: &Plan) -> Self {
        let taken = turns.iter().map(|turn| turn.frames.len() as u32).sum::<u32>().min(plan.frames);
        Self { variant, run, turns, taken, is_known: false, over: None, fault: None }
    }

    /// Number of phases, at least 1.
    fn phases(&self) -> usize {
        self.run.phases().max(1)
    }

    /// Returns whether it needs no further turn.
    fn is_done(&self, plan: &Plan) -> bool {
        self.is_known || self.over.is_some() || self.fault.is_some() || self.taken >= plan.frames
    }

    /// Checks whether its median is precise enough. This takes some milliseconds.
    fn ask_whether_known(&mut self, plan: &Plan) {
        if self.is_done(plan) {
            return;
        }
        let totals: Vec<Vec<f64>> = self.turns.iter().map(Turn::totals).collect();
        let middle = median(&totals.concat());
        self.is_known = bootstrap(&totals, self.phases(), median).half_width_of(middle) <= plan.within;
    }

    /// Takes a turn, which ends early if frames exceed the limit twice in a row, or by far.
    fn take(
        &mut self,
        turn: u32,
        count: u32,
        limit: Duration,
        journal: &mut Option<&mut Journal>,
    ) -> Result<(), ProfileError> {
        self.fault = self.run.go_on().err();
        let (watch, before) = (Watch::start(), self.run.elsewhere());
        let mut now = Turn::default();
        let mut slow_before =
            self.turns.last().and_then(|turn| turn.frames.last()).is_some_and(|last| last.total() > limit);
        while self.fault.is_none() && now.frames.len() < turn as usize {
            let frame = match self.run.frame() {
                Ok(frame) => frame,
                Err(fault) => {
                    self.fault = Some(fault);
                    break;
                }
            };
            now.frames.push(frame);
            self.taken += 1;
            if let Some(journal) = journal {
                journal.frame(self.variant, count, &frame)?;
            }
            // One slow frame may be a disturbance; two in a row, or a very slow one, are not.
            if frame.total() > limit * 4 || frame.total() > limit && slow_before {
                self.over = Some(frame.total());
                break;
            }
            slow_before = frame.total() > limit;
        }
        now.taken = watch.stop();
        now.memory = memory();
        if let (Some(before), Some(after)) = (before, self.run.elsewhere()) {
            // Without this process's time while it waited.
            now.taken.cpu = after.cpu.saturating_sub(before.cpu);
            now.memory = after.memory;
        }
        now.peak = now.memory.max(self.turns.last().map_or(0, |turn| turn.peak));
        self.turns.push(now);
        Ok(())
    }

    /// Ends the turn with the pace of the machine around it.
    fn close(
        &mut self,
        pace: [Pace; 2],
        count: u32,
        journal: &mut Option<&mut Journal>,
    ) -> Result<(), ProfileError> {
        let Some(turn) = self.turns.last_mut() else { return Ok(()) };
        turn.pace = Some(pace);
        match journal {
            Some(journal) => journal.close(self.variant, count, turn),
            None => Ok(()),
        }
    }
}

fn this_machine() -> Machine {
    // The limits belong to the machine and are measured once.
    static LIMITS: OnceLock<Limits> = OnceLock::new();
    Machine {
        architecture: std::env::consts::ARCH.to_owned(),
        system: std::env::consts::OS.to_owned(),
        instruction_set: simd::name(simd::detect()),
        threads: std::thread::available_parallelism().map_or(1, |threads| threads.get() as u32),
        frolic: env!("CARGO_PKG_VERSION").to_owned(),
        limits: *LIMITS.get_or_init(Limits::measure),
        device: None,
    }
}
