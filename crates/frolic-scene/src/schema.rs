//! The schema of scene files, made from the types of the specs: `docs/scene.schema.json`.
//!
//! Structure, descriptions and defaults are those of the types. Ranges and units are read from the descriptions, where they stand for people
//! too; a test holds them against the checks.

use serde_json::{Map, Value, json};

use crate::families::registry::LIVE;
use crate::spec::SceneSpec;

/// Makes the JSON Schema (2020-12) of scene files. TOML is checked by it as the JSON of the same structure.
///
/// Beside the standard keywords, a key may have `x-unit`, and `x-live`: whether a running scene takes its change without building a population
/// again, or text that says of what it does.
pub fn schema() -> Value {
    let mut root = schemars::schema_for!(SceneSpec).to_value();
    root["title"] = json!("A scene of Frolic, version 1");
    annotate(&mut root);
    mark(&mut root, "/properties", |key| !BUILT_AGAIN.contains(&key));
    let is_family = |key: &str| LIVE.iter().any(|(family, _)| *family == key);
    let population = "/$defs/PopulationSpec/properties";
    mark(&mut root, population, |key| key != "name" && !is_family(key));
    let count = "of particles, flocks and crowds, of blades that stand in no groups, and of growing elements whose places it does not decide";
    for (key, of) in [
        ("count", count),
        ("size", "of particles, blades, flocks and crowds"),
        ("apart", "of particles"),
        ("event", "of particles"),
        ("field", "of particles"),
        ("trail", "of particles"),
    ] {
        if let Some(live) = root.pointer_mut(&format!("{population}/{key}/x-live")) {
            *live = of.into();
        }
    }
    for (family, live) in LIVE {
        let of = root.pointer(&format!("{population}/{family}/anyOf/0/$ref")).and_then(Value::as_str);
        if let Some(definition) = of.and_then(|of| of.strip_prefix('#')).map(|of| format!("{of}/properties"))
        {
            mark(&mut root, &definition, |key| live.contains(&key));
            if let (Some(live), "blades") =
                (root.pointer_mut(&format!("{definition}/placement/x-live")), *family)
            {
                *live = "of clumps that leave out no blades, each, and density".into();
            }
        }
    }
    root
}

/// Keys of a scene whose change builds its populations again.
const BUILT_AGAIN: [&str; 6] = ["frolic", "seed", "storage", "backend", "residence", "asset"];

/// Marks keys as live in a running scene, or not.
fn mark(root: &mut Value, pointer: &str, is_live: impl Fn(&str) -> bool) {
    let Some(Value::Object(properties)) = root.pointer_mut(pointer) else { return };
    for (key, property) in properties {
        if let Value::Object(property) = property {
            property.insert("x-live".to_owned(), is_live(key).into());
        }
    }
}

/// Adds ranges and units to all properties below, and shortens numbers.
fn annotate(value: &mut Value) {
    match value {
        Value::Array(items) => items.iter_mut().for_each(annotate),
        Value::Object(object) => {
            if let Some(Value::Object(properties)) = object.get_mut("properties") {
                for (key, property) in properties {
                    if let Value::Object(property) = property {
                        describe(key, property);
                    }
                }
            }
            object.values_mut().for_each(annotate);
        }
        // Specs hold single precision.
        Value::Number(number) if number.is_f64() => {
            let short = number.as_f64().map(|number| (number as f32).to_string());
            if let Some(short) = short.and_then(|text| text.parse::<f64>().ok()) {
                *value = short.into();
            }
        }
        _ => {}
    }
}

fn describe(key: &str, property: &mut Map<String, Value>) {
    let text = property.get("description").and_then(Value::as_str).unwrap_or_default().to_owned();
    // A value that stands for none may be outside of the range.
    let default = property.get("default").cloned();
    let takes = |least: f64, most: f64| {
        default.as_ref().and_then(Value::as_f64).is_none_or(|default| (least..=most).contains(&default))
    };
    if let Some([least, most]) = range(&text).filter(|[least, most]| takes(*least, *most)) {
        let items = property.get("items").and_then(|items| items.get("type")).and_then(Value::as_str);
        let is_list = items == Some("array");
        let of = match property.get_mut("items") {
            Some(Value::Object(items)) if !is_list && items.contains_key("type") => items,
            _ => property,
        };
        let is_whole = is_list || of.get("type").is_some_and(|kind| kind == "integer");
        let number = |value: f64| if is_whole { json!(value as i64) } else { json!(value) };
        // Of a list of points it is their number.
        let [low, high] = if is_list { ["minItems", "maxItems"] } else { ["minimum", "maximum"] };
        of.insert(low.to_owned(), number(least));
        of.insert(high.to_owned(), number(most));
    }
    if let Some(unit) = unit(key, &text) {
        property.insert("x-unit".to_owned(), unit.into());
    }
}

/// Reads the first range of a description, as in "0.01 to 20". One of several ranges, or one in another unit, is none.
fn range(text: &str) -> Option<[f64; 2]> {
    let text = text.split("Default:").next().unwrap_or_default();
    let words: Vec<&str> = text.split(' ').collect();
    let number = |word: &str| {
        word.trim_end_matches([',', '.', ';', ':', ')']).trim_start_matches('(').parse::<f64>().ok()
    };
    let (at, found) = words.windows(3).enumerate().find_map(|(at, words)| match words {
        [least, "to", most] => Some((at, [number(least)?, number(most)?])),
        _ => None,
    })?;
    let before = at.checked_sub(1).and_then(|at| words.get(at)).copied().unwrap_or_default();
    let after = words.get(at + 3..).unwrap_or_default();
    let is_other = before == "or" || matches!(after, ["or", ..] | ["sides." | "sides", ..]);
    (found[0] < found[1] && !is_other).then_some(found)
}

fn unit(key: &str, text: &str) -> Option<&'static str> {
    const UNITS: [(&str, &str); 8] = [
        ("in metres a second", "m/s"),
        ("in metres per second", "m/s"),
        ("metres per second squared", "m/s²"),
        ("in metres", "m"),
        ("in seconds", "s"),
        ("in pixels", "pixels"),
        ("in degrees", "degrees"),
        ("a second", "1/s"),
    ];
    if key.ends_with("_degrees") {
        return Some("degrees");
    }
    UNITS.iter().find(|(words, _)| text.contains(words)).map(|(_, unit)| *unit)
}
