//! What the benches share: contenders run in turn, round after round, so that a disturbance of the machine meets all of
//! them, and the result is a ratio of medians within one run.
#![allow(dead_code)] // each bench uses what it needs

pub(crate) mod drawing;
#[cfg(feature = "gpu")]
pub(crate) mod minimal;

use std::path::{Path, PathBuf};
use std::process::Command;
use std::time::Instant;

use cpu_time::ProcessTime;

/// One way of doing the thing that is measured.
pub(crate) struct Contender<'a> {
    /// How the table names it.
    pub(crate) name: &'a str,
    /// One repetition.
    pub(crate) run: Box<dyn FnMut() + 'a>,
}

impl<'a> Contender<'a> {
    /// A contender.
    pub(crate) fn new(name: &'a str, run: impl FnMut() + 'a) -> Self {
        Self { name, run: Box::new(run) }
    }
}

/// Median times of a contender, s.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Median {
    /// Wall time.
    pub(crate) wall: f64,
    /// Processor time of all threads together.
    pub(crate) cpu: f64,
}

/// Runs every contender `rounds` times in turn after one round of warm-up; prints and returns each one's median times.
pub(crate) fn compare(
    title: &str,
    elements: usize,
    rounds: usize,
    mut contenders: Vec<Contender<'_>>,
) -> Vec<Median> {
    let mut times = vec![[Vec::with_capacity(rounds), Vec::with_capacity(rounds)]; contenders.len()];
    contenders.iter_mut().for_each(|contender| (contender.run)());
    for _ in 0..rounds {
        for (contender, [wall, cpu]) in contenders.iter_mut().zip(&mut times) {
            let started = (Instant::now(), ProcessTime::now());
            (contender.run)();
            wall.push(started.0.elapsed().as_secs_f64());
            cpu.push(started.1.elapsed().as_secs_f64());
        }
    }
    println!("\n{title}, {elements} elements, median of {rounds} interleaved rounds");
    println!("  {:44} {:>12} {:>12} {:>17}", "", "wall", "CPU", "CPU an element");
    let medians: Vec<Median> =
        times.iter_mut().map(|[wall, cpu]| Median { wall: median(wall), cpu: median(cpu) }).collect();
    for (contender, Median { wall, cpu }) in contenders.iter().zip(&medians) {
        let each = cpu * 1e9 / elements as f64;
        println!("  {:44} {:9.2} ms {:9.2} ms {each:14.2} ns", contender.name, wall * 1e3, cpu * 1e3);
    }
    medians
}

/// The middle one.
pub(crate) fn median(times: &mut [f64]) -> f64 {
    times.sort_by(f64::total_cmp);
    times[times.len() / 2]
}

/// Prints a value beside what it must reach; benches report, tests judge.
pub(crate) fn at_least(what: &str, value: f64, bar: f64) {
    let verdict = if value >= bar { "reached" } else { "MISSED" };
    println!("  {what}: {value:.2} (bar: at least {bar}, {verdict})");
}

/// Prints a value beside what it must not pass.
pub(crate) fn at_most(what: &str, value: f64, bar: f64) {
    let verdict = if value <= bar { "reached" } else { "MISSED" };
    println!("  {what}: {value:.2} (bar: at most {bar}, {verdict})");
}

/// Builds the command of a work tree into a folder of its own beneath `target`.
pub(crate) fn command(tree: &Path, name: &str, flags: &str) -> Result<PathBuf, String> {
    let folder = tree.join("target").join(name);
    let status = Command::new(env!("CARGO"))
        .current_dir(tree)
        .args(["build", "--release", "-p", "frolic-cli", "--target-dir"])
        .arg(&folder)
        .env("RUSTFLAGS", flags)
        .status()
        .map_err(|error| error.to_string())?;
    if status.success() {
        Ok(folder.join("release/frolic"))
    } else {
        Err(format!("{name} of {} does not build", tree.display()))
    }
}
