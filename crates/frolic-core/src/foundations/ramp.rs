//! A value over the age of an element: stops joined by straight lines.

use std::marker::PhantomData;

use serde::de::{SeqAccess, Visitor};
use serde::{Deserialize, Deserializer, Serialize, Serializer};

use crate::foundations::error::SpecError;

/// A type of value for a [`Ramp`]: can be interpolated, and written as one plain value.
pub trait RampValue: Copy + PartialEq + Serialize + for<'de> Deserialize<'de> {
    /// Interpolates between `a` (`t` = 0) and `b` (`t` = 1).
    fn mix(a: Self, b: Self, t: f32) -> Self;

    /// The problem with this value, if any.
    fn problem(&self) -> Option<String>;
}

impl RampValue for f32 {
    fn mix(a: Self, b: Self, t: f32) -> Self {
        a + (b - a) * t
    }

    fn problem(&self) -> Option<String> {
        (!self.is_finite() || *self < 0.0 || *self > 1e6)
            .then(|| format!("{self} is not a number from 0 to 1000000"))
    }
}

/// Maximum number of stops.
const MOST_STOPS: usize = 64;

/// Stops `(at, value)` joined by straight lines; `at` is age over life, 0 at birth and 1 at death.
///
/// Written as a list of `[at, value]`. The value is constant before the first stop and after the last.
///
/// ```
/// use frolic_core::Ramp;
/// let fade = Ramp::new([(0.0, 0.0), (0.2, 1.0), (1.0, 0.0)]);
/// assert_eq!(fade.at(0.1), 0.5);
/// assert_eq!(fade.at(9.0), 0.0);
/// ```
#[derive(Debug, Clone, PartialEq)]
pub struct Ramp<T> {
    stops: Vec<(f32, T)>,
}

impl<T: RampValue, const N: usize> From<[(f32, T); N]> for Ramp<T> {
    fn from(stops: [(f32, T); N]) -> Self {
        Self::new(stops)
    }
}

impl<T: RampValue> From<Vec<(f32, T)>> for Ramp<T> {
    fn from(stops: Vec<(f32, T)>) -> Self {
        Self::new(stops)
    }
}

impl<T: RampValue> Ramp<T> {
    /// A ramp through these stops, in order of `at`. [`Ramp::check`] checks it when its spec is built.
    pub fn new(stops: impl IntoIterator<Item = (f32, T)>) -> Self {
        Self { stops: stops.into_iter().collect() }
    }

    /// The same value at every age.
    pub fn constant(value: T) -> Self {
        Self::new([(0.0, value)])
    }

    /// The value at an age, as a share of life; outside 0..1 that of the nearest stop.
    ///
    /// # Panics
    /// Panics on an empty ramp, which [`Ramp::check`] refuses.
    pub fn at(&self, age: f32) -> T {
        let next = self.stops.partition_point(|&(at, _)| at <= age);
        let last = self.stops[next.saturating_sub(1)];
        match self.stops.get(next) {
            Some(&(to, value)) if next > 0 => T::mix(last.1, value, (age - last.0) / (to - last.0)),
            _ => last.1,
        }
    }

    /// The stops, in order.
    pub fn stops(&self) -> &[(f32, T)] {
        &self.stops
    }

    /// Checks the ramp: 1 to 64 stops, `at` rising strictly from 0 to 1, valid values.
    ///
    /// # Errors
    /// Names `key`, the stop and a remedy.
    pub fn check(&self, key: &str) -> Result<(), SpecError> {
        if self.stops.is_empty() || self.stops.len() > MOST_STOPS {
            let problem = format!("{} stops", self.stops.len());
            return Err(SpecError::new(key, problem, format!("write 1 to {MOST_STOPS} stops [at, value]")));
        }
        let mut before = f32::NEG_INFINITY;
        for (index, (at, value)) in self.stops.iter().enumerate() {
            if !(0.0..=1.0).contains(at) || *at <= before {
                let problem = format!("stop {} is at {at}", index + 1);
                return Err(SpecError::new(
                    key,
                    problem,
                    "write stops in rising order from 0 (birth) to 1 (death)",
                ));
            }
            if let Some(problem) = value.problem() {
                let problem = format!("stop {}: {problem}", index + 1);
                return Err(SpecError::new(key, problem, "write a value in range"));
            }
            before = *at;
        }
        Ok(())
    }
}

impl<T: RampValue> Serialize for Ramp<T> {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        self.stops.serialize(serializer)
    }
}

impl<'de, T: RampValue> Deserialize<'de> for Ramp<T> {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        struct Stops<T>(PhantomData<T>);
        impl<'de, T: RampValue> Visitor<'de> for Stops<T> {
            type Value = Ramp<T>;

            fn expecting(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
                f.write_str("a list of stops [at, value]")
            }

            fn visit_seq<A: SeqAccess<'de>>(self, mut seq: A) -> Result<Ramp<T>, A::Error> {
                let mut stops = Vec::new();
                while let Some(stop) = seq.next_element::<(f32, T)>()? {
                    if stops.len() == MOST_STOPS {
                        return Err(serde::de::Error::custom(format!("more than {MOST_STOPS} stops")));
                    }
                    stops.push(stop);
                }
                Ok(Ramp { stops })
            }
        }
        deserializer.deserialize_seq(Stops(PhantomData))
    }
}

#[cfg(feature = "schema")]
impl<T: RampValue + schemars::JsonSchema> schemars::JsonSchema for Ramp<T> {
    fn schema_name() -> std::borrow::Cow<'static, str> {
        format!("Ramp of {}", T::schema_name()).into()
    }

    fn json_schema(generator: &mut schemars::SchemaGenerator) -> schemars::Schema {
        schemars::json_schema!({
            "description": "A ramp: pairs [at, value], 'at' rising from 0 to 1. Values are linear between pairs and constant outside.",
            "type": "array",
            "minItems": 1,
            "maxItems": MOST_STOPS,
            "items": {
                "type": "array",
                "prefixItems": [{ "type": "number", "minimum": 0, "maximum": 1 }, generator.subschema_for::<T>()],
                "minItems": 2,
                "maxItems": 2
            }
        })
    }
}
