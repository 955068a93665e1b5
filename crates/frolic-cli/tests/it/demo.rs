//! `frolic demo`, whole: the first thing that a newcomer runs.

use std::fs;

use assert_cmd::Command;
use serde_json::Value;

#[test]
#[ignore = "slow: scripts/test runs it"]
fn the_demo_draws_and_profiles() {
    let folder = tempfile::tempdir().unwrap();
    let output = Command::cargo_bin("frolic")
        .unwrap()
        .current_dir(folder.path())
        // As many turns of every point as ever, and no more.
        .args(["demo", "--json", "--time", "1"])
        .output()
        .unwrap();
    assert_eq!(output.status.code(), Some(0), "{}", String::from_utf8_lossy(&output.stderr));
    let shown: Value = serde_json::from_slice(&output.stdout).unwrap();
    assert_eq!(shown["pictures"][0]["scene"], "beacon");

    // Draw calls fall from one an element to one a batch.
    let calls = |nth: usize| {
        shown["profile"]["variants"][nth]["points"].as_array().unwrap().last().unwrap()["draw_calls"]
            .as_u64()
            .unwrap()
    };
    assert!(calls(0) > 100_000, "{}", calls(0));
    assert_eq!(calls(1), 5);

    let out = folder.path().join("frolic-demo");
    for name in
        ["blowhole.png", "dunes.png", "foghorn.png", "heather.png", "machair.png", "mussels.png", "shoal.png"]
    {
        assert!(fs::metadata(out.join(name)).unwrap().len() > 100_000, "{name}");
    }
    for name in ["beacon.png", "pennants.png", "profile.json", "profile.csv", "frames.svg", "frames.png"] {
        assert!(fs::metadata(out.join(name)).unwrap().len() > 1_000, "{name}");
    }
    for name in ["report.html", "trace.json", "stages.svg", "stages.png", "spread.png", "timeline.png"] {
        assert!(fs::metadata(out.join(name)).unwrap().len() > 1_000, "{name}");
    }
    assert_eq!(fs::read_dir(out).unwrap().count(), 21, "and nothing else");
}
