//! Sets one key of a scene by its path, as `--set` and `--vary` do.

use frolic_core::listed;
use toml::{Table, Value};

use crate::error::{SceneError, advice};
use crate::file::readable;
use crate::population::PopulationSpec;
use crate::sections::KEYS;
use crate::spec::SceneSpec;

impl SceneSpec {
    /// Returns the scene with the key at a dotted path set to a value.
    ///
    /// A path starts at the top of the scene (`draw.technique`, `light.0.power`) or with a population's name
    /// (`embers.count`, `embers.emitter.0.rate`). The value is TOML; a bare word counts as a string.
    ///
    /// ```
    /// use frolic_scene::SceneSpec;
    /// let scene = SceneSpec::find("beacon")?.set("embers.count", "500")?.set("draw.technique", "each")?;
    /// assert!(scene.set("draw.tecnique", "each").unwrap_err().to_string().contains("did you mean 'technique'"));
    /// # Ok::<(), frolic_scene::SceneError>(())
    /// ```
    ///
    /// # Errors
    /// The path leads nowhere, or the value has the wrong type or is out of range.
    pub fn set(&self, path: &str, value: &str) -> Result<Self, SceneError> {
        self.set_at(path, parse(value), || format!("{path}={value}"))
    }

    /// As [`SceneSpec::set`], with a value that was read.
    pub(crate) fn with_value(&self, path: &str, value: Value) -> Result<Self, SceneError> {
        self.set_at(path, value, || path.to_owned())
    }

    fn set_at(&self, path: &str, value: Value, place: impl Fn() -> String) -> Result<Self, SceneError> {
        let text = |problem: String| SceneError::Text { place: place(), problem };
        let parts = self.resolve(path).map_err(text)?;
        let mut changed = self.clone();
        changed.put(&parts, value).map_err(text)?;
        changed.check().map_err(|source| SceneError::Value { place: place(), source })?;
        Ok(changed)
    }

    /// Returns the value at a path, as it is written: none if there is none, or if it is left out.
    pub(crate) fn value_at(&self, path: &str) -> Option<Value> {
        let parts = self.resolve(path).ok()?;
        let (mut value, rest) = match &parts[..] {
            [key, nth, rest @ ..] if key == "population" => {
                (Value::try_from(self.population.get(nth.parse::<usize>().ok()?)?).ok()?, rest)
            }
            [key, rest @ ..] => (self.section(key)?, rest),
            [] => return None,
        };
        for part in rest {
            value = match value {
                Value::Table(mut table) => table.remove(part)?,
                Value::Array(items) => items.into_iter().nth(part.parse().ok()?)?,
                _ => return None,
            };
        }
        Some(value)
    }

    /// Sets the value at a resolved path, unchecked. Only the population or key that it belongs to is read anew.
    fn put(&mut self, parts: &[String], value: Value) -> Result<(), String> {
        let unread = |error: toml::de::Error| readable(error.message());
        if let [key, nth, rest @ ..] = parts
            && key == "population"
            && !rest.is_empty()
            && let Some(population) = nth.parse().ok().and_then(|nth: usize| self.population.get_mut(nth))
        {
            let mut table = Table::try_from(&*population).map_err(|error| error.to_string())?;
            put(&mut table, rest, value)?;
            let changed: PopulationSpec = table.try_into().map_err(unread)?;
            // What text cannot hold.
            *population = PopulationSpec { own: population.own.clone(), ..changed };
            return Ok(());
        }
        let [key, ..] = parts else { return Err("the path is empty".to_owned()) };
        let mut root: Table = self.section(key).map(|value| (key.clone(), value)).into_iter().collect();
        put(&mut root, parts, value)?;
        let own: Vec<_> = self.population.iter().map(|population| population.own.clone()).collect();
        root.remove(key).map_or(Ok(()), |value| self.set_section(key, value)).map_err(unread)?;
        self.population.iter_mut().zip(own).for_each(|(population, own)| population.own = own);
        Ok(())
    }

    /// Resolves the first word of a path, which is a population or a key of the scene.
    fn resolve(&self, path: &str) -> Result<Vec<String>, String> {
        let mut parts: Vec<String> = path.split('.').map(str::to_owned).collect();
        let names = || self.population.iter().map(|population| population.name.as_str());
        if let Some(nth) = names().position(|name| name == parts[0]) {
            parts.splice(..1, ["population".to_owned(), nth.to_string()]);
        } else if !KEYS.contains(&parts[0].as_str()) {
            let advice = advice(&parts[0], names().chain(KEYS));
            let populations = listed(names());
            let keys = KEYS.join(", ");
            return Err(format!(
                "unknown key '{}'; {advice} (populations: {populations}; keys: {keys})",
                parts[0]
            ));
        }
        Ok(parts)
    }
}

fn parse(value: &str) -> Value {
    let table = toml::from_str::<Table>(&format!("value = {value}")).ok();
    table.and_then(|mut table| table.remove("value")).unwrap_or_else(|| Value::String(value.to_owned()))
}

/// Sets the value at a path, and creates tables that are missing on the way.
fn put(table: &mut Table, parts: &[String], value: Value) -> Result<(), String> {
    let [first, rest @ ..] = parts else { return Err("the path is empty".to_owned()) };
    if rest.is_empty() {
        // An integer is accepted for a float.
        let value = match (table.get(first), value) {
            (Some(Value::Float(_)), Value::Integer(whole)) => Value::Float(whole as f64),
            (_, value) => value,
        };
        table.insert(first.clone(), value);
        return Ok(());
    }
    match table.entry(first.clone()).or_insert_with(|| Value::Table(Table::new())) {
        Value::Table(inner) => put(inner, rest, value),
        Value::Array(items) => {
            let count = items.len();
            let [nth, rest @ ..] = rest else { return Ok(()) };
            let item = nth.parse::<usize>().ok().and_then(|nth| items.get_mut(nth));
            match (item, rest) {
                (Some(item), []) => {
                    *item = value;
                    Ok(())
                }
                (Some(Value::Table(inner)), rest) => put(inner, rest, value),
                (Some(_), _) => Err(format!("'{first}.{nth}' has no keys")),
                (None, _) => Err(format!("'{first}' has no item '{nth}'; there are {count}, counted from 0")),
            }
        }
        _ => Err(format!("'{first}' has no keys")),
    }
}
