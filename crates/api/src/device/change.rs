//! Changing registered devices: one or many.

use std::collections::BTreeMap;

use lorawan::Eui64;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::device::place::{Place, given};
use crate::radio::profile::SettingChange;
use crate::radio::settings::RadioSettings;

/// Changes of a device; fields left out stay. An empty text removes an optional value.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct DeviceChange {
    /// Its name; of one device only.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(max_length = 80)]
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
    /// Its description.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(max_length = 500)]
    pub description: Option<String>,
    /// Version of its hardware; empty for none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(max_length = 40)]
    pub hardware: Option<String>,
    /// Version of its firmware; empty for none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(max_length = 40)]
    pub firmware: Option<String>,
    /// Where it is; `null` if that is not known any more.
    #[serde(default, deserialize_with = "given", skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<Place>)]
    pub place: Option<Option<Place>>,
    /// What else is known of it, by name; `null` removes one, and those that are left out stay.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub attributes: BTreeMap<String, Option<String>>,
    /// Whether it is kept from being served.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub disabled: Option<bool>,
    /// Its own radio and MAC settings, all of them.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub radio: Option<RadioSettings>,
    /// Its tags, all of them.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub tags: Option<Vec<String>>,
    /// Tags to add.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub add_tags: Vec<String>,
    /// Tags to remove.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub remove_tags: Vec<String>,
}

/// The same change for many devices.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct BulkChange {
    /// Their DevEUIs.
    pub devices: Vec<String>,
    /// What is to be changed.
    pub change: DeviceChange,
    /// Only preview what would change.
    #[serde(default)]
    pub preview: bool,
}

/// Where a device moves to.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct MoveDevice {
    /// The short name of the other estate; the caller needs the right `devices` there as well.
    #[schema(example = "saltholm")]
    pub estate: String,
    /// The short name of a fleet there.
    #[schema(example = "grazing")]
    pub fleet: String,
}

/// What became of a device that moved.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct MovedDevice {
    /// Where it is now.
    pub estate: String,
    /// Its DevEUI.
    #[schema(value_type = String, example = "02bb00000000002a")]
    pub dev_eui: Eui64,
    /// Its name.
    pub name: String,
    /// Its model there, if there is one of the same short name.
    pub model: Option<String>,
    /// Its radio profile there, if there is one of the same short name.
    pub profile: Option<String>,
    /// What did not come along, in words.
    pub left_behind: Vec<String>,
}

/// The effects of a change on devices.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct ChangeEffect {
    /// The devices that change.
    pub devices: Vec<DeviceEffect>,
    /// How many stay as they are.
    pub untouched: usize,
    /// Whether it was done, and not only previewed.
    pub done: bool,
}

/// The effects of a change on one device.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct DeviceEffect {
    /// Its DevEUI.
    #[schema(value_type = String)]
    pub dev_eui: Eui64,
    /// Its name.
    pub name: String,
    /// The changes, with the MAC commands that carry them.
    pub changes: Vec<SettingChange>,
}
