//! Estates and fleets.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::problem::{self, Problem};

/// An owner's boundary: people, gateways, fleets.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Estate {
    /// Its short name, used in addresses.
    #[schema(example = "tarnsey")]
    pub slug: String,
    /// Its name.
    pub name: String,
    /// What the person signed in may do there.
    pub role: String,
}

/// Devices with one purpose.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Fleet {
    /// Its short name, used in addresses.
    #[schema(example = "tide-and-sluice")]
    pub slug: String,
    /// Its name.
    pub name: String,
    /// Devices in it.
    pub devices: u64,
    /// When it was made.
    #[serde(with = "crate::millis")]
    pub added_at: DateTime<Utc>,
}

/// A fleet to make.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct NewFleet {
    /// Its short name: lower-case letters, digits and dashes.
    #[schema(example = "tide-and-sluice")]
    pub slug: String,
    /// Its name; the short name if not given.
    #[serde(default)]
    pub name: Option<String>,
}

impl NewFleet {
    /// Short name and name, checked.
    pub fn check(&self) -> Result<(String, String), Problem> {
        let slug = problem::slug("slug", &self.slug)?;
        let name = problem::name("name", self.name.as_deref().unwrap_or(&slug))?;
        Ok((slug, name))
    }
}
