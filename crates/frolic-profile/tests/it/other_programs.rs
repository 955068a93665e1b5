//! Frames taken in another process, line by line.

use std::io::Cursor;
use std::time::Duration;

use frolic_core::Stage;
use frolic_profile::{OtherProgram, Subject, answer_frames};
use frolic_scene::SceneSpec;
use proptest::prelude::*;
use serde_json::{Value, json};

fn scene() -> SceneSpec {
    let small = [
        ("draw.size", "[64, 40]"),
        ("embers.life", "[0.1, 0.2]"),
        ("smoke.count", "0"),
        ("flames.count", "0"),
    ];
    let scene = SceneSpec::find("beacon").unwrap();
    small.iter().fold(scene, |scene, (key, value)| scene.set(key, value).unwrap())
}

/// Answers to lines of requests.
fn answered(requests: &str) -> Vec<Value> {
    let mut answers = Vec::new();
    answer_frames(&scene(), Cursor::new(requests), &mut answers).unwrap();
    String::from_utf8(answers).unwrap().lines().map(|line| serde_json::from_str(line).unwrap()).collect()
}

#[test]
fn each_request_has_one_answer() {
    let answers =
        answered("{\"begin\":300}\n\"frame\"\n\"frame\"\n\"go-on\"\n\"frame\"\n{\"begin\":100}\n\"frame\"\n");
    assert_eq!(answers[0], json!({ "frolic-frames": 1 }));
    assert_eq!(answers[1], json!({ "begun": [8, null] }));
    assert_eq!(answers[4], json!("gone"));
    assert_eq!(answers[6]["begun"], json!([8, null]));
    let alive: Vec<u64> = [2, 3, 5, 7]
        .map(|nth| {
            let [written, cpu, memory] = answers[nth]["frame"].as_array().unwrap().as_slice() else {
                panic!()
            };
            assert!(cpu.as_u64().unwrap() > 0 && memory.as_u64().unwrap() > 1 << 20);
            // Total, stages, counters and bytes moved.
            let named = |nth: usize, name: &str| {
                let all = written[nth].as_array().unwrap();
                all.iter().find(|pair| pair[0] == name).map(|pair| pair[1].as_u64().unwrap())
            };
            assert!(named(1, Stage::Raster.name()).unwrap() < written[0].as_u64().unwrap());
            named(2, "alive").unwrap()
        })
        .to_vec();
    assert!(alive[..3].iter().all(|alive| (250..=300).contains(alive)), "{alive:?}");
    assert!((80..=100).contains(&alive[3]), "{alive:?}");
    assert_eq!(answers.len(), 8);
}

#[test]
fn requests_out_of_turn_are_told() {
    let answers = answered(
        "\"frame\"\n\"go-on\"\n{\"begin\":4000000000}\n{\"begin\":10}\n\"frame\"\n\"dance\"\n\"frame\"\n",
    );
    let error = |nth: usize| answers[nth]["error"].as_str().unwrap_or_else(|| panic!("{}", answers[nth]));
    assert_eq!((error(1), error(2)), ("nothing has begun yet", "nothing has begun yet"));
    // More than there may be: it names what may.
    assert!(error(3).contains("count"), "{}", error(3));
    assert!(answers[4].get("begun").is_some() && answers[5].get("frame").is_some());
    assert!(error(6).contains("'\"dance\"'") && answers[7].get("frame").is_some());
    // Before anything has begun, a line that is no request ends it.
    assert_eq!(answered("what?\n\"frame\"\n").len(), 2);
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(12))]

    /// Whatever is asked, each line has at most one answer, and nothing panics.
    #[test]
    fn any_lines_are_answered(lines in prop::collection::vec(
        prop_oneof![Just("\"frame\"".to_owned()), Just("{\"begin\":20}".to_owned()), Just("\"go-on\"".to_owned()), "[ -~]{0,12}"], 0..8
    )) {
        let answers = answered(&lines.iter().map(|line| format!("{line}\n")).collect::<String>());
        prop_assert!(answers.len() <= lines.len() + 1);
        prop_assert_eq!(&answers[0], &json!({ "frolic-frames": 1 }));
    }
}

/// A shell script in the place of the other build.
#[cfg(unix)]
fn script(text: &str) -> OtherProgram {
    OtherProgram::new("/bin/sh", ["-c".to_owned(), text.to_owned()])
}

#[cfg(unix)]
#[test]
fn another_program_is_measured() {
    let frame = r#"{"frame":[[2000000,[["raster",1500000],["unheard-of",3]],[["alive",7]],[["raster",64]]],5000,4096]}"#;
    let mut program = script(&format!(
        "echo '{{\"frolic-frames\":1}}'; read begin; echo '{{\"begun\":[3,\"a device\"]}}'; while read line; do echo '{frame}'; done"
    ));
    let mut run = program.begin(7).unwrap();
    assert_eq!((run.phases(), run.device().as_deref()), (3, Some("a device")));
    let taken = run.frame().unwrap();
    assert_eq!(
        (taken.total(), taken.stage(Stage::Raster)),
        (Duration::from_millis(2), Duration::from_micros(1500))
    );
    assert_eq!((taken.count(frolic_core::Counter::Alive), taken.moved(Stage::Raster)), (7, 64));
    let elsewhere = run.elsewhere().unwrap();
    assert_eq!((elsewhere.cpu, elsewhere.memory), (Duration::from_nanos(5_000), 4_096));
}

#[cfg(unix)]
#[test]
fn programs_that_take_no_frames_are_named() {
    for (text, told) in [
        ("exit 0", "cannot take frames for another program"),
        ("echo hello", "cannot take frames for another program"),
        ("echo '{\"frolic-frames\":9}'", "uses version 9 of the protocol, this program 1"),
        ("echo '{\"frolic-frames\":1}'; read it; echo '{\"error\":\"too many\"}'", "too many"),
        ("echo '{\"frolic-frames\":1}'; read it; echo '\"gone\"'", "gave an unknown answer"),
        ("echo '{\"frolic-frames\":1}'; read it", "the other program ended"),
    ] {
        let problem = script(text).begin(10).err().unwrap();
        assert!(problem.starts_with("/bin/sh: ") && problem.contains(told), "{text}: {problem}");
    }
    let problem = OtherProgram::new("/no/such/program", []).begin(10).err().unwrap();
    assert!(problem.starts_with("/no/such/program: "), "{problem}");
}

/// One that ends or misbehaves between frames is an error of that frame, not a wait without end.
#[cfg(unix)]
#[test]
fn a_program_that_ends_between_frames_is_an_error() {
    let begun = "echo '{\"frolic-frames\":1}'; read it; echo '{\"begun\":[1,null]}'; read it; ";
    for (text, told) in [
        ("exit 1", "the other program ended"),
        ("echo nonsense", "gave an unknown answer"),
        ("echo '\"gone\"'", "gave no frame"),
        ("echo '{\"error\":\"the device was lost\"}'", "the device was lost"),
    ] {
        let mut program = script(&format!("{begun}{text}"));
        let mut run = program.begin(10).unwrap();
        let problem = run.frame().unwrap_err();
        assert!(problem.contains(told), "{text}: {problem}");
    }
}
