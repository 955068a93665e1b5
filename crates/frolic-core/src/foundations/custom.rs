//! Names that a program adds to a list: interned once in a process, never removed.

use std::sync::OnceLock;

use crate::foundations::error::SpecError;

/// Maximum number of custom names of a list.
pub const MOST_CUSTOM: usize = 16;

/// Longest name, in bytes.
const LONGEST: usize = 32;

/// Number of a custom name.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct CustomNumber(u8);

impl CustomNumber {
    /// The number, below [`MOST_CUSTOM`].
    pub fn index(self) -> usize {
        usize::from(self.0)
    }
}

/// Custom names of one list.
#[derive(Debug)]
pub(crate) struct CustomNames([OnceLock<Box<str>>; MOST_CUSTOM]);

impl CustomNames {
    pub(crate) const fn new() -> Self {
        Self([const { OnceLock::new() }; MOST_CUSTOM])
    }

    /// Returns the number of a name, which is added if it is new.
    pub(crate) fn number(&self, name: &str) -> Result<CustomNumber, SpecError> {
        let wrong = |problem: String, remedy: &str| Err(SpecError::new("name", problem, remedy));
        let fits = |char: char| char.is_ascii_lowercase() || char.is_ascii_digit() || char == '_';
        // Reports call the rest of a frame so.
        if name == "other" || name.is_empty() || name.len() > LONGEST || !name.chars().all(fits) {
            let problem = format!("{name:?} is not a name");
            return wrong(problem, "write up to 32 small letters, digits and _; not 'other'");
        }
        for (slot, number) in self.0.iter().zip(0..) {
            if **slot.get_or_init(|| name.into()) == *name {
                return Ok(CustomNumber(number));
            }
        }
        wrong(format!("'{name}' is one too many"), "keep to 16 of one kind in a process")
    }

    pub(crate) fn name(&self, number: CustomNumber) -> &str {
        self.0[number.index()].get().map_or("", |name| name)
    }

    /// Returns the numbers of all names so far.
    pub(crate) fn numbers(&self) -> impl Iterator<Item = CustomNumber> + Clone {
        self.0
            .iter()
            .zip(0..)
            .take_while(|(slot, _)| slot.get().is_some())
            .map(|(_, number)| CustomNumber(number))
    }
}
