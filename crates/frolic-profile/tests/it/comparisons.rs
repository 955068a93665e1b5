//! Comparisons of profiles: which points are compared, what counts as a change, and how it is reported.

use std::time::Duration;

use frolic_core::{Counter, Frame, Stage};
use frolic_profile::{
    CompareSpec, Comparison, Plan, Profile, Run, Subject, Variant, Verdict, compare, compare_builds,
    compare_variants, sweep_subjects,
};
use proptest::prelude::*;

use crate::loads::{Cost, Load, measured, plan};

/// Frames of three stages, in milliseconds: integrate, raster, and a sort that hardly counts.
struct Stages([f64; 3]);

impl Subject for Stages {
    fn begin(&mut self, count: u32) -> Result<Box<dyn Run + '_>, String> {
        let each = self.0.map(|ms| Duration::from_secs_f64(ms * 1e-3));
        let frame = Frame::new(each.iter().sum())
            .with_stage(Stage::Integrate, each[0])
            .with_stage(Stage::Raster, each[1])
            .with_stage(Stage::Sort, each[2])
            .with_count(Counter::Alive, u64::from(count));
        Ok(Box::new(move || Ok(frame)))
    }
}

fn profiled(variants: &[(&str, [f64; 3])], counts: &str) -> Profile {
    let variants = variants.iter().map(|(name, ms)| Variant::new(name, Stages(*ms))).collect();
    let plan: Plan = plan(counts, 20);
    sweep_subjects("stages", variants, &plan, None, |_| true).unwrap()
}

/// Verdicts with stages, by variant and count.
fn verdicts(comparison: &Comparison) -> Vec<(&str, u32, &str, Verdict)> {
    let changes = comparison.changes.iter();
    changes
        .map(|it| (it.variant.as_str(), it.count, it.stage.as_deref().unwrap_or("frame"), it.verdict))
        .collect()
}

#[test]
fn the_stage_that_changed_is_named() {
    let base = profiled(&[("it", [4.0, 4.0, 0.1])], "1k");
    let new = profiled(&[("it", [4.0, 6.0, 0.2])], "1k");
    let comparison = compare(&base, &new, &CompareSpec::default()).unwrap();
    // The sort is twice as slow, but below a fiftieth of the frame.
    let told = verdicts(&comparison);
    assert_eq!(told[0], ("it", 1_000, "frame", Verdict::Slower));
    assert!(told.contains(&("it", 1_000, "raster", Verdict::Slower)), "{told:?}");
    assert!(told.contains(&("it", 1_000, "integrate", Verdict::NoDifference)), "{told:?}");
    assert!(told.iter().all(|it| it.2 != "sort"), "{told:?}");
    let change = &comparison.changes[0];
    assert!((change.base_ms - 8.1).abs() < 1e-6 && (change.new_ms - 10.2).abs() < 1e-6, "{change:?}");
    assert!(change.interval.low <= change.ratio && change.ratio <= change.interval.high);
    // In words: the frame, and below it the stages that changed.
    let lines = comparison.lines();
    assert_eq!(lines.len(), 2, "{lines:?}");
    assert!(
        lines[0].starts_with("it     1k") && lines[0].contains("8.100 ->    10.200 ms   +25.9%"),
        "{lines:?}"
    );
    assert!(lines[1].trim_start().starts_with("raster") && lines[1].ends_with("slower"), "{lines:?}");
}

#[test]
fn points_of_one_profile_alone_are_named() {
    let base = profiled(&[("a", [1.0; 3]), ("gone", [1.0; 3])], "1k,2k");
    let new = profiled(&[("a", [1.0; 3]), ("new", [1.0; 3])], "2k,4k");
    let comparison = compare(&base, &new, &CompareSpec::default()).unwrap();
    assert!(verdicts(&comparison).iter().all(|it| (it.0, it.1) == ("a", 2_000)));
    let expected = ["a at 4k", "new at 2k", "new at 4k", "a at 1k", "gone at 1k", "gone at 2k"];
    assert_eq!(comparison.missing, expected);
    let lines = comparison.lines();
    assert_eq!(lines.iter().filter(|line| line.starts_with("only in one of them: ")).count(), 6);
}

/// Builds are distinguished by the end of their variants' names, and the other build is the base.
#[test]
fn builds_are_compared_by_variant() {
    let all = [
        ("each, this build", [2.0, 2.0, 2.0]),
        ("each, other build", [3.0, 3.0, 2.0]),
        ("batched, this build", [1.0; 3]),
        ("batched, other build", [1.0; 3]),
    ];
    let comparison = compare_builds(&profiled(&all, "500")).unwrap();
    let frames: Vec<_> = verdicts(&comparison).into_iter().filter(|it| it.2 == "frame").collect();
    let expected =
        [("each", 500, "frame", Verdict::Faster), ("batched", 500, "frame", Verdict::NoDifference)];
    assert_eq!(frames, expected);
    assert_eq!(comparison.slower(0.0).count(), 0);
    // A profile of one build has none to compare.
    let problem = compare_builds(&profiled(&[("each", [1.0; 3])], "500")).unwrap_err();
    assert!(problem.to_string().contains("share no variant"), "{problem}");
}

#[test]
fn variants_without_a_count_in_common_are_refused() {
    let mut profile = profiled(&[("a", [1.0; 3]), ("b", [1.0; 3])], "1k,2k");
    profile.variants[0].points.remove(1);
    profile.variants[1].points.remove(0);
    let problem = compare_variants(&profile, 0, 1).unwrap_err().to_string();
    assert!(problem.contains("no variant at the same count"), "{problem}");
    for nth in [(0, 2), (7, 0)] {
        assert!(
            compare_variants(&profile, nth.0, nth.1).unwrap_err().to_string().contains("there is no variant")
        );
    }
}

#[test]
fn devices_and_paces_are_part_of_a_machine() {
    let base = profiled(&[("it", [1.0; 3])], "1k");
    let mut new = base.clone();
    new.machine.device = Some("a device".to_owned());
    let problem = compare(&base, &new, &CompareSpec::default()).unwrap_err().to_string();
    assert!(
        problem.starts_with("they cannot be compared: the machines differ") && problem.contains("a device"),
        "{problem}"
    );
    // The version may differ: that is what comparisons are for.
    new.machine.device = None;
    new.machine.frolic = "99.0.0".to_owned();
    (new.pace.compute, new.pace.memory) = (base.pace.compute * 1.5, base.pace.memory * 1.2);
    let comparison = compare(&base, &new, &CompareSpec::default()).unwrap();
    assert!((comparison.pace - 1.5).abs() < 1e-9, "{}", comparison.pace);
    let divided = compare(&base, &new, &CompareSpec::default().undrift(true)).unwrap();
    assert_eq!(divided.pace, 1.0);
    // Unknown, as in a profile by hand.
    let mut unknown = base.clone();
    unknown.pace.compute = 0.0;
    assert_eq!(compare(&unknown, &new, &CompareSpec::default()).unwrap().pace, 1.0);
}

/// A single turn is no evidence, whatever its ratio.
#[test]
fn one_turn_gives_no_verdict() {
    let mut base = profiled(&[("it", [1.0; 3])], "1k");
    base.variants[0].points[0].rounds.truncate(1);
    let new = profiled(&[("it", [9.0; 3])], "1k");
    let comparison = compare(&base, &new, &CompareSpec::default()).unwrap();
    assert_eq!(comparison.changes[0].verdict, Verdict::NoDifference);
    assert!((comparison.changes[0].ratio - 9.0).abs() < 1e-6);
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(16))]

    /// Of two noisy loads, the slower one is reported with a factor within its interval; with the loads exchanged it is the inverse.
    #[test]
    fn factors_are_found_in_both_directions(which in 0usize..3, seed in any::<u64>()) {
        let costs: [(Cost, f64); 3] = [(|n| n * 0.8, 0.8), (|n| n * 1.15, 1.15), (|n| n * 2.5, 2.5)];
        let (cost, factor) = costs[which];
        let plan = plan("10", 100);
        let base = measured(Load::new(|n| n, 0.01, seed), &plan);
        let new = measured(Load::new(cost, 0.01, seed ^ 1), &plan);
        for (a, b, factor) in [(&base, &new, factor), (&new, &base, 1.0 / factor)] {
            let change = &compare(a, b, &CompareSpec::default()).unwrap().changes[0];
            prop_assert!((change.ratio / factor - 1.0).abs() < 0.02, "{change:?}");
            prop_assert_eq!(change.verdict, if factor > 1.0 { Verdict::Slower } else { Verdict::Faster });
        }
    }
}
