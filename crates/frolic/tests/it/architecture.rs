//! The rooms of the house: arrows go one way, towards core.

use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};

/// Each crate, lowest first; one may use only those before it.
const ORDER: [&str; 12] = [
    "frolic-simd",
    "frolic-core",
    "frolic-raster",
    "frolic-draw",
    "frolic-list",
    "frolic-diagnostics",
    "frolic-gpu",
    "frolic-scene",
    "frolic-statistics",
    "frolic-profile",
    "frolic",
    "frolic-cli",
];

/// Which of our crates each of our crates names in its manifest, outside of tests.
fn arrows() -> BTreeMap<String, Vec<String>> {
    let crates = Path::new(env!("CARGO_MANIFEST_DIR")).parent().unwrap();
    let mut arrows = BTreeMap::new();
    for entry in fs::read_dir(crates).unwrap() {
        let manifest = fs::read_to_string(entry.unwrap().path().join("Cargo.toml")).unwrap();
        let name = manifest
            .lines()
            .find_map(|line| line.strip_prefix("name = "))
            .unwrap()
            .trim_matches('"')
            .to_owned();
        let section =
            manifest.split("[dependencies]").nth(1).unwrap_or_default().split("\n[").next().unwrap();
        let ours = section
            .lines()
            .filter_map(|line| line.split(['.', ' ', '=']).next())
            .filter(|name| name.starts_with("frolic"));
        arrows.insert(name, ours.map(str::to_owned).collect());
    }
    arrows
}

#[test]
fn arrows_go_towards_core() {
    let arrows = arrows();
    let place = |name: &str| ORDER.iter().position(|crate_name| *crate_name == name);
    assert_eq!(arrows.len(), ORDER.len(), "a new crate needs its place in ORDER");
    for (from, to) in &arrows {
        for to in to {
            assert!(place(to).unwrap() < place(from).unwrap(), "{from} uses {to}");
        }
    }
    // Kernels of the rasteriser are built beside the core, and again only where they or the lanes change.
    assert_eq!(arrows["frolic-raster"], ["frolic-simd"]);
    assert_eq!(arrows["frolic-core"], ["frolic-simd"]);
}

/// Text of a file, or of all files of a folder.
fn text(path: &Path) -> String {
    if path.is_file() {
        return fs::read_to_string(path).unwrap();
    }
    sources(path).iter().map(|file| fs::read_to_string(file).unwrap()).collect()
}

/// All Rust and shader files of a folder.
fn sources(folder: &Path) -> Vec<PathBuf> {
    let mut all = Vec::new();
    for entry in fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        if path.is_dir() {
            all.extend(sources(&path));
        } else if path.extension().is_some_and(|ending| ending == "rs" || ending == "wgsl") {
            all.push(path);
        }
    }
    all.sort();
    all
}

fn crates() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).parent().unwrap().to_owned()
}

/// Each module of the facade has a picture, and the pictures exist. Their paths are relative to the pages that `cargo doc` writes.
#[test]
fn pages_of_modules_have_their_pictures() {
    for (file, least) in [("frolic/src/lib.rs", 12), ("frolic-profile/src/lib.rs", 1)] {
        let text = fs::read_to_string(crates().join(file)).unwrap();
        let pictures: Vec<&str> =
            text.split("](").filter_map(|part| part.split(')').next()?.strip_suffix(".png")).collect();
        assert!(pictures.len() >= least, "{file}: {pictures:?}");
        for picture in pictures {
            let path = picture.trim_start_matches("../");
            assert!(crates().join(format!("../{path}.png")).is_file(), "{picture}.png is not there");
        }
    }
}

/// Each path of the table "where to add a thing" exists, and each name is found in a file of its row.
#[test]
fn paths_and_names_of_the_table_exist() {
    let page = fs::read_to_string(crates().join("../ARCHITECTURE.md")).unwrap();
    let table = page.split("## Where to add a thing").nth(1).unwrap();
    let rows: Vec<&str> = table.lines().filter(|line| line.starts_with("| ")).skip(2).collect();
    assert!(rows.len() > 15);
    for row in rows {
        let (paths, names): (Vec<&str>, Vec<&str>) =
            row.split('`').skip(1).step_by(2).partition(|word| word.contains('/'));
        let mut found = String::new();
        for path in &paths {
            let full = crates().join(path);
            assert!(full.exists(), "{path} is not there: {row}");
            found += &text(&full);
        }
        for name in names {
            let is_there = found.split(|c: char| !c.is_alphanumeric() && c != '_').any(|word| word == name);
            assert!(is_there, "'{name}' is in none of {paths:?}");
        }
    }
}

/// Comments that point at another crate's file point at one that is there.
#[test]
fn comments_point_at_files_that_are_there() {
    for file in sources(&crates()) {
        let text = fs::read_to_string(&file).unwrap();
        for start in text.match_indices("frolic-").map(|(at, _)| at) {
            let word: String = text[start..]
                .chars()
                .take_while(|c| c.is_ascii_alphanumeric() || "-_./".contains(*c))
                .collect();
            let word = word.trim_end_matches('.');
            if word.contains("/src/") && (word.ends_with(".rs") || word.ends_with(".wgsl")) {
                assert!(crates().join(word).exists(), "{}: {word}", file.display());
            }
        }
    }
}

/// Files of a crate by their module path.
fn modules(krate: &str) -> BTreeMap<Vec<String>, String> {
    let src = crates().join(krate).join("src");
    let of = |file: &PathBuf| {
        let path = file.strip_prefix(&src).unwrap().with_extension("");
        let mut path: Vec<String> = path.iter().map(|part| part.to_string_lossy().into_owned()).collect();
        if path.last().is_some_and(|last| last == "mod" || last == "lib" || last == "main") {
            path.pop();
        }
        let text = fs::read_to_string(file).unwrap();
        let text = text.split("#[cfg(test)]\nmod tests").next().unwrap();
        let code = text.lines().map(|line| line.split("//").next().unwrap());
        (path, code.collect::<Vec<_>>().join("\n"))
    };
    sources(&src)
        .iter()
        .filter(|file| file.extension().is_some_and(|ending| ending == "rs"))
        .map(of)
        .collect()
}

/// The module that a path leads to, as far as it names modules.
fn leads_to<'a>(
    modules: &'a BTreeMap<Vec<String>, String>,
    from: &[String],
    path: &str,
) -> Option<&'a Vec<String>> {
    let mut words = path.split("::");
    let mut at = match words.next()? {
        "crate" => Vec::new(),
        "self" => from.to_vec(),
        "super" => from[..from.len().saturating_sub(1)].to_vec(),
        _ => return None,
    };
    for word in words {
        if word == "super" {
            at.pop();
            continue;
        }
        let mut next = at.clone();
        next.push(word.to_owned());
        if !modules.contains_key(&next) {
            break;
        }
        at = next;
    }
    modules.get_key_value(&at).map(|(path, _)| path)
}

/// Paths that a module's code names, lists in braces written out.
fn paths(code: &str) -> Vec<String> {
    let mut all = Vec::new();
    for start in ["crate::", "super::", "self::"] {
        for (at, _) in code.match_indices(start) {
            let before = code[..at].chars().next_back();
            if before.is_some_and(|c| c.is_alphanumeric() || c == '_' || c == ':' || c == '$') {
                continue;
            }
            let end = code[at..].find(|c: char| !(c.is_alphanumeric() || c == '_' || c == ':'));
            let path = &code[at..at + end.unwrap_or(code.len() - at)];
            let rest = &code[at + path.len()..];
            if path.ends_with("::") && rest.starts_with('{') {
                let list = &rest[1..rest.find('}').unwrap_or(rest.len())];
                all.extend(
                    list.split(',').map(|item| format!("{path}{}", item.trim().trim_start_matches('{'))),
                );
            } else {
                all.push(path.to_owned());
            }
        }
    }
    all
}

/// Circles of files within a crate are of two at most.
#[test]
fn circles_of_files_are_small() {
    for krate in ORDER {
        let modules = modules(krate);
        let names: Vec<&Vec<String>> = modules.keys().collect();
        let place = |path: &Vec<String>| names.iter().position(|name| *name == path).unwrap();
        let mut reaches = vec![vec![false; names.len()]; names.len()];
        for (from, code) in &modules {
            for path in paths(code) {
                if let Some(to) = leads_to(&modules, from, &path).filter(|to| *to != from && !to.is_empty()) {
                    reaches[place(from)][place(to)] = true;
                }
            }
        }
        // Warshall's closure (1962).
        for over in 0..names.len() {
            for from in 0..names.len() {
                if reaches[from][over] {
                    for to in 0..names.len() {
                        reaches[from][to] |= reaches[over][to];
                    }
                }
            }
        }
        let circle =
            |a: usize| (0..names.len()).filter(|&b| a == b || (reaches[a][b] && reaches[b][a])).count();
        let larger: Vec<String> =
            (0..names.len()).filter(|&a| circle(a) > 2).map(|a| names[a].join("::")).collect();
        assert!(larger.is_empty(), "{krate}: in larger circles: {larger:?}");
    }
}

/// Families that ship are named in their own rooms, where they are listed, and where the library hands them out; nowhere else.
#[test]
fn families_are_named_in_their_rooms_alone() {
    let types = [
        "BladeSpec",
        "Blades",
        "BladeColumns",
        "GrowSpec",
        "Growing",
        "ShownColumns",
        "FixedSpec",
        "FixedInstances",
        "FixedColumns",
        "WalkSpec",
    ];
    let rooms = [
        "frolic-core/src/families/",
        "frolic-core/src/lib.rs",
        "frolic-scene/src/families/",
        "frolic/src/lib.rs",
    ];
    for krate in ORDER {
        for file in sources(&crates().join(krate).join("src")) {
            let path = file.strip_prefix(crates()).unwrap().to_string_lossy().into_owned();
            if rooms.iter().any(|room| path.starts_with(room)) {
                continue;
            }
            let text = fs::read_to_string(&file).unwrap();
            let code = text.lines().filter(|line| !line.trim_start().starts_with("//"));
            for line in code {
                let named =
                    line.split(|c: char| !c.is_alphanumeric() && c != '_').find(|word| types.contains(word));
                // The size of a Tuft's blades and the like are other words.
                assert!(named.is_none(), "{path} names {}: {line}", named.unwrap_or_default());
            }
        }
    }
}
