//! Meters: custom stages and counters, gauges.

use std::time::Duration;

use frolic_core::trace::{Trace, What};
use frolic_core::{Counter, Frame, MOST_CUSTOM, Meter, Stage};
use proptest::prelude::*;

#[test]
fn custom_stages_are_metered_like_built_in_ones() {
    let own = Stage::custom("meter_ripples").unwrap();
    assert_eq!(Stage::custom("meter_ripples").unwrap(), own);
    assert_eq!((own.name(), Stage::named("meter_ripples")), ("meter_ripples", Some(own)));
    assert!(!own.on_device() && own.index() >= Stage::ALL.len() && own.index() < Stage::MOST);
    assert!(Stage::all().any(|stage| stage == own) && !Stage::ALL.contains(&own));
    let trace = Trace::begin();
    let mut meter = Meter::new();
    meter.begin_frame();
    let started = meter.start(own);
    std::thread::sleep(Duration::from_millis(2));
    meter.stop(started);
    meter.moved(own, 512);
    let frame = meter.end_frame();
    let spans: Vec<What> =
        trace.end().into_iter().flat_map(|lane| lane.spans).map(|span| span.what).collect();
    assert!(spans.contains(&What::Stage(own)), "{spans:?}");
    assert!(frame.stage(own) >= Duration::from_millis(2) && frame.moved(own) == 512);
    // It is time inside of a stage.
    assert!(frame.other() + frame.stage(own) <= frame.total());
    let made = Frame::new(Duration::from_millis(9)).with_stage(own, Duration::from_millis(4));
    assert_eq!(made.other(), Duration::from_millis(5));
}

#[test]
fn a_part_of_a_stage_counts_for_another() {
    let mut meter = Meter::new();
    meter.begin_frame();
    meter.add_time(Stage::Raster, Duration::from_millis(6));
    meter.move_time(Stage::Raster, Stage::Backdrop, Duration::from_millis(2));
    let times = |frame: &Frame| [Stage::Raster, Stage::Backdrop].map(|stage| frame.stage(stage).as_millis());
    // No more than there is.
    meter.move_time(Stage::Shadow, Stage::Backdrop, Duration::from_millis(50));
    assert_eq!(times(&meter.end_frame()), [4, 2]);
    meter.begin_frame();
    meter.add_time(Stage::Raster, Duration::from_millis(3));
    meter.move_time(Stage::Raster, Stage::Backdrop, Duration::from_secs(1));
    assert_eq!(times(&meter.end_frame()), [0, 3]);
}

#[test]
fn counters_add_and_gauges_are_set() {
    let [sum, level] = ["meter_sum", "meter_level"].map(|name| Counter::custom(name).unwrap());
    let mut meter = Meter::new();
    meter.begin_frame();
    for nth in 1..=4 {
        meter.add(sum, nth);
        meter.set(level, nth * 10);
    }
    let frame = meter.end_frame();
    assert_eq!((frame.count(sum), frame.count(level)), (10, 40));
    // Each frame begins at 0.
    meter.begin_frame();
    assert_eq!(meter.end_frame().count(level), 0);
    assert_eq!(meter.last().count(sum), 0);
}

/// Indices of all are different, so that no two share a place in a frame.
#[test]
fn every_stage_and_counter_has_its_place() {
    Counter::custom("meter_places").unwrap();
    let mut places: Vec<usize> = Counter::all().map(Counter::index).collect();
    places.dedup();
    assert_eq!(places, (0..places.len()).collect::<Vec<_>>());
    assert_eq!(
        Stage::ALL.iter().map(|stage| stage.index()).collect::<Vec<_>>(),
        (0..Stage::ALL.len()).collect::<Vec<_>>()
    );
}

#[test]
fn names_that_cannot_be_are_refused() {
    for (name, told) in [
        ("raster", "'raster' is built in; write another name"),
        ("", "is not a name"),
        ("other", "not 'other'"),
        ("two words", "write up to 32 small letters, digits and _"),
        ("Upper", "is not a name"),
        ("a_name_of_more_than_thirty_two_bytes", "is not a name"),
    ] {
        let problem = Stage::custom(name).unwrap_err().to_string();
        assert!(problem.contains(told), "{name}: {problem}");
    }
    assert!(Counter::custom("alive").is_err() && Counter::custom("raster").is_ok());
}

/// In a process of its own, as names stay: the seventeenth is refused, those before it go on.
#[test]
fn seventeen_are_one_too_many() {
    if std::env::var_os("FROLIC_FILL_NAMES").is_none() {
        let again = std::process::Command::new(std::env::current_exe().unwrap())
            .args(["--exact", "meters::seventeen_are_one_too_many"])
            .env("FROLIC_FILL_NAMES", "1")
            .output()
            .unwrap();
        assert!(again.status.success(), "{}", String::from_utf8_lossy(&again.stdout));
        return;
    }
    for nth in 0..MOST_CUSTOM {
        assert_eq!(Stage::custom(&format!("stage_{nth}")).unwrap().index(), Stage::ALL.len() + nth);
    }
    let problem = Stage::custom("one_more").unwrap_err().to_string();
    assert!(problem.contains("'one_more' is one too many; keep to 16"), "{problem}");
    assert!(Stage::custom("stage_3").is_ok() && Stage::named("one_more").is_none());
}

proptest! {
    /// Any text is a name or an error, and no name of one list is another's.
    #[test]
    fn any_text_is_a_name_or_refused(name in "\\PC{0,40}") {
        let fits = (1..=32).contains(&name.len()) && name.chars().all(|c| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '_');
        // Not asked for where it fits: a process holds sixteen.
        if !fits {
            prop_assert!(Stage::custom(&name).is_err() && Counter::custom(&name).is_err());
            prop_assert_eq!(Stage::named(&name), None);
        }
    }
}
