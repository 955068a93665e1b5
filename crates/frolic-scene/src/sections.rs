//! The top-level keys of a scene, one by one: each is read, written and compared without the others.

use std::collections::BTreeSet;

use toml::Value;

use crate::assets::AssetSource;
use crate::population::PopulationSpec;
use crate::spec::SceneSpec;

macro_rules! sections {
    ($($key:ident)*) => {
        /// All keys of a scene. Populations may not be named like them.
        pub(crate) const KEYS: [&str; [$(stringify!($key)),*].len()] = [$(stringify!($key)),*];

        impl SceneSpec {
            /// Returns the value of a key; none if it is left out.
            pub(crate) fn section(&self, key: &str) -> Option<Value> {
                match key {
                    $(stringify!($key) => Value::try_from(&self.$key).ok(),)*
                    _ => None,
                }
            }

            /// Sets the value of a key, unchecked.
            pub(crate) fn set_section(&mut self, key: &str, value: Value) -> Result<(), toml::de::Error> {
                match key {
                    $(stringify!($key) => self.$key = value.try_into()?,)*
                    _ => {}
                }
                Ok(())
            }

            /// Returns the keys in which two scenes differ.
            pub(crate) fn differing(&self, other: &Self) -> Vec<&'static str> {
                let mut keys = Vec::new();
                $(if self.$key != other.$key {
                    keys.push(stringify!($key));
                })*
                keys
            }
        }
    };
}

sections! {
    frolic title seed weather season storage threads backend residence clock
    camera frame_budget travel draw profile sky ground water world asset
    light sun texture mesh sprite tiles relief terrain text population
}

impl SceneSpec {
    /// Returns the paths of the keys in which another spec differs, as [`SceneSpec::set`] takes them, in order. A list of another length differs by its items.
    ///
    /// ```
    /// use frolic_scene::SceneSpec;
    /// let scene = SceneSpec::find("beacon")?;
    /// let other = scene.set("world.wind", "[5, 0, 0]")?.set("embers.motion.drag", "2")?;
    /// assert_eq!(scene.changed_keys(&other), ["world.wind", "embers.motion.drag"]);
    /// # Ok::<(), frolic_scene::SceneError>(())
    /// ```
    pub fn changed_keys(&self, other: &Self) -> Vec<String> {
        let mut keys = Vec::new();
        for key in self.differing(other) {
            if key != "population" {
                let (a, b) = (self.section(key), other.section(key));
                differences(key.to_owned(), a.as_ref(), b.as_ref(), &mut keys);
                continue;
            }
            for nth in 0..self.population.len().max(other.population.len()) {
                let (a, b) = (self.population.get(nth), other.population.get(nth));
                let Some(name) = b.or(a).map(|population| population.name.clone()).filter(|_| a != b) else {
                    continue;
                };
                let value =
                    |population: Option<&PopulationSpec>| population.and_then(|it| Value::try_from(it).ok());
                let known = keys.len();
                differences(name.clone(), value(a).as_ref(), value(b).as_ref(), &mut keys);
                // A family of the program's own has no text.
                if keys.len() == known {
                    keys.push(name);
                }
            }
        }
        keys
    }

    /// Returns the files that the scene names, relative to its folder.
    pub fn files(&self) -> Vec<&str> {
        let textures = self.texture.iter().filter_map(|texture| texture.file.as_deref());
        let tiles = self.tiles.iter().filter_map(|tiles| tiles.index.as_deref());
        let assets = self.asset.iter().filter_map(|asset| match &asset.from {
            AssetSource::Mesh(file)
            | AssetSource::Grid(file)
            | AssetSource::Brightness(file)
            | AssetSource::Opacity(file)
            | AssetSource::Places(file) => Some(file.as_str()),
            AssetSource::Ball(_) | AssetSource::Placement(_) | AssetSource::Hills(_) => None,
        });
        let fonts = self.text.iter().filter_map(|text| text.font.as_deref());
        textures.chain(tiles).chain(assets).chain(fonts).collect()
    }
}

fn differences(path: String, a: Option<&Value>, b: Option<&Value>, keys: &mut Vec<String>) {
    let under = |key: &str| format!("{path}.{key}");
    match (a, b) {
        (Some(a), Some(b)) if a == b => {}
        (Some(Value::Table(a)), Some(Value::Table(b))) => {
            let all: BTreeSet<&String> = a.keys().chain(b.keys()).collect();
            for key in all {
                differences(under(key), a.get(key), b.get(key), keys);
            }
        }
        (Some(Value::Array(a)), Some(Value::Array(b))) if is_list(a) && is_list(b) => {
            for nth in 0..a.len().max(b.len()) {
                differences(under(&nth.to_string()), a.get(nth), b.get(nth), keys);
            }
        }
        _ => keys.push(path),
    }
}

/// Returns whether an array is a list of tables, such as emitters, and not a vector of numbers.
fn is_list(array: &[Value]) -> bool {
    array.iter().all(Value::is_table)
}
