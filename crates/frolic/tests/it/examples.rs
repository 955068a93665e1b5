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

#[test]
fn who_is_near_says_the_same_both_ways() {
    // The example compares both techniques itself.
    let told = example("who_is_near", &["4000"]);
    for said in [
        "of 4000 pebbles lie within",
        "pairs are less than a centimetre apart",
        "stage neighbours",
        "AllPairs of 4000",
    ] {
        assert!(told.contains(said), "{said}: {told}");
    }
}

#[test]
fn my_own_rule_brings_sheep_together() {
    let told = example("my_own_rule", &["2000", "6"]);
    let order: Vec<f32> = told.lines().filter_map(|line| line.rsplit_once(' ')?.1.parse().ok()).collect();
    assert_eq!(order.len(), 7, "{told}");
    assert!(order[0] < 0.1 && order[6] > order[0] + 0.05, "{told}");
    let source = include_str!("../../examples/my_own_rule.rs");
    assert!(source.lines().count() < 60);
}

#[test]
fn a_school_is_as_orderly_as_its_rules() {
    let folder = tempfile::tempdir().unwrap();
    let told = example("school", &[folder.path().join("school.png").to_str().unwrap(), "600"]);
    // Rows of: three weights, order, milling, millimetres to the nearest.
    let row = |line: &str| {
        let words = line.split_whitespace().map(|word| word.parse::<f32>().ok()).take(6);
        words.collect::<Option<Vec<f32>>>().filter(|row| row.len() == 6)
    };
    let rows: Vec<Vec<f32>> = told.lines().filter_map(row).collect();
    assert_eq!(rows.len(), 4, "{told}");
    // Separation alone gives neither order nor milling; without it they stand in each other.
    let motion = |row: &[f32]| row[3] + row[4];
    assert!(motion(&rows[0]) < 0.3 && motion(&rows[3]) > motion(&rows[0]) + 0.2, "{told}");
    assert!(rows[2][5] < 0.2 * rows[3][5], "{told}");
    assert!(folder.path().join("school.png").exists());
}

#[test]
fn hunters_catch_and_prey_is_counted() {
    let folder = tempfile::tempdir().unwrap();
    let told = example("hunter_and_prey", &[folder.path().join("hunt.png").to_str().unwrap(), "6"]);
    let last = told.lines().rfind(|line| line.contains("caught")).unwrap();
    let numbers: Vec<u64> =
        last.split(|char: char| !char.is_ascii_digit()).filter_map(|word| word.parse().ok()).collect();
    assert!(numbers[1] + numbers[2] == 3_000 && numbers[2] > 0, "{told}");
}

#[test]
fn units_cross_a_circle() {
    let folder = tempfile::tempdir().unwrap();
    let told = example("circle_of_goals", &[folder.path().join("circle.png").to_str().unwrap(), "30"]);
    let of = |name: &str| -> Vec<f32> {
        let line = told.lines().find(|line| line.contains(name)).unwrap();
        line.split_whitespace().filter_map(|word| word.parse().ok()).collect()
    };
    let (velocities, forces) = (of("velocities"), of("forces"));
    // All arrive, and by velocities no two overlap.
    assert!(velocities[0] < 100.0 && velocities[1] == 0.0, "{told}");
    assert!(forces[0] < 200.0 && forces[1] > 0.0, "{told}");
    assert!(folder.path().join("circle.png").exists());
}

#[test]
fn pebbles_pile_up() {
    let folder = tempfile::tempdir().unwrap();
    let told = example("pile_of_pebbles", &[folder.path().join("pile.png").to_str().unwrap(), "300", "8"]);
    let last = told.lines().rfind(|line| line.contains("at rest")).unwrap();
    let numbers: Vec<u64> =
        last.split(|char: char| !char.is_ascii_digit()).filter_map(|word| word.parse().ok()).collect();
    assert!(numbers[1] == 300 && numbers[2] > 150, "{told}");
}

#[test]
#[ignore = "slow: scripts/test runs it"]
fn a_custom_loop_is_profiled() {
    let folder = tempfile::tempdir().unwrap();
    let told = example("profile_my_own_loop", &[folder.path().to_str().unwrap(), "1"]);
    for said in ["points", "keys", "frame time grows as n^", "at 200000 keys take 1/"] {
        assert!(told.contains(said), "{said}: {told}");
    }
    assert!(folder.path().join("profile.json").exists() && folder.path().join("frames.png").exists());
}

#[test]
#[ignore = "slow: scripts/test runs it"]
fn tune_while_running_keeps_the_embers() {
    let told = example("tune_while_running", &["2000"]);
    let lines: Vec<&str> = told.lines().collect();
    assert_eq!(lines.len(), 11, "{told}");
    assert!(lines[1..10].iter().all(|line| line.contains(" live ")), "{told}");
    assert!(lines[10].starts_with("seed") && lines[10].contains("all anew"), "{told}");
}

#[test]
#[ignore = "slow: scripts/test runs it"]
fn snapshots_undo_changes_to_the_bit() {
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("blowhole.state");
    let told = example("snapshot_and_undo", &["blowhole", file.to_str().unwrap()]);
    assert_eq!(told.matches("saved ").count(), 3, "{told}");
    assert_eq!(told.matches("the same bits: true").count(), 5, "{told}");
    for undone in ["undid camera.exposure", "undid world.gravity", "undid world.wind", "copied in"] {
        assert!(told.contains(undone), "{undone}: {told}");
    }
    assert!(std::fs::metadata(&file).unwrap().len() > 1_000_000);
}

#[test]
#[ignore = "slow: scripts/test runs it"]
fn own_stages_stand_among_the_others() {
    let folder = tempfile::tempdir().unwrap();
    let told = example("own_stage", &[folder.path().to_str().unwrap(), "1"]);
    for said in
        ["ripples", "integrate", "counted: splashes ", ", highest_mm ", "  2000 drops: ", " 200000 drops: "]
    {
        assert!(told.contains(said), "{said}: {told}");
    }
    // More rain, more splashes, in the same ripples.
    let splashes: Vec<u32> = told
        .lines()
        .filter(|line| line.contains(" drops: "))
        .map(|line| line.split_whitespace().nth(2).unwrap().parse().unwrap())
        .collect();
    assert!(splashes.len() == 4 && splashes.windows(2).all(|pair| pair[0] < pair[1]), "{told}");
    let rows = std::fs::read_to_string(folder.path().join("profile.csv")).unwrap();
    assert!(rows.lines().next().unwrap().contains("ripples_ms") && rows.contains("ripples_bytes"));
    let chart = std::fs::read_to_string(folder.path().join("stages.svg")).unwrap();
    assert!(chart.contains("ripples"));
}

#[test]
#[ignore = "slow: scripts/test runs it"]
fn an_orbit_is_timed_stage_by_stage() {
    let folder = tempfile::tempdir().unwrap();
    let picture = folder.path().join("orbit.png");
    let told = example("orbit", &["foghorn", picture.to_str().unwrap()]);
    let row = |name: &str| -> [f64; 2] {
        let line =
            told.lines().find(|line| line.starts_with(name)).unwrap_or_else(|| panic!("{name}: {told}"));
        let mut numbers = line.split_whitespace().skip(1).map(|word| word.parse().unwrap());
        [numbers.next().unwrap(), numbers.next().unwrap()]
    };
    let (frame, backdrop) = (row("frame"), row("backdrop"));
    assert!(backdrop[0] < 0.5 && backdrop[1] > 0.5, "a still camera keeps its backdrop: {told}");
    assert!(frame[1] >= backdrop[1]);
    assert!(std::fs::metadata(picture).unwrap().len() > 100_000);
}

/// What it answers is the machine's business; that it answers both questions of all counts is ours.
#[test]
#[ignore = "slow: scripts/test runs it"]
fn which_is_faster_prints_a_comparison() {
    let folder = tempfile::tempdir().unwrap();
    let told = example("which_is_faster", &[folder.path().to_str().unwrap(), "1"]);
    for said in ["from each to instanced:", "at 20000 embers: ", "at 100000 embers: ", "the same way twice:"]
    {
        assert!(told.contains(said), "{said}: {told}");
    }
    let last = told.lines().rfind(|line| !line.starts_with("wrote ")).unwrap();
    let found: Vec<&str> = last.split(' ').collect();
    let (called, all): (u32, u32) = (found[0].parse().unwrap(), found[2].parse().unwrap());
    assert!(called <= all && all >= 2, "{told}");
}

/// The first of its order is what a frame budget lowers first, if it has to lower anything.
#[test]
#[ignore = "slow: scripts/test runs it"]
fn a_budget_is_kept() {
    let folder = tempfile::tempdir().unwrap();
    let picture = folder.path().join("kept.png");
    let told = example("keep_the_budget", &[picture.to_str().unwrap(), "20000"]);
    if let Some(changed) = told.lines().find(|line| line.starts_with("  frame ")) {
        assert!(changed.contains("detail lowered to"), "{told}");
    }
    assert_eq!(told.lines().filter(|line| line.starts_with("to ") && line.contains(" changes; ")).count(), 2);
    assert!(picture.exists());
}

/// "Under thirty lines" is a promise.
#[test]
fn first_frame_is_short() {
    let text = include_str!("../../examples/first_frame.rs");
    let lines = text.lines().filter(|line| !line.trim().is_empty() && !line.trim().starts_with("//")).count();
    assert!(lines < 35, "{lines} lines with imports and braces");
    let body = text.split("fn main()").nth(1).unwrap();
    assert!(body.lines().filter(|line| !line.trim().is_empty()).count() <= 30);
}

#[test]
#[ignore = "slow: scripts/test runs it"]
fn count_ladder_prints_a_table() {
    let folder = tempfile::tempdir().unwrap();
    let told = example("count_ladder", &[folder.path().to_str().unwrap(), "2"]);
    assert!(told.contains("instanced") && told.contains("64k"), "{told}");
    assert!(folder.path().join("frames.png").exists());
}

#[test]
fn own_loop_prints_a_fountain() {
    let told = example("own_loop", &[]);
    assert!(told.matches('@').count() > 10, "{told}");
    assert!(told.contains("4 steps taken and 17 dropped"), "{told}");
}

/// Runs an example that writes a picture, and checks that it did.
fn pictured(name: &str) -> String {
    let folder = tempfile::tempdir().unwrap();
    let told = example(name, &[folder.path().to_str().unwrap()]);
    let picture = std::fs::metadata(folder.path().join(format!("{name}.png"))).unwrap();
    assert!(picture.len() > 10_000, "{name}");
    told
}

#[test]
fn sprite_layers_takes_three_draw_calls() {
    let told = pictured("sprite_layers");
    assert!(
        told.contains("Instanced: ") && told.contains(" in 3 draw calls, 2 of which began with a layer"),
        "{told}"
    );
}

#[test]
fn depth_order_pays_in_draw_calls() {
    let told = pictured("depth_order");
    let calls = |order: &str| -> u32 {
        let line = told.lines().find(|line| line.starts_with(order)).unwrap();
        line.split_whitespace().nth(1).unwrap().parse().unwrap()
    };
    assert_eq!((calls("none"), calls("population")), (4, 4));
    assert!(calls("all") > 100, "{told}");
}

#[test]
fn read_the_batches_tells_why() {
    let told = pictured("read_the_batches");
    assert!(told.contains("16 draw calls; broke 7 on mesh, 1 on look, 7 on layer"), "{told}");
}

#[test]
fn paint_textures_makes_those_that_ship() {
    let folder = tempfile::tempdir().unwrap();
    example("paint_textures", &[folder.path().to_str().unwrap()]);
    for name in ["paving.png", "shaft.png"] {
        let shipped =
            std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../../scenes/textures").join(name);
        assert!(
            std::fs::read(folder.path().join(name)).unwrap() == std::fs::read(shipped).unwrap(),
            "{name}"
        );
    }
}

#[cfg(feature = "gpu")]
#[test]
fn particles_in_your_pass_shares_the_depth_buffer() {
    let told = pictured("particles_in_your_pass");
    assert!(told.contains(" alive, ") && told.contains(" 0 bytes of elements uploaded"), "{told}");
}

#[test]
fn a_chain_of_events_adds_up() {
    let told = pictured("chain_of_events");
    let count = |word: &str| -> u64 {
        let line = told.lines().find(|line| line.contains(word)).unwrap();
        line.split_whitespace().find_map(|part| part.parse().ok()).unwrap()
    };
    assert!(count("stars") > 500 && count("drops") > 50 && count("events") > 100, "{told}");
}

#[test]
fn no_element_stays_inside_a_dug_mask() {
    let told = example("dig_the_mask", &[]);
    let rows: Vec<&str> = told.lines().skip(1).collect();
    assert_eq!(rows.len(), 8);
    for row in rows {
        let depth: f64 = row.split_whitespace().nth(3).unwrap().parse().unwrap();
        assert!(depth < 0.002, "{row}");
    }
}

#[test]
fn each_catch_is_counted_once() {
    let told = example("count_the_catch", &[]);
    let last: Vec<u64> =
        told.lines().nth(5).unwrap().split_whitespace().map(|word| word.parse().unwrap()).collect();
    let all: u64 = told.lines().last().unwrap().split_whitespace().next().unwrap().parse().unwrap();
    assert_eq!(last[1] + last[2] + last[3], all);
    assert!(last[1..4].iter().all(|count| *count > 300), "{told}");
}

#[test]
fn a_mesh_is_filled() {
    let told = pictured("fill_a_mesh");
    assert_eq!(told.matches("12000 elements").count(), 3, "{told}");
}

#[test]
fn a_custom_field_lifts_leaves() {
    let told = pictured("my_own_field");
    assert!(told.contains("our own field"), "{told}");
}

/// Runs an example that writes numbered pictures, and checks that they are there.
fn numbered(name: &str, count: usize) -> String {
    let folder = tempfile::tempdir().unwrap();
    let told = example(name, &[folder.path().to_str().unwrap()]);
    for nth in 1..=count {
        let picture = std::fs::metadata(folder.path().join(format!("{name}-{nth}.png"))).unwrap();
        assert!(picture.len() > 10_000, "{name}-{nth}");
    }
    told
}

#[test]
fn anything_is_placed() {
    let told = numbered("place_anything", 6);
    // The rings have as many crossings as they have; all others just the thousand that was asked for.
    assert_eq!(told.matches(": 1000 of ").count(), 5, "{told}");
}

#[test]
fn a_walk_presses_grass_down() {
    let told = numbered("walk_through_grass", 3);
    let pressed = |line: &str| line.split_whitespace().nth(3).unwrap().parse::<u64>().unwrap();
    assert!(told.lines().all(|line| pressed(line) > 0), "{told}");
}

#[test]
fn ten_million_take_turns() {
    let told = example("ten_million", &["200000"]);
    assert!(told.contains("200000 elements in ") && told.contains(" harvested and sown anew"), "{told}");
    let word = |line: usize, nth: usize| -> u64 {
        told.lines().nth(line).unwrap().split_whitespace().nth(nth).unwrap().parse().unwrap()
    };
    let (bytes, seen, worked) = (word(0, 3), word(1, 0), word(1, 3));
    assert!(bytes < 200_000 * 16, "{told}");
    // Those in view each step, one in 32 of the others.
    assert!(worked >= seen && worked < seen + 200_000 / 16, "{told}");
    let grown: Vec<&str> = told.lines().nth(2).unwrap().split("Some(").collect();
    assert_eq!(grown.len(), 3, "{told}");
}

#[test]
#[ignore = "slow: scripts/test runs it"]
fn an_endless_field_follows_the_camera() {
    let told = numbered("endless_field", 3);
    let alive = |line: &str| line.split_whitespace().nth(1).unwrap().parse::<f64>().unwrap();
    let counts: Vec<f64> = told.lines().map(alive).collect();
    assert!(counts.iter().all(|count| *count > 50_000.0 && *count < 250_000.0), "{told}");
}

/// One family from outside: it merges and bursts, its picture and its places are written, and a profile counts it.
#[test]
#[ignore = "slow: scripts/test runs it"]
fn a_custom_family_is_complete() {
    let folder = tempfile::tempdir().unwrap();
    let told = example("my_own_family", &[folder.path().to_str().unwrap(), "1"]);
    let number = |end: &str| -> u32 {
        let line = told.lines().find(|line| line.contains(end)).unwrap_or_else(|| panic!("{end}: {told}"));
        line.split(end).next().unwrap().split(' ').next_back().unwrap().parse().unwrap()
    };
    assert!(number(" bursts") > 10 && number(" hits of the pile") > 10, "{told}");
    let rows = std::fs::read_to_string(folder.path().join("bubbles.csv")).unwrap();
    assert_eq!(rows.lines().count() as u32, 1 + number(" bubbles and where"));
    assert!(rows.starts_with("x,y,z,turn,tilt,size,tint,kind,id,vx,vy,vz,age\n"), "{rows}");
    for count in ["100", "400", "1.6k"] {
        assert!(told.lines().any(|line| line.trim_start().starts_with(count)), "{count}: {told}");
    }
    assert!(folder.path().join("my_own_family.png").exists());
    assert!(told.contains("s, the same bits: true"), "{told}");
}
