//! Searches for the largest count that fits a budget.

use std::time::Duration;

use frolic_profile::stats::Interval;
use frolic_profile::{
    Ceiling, CeilingPlan, Chart, Plan, ProfileError, Run, Subject, ceiling, ceilings, profile_from_json,
};
use frolic_scene::SceneSpec;
use proptest::prelude::*;

use crate::loads::{Load, frame};

fn searched(subject: &mut dyn Subject, search: &CeilingPlan) -> Ceiling {
    ceiling(subject, search, |_| true).unwrap().unwrap()
}

/// Frames of 1 µs an element, up to a count.
struct Limited {
    most: u32,
}

impl Subject for Limited {
    fn begin(&mut self, count: u32) -> Result<Box<dyn Run + '_>, String> {
        if count > self.most {
            return Err(format!("holds {} elements", self.most));
        }
        Ok(Box::new(move || Ok(frame(f64::from(count) * 1e-3))))
    }
}

#[test]
fn a_count_that_cannot_run_ends_the_search() {
    let found = searched(&mut Limited { most: 7_000 }, &CeilingPlan::default());
    let remark = found.remark.unwrap();
    assert!(remark.ends_with("cannot run: holds 7000 elements"), "{remark}");
    // It is known from below alone.
    assert!((1_000..=7_000).contains(&found.count), "{}", found.count);
    assert_eq!(found.interval, Interval { low: f64::from(found.count), high: f64::from(u32::MAX) });
    assert!(found.tried.iter().all(|run| run.count <= 7_000));
}

#[test]
fn a_first_count_that_cannot_run_is_an_error() {
    let problem = ceiling(&mut Limited { most: 10 }, &CeilingPlan::default(), |_| true).unwrap_err();
    assert_eq!(problem.to_string(), "holds 10 elements");
    assert!(matches!(problem, ProfileError::Format(_)));
}

/// Frames that take as long at any count cross no budget: the answer says so and has no narrow interval.
#[test]
fn noise_without_growth_is_not_called_a_crossing() {
    let mut search = CeilingPlan::default();
    search.most = 1_000_000;
    for seed in 0..6 {
        let found = searched(&mut Load::new(|_| 14.2, 0.1, seed), &search);
        let Interval { low, high } = found.interval;
        assert!(high / low.max(1.0) > 1.5 && low <= f64::from(found.count), "{low} to {high}");
        assert!(found.remark.is_some() && found.tried.len() < 40, "{} runs", found.tried.len());
    }
}

/// Frames that jump over the budget, as past the end of a cache: the jump is found to a hundredth.
#[test]
fn a_jump_over_the_budget_is_found() {
    let jump = |n: f64| if n < 123_456.0 { 3.0 } else { 90.0 };
    let found = searched(&mut Load::new(jump, 0.05, 2), &CeilingPlan::default());
    let Interval { low, high } = found.interval;
    assert!(low < 123_456.0 && high >= 123_456.0 && high / low < 1.02, "{low} to {high}");
    assert!(f64::from(found.count) == low && found.remark.is_none(), "{} of {low}", found.count);
}

/// A search with no time at all measures one count and says how little it knows.
#[test]
fn a_late_search_tells_what_it_knows() {
    let mut search = CeilingPlan::default();
    search.time = Duration::ZERO;
    let found = searched(&mut Load::new(|n| n * 1e-4, 0.01, 1), &search);
    assert_eq!((found.tried.len(), found.count), (1, 1_000));
    assert!(found.remark.unwrap().starts_with("time ran out"));
}

#[test]
fn plans_out_of_range_are_refused() {
    let with = |change: fn(&mut CeilingPlan)| {
        let mut search = CeilingPlan::default();
        change(&mut search);
        search.check().map_err(|error| error.to_string())
    };
    assert_eq!(with(|_| {}), Ok(()));
    type Change = fn(&mut CeilingPlan);
    let faults: [(Change, &str); 6] = [
        (|it| it.budget = Duration::ZERO, "budget '0ns': write a time from 0.01ms to 3600s"),
        (|it| it.budget = Duration::from_secs(3_601), "budget '3601s'"),
        (|it| it.within = 0.0, "within '0': write a share from 0.005 to 1"),
        (|it| it.within = f64::NAN, "within 'NaN'"),
        (|it| it.first = 0, "first '0': write a count from 1 to the maximum"),
        (|it| (it.first, it.most) = (500, 400), "first '500'"),
    ];
    for (change, told) in faults {
        let problem = with(change).unwrap_err();
        assert!(problem.starts_with(told), "{problem}");
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]

    /// Any steady load of any budget: the count fits by the definition, and no run leaves the bounds.
    #[test]
    fn ceilings_of_any_line_are_found(budget_ms in 0.5f64..200.0, most in 20_000u32..4_000_000, seed in any::<u64>()) {
        let mut search = CeilingPlan::default();
        (search.budget, search.most) = (Duration::from_secs_f64(budget_ms * 1e-3), most);
        let mut counts = Vec::new();
        let found = ceiling(&mut Load::new(|n| 0.1 + n * 1e-4, 0.01, seed), &search, |count| {
            counts.push(count);
            true
        });
        let found = found.unwrap().unwrap();
        let told: Vec<u32> = found.tried.iter().map(|run| run.count).collect();
        prop_assert_eq!(&counts[..told.len()], &told[..]);
        prop_assert!(counts.iter().all(|count| (1..=most).contains(count)), "{counts:?}");
        // The 0.95 quantile of a spread of 0.01 is 1.0166 times the median.
        let fits = ((budget_ms / 1.0166 - 0.1) / 1e-4).min(f64::from(most));
        prop_assert!((f64::from(found.count) / fits - 1.0).abs() < 0.06, "{} for {fits}", found.count);
        prop_assert!(found.interval.low <= f64::from(found.count) + 1.0);
    }
}

/// A scene by two techniques: both are named, and what was finished stays if the second is interrupted.
#[test]
fn variants_of_a_scene_are_searched_in_turn() {
    let small = [
        ("draw.size", "[64, 40]"),
        ("embers.life", "[0.2, 0.3]"),
        ("smoke.count", "0"),
        ("flames.count", "0"),
    ];
    let scene = SceneSpec::find("beacon").unwrap();
    let scene = small.iter().fold(scene, |scene, (key, value)| scene.set(key, value).unwrap());
    let mut plan = Plan::default();
    plan.vary.push("draw.technique=batched,instanced".parse().unwrap());
    let mut search = CeilingPlan::default();
    (search.most, search.time, search.budget) = (2_000, Duration::from_secs(5), Duration::from_secs(1));
    let found = ceilings("beacon", &scene, &plan, &search, |_, _| true).unwrap();
    let names: Vec<&str> = found.iter().map(|ceiling| ceiling.variant.as_str()).collect();
    assert_eq!(names, ["batched", "instanced"]);
    for ceiling in &found {
        assert_eq!((ceiling.count, ceiling.budget_ms), (2_000, 1_000.0));
        assert_eq!(ceiling.settings, [("draw.technique".to_owned(), ceiling.variant.clone())]);
    }
    let first = ceilings("beacon", &scene, &plan, &search, |variant, _| variant == "batched").unwrap();
    assert_eq!(first.len(), 1);
    // It is data: as JSON it keeps what a chart needs.
    let text = serde_json::to_string(&found).unwrap();
    let back: Vec<Ceiling> = serde_json::from_str(&text).unwrap();
    let svg = Chart::ceilings("beacon", "embers", &back).svg().unwrap();
    assert_eq!(svg, Chart::ceilings("beacon", "embers", &found).svg().unwrap());
    assert!(svg.contains("batched") && svg.contains("instanced") && svg.contains("an arrow: no upper bound"));
    assert!(profile_from_json(&text).is_err());
}
