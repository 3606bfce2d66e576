//! What needs attention in an estate.

use chrono::{DateTime, Utc};
use lorawan::Eui64;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::diagnosis::device::Weight;
use crate::message::DeviceRef;

/// What a concern is about.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum About {
    /// The service itself.
    Service,
    /// A gateway.
    Gateway,
    /// A device.
    Device,
    /// A model's decoder, or its reading rules.
    Decoder,
    /// An outlet: it does not deliver.
    Outlet,
}

/// Something that needs attention.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Concern {
    /// The severity.
    pub weight: Weight,
    /// What it is about.
    pub about: About,
    /// The gateway's EUI, or the device's.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<String>)]
    pub eui: Option<Eui64>,
    /// Its name.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
    /// The model's short name, if it is about a decoder.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub model: Option<String>,
    /// An uplink that shows it, by its name.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub message: Option<String>,
    /// Since when, where that is known.
    #[serde(default, skip_serializing_if = "Option::is_none", with = "crate::millis_option")]
    pub since: Option<DateTime<Utc>>,
    /// What is the matter.
    pub what: String,
    /// What to do.
    pub next_step: String,
}

/// Uplinks of a device that its model's decoder could not read, since the model was last changed.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct DecodeFailures {
    /// The device.
    pub device: DeviceRef,
    /// The model's short name.
    pub model: String,
    /// How many.
    pub failures: u32,
    /// The first of them, by its name.
    pub first_message: String,
    /// When that was.
    #[serde(with = "crate::millis")]
    pub first_at: DateTime<Utc>,
    /// When the last was.
    #[serde(with = "crate::millis")]
    pub last_at: DateTime<Utc>,
    /// Why the last could not be read.
    pub why: String,
}

/// What needs attention, and totals.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Watch {
    /// Worst first.
    pub concerns: Vec<Concern>,
    /// Registered gateways.
    pub gateways: usize,
    /// Those that are listening; none while the database is away, as it is not known.
    pub gateways_listening: Option<usize>,
    /// Registered devices.
    pub devices: usize,
    /// Those that are active; none while the database is away, as it is not known.
    pub devices_active: Option<usize>,
    /// Gateways that call without being registered.
    pub strangers: usize,
}
