//! Multicast groups.

use chrono::{DateTime, Utc};
use lorawan::region::Region;
use lorawan::{DevAddr, Eui64};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::radio::settings::Class;

use crate::secret::Secret;

/// A multicast group: one frame for many devices of class B or C.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Group {
    /// The revision; send it as `If-Match` with a change, which is then refused if another change came first.
    #[serde(default)]
    pub revision: String,
    /// Its name among devices: its outbox is that of this EUI.
    #[schema(value_type = String)]
    pub eui: Eui64,
    /// Its name.
    pub name: String,
    /// Its fleet's short name.
    pub fleet: String,
    /// Where its members are.
    #[schema(value_type = String, example = "EU868")]
    pub region: Region,
    /// B or C.
    pub class: Class,
    /// Its address on air (McAddr).
    #[schema(value_type = String)]
    pub address: DevAddr,
    /// Where its members listen.
    pub frequency_hz: u32,
    /// Data rate index.
    pub data_rate: u8,
    /// Ping slots every 2^n seconds, for class B.
    pub ping_periodicity: Option<u8>,
    /// Next counter towards its members.
    pub next_counter_down: u32,
    /// Its members.
    pub members: Vec<Member>,
    /// The gateways that would send now: the fewest that reach all reachable members.
    pub gateways: Vec<String>,
    /// When it was made.
    #[serde(with = "crate::millis")]
    pub added_at: DateTime<Utc>,
}

/// A device of a group.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Member {
    /// Its DevEUI.
    #[schema(value_type = String)]
    pub eui: Eui64,
    /// Its name.
    pub name: String,
    /// Whether a gateway has heard it in the last day.
    pub reached: bool,
}

/// A group to make.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct NewGroup {
    /// Its name.
    #[schema(max_length = 80)]
    pub name: String,
    /// The short name of its fleet.
    pub fleet: String,
    /// B or C.
    pub class: Class,
    /// Where its members are; EU868 if not given.
    #[serde(default)]
    #[schema(value_type = Option<String>)]
    pub region: Option<Region>,
    /// Its address, 8 hex digits; one of the network's is taken if not given.
    #[serde(default)]
    pub address: Option<String>,
    /// McNwkSKey; made if not given.
    #[serde(default)]
    pub nwk_s_key: Option<Secret>,
    /// McAppSKey; made if not given.
    #[serde(default)]
    pub app_s_key: Option<Secret>,
    /// Where its members listen; RX2's channel (class C) or the ping slots' (class B) if not given.
    #[serde(default)]
    pub frequency_hz: Option<u32>,
    /// Data rate index, likewise.
    #[serde(default)]
    pub data_rate: Option<u8>,
    /// Ping slots every 2^n seconds, 0 to 7, for class B; 3 if not given.
    #[serde(default)]
    #[schema(minimum = 0, maximum = 7)]
    pub ping_periodicity: Option<u8>,
    /// DevEUIs of its members.
    #[serde(default)]
    pub members: Vec<String>,
}

/// Changes of a group; what is left out stays.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ChangeGroup {
    /// Another name.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(max_length = 80)]
    pub name: Option<String>,
    /// DevEUIs of all its members, instead of those it has.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub members: Option<Vec<String>>,
    /// DevEUIs of devices that become members.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub add_members: Vec<String>,
    /// DevEUIs of devices that are members no longer.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub remove_members: Vec<String>,
}

/// A group's address and keys, to be set in its members.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct GroupKeys {
    /// McAddr.
    #[schema(value_type = String)]
    pub address: DevAddr,
    /// McNwkSKey.
    pub nwk_s_key: Secret,
    /// McAppSKey.
    pub app_s_key: Secret,
}
