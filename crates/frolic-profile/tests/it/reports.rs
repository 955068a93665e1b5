//! What a profile is shown as: the page, charts, the trace, the schema.

use std::collections::{HashMap, HashSet};
use std::time::Duration;

use frolic_core::{Counter, Frame, Meter, Stage, Threads};
use frolic_profile::{
    Ceiling, CeilingPlan, Chart, Plan, Profile, Run, Subject, Variant, Verdict, ceiling, compare_variants,
    report, sweep, sweep_subjects, write_profile,
};
use frolic_scene::SceneSpec;
use proptest::prelude::*;
use serde_json::Value;

fn small_plan(counts: &str, vary: &[&str]) -> Plan {
    let mut plan = Plan::default();
    plan.counts = counts.parse().unwrap();
    plan.vary = vary.iter().map(|text| text.parse().unwrap()).collect();
    plan.frames = 10;
    plan
}

/// A scene of two threads, so small that a sweep is quick.
fn measured(vary: &[&str], size: &str) -> Profile {
    let small = [("draw.size", size), ("embers.life", "[0.2, 0.4]"), ("threads", "2")];
    let scene = SceneSpec::find("beacon").unwrap();
    let scene = small.iter().fold(scene, |scene, (key, value)| scene.set(key, value).unwrap());
    sweep("beacon", &scene, &small_plan("1k,20k", vary), None, |_| true).unwrap()
}

/// Frames of a known length, made of two stages.
struct Made {
    ms: f64,
}

impl Subject for Made {
    fn begin(&mut self, count: u32) -> Result<Box<dyn Run + '_>, String> {
        let time = |ms: f64| Duration::from_secs_f64(ms * 1e-3);
        let total = self.ms * f64::from(count) / 1000.0;
        let frame = Frame::new(time(total))
            .with_stage(Stage::Sort, time(total * 0.75))
            .with_stage(Stage::Raster, time(total * 0.25))
            .with_moved(Stage::Sort, u64::from(count) * 64)
            .with_count(Counter::Alive, u64::from(count));
        Ok(Box::new(move || Ok(frame)))
    }
}

fn made(names: &[&str]) -> Profile {
    let variants =
        names.iter().enumerate().map(|(nth, name)| Variant::new(name, Made { ms: 2.0 * (nth + 1) as f64 }));
    sweep_subjects("made <up>", variants.collect(), &small_plan("1k,2k,5k", &[]), None, |_| true).unwrap()
}

/// Text that is shown, once tags, styles and scripts are gone.
fn shown(page: &str) -> String {
    let mut text = String::new();
    let mut rest = page;
    while let Some(at) = rest.find('<') {
        text.push_str(&rest[..at]);
        let tag = &rest[at..];
        let end = ["style", "script"].iter().find(|name| tag.starts_with(&format!("<{name}>")));
        let close = end.map_or(">".to_owned(), |name| format!("</{name}>"));
        rest = tag.find(&close).map_or("", |to| &tag[to + close.len()..]);
    }
    text + rest
}

#[test]
fn the_page_needs_no_other_files() {
    let page = report(&made(&["slow", "slower"])).unwrap();
    // Nothing is loaded from anywhere, by any way that a page has.
    for way in ["src=", "href=", "url(", "@import", "fetch(", "XMLHttp", "import("] {
        assert!(!page.contains(way), "{way}");
    }
    let outside: Vec<&str> = page.match_indices("http").map(|(at, _)| &page[at..at + 26]).collect();
    assert!(outside.iter().all(|text| *text == "http://www.w3.org/2000/svg"), "{outside:?}");
    let text = shown(&page);
    // What matters is there without script: numbers of every point, growth, the machine.
    for said in ["slow", "slower", "2.00", "20.0", "n^1.00", "Gflop/s", "sort alone takes 16.7 ms first"] {
        assert!(text.contains(said), "{said}");
    }
    // Each point of both curves can be reached by keyboard and says what it is.
    assert_eq!(page.matches("tabindex=\"0\"").count(), 2 * 3 * 2);
    assert!(page.contains("slower at 5k elements\nmedian 20.0 ms (20.0 to 20.0)"));
}

/// Names are text wherever they stand, whatever is in them.
#[test]
fn names_cannot_break_out_of_the_page() {
    let name = "</script><script>alert(1)</script>\"'><img src=x onerror=alert(2)>&amp;";
    let profile = made(&[name, "plain"]);
    let page = report(&profile).unwrap();
    assert_eq!(page.matches("<script").count(), 1, "our own alone");
    assert!(!page.contains("<img") && !page.contains("<up>"));
    // An attribute ends where it should.
    assert!(!page.contains("\"'>") && page.contains("&lt;/script&gt;&lt;script&gt;"));
    for chart in [Chart::of(&profile), Chart::stages(&profile), Chart::spread(&profile)] {
        assert!(!chart.svg().unwrap().contains("<script"));
    }
}

#[test]
fn charts_say_what_they_show() {
    let profile = made(&["slow", "slower"]);
    let said = |chart: &Chart, what: &str| {
        let svg = chart.svg().unwrap();
        assert!(svg.contains(what), "{what}: {svg}");
        let png = chart.png().unwrap();
        let reader = png::Decoder::new(std::io::Cursor::new(png)).read_info().unwrap();
        assert_eq!((reader.info().width, reader.info().height), (1280, 800));
    };
    said(&Chart::stages(&profile), "sort is 75 % of the frame at 1k elements, 75 % at 5k");
    said(&Chart::spread(&profile), "one frame in twenty takes up to 1.00 times the median");
    // Only 5k of the second takes longer than a sixtieth of a second.
    said(&Chart::timeline(&profile), "10 of 20 frames at the highest counts took over 16.7 ms");
    let mut search = CeilingPlan::default();
    (search.budget, search.time) = (Duration::from_millis(8), Duration::from_secs(5));
    let found: Vec<Ceiling> = [2.0, 4.0]
        .iter()
        .map(|&ms| {
            let mut found = ceiling(&mut Made { ms }, &search, |_| true).unwrap().unwrap();
            found.variant = format!("{ms} us");
            found
        })
        .collect();
    let chart = Chart::ceilings("made", "elements", &found);
    said(&chart, "8.0 ms are enough for 4k elements with 2 us, for 2k with 4 us");
    said(&Chart::ceilings("made", "elements", &[]), "no searches");
}

/// Profiles with nothing in them still make a page and charts.
#[test]
fn an_empty_profile_is_shown_too() {
    let plan = small_plan("10", &[]);
    let profile = sweep_subjects("none", vec![Variant::new("it", Made { ms: 1.0 })], &plan, None, |_| false);
    let profile = profile.unwrap();
    assert!(profile.interrupted && profile.variants[0].points.is_empty());
    assert!(shown(&report(&profile).unwrap()).contains("nothing was measured"));
    for chart in [Chart::stages(&profile), Chart::spread(&profile), Chart::timeline(&profile)] {
        chart.svg().unwrap();
    }
}

/// The trace: every event of a known thread, parts within frames, and both threads at work.
#[test]
fn a_trace_is_written_for_any_viewer() {
    let folder = tempfile::tempdir().unwrap();
    let profile = measured(&["draw.technique=batched,instanced"], "[960, 600]");
    write_profile(&profile, folder.path()).unwrap();
    let text = std::fs::read_to_string(folder.path().join("trace.json")).unwrap();
    let trace: Value = serde_json::from_str(&text).unwrap();
    let events = trace["traceEvents"].as_array().unwrap();
    let meta = |name: &str| {
        let of = events.iter().filter(move |event| event["name"] == name);
        of.map(|event| (event["pid"].as_u64(), event["tid"].as_u64())).collect::<HashSet<_>>()
    };
    let (processes, threads) = (meta("process_name"), meta("thread_name"));
    assert_eq!(processes.len(), 2, "a process a variant");
    let spans: Vec<&Value> = events.iter().filter(|event| event["ph"] == "X").collect();
    let mut frames: HashMap<u64, Vec<[f64; 2]>> = HashMap::new();
    let time = |event: &Value| {
        let (at, took) = (event["ts"].as_f64().unwrap(), event["dur"].as_f64().unwrap());
        [at, at + took]
    };
    for span in &spans {
        assert!(threads.contains(&(span["pid"].as_u64(), span["tid"].as_u64())), "{span}");
        if span["cat"] == "frame" {
            frames.entry(span["pid"].as_u64().unwrap()).or_default().push(time(span));
        }
    }
    assert!(frames.len() == 2 && frames.values().all(|of| of.len() == 3), "{frames:?}");
    let mut working = HashSet::new();
    for span in spans.iter().filter(|span| span["cat"] != "frame") {
        let name = span["name"].as_str().unwrap();
        assert!(Stage::ALL.iter().any(|stage| stage.name() == name), "{name}");
        let [from, to] = time(span);
        let within = |frame: &[f64; 2]| frame[0] <= from + 1.0 && to <= frame[1] + 1.0;
        assert!(frames[&span["pid"].as_u64().unwrap()].iter().any(within), "{span}");
        if span["cat"] == "part" {
            working.insert((span["pid"].as_u64(), span["tid"].as_u64()));
        }
    }
    assert!(working.len() > 2, "more than one thread: {working:?}");
}

/// Bytes that stages move are exact, and become numbers an element.
#[test]
fn stages_count_the_bytes_that_they_move() {
    let profile = made(&["it"]);
    let point = profile.variants[0].points.last().unwrap();
    let stage = |name: &str| point.stages.iter().find(|stage| stage.stage == name).unwrap();
    assert_eq!(stage("sort").bytes, 5_000 * 64);
    let speed = 5_000.0 * 64.0 / (stage("sort").ms * 1e-3);
    let limit = profile.machine.limits.bytes_per_s(5_000 * 64);
    assert!((stage("sort").of_limit.unwrap() / (speed / limit) - 1.0).abs() < 1e-6);
    assert_eq!((stage("raster").bytes, stage("raster").of_limit), (0, None));
    let table = profile.table();
    assert!(table.lines().any(|line| line.starts_with("sort") && line.contains(" 64 ")), "{table}");
    // A scene's own: seven columns there and back and life, of each element that moves.
    let profile = measured(&[], "[96, 60]");
    let point = profile.variants[0].points.last().unwrap();
    let integrate = point.stages.iter().find(|stage| stage.stage == "integrate").unwrap();
    // A median of an even number of frames may lie between two.
    assert_eq!(integrate.bytes % 30, 0);
    assert!(integrate.bytes >= 60 * 19_000, "{integrate:?}");
}

/// At any width the table keeps within it, and the numbers that matter most are left.
#[test]
fn narrow_terminals_get_a_narrow_table() {
    let profile = made(&["a way with a rather long name", "another"]);
    for columns in [0, 20, 40, 60, 84, 100, 400] {
        let table = profile.table_within(columns);
        let head: Vec<&str> = table.lines().take_while(|line| !line.is_empty()).collect();
        let most = usize::from(columns.clamp(20, 100));
        assert!(columns < 40 || head.iter().all(|line| line.chars().count() <= most), "{columns}:\n{table}");
        assert!(columns < 40 || table.contains("20.0"), "{columns}:\n{table}");
    }
}

/// Variants of one profile stand against each other turn by turn: a third slower is seen, the same is not, and nothing panics.
#[test]
fn variants_are_compared_turn_by_turn() {
    let variants = [3.0, 4.0, 3.0].map(|ms| Variant::new("way", Made { ms }));
    let profile = sweep_subjects("made", variants.into(), &small_plan("1k,2k", &[]), None, |_| true).unwrap();
    let ratios = |base: usize, new: usize| {
        let found = compare_variants(&profile, base, new).unwrap();
        let frames = found.changes.iter().filter(|change| change.stage.is_none());
        frames.map(|change| (change.verdict, (change.ratio * 1000.0).round())).collect::<Vec<_>>()
    };
    assert_eq!(ratios(0, 1), [(Verdict::Slower, 1333.0); 2]);
    assert_eq!(ratios(1, 2), [(Verdict::Faster, 750.0); 2]);
    assert_eq!(ratios(0, 2), [(Verdict::NoDifference, 1000.0); 2]);
    assert!(compare_variants(&profile, 0, 9).unwrap_err().to_string().contains("no variant 9"));
}

/// Every number of a profile.
fn numbers<'a>(value: &'a mut Value, all: &mut Vec<&'a mut Value>) {
    match value {
        Value::Array(items) => items.iter_mut().for_each(|item| numbers(item, all)),
        Value::Object(items) => items.values_mut().for_each(|item| numbers(item, all)),
        Value::Number(_) => all.push(value),
        _ => {}
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(32))]

    /// A profile may come from anywhere: whatever its numbers are, it is shown or refused.
    #[test]
    fn any_numbers_are_shown_or_refused(
        changes in prop::collection::vec((any::<prop::sample::Index>(), 0usize..8), 1..12)
    ) {
        let odd: [f64; 8] = [0.0, -1.0, 1e300, -1e300, 1e-300, 4_294_967_295.0, 0.5, 1e18];
        let mut whole = serde_json::to_value(made(&["it", "other"])).unwrap();
        let mut all = Vec::new();
        numbers(&mut whole, &mut all);
        for (at, which) in changes {
            let at = at.index(all.len());
            let number = odd[which];
            // What was whole stays so where it can, or nothing would be read.
            let is_whole = all[at].is_u64() && number >= 0.0 && number.fract() == 0.0 && number < 1e18;
            *all[at] = if is_whole { Value::from(number as u64) } else { Value::from(number) };
        }
        if let Ok(profile) = frolic_profile::profile_from_json(&whole.to_string()) {
            report(&profile).unwrap();
            Chart::of(&profile).svg().unwrap();
            profile.table();
        }
    }
}

/// Somebody else's spans in the same process do no harm: a meter on a thread of its own.
#[test]
fn traces_take_in_every_thread() {
    let trace = frolic_core::trace::Trace::begin();
    let team = Threads::new(2);
    let mut meter = Meter::new();
    team.run(|| {
        meter.begin_frame();
        let started = meter.start(Stage::Gather);
        meter.stop(started);
        meter.end_frame();
    });
    let lanes = trace.end();
    let own = |lane: &&frolic_core::trace::Lane| {
        lane.spans.iter().any(|span| span.what == frolic_core::trace::What::Stage(Stage::Gather))
    };
    let lane = lanes.iter().find(own).expect("a lane with the stage");
    assert!(lane.thread.starts_with("frolic-") && lane.lost == 0, "{}", lane.thread);
    // Nothing is noted once it has ended.
    meter.begin_frame();
    meter.end_frame();
    assert!(frolic_core::trace::Trace::begin().end().iter().all(|lane| lane.spans.len() < 100_000));
}

/// `docs/profile.schema.json` is made from the types; `FROLIC_WRITE_SCHEMA=1 cargo test -p frolic-profile --all-features schema` makes it anew.
#[cfg(feature = "schema")]
#[test]
fn the_schema_is_that_of_the_types_and_holds() {
    let path = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/profile.schema.json");
    let schema = frolic_profile::schema();
    if std::env::var_os("FROLIC_WRITE_SCHEMA").is_some() {
        std::fs::write(path, serde_json::to_string_pretty(&schema).unwrap() + "\n").unwrap();
    }
    let published: Value = serde_json::from_str(&std::fs::read_to_string(path).unwrap()).unwrap();
    assert!(published == schema, "docs/profile.schema.json is not that of the types");
    let validator = jsonschema::validator_for(&published).unwrap();
    for profile in [measured(&["storage=columns,objects"], "[96, 60]"), made(&["it"])] {
        let whole = serde_json::to_value(&profile).unwrap();
        let faults: Vec<String> = validator.iter_errors(&whole).map(|fault| fault.to_string()).collect();
        assert!(faults.is_empty(), "{faults:?}");
        // What is missing or of another kind is found.
        for (at, wrong) in [
            ("/frolic_profile", Value::from("two")),
            ("/variants/0/points/0/frame/median", Value::Null),
            ("/machine/limits/flops", Value::from("many")),
            ("/variants", Value::from(3)),
        ] {
            let mut broken = whole.clone();
            *broken.pointer_mut(at).unwrap() = wrong;
            assert!(!validator.is_valid(&broken), "{at}");
        }
    }
}
