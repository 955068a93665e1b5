//! The command as a user meets it: run, its output read, its files opened, its refusals heard.

use std::fs;
use std::path::Path;
use std::process::Output;

use assert_cmd::Command;
use serde_json::Value;

/// Runs `frolic` in a folder of its own.
fn frolic(folder: &Path, args: &[&str]) -> Output {
    let mut command = Command::cargo_bin("frolic").unwrap();
    command.current_dir(folder).args(args).output().unwrap()
}

fn text(bytes: &[u8]) -> String {
    String::from_utf8(bytes.to_vec()).unwrap()
}

/// What a good run prints.
fn good(folder: &Path, args: &[&str]) -> String {
    let output = frolic(folder, args);
    assert_eq!(output.status.code(), Some(0), "{args:?}: {}", text(&output.stderr));
    assert_eq!(text(&output.stderr), "", "{args:?} is quiet when not on a terminal");
    text(&output.stdout)
}

/// What a refused run complains: exit code 2, nothing on standard output, one or two lines, no panic, no file.
fn refused(args: &[&str]) -> String {
    let folder = tempfile::tempdir().unwrap();
    let output = frolic(folder.path(), args);
    let told = text(&output.stderr);
    assert_eq!(output.status.code(), Some(2), "{args:?}: {told}");
    assert_eq!(text(&output.stdout), "", "{args:?}");
    assert!(told.starts_with("frolic: ") && told.trim_end().lines().count() <= 2, "{args:?}: {told}");
    assert!(!told.contains("panicked"), "{told}");
    assert_eq!(fs::read_dir(folder.path()).unwrap().count(), 0, "{args:?} leaves nothing behind");
    told
}

/// The same in a folder that holds something.
fn refused_in(folder: &Path, args: &[&str]) -> String {
    let output = frolic(folder, args);
    let told = text(&output.stderr);
    assert_eq!(output.status.code(), Some(2), "{args:?}: {told}");
    assert_eq!(text(&output.stdout), "", "{args:?}");
    told
}

fn size_of_png(path: &Path) -> (u32, u32) {
    let reader =
        png::Decoder::new(std::io::BufReader::new(fs::File::open(path).unwrap())).read_info().unwrap();
    (reader.info().width, reader.info().height)
}

fn json(text: &str) -> Value {
    serde_json::from_str(text).unwrap_or_else(|error| panic!("{error}: {text}"))
}

#[test]
fn draw_works_from_any_folder() {
    let folder = tempfile::tempdir().unwrap();
    let told = good(folder.path(), &["draw", "beacon", "--size", "160x100", "--at", "0.5"]);
    assert!(told.contains("beacon.png: 160x100 at 0.5 s") && told.contains("in 3 draw calls"), "{told}");
    assert_eq!(size_of_png(&folder.path().join("beacon.png")), (160, 100));

    let args = ["draw", "beacon", "-o", "a/b.png", "--size", "64x40", "--at", "0.2", "--json"];
    let drawn = json(&good(folder.path(), &[&args[..], &["--set", "draw.technique=each"]].concat()));
    assert_eq!(size_of_png(&folder.path().join("a/b.png")), (64, 40));
    assert_eq!(drawn["size"], serde_json::json!([64, 40]));
    assert_eq!(drawn["counters"]["draw_calls"], drawn["counters"]["instances"]);
    assert!(drawn["counters"]["alive"].as_u64().unwrap() > 100);
    assert!(drawn["stages_ms"]["raster"].as_f64().unwrap() > 0.0);
}

#[test]
fn the_same_picture_by_every_technique() {
    let folder = tempfile::tempdir().unwrap();
    let picture = |technique: &str| {
        let setting = format!("draw.technique={technique}");
        let name = format!("{technique}.png");
        good(
            folder.path(),
            &["draw", "beacon", "-o", &name, "--size", "200x125", "--at", "1", "--set", &setting],
        );
        fs::read(folder.path().join(name)).unwrap()
    };
    let each = picture("each");
    assert!(each == picture("batched") && each == picture("instanced"));
}

#[test]
fn a_scene_file_is_a_scene() {
    let folder = tempfile::tempdir().unwrap();
    let mine = folder.path().join("mine.toml");
    fs::write(&mine, good(folder.path(), &["scenes", "beacon"])).unwrap();
    let told = good(folder.path(), &["check", "mine.toml", "--set", "embers.count=123"]);
    assert!(told.contains("mine.toml: good. The signal fire") && told.contains("up to 123 alive"), "{told}");
    let checked = json(&good(folder.path(), &["check", "mine.toml", "--json"]));
    assert_eq!(checked["populations"].as_array().unwrap().len(), 5);
    assert_eq!(checked["populations"][3]["burst"], 430);
    good(folder.path(), &["draw", "mine.toml", "--size", "40x30", "--at", "0"]);
    assert!(folder.path().join("mine.png").exists());
}

#[test]
fn scenes_are_listed() {
    let folder = tempfile::tempdir().unwrap();
    assert!(good(folder.path(), &["scenes"]).starts_with("beacon "));
    assert_eq!(json(&good(folder.path(), &["scenes", "--json"]))[0]["name"], "beacon");
}

#[test]
fn profile_writes_and_prints() {
    let folder = tempfile::tempdir().unwrap();
    let small = ["--set", "draw.size=[96, 60]", "--counts", "100,1k", "--frames", "3"];
    let args = [&["profile", "beacon", "--vary", "draw.technique=each,instanced"], &small[..]].concat();
    let told = good(folder.path(), &args);
    assert!(told.lines().all(|line| line.chars().count() <= 100), "{told}");
    assert!(told.contains("instanced") && told.contains("100 ") && told.contains("1k "), "{told}");
    let out = folder.path().join("frolic-profile");
    let mut names: Vec<String> =
        fs::read_dir(&out).unwrap().map(|entry| entry.unwrap().file_name().into_string().unwrap()).collect();
    names.sort();
    assert_eq!(
        names,
        [
            "frames.png",
            "frames.svg",
            "profile.csv",
            "profile.json",
            "report.html",
            "spread.png",
            "spread.svg",
            "stages.png",
            "stages.svg",
            "timeline.png",
            "timeline.svg",
            "trace.json",
        ]
    );
    let written = json(&fs::read_to_string(out.join("profile.json")).unwrap());
    assert_eq!(written["frolic_profile"], 2);
    assert_eq!(written["variants"][0]["points"].as_array().unwrap().len(), 2);

    let args = [&["profile", "beacon", "--json", "--out", "other"], &small[..]].concat();
    assert_eq!(json(&good(folder.path(), &args))["scene"], "beacon");
    assert!(folder.path().join("other/frames.png").exists());
}

#[test]
fn a_variant_over_the_limit_stops_and_the_run_ends_well() {
    let folder = tempfile::tempdir().unwrap();
    let args = ["profile", "beacon", "--counts", "100,300k,600k", "--frames", "3", "--frame-limit", "0.001"];
    let told = good(folder.path(), &args);
    assert!(told.contains("beacon stopped at "), "{told}");
}

#[test]
fn help_has_examples_and_names_every_command() {
    let folder = tempfile::tempdir().unwrap();
    let told = good(folder.path(), &["--help"]);
    for command in
        ["demo", "draw", "profile", "report", "ceiling", "diff", "bake", "export", "check", "scenes"]
    {
        assert!(told.contains(command), "{told}");
        assert!(good(folder.path(), &[command, "--help"]).contains("Example"), "{command}");
    }
    assert!(good(folder.path(), &["--version"]).starts_with("frolic 0."));
}

#[test]
fn bad_input_is_refused() {
    assert!(refused(&["draw", "becon"]).contains("did you mean 'beacon'?"));
    assert!(refused(&["draw", "none.toml"]).contains("none.toml: cannot be read"));
    assert!(refused(&["draw", "beacon", "--set", "embers.cuont=5"]).contains("did you mean 'count'?"));
    assert!(refused(&["draw", "beacon", "--set", "embers.count"]).contains("write KEY=VALUE"));
    assert!(
        refused(&["draw", "beacon", "--set", "embers.count=4000000000"]).contains("over the limit of 4 GiB")
    );
    for at in ["-1", "nan", "inf", "1e30"] {
        assert!(refused(&["draw", "beacon", "--at", at]).contains("draw.at: "), "{at}");
    }
    for value in ["nan", "inf", "-3"] {
        let setting = format!("embers.motion.drag={value}");
        assert!(refused(&["check", "beacon", "--set", &setting]).contains("out of range"), "{value}");
    }
    assert!(refused(&["profile", "beacon", "--vary", "draw.tech=each"]).contains("technique"));
    assert!(refused(&["profile", "beacon", "--frames", "0"]).contains("frames '0'"));
    assert!(refused(&["profile", "beacon", "--frame-limit", "-1"]).contains("write seconds"));
    assert!(refused(&["profile", "beacon", "--counts", "4000m"]).contains("over the limit of 4 GiB"));
    assert!(refused(&["scenes", "bacon"]).contains("did you mean 'beacon'?"));
}

/// What the argument reader itself refuses: also exit code 2, with what would be right.
#[test]
fn bad_arguments_are_refused() {
    let folder = tempfile::tempdir().unwrap();
    for (args, what) in [
        (&["profile", "beacon", "--counts", "1m..1k"][..], "runs backwards; write 1k..1M"),
        (&["profile", "beacon", "--counts", "many"], "is not a count"),
        (&["profile", "beacon", "--vary", "storage"], "write KEY=A,B"),
        (&["draw", "beacon", "--size", "0x5"], "not a picture size"),
        (&["draw", "beacon", "--size", "99999x5"], "1 to 16384"),
        (&["draw"], "<SCENE>"),
        (&["drow", "beacon"], "draw"),
    ] {
        let output = frolic(folder.path(), args);
        assert_eq!(output.status.code(), Some(2), "{args:?}");
        assert!(text(&output.stderr).contains(what), "{args:?}: {}", text(&output.stderr));
    }
}

#[test]
fn broken_scene_files_are_refused() {
    let folder = tempfile::tempdir().unwrap();
    for (content, what) in [
        (&b""[..], "is empty"),
        (b"frolic = 1\n[camera", "broken.toml:2: "),
        (b"frolic = 1\ntitle = \"\xc3\x28\"", "broken.toml:2: is not UTF-8"),
        (
            b"frolic = 1\n[camera]\nfoov_degrees = 3",
            "broken.toml:3: unknown key 'foov_degrees'; did you mean 'fov_degrees'?",
        ),
        (&vec![b'x'; 100_000_000], "over 1 MiB"),
    ] {
        fs::write(folder.path().join("broken.toml"), content).unwrap();
        let output = frolic(folder.path(), &["draw", "broken.toml"]);
        let told = text(&output.stderr);
        assert_eq!(output.status.code(), Some(2), "{told}");
        assert!(told.contains(what) && told.trim_end().lines().count() <= 2, "{told}");
        assert!(!folder.path().join("broken.png").exists());
    }
}

#[test]
fn unwritable_folders_are_refused_at_once() {
    let folder = tempfile::tempdir().unwrap();
    fs::write(folder.path().join("file"), "").unwrap();
    for args in [
        &["draw", "beacon", "--at", "0", "-o", "file/picture.png"][..],
        &["draw", "beacon", "--at", "0", "-o", "/proc/picture.png"],
        &["profile", "beacon", "--out", "file/folder"],
        &["demo", "--out", "/proc/frolic"],
    ] {
        let output = frolic(folder.path(), args);
        let told = text(&output.stderr);
        assert_eq!(output.status.code(), Some(2), "{args:?}: {told}");
        assert!(told.contains("cannot be written") && told.trim_end().lines().count() <= 2, "{told}");
    }
}

/// Ctrl-C: what is finished is kept and written, and the exit code says that it was cut short.
#[test]
#[cfg(unix)]
#[ignore = "slow: scripts/test runs it"]
fn an_interrupted_profile_keeps_what_is_finished() {
    let folder = tempfile::tempdir().unwrap();
    let binary = assert_cmd::cargo::cargo_bin("frolic");
    let mut child = std::process::Command::new(binary)
        .current_dir(folder.path())
        .args([
            "profile",
            "beacon",
            "--counts",
            "100,1m",
            "--frames",
            "100000",
            "--within",
            "0.1%",
            "--time",
            "0",
            "--set",
            "draw.size=[64, 40]",
        ])
        .stdout(std::process::Stdio::piped())
        .stderr(std::process::Stdio::null())
        .spawn()
        .unwrap();
    std::thread::sleep(std::time::Duration::from_secs(2));
    let sent = std::process::Command::new("kill").args(["-INT", &child.id().to_string()]).status().unwrap();
    assert!(sent.success());
    let code = child.wait().unwrap().code();
    assert_eq!(code, Some(1));
    let written = json(&fs::read_to_string(folder.path().join("frolic-profile/profile.json")).unwrap());
    assert_eq!(written["interrupted"], true);
    let frames = |profile: &Value| -> u64 {
        let points = profile["variants"][0]["points"].as_array().unwrap();
        points
            .iter()
            .map(|point| point["frames"].as_u64().unwrap() + point["warm_up"].as_u64().unwrap())
            .sum()
    };
    // Gone on with: what was taken is there, also of the point that was cut short.
    let journal = fs::read_to_string(folder.path().join("frolic-profile/journal.jsonl")).unwrap();
    let taken = journal.lines().filter(|line| line.starts_with("{\"frame\"")).count() as u64;
    assert!(taken > 5, "{taken}");
    let all = (taken + 5).to_string();
    let args = ["profile", "beacon", "--counts", "100", "--frames", &all, "--within", "0.1%", "--resume"];
    let args = [&args[..], &["--set", "draw.size=[64, 40]", "--json"]].concat();
    assert_eq!(frames(&json(&good(folder.path(), &args))), taken + 5);
    assert!(!folder.path().join("frolic-profile/journal.jsonl").exists(), "a whole profile needs no journal");
    let told = refused_in(folder.path(), &args);
    assert!(told.contains("nothing to resume"), "{told}");
}

/// A re-run against itself, against a slower one, and against what cannot be compared.
#[test]
fn profiles_are_compared() {
    let folder = tempfile::tempdir().unwrap();
    let run = |out: &str, more: &[&str]| {
        let args =
            ["profile", "beacon", "--counts", "500", "--frames", "160", "--within", "0.1%", "--out", out];
        // Without what bursts.
        let steady = ["--set", "draw.size=[96, 60]", "--set", "crack.count=0", "--set", "fines.count=0"];
        good(folder.path(), &[&args[..], &steady, more].concat());
        format!("{out}/profile.json")
    };
    let base = run("base", &[]);
    let told = good(folder.path(), &["diff", &base, &base]);
    assert!(
        told.contains("no difference found") && told.contains("beacon") && told.contains("500"),
        "{told}"
    );
    // Every frame three times as long, by hand: what a change of code would have done.
    let mut slow = json(&fs::read_to_string(folder.path().join(&base)).unwrap());
    for round in slow["variants"][0]["points"][0]["rounds"].as_array_mut().unwrap() {
        for ms in round["ms"].as_array_mut().unwrap() {
            *ms = Value::from(ms.as_f64().unwrap() * 3.0);
        }
    }
    fs::write(folder.path().join("slow.json"), slow.to_string()).unwrap();
    let output = frolic(folder.path(), &["diff", &base, "slow.json"]);
    assert_eq!(output.status.code(), Some(1));
    assert!(String::from_utf8(output.stdout).unwrap().contains("+200.0%"));
    assert!(String::from_utf8(output.stderr).unwrap().contains("slower by more than"));
    assert!(good(folder.path(), &["diff", "slow.json", &base]).contains("faster"));
    assert!(good(folder.path(), &["diff", &base, "slow.json", "--fail-over", "250%"]).contains("slower"));
    // A machine that was slower itself is told, and can be divided out.
    for half in ["compute", "memory"] {
        let pace = slow["pace"][half].as_f64().unwrap();
        slow["pace"][half] = Value::from(pace * 3.0);
    }
    fs::write(folder.path().join("slowed.json"), slow.to_string()).unwrap();
    let output = frolic(folder.path(), &["diff", &base, "slowed.json"]);
    assert!(text(&output.stderr).contains("the machine itself took 3.00 times as long; --undrift"));
    let found = json(&good(folder.path(), &["diff", "slow.json", &base, "--json"]));
    assert_eq!(found["changes"][0]["verdict"], "faster");
    let other = run("other", &["--set", "embers.life=[0.2, 0.4]"]);
    assert!(refused_in(folder.path(), &["diff", &base, &other]).contains("--different"));
    good(folder.path(), &["diff", &other, &other, "--different"]);
    assert!(refused_in(folder.path(), &["diff", &base, "none.json"]).contains("cannot be read"));
    fs::write(folder.path().join("foreign.json"), "{}").unwrap();
    assert!(refused_in(folder.path(), &["diff", "foreign.json", &base]).contains("is not a profile"));
}

#[test]
#[ignore = "slow: scripts/test runs it"]
fn ceilings_are_searched() {
    let folder = tempfile::tempdir().unwrap();
    let args = ["ceiling", "beacon", "--set", "draw.size=[96, 60]", "--set", "smoke.count=0", "--time", "3"];
    let args =
        [&args[..], &["--set", "flames.count=0", "--set", "embers.life=[0.2, 0.4]", "--budget", "4ms"]]
            .concat();
    let found = json(&good(folder.path(), &[&args[..], &["--json"]].concat()));
    let (count, low) = (found[0]["count"].as_f64().unwrap(), found[0]["interval"]["low"].as_f64().unwrap());
    assert!(count > 100.0 && low > 0.0 && found[0]["tried"].as_array().unwrap().len() > 1, "{found}");
    let told = good(folder.path(), &[&args[..], &["--vary", "draw.technique=each,instanced"]].concat());
    assert!(told.contains("95 of 100 frames fit 4.000 ms up to") && told.contains("instanced"), "{told}");
    let charted = good(folder.path(), &[&args[..], &["--chart", "charts/ceilings.png"]].concat());
    assert!(charted.contains("charts/ceilings.png"), "{charted}");
    assert_eq!(size_of_png(&folder.path().join("charts/ceilings.png")), (1280, 800));
    good(folder.path(), &[&args[..], &["--chart", "c.svg"]].concat());
    assert!(fs::read_to_string(folder.path().join("c.svg")).unwrap().contains("fit 4.0 ms"));
    let told = refused_in(folder.path(), &["ceiling", "beacon", "--chart", "c.gif"]);
    assert!(told.contains("name a .png or a .svg"), "{told}");
    for (budget, what) in [("0ms", "write a time from"), ("16.7", "with its unit"), ("-1ms", "is not a time")]
    {
        let told = refused_in(folder.path(), &["ceiling", "beacon", &format!("--budget={budget}")]);
        assert!(told.contains(what), "{budget}: {told}");
    }
}

/// A profile that was measured elsewhere becomes a page here; what is none leaves nothing.
#[test]
fn reports_are_made_anew() {
    let folder = tempfile::tempdir().unwrap();
    let args = ["profile", "beacon", "--set", "draw.size=[96, 60]", "--counts", "100,1k", "--frames", "3"];
    good(folder.path(), &args);
    let out = folder.path().join("frolic-profile");
    let page = fs::read_to_string(out.join("report.html")).unwrap();
    fs::remove_file(out.join("report.html")).unwrap();
    let told = good(folder.path(), &["report", "frolic-profile/profile.json"]);
    assert!(told.contains("median ms") && told.contains("report.html"), "{told}");
    assert!(fs::read_to_string(out.join("report.html")).unwrap() == page);
    good(folder.path(), &["report", "frolic-profile/profile.json", "--out", "new/place"]);
    assert_eq!(size_of_png(&folder.path().join("new/place/stages.png")), (1280, 800));
    fs::write(folder.path().join("none.json"), "[]").unwrap();
    assert!(
        refused_in(folder.path(), &["report", "none.json", "--out", "none"]).contains("is not a profile")
    );
    assert!(!folder.path().join("none").exists());
}

/// This build against itself, turn about: no frame is called slower by much. Then against programs that are none of ours.
#[test]
#[ignore = "slow: scripts/test runs it"]
fn builds_are_compared_turn_about() {
    let folder = tempfile::tempdir().unwrap();
    let itself = assert_cmd::cargo::cargo_bin("frolic");
    let itself = itself.to_str().unwrap();
    let steady = ["--set", "draw.size=[96, 60]", "--set", "crack.count=0", "--set", "fines.count=0"];
    let args = [&["profile", "beacon", "--counts", "500,2k", "--frames", "80"], &steady[..]].concat();
    let fail = ["--fail-over", "40%", "--against", itself];
    let told = good(folder.path(), &[&args[..], &fail].concat());
    for said in ["this build", "other build", "from the other build to this one:", "beacon", "500"] {
        assert!(told.contains(said), "{said}: {told}");
    }
    let written = json(&fs::read_to_string(folder.path().join("frolic-profile/profile.json")).unwrap());
    for nth in 0..2 {
        let point = &written["variants"][nth]["points"][1];
        assert!(point["frames"].as_u64().unwrap() >= 20, "{point}");
        // Of the process that took them.
        let (cpu, wall) = (point["cpu_ms"].as_f64().unwrap(), point["frame"]["median"].as_f64().unwrap());
        assert!(cpu > wall * 0.2 && point["memory"].as_u64().unwrap() > 1 << 20, "{cpu} {wall}");
    }
    let varied =
        ["--vary", "draw.technique=each,instanced", "--against", itself, "--json", "--fail-over", "300%"];
    let found = json(&good(folder.path(), &[&args[..], &varied].concat()));
    let frames = found["changes"].as_array().unwrap().iter().filter(|change| change["stage"].is_null());
    assert_eq!(frames.count(), 4, "two counts of two variants");
    for (program, says) in [("nowhere/frolic", "not a file"), ("/bin/cat", "cannot take frames")] {
        if program.starts_with('/') && !Path::new(program).exists() {
            continue;
        }
        let told = refused_in(folder.path(), &[&args[..], &["--against", program]].concat());
        assert!(told.contains(says), "{program}: {told}");
    }
}

/// What builds speak with one another, spoken by hand.
#[test]
fn frames_are_taken_as_asked() {
    let folder = tempfile::tempdir().unwrap();
    let talk = |lines: &str| {
        let mut command = Command::cargo_bin("frolic").unwrap();
        let args = ["frames", "beacon", "--set", "draw.size=[96, 60]"];
        let output = command.current_dir(folder.path()).args(args).write_stdin(lines).output().unwrap();
        assert_eq!(output.status.code(), Some(0), "{}", text(&output.stderr));
        text(&output.stdout).lines().map(json).collect::<Vec<Value>>()
    };
    let said = talk(
        "\"frame\"\n{\"begin\":100}\n\"frame\"\n\"go-on\"\n\"frame\"\n{\"begin\":4000000000}\n{\"begin\":50}\n",
    );
    assert_eq!(said[0]["frolic-frames"], 1);
    assert!(said[1]["error"].as_str().unwrap().contains("nothing has begun"));
    assert_eq!(said[2]["begun"][0], 8, "moments of its cycle");
    for nth in [3, 5] {
        assert!(said[nth]["frame"][0][0].as_u64().unwrap() > 0, "{}", said[nth]);
    }
    assert_eq!(said[4], "gone");
    assert!(said[6]["error"].as_str().unwrap().contains("over the limit"), "{}", said[6]);
    assert_eq!(said[7]["begun"][0], 8, "it goes on after an error");
    assert!(talk("what\n")[1]["error"].as_str().unwrap().contains("what"));
    assert_eq!(talk("").len(), 1);
}

/// The read-out is in its corner and nowhere else, over pictures and films; a frame budget's scene is kept.
#[test]
fn a_readout_is_painted_over() {
    let folder = tempfile::tempdir().unwrap();
    let scene = ["--size", "640x400", "--at", "1.5"];
    good(folder.path(), &[&["draw", "beacon", "-o", "plain.png"], &scene[..]].concat());
    good(folder.path(), &[&["draw", "beacon", "-o", "told.png", "--readout"], &scene[..]].concat());
    let pixels = |name: &str| {
        let file = std::io::BufReader::new(fs::File::open(folder.path().join(name)).unwrap());
        let mut reader = png::Decoder::new(file).read_info().unwrap();
        let mut bytes = vec![0; reader.output_buffer_size().unwrap()];
        reader.next_frame(&mut bytes).unwrap();
        let each = bytes.len() / (640 * 400);
        bytes.chunks(each).map(|pixel| [pixel[0], pixel[1], pixel[2]]).collect::<Vec<_>>()
    };
    let (plain, told) = (pixels("plain.png"), pixels("told.png"));
    let differs = |x: std::ops::Range<usize>, y: std::ops::Range<usize>| {
        let places = y.flat_map(|y| x.clone().map(move |x| y * 640 + x));
        let mut all = 0;
        let off = places.filter(|&at| {
            all += 1;
            (0..3).any(|c| plain[at][c].abs_diff(told[at][c]) > 8)
        });
        off.count() as f64 / f64::from(all)
    };
    assert!(differs(20..320, 20..250) > 0.8, "{}", differs(20..320, 20..250));
    assert!(differs(340..640, 0..400) < 0.01, "{}", differs(340..640, 0..400));
    let film =
        ["draw", "beacon", "--readout", "--frames", "3", "-o", "f-#.png", "--size", "320x200", "--json"];
    let kept = json(&good(folder.path(), &[&film[..], &["--set", "frame_budget.seconds=0.0001"]].concat()));
    assert_eq!(kept["counters"]["density_percent"], 100, "three frames are too few to judge by");
    let refused = frolic(folder.path(), &["draw", "beacon", "--readout", "--sheet", "2x2"]);
    assert_eq!(refused.status.code(), Some(2));
    assert!(text(&refused.stderr).contains("cannot be used with"));
}

/// No colour unless asked for, and asking for none changes nothing; a full disk is told and fails.
#[test]
#[ignore = "slow: scripts/test runs it"]
fn odd_places_to_print_to() {
    let folder = tempfile::tempdir().unwrap();
    let args = ["profile", "beacon", "--set", "draw.size=[96, 60]", "--counts", "100", "--frames", "2"];
    for value in ["", "1"] {
        let mut command = Command::cargo_bin("frolic").unwrap();
        let output = command.current_dir(folder.path()).args(args).env("NO_COLOR", value).output().unwrap();
        let all = [output.stdout, output.stderr].concat();
        assert!(output.status.success() && !all.contains(&0x1b), "{}", text(&all));
    }
    if let Ok(full) = fs::OpenOptions::new().write(true).open("/dev/full") {
        let binary = assert_cmd::cargo::cargo_bin("frolic");
        let output = std::process::Command::new(binary)
            .current_dir(folder.path())
            .args(args)
            .stdout(full)
            .stderr(std::process::Stdio::piped())
            .spawn()
            .unwrap()
            .wait_with_output()
            .unwrap();
        assert_eq!(output.status.code(), Some(2));
        let told = text(&output.stderr);
        assert!(told.contains("standard output: ") && told.contains("are complete"), "{told}");
        assert!(folder.path().join("frolic-profile/profile.json").exists());
        let told = refused_in(folder.path(), &[&args[..], &["--out", "/dev/full"]].concat());
        assert!(told.contains("/dev/full"), "{told}");
    }
}

#[test]
fn a_closed_pipe_is_not_an_error() {
    let folder = tempfile::tempdir().unwrap();
    let binary = assert_cmd::cargo::cargo_bin("frolic");
    let mut child = std::process::Command::new(binary)
        .current_dir(folder.path())
        .args(["scenes", "beacon"])
        .stdout(std::process::Stdio::piped())
        .stderr(std::process::Stdio::piped())
        .spawn()
        .unwrap();
    drop(child.stdout.take());
    let output = child.wait_with_output().unwrap();
    assert!(!text(&output.stderr).contains("panicked"));
}

#[test]
fn every_diagnostic_is_painted() {
    let folder = tempfile::tempdir().unwrap();
    let mut pictures = Vec::new();
    for what in ["picture", "overdraw", "depth", "batches", "detail", "shadow"] {
        let name = format!("{what}.png");
        let args = ["draw", "pennants", "--show", what, "-o", &name, "--size", "320x200", "--at", "1"];
        good(folder.path(), &[&args[..], &["--set", "sun.shadow_map=512"]].concat());
        let bytes = fs::read(folder.path().join(&name)).unwrap();
        assert!(!pictures.contains(&bytes), "{what}");
        pictures.push(bytes);
    }
    let output = frolic(folder.path(), &["draw", "pennants", "--show", "overdrawn"]);
    assert_eq!(output.status.code(), Some(2));
    assert!(text(&output.stderr).contains("write one of: picture, overdraw"), "{}", text(&output.stderr));
}

#[test]
fn stats_say_what_a_frame_did() {
    let folder = tempfile::tempdir().unwrap();
    let args =
        ["draw", "pennants", "--size", "160x100", "--at", "1", "--set", "sun.shadow_map=256", "--stats"];
    let told = good(folder.path(), &args);
    for word in [
        "draw_calls",
        "breaks_mesh",
        "breaks_capacity",
        "culled",
        "triangles",
        "pixels_touched",
        "overdraw",
        "draw_bytes",
    ] {
        assert!(told.contains(word), "{word}: {told}");
    }
    let counted = json(&good(folder.path(), &[&args[..], &["--json"]].concat()));
    assert_eq!(counted["draw_calls"], 16);
    assert_eq!(counted["breaks_layer"], 7);
    let each = json(&good(folder.path(), &[&args[..], &["--json", "--set", "draw.technique=each"]].concat()));
    assert_eq!(each["draw_calls"], each["instances"]);
    assert!(each["draw_calls"].as_u64().unwrap() > 100 * counted["draw_calls"].as_u64().unwrap());
}

/// A draft says which stages do less, and by how much; its picture has the size that was asked for.
#[test]
fn a_draft_tells_what_it_saves() {
    let folder = tempfile::tempdir().unwrap();
    let args = ["draw", "pennants", "--size", "161x100", "--at", "1", "--quality", "draft", "--stats"];
    let told = good(folder.path(), &args);
    for word in ["81x50 of 161x100 pixels", "a shadow map of 1024 of 2048 texels", "in all"] {
        assert!(told.contains(word), "{word}: {told}");
    }
    assert_eq!(size_of_png(&folder.path().join("pennants.png")), (161, 100));
    let draft = json(&good(folder.path(), &[&args[..6], &["--quality", "draft", "--json"]].concat()));
    let full = json(&good(folder.path(), &[&args[..6], &["--json"]].concat()));
    let pixels = |of: &Value| of["counters"]["pixels_touched"].as_u64().unwrap();
    assert!(pixels(&draft) * 2 < pixels(&full));
    let output = frolic(folder.path(), &["draw", "beacon", "--quality", "fine"]);
    assert_eq!(output.status.code(), Some(2));
    assert!(text(&output.stderr).contains("write full or draft"), "{}", text(&output.stderr));
}

#[test]
fn frames_go_where_the_name_says() {
    let folder = tempfile::tempdir().unwrap();
    let film = |output: &str, more: &[&str]| {
        let args = ["draw", "beacon", "--size", "64x40", "--at", "0.5", "-o", output];
        good(folder.path(), &[&args[..], more].concat())
    };
    film("numbered/f-###.png", &["--frames", "4"]);
    let mut names: Vec<String> = fs::read_dir(folder.path().join("numbered"))
        .unwrap()
        .map(|entry| entry.unwrap().file_name().into_string().unwrap())
        .collect();
    names.sort();
    assert_eq!(names, ["f-000.png", "f-001.png", "f-002.png", "f-003.png"]);
    assert_ne!(
        fs::read(folder.path().join("numbered/f-000.png")).unwrap(),
        fs::read(folder.path().join("numbered/f-003.png")).unwrap()
    );

    let told = film("move.png", &["--frames", "5", "--rate", "10"]);
    assert!(told.contains("5 frames"), "{told}");
    let file = fs::File::open(folder.path().join("move.png")).unwrap();
    let reader = png::Decoder::new(std::io::BufReader::new(file)).read_info().unwrap();
    assert_eq!(reader.info().animation_control().unwrap().num_frames, 5);

    film("move.y4m", &["--frames", "3"]);
    let bytes = fs::read(folder.path().join("move.y4m")).unwrap();
    assert!(bytes.starts_with(b"YUV4MPEG2 W64 H40 F25:1"));
    assert_eq!(bytes.windows(5).filter(|five| *five == b"FRAME").count(), 3);
    let piped = frolic(
        folder.path(),
        &["draw", "beacon", "--size", "64x40", "--at", "0.5", "--frames", "3", "-o", "-"],
    );
    assert_eq!(piped.stdout, bytes, "the pipe carries the same and nothing else");

    film("puff.png", &["--sheet", "4x2", "--transparent"]);
    assert_eq!(size_of_png(&folder.path().join("puff.png")), (256, 80));
    let timing = fs::read_to_string(folder.path().join("puff.toml")).unwrap();
    assert!(timing.contains("frolic_sheet = 1") && timing.contains("frames = [4, 2]"), "{timing}");
}

#[test]
fn transparent_pictures_have_no_sky() {
    let folder = tempfile::tempdir().unwrap();
    good(folder.path(), &["draw", "beacon", "--size", "64x40", "--at", "1", "--transparent", "-o", "t.png"]);
    let file = fs::File::open(folder.path().join("t.png")).unwrap();
    let mut reader = png::Decoder::new(std::io::BufReader::new(file)).read_info().unwrap();
    let mut bytes = vec![0; 64 * 40 * 4];
    reader.next_frame(&mut bytes).unwrap();
    assert_eq!(&bytes[..4], &[0; 4], "the upper left is empty");
    assert!(bytes.as_chunks::<4>().0.iter().any(|pixel| pixel[3] > 200), "the fire is not");
}

#[test]
fn bad_outputs_are_refused() {
    for (args, word) in [
        (&["--frames", "0"][..], "at least 1"),
        (&["--frames", "100000"], "numbered frames"),
        (&["--rate", "0"], "0.02 to 1000"),
        (&["--rate", "NaN"], "0.02 to 1000"),
        (&["--sheet", "8x8", "-o", "x.y4m"], "never transparent"),
        (&["--transparent", "--show", "depth"], "only the picture"),
    ] {
        let told = refused(&[&["draw", "beacon", "--at", "0.1"], args].concat());
        assert!(told.contains(word), "{args:?}: {told}");
    }
    let folder = tempfile::tempdir().unwrap();
    for sheet in ["8", "0x4", "65x1", "axb"] {
        let output = frolic(folder.path(), &["draw", "beacon", "--sheet", sheet]);
        assert_eq!(output.status.code(), Some(2), "{sheet}");
        assert!(text(&output.stderr).contains("such as 8x8"), "{}", text(&output.stderr));
    }
}

#[test]
fn bake_writes_a_grid_and_a_view_of_it() {
    let folder = tempfile::tempdir().unwrap();
    let bush = concat!(env!("CARGO_MANIFEST_DIR"), "/../../scenes/textures/bush.obj");
    let told = good(folder.path(), &["bake", bush, "--points", "24", "--size", "320x200"]);
    assert!(
        told.contains("bush.dgrid: 24 x") && told.contains("972 triangles") && told.contains("bush.png"),
        "{told}"
    );
    let file = fs::File::open(folder.path().join("bush.png")).unwrap();
    let reader = png::Decoder::new(std::io::BufReader::new(file)).read_info().unwrap();
    assert_eq!((reader.info().width, reader.info().height), (320, 200));
    let shown: Value = serde_json::from_str(&good(
        folder.path(),
        &["bake", bush, "--points", "16", "-o", "small.dgrid", "--no-picture", "--json"],
    ))
    .unwrap();
    assert_eq!(shown["points"][0], 16);
    assert_eq!(shown["picture"], Value::Null);
    assert!((1.2..1.7).contains(&shown["volume"].as_f64().unwrap()), "{shown}");
    assert!(!folder.path().join("small.png").exists());
    // What it wrote is an asset of a scene.
    let scene = "frolic = 1\n[[asset]]\nname = \"bush\"\nfrom = { grid = \"small.dgrid\" }\n[[population]]\nname = \"dots\"\ncount = 100\n\
                 [[population.emitter]]\nburst = { count = 100 }\nshape = { volume = { asset = \"bush\" } }\n";
    fs::write(folder.path().join("dots.toml"), scene).unwrap();
    let told = good(folder.path(), &["check", "dots.toml"]);
    assert!(told.contains("dots.toml: good."), "{told}");

    assert!(refused(&["bake", "nowhere.obj"]).contains("nowhere.obj: cannot be read"));
    assert!(refused(&["bake", bush, "--points", "3"]).contains("points: 3 is out of range"));
    assert!(refused(&["bake", bush, "--margin", "-1"]).contains("margin: -1 is out of range"));
    fs::write(folder.path().join("flat.obj"), "v 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 3\n").unwrap();
    let flat = folder.path().join("flat.obj");
    assert!(refused(&["bake", flat.to_str().unwrap()]).contains("no point inside the mesh"));
}

#[test]
fn export_writes_what_others_read() {
    let folder = tempfile::tempdir().unwrap();
    let few = ["--set", "marram.count=600", "--at", "0.1"];
    let with = |more: &[&str]| -> Vec<String> {
        ["export", "dunes"].iter().chain(more).chain(&few).map(|it| (*it).to_owned()).collect()
    };
    let run = |more: &[&str]| {
        let args = with(more);
        good(folder.path(), &args.iter().map(String::as_str).collect::<Vec<_>>())
    };
    let told = run(&["-o", "field.glb"]);
    assert!(told.contains("field.glb: 600 of marram at 0.1 s, "), "{told}");
    let bytes = fs::read(folder.path().join("field.glb")).unwrap();
    assert!(bytes.starts_with(b"glTF") && bytes.windows(23).any(|word| word == b"EXT_mesh_gpu_instancing"));
    let shown: Value = serde_json::from_str(&run(&["-o", "field.csv", "--json"])).unwrap();
    assert_eq!((&shown["elements"], &shown["population"]), (&Value::from(600), &Value::from("marram")));
    let rows = fs::read_to_string(folder.path().join("field.csv")).unwrap();
    assert!(rows.starts_with("x,y,z,turn,tilt,size,tint,kind,id\n") && rows.lines().count() == 601);
    // It goes back in as the places of a scene.
    let scene = "frolic = 1\n[[asset]]\nname = \"field\"\nfrom = { places = \"field.glb\" }\n[[population]]\nname = \"posts\"\ncount = 600\n\
                 [population.blades]\nplacement = [{ on = { places = { asset = \"field\" } } }]\n[population.look]\nblend = \"opaque\"\n\
                 shape = { ribbon = {} }\n";
    fs::write(folder.path().join("posts.toml"), scene).unwrap();
    assert!(good(folder.path(), &["check", "posts.toml"]).contains("posts.toml: good."));
    let told = good(folder.path(), &["draw", "posts.toml", "--size", "160x100"]);
    assert!(told.contains("600 alive"), "{told}");
    // A snapshot of particles.
    let told =
        good(folder.path(), &["export", "beacon", "--population", "smoke", "--at", "1", "-o", "smoke.ply"]);
    assert!(told.contains("smoke.ply: ") && told.contains(" of smoke at 1 s"), "{told}");

    assert!(refused(&["export", "beacon", "--population", "smok"]).contains("name one of: smoke"));
    assert!(
        refused(&["export", "beacon", "-o", "smoke.txt", "--at", "0"])
            .contains("give a .glb, a .ply or a .csv")
    );
}

#[test]
fn plans_are_drawn_from_above() {
    let folder = tempfile::tempdir().unwrap();
    for what in ["placement", "wind"] {
        let few = ["--set", "marram.count=900", "--at", "0.1", "--size", "200x120"];
        let out = format!("{what}.png");
        let args: Vec<&str> = ["draw", "dunes", "--show", what, "-o", &out].into_iter().chain(few).collect();
        assert!(good(folder.path(), &args).contains(&out), "{what}");
        assert!(fs::metadata(folder.path().join(&out)).unwrap().len() > 2000);
    }
    let few = ["--set", "eels.count=900", "--at", "0.5", "--size", "200x120", "-o", "near.png"];
    let drawn = ["neighbours", "neighbours-in-view"].map(|show| {
        let args: Vec<&str> = ["draw", "shoal", "--show", show].into_iter().chain(few).collect();
        assert!(good(folder.path(), &args).contains("near.png"));
        fs::read(folder.path().join("near.png")).unwrap()
    });
    assert!(drawn.iter().all(|picture| picture.len() > 2000) && drawn[0] != drawn[1]);
    assert!(refused(&["draw", "beacon", "--show", "placement"]).contains("no placed elements"));
    assert!(refused(&["draw", "beacon", "--show", "neighbours"]).contains("with a flock"));
}
