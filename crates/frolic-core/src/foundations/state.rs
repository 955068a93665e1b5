//! Saved state: named values, columns and parts, and their encoding.
//!
//! Encoded as CBOR (RFC 8949): a map from text to values. Columns are typed arrays of little-endian numbers (RFC 8746): tag 85 for floats of 32 bits,
//! tag 70 for unsigned numbers of 32 bits.

use std::collections::BTreeMap;

use ciborium::Value;
use serde::Serialize;
use serde::de::DeserializeOwned;

use crate::foundations::error::SpecError;

/// State of something that runs, by names. It holds only what cannot be derived from a spec.
///
/// ```
/// use frolic_core::SavedState;
/// let mut state = SavedState::default();
/// state.put("time", &1.5f64);
/// state.put_floats("age", &[0.5, 0.25]);
/// let again = SavedState::from_bytes(&state.to_bytes()?)?;
/// assert_eq!(again, state);
/// assert_eq!(again.value::<f64>("time")?, 1.5);
/// assert_eq!(again.floats("age")?, [0.5, 0.25]);
/// # Ok::<(), frolic_core::SpecError>(())
/// ```
#[derive(Debug, Clone, Default, PartialEq)]
pub struct SavedState(BTreeMap<String, Saved>);

#[derive(Debug, Clone, PartialEq)]
enum Saved {
    Floats(Vec<f32>),
    Numbers(Vec<u32>),
    Part(SavedState),
    Value(Value),
}

/// Tags of typed arrays, RFC 8746.
const FLOATS: u64 = 85;
const NUMBERS: u64 = 70;

/// Numbers that a column can hold.
pub(crate) trait ColumnNumber: Copy {
    fn put(state: &mut SavedState, key: &str, column: &[Self]);
    fn of<'a>(state: &'a SavedState, key: &str) -> Result<&'a [Self], SpecError>;
}

impl ColumnNumber for f32 {
    fn put(state: &mut SavedState, key: &str, column: &[Self]) {
        state.put_floats(key, column);
    }

    fn of<'a>(state: &'a SavedState, key: &str) -> Result<&'a [Self], SpecError> {
        state.floats(key)
    }
}

impl ColumnNumber for u32 {
    fn put(state: &mut SavedState, key: &str, column: &[Self]) {
        state.put_numbers(key, column);
    }

    fn of<'a>(state: &'a SavedState, key: &str) -> Result<&'a [Self], SpecError> {
        state.numbers(key)
    }
}

impl SavedState {
    /// Keeps a value. Replaces one of the same key.
    pub fn put<T: Serialize + ?Sized>(&mut self, key: &str, value: &T) {
        // Plain data always serialises.
        let value = Value::serialized(value).unwrap_or(Value::Null);
        self.0.insert(key.to_owned(), Saved::of(value));
    }

    /// Keeps a column of floats.
    pub fn put_floats(&mut self, key: &str, column: &[f32]) {
        self.0.insert(key.to_owned(), Saved::Floats(column.to_vec()));
    }

    /// Keeps a column of whole numbers.
    pub fn put_numbers(&mut self, key: &str, column: &[u32]) {
        self.0.insert(key.to_owned(), Saved::Numbers(column.to_vec()));
    }

    /// Keeps the state of a part.
    pub fn put_part(&mut self, key: &str, part: Self) {
        self.0.insert(key.to_owned(), Saved::Part(part));
    }

    /// Returns whether there is something of this key.
    pub fn has(&self, key: &str) -> bool {
        self.0.contains_key(key)
    }

    /// All keys, sorted.
    pub fn keys(&self) -> impl Iterator<Item = &str> {
        self.0.keys().map(String::as_str)
    }

    /// A value by its key.
    ///
    /// # Errors
    /// There is none, or it is of another kind.
    pub fn value<T: DeserializeOwned>(&self, key: &str) -> Result<T, SpecError> {
        let read = match self.get(key)? {
            Saved::Value(value) => value.deserialized(),
            other => other.to_value().deserialized(),
        };
        read.map_err(|error| unfit(key, &error.to_string()))
    }

    /// A column of floats by its key.
    ///
    /// # Errors
    /// There is none, or it is of another kind.
    pub fn floats(&self, key: &str) -> Result<&[f32], SpecError> {
        match self.get(key)? {
            Saved::Floats(column) => Ok(column),
            _ => Err(unfit(key, "is no column of floats")),
        }
    }

    /// A column of whole numbers by its key.
    ///
    /// # Errors
    /// There is none, or it is of another kind.
    pub fn numbers(&self, key: &str) -> Result<&[u32], SpecError> {
        match self.get(key)? {
            Saved::Numbers(column) => Ok(column),
            _ => Err(unfit(key, "is no column of whole numbers")),
        }
    }

    /// The state of a part by its key.
    ///
    /// # Errors
    /// There is none, or it is of another kind.
    pub fn part(&self, key: &str) -> Result<&Self, SpecError> {
        match self.get(key)? {
            Saved::Part(part) => Ok(part),
            _ => Err(unfit(key, "is no part")),
        }
    }

    /// Restores something from the part of a key. Errors of it are under that key.
    pub(crate) fn restore<R>(
        &self,
        key: &str,
        restore: impl FnOnce(&Self) -> Result<R, SpecError>,
    ) -> Result<R, SpecError> {
        restore(self.part(key)?).map_err(|error| error.under(key))
    }

    /// Brings values up to the length that a list has. Refuses any other number.
    pub(crate) fn list<T: DeserializeOwned>(&self, key: &str, len: usize) -> Result<Vec<T>, SpecError> {
        let list: Vec<T> = self.value(key)?;
        if list.len() == len {
            return Ok(list);
        }
        Err(unfit(key, &format!("has {} entries where the spec has {len}", list.len())))
    }

    fn get(&self, key: &str) -> Result<&Saved, SpecError> {
        self.0.get(key).ok_or_else(|| unfit(key, "is missing from the saved state"))
    }

    /// Encodes the state as CBOR.
    ///
    /// # Errors
    /// Memory is short.
    pub fn to_bytes(&self) -> Result<Vec<u8>, SpecError> {
        let mut bytes = Vec::new();
        ciborium::into_writer(&self.to_value(), &mut bytes)
            .map_err(|error| unfit("state", &error.to_string()))?;
        Ok(bytes)
    }

    /// Reads what [`SavedState::to_bytes`] wrote.
    ///
    /// # Errors
    /// It is not CBOR, or not a map with keys of text.
    pub fn from_bytes(bytes: &[u8]) -> Result<Self, SpecError> {
        let problem = |error: ciborium::de::Error<std::io::Error>| format!("is no CBOR: {error}");
        let value: Value = ciborium::from_reader(bytes).map_err(|error| unfit("state", &problem(error)))?;
        match Saved::of(value) {
            Saved::Part(state) => Ok(state),
            _ => Err(unfit("state", "is no map with keys of text")),
        }
    }

    fn to_value(&self) -> Value {
        let entry = |(key, saved): (&String, &Saved)| (Value::Text(key.clone()), saved.to_value());
        Value::Map(self.0.iter().map(entry).collect())
    }
}

/// An error of a saved state.
pub(crate) fn unfit(key: &str, problem: &str) -> SpecError {
    SpecError::new(key, problem, "restore a state of the same scene, saved by this version")
}

impl Saved {
    fn of(value: Value) -> Self {
        match value {
            Value::Tag(FLOATS, array) => match *array {
                Value::Bytes(bytes) => Self::Floats(numbers_of(&bytes, f32::from_le_bytes)),
                other => Self::Value(Value::Tag(FLOATS, Box::new(other))),
            },
            Value::Tag(NUMBERS, array) => match *array {
                Value::Bytes(bytes) => Self::Numbers(numbers_of(&bytes, u32::from_le_bytes)),
                other => Self::Value(Value::Tag(NUMBERS, Box::new(other))),
            },
            Value::Map(entries) if entries.iter().all(|(key, _)| key.is_text()) => {
                let named = entries.into_iter().filter_map(|(key, value)| {
                    let key = key.into_text().ok()?;
                    Some((key, Self::of(value)))
                });
                Self::Part(SavedState(named.collect()))
            }
            other => Self::Value(other),
        }
    }

    fn to_value(&self) -> Value {
        let array = |tag, bytes| Value::Tag(tag, Box::new(Value::Bytes(bytes)));
        match self {
            Self::Floats(column) => array(FLOATS, bytes_of(column, f32::to_le_bytes)),
            Self::Numbers(column) => array(NUMBERS, bytes_of(column, u32::to_le_bytes)),
            Self::Part(part) => part.to_value(),
            Self::Value(value) => value.clone(),
        }
    }
}

fn bytes_of<T: Copy>(column: &[T], to: impl Fn(T) -> [u8; 4]) -> Vec<u8> {
    let mut bytes = Vec::with_capacity(column.len() * 4);
    column.iter().for_each(|&value| bytes.extend_from_slice(&to(value)));
    bytes
}

fn numbers_of<T>(bytes: &[u8], from: impl Fn([u8; 4]) -> T) -> Vec<T> {
    bytes.as_chunks::<4>().0.iter().map(|&number| from(number)).collect()
}
