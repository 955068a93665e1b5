//! The command on a graphics device: as a user meets it, with one, without one, and in a build that knows of none.

use std::fs;
use std::path::Path;
use std::process::Output;

use assert_cmd::Command;

fn frolic(folder: &Path, args: &[&str], no_device: bool) -> (Output, String) {
    let mut command = Command::cargo_bin("frolic").unwrap();
    if no_device {
        // No driver is found where there is none.
        command.env("VK_ICD_FILENAMES", "/nowhere.json").env("VK_DRIVER_FILES", "/nowhere.json");
    }
    let output = command.current_dir(folder).args(args).output().unwrap();
    let told = String::from_utf8(output.stderr.clone()).unwrap();
    (output, told)
}

const SMALL: [&str; 6] = ["draw", "beacon", "--size", "160x100", "--at", "0.5"];

#[test]
fn without_a_device_auto_falls_back_and_says_so() {
    let folder = tempfile::tempdir().unwrap();
    let (output, told) = frolic(folder.path(), &[&SMALL[..], &["--backend", "auto"]].concat(), true);
    assert_eq!(output.status.code(), Some(0), "{told}");
    assert!(told.contains("frolic: drawn by the CPU: "), "{told}");
    assert!(folder.path().join("beacon.png").exists());

    let folder = tempfile::tempdir().unwrap();
    let (output, told) = frolic(folder.path(), &[&SMALL[..], &["--backend", "gpu"]].concat(), true);
    assert_eq!(output.status.code(), Some(2), "{told}");
    assert!(told.contains("frolic: backend: ") && told.contains("write backend = \"cpu\""), "{told}");
    if cfg!(feature = "gpu") {
        assert!(told.contains("apt-get install mesa-vulkan-drivers"), "{told}");
    } else {
        assert!(told.contains("build with --features gpu"), "{told}");
    }
    assert_eq!(fs::read_dir(folder.path()).unwrap().count(), 0, "nothing is left behind");
}

#[test]
fn unknown_backends_are_refused() {
    let folder = tempfile::tempdir().unwrap();
    let (output, told) = frolic(folder.path(), &[&SMALL[..], &["--backend", "gpi"]].concat(), false);
    assert_eq!(output.status.code(), Some(2));
    assert!(told.contains("write cpu, gpu or auto"), "{told}");
}

#[cfg(feature = "gpu")]
mod with_a_device {
    use serde_json::Value;

    use super::*;

    fn good(folder: &Path, args: &[&str]) -> String {
        let (output, told) = frolic(folder, args, false);
        assert_eq!(output.status.code(), Some(0), "{args:?}: {told}");
        String::from_utf8(output.stdout).unwrap()
    }

    #[test]
    fn draw_prints_device_counters() {
        let folder = tempfile::tempdir().unwrap();
        let told = good(folder.path(), &[&SMALL[..], &["--backend", "gpu", "--stats"]].concat());
        assert!(told.contains("6 draw calls on the device") && told.contains("1 submits"), "{told}");
        for row in ["device_draws", "dispatches", "uploaded_element_bytes", "readback_age"] {
            assert!(told.contains(row), "{row}: {told}");
        }
        assert!(folder.path().join("beacon.png").exists());
        let args = [&SMALL[..], &["--backend", "auto", "--json", "--set", "draw.technique=batched"]].concat();
        let drawn: Value = serde_json::from_str(&good(folder.path(), &args)).unwrap();
        assert_eq!(drawn["counters"]["device_draws"], 3);
        assert!(drawn["counters"]["uploaded_element_bytes"].as_u64().unwrap() > 10_000);
        assert!(drawn["stages_ms"]["wait"].as_f64().unwrap() > 0.0);
    }

    #[test]
    fn films_and_sheets_come_from_the_device_too() {
        let folder = tempfile::tempdir().unwrap();
        let args = [&SMALL[..], &["--backend", "gpu", "--frames", "3", "-o", "f-##.png"]].concat();
        good(folder.path(), &args);
        assert!(folder.path().join("f-02.png").exists());
        let args =
            [&SMALL[..], &["--backend", "gpu", "--sheet", "2x2", "--transparent", "-o", "s.png"]].concat();
        good(folder.path(), &args);
        assert!(folder.path().join("s.png").exists());
        let (output, told) =
            frolic(folder.path(), &[&SMALL[..], &["--backend", "gpu", "--show", "overdraw"]].concat(), false);
        assert_ne!(output.status.code(), Some(0));
        assert!(told.contains("drawn by the CPU only"), "{told}");
    }

    #[test]
    fn profile_compares_the_backends() {
        let folder = tempfile::tempdir().unwrap();
        let args = [
            "profile",
            "beacon",
            "--counts",
            "100,1k",
            "--vary",
            "backend=cpu,gpu",
            "--frames",
            "3",
            "--json",
            "--set",
            "draw.size=[64, 40]",
        ];
        let profile: Value = serde_json::from_str(&good(folder.path(), &args)).unwrap();
        let variants = profile["variants"].as_array().unwrap();
        let names: Vec<&str> = variants.iter().map(|variant| variant["name"].as_str().unwrap()).collect();
        assert_eq!(names, ["cpu", "gpu"]);
        assert!(profile["machine"]["device"].as_str().unwrap().starts_with("drawn by "));
        for point in variants[1]["points"].as_array().unwrap() {
            let counted = |name: &str| {
                let pairs = point["counters"].as_array().unwrap();
                pairs.iter().find(|pair| pair[0] == name).unwrap()[1].as_u64().unwrap()
            };
            assert_eq!((counted("uploaded_element_bytes"), counted("submits")), (0, 1));
        }
        assert!(folder.path().join("frolic-profile/frames.png").exists());
    }
}
