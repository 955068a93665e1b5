//! What the benches share: contenders run in turn, round after round, so that a disturbance of the machine meets all of
//! them, and the result is a ratio of medians within one run.

use std::time::Instant;

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

/// Runs every contender `rounds` times in turn after one round of warm-up; prints and returns each one's median time, s.
pub(crate) fn compare(
    title: &str,
    elements: usize,
    rounds: usize,
    mut contenders: Vec<Contender<'_>>,
) -> Vec<f64> {
    let mut times = vec![Vec::with_capacity(rounds); contenders.len()];
    contenders.iter_mut().for_each(|contender| (contender.run)());
    for _ in 0..rounds {
        for (contender, times) in contenders.iter_mut().zip(&mut times) {
            let started = Instant::now();
            (contender.run)();
            times.push(started.elapsed().as_secs_f64());
        }
    }
    println!("\n{title}, {elements} elements, median of {rounds} interleaved rounds");
    let medians: Vec<f64> = times
        .iter_mut()
        .map(|times| {
            times.sort_by(f64::total_cmp);
            times[times.len() / 2]
        })
        .collect();
    for (contender, median) in contenders.iter().zip(&medians) {
        let each = median * 1e9 / elements as f64;
        println!("  {:42} {:9.3} ms {each:8.2} ns/element", contender.name, median * 1e3);
    }
    medians
}

/// Prints a ratio beside what it must reach; benches report, tests judge.
pub(crate) fn ratio(what: &str, value: f64, bar: f64) {
    let verdict = if value >= bar { "reached" } else { "MISSED" };
    println!("  {what}: {value:.2} (bar {bar}, {verdict})");
}
