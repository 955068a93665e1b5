//! The schema of scene files: that of the types, held against the checks, the documentation and the shipped scenes.

use std::collections::HashSet;

use frolic_scene::{SCHEMA, SHIPPED, SceneSpec, schema};
use serde_json::{Value, json};

/// `docs/scene.schema.json` is made from the types; `FROLIC_WRITE_SCHEMA=1 cargo test -p frolic-scene --all-features schema` makes it anew.
#[test]
fn the_published_schema_is_that_of_the_types() {
    let made = schema();
    if std::env::var_os("FROLIC_WRITE_SCHEMA").is_some() {
        let path = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/scene.schema.json");
        std::fs::write(path, serde_json::to_string_pretty(&made).unwrap() + "\n").unwrap();
        return;
    }
    let published: Value = serde_json::from_str(SCHEMA).unwrap();
    assert!(published == made, "docs/scene.schema.json is not that of the types");
}

fn validator() -> jsonschema::Validator {
    jsonschema::validator_for(&schema()).unwrap()
}

fn as_json(text: &str) -> Value {
    serde_json::to_value(toml::from_str::<toml::Table>(text).unwrap()).unwrap()
}

/// What ships is right by the schema, as written and as the program writes it.
#[test]
fn shipped_scenes_fit_the_schema() {
    let (validator, mut all) = (validator(), Vec::new());
    for scene in SHIPPED {
        let written = SceneSpec::find(scene.name).unwrap().to_toml();
        for text in [scene.text, &written] {
            let faults: Vec<String> = validator
                .iter_errors(&as_json(text))
                .map(|fault| format!("{}: {fault}", fault.instance_path()))
                .collect();
            all.extend(faults.into_iter().map(|fault| format!("{}: {fault}", scene.name)));
        }
    }
    assert!(all.is_empty(), "{all:#?}");
}

/// What the program refuses for its form, the schema refuses.
#[test]
fn mistakes_are_found_by_the_schema() {
    let validator = validator();
    let good = as_json(SHIPPED[0].text);
    assert!(validator.is_valid(&good));
    for (at, value) in [
        ("/camera/fov_degrees", json!("wide")),
        ("/camera/fov_degrees", json!(171)),
        ("/camera/fov_degree", json!(40)),
        ("/draw/technique", json!("instancing")),
        ("/population/0/count", json!(-1)),
        ("/population/0/life", json!([1.0, 2.0, 3.0])),
        ("/population/0/look/colour_over_age", json!([[2.0, "#ffffff"]])),
        ("/sky/zenith", json!("blue")),
        ("/season", json!(2)),
    ] {
        let mut broken = good.clone();
        let (parent, key) = at.rsplit_once('/').unwrap();
        if broken.pointer(parent).is_none() {
            broken[parent.trim_start_matches('/')] = json!({});
        }
        broken.pointer_mut(parent).unwrap()[key] = value;
        assert!(!validator.is_valid(&broken), "{at}");
    }
}

/// All numbers of a value with their paths.
fn numbers(path: &str, value: &Value, all: &mut Vec<String>) {
    match value {
        Value::Object(items) => {
            items.iter().for_each(|(key, item)| numbers(&format!("{path}.{key}"), item, all));
        }
        Value::Array(items) if items.iter().all(Value::is_object) => {
            items.iter().enumerate().for_each(|(nth, item)| numbers(&format!("{path}.{nth}"), item, all));
        }
        Value::Number(_) => all.push(path.trim_start_matches('.').to_owned()),
        _ => {}
    }
}

/// Every number of every shipped scene, moved beyond any range: the program refuses exactly what the schema refuses, where the schema has a range, and
/// takes both ends of it.
#[test]
fn ranges_of_the_schema_are_those_of_the_checks() {
    let validator = validator();
    let (mut ranges, mut differ, mut tried) = (0, Vec::new(), HashSet::new());
    for scene in SHIPPED {
        let spec = SceneSpec::find(scene.name).unwrap();
        assert!(validator.is_valid(&as_json(&spec.to_toml())), "{}", scene.name);
        let mut paths = Vec::new();
        numbers("", &as_json(&spec.to_toml()), &mut paths);
        for path in paths {
            // Once for each key, whatever scene and item of a list it is in.
            let parts = path.split('.').filter(|part| part.parse::<usize>().is_err());
            if !tried.insert(parts.collect::<Vec<_>>().join(".")) {
                continue;
            }
            for value in ["-1e30", "1e30", "-0.001", "1e7", "1001", "0"] {
                let Some(json_path) = pointer(&spec, &path) else { continue };
                let mut changed = as_json(&spec.to_toml());
                let Some(number) = changed.pointer_mut(&json_path) else { continue };
                *number = if number.is_i64() || number.is_u64() {
                    match value.parse::<i64>() {
                        Ok(whole) => json!(whole),
                        Err(_) => continue,
                    }
                } else {
                    json!(value.parse::<f64>().unwrap())
                };
                if validator.is_valid(&changed) {
                    continue;
                }
                ranges += 1;
                if spec.set(&path, value).is_ok() {
                    differ.push(format!(
                        "{}: {path} = {value} is out of the schema's range but taken",
                        scene.name
                    ));
                }
            }
        }
    }
    assert!(ranges > 500, "{ranges} ranges tried");
    differ.sort();
    differ.dedup();
    assert!(differ.is_empty(), "{} of {ranges}:\n{}", differ.len(), differ.join("\n"));
}

/// The place of a path of a scene in its JSON. A path begins with a key of the scene or a population's number.
fn pointer(spec: &SceneSpec, path: &str) -> Option<String> {
    let mut parts: Vec<String> = path.split('.').map(str::to_owned).collect();
    if let Some(nth) = spec.population.iter().position(|population| population.name == parts[0]) {
        parts.splice(..1, ["population".to_owned(), nth.to_string()]);
    }
    Some(format!("/{}", parts.join("/")))
}

/// Every key of the schema is in `docs/scene-format.md`, and has a description.
#[test]
fn keys_of_the_schema_are_documented() {
    let text = include_str!("../../../../docs/scene-format.md");
    let schema = schema();
    let mut missing = Vec::new();
    let mut look = |owner: &str, properties: &Value| {
        for (key, property) in properties.as_object().into_iter().flatten() {
            if property.get("description").is_none() {
                missing.push(format!("{owner}.{key} has no description"));
            }
            // As a key of a table or a variant, or as a table.
            let forms = [
                format!("`{key}`"),
                format!("[{key}]"),
                format!(".{key}]"),
                format!(".{key}`"),
                format!("`{key}."),
                format!("{key} ="),
                format!(" {key},"),
                format!(" {key} }}"),
                format!("{{ {key}"),
            ];
            let is_there = forms.iter().any(|form| text.contains(form));
            if !is_there {
                missing.push(format!("{owner}.{key} is not in docs/scene-format.md"));
            }
        }
    };
    look("scene", &schema["properties"]);
    for (name, definition) in schema["$defs"].as_object().unwrap() {
        look(name, &definition["properties"]);
    }
    assert!(missing.is_empty(), "{missing:#?}");
}
