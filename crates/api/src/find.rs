//! One search over everything that has a name or an EUI.

use chrono::{DateTime, Utc};
use lorawan::Eui64;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What kind of thing was found.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum FoundKind {
    /// A registered device.
    Device,
    /// A registered gateway.
    Gateway,
    /// A device that asks to join and is not registered.
    DeviceStranger,
    /// A gateway that calls and is not registered.
    GatewayStranger,
}

impl FoundKind {
    /// For people.
    pub const fn label(self) -> &'static str {
        match self {
            FoundKind::Device => "device",
            FoundKind::Gateway => "gateway",
            FoundKind::DeviceStranger => "unregistered device",
            FoundKind::GatewayStranger => "unregistered gateway",
        }
    }
}

/// Something that was found.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Found {
    /// What it is.
    pub kind: FoundKind,
    /// Its EUI.
    #[schema(value_type = String)]
    pub eui: Eui64,
    /// Its name, if it has one.
    pub name: Option<String>,
    /// Details: a device's fleet and tags, a gateway's region.
    pub about: String,
    /// When it was last heard.
    #[serde(with = "crate::millis_option")]
    pub last_heard: Option<DateTime<Utc>>,
}
