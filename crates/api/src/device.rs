//! Devices.

use std::collections::BTreeMap;

use chrono::{DateTime, Utc};
use lorawan::region::Region;
use lorawan::{AesKey, DevAddr, Eui64};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::BandUse;
use crate::message::{Reading, RefusalNote};
use crate::problem::{self, Problem};

/// How a device is doing.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum DeviceState {
    /// Registered, and no join seen.
    NeverJoined,
    /// Its joins fail.
    Refused,
    /// It sends as it used to.
    Active,
    /// Overdue by its own rhythm.
    Silent,
}

impl DeviceState {
    /// From what is known of the device.
    ///
    /// A device is silent after three of its usual intervals and a minute. Before it has shown a
    /// rhythm, a day is taken for one interval.
    pub fn of(
        now: DateTime<Utc>,
        joined_at: Option<DateTime<Utc>>,
        last_heard: Option<DateTime<Utc>>,
        rhythm_s: Option<f64>,
        last_refusal: Option<DateTime<Utc>>,
    ) -> Self {
        let last_good = joined_at.max(last_heard);
        match (last_good, last_refusal) {
            (None, None) => return Self::NeverJoined,
            (None, Some(_)) => return Self::Refused,
            (Some(good), Some(refused)) if refused > good => return Self::Refused,
            _ => {}
        }
        let patience_s = rhythm_s.unwrap_or(86_400.0) * 3.0 + 60.0;
        match last_good {
            Some(at) if (now - at).num_seconds() as f64 > patience_s => Self::Silent,
            _ => Self::Active,
        }
    }

    /// In words.
    pub const fn words(self) -> &'static str {
        match self {
            Self::NeverJoined => "never joined",
            Self::Refused => "refused",
            Self::Active => "active",
            Self::Silent => "silent",
        }
    }
}

/// A registered device.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Device {
    /// Its DevEUI.
    #[schema(value_type = String, example = "02bb00000000002a")]
    pub dev_eui: Eui64,
    /// The JoinEUI it joins with.
    #[schema(value_type = String, example = "02aa000000000001")]
    pub join_eui: Eui64,
    /// Its name.
    pub name: String,
    /// Its fleet's short name.
    pub fleet: String,
    /// Its model's short name.
    pub model: Option<String>,
    /// Where it is used.
    #[schema(value_type = String, example = "EU868")]
    pub region: Region,
    /// How it is doing.
    pub state: DeviceState,
    /// When it was last heard: its last accepted uplink.
    #[serde(with = "crate::millis_option")]
    pub last_heard: Option<DateTime<Utc>>,
    /// Its usual interval between uplinks.
    pub rhythm_s: Option<f64>,
    /// The last refusal, if nothing has been accepted since.
    pub refusal: Option<RefusalNote>,
    /// When it was registered.
    #[serde(with = "crate::millis")]
    pub added_at: DateTime<Utc>,
}

/// A device with its session, readings and airtime.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct DeviceDetail {
    /// The device.
    #[serde(flatten)]
    pub device: Device,
    /// Its session, if it has joined.
    pub session: Option<Session>,
    /// The last value of each of its readings.
    pub readings: BTreeMap<String, LastReading>,
    /// Its account of airtime.
    pub airtime: Vec<BandUse>,
}

/// A session, without its keys.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Session {
    /// The address given at the join.
    #[schema(value_type = String, example = "03234567")]
    pub dev_addr: DevAddr,
    /// Last counter accepted from the device.
    pub last_counter_up: Option<u32>,
    /// Next counter towards the device.
    pub next_counter_down: u32,
    /// When the join was accepted.
    #[serde(with = "crate::millis")]
    pub joined_at: DateTime<Utc>,
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

/// A device to register.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct NewDevice {
    /// Its DevEUI, in any pasted form, as written (most significant byte first).
    #[schema(example = "02bb00000000002a")]
    pub dev_eui: String,
    /// Its JoinEUI (AppEUI), likewise.
    #[schema(example = "02aa000000000001")]
    pub join_eui: String,
    /// Its AppKey, 32 hex digits.
    pub app_key: String,
    /// Its name.
    #[schema(example = "sluice-07")]
    pub name: String,
    /// The short name of its fleet.
    #[schema(example = "tide-and-sluice")]
    pub fleet: String,
    /// The short name of its model.
    #[serde(default)]
    pub model: Option<String>,
}

/// A device whose values have been checked.
#[derive(Debug, Clone, PartialEq)]
pub struct CheckedDevice {
    pub dev_eui: Eui64,
    pub join_eui: Eui64,
    pub app_key: AesKey,
    pub name: String,
    pub fleet: String,
    pub model: Option<String>,
    pub region: Region,
}

impl NewDevice {
    /// Reads and checks every field.
    pub fn check(&self) -> Result<CheckedDevice, Problem> {
        Ok(CheckedDevice {
            dev_eui: problem::eui("dev_eui", &self.dev_eui)?,
            join_eui: problem::eui("join_eui", &self.join_eui)?,
            app_key: problem::key("app_key", &self.app_key)?,
            name: problem::name("name", &self.name)?,
            fleet: problem::slug("fleet", &self.fleet)?,
            model: self.model.as_deref().map(|m| problem::slug("model", m)).transpose()?,
            region: Region::Eu868,
        })
    }
}

/// A device's root key, shown on request.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct DeviceKeys {
    /// The DevEUI it belongs to.
    #[schema(value_type = String)]
    pub dev_eui: Eui64,
    /// 32 hex digits.
    pub app_key: String,
}

#[cfg(test)]
mod tests {
    use super::*;
    use chrono::TimeDelta;

    #[test]
    fn a_state_follows_from_what_was_last() {
        let now = Utc::now();
        let ago = |s| Some(now - TimeDelta::seconds(s));
        let state = |joined, heard, rhythm, refused| DeviceState::of(now, joined, heard, rhythm, refused);
        assert_eq!(state(None, None, None, None), DeviceState::NeverJoined);
        assert_eq!(state(None, None, None, ago(5)), DeviceState::Refused);
        assert_eq!(state(ago(10), None, None, ago(5)), DeviceState::Refused);
        assert_eq!(state(ago(10), None, None, ago(50)), DeviceState::Active);
        assert_eq!(state(ago(900), ago(239), Some(60.0), None), DeviceState::Active);
        assert_eq!(state(ago(900), ago(241), Some(60.0), None), DeviceState::Silent);
    }

    #[test]
    fn a_device_is_read_as_pasted() {
        let new = NewDevice {
            dev_eui: "02-BB-00-00-00-00-00-2A".into(),
            join_eui: "{0x02, 0xaa, 0, 0, 0, 0, 0, 0x01,}".into(),
            app_key: "00 01 02 03 04 05 06 07 08 09 0a 0b 0c 0d 0e 0f".into(),
            name: "tide-01".into(),
            fleet: "tide".into(),
            model: None,
        };
        let problem = new.check().unwrap_err();
        assert_eq!(problem.field.as_deref(), Some("join_eui"), "a lone 0 without 0x is not a byte");
        let good = NewDevice { join_eui: "0x02aa000000000001".into(), ..new };
        assert_eq!(good.check().unwrap().dev_eui, Eui64(0x02bb_0000_0000_002a));
    }
}
