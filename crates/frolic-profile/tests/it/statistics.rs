//! Intervals, growth, ceilings and comparisons against what is known of synthetic loads, and against a recorded, noisy series.

use std::time::Duration;

use frolic_core::Frame;
use frolic_profile::noise::{Pace, Reference};
use frolic_profile::stats::{Dice, bootstrap, median, quantile_of, warm_up};
use frolic_profile::{
    CeilingPlan, CompareSpec, Growth, Journal, JournalOf, Profile, Run, Subject, Variant, Verdict, ceiling,
    compare, sweep_subjects,
};
use proptest::prelude::*;
use rayon::prelude::*;

use crate::loads::{Cost, Load, frame, measured, normal, plan};

/// Times of a power, with noise, at eight counts a decade.
fn points(cost: impl Fn(f64) -> f64, noise: f64, seed: u64) -> Vec<(f64, f64)> {
    let mut dice = Dice::new(seed);
    (0..25)
        .map(|nth| 1e3 * 10f64.powf(f64::from(nth) / 8.0))
        .map(|n| (n, cost(n) * (normal(&mut dice) * noise).exp()))
        .collect()
}

#[test]
fn exponents_are_recovered() {
    // What a straight line makes of n log n over these counts.
    let n_log_n = {
        let straight = points(|n| n * n.ln(), 0.0, 1);
        Growth::of(&straight, 0.0).unwrap().exponent
    };
    assert!((n_log_n - 1.1).abs() < 0.02, "{n_log_n}");
    let loads: [(Cost, f64); 4] = [
        (|n| n * 3e-6, 1.0),
        (|n| n * n.ln() * 1e-6, n_log_n),
        (|n| n * n * 1e-9, 2.0),
        (|n| n.sqrt() * 1e-2, 0.5),
    ];
    for (cost, exponent) in loads {
        let mut held = 0;
        for seed in 0..20 {
            let growth = Growth::of(&points(cost, 0.02, seed), 0.02).unwrap();
            assert!((growth.exponent - exponent).abs() < 0.03, "{} for {exponent}", growth.exponent);
            assert!(growth.knees.is_empty(), "{:?}", growth.knees);
            held += u32::from(growth.interval.holds(exponent));
        }
        assert!(held >= 17, "{held} of 20 intervals hold {exponent}");
    }
}

#[test]
fn knees_are_found_where_they_are() {
    // A fixed cost that is overtaken, and a stage that turns quadratic.
    let turns: Cost = |n| if n < 40e3 { n * 1e-4 } else { n * n / 40e3 * 1e-4 };
    let floor: Cost = |n| (n * 1e-4).max(2.0);
    for (cost, at, [before, after]) in [(turns, 40e3, [1.0, 2.0]), (floor, 20e3, [0.0, 1.0])] {
        for seed in 0..20 {
            let growth = Growth::of(&points(cost, 0.02, seed), 0.02).unwrap();
            let [knee] = &growth.knees[..] else { panic!("{:?}", growth.knees) };
            assert!((knee.count / at).ln().abs() < 0.25, "{} for {at}", knee.count);
            assert!((knee.before - before).abs() < 0.03 && (knee.after - after).abs() < 0.03, "{knee:?}");
            assert!((growth.exponent - after).abs() < 0.03);
            assert!(growth.counts[0] > at * 0.7);
        }
    }
}

#[test]
fn a_fitted_line_predicts() {
    let growth = Growth::of(&points(|n| n * 1e-5, 0.0, 1), 0.0).unwrap();
    assert!((growth.at(4e6) - 40.0).abs() < 1e-6);
    assert!((growth.reaches(16.0).unwrap() - 1.6e6).abs() < 1.0);
    let flat = Growth::of(&points(|_| 3.0, 0.0, 1), 0.0).unwrap();
    assert_eq!(flat.reaches(16.0), None);
    for nothing in [&[][..], &[(5.0, 1.0)], &[(0.0, 1.0), (5.0, f64::NAN)], &[(5.0, 1.0), (5.0, 2.0)]] {
        assert_eq!(Growth::of(nothing, 0.0), None);
    }
}

/// 95 % intervals hold the truth nearly as often as they say, for samples that are alike within rounds.
#[test]
fn intervals_hold_the_truth() {
    let mut dice = Dice::new(3);
    let (mut medians, mut late) = (0, 0);
    const CASES: u32 = 300;
    for _ in 0..CASES {
        let rounds: Vec<Vec<f64>> = (0..24)
            .map(|_| {
                let shift = normal(&mut dice) * 0.05;
                (0..5).map(|_| (shift + normal(&mut dice) * 0.05).exp()).collect()
            })
            .collect();
        medians += u32::from(bootstrap(&rounds, 1, median).holds(1.0));
        // The 0.95 quantile of a spread of 0.05 times the root of two.
        let truth = (0.05f64 * 2f64.sqrt() * 1.645).exp();
        late += u32::from(bootstrap(&rounds, 1, |all| quantile_of(all, 0.95)).holds(truth));
    }
    assert!(medians * 100 >= CASES * 90, "{medians} of {CASES}");
    assert!(late * 100 >= CASES * 82, "{late} of {CASES}");
}

/// What repeats makes no interval wider, where rounds take turns at its moments.
#[test]
fn periodic_samples_keep_narrow_intervals() {
    let mut dice = Dice::new(4);
    let rounds: Vec<Vec<f64>> = (0..32)
        .map(|nth| {
            let high = if nth % 8 < 3 { 2.0 } else { 1.0 };
            (0..5).map(|_| high * (normal(&mut dice) * 0.01).exp()).collect()
        })
        .collect();
    let of_all = |samples: &[f64]| samples.iter().sum::<f64>() / samples.len() as f64;
    let apart = bootstrap(&rounds, 8, of_all);
    let mixed = bootstrap(&rounds, 1, of_all);
    assert!(apart.half_width_of(1.4) < 0.01 && mixed.half_width_of(1.4) > 0.05, "{apart:?} {mixed:?}");
}

proptest! {
    /// A slow start is found, and little is taken off what is level.
    #[test]
    fn warm_ups_are_found(slow in 0usize..60, rest in 150usize..300, seed in any::<u64>()) {
        let mut dice = Dice::new(seed);
        let mut value = |ms: f64| ms * (normal(&mut dice) * 0.01).exp();
        let samples: Vec<f64> = (0..slow + rest).map(|nth| value(if nth < slow { 2.0 } else { 1.0 })).collect();
        let found = warm_up(&samples);
        prop_assert!(found <= slow + 60 && found + 10 >= slow.min(samples.len() / 2), "{} of {}", found, slow);
        prop_assert!(found <= samples.len() / 2);
    }

    #[test]
    fn intervals_are_within_the_samples(samples in prop::collection::vec(prop::collection::vec(0.1f64..9.0, 1..6), 1..12)) {
        let interval = bootstrap(&samples, 1, median);
        let all = samples.concat();
        prop_assert!(interval.low >= quantile_of(&all, 0.0) && interval.high <= quantile_of(&all, 1.0));
        prop_assert!(interval.low <= interval.high);
    }
}

#[test]
fn ceilings_of_known_loads_are_found() {
    let loads: [Cost; 4] = [|n| n * 1e-4, |n| 9.0 + n * 1e-5, |n| n * n * 1e-9, |n| n * n.ln() * 1e-6];
    for cost in loads {
        for seed in 0..5 {
            let mut search = CeilingPlan::default();
            search.within = 0.02;
            // Of a spread of 0.02 the 0.95 quantile is 1.0334 times the median.
            let found = ceiling(&mut Load::new(cost, 0.02, seed), &search, |_| true).unwrap().unwrap();
            let p95 = cost(f64::from(found.count)) * 1.0334;
            let slope =
                (cost(f64::from(found.count) * 1.1) / cost(f64::from(found.count))).ln() / 1.1f64.ln();
            let off = (p95 / 16.666_667).ln() / slope;
            assert!(off.abs() < 0.05, "{} is off by {off}", found.count);
            assert!(found.interval.half_width_of(f64::from(found.count)) < 0.06, "{found:?}");
            assert!(found.remark.is_none() && found.tried.len() <= 30, "{} runs", found.tried.len());
        }
    }
}

/// A run that names no moment at all has one.
struct Nowhere;

impl Run for Nowhere {
    fn frame(&mut self) -> Result<Frame, String> {
        Ok(frame(1.0))
    }

    fn phases(&self) -> usize {
        0
    }
}

impl Subject for Nowhere {
    fn begin(&mut self, _count: u32) -> Result<Box<dyn Run + '_>, String> {
        Ok(Box::new(Nowhere))
    }
}

/// No time is too long, and no cycle too short: neither ends in a panic.
#[test]
fn extreme_plans_are_followed() {
    let mut plan = plan("1,2", 30);
    plan.time = Some(Duration::MAX);
    let profile =
        sweep_subjects("nowhere", vec![Variant::new("it", Nowhere)], &plan, None, |_| true).unwrap();
    assert_eq!(profile.variants[0].points.len(), 2);
    assert_eq!(profile.variants[0].points[0].phases, 1);
    let mut search = CeilingPlan::default();
    (search.time, search.most) = (Duration::MAX, 2_000);
    assert_eq!(ceiling(&mut Nowhere, &search, |_| true).unwrap().unwrap().count, 2_000);
}

#[test]
fn searches_end_at_their_bounds() {
    let mut search = CeilingPlan::default();
    search.most = 50_000;
    let found = ceiling(&mut Load::new(|_| 1.0, 0.0, 1), &search, |_| true).unwrap().unwrap();
    assert_eq!((found.count, found.interval.low), (50_000, 50_000.0));
    assert!(found.remark.unwrap().contains("largest allowed count"));
    let found = ceiling(&mut Load::new(|_| 100.0, 0.0, 1), &search, |_| true).unwrap().unwrap();
    assert_eq!(found.count, 0);
    assert!(found.remark.unwrap().contains("not even one"));
    assert_eq!(ceiling(&mut Load::new(|_| 1.0, 0.0, 1), &search, |_| false).unwrap(), None);
    for (budget, first) in
        [(Duration::ZERO, 1), (Duration::from_secs(9_999), 1), (Duration::from_millis(5), 0)]
    {
        (search.budget, search.first) = (budget, first);
        assert!(ceiling(&mut Load::new(|_| 1.0, 0.0, 1), &search, |_| panic!("runs")).is_err());
    }
}

/// Frames of `scenes/pennants.toml`, recorded on two cores of a shared machine: `series.txt`, a round a line.
fn series() -> Vec<Vec<f64>> {
    let text = include_str!("../data/series.txt");
    let round = |line: &str| line.split(' ').map(|word| word.parse().unwrap()).collect();
    text.lines().filter(|line| !line.starts_with('#')).map(round).collect()
}

#[test]
#[ignore = "slow: scripts/test runs it"]
fn repeated_runs_agree_and_three_percent_is_found() {
    let rounds = series();
    let template = measured(Load::new(|n| n, 0.01, 1), &plan("10", 5));
    // Rounds drawn anew, so many times as slow; as many as tell three percent apart in this noise.
    let run = |seed: u64, slower: f64| {
        let (mut profile, mut dice) = (template.clone(), Dice::new(seed));
        let point = &mut profile.variants[0].points[0];
        let round = point.rounds[0].clone();
        point.rounds = (0..600)
            .map(|_| {
                let mut round = round.clone();
                round.ms = rounds[dice.below(rounds.len())].iter().map(|ms| ms * slower).collect();
                round
            })
            .collect();
        profile
    };
    const ALL: usize = 40;
    let pair = |seed: u64| {
        let base = run(seed * 3 + 1, 1.0);
        let verdict =
            |new: &Profile| compare(&base, new, &CompareSpec::default()).unwrap().changes[0].verdict;
        [
            usize::from(verdict(&run(seed * 3 + 2, 1.0)) != Verdict::NoDifference),
            usize::from(verdict(&run(seed * 3 + 3, 1.03)) == Verdict::Slower),
        ]
    };
    let [called, found] =
        (0..ALL as u64).into_par_iter().map(pair).reduce(|| [0; 2], |a, b| [a[0] + b[0], a[1] + b[1]]);
    assert!(called * 100 < ALL * 5, "{called} of {ALL} re-runs were called a change");
    assert!(found * 100 > ALL * 90, "{found} of {ALL} slow-downs of 3 % were found");
}

#[test]
fn comparisons_refuse_what_cannot_be_compared() {
    let plan = plan("10,20", 40);
    let base = measured(Load::new(|n| n, 0.01, 1), &plan);
    let mut other = measured(Load::new(|n| n * 1.5, 0.01, 2), &plan);
    let spec = CompareSpec::default();
    let comparison = compare(&base, &other, &spec).unwrap();
    assert_eq!(comparison.slower(0.1).count(), 2);
    assert_eq!(comparison.slower(0.6).count(), 0);
    let stages = comparison.changes.iter().filter(|change| change.stage.as_deref() == Some("raster"));
    assert!(stages.clone().count() == 2 && stages.clone().all(|change| change.verdict == Verdict::Slower));
    assert!(comparison.lines().iter().any(|line| line.contains("slower") && line.contains("+5")));
    other.machine.threads += 1;
    let told = compare(&base, &other, &spec).unwrap_err().to_string();
    assert!(told.contains("machines differ"), "{told}");
    let mut lax = CompareSpec::default();
    lax.different = true;
    assert_eq!(compare(&base, &other, &lax).unwrap().differs.len(), 1);
    other.machine = base.machine.clone();
    other.scene_text = "other".to_owned();
    assert!(compare(&base, &other, &spec).unwrap_err().to_string().contains("scenes differ"));
    other.scene_text.clear();
    other.variants[0].points.remove(0);
    assert_eq!(compare(&base, &other, &spec).unwrap().missing, ["load at 10"]);
    other.variants[0].name = "gone".to_owned();
    assert!(compare(&base, &other, &spec).unwrap_err().to_string().contains("share no variant"));
}

/// A machine that is half as slow for one of them: divided by its pace, there is no change.
#[test]
fn drift_is_divided_out() {
    let plan = plan("10", 100);
    let base = measured(Load::new(|n| n, 0.01, 1), &plan);
    let mut slow = measured(Load::new(|n| n * 1.5, 0.01, 2), &plan);
    let mut steady = base.clone();
    for (profile, pace) in [(&mut steady, 1.0), (&mut slow, 1.5)] {
        for round in &mut profile.variants[0].points[0].rounds {
            round.pace = Pace { compute: pace, memory: pace };
        }
        profile.pace = Pace { compute: pace, memory: pace };
    }
    let mut spec = CompareSpec::default();
    assert_eq!(compare(&steady, &slow, &spec).unwrap().changes[0].verdict, Verdict::Slower);
    spec.undrift = true;
    let change = &compare(&steady, &slow, &spec).unwrap().changes[0];
    assert!(change.verdict == Verdict::NoDifference || (change.ratio - 1.0).abs() < 0.01, "{change:?}");
}

#[test]
fn the_reference_loop_takes_time() {
    let pace = Reference::default().pace();
    assert!(pace.compute > 0.0 && pace.memory > 0.0);
    assert!(!pace.is_disturbed(pace));
    assert!(Pace { compute: pace.compute * 2.0, ..pace }.is_disturbed(pace));
}

/// Killed at any frame and gone on with: all frames that were taken are there, and none twice.
#[test]
fn a_kill_loses_at_most_the_frame_in_flight() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("journal.jsonl");
    let of = JournalOf { scene: "load".to_owned(), variants: vec!["a".to_owned(), "b".to_owned()] };
    let mut plan = plan("10,20,30", 37);
    plan.within = 0.001;
    let variants = |seed| {
        vec![
            Variant::new("a", Load::new(|n| n, 0.05, seed)),
            Variant::new("b", Load::new(|n| n * 2.0, 0.05, seed)),
        ]
    };
    let mut dice = Dice::new(9);
    for _ in 0..8 {
        let mut journal = Journal::begin(&path, &of).unwrap();
        let mut frames_before = 0;
        for seed in 0..3u64 {
            // The watcher ends it at any turn; then the file is cut at any byte, as a kill leaves it.
            let mut turns = dice.below(25);
            sweep_subjects("load", variants(seed), &plan, Some(&mut journal), |_| {
                turns = turns.saturating_sub(1);
                turns > 0
            })
            .unwrap();
            drop(journal);
            let text = std::fs::read(&path).unwrap();
            let whole = text.iter().filter(|byte| **byte == b'\n').count();
            let head = text.iter().position(|byte| *byte == b'\n').unwrap() + 1;
            let last = text[..text.len() - 1]
                .iter()
                .rposition(|byte| *byte == b'\n')
                .map_or(head, |at| at + 1)
                .max(head);
            let cut = last + dice.below(text.len() - last + 1);
            std::fs::write(&path, &text[..cut]).unwrap();
            journal = Journal::resume(&path, &of).unwrap();
            let lines = whole - usize::from(cut < text.len());
            // The line that was cut may be one of before.
            assert!(
                journal.frames() < lines.max(1) && journal.frames() + 1 >= frames_before,
                "{lines} lines"
            );
            frames_before = journal.frames();
        }
        let profile = sweep_subjects("load", variants(7), &plan, Some(&mut journal), |_| true).unwrap();
        for variant in &profile.variants {
            assert_eq!(variant.points.iter().map(|point| point.count).collect::<Vec<_>>(), [10, 20, 30]);
            for point in &variant.points {
                assert_eq!(point.frames + point.warm_up, 37);
            }
        }
        journal.remove();
        assert!(!path.exists());
    }
}

#[test]
fn foreign_journals_are_refused() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("journal.jsonl");
    let of = |scene: &str| JournalOf { scene: scene.to_owned(), variants: Vec::new() };
    let told = |of: &JournalOf| Journal::resume(&path, of).unwrap_err().to_string();
    assert!(told(&of("a")).contains("nothing to resume"));
    Journal::begin(&path, &of("a")).unwrap();
    assert_eq!(Journal::resume(&path, &of("a")).unwrap().frames(), 0);
    assert!(told(&of("b")).contains("another scene"));
    for foreign in ["", "{}", "[1]\n", "{\"frame\":[0,0,1,[],[]]}\n"] {
        std::fs::write(&path, foreign).unwrap();
        assert!(told(&of("a")).contains("not the journal"), "{foreign}");
    }
    let text = "{\"journal\":{\"version\":99,\"frolic\":\"0\",\"of\":{\"scene\":\"a\",\"variants\":[]}}}\n";
    std::fs::write(&path, text).unwrap();
    assert!(told(&of("a")).contains("another version"));
}
