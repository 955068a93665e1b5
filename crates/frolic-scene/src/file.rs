//! Parses text into a checked [`SceneSpec`]. Errors give file, line, key and a remedy.

use std::fs;
use std::io::Read;
use std::path::Path;
use std::str::FromStr;

use frolic_core::SpecError;
use toml::de::{DeTable, DeValue};

use crate::error::{SceneError, advice, nearest};
use crate::folder::Folder;
use crate::shipped;
use crate::spec::SceneSpec;

/// Maximum size of a scene file, in bytes.
const LARGEST: u64 = 1 << 20;

impl SceneSpec {
    /// Reads and checks a scene file.
    ///
    /// # Errors
    /// The file cannot be read, is over 1 MiB, is not UTF-8 or not TOML, or has an unknown key or a value out of range.
    pub fn from_file(path: impl AsRef<Path>) -> Result<Self, SceneError> {
        let path = path.as_ref();
        let read = |source| SceneError::Read { path: path.to_owned(), source };
        let mut bytes = Vec::new();
        // One byte more than the limit is enough to detect a larger file.
        fs::File::open(path).map_err(read)?.take(LARGEST + 1).read_to_end(&mut bytes).map_err(read)?;
        let name = path.display().to_string();
        if bytes.len() as u64 > LARGEST {
            let problem = "is over 1 MiB; a scene file is a page or two of text".to_owned();
            return Err(SceneError::Text { place: name, problem });
        }
        let text = String::from_utf8(bytes).map_err(|error| {
            let line = line_of(error.as_bytes(), error.utf8_error().valid_up_to());
            let problem = "is not UTF-8 text; save it as UTF-8".to_owned();
            SceneError::Text { place: format!("{name}:{line}"), problem }
        })?;
        let folder = path.parent().map(Path::to_owned).unwrap_or_default();
        Ok(Self { folder: Folder::At(folder), ..Self::parse(&text, &name)? })
    }

    /// Finds a shipped scene by name, or else reads a scene file.
    ///
    /// # Errors
    /// As [`SceneSpec::from_file`], or there is neither a shipped scene nor a file of that name.
    pub fn find(name: &str) -> Result<Self, SceneError> {
        if let Some(scene) = shipped::find(name) {
            let spec = Self::parse(scene.text, &format!("{name} (shipped)"))?;
            return Ok(Self { folder: Folder::Shipped(scene.name), ..spec });
        }
        if Path::new(name).exists() || name.ends_with(".toml") || name.contains(std::path::MAIN_SEPARATOR) {
            return Self::from_file(name);
        }
        let names = || shipped::SHIPPED.iter().map(|scene| scene.name);
        let hint = match nearest(name, names()) {
            Some(near) => format!("; did you mean '{near}'?"),
            None => format!("; shipped scenes: {}", names().collect::<Vec<_>>().join(", ")),
        };
        Err(SceneError::Unknown { name: name.to_owned(), hint })
    }

    /// Parses and checks the text of a scene. Errors refer to it by `name`.
    ///
    /// # Errors
    /// As [`SceneSpec::from_file`].
    pub fn parse(text: &str, name: &str) -> Result<Self, SceneError> {
        if text.trim().is_empty() {
            let problem = "is empty; a scene starts with the line: frolic = 1".to_owned();
            return Err(SceneError::Text { place: name.to_owned(), problem });
        }
        let spec = toml::from_str::<Self>(text).map_err(|error| {
            let span = error.span().unwrap_or(0..0);
            let place = format!("{name}:{}", line_of(text.as_bytes(), span.start));
            SceneError::Text { place, problem: readable(error.message()) }
        })?;
        spec.check().map_err(|source| {
            let offset = DeTable::parse(text).ok().and_then(|tree| locate(tree.get_ref(), &source));
            let line =
                offset.map_or(String::new(), |offset| format!(":{}", line_of(text.as_bytes(), offset)));
            SceneError::Value { place: format!("{name}{line}"), source }
        })?;
        Ok(spec)
    }

    /// Writes the scene as text. [`SceneSpec::parse`] reads it back unchanged.
    pub fn to_toml(&self) -> String {
        // Plain data with string keys always serialises.
        toml::to_string(self).unwrap_or_default()
    }
}

impl FromStr for SceneSpec {
    type Err = SceneError;

    fn from_str(text: &str) -> Result<Self, SceneError> {
        Self::parse(text, "scene")
    }
}

fn line_of(text: &[u8], offset: usize) -> usize {
    text[..offset.min(text.len())].iter().filter(|&&byte| byte == b'\n').count() + 1
}

/// Rewrites a message of the TOML reader as one line, with the nearest valid word for a misspelt one.
pub(crate) fn readable(message: &str) -> String {
    let kind = [("unknown field", "key"), ("unknown variant", "value")];
    if let Some((_, noun)) = kind.iter().find(|(start, _)| message.starts_with(start)) {
        let mut words = message.split('`').skip(1).step_by(2);
        let wrong = words.next().unwrap_or_default();
        let right: Vec<&str> = words.collect();
        let advice = advice(wrong, right.iter().copied());
        let all =
            if right.is_empty() { String::new() } else { format!(" ({noun}s here: {})", right.join(", ")) };
        return format!("unknown {noun} '{wrong}'; {advice}{all}");
    }
    let line =
        message.split('\n').map(str::trim).filter(|line| !line.is_empty()).collect::<Vec<_>>().join("; ");
    line.replace('`', "'").replace("missing field", "missing key")
}

/// Returns the byte offset of the key that an error is about, or of the nearest table above it in the text.
fn locate(root: &DeTable<'_>, error: &SpecError) -> Option<usize> {
    let mut found = None;
    let mut at: Option<&DeValue<'_>> = None;
    for part in error.key.split('.') {
        let next = match at {
            None => root.get_key_value(part),
            Some(DeValue::Table(table)) => table.get_key_value(part),
            Some(DeValue::Array(items)) => {
                let item = part.parse::<usize>().ok().and_then(|nth| items.get(nth));
                let Some(item) = item else { break };
                found = Some(item.span().start);
                at = Some(item.get_ref());
                continue;
            }
            Some(_) => None,
        };
        let Some((key, value)) = next else { break };
        found = Some(key.span().start);
        at = Some(value.get_ref());
    }
    found
}
