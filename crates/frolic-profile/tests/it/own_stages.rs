//! Stages and counters of a program: in the table, the files, the charts, the trace, comparisons and journals, like those that ship.

use std::time::Duration;

use frolic_core::{Counter, Frame, Meter, Stage};
use frolic_profile::{
    Chart, CompareSpec, Journal, JournalOf, Plan, Profile, Run, Subject, Variant, Verdict, compare,
    profile_from_json, report, sweep_subjects, write_profile,
};
use serde_json::Value;

/// Frames half of which are the program's own stage.
struct Pond {
    ms: f64,
}

fn own() -> (Stage, Counter) {
    (Stage::custom("ripples").unwrap(), Counter::custom("splashes").unwrap())
}

impl Subject for Pond {
    fn begin(&mut self, count: u32) -> Result<Box<dyn Run + '_>, String> {
        let (ripples, splashes) = own();
        let time = |ms: f64| Duration::from_secs_f64(ms * 1e-3);
        let frame = Frame::new(time(4.0 + self.ms))
            .with_stage(Stage::Integrate, time(3.0))
            .with_stage(ripples, time(self.ms))
            .with_moved(ripples, 4_096)
            .with_count(splashes, u64::from(count) / 10)
            .with_count(Counter::Alive, u64::from(count));
        Ok(Box::new(move || Ok(frame)))
    }
}

fn plan() -> Plan {
    let mut plan = Plan::default();
    (plan.counts, plan.frames) = ("100,200,400".parse().unwrap(), 15);
    plan
}

fn profiled(ms: f64) -> Profile {
    sweep_subjects("pond", vec![Variant::new("rain", Pond { ms })], &plan(), None, |_| true).unwrap()
}

#[test]
fn own_stages_are_in_tables_charts_and_files() {
    let profile = profiled(5.0);
    let point = &profile.variants[0].points[2];
    assert!((point.stage("ripples").unwrap().ms - 5.0).abs() < 1e-9);
    assert_eq!((point.counter("splashes"), point.counter("nothing")), (Some(40), None));
    let table = profile.table();
    assert!(table.contains("ripples 56%") && table.contains("ripples 5.00 ms"), "{table}");
    assert!(table.contains("counted: splashes 40"), "{table}");
    let svg = Chart::stages(&profile).svg().unwrap();
    assert!(
        svg.contains("ripples") && svg.contains("leads") | svg.contains("ripples is 56 %"),
        "no stage of its own"
    );
    let folder = tempfile::tempdir().unwrap();
    write_profile(&profile, folder.path()).unwrap();
    let mut csv = csv::Reader::from_path(folder.path().join("profile.csv")).unwrap();
    let names = csv.headers().unwrap().clone();
    let column = |name: &str| names.iter().position(|own| own == name).unwrap_or_else(|| panic!("{name}"));
    for row in csv.records().map(Result::unwrap) {
        assert_eq!(row.len(), names.len());
        assert_eq!((&row[column("ripples_ms")], &row[column("ripples_bytes")]), ("5.0000", "4096"));
        assert_eq!((&row[column("integrate_ms")], &row[column("other_ms")]), ("3.0000", "1.0000"));
    }
    let page = report(&profile).unwrap();
    assert!(page.contains("ripples"));
    let back =
        profile_from_json(&std::fs::read_to_string(folder.path().join("profile.json")).unwrap()).unwrap();
    assert_eq!(back.variants, profile.variants);
}

#[test]
fn own_stages_are_compared_and_grow() {
    let (base, slow) = (profiled(5.0), profiled(6.0));
    let comparison = compare(&base, &slow, &CompareSpec::default()).unwrap();
    let changed: Vec<_> =
        comparison.changes.iter().filter(|change| change.stage.as_deref() == Some("ripples")).collect();
    assert_eq!(changed.len(), 3);
    assert!(
        changed.iter().all(|change| change.verdict == Verdict::Slower && (change.ratio - 1.2).abs() < 1e-9)
    );
    let growth = base.variants[0].growth.as_ref().unwrap();
    assert!(growth.stages.iter().any(|stage| stage.stage == "ripples"), "{growth:?}");
}

/// A profile of a subject without them has none, although the process knows their names.
#[test]
fn other_subjects_have_no_own_stages() {
    own();
    struct Plain;
    impl Subject for Plain {
        fn begin(&mut self, _count: u32) -> Result<Box<dyn Run + '_>, String> {
            Ok(Box::new(|| {
                Ok(Frame::new(Duration::from_millis(3)).with_stage(Stage::Sort, Duration::from_millis(2)))
            }))
        }
    }
    let profile = sweep_subjects("plain", vec![Variant::new("it", Plain)], &plan(), None, |_| true).unwrap();
    let point = &profile.variants[0].points[0];
    assert!(point.stage("ripples").is_none() && point.counter("splashes").is_none());
    assert!(point.stage("sort").is_some() && point.counter("steps") == Some(0));
    assert!(!profile.table().contains("counted:"));
}

/// Taken up again from a journal they are the same.
#[test]
fn own_stages_outlive_a_kill() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("journal.jsonl");
    let of = JournalOf { scene: "pond".to_owned(), variants: vec!["rain".to_owned()] };
    let run = |journal: &mut Journal, mut turns: u32| {
        let variants = vec![Variant::new("rain", Pond { ms: 5.0 })];
        sweep_subjects("pond", variants, &plan(), Some(journal), |_| {
            turns -= 1;
            turns > 0
        })
        .unwrap()
    };
    assert!(run(&mut Journal::begin(&path, &of).unwrap(), 3).interrupted);
    let whole = run(&mut Journal::resume(&path, &of).unwrap(), 1_000);
    for point in &whole.variants[0].points {
        let ripples = point.stage("ripples").unwrap();
        assert!((ripples.ms - 5.0).abs() < 1e-9 && ripples.rounds.iter().all(|ms| (ms - 5.0).abs() < 1e-9));
        assert_eq!(point.counter("splashes"), Some(u64::from(point.count) / 10));
    }
}

/// A real loop, timed: the trace has spans of the stage in every frame.
#[test]
fn own_stages_are_traced() {
    struct Timed;
    impl Subject for Timed {
        fn begin(&mut self, count: u32) -> Result<Box<dyn Run + '_>, String> {
            let (ripples, splashes) = own();
            let mut meter = Meter::new();
            Ok(Box::new(move || {
                meter.begin_frame();
                let started = meter.start(ripples);
                std::hint::black_box(
                    (0..count * 50).fold(0u32, |sum, n| sum.wrapping_mul(31).wrapping_add(n)),
                );
                meter.stop(started);
                meter.set(splashes, 3);
                Ok(meter.end_frame())
            }))
        }
    }
    let profile = sweep_subjects("timed", vec![Variant::new("it", Timed)], &plan(), None, |_| true).unwrap();
    let folder = tempfile::tempdir().unwrap();
    write_profile(&profile, folder.path()).unwrap();
    let trace: Value =
        serde_json::from_str(&std::fs::read_to_string(folder.path().join("trace.json")).unwrap()).unwrap();
    let events = trace["traceEvents"].as_array().unwrap();
    let spans = events.iter().filter(|event| event["name"] == "ripples" && event["cat"] == "stage").count();
    let frames = events.iter().filter(|event| event["cat"] == "frame").count();
    assert!(frames > 0 && spans == frames, "{spans} in {frames}");
}
