//! Journal of a sweep, written as it runs, so that a kill loses at most the current frame: JSON lines, one for each frame.

use std::borrow::Cow;
use std::collections::HashMap;
use std::fs::{File, OpenOptions};
use std::io::{BufRead, BufReader, Write};
use std::path::{Path, PathBuf};
use std::time::Duration;

use frolic_core::{Counter, Frame, Stage};
use frolic_scene::SceneError;
use serde::{Deserialize, Serialize};

use crate::error::ProfileError;
use crate::noise::{Counted, Pace, Taken};
use crate::profile::{Stop, Turn};

/// Version of the journal's format.
const VERSION: u32 = 1;

/// Journal of a sweep: samples by variant and count, and the file that grows.
#[derive(Debug)]
pub struct Journal {
    path: PathBuf,
    file: File,
    turns: HashMap<(usize, u32), Vec<Turn>>,
    done: HashMap<(usize, u32), usize>,
    stops: HashMap<usize, Stop>,
}

/// Identity of a measurement, so that only the same one is resumed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct JournalOf {
    /// Scene as TOML, or the name of another subject.
    pub scene: String,
    /// Variants, as text.
    pub variants: Vec<String>,
}

/// A recorded frame: total in nanoseconds, and by name its stages in nanoseconds, counters, and bytes moved by stage, without zeros. Names, as another
/// build may have other stages.
#[derive(Debug, Serialize, Deserialize)]
pub(crate) struct Written(u64, Values, Values, Values);

type Values = Vec<(Cow<'static, str>, u64)>;

impl Written {
    pub(crate) fn of(frame: &Frame) -> Self {
        let stages = |value: &dyn Fn(Stage) -> u64| -> Values {
            let all = Stage::all().map(|stage| (stage.name().into(), value(stage)));
            all.filter(|(_, value)| *value > 0).collect()
        };
        let counters = Counter::all().map(|it| (it.name().into(), frame.count(it)));
        Self(
            frame.total().as_nanos() as u64,
            stages(&|stage| frame.stage(stage).as_nanos() as u64),
            counters.filter(|(_, value)| *value > 0).collect(),
            stages(&|stage| frame.moved(stage)),
        )
    }

    /// Returns the frame. Unknown stages and counters are those of another program or build: they become custom ones, as far as there is room.
    pub(crate) fn frame(&self) -> Frame {
        let Self(total, stages, counters, moved) = self;
        let stage = |name: &str| Stage::named(name).or_else(|| Stage::custom(name).ok());
        let mut frame = Frame::new(Duration::from_nanos(*total));
        for (name, ns) in stages {
            let Some(stage) = stage(name) else { continue };
            frame = frame.with_stage(stage, Duration::from_nanos(*ns));
        }
        for (name, value) in counters {
            let counter = Counter::named(name).or_else(|| Counter::custom(name).ok());
            let Some(counter) = counter else { continue };
            frame = frame.with_count(counter, *value);
        }
        for (name, bytes) in moved {
            let Some(stage) = stage(name) else { continue };
            frame = frame.with_moved(stage, *bytes);
        }
        frame
    }
}

#[derive(Debug, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
enum Line {
    Journal {
        version: u32,
        frolic: String,
        of: JournalOf,
    },
    /// Variant and count.
    Frame(usize, u32, Written),
    Turn {
        of: (usize, u32),
        wall: u64,
        cpu: u64,
        counted: [u64; 4],
        memory: [u64; 2],
        pace: Option<[Pace; 2]>,
    },
    /// Variant, count and phases.
    Done(usize, u32, usize),
    Stop(usize, u32, String),
}

impl Journal {
    /// Starts an empty journal, and overwrites an existing one.
    ///
    /// # Errors
    /// The file cannot be written.
    pub fn begin(path: impl AsRef<Path>, of: &JournalOf) -> Result<Self, ProfileError> {
        let path = path.as_ref().to_owned();
        let file = File::create(&path).map_err(|source| written(&path, source))?;
        let mut journal =
            Self { path, file, turns: HashMap::new(), done: HashMap::new(), stops: HashMap::new() };
        let frolic = env!("CARGO_PKG_VERSION").to_owned();
        journal.write(&Line::Journal { version: VERSION, frolic, of: of.clone() })?;
        Ok(journal)
    }

    /// Resumes a journal. An unfinished last line is left out.
    ///
    /// # Errors
    /// There is no such file, or it belongs to another version, scene or choice of variants.
    pub fn resume(path: impl AsRef<Path>, of: &JournalOf) -> Result<Self, ProfileError> {
        let path = path.as_ref().to_owned();
        let wrong = |problem: &str| ProfileError::Format(format!("{}: {problem}", path.display()));
        let read = File::open(&path).map_err(|error| wrong(&format!("nothing to resume: {error}")))?;
        let mut lines = BufReader::new(read).split(b'\n');
        let mut whole = 0;
        let mut next = || -> Option<Line> {
            let line = lines.next()?.ok()?;
            let parsed = serde_json::from_slice(&line).ok()?;
            whole += line.len() as u64 + 1;
            Some(parsed)
        };
        match next() {
            Some(Line::Journal { version, frolic, of: there }) => {
                if version != VERSION || frolic != env!("CARGO_PKG_VERSION") {
                    return Err(wrong("is a journal of another version; start again without --resume"));
                }
                if there != *of {
                    let problem = "is of another scene or other variants; start anew without --resume, or write \
                                to another folder";
                    return Err(wrong(problem));
                }
            }
            _ => return Err(wrong("is not the journal of a profile; start anew without --resume")),
        }
        let (mut turns, mut done, mut stops) =
            (HashMap::<_, Vec<Turn>>::new(), HashMap::new(), HashMap::new());
        let mut open: HashMap<(usize, u32), Turn> = HashMap::new();
        while let Some(line) = next() {
            match line {
                Line::Journal { .. } => return Err(wrong("is not the journal of a profile")),
                Line::Frame(variant, count, written) => {
                    let frame = written.frame();
                    open.entry((variant, count)).or_default().frames.push(frame);
                }
                Line::Turn { of, wall, cpu, counted: [switches, forced, faults, disk], memory, pace } => {
                    let mut turn = open.remove(&of).unwrap_or_default();
                    let counted = Counted { switches, forced_switches: forced, faults, disk_faults: disk };
                    let of_ns = Duration::from_nanos;
                    turn.taken = Taken { wall: of_ns(wall), cpu: of_ns(cpu), counted };
                    ([turn.peak, turn.memory], turn.pace) = (memory, pace);
                    turns.entry(of).or_default().push(turn);
                }
                Line::Done(variant, count, phases) => {
                    done.insert((variant, count), phases.max(1));
                }
                Line::Stop(variant, count, reason) => {
                    stops.insert(variant, Stop { count, reason });
                }
            }
        }
        // Frames of an interrupted turn count; the machine's load during them is unknown.
        for (of, turn) in open {
            turns.entry(of).or_default().push(turn);
        }
        let file = OpenOptions::new().append(true).open(&path).map_err(|source| written(&path, source))?;
        file.set_len(whole).map_err(|source| written(&path, source))?;
        Ok(Self { path, file, turns, done, stops })
    }

    /// Removes the file. Call it once the contents are stored elsewhere.
    pub fn remove(self) {
        // A file that stays does no harm.
        let _ = std::fs::remove_file(&self.path);
    }

    /// Number of frames of all variants.
    pub fn frames(&self) -> usize {
        self.turns.values().flatten().map(|turn| turn.frames.len()).sum()
    }

    pub(crate) fn turns(&self, variant: usize, count: u32) -> Vec<Turn> {
        self.turns.get(&(variant, count)).cloned().unwrap_or_default()
    }

    /// Phases of a finished point.
    pub(crate) fn finished(&self, variant: usize, count: u32) -> Option<usize> {
        self.done.get(&(variant, count)).copied()
    }

    pub(crate) fn stop(&self, variant: usize) -> Option<&Stop> {
        self.stops.get(&variant)
    }

    pub(crate) fn frame(&mut self, variant: usize, count: u32, frame: &Frame) -> Result<(), ProfileError> {
        self.write(&Line::Frame(variant, count, Written::of(frame)))
    }

    pub(crate) fn close(&mut self, variant: usize, count: u32, turn: &Turn) -> Result<(), ProfileError> {
        let Counted { switches, forced_switches, faults, disk_faults } = turn.taken.counted;
        self.write(&Line::Turn {
            of: (variant, count),
            wall: turn.taken.wall.as_nanos() as u64,
            cpu: turn.taken.cpu.as_nanos() as u64,
            counted: [switches, forced_switches, faults, disk_faults],
            memory: [turn.peak, turn.memory],
            pace: turn.pace,
        })
    }

    pub(crate) fn finish(&mut self, variant: usize, count: u32, phases: usize) -> Result<(), ProfileError> {
        self.write(&Line::Done(variant, count, phases))
    }

    pub(crate) fn stopped(&mut self, variant: usize, stop: &Stop) -> Result<(), ProfileError> {
        self.write(&Line::Stop(variant, stop.count, stop.reason.clone()))
    }

    fn write(&mut self, line: &Line) -> Result<(), ProfileError> {
        let mut text = serde_json::to_vec(line).map_err(|error| ProfileError::Format(error.to_string()))?;
        text.push(b'\n');
        self.file.write_all(&text).map_err(|source| written(&self.path, source))
    }
}

fn written(path: &Path, source: std::io::Error) -> ProfileError {
    SceneError::Write { path: path.to_owned(), source }.into()
}
