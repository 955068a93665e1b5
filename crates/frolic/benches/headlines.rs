//! Whole frames, step and picture, of the shipped scenes as they stood at commit 89a1345 (`scenes/` beside this file, in today's keys), and of the
//! headline counts: 1M embers, 400 000 blades, 2M drops of spray. In turn with the command of another commit, stage by stage.
//!
//! `cargo bench -p frolic --bench headlines -- COMMIT [SCENE...]`; builds both commands first, which takes minutes. The other command draws the
//! scenes of its own commit.

mod support;

use std::path::{Path, PathBuf};
use std::process::Command;
use std::time::Duration;

use frolic::prelude::*;
use frolic::profile::{OtherProgram, compare_builds, sweep_builds};

type Failure = Box<dyn std::error::Error + Send + Sync>;

/// Seconds for each scene.
const SECONDS: u64 = 20;

/// A scene, the count of its profiled population or its own, and how many times as fast as commit 89a1345 it is to be.
const FRAMES: [(&str, Option<u32>, f64); 11] = [
    ("foghorn", None, 2.5),
    ("beacon", None, 2.5),
    ("pennants", None, 4.0),
    ("blowhole", None, 4.0),
    ("dunes", None, 4.0),
    ("machair", None, 4.0),
    ("heather", None, 6.0),
    ("mussels", None, 6.0),
    ("beacon", Some(1_000_000), 2.5),
    ("dunes", Some(400_000), 4.0),
    ("blowhole", Some(2_000_000), 4.0),
];

fn main() -> Result<(), Failure> {
    let words: Vec<String> = std::env::args().skip(1).filter(|word| !word.starts_with("--")).collect();
    let Some((commit, scenes)) = words.split_first() else {
        println!(
            "headlines: name the commit to compare with, as in `cargo bench -p frolic --bench headlines -- 89a1345`"
        );
        return Ok(());
    };
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..").canonicalize()?;
    let other = checkout(&root, commit)?;
    let builds =
        [support::command(&root, "headlines-build", "")?, support::command(&other, "headlines-build", "")?];
    println!(
        "whole frames in turn with {commit}, {SECONDS} s each: median ms of this build and of the other"
    );
    for (name, count, bar) in FRAMES {
        if scenes.is_empty() || scenes.iter().any(|scene| scene == name) {
            frames(&root, &other, &builds, name, count, bar)?;
        }
    }
    Ok(())
}

/// Compares the frames of a scene.
fn frames(
    root: &Path,
    other: &Path,
    builds: &[PathBuf; 2],
    name: &str,
    count: Option<u32>,
    bar: f64,
) -> Result<(), Failure> {
    let paths = [
        root.join(format!("crates/frolic/benches/scenes/{name}.toml")),
        other.join(format!("scenes/{name}.toml")),
    ];
    let paths = paths.map(|path| path.to_string_lossy().into_owned());
    let scene = SceneSpec::find(&paths[0])?;
    let own = scene.climbing().map_or(1, |population| population.count);
    let mut plan = Plan::default();
    plan.counts = count.unwrap_or(own).to_string().parse()?;
    plan.frame_limit = Duration::from_secs(20);
    plan.time = Some(Duration::from_secs(SECONDS));
    let program = |nth: usize, _: &[(String, String)]| {
        OtherProgram::new(&builds[nth], ["frames".to_owned(), paths[nth].clone()])
    };
    let profile = sweep_builds(name, &scene, &plan, program, |_| true)?;
    let points: Vec<_> = profile.variants.iter().filter_map(|variant| variant.points.last()).collect();
    let [this, before] = points[..] else { return Err(format!("{name}: no frame was taken").into()) };
    let comparison = compare_builds(&profile)?;
    let change = comparison.changes.iter().find(|change| change.stage.is_none());
    let ratio = 1.0 / change.ok_or("nothing to compare")?.ratio;
    let verdict = if ratio >= bar { "reached" } else { "MISSED" };
    println!(
        "{name:9} {:>8}: {:7.1} {:7.1} ms, {ratio:.2} times as fast (bar: {bar}, {verdict})",
        count.unwrap_or(own),
        this.frame.median,
        before.frame.median
    );
    for stage in &this.stages {
        let was = before.stages.iter().find(|other| other.stage == stage.stage).map_or(0.0, |stage| stage.ms);
        if stage.ms.max(was) >= 1.0 {
            println!("          {:>17}  {:7.1} {was:7.1}", stage.stage, stage.ms);
        }
    }
    Ok(())
}

/// The files of a commit, beside the build.
fn checkout(root: &Path, commit: &str) -> Result<PathBuf, Failure> {
    let folder = root.join("target/headlines").join(commit);
    if !folder.join("Cargo.toml").exists() {
        std::fs::create_dir_all(&folder)?;
        let archive = folder.with_extension("tar");
        let mut packed = Command::new("git");
        packed.current_dir(root).args(["archive", commit, "--output"]).arg(&archive);
        let mut unpacked = Command::new("tar");
        unpacked.arg("-xf").arg(&archive).arg("-C").arg(&folder);
        if !packed.status()?.success() || !unpacked.status()?.success() {
            return Err(format!("{commit} is no commit that git can unpack").into());
        }
    }
    Ok(folder)
}
