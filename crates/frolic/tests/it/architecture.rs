//! The rooms of the house: arrows go one way, towards core.

use std::collections::BTreeMap;
use std::fs;
use std::path::Path;

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
