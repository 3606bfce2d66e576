//! Models: makes of device, with their decoder.

use std::collections::BTreeMap;

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::problem::{self, Problem};
use crate::radio::RadioSettings;

/// A make of device.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Model {
    /// Its short name, used in addresses.
    #[schema(example = "brinemark-tide-gauge")]
    pub slug: String,
    /// Who makes it.
    pub maker: String,
    /// Its name.
    pub name: String,
    /// The payload script: JavaScript with `decodeUplink(input)` (TS013).
    pub decoder: Option<String>,
    /// Units by the name of a reading.
    pub units: BTreeMap<String, String>,
    /// What its radio and MAC are like, as far as the make decides that. Profiles and devices may say otherwise.
    pub radio: RadioSettings,
    /// When it was last changed.
    #[serde(with = "crate::millis")]
    pub changed_at: DateTime<Utc>,
}

/// A model to add or change.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct PutModel {
    /// Who makes it.
    pub maker: String,
    /// Its name.
    pub name: String,
    /// The payload script: JavaScript with `decodeUplink(input)` (TS013). It is loaded once to see
    /// that it can be.
    #[serde(default)]
    pub decoder: Option<String>,
    /// Units by the name of a reading.
    #[serde(default)]
    pub units: BTreeMap<String, String>,
    /// What its radio and MAC are like, as far as the make decides that.
    #[serde(default)]
    pub radio: RadioSettings,
}

impl PutModel {
    /// The same with its names checked and an empty decoder taken as none.
    pub fn check(self) -> Result<Self, Problem> {
        for (reading, unit) in &self.units {
            problem::name("units", reading)?;
            problem::name("units", unit)?;
        }
        Ok(Self {
            maker: problem::name("maker", &self.maker)?,
            name: problem::name("name", &self.name)?,
            decoder: self.decoder.filter(|d| !d.trim().is_empty()),
            units: self.units,
            radio: self.radio,
        })
    }
}
