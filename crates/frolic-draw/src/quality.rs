//! Quality of a picture: full, or a draft in a part of the time.

use std::fmt;
use std::str::FromStr;

use frolic_core::SpecError;
use serde::{Deserialize, Serialize};

/// Quality of a picture.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub enum Quality {
    /// All pixels, and four samples of solid shapes in each.
    #[default]
    Full,
    /// Half as many pixels each way, enlarged, so a sample a pixel; a shadow map of half the side. For tuning, and for time budgets.
    Draft,
}

impl fmt::Display for Quality {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Full => "full",
            Self::Draft => "draft",
        })
    }
}

impl FromStr for Quality {
    type Err = SpecError;

    fn from_str(text: &str) -> Result<Self, SpecError> {
        match text {
            "full" => Ok(Self::Full),
            "draft" => Ok(Self::Draft),
            _ => Err(SpecError::new("quality", format!("'{text}' is none"), "write full or draft")),
        }
    }
}
