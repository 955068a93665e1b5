//! Plans, sweeps and reports.

use std::sync::Arc;
use std::sync::atomic::{AtomicU32, Ordering};
use std::time::Duration;

use frolic_core::{Span, SpecError};
use frolic_draw::LookSpec;
use frolic_profile::stats::quantile;
use frolic_profile::{
    Chart, Ladder, Plan, Profile, ProfileError, Variation, profile_from_json, sweep, write_profile,
};
use frolic_scene::{
    BuildContext, CheckContext, DrawContext, Drawables, Elements, FamilySpec, PopulationSpec, SceneSpec,
    StepContext,
};
use proptest::prelude::*;

/// A scene so small that a sweep is quick in a test.
fn scene() -> SceneSpec {
    let settings = [
        ("draw.size", "[96, 60]"),
        ("embers.life", "[0.2, 0.4]"),
        ("smoke.count", "0"),
        ("flames.count", "0"),
    ];
    settings
        .iter()
        .fold(SceneSpec::find("beacon").unwrap(), |scene, (key, value)| scene.set(key, value).unwrap())
}

fn plan(counts: &str, vary: &[&str], frames: u32) -> Plan {
    let mut plan = Plan::default();
    plan.counts = counts.parse().unwrap();
    plan.vary = vary.iter().map(|text| text.parse().unwrap()).collect();
    plan.frames = frames;
    plan
}

fn measured(counts: &str, vary: &[&str], frames: u32) -> Profile {
    sweep("beacon", &scene(), &plan(counts, vary, frames), None, |_| true).unwrap()
}

#[test]
fn ladders_are_read() {
    let counts = |text: &str| text.parse::<Ladder>().map(|ladder| ladder.counts().to_vec());
    assert_eq!(
        counts("1k..1m").unwrap(),
        [1e3, 2e3, 5e3, 1e4, 2e4, 5e4, 1e5, 2e5, 5e5, 1e6].map(|n| n as u32)
    );
    assert_eq!(counts("100..10k/4").unwrap(), [100, 178, 316, 562, 1_000, 1_778, 3_162, 5_623, 10_000]);
    // No two at the end that are nearly the same.
    assert_eq!(counts("128..4096/4").unwrap(), [128, 228, 405, 720, 1_280, 2_276, 4_096]);
    assert_eq!(counts("5..5/3").unwrap(), [5]);
    assert_eq!(counts("0..3/1").unwrap(), [0, 3]);
    assert_eq!(counts("300..700").unwrap(), [300, 500, 700]);
    assert_eq!(counts("5k..5k").unwrap(), [5_000]);
    assert_eq!(counts("0,1, 2.5k,1M").unwrap(), [0, 1, 2_500, 1_000_000]);
    for (bad, what) in [
        ("1m..1k", "backwards; write 1k..1M"),
        ("5,3", "5 comes before 3"),
        ("5,5", "rising order"),
        ("", "not a count"),
        ("1.5", "not a count"),
        ("-5", "not a count"),
        ("9999999m", "not a count"),
        ("1e9", "not a count"),
        ("nan", "not a count"),
        ("..", "not a count"),
        ("1k..1m/0", "points a decade"),
        ("1k..1m/many", "points a decade"),
    ] {
        let told = bad.parse::<Ladder>().unwrap_err().to_string();
        assert!(told.contains(what), "{bad}: {told}");
    }
    assert!((0..150).map(|n| n.to_string()).collect::<Vec<_>>().join(",").parse::<Ladder>().is_err());
}

#[test]
fn variations_are_read_and_combined() {
    let variation: Variation = "embers.life=[1, 2],[2, 4]".parse().unwrap();
    assert_eq!(variation.values, ["[1, 2]", "[2, 4]"]);
    for bad in ["storage", "=a", "storage=", "storage=a,,b"] {
        assert!(bad.parse::<Variation>().is_err(), "{bad}");
    }
    let variants = plan("1", &["storage=objects,columns", "threads=1,2"], 1).variants().unwrap();
    assert_eq!(variants.len(), 4);
    assert_eq!(variants[1], [("storage".into(), "objects".into()), ("threads".into(), "2".into())]);
    let many = format!("seed={}", (0..60).map(|n| n.to_string()).collect::<Vec<_>>().join(","));
    assert!(plan("1", &[&many, "threads=1,2"], 1).variants().is_err());
}

proptest! {
    /// Against the definition: at least that share of the samples is at or below the quantile, and it is within the range.
    #[test]
    fn quantiles_divide(mut samples in prop::collection::vec(-1e3f64..1e3, 1..60), q in 0f64..1.0) {
        samples.sort_by(f64::total_cmp);
        let value = quantile(&samples, q);
        prop_assert!(samples[0] <= value && value <= samples[samples.len() - 1]);
        let below = samples.iter().filter(|&&s| s <= value).count() as f64;
        prop_assert!(below >= (q * (samples.len() - 1) as f64).floor());
        prop_assert_eq!(quantile(&samples, 1.0), samples[samples.len() - 1]);
    }

    #[test]
    fn foreign_json_never_panics(text in "\\PC{0,80}") {
        prop_assert!(profile_from_json(&text).is_err());
    }
}

#[test]
fn a_sweep_measures_what_it_says() {
    let profile = measured("0,1,500,3k", &["draw.technique=each,batched,instanced"], 7);
    assert!(!profile.interrupted);
    assert_eq!(profile.population, "embers");
    let names: Vec<&str> = profile.variants.iter().map(|variant| variant.name.as_str()).collect();
    assert_eq!(names, ["each", "batched", "instanced"]);
    for (variant, per_element) in profile.variants.iter().zip([true, false, false]) {
        assert_eq!(variant.points.iter().map(|point| point.count).collect::<Vec<_>>(), [0, 1, 500, 3_000]);
        for point in &variant.points {
            let (alive, count) = (point.alive as f64, f64::from(point.count));
            assert!(alive <= count && alive >= count * 0.98 - 1.0, "the count stands: {alive} of {count}");
            let calls = if per_element { point.alive } else { point.alive.min(1) };
            assert_eq!(point.draw_calls, calls, "{}", variant.name);
            let times = point.frame;
            assert!(
                0.0 < times.median
                    && times.median <= times.p95
                    && times.p95 <= times.p99
                    && times.p99 <= times.worst
            );
            let stages: f64 = point.stages.iter().map(|stage| stage.ms).sum();
            assert!(stages <= times.worst * 1.01, "medians of stages add up to less than the slowest frame");
            assert_eq!(point.stages.last().unwrap().stage, "other");
            assert!(point.peak_memory > 0 && point.bytes_per_element > 0.0);
            assert_eq!(point.frames + point.warm_up, 7);
            assert!(times.interval.low <= times.median && times.median <= times.interval.high);
            assert!(times.p95_interval.low <= times.p95 && (0.0..=1.0).contains(&times.missed));
            assert_eq!(point.rounds.iter().map(|round| round.ms.len() as u64).sum::<u64>(), point.frames);
            assert!(point.noise.cores > 0.0 && point.noise.slowdown > 0.0);
            assert!(point.stages.iter().all(|stage| stage.rounds.len() == point.rounds.len()));
        }
    }
}

/// A scene is timed all around its cycle, and a point whose median is known is not timed further.
#[test]
fn a_point_ends_when_it_is_known() {
    let mut plan = plan("200", &[], 2_000);
    plan.within = 1.0;
    let profile = sweep("beacon", &scene(), &plan, None, |_| true).unwrap();
    let point = &profile.variants[0].points[0];
    assert_eq!(point.phases, 8);
    // Whole cycles of eight turns.
    let taken = point.frames + point.warm_up;
    assert!(taken % 40 == 0 && taken < 2_000, "{taken}");
    plan.within = 0.001;
    plan.time = Some(Duration::ZERO);
    let profile = sweep("beacon", &scene(), &plan, None, |_| true).unwrap();
    assert_eq!(profile.variants[0].points[0].frames + profile.variants[0].points[0].warm_up, 40);
    assert!(profile.variants[0].growth.is_none(), "one count does not grow");
}

/// A profile reports a flock's order beside its times, and the variants that move differently; techniques of one result are not among them.
#[test]
fn what_moves_differently_is_told() {
    let settings = [("draw.size", "[96, 60]"), ("seal.count", "0"), ("shafts.count", "0")];
    let shoal = settings
        .iter()
        .fold(SceneSpec::find("shoal").unwrap(), |scene, (key, value)| scene.set(key, value).unwrap());
    let profile = |vary: &str| sweep("shoal", &shoal, &plan("400", &[vary], 3), None, |_| true).unwrap();
    let same = profile("eels.flock.neighbours=grid,all-pairs");
    let table = same.table();
    assert!(
        table.matches("mm to the nearest").count() == 2 && !table.contains("moves differently"),
        "{table}"
    );
    assert!(table.matches("group").count() == 2, "{table}");
    let chart = Chart::movement(&same).unwrap().svg().unwrap();
    assert!(chart.contains("all variants move alike") && chart.contains("milling"), "{chart}");
    let other = profile("eels.flock.wander_degrees=20.0,5000.0");
    assert!(other.table().contains("moves differently from"), "{}", other.table());
    assert!(Chart::movement(&other).unwrap().svg().unwrap().contains("not all variants move alike"));
    let folder = tempfile::tempdir().unwrap();
    let written = write_profile(&other, folder.path()).unwrap();
    assert!(written.iter().any(|path| path.ends_with("movement.png")));
    // Without a flock there is no such chart.
    assert!(Chart::movement(&measured("100", &[], 3)).is_none());
}

/// Ways of drawing one picture are called faster or slower; what draws another picture is not.
#[test]
fn only_the_same_picture_is_called_faster() {
    let profile = measured("10,2k", &["draw.technique=each,batched,instanced"], 3);
    assert_eq!(profile.pictures.len(), 2);
    assert!(
        profile.pictures.iter().all(|picture| picture.same && picture.largest == 0 && picture.count == 2_000)
    );
    assert!(profile.other_picture().is_none());
    assert!(profile.table().contains("all draw the same picture"));
    let other = measured("2k", &["embers.size=[0.01, 0.01],[0.4, 0.5]"], 3);
    let difference = other.other_picture().unwrap();
    assert!(difference.share > 0.05 && difference.largest > 20, "{difference:?}");
    assert!(other.table().contains("differs: "), "{}", other.table());
    let svg = Chart::of(&other).svg().unwrap();
    assert!(!svg.contains("faster than"), "the title does not say so");
    let sizes = measured("100", &["draw.size=[96, 60],[48, 30]"], 3);
    assert_eq!(sizes.other_picture().unwrap().share, 1.0);
    assert!(measured("100", &[], 3).pictures.is_empty());
}

#[test]
fn growth_rates_are_given_by_frame_and_stage() {
    let profile = measured("1k,4k,16k,64k", &[], 40);
    let growth = profile.variants[0].growth.as_ref().unwrap();
    assert!(growth.frame.exponent > 0.0 && growth.frame.ms > 0.0);
    let stage = growth.stages.iter().find(|stage| stage.stage == "integrate").unwrap();
    assert!((0.4..1.5).contains(&stage.growth.exponent), "{stage:?}");
    assert!(growth.stages.windows(2).all(|pair| {
        pair[0].fills_at.unwrap_or(f64::INFINITY) <= pair[1].fills_at.unwrap_or(f64::INFINITY)
    }));
    let table = profile.table();
    assert!(
        table.contains("frame time grows as n^") && table.contains("alone takes 16.7 ms first"),
        "{table}"
    );
    assert!(table.lines().all(|line| line.chars().count() <= 110), "{table}");
}

#[test]
fn the_table_names_the_costliest_stages() {
    let table = measured("2k", &["draw.technique=each,instanced"], 3).table();
    for variant in ["each", "instanced"] {
        let line = table.lines().find(|line| line.starts_with(&format!("{variant} at 2k: "))).unwrap();
        assert!(line.contains("raster ") && line.contains(" ms, "), "{line}");
    }
}

#[test]
fn storage_shows_in_the_counters() {
    let profile = measured("2k", &["storage=objects,columns"], 5);
    let gathered = |nth: usize| {
        let stages = &profile.variants[nth].points[0].stages;
        stages.iter().find(|stage| stage.stage == "gather").unwrap().ms
    };
    assert!(gathered(0) > 0.0 && gathered(1) == 0.0);
    let counter = |nth: usize, name: &str| {
        profile.variants[nth].points[0].counters.iter().find(|(n, _)| n == name).unwrap().1
    };
    assert!(counter(0, "element_bytes") > counter(1, "element_bytes"));
    for same in ["instances", "pixels_touched", "draw_calls", "alive"] {
        assert_eq!(counter(0, same), counter(1, same), "{same}");
    }
}

#[test]
fn variants_take_turns() {
    let mut seen = Vec::new();
    sweep("beacon", &scene(), &plan("100", &["threads=1,2"], 20), None, |progress| {
        seen.push(progress.variant.to_owned());
        assert!(progress.done <= progress.total);
        true
    })
    .unwrap();
    // Two settle, then four rounds of a turn each, in an order that is not always the same.
    let order: Vec<&str> = seen.iter().filter_map(|name| name.strip_prefix("threads=")).collect();
    let rounds: Vec<String> = order.chunks(2).map(|pair| pair.concat()).collect();
    assert_eq!(rounds.len(), 5);
    assert!(rounds.iter().all(|round| round == "12" || round == "21"), "{rounds:?}");
    assert!(rounds[1..].contains(&"12".to_owned()) && rounds[1..].contains(&"21".to_owned()), "{rounds:?}");
}

#[test]
fn a_variant_over_the_limit_stops_and_says_so() {
    let mut plan = plan("10,200k,400k", &["draw.technique=each,instanced"], 3);
    plan.frame_limit = Duration::from_millis(1);
    let profile =
        sweep("beacon", &scene().set("draw.size", "[1280, 800]").unwrap(), &plan, None, |_| true).unwrap();
    for variant in &profile.variants {
        let stop = variant.stopped.as_ref().unwrap();
        assert!(
            stop.reason.contains("over the limit") || stop.reason.contains("settling took"),
            "{}",
            stop.reason
        );
        assert!(variant.points.iter().all(|point| point.count <= stop.count));
        assert!(variant.points.len() < 3);
    }
    assert!(profile.table().contains("stopped at"));
}

#[test]
fn an_interrupted_sweep_keeps_what_is_finished() {
    let mut asked = 0;
    let profile = sweep("beacon", &scene(), &plan("10,20,30", &[], 5), None, |_| {
        asked += 1;
        asked < 5
    })
    .unwrap();
    assert!(profile.interrupted);
    assert_eq!(profile.variants[0].points.iter().map(|point| point.count).collect::<Vec<_>>(), [10, 20]);
    let nothing = sweep("beacon", &scene(), &plan("10", &[], 5), None, |_| false).unwrap();
    let folder = tempfile::tempdir().unwrap();
    assert_eq!(
        write_profile(&nothing, folder.path()).unwrap().len(),
        11,
        "an empty profile is written as well"
    );
}

#[test]
fn plans_that_do_not_fit_are_refused_before_measuring() {
    let refused = |scene: &SceneSpec, plan: &Plan| {
        sweep("beacon", scene, plan, None, |_| panic!("measures")).unwrap_err()
    };
    assert!(
        refused(&scene(), &plan("10", &["draw.tecnique=each"], 5))
            .to_string()
            .contains("did you mean 'technique'")
    );
    assert!(refused(&scene(), &plan("10", &["embers.life=0,1"], 5)).to_string().contains("out of range"));
    assert!(refused(&scene(), &plan("4000m", &[], 5)).to_string().contains("over the limit"));
    assert!(refused(&scene(), &plan("10", &[], 0)).to_string().contains("frames '0'"));
    assert!(refused(&SceneSpec::new("empty"), &plan("10", &[], 5)).to_string().contains("no population"));
    let mut endless = plan("10", &[], 5);
    endless.frame_limit = Duration::MAX;
    assert!(matches!(refused(&scene(), &endless), ProfileError::Plan(_)));
}

/// Counts that need more memory than is allowed stop a climb; what was measured stays.
#[test]
fn a_count_over_the_memory_limit_ends_the_climb() {
    let profile = measured("10,4000m", &[], 3);
    assert_eq!(profile.variants[0].points.len(), 1);
    let stop = profile.variants[0].stopped.as_ref().unwrap();
    assert_eq!(stop.count, 4_000_000_000);
    assert!(stop.reason.contains("over the limit of 4 GiB"), "{}", stop.reason);
}

#[test]
fn everything_written_reads_back() {
    let mut profile = measured("100,1k", &["draw.technique=each,instanced", "storage=columns,objects"], 4);
    let folder = tempfile::tempdir().unwrap();
    let written = write_profile(&profile, folder.path().join("new/folder")).unwrap();
    // Goes into a file of its own.
    profile.traces.clear();
    let read = |nth: usize| std::fs::read(&written[nth]).unwrap();
    let text = |nth: usize| String::from_utf8(read(nth)).unwrap();

    assert!(profile_from_json(&text(0)).unwrap() == profile);
    SceneSpec::parse(&profile.scene_text, "kept").unwrap();

    let table = text(1);
    let mut csv = csv::Reader::from_reader(table.as_bytes());
    assert_eq!(csv.headers().unwrap().len(), 62);
    let rows: Vec<csv::StringRecord> = csv.records().map(Result::unwrap).collect();
    assert_eq!(rows.len(), 8);
    assert_eq!(&rows[7][0], "instanced objects");
    assert_eq!(&rows[7][1], "1000");

    let svg = text(2);
    assert!(svg.starts_with("<svg") && svg.contains("60 fps") && svg.contains("embers alive"));
    for variant in &profile.variants {
        assert!(svg.contains(&variant.name.chars().take(20).collect::<String>()), "{}", variant.name);
    }
    let png = read(3);
    let reader = png::Decoder::new(std::io::Cursor::new(png)).read_info().unwrap();
    assert_eq!((reader.info().width, reader.info().height), (1280, 800));

    assert!(profile.table().lines().all(|line| line.chars().count() <= 100), "{}", profile.table());
}

#[test]
fn other_versions_and_foreign_files_are_refused() {
    let told = |text: &str| profile_from_json(text).unwrap_err().to_string();
    assert!(told("").contains("is not JSON"));
    assert!(told("{}").contains("is not a profile"));
    assert!(told("[1]").contains("is not a profile"));
    assert!(told("{\"frolic_profile\": 9}").contains("version 9"));
    assert!(told("{\"frolic_profile\": 1}").contains("version 1"));
    assert!(told("{\"frolic_profile\": 2}").contains("not a complete profile"));
}

#[test]
fn one_point_still_makes_a_chart() {
    for counts in ["0", "1", "500"] {
        let profile = measured(counts, &[], 2);
        assert!(Chart::of(&profile).svg().unwrap().contains("embers take"));
    }
}

/// Names as long as settings make them, more of them than colours: the chart and the table still hold them apart.
#[test]
fn many_long_variants_stay_readable() {
    let lives = (1..=8).map(|n| format!("[0.2, {:.2}]", 0.2 + 0.05 * n as f32)).collect::<Vec<_>>().join(",");
    let profile = measured("50,100", &[&format!("embers.life={lives}"), "draw.technique=instanced"], 2);
    assert_eq!(profile.variants.len(), 8);
    let table = profile.table();
    assert!(table.lines().all(|line| line.chars().count() <= 100), "{table}");
    let svg = Chart::of(&profile).svg().unwrap();
    // Names stand beside their lines, each on a height of its own.
    let heights: Vec<&str> = svg
        .split("<text ")
        .filter(|text| text.contains("[0.2, "))
        .filter_map(|text| text.split("y=\"").nth(1)?.split('"').next())
        .collect();
    let mut apart = heights.clone();
    apart.sort_unstable();
    apart.dedup();
    assert!(heights.len() >= 8 && apart.len() >= 8, "{heights:?}");
}

/// Text from a scene gets into the SVG escaped.
#[test]
fn names_cannot_break_out_of_the_chart() {
    let profile = sweep("<b>&\"x\"", &scene(), &plan("10", &[], 2), None, |_| true).unwrap();
    let svg = Chart::of(&profile).svg().unwrap();
    assert!(!svg.contains("<b>"), "{svg}");
    assert!(svg.contains("&lt;b"));
}

#[test]
fn medians_need_no_order() {
    use frolic_profile::stats::median;
    assert_eq!(median(&[3.0, 1.0, 2.0]), 2.0);
    assert_eq!(median(&[4.0, 1.0]), 2.5);
    assert_eq!(median(&[]), 0.0);
}

/// A family that says how long it takes to settle, and keeps the milliseconds that it was stepped before it was first drawn.
#[derive(Debug, Clone)]
struct Slow {
    seconds: f32,
    before_drawn: Arc<AtomicU32>,
}

#[derive(Debug)]
struct SlowElements {
    of: Slow,
    milliseconds: f32,
}

impl FamilySpec for Slow {
    fn key(&self) -> &'static str {
        "slow"
    }

    fn check(&self, _population: &PopulationSpec, _context: &CheckContext<'_>) -> Result<(), SpecError> {
        Ok(())
    }

    fn warm_up_seconds(&self, _population: &PopulationSpec) -> f32 {
        self.seconds
    }

    fn build(&self, _context: &mut BuildContext<'_>) -> Result<Box<dyn Elements>, SpecError> {
        Ok(Box::new(SlowElements { of: self.clone(), milliseconds: 0.0 }))
    }
}

impl Elements for SlowElements {
    fn len(&self, _context: DrawContext<'_>) -> usize {
        1
    }

    fn bytes(&self, _context: DrawContext<'_>) -> u64 {
        4
    }

    fn step(&mut self, context: &mut StepContext<'_>) -> Result<(), SpecError> {
        self.milliseconds += context.dt * context.steps as f32 * 1e3;
        Ok(())
    }

    fn instances<'a>(&'a self, _context: DrawContext<'a>) -> Result<Drawables<'a>, SpecError> {
        self.of.before_drawn.fetch_min(self.milliseconds.round() as u32, Ordering::Relaxed);
        Ok(Drawables::default())
    }
}

/// A fault once: only particles settled before a profile measured. Any family says how long it takes.
#[test]
fn a_profile_waits_until_a_family_has_settled() {
    for seconds in [0.0, 1.5, 4.0] {
        let slow = Slow { seconds, before_drawn: Arc::new(AtomicU32::new(u32::MAX)) };
        let population = PopulationSpec::of("slow", slow.clone(), 10, Span::from(0.1), LookSpec::default());
        let mut spec = SceneSpec::new("slow").with_population(population);
        spec.draw.size = "16x10".parse().unwrap();
        let mut plan = Plan::default();
        (plan.counts, plan.frames) = ("10".parse().unwrap(), 2);
        sweep("slow", &spec, &plan, None, |_| true).unwrap();
        let stepped = slow.before_drawn.load(Ordering::Relaxed) as f32;
        assert!(stepped >= seconds * 1e3 - 20.0 && stepped < 1e6, "{stepped} ms for {seconds} s");
    }
}
