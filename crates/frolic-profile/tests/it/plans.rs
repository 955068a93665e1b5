//! Plans, growth and files of profiles, over any input.

use std::time::Duration;

use frolic_core::{Counter, Frame, Stage};
use frolic_profile::{
    CompareSpec, Growth, Ladder, Plan, Profile, Run, Subject, Variant, Variation, Verdict, compare,
    profile_from_json, sweep_subjects, write_profile,
};
use proptest::prelude::*;

/// Frames of a given time for a thousand elements, in milliseconds.
struct Even(f64);

impl Subject for Even {
    fn begin(&mut self, count: u32) -> Result<Box<dyn Run + '_>, String> {
        let time = Duration::from_secs_f64(self.0 * f64::from(count) * 1e-6);
        let frame = Frame::new(time)
            .with_stage(Stage::Integrate, time.mul_f64(0.5))
            .with_stage(Stage::Raster, time.mul_f64(0.25))
            .with_moved(Stage::Integrate, u64::from(count) * 40)
            .with_count(Counter::DrawCalls, 7)
            .with_count(Counter::Alive, u64::from(count));
        Ok(Box::new(move || Ok(frame)))
    }
}

fn measured(variants: &[(&str, f64)], counts: &str) -> Profile {
    let variants = variants.iter().map(|(name, ms)| Variant::new(name, Even(*ms))).collect();
    let mut plan = Plan::default();
    (plan.counts, plan.frames) = (counts.parse().unwrap(), 10);
    sweep_subjects("even", variants, &plan, None, |_| true).unwrap()
}

proptest! {
    /// A ladder holds both ends, rises, and is written as it is read.
    #[test]
    fn ladders_rise_from_end_to_end(from in 0u32..5_000_000, more in 0u32..50_000_000) {
        let to = from + more;
        let ladder: Ladder = format!("{from}..{to}").parse().unwrap();
        let counts = ladder.counts();
        prop_assert_eq!((counts[0], counts[counts.len() - 1]), (from, to));
        prop_assert!(counts.windows(2).all(|pair| pair[0] < pair[1]), "{counts:?}");
        prop_assert_eq!(ladder.to_string().parse::<Ladder>().unwrap(), ladder);
    }

    /// Even ladders have about as many counts a decade as asked for, and no two of them are close together.
    #[test]
    fn even_ladders_have_even_steps(from in 50u32..10_000, factor in 2f64..5_000.0, each in 1u32..10) {
        let to = (f64::from(from) * factor) as u32;
        let ladder: Ladder = format!("{from}..{to}/{each}").parse().unwrap();
        let step = 10f64.powf(1.0 / f64::from(each));
        let counts: Vec<f64> = ladder.counts().iter().map(|count| f64::from(*count)).collect();
        // Counts are whole, so small ones are off by a little.
        let rounding = 1.0 + 1.5 / f64::from(from);
        for (nth, pair) in counts.windows(2).enumerate() {
            let ratio = pair[1] / pair[0];
            let is_last = nth + 2 == counts.len();
            prop_assert!(ratio <= step.powf(1.5) * rounding, "{counts:?}");
            prop_assert!(is_last || ratio * rounding >= step, "{counts:?}");
            prop_assert!(!is_last || counts.len() == 2 || ratio * rounding >= step.sqrt(), "{counts:?}");
        }
    }

    /// Words that are not counts are refused by name, and nothing panics.
    #[test]
    fn any_text_is_a_ladder_or_an_error(text in "[0-9kmM.,/ -]{0,24}") {
        match text.parse::<Ladder>() {
            Ok(ladder) => prop_assert!(!ladder.counts().is_empty() && ladder.counts().len() <= 100),
            Err(error) => prop_assert!(error.to_string().starts_with("counts '"), "{error}"),
        }
    }

    /// Variations keep their values in order; combined, each value of one key meets each of the others.
    #[test]
    fn variations_combine_all_values(keys in prop::collection::vec(prop::collection::vec("[a-z]{1,6}", 1..4), 1..4)) {
        let mut plan = Plan::default();
        for (nth, values) in keys.iter().enumerate() {
            plan.vary.push(format!("key{nth}={}", values.join(",")).parse().unwrap());
        }
        let all: usize = keys.iter().map(Vec::len).product();
        let variants = plan.variants().unwrap();
        prop_assert_eq!(variants.len(), all);
        for settings in &variants {
            prop_assert_eq!(settings.len(), keys.len());
            for ((key, value), (nth, values)) in settings.iter().zip(keys.iter().enumerate()) {
                prop_assert_eq!(key, &format!("key{nth}"));
                prop_assert!(values.contains(value));
            }
        }
    }

    /// The count at which a line reaches a time has that time.
    #[test]
    fn growth_reaches_what_it_foretells(power in 0.3f64..2.5, scale in 1e-7f64..1e-2, ms in 0.1f64..500.0) {
        let points: Vec<(f64, f64)> = (0..8).map(|k| 500.0 * 2f64.powi(k)).map(|n| (n, scale * n.powf(power))).collect();
        let growth = Growth::of(&points, 0.0).unwrap();
        prop_assert!((growth.exponent - power).abs() < 1e-6 && growth.knees.is_empty());
        for (count, ms) in &points {
            prop_assert!((growth.at(*count) / ms - 1.0).abs() < 1e-6);
        }
        if let Some(count) = growth.reaches(ms) {
            prop_assert!((growth.at(count) / ms - 1.0).abs() < 1e-6);
        }
    }

    /// Growth of any points is finite or absent.
    #[test]
    fn growth_of_any_points_is_finite(points in prop::collection::vec((any::<f64>(), any::<f64>()), 0..20), noise in 0f64..1.0) {
        if let Some(growth) = Growth::of(&points, noise) {
            prop_assert!(growth.exponent.is_finite() && growth.ms >= 0.0, "{growth:?}");
            prop_assert!(growth.counts[0] <= growth.counts[1]);
        }
    }
}

/// Frame times in the CSV are those of the JSON, point by point.
#[test]
fn tables_and_json_hold_the_same_numbers() {
    let profile = measured(&[("quick", 2.0), ("slow, or \"so\"", 5.0)], "1k,4k");
    let folder = tempfile::tempdir().unwrap();
    let written = write_profile(&profile, folder.path()).unwrap();
    assert!(written.iter().all(|path| path.exists()), "{written:?}");
    let json = std::fs::read_to_string(folder.path().join("profile.json")).unwrap();
    let back = profile_from_json(&json).unwrap();
    let mut reader = csv::Reader::from_path(folder.path().join("profile.csv")).unwrap();
    let names = reader.headers().unwrap().clone();
    let column = |name: &str| names.iter().position(|own| own == name).unwrap();
    let rows: Vec<csv::StringRecord> = reader.records().map(Result::unwrap).collect();
    let points: Vec<_> = back
        .variants
        .iter()
        .flat_map(|variant| variant.points.iter().map(move |point| (&variant.name, point)))
        .collect();
    assert_eq!((rows.len(), points.len()), (4, 4));
    for (row, (name, point)) in rows.iter().zip(points) {
        let number = |name: &str| row[column(name)].parse::<f64>().unwrap();
        assert_eq!(&row[column("variant")], name);
        assert_eq!(number("count"), f64::from(point.count));
        assert_eq!(number("alive"), f64::from(point.count));
        assert_eq!(number("draw_calls"), 7.0);
        assert!((number("median_ms") - point.frame.median).abs() < 1e-3);
        assert!((number("integrate_ms") / number("median_ms") - 0.5).abs() < 0.01);
        assert!((number("raster_ms") / number("median_ms") - 0.25).abs() < 0.01);
        // What no stage claims is there too.
        assert!((number("other_ms") / number("median_ms") - 0.25).abs() < 0.01);
        assert_eq!(number("integrate_bytes"), f64::from(point.count) * 40.0);
    }
}

/// A profile compared with itself shows no change; against a slower one all of its points and stages are slower.
#[test]
fn a_profile_is_no_slower_than_itself() {
    let (base, slow) =
        (measured(&[("a", 2.0), ("b", 3.0)], "1k,2k"), measured(&[("a", 2.4), ("b", 3.6)], "1k,2k"));
    let spec = CompareSpec::default();
    let same = compare(&base, &base, &spec).unwrap();
    assert!(!same.changes.is_empty() && same.missing.is_empty());
    assert!(same.changes.iter().all(|change| change.verdict == Verdict::NoDifference), "{:?}", same.changes);
    let changed = compare(&base, &slow, &spec).unwrap();
    assert_eq!(changed.slower(0.15).filter(|change| change.stage.is_none()).count(), 4);
    assert_eq!(changed.slower(0.25).count(), 0);
    let back = compare(&slow, &base, &spec).unwrap();
    assert_eq!(back.slower(0.0).count(), 0);
    assert!(back.changes.iter().any(|change| change.verdict == Verdict::Faster));
}

#[test]
fn variations_without_key_or_value_are_refused() {
    for text in ["", "key", "=a", "key=", "key=a,,b", "key=,"] {
        let problem = text.parse::<Variation>().unwrap_err().to_string();
        assert!(problem.contains("write KEY=A,B,.."), "{text}: {problem}");
    }
    let nested: Variation = "size=[1, 2],[3, 4]".parse().unwrap();
    let mut plan = Plan::default();
    plan.vary.push(nested);
    let values: Vec<String> = plan.variants().unwrap().into_iter().map(|mut it| it.remove(0).1).collect();
    assert_eq!(values, ["[1, 2]", "[3, 4]"]);
}
