//! Writing and reading profiles.

use std::path::{Path, PathBuf};

use frolic_core::Stage;
use frolic_scene::write_beside;

use crate::chart::charts;
use crate::error::ProfileError;
use crate::profile::{FORMAT_VERSION, Profile};
use crate::report::report;
use crate::trace::trace_events;

/// Writes `profile.json`, `profile.csv`, `report.html`, `trace.json` and the charts `frames`, `stages`, `spread`, `timeline`, and of a flock `movement`, as SVG and PNG into a
/// folder, which is created if missing. Returns the paths.
///
/// # Errors
/// A file cannot be written. Files written before it stay.
pub fn write_profile(profile: &Profile, folder: impl AsRef<Path>) -> Result<Vec<PathBuf>, ProfileError> {
    let folder = folder.as_ref();
    let mut written = Vec::new();
    let mut write = |name: &str, bytes: &[u8]| -> Result<(), ProfileError> {
        let path = folder.join(name);
        write_beside(&path, |file| file.write_all(bytes))?;
        written.push(path);
        Ok(())
    };
    let mut json =
        serde_json::to_vec_pretty(profile).map_err(|error| ProfileError::Format(error.to_string()))?;
    json.push(b'\n');
    write("profile.json", &json)?;
    write("profile.csv", &csv(profile)?)?;
    for (name, chart) in charts(profile) {
        write(&format!("{name}.svg"), chart.svg()?.as_bytes())?;
        write(&format!("{name}.png"), &chart.png()?)?;
    }
    if !profile.traces.is_empty() {
        write("trace.json", trace_events(&profile.traces).to_string().as_bytes())?;
    }
    write("report.html", report(profile)?.as_bytes())?;
    Ok(written)
}

/// JSON Schema (2020-12) of `profile.json`, published as `docs/profile.schema.json`.
#[cfg(feature = "schema")]
pub fn schema() -> serde_json::Value {
    schemars::schema_for!(Profile).to_value()
}

/// Reads `profile.json`.
///
/// # Errors
/// The text is not a profile, or of another version of the format.
pub fn profile_from_json(text: &str) -> Result<Profile, ProfileError> {
    let wrong = |problem: String| ProfileError::Format(problem);
    let value: serde_json::Value =
        serde_json::from_str(text).map_err(|error| wrong(format!("is not JSON: {error}")))?;
    match value.get("frolic_profile").and_then(serde_json::Value::as_u64) {
        Some(version) if version == u64::from(FORMAT_VERSION) => {}
        Some(version) => {
            return Err(wrong(format!(
                "is version {version} of the format; this program reads {FORMAT_VERSION}"
            )));
        }
        None => return Err(wrong("is not a profile: the key frolic_profile is missing".to_owned())),
    }
    serde_json::from_value(value).map_err(|error| wrong(format!("is not a complete profile: {error}")))
}

/// One row for each point; times in milliseconds.
fn csv(profile: &Profile) -> Result<Vec<u8>, ProfileError> {
    let failed = |error: csv::Error| ProfileError::Format(error.to_string());
    let mut writer = csv::Writer::from_writer(Vec::new());
    let own = profile.custom_stages();
    let stages = || Stage::ALL.iter().map(|stage| stage.name()).chain(own.iter().copied());
    let head = [
        "variant",
        "count",
        "alive",
        "frames",
        "disturbed_frames",
        "median_ms",
        "median_low_ms",
        "median_high_ms",
        "p95_ms",
        "p99_ms",
        "worst_ms",
        "missed_share",
        "cpu_ms",
        "busy_cores",
    ];
    let tail = ["draw_calls", "bytes_per_element", "peak_memory_bytes"];
    let names = head.into_iter().chain(tail).map(str::to_owned);
    let names = names.chain(stages().chain(["other"]).map(|stage| format!("{stage}_ms")));
    let moving = stages().map(|stage| format!("{stage}_bytes"));
    writer.write_record(names.chain(moving)).map_err(failed)?;
    for variant in &profile.variants {
        for point in &variant.points {
            let times = &point.frame;
            let numbers = [
                times.median,
                times.interval.low,
                times.interval.high,
                times.p95,
                times.p99,
                times.worst,
                times.missed,
                point.cpu_ms,
                point.noise.cores,
            ];
            let counts = [u64::from(point.count), point.alive, point.frames, point.noise.disturbed];
            let mut record = vec![variant.name.clone()];
            record.extend(counts.map(|count| count.to_string()));
            record.extend(numbers.map(|number| format!("{number:.4}")));
            record.push(point.draw_calls.to_string());
            record.push(format!("{:.1}", point.bytes_per_element));
            record.push(point.peak_memory.to_string());
            let ms = |stage| point.stage(stage).map_or(0.0, |time| time.ms);
            record.extend(stages().chain(["other"]).map(|stage| format!("{:.4}", ms(stage))));
            let moved = |stage| point.stage(stage).map_or(0, |time| time.bytes);
            record.extend(stages().map(|stage| moved(stage).to_string()));
            writer.write_record(record).map_err(failed)?;
        }
    }
    writer.into_inner().map_err(|error| ProfileError::Format(error.into_error().to_string()))
}
