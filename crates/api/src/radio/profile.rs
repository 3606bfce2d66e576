//! Named radio profiles.

use chrono::{DateTime, Utc};
use lorawan::region::Region;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::radio::settings::RadioSettings;

/// A radio profile of an estate.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct StoredProfile {
    /// The revision; send it as `If-Match` with a change, which is then refused if another change came first.
    #[serde(default)]
    pub revision: String,
    /// Its short name, used in addresses.
    #[schema(example = "class-c-slow")]
    pub slug: String,
    /// Its name.
    pub name: String,
    /// Where its devices are used.
    #[schema(value_type = String, example = "EU868")]
    pub region: Region,
    /// Radio and MAC. What is left out follows a device's model, then the region.
    pub radio: RadioSettings,
    /// Devices that use it.
    pub devices: u64,
    /// When it was last changed.
    #[serde(with = "crate::millis")]
    pub changed_at: DateTime<Utc>,
}

/// A radio profile to add or change.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct PutProfile {
    /// Its name.
    #[schema(max_length = 80)]
    pub name: String,
    /// Where its devices are used.
    #[schema(value_type = String, example = "EU868")]
    pub region: Region,
    /// Radio and MAC. What is left out follows a device's model, then the region.
    #[serde(default)]
    pub radio: RadioSettings,
}

impl From<&StoredProfile> for PutProfile {
    fn from(stored: &StoredProfile) -> Self {
        Self { name: stored.name.clone(), region: stored.region, radio: stored.radio.clone() }
    }
}

/// A setting that changes.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct SettingChange {
    /// The setting.
    pub setting: String,
    /// As it is.
    pub before: String,
    /// As it will be.
    pub after: String,
    /// The MAC command that a device with a session is sent with its next downlink. Without one the network alone
    /// changes.
    pub sent: Option<String>,
}
