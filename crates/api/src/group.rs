//! Multicast groups.

use chrono::{DateTime, Utc};
use lorawan::region::{PayloadLimits, Region, Use};
use lorawan::{AesKey, DevAddr, Eui64};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::problem::{self, Problem};
use crate::radio::Class;

/// Ping slots of a class B group, if nothing else is said: one every 8 s.
const PING_PERIODICITY: u8 = 3;

/// A multicast group: one frame for many devices of class B or C.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Group {
    /// Changes with its members; sent back as `If-Match` with a change of them, which is then refused if somebody else was
    /// faster.
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
    /// The gateways that would send now: the fewest that reach all members that can be reached.
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
    pub nwk_s_key: Option<String>,
    /// McAppSKey; made if not given.
    #[serde(default)]
    pub app_s_key: Option<String>,
    /// Where its members listen; RX2's channel (class C) or the ping slots' (class B) if not given.
    #[serde(default)]
    pub frequency_hz: Option<u32>,
    /// Data rate index, likewise.
    #[serde(default)]
    pub data_rate: Option<u8>,
    /// Ping slots every 2^n seconds, 0 to 7, for class B; 3 if not given.
    #[serde(default)]
    pub ping_periodicity: Option<u8>,
    /// DevEUIs of its members.
    #[serde(default)]
    pub members: Vec<String>,
}

/// The members of a group, as a whole.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct GroupMembers {
    /// DevEUIs.
    pub members: Vec<String>,
}

/// A group's address and keys, to be set in its members.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct GroupKeys {
    /// McAddr.
    #[schema(value_type = String)]
    pub address: DevAddr,
    /// McNwkSKey.
    pub nwk_s_key: String,
    /// McAppSKey.
    pub app_s_key: String,
}

/// A group whose values have been checked; what is `None` is for the service to make.
#[derive(Debug, Clone, PartialEq)]
pub struct CheckedGroup {
    pub name: String,
    pub fleet: String,
    pub class: Class,
    pub region: Region,
    pub address: Option<DevAddr>,
    pub nwk_s_key: Option<AesKey>,
    pub app_s_key: Option<AesKey>,
    pub frequency_hz: u32,
    pub data_rate: u8,
    pub ping_periodicity: u8,
    pub members: Vec<Eui64>,
}

impl GroupMembers {
    /// The EUIs, checked, each once.
    pub fn check(&self) -> Result<Vec<Eui64>, Problem> {
        let mut all: Vec<Eui64> =
            self.members.iter().map(|text| problem::eui("members", text)).collect::<Result<_, _>>()?;
        all.sort_unstable();
        all.dedup();
        Ok(all)
    }
}

impl NewGroup {
    /// Reads and checks every field.
    pub fn check(&self) -> Result<CheckedGroup, Problem> {
        let region = self.region.unwrap_or(Region::Eu868);
        let plan = region.plan();
        let (hz, rate) = match self.class {
            Class::A => {
                let allowed = "B or C: devices of class A listen only after their own uplinks";
                return Err(problem::bad_field("class", "A", allowed));
            }
            Class::B => (plan.class_b.ping_slot.hz(0), plan.class_b.ping_slot.min_data_rate),
            Class::C => (plan.rx2_frequency_hz, plan.rx2_data_rate),
        };
        let frequency_hz = self.frequency_hz.unwrap_or(hz);
        if plan.sub_band(frequency_hz).is_none() {
            let allowed = format!("it lies in no sub-band of {}", plan.name);
            return Err(problem::bad_field("frequency_hz", &frequency_hz.to_string(), allowed));
        }
        let data_rate = self.data_rate.unwrap_or(rate);
        let limits = PayloadLimits { repeater: false, dwell_time: plan.dwell.downlink_ms.is_some() };
        let down = plan.data_rate(data_rate).is_some_and(|rate| rate.direction != Use::Up);
        if !down || plan.max_payload(data_rate, limits).is_none() {
            let allowed = format!("it is no data rate for downlinks of {}", plan.name);
            return Err(problem::bad_field("data_rate", &data_rate.to_string(), allowed));
        }
        let ping_periodicity = match self.ping_periodicity {
            None => PING_PERIODICITY,
            Some(n @ 0..=7) if self.class == Class::B => n,
            Some(n) => {
                let allowed = "0 to 7, and for class B only";
                return Err(problem::bad_field("ping_periodicity", &n.to_string(), allowed));
            }
        };
        let address =
            match self.address.as_deref() {
                None => None,
                Some(text) => Some(text.trim().parse().map_err(|_| {
                    problem::bad_field("address", text, "8 hex digits are wanted, most significant first")
                })?),
            };
        let key = |field, text: &Option<String>| text.as_deref().map(|text| problem::key(field, text)).transpose();
        Ok(CheckedGroup {
            name: problem::name("name", &self.name)?,
            fleet: problem::slug("fleet", &self.fleet)?,
            class: self.class,
            region,
            address,
            nwk_s_key: key("nwk_s_key", &self.nwk_s_key)?,
            app_s_key: key("app_s_key", &self.app_s_key)?,
            frequency_hz,
            data_rate,
            ping_periodicity,
            members: GroupMembers { members: self.members.clone() }.check()?,
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn class_and_fleet_suffice_and_conflicts_are_named() {
        let group = |json: &str| serde_json::from_str::<NewGroup>(json).unwrap().check();
        let c = group(r#"{"name": "gates", "fleet": "tide", "class": "C"}"#).unwrap();
        assert_eq!((c.frequency_hz, c.data_rate, c.members.len()), (869_525_000, 0, 0));
        let b = group(r#"{"name": "gates", "fleet": "tide", "class": "B", "region": "US915", "members": ["02bb00000000002a", "02-bb-00-00-00-00-00-2a"]}"#).unwrap();
        assert_eq!((b.data_rate, b.ping_periodicity, b.members.len()), (8, 3, 1));
        for (more, field) in [
            (r#""class": "A""#, "class"),
            (r#""class": "C", "frequency_hz": 915000000"#, "frequency_hz"),
            (r#""class": "C", "data_rate": 15"#, "data_rate"),
            (r#""class": "C", "ping_periodicity": 2"#, "ping_periodicity"),
            (r#""class": "B", "ping_periodicity": 8"#, "ping_periodicity"),
            (r#""class": "C", "address": "x""#, "address"),
            (r#""class": "C", "app_s_key": "12""#, "app_s_key"),
            (r#""class": "C", "members": ["12"]"#, "members"),
        ] {
            let problem = group(&format!(r#"{{"name": "gates", "fleet": "tide", {more}}}"#)).unwrap_err();
            assert_eq!(problem.field.as_deref(), Some(field), "{more}");
        }
    }
}
