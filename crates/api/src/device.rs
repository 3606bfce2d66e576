//! Devices.

use std::collections::BTreeMap;

use chrono::{DateTime, Utc};
use engine::{Activation, RootKeys};
use lorawan::crypto::{SessionKeys, SessionKeys11};
use lorawan::region::Region;
use lorawan::{AesKey, DevAddr, Eui64, MacVersion};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::BandUse;
use crate::link::{Agreement, RateDecision};
use crate::message::{Reading, RefusalNote};
use crate::problem::{self, Problem};
use crate::radio::{Class, RadioSettings};

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
    /// Its radio and MAC, where they are not the region's.
    pub radio: RadioSettings,
    /// When it listens, as of now.
    pub class: Class,
    /// Whether it is activated by personalization.
    pub personalized: bool,
    /// Its session, if it has joined.
    pub session: Option<Session>,
    /// A session agreed upon, which begins with the first uplink under it.
    pub next_session: Option<Session>,
    /// How far device and network agree on its settings.
    pub agreement: Option<Agreement>,
    /// The last decision on its data rate.
    pub rate_decision: Option<RateDecision>,
    /// Airtime of its uplinks in the last 24 hours.
    pub day_airtime_ms: f64,
    /// Downlinks to it in the last 24 hours.
    pub day_downlinks: u32,
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
    /// Next counter towards the device; in 1.1 that of frames without application payload.
    pub next_counter_down: u32,
    /// Next counter of frames with application payload in 1.1.
    pub next_app_counter_down: Option<u32>,
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
    /// Its AppKey, 32 hex digits; a personalized device has none.
    #[serde(default)]
    pub app_key: Option<String>,
    /// Its NwkKey, if it speaks 1.1.
    #[serde(default)]
    pub nwk_key: Option<String>,
    /// Its session for good, if it is activated by personalization (ABP).
    #[serde(default)]
    pub personal: Option<PersonalSession>,
    /// Where it is used; EU868 if not given.
    #[serde(default)]
    #[schema(value_type = Option<String>, example = "EU868")]
    pub region: Option<Region>,
    /// Its radio and MAC; what is left out follows the region.
    #[serde(default)]
    pub radio: RadioSettings,
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

/// The session of a device that is activated by personalization.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct PersonalSession {
    /// Its address, 8 hex digits.
    #[schema(example = "01ab23cd")]
    pub dev_addr: String,
    /// AppSKey.
    pub app_s_key: String,
    /// NwkSKey of 1.0.x; FNwkSIntKey of 1.1.
    pub nwk_s_key: String,
    /// SNwkSIntKey of 1.1; the NwkSKey if not given.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub s_nwk_s_int_key: Option<String>,
    /// NwkSEncKey of 1.1; the NwkSKey if not given.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub nwk_s_enc_key: Option<String>,
}

impl PersonalSession {
    /// Address and keys, checked.
    pub fn check(&self) -> Result<(DevAddr, SessionKeys11), Problem> {
        let nwk_s_key = problem::key("personal.nwk_s_key", &self.nwk_s_key)?;
        let app_s_key = problem::key("personal.app_s_key", &self.app_s_key)?;
        let mut keys = SessionKeys11::from(SessionKeys { nwk_s_key, app_s_key });
        if let Some(key) = &self.s_nwk_s_int_key {
            keys.s_nwk_s_int_key = problem::key("personal.s_nwk_s_int_key", key)?;
        }
        if let Some(key) = &self.nwk_s_enc_key {
            keys.nwk_s_enc_key = problem::key("personal.nwk_s_enc_key", key)?;
        }
        let dev_addr = self.dev_addr.trim().parse().map_err(|_| {
            problem::bad_field("personal.dev_addr", &self.dev_addr, "8 hex digits are wanted, most significant first")
        })?;
        Ok((dev_addr, keys))
    }
}

/// A device whose values have been checked.
#[derive(Debug, Clone, PartialEq)]
pub struct CheckedDevice {
    pub dev_eui: Eui64,
    pub join_eui: Eui64,
    pub activation: Activation,
    pub name: String,
    pub fleet: String,
    pub model: Option<String>,
    pub region: Region,
    pub radio: RadioSettings,
}

impl NewDevice {
    /// Reads and checks every field.
    pub fn check(&self) -> Result<CheckedDevice, Problem> {
        let region = self.region.unwrap_or(Region::Eu868);
        let profile = self.radio.profile(region)?;
        Ok(CheckedDevice {
            dev_eui: problem::eui("dev_eui", &self.dev_eui)?,
            join_eui: problem::eui("join_eui", &self.join_eui)?,
            activation: self.check_activation(profile.version)?,
            name: problem::name("name", &self.name)?,
            fleet: problem::slug("fleet", &self.fleet)?,
            model: self.model.as_deref().map(|m| problem::slug("model", m)).transpose()?,
            region,
            radio: self.radio.clone(),
        })
    }

    fn check_activation(&self, version: MacVersion) -> Result<Activation, Problem> {
        let missing = |field, why: &str| problem::bad_field(field, "", why.to_owned());
        if let Some(personal) = &self.personal {
            if self.app_key.is_some() || self.nwk_key.is_some() {
                let why = "a personalized device has session keys only: leave the root keys out, or the session";
                return Err(problem::bad_field("personal", "given together with a root key", why));
            }
            let (dev_addr, keys) = personal.check()?;
            return Ok(Activation::Personalized { dev_addr, keys: Box::new(keys) });
        }
        let app_key = self.app_key.as_deref().ok_or_else(|| {
            missing("app_key", "32 hex digits are wanted, or `personal` for a device that does not join")
        })?;
        let app_key = problem::key("app_key", app_key)?;
        let nwk_key = self.nwk_key.as_deref().map(|key| problem::key("nwk_key", key)).transpose()?;
        match (version, nwk_key) {
            (MacVersion::V1_1, None) => {
                Err(missing("nwk_key", "LoRaWAN 1.1 has two root keys; 32 hex digits are wanted"))
            }
            (MacVersion::V1_1, nwk_key) => Ok(Activation::OverTheAir(RootKeys { app_key, nwk_key })),
            (_, None) => Ok(Activation::OverTheAir(RootKeys { app_key, nwk_key: None })),
            (version, Some(_)) => {
                let why =
                    format!("LoRaWAN {version} has one root key: enter it as app_key, or set radio.mac_version to 1.1");
                Err(problem::bad_field("nwk_key", "given", why))
            }
        }
    }
}

/// A device's keys, shown on request.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct DeviceKeys {
    /// The DevEUI it belongs to.
    #[schema(value_type = String)]
    pub dev_eui: Eui64,
    /// AppKey, 32 hex digits.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub app_key: Option<String>,
    /// NwkKey of 1.1.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub nwk_key: Option<String>,
    /// Session of a personalized device.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub personal: Option<PersonalSession>,
}

impl DeviceKeys {
    /// What there is, in hex.
    pub fn of(dev_eui: Eui64, activation: &Activation) -> Self {
        match activation {
            Activation::OverTheAir(root) => Self {
                dev_eui,
                app_key: Some(root.app_key.to_hex()),
                nwk_key: root.nwk_key.map(|key| key.to_hex()),
                personal: None,
            },
            Activation::Personalized { dev_addr, keys } => {
                let apart = |key: AesKey| Some(key.to_hex()).filter(|_| key != keys.f_nwk_s_int_key);
                let personal = PersonalSession {
                    dev_addr: dev_addr.to_string(),
                    app_s_key: keys.app_s_key.to_hex(),
                    nwk_s_key: keys.f_nwk_s_int_key.to_hex(),
                    s_nwk_s_int_key: apart(keys.s_nwk_s_int_key),
                    nwk_s_enc_key: apart(keys.nwk_s_enc_key),
                };
                Self { dev_eui, app_key: None, nwk_key: None, personal: Some(personal) }
            }
        }
    }
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
            app_key: Some("00 01 02 03 04 05 06 07 08 09 0a 0b 0c 0d 0e 0f".into()),
            nwk_key: None,
            personal: None,
            region: None,
            radio: RadioSettings::default(),
            name: "tide-01".into(),
            fleet: "tide".into(),
            model: None,
        };
        let problem = new.check().unwrap_err();
        assert_eq!(problem.field.as_deref(), Some("join_eui"), "a lone 0 without 0x is not a byte");
        let good = NewDevice { join_eui: "0x02aa000000000001".into(), ..new };
        assert_eq!(good.check().unwrap().dev_eui, Eui64(0x02bb_0000_0000_002a));

        let field = |new: &NewDevice| new.check().unwrap_err().field.unwrap();
        assert_eq!(field(&NewDevice { app_key: None, ..good.clone() }), "app_key");
        let newest = RadioSettings { mac_version: Some(MacVersion::V1_1), ..RadioSettings::default() };
        assert_eq!(field(&NewDevice { radio: newest.clone(), ..good.clone() }), "nwk_key");
        assert_eq!(field(&NewDevice { nwk_key: good.app_key.clone(), ..good.clone() }), "nwk_key");
        assert!(NewDevice { nwk_key: good.app_key.clone(), radio: newest, ..good.clone() }.check().is_ok());
        let key = good.app_key.clone().unwrap();
        let personal = PersonalSession {
            dev_addr: "0x1".into(),
            app_s_key: key.clone(),
            nwk_s_key: key,
            s_nwk_s_int_key: None,
            nwk_s_enc_key: None,
        };
        let both = NewDevice { personal: Some(personal), ..good };
        assert_eq!(field(&both), "personal");
        let abp = NewDevice { app_key: None, ..both };
        assert_eq!(field(&abp), "personal.dev_addr");
        let dev_addr = "01ab23cd".to_owned();
        let personal = abp.personal.clone().map(|p| PersonalSession { dev_addr, ..p });
        let abp = NewDevice { personal, ..abp };
        let Activation::Personalized { dev_addr, .. } = abp.check().unwrap().activation else { panic!("a session") };
        assert_eq!(dev_addr, DevAddr(0x01ab_23cd));
    }
}
