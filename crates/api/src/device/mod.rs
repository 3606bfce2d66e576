//! Devices.

pub mod change;
pub mod group;
pub mod import;
pub mod join;
pub mod keys;
pub mod label;
pub mod outbox;
pub mod place;
pub mod read_back;
pub mod register;
pub mod rehearsal;
pub mod round;

use std::collections::BTreeMap;

use chrono::{DateTime, Utc};
use lorawan::region::Region;
use lorawan::{DevAddr, Eui64};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::BandUse;
use crate::device::keys::KeyForm;
use crate::device::place::Place;
use crate::device::register::PersonalSession;
use crate::message::{Reading, RefusalNote};
use crate::model::TestCommand;
use crate::radio::agreement::{Agreement, RateDecision};
use crate::radio::settings::{Class, RadioSettings};

use crate::secret::Secret;

/// A device's state.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum DeviceState {
    /// Registered, and no join seen.
    NeverJoined,
    /// Registered with a session (ABP), and not heard under it yet.
    NeverHeard,
    /// Its joins fail.
    Refused,
    /// It sends at its usual interval.
    Active,
    /// Overdue by its usual interval.
    Silent,
    /// Kept from being served.
    Disabled,
}

impl DeviceState {
    /// In words.
    pub const fn label(self) -> &'static str {
        match self {
            Self::NeverJoined => "never joined",
            Self::NeverHeard => "never heard",
            Self::Refused => "refused",
            Self::Active => "active",
            Self::Silent => "silent",
            Self::Disabled => "disabled",
        }
    }
}

/// A registered device.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Device {
    /// Its DevEUI.
    #[schema(value_type = String, example = "02bb00000000002a")]
    pub dev_eui: Eui64,
    /// The JoinEUI it joins with. A personalized device needs none.
    #[serde(default)]
    #[schema(value_type = Option<String>, example = "02aa000000000001")]
    pub join_eui: Option<Eui64>,
    /// Its name.
    pub name: String,
    /// Its fleet's short name.
    pub fleet: String,
    /// Its model's short name.
    pub model: Option<String>,
    /// Where it is used.
    #[schema(value_type = String, example = "EU868")]
    pub region: Region,
    /// Its state.
    pub state: DeviceState,
    /// When it was last heard: its last accepted uplink.
    #[serde(with = "crate::millis_option")]
    pub last_heard: Option<DateTime<Utc>>,
    /// Its usual interval between uplinks.
    pub usual_interval_s: Option<f64>,
    /// The last refusal, if nothing has been accepted since.
    pub refusal: Option<RefusalNote>,
    /// When it was first refused for that reason, of the times in a row.
    #[serde(default, with = "crate::millis_option", skip_serializing_if = "Option::is_none")]
    pub refused_since: Option<DateTime<Utc>>,
    /// Its tags.
    pub tags: Vec<String>,
    /// Where it is, if that is known.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub place: Option<Place>,
    /// Whether it is kept from being served.
    pub disabled: bool,
    /// When it was registered.
    #[serde(with = "crate::millis")]
    pub added_at: DateTime<Utc>,
}

/// A device with its session, readings and airtime.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct DeviceDetail {
    /// The revision; send it as `If-Match` with a change, which is then refused if another change came first.
    #[serde(default)]
    pub revision: String,
    /// The device.
    #[serde(flatten)]
    pub device: Device,
    /// Its description.
    pub description: String,
    /// Version of its hardware.
    pub hardware: Option<String>,
    /// Version of its firmware.
    pub firmware: Option<String>,
    /// What else is known of it, by name.
    #[serde(default)]
    pub attributes: BTreeMap<String, String>,
    /// The short name of its radio profile.
    pub profile: Option<String>,
    /// Its own radio and MAC, where they are not its profile's, its model's or the region's.
    pub radio: RadioSettings,
    /// Its effective settings: its own, then its profile's, then its model's. What is left out follows the region.
    pub whole_radio: RadioSettings,
    /// Its class now.
    pub class: Class,
    /// Whether it is activated by personalization.
    pub personalized: bool,
    /// Its session, if it has joined.
    pub session: Option<Session>,
    /// A session agreed upon, which begins with the first uplink under it.
    pub next_session: Option<Session>,
    /// How far the device's settings agree with the wanted ones.
    pub agreement: Option<Agreement>,
    /// The last decision on its data rate.
    pub rate_decision: Option<RateDecision>,
    /// Airtime of its uplinks in the last 24 hours.
    pub day_airtime_ms: f64,
    /// Downlinks to it in the last 24 hours.
    pub day_downlinks: u32,
    /// The last value of each of its readings.
    pub readings: BTreeMap<String, LastReading>,
    /// Its airtime account.
    pub airtime: Vec<BandUse>,
    /// Commands of named values that its model's encoder is known to take; none without an encoder.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub commands: Option<Vec<TestCommand>>,
}

/// A session, without its keys.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Session {
    /// The address given at the join.
    #[schema(value_type = String, example = "03234567")]
    pub dev_addr: DevAddr,
    /// Last counter accepted from the device.
    pub last_counter_up: Option<u32>,
    /// Next counter towards the device; in 1.1 that of frames without application payload.
    pub next_counter_down: u32,
    /// Next counter of frames with application payload in 1.1.
    pub next_app_counter_down: Option<u32>,
    /// When the join was accepted.
    #[serde(with = "crate::millis")]
    pub joined_at: DateTime<Utc>,
}

/// Counters of a running session; what is left out stays.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SetCounters {
    /// The last counter accepted from the device; the next uplink must be above it.
    #[serde(default)]
    pub last_counter_up: Option<u32>,
    /// The next counter towards the device. A lower one than was used is not heard by the device.
    #[serde(default)]
    pub next_counter_down: Option<u32>,
}

/// A reading's last value.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct LastReading {
    /// Value and unit.
    #[serde(flatten)]
    pub reading: Reading,
    /// When it came.
    #[serde(with = "crate::millis")]
    pub time: DateTime<Utc>,
}

/// A device's keys, shown on request.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct DeviceKeys {
    /// The DevEUI it belongs to.
    #[schema(value_type = String)]
    pub dev_eui: Eui64,
    /// AppKey, 32 hex digits.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub app_key: Option<Secret>,
    /// NwkKey of 1.1.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub nwk_key: Option<Secret>,
    /// Session of a personalized device.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub personal: Option<PersonalSession>,
}

/// A device's keys with all that its firmware needs, in each form.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct ShownKeys {
    /// The keys.
    #[serde(flatten)]
    pub keys: DeviceKeys,
    /// The JoinEUI it joins with. A personalized device needs none.
    #[serde(default)]
    #[schema(value_type = Option<String>)]
    pub join_eui: Option<Eui64>,
    /// Every credential in every form.
    pub forms: Vec<KeyForm>,
}
