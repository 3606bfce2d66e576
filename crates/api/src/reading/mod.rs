//! A model's rules for readings.

pub mod chart;

use std::collections::BTreeMap;

use serde::{Deserialize, Deserializer, Serialize};
use utoipa::ToSchema;

/// What kind of value a reading is.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum ReadingKind {
    /// A measured value.
    #[default]
    Measured,
    /// A running total: it only grows, and goes on growing where its device starts counting from 0 again.
    Total,
    /// One of few states.
    State,
    /// Any text.
    Text,
    /// A coordinate.
    Position,
}

impl ReadingKind {
    /// In words.
    pub const fn label(self) -> &'static str {
        match self {
            Self::Measured => "measured value",
            Self::Total => "running total",
            Self::State => "state",
            Self::Text => "text",
            Self::Position => "position",
        }
    }
}

/// A model's rule for a reading. A text alone is a unit.
#[derive(Debug, Clone, Default, PartialEq, Serialize, ToSchema)]
pub struct ReadingRule {
    /// Its unit, after scale and offset.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[schema(example = "m")]
    pub unit: Option<String>,
    /// What kind of value it is; by its name and values if not given.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub kind: Option<ReadingKind>,
    /// The factor for the decoder's value.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[schema(example = 0.1)]
    pub scale: Option<f64>,
    /// The offset added afterwards.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub offset: Option<f64>,
    /// The lowest plausible value.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub min: Option<f64>,
    /// The highest.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub max: Option<f64>,
    /// Significant decimals.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[schema(minimum = 0, maximum = 12)]
    pub decimals: Option<u8>,
    /// Where the device's counter begins again at 0, for a running total; a counter that falls has been reset
    /// if this is not given.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[schema(example = 65536)]
    pub wraps_at: Option<f64>,
    /// Words for values: `true`, `false`, numbers or texts.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub words: BTreeMap<String, String>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Whole {
    unit: Option<String>,
    kind: Option<ReadingKind>,
    scale: Option<f64>,
    offset: Option<f64>,
    min: Option<f64>,
    max: Option<f64>,
    decimals: Option<u8>,
    wraps_at: Option<f64>,
    #[serde(default)]
    words: BTreeMap<String, String>,
}

impl<'de> Deserialize<'de> for ReadingRule {
    /// By its type, so that an unknown field is named.
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        struct Visitor;
        impl<'de> serde::de::Visitor<'de> for Visitor {
            type Value = ReadingRule;

            fn expecting(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
                f.write_str("a unit, or what is to be known of a reading")
            }

            fn visit_str<E: serde::de::Error>(self, unit: &str) -> Result<ReadingRule, E> {
                Ok(ReadingRule::of_unit(unit))
            }

            fn visit_map<M: serde::de::MapAccess<'de>>(self, map: M) -> Result<ReadingRule, M::Error> {
                let whole = Whole::deserialize(serde::de::value::MapAccessDeserializer::new(map))?;
                let Whole { unit, kind, scale, offset, min, max, decimals, wraps_at, words } = whole;
                let unit = unit.filter(|unit| !unit.is_empty());
                Ok(ReadingRule { unit, kind, scale, offset, min, max, decimals, wraps_at, words })
            }
        }
        deserializer.deserialize_any(Visitor)
    }
}

impl ReadingRule {
    /// With nothing but a unit.
    pub fn of_unit(unit: &str) -> Self {
        Self { unit: Some(unit.to_owned()).filter(|unit| !unit.is_empty()), ..Self::default() }
    }
}
