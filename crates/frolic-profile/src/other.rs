//! Another build of the program, measured beside this one. Each build is a process that takes frames on request, in turns with the
//! other, so that disturbances affect both.
//!
//! The protocol is lines of JSON: requests are `{"begin":COUNT}`, `"frame"` and `"go-on"`. Each is answered by one line, an error by
//! `{"error":"why"}`. The first line, without a request, is `{"frolic-frames":1}`. Frames are timed in their process, so the pipe costs
//! nothing. `docs/profile-format.md` describes it in full.

use std::io::{BufRead, BufReader, BufWriter, Write};
use std::path::PathBuf;
use std::process::{Child, ChildStdin, ChildStdout, Command, Stdio};
use std::time::Duration;

use cpu_time::ProcessTime;
use frolic_core::Frame;
use frolic_scene::SceneSpec;
use serde::{Deserialize, Serialize};

use crate::journal::Written;
use crate::noise::memory_of_process;
use crate::subject::{Elsewhere, Run, SceneSubject, Subject};

/// Version of the protocol.
const VERSION: u32 = 1;

/// Time limit for warming a scene up in the other process.
const PATIENCE: Duration = Duration::from_secs(120);

#[derive(Debug, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
enum Ask {
    Begin(u32),
    Frame,
    GoOn,
}

#[derive(Debug, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
enum Answer {
    FrolicFrames(u32),
    /// Number of phases, and the device that draws.
    Begun(usize, Option<String>),
    /// A frame, processor time of all threads so far in nanoseconds, and memory held in bytes.
    Frame(Written, u64, u64),
    Gone,
    Error(String),
}

/// Takes frames of a scene on request, line by line, until the input ends.
///
/// # Errors
/// Lines cannot be read or written.
pub fn answer_frames(scene: &SceneSpec, asked: impl BufRead, mut answers: impl Write) -> std::io::Result<()> {
    let mut subject = SceneSubject { spec: scene.clone(), patience: PATIENCE };
    let cpu = ProcessTime::now();
    let mut send = |answer: &Answer| {
        let mut line = serde_json::to_vec(answer).map_err(std::io::Error::other)?;
        line.push(b'\n');
        answers.write_all(&line)?;
        answers.flush()
    };
    send(&Answer::FrolicFrames(VERSION))?;
    let mut lines = asked.lines();
    let mut next = lines.next().transpose()?;
    // A run borrows the subject until the next one begins.
    while let Some(line) = next.take() {
        let count = match serde_json::from_str(&line) {
            Ok(Ask::Begin(count)) => count,
            Ok(_) => {
                send(&Answer::Error("nothing has begun yet".to_owned()))?;
                next = lines.next().transpose()?;
                continue;
            }
            Err(error) => return send(&Answer::Error(format!("'{line}': {error}"))),
        };
        let mut run = match subject.begin(count) {
            Ok(run) => run,
            Err(problem) => {
                send(&Answer::Error(problem))?;
                next = lines.next().transpose()?;
                continue;
            }
        };
        send(&Answer::Begun(run.phases(), run.device()))?;
        for line in lines.by_ref() {
            let line = line?;
            let answer = match serde_json::from_str(&line) {
                Ok(Ask::Begin(_)) => {
                    next = Some(line);
                    break;
                }
                Ok(Ask::Frame) => run.frame().map(|frame| {
                    Answer::Frame(Written::of(&frame), cpu.elapsed().as_nanos() as u64, memory_of_process())
                }),
                Ok(Ask::GoOn) => run.go_on().map(|()| Answer::Gone),
                Err(error) => Err(format!("'{line}': {error}")),
            };
            send(&answer.unwrap_or_else(Answer::Error))?;
        }
    }
    Ok(())
}

/// Another program that takes frames: a [`Subject`] in a process of its own.
#[derive(Debug, Clone)]
pub struct OtherProgram {
    path: PathBuf,
    args: Vec<String>,
}

impl OtherProgram {
    /// A program at a path, with arguments that make it call [`answer_frames`].
    pub fn new(path: impl Into<PathBuf>, args: impl IntoIterator<Item = String>) -> Self {
        Self { path: path.into(), args: args.into_iter().collect() }
    }
}

impl Subject for OtherProgram {
    fn begin(&mut self, count: u32) -> Result<Box<dyn Run + '_>, String> {
        let named = |problem: &dyn std::fmt::Display| format!("{}: {problem}", self.path.display());
        let mut child = Command::new(&self.path)
            .args(&self.args)
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .stderr(Stdio::null())
            .spawn()
            .map_err(|error| named(&error))?;
        let (Some(asks), Some(answers)) = (child.stdin.take(), child.stdout.take()) else {
            return Err(named(&"has no pipes"));
        };
        let mut run = OtherRun {
            child,
            asks: Some(BufWriter::new(asks)),
            answers: BufReader::new(answers),
            phases: 1,
            device: None,
            last: Elsewhere::default(),
        };
        match run.receive() {
            Ok(Answer::FrolicFrames(VERSION)) => {}
            Ok(Answer::FrolicFrames(version)) => {
                return Err(named(&format!(
                    "uses version {version} of the protocol, this program {VERSION}"
                )));
            }
            _ => return Err(named(&"cannot take frames for another program; build it from a newer version")),
        }
        match run.request(&Ask::Begin(count)).map_err(|problem| named(&problem))? {
            Answer::Begun(phases, device) => (run.phases, run.device) = (phases, device),
            _ => return Err(named(&"gave an unknown answer")),
        }
        Ok(Box::new(run))
    }
}

/// A process with a warmed-up scene.
struct OtherRun {
    child: Child,
    /// Closed to end it.
    asks: Option<BufWriter<ChildStdin>>,
    answers: BufReader<ChildStdout>,
    phases: usize,
    device: Option<String>,
    last: Elsewhere,
}

impl OtherRun {
    fn receive(&mut self) -> Result<Answer, String> {
        let mut line = String::new();
        match self.answers.read_line(&mut line) {
            Ok(0) => Err("the other program ended".to_owned()),
            Ok(_) => match serde_json::from_str(&line) {
                Ok(Answer::Error(problem)) => Err(problem),
                Ok(answer) => Ok(answer),
                Err(_) => Err("the other program gave an unknown answer".to_owned()),
            },
            Err(error) => Err(error.to_string()),
        }
    }

    fn request(&mut self, ask: &Ask) -> Result<Answer, String> {
        let mut line = serde_json::to_vec(ask).map_err(|error| error.to_string())?;
        line.push(b'\n');
        let asks = self.asks.as_mut().ok_or("the other program ended")?;
        asks.write_all(&line).and_then(|()| asks.flush()).map_err(|error| error.to_string())?;
        self.receive()
    }
}

impl Run for OtherRun {
    fn frame(&mut self) -> Result<Frame, String> {
        match self.request(&Ask::Frame)? {
            Answer::Frame(written, cpu, memory) => {
                self.last = Elsewhere { cpu: Duration::from_nanos(cpu), memory };
                Ok(written.frame())
            }
            _ => Err("the other program gave no frame".to_owned()),
        }
    }

    fn phases(&self) -> usize {
        self.phases
    }

    fn go_on(&mut self) -> Result<(), String> {
        self.request(&Ask::GoOn).map(|_| ())
    }

    fn device(&self) -> Option<String> {
        self.device.clone()
    }

    fn elsewhere(&self) -> Option<Elsewhere> {
        Some(self.last)
    }
}

impl Drop for OtherRun {
    fn drop(&mut self) {
        // It ends at the end of its input. If it does not, it is killed.
        self.asks = None;
        for _ in 0..50 {
            if matches!(self.child.try_wait(), Ok(Some(_))) {
                return;
            }
            std::thread::sleep(Duration::from_millis(10));
        }
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}
