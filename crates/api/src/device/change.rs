//! Changing registered devices: one, or many alike.

use lorawan::Eui64;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::radio::profile::SettingChange;
use crate::radio::settings::RadioSettings;

/// What is to be changed about a device; what is left out stays. An empty text takes away what need not be there.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct DeviceChange {
    /// Its name; of one device only.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
    /// The short name of its fleet.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub fleet: Option<String>,
    /// The short name of its model; empty for none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub model: Option<String>,
    /// The short name of its radio profile; empty for none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub profile: Option<String>,
    /// What else is to be known of it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub description: Option<String>,
    /// Version of its hardware; empty for none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub hardware: Option<String>,
    /// Version of its firmware; empty for none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub firmware: Option<String>,
    /// Whether it is kept from being served.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub disabled: Option<bool>,
    /// Its own radio and MAC, as a whole.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub radio: Option<RadioSettings>,
    /// Its tags, as a whole.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub tags: Option<Vec<String>>,
    /// Tags to add.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub add_tags: Vec<String>,
    /// Tags to take away.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub remove_tags: Vec<String>,
}

/// A change of many devices alike.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct BulkChange {
    /// Their DevEUIs.
    pub devices: Vec<String>,
    /// What is to be changed.
    pub change: DeviceChange,
    /// Only say what would become different.
    #[serde(default)]
    pub preview: bool,
}

/// What a change does to devices.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct ChangeEffect {
    /// Those that become different.
    pub devices: Vec<DeviceEffect>,
    /// How many it concerns that stay as they are.
    pub untouched: usize,
    /// Whether it has been done, rather than only looked at.
    pub done: bool,
}

/// What a change does to one device.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct DeviceEffect {
    /// Its DevEUI.
    #[schema(value_type = String)]
    pub dev_eui: Eui64,
    /// Its name.
    pub name: String,
    /// What becomes different, and what it is sent of that.
    pub changes: Vec<SettingChange>,
}
