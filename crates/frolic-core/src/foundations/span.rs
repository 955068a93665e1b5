//! A range of values, from which each element draws one.

use serde::de::{SeqAccess, Visitor};
use serde::{Deserialize, Deserializer, Serialize, Serializer};

use crate::foundations::error::{SpecError, within};

/// Lowest and highest value of an attribute that differs between elements.
///
/// Written as one number, or as `[lowest, highest]`.
///
/// ```
/// use frolic_core::Span;
/// assert_eq!(Span::new(1.0, 3.0).at(0.5), 2.0);
/// assert_eq!(Span::from(4.0), Span::new(4.0, 4.0));
/// ```
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Span {
    /// Lowest value.
    pub min: f32,
    /// Highest value.
    pub max: f32,
}

impl Span {
    /// A range from lowest to highest.
    pub const fn new(min: f32, max: f32) -> Self {
        Self { min, max }
    }

    /// The value at a share `unit`, 0..1, of the range.
    #[inline]
    pub fn at(self, unit: f32) -> f32 {
        self.min + (self.max - self.min) * unit
    }

    /// The middle of the range, which is the mean of a uniform draw.
    pub fn mean(self) -> f32 {
        self.at(0.5)
    }

    /// Checks that both ends are within `min..=max` and in order.
    ///
    /// # Errors
    /// Names `key` and a remedy.
    pub fn check(self, key: &str, min: f32, max: f32, unit: &str) -> Result<(), SpecError> {
        within(key, self.min, min, max, unit)?;
        within(key, self.max, min, max, unit)?;
        if self.min > self.max {
            return Err(SpecError::new(
                key,
                format!("[{}, {}] runs backwards", self.min, self.max),
                format!("write [{}, {}]", self.max, self.min),
            ));
        }
        Ok(())
    }
}

impl From<f32> for Span {
    fn from(value: f32) -> Self {
        Self::new(value, value)
    }
}

impl Serialize for Span {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        [self.min, self.max].serialize(serializer)
    }
}

impl<'de> Deserialize<'de> for Span {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        struct NumberOrPair;
        impl<'de> Visitor<'de> for NumberOrPair {
            type Value = Span;

            fn expecting(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
                f.write_str("a number, or [lowest, highest]")
            }

            fn visit_f64<E>(self, value: f64) -> Result<Span, E> {
                Ok(Span::from(value as f32))
            }

            fn visit_i64<E>(self, value: i64) -> Result<Span, E> {
                Ok(Span::from(value as f32))
            }

            fn visit_u64<E>(self, value: u64) -> Result<Span, E> {
                Ok(Span::from(value as f32))
            }

            fn visit_seq<A: SeqAccess<'de>>(self, mut seq: A) -> Result<Span, A::Error> {
                let short = |n| serde::de::Error::invalid_length(n, &NumberOrPair);
                let min = seq.next_element()?.ok_or_else(|| short(0))?;
                let max = seq.next_element()?.ok_or_else(|| short(1))?;
                match seq.next_element::<f32>()? {
                    None => Ok(Span { min, max }),
                    Some(_) => Err(short(3)),
                }
            }
        }
        deserializer.deserialize_any(NumberOrPair)
    }
}

#[cfg(feature = "schema")]
impl schemars::JsonSchema for Span {
    fn schema_name() -> std::borrow::Cow<'static, str> {
        "Range".into()
    }

    fn json_schema(_: &mut schemars::SchemaGenerator) -> schemars::Schema {
        schemars::json_schema!({
            "description": "A range: one number, or [lowest, highest]; each element has its own value.",
            "anyOf": [
                { "type": "number" },
                { "type": "array", "items": { "type": "number" }, "minItems": 2, "maxItems": 2 }
            ]
        })
    }
}
