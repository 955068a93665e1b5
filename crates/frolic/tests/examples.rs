//! The examples run and do what their headers say.

use std::path::PathBuf;
use std::process::Command;

/// Runs an example, which `cargo test` has built beside this test.
fn example(name: &str, args: &[&str]) -> String {
    let mut path: PathBuf = std::env::current_exe().unwrap();
    path.pop();
    path.pop();
    path.push("examples");
    path.push(format!("{name}{}", std::env::consts::EXE_SUFFIX));
    let output = Command::new(&path).args(args).output().unwrap_or_else(|error| {
        panic!("{}: {error}; examples are built by `cargo test` without a filter on targets", path.display())
    });
    assert!(output.status.success(), "{name}: {}", String::from_utf8_lossy(&output.stderr));
    String::from_utf8(output.stdout).unwrap()
}

#[test]
fn first_frame_draws_a_fire() {
    let folder = tempfile::tempdir().unwrap();
    let told = example("first_frame", &[folder.path().to_str().unwrap()]);
    assert!(told.contains("embers in 1 draw call"), "{told}");
    let file = std::fs::File::open(folder.path().join("first_frame.png")).unwrap();
    let reader = png::Decoder::new(std::io::BufReader::new(file)).read_info().unwrap();
    assert_eq!((reader.info().width, reader.info().height), (1280, 800));
}

/// "Under thirty lines" is a promise.
#[test]
fn first_frame_is_short() {
    let text = include_str!("../examples/first_frame.rs");
    let lines = text.lines().filter(|line| !line.trim().is_empty() && !line.trim().starts_with("//")).count();
    assert!(lines < 35, "{lines} lines with imports and braces");
    let body = text.split("fn main()").nth(1).unwrap();
    assert!(body.lines().filter(|line| !line.trim().is_empty()).count() <= 30);
}

#[test]
fn count_ladder_prints_a_table() {
    let folder = tempfile::tempdir().unwrap();
    let told = example("count_ladder", &[folder.path().to_str().unwrap()]);
    assert!(told.contains("instanced") && told.contains("64k"), "{told}");
    assert!(folder.path().join("frames.png").exists());
}

#[test]
fn own_loop_prints_a_fountain() {
    let told = example("own_loop", &[]);
    assert!(told.matches('@').count() > 10, "{told}");
    assert!(told.contains("4 steps taken and 17 dropped"), "{told}");
}
