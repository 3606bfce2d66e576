//! Checks of multicast groups.

use api::device::group::{ChangeGroup, NewGroup};
use api::problem;
use api::problem::Problem;
use api::radio::settings::Class;
use api::secret::Secret;
use lorawan::region::{PayloadLimits, Region, Use};
use lorawan::{AesKey, DevAddr, Eui64};

use crate::{Check, input};

/// Ping slots of a class B group, if nothing else is said: one every 8 s.
const PING_PERIODICITY: u8 = 3;

/// A group with checked values; the service makes up those that are `None`.
#[derive(Debug, Clone, PartialEq)]
pub struct CheckedGroup {
    /// Its name.
    pub name: String,
    /// The short name of its fleet.
    pub fleet: String,
    /// Its class.
    pub class: Class,
    /// Its region.
    pub region: Region,
    /// Its address.
    pub address: Option<DevAddr>,
    /// Its NwkSKey.
    pub nwk_s_key: Option<AesKey>,
    /// Its AppSKey.
    pub app_s_key: Option<AesKey>,
    /// The frequency, in Hz.
    pub frequency_hz: u32,
    /// The index of the data rate.
    pub data_rate: u8,
    /// The ping slots' periodicity (TS001-1.0.4 §13).
    pub ping_periodicity: u8,
    /// The devices in it.
    pub members: Vec<Eui64>,
}

fn euis(field: &str, texts: &[String]) -> Result<Vec<Eui64>, Problem> {
    texts.iter().map(|text| input::eui(field, text)).collect()
}

/// The members of a group after a change, each once.
///
/// # Errors
/// If an EUI cannot be read.
pub fn changed_members(change: &ChangeGroup, before: &[Eui64]) -> Result<Vec<Eui64>, Problem> {
    let mut all = match &change.members {
        Some(members) => euis("members", members)?,
        None => before.to_vec(),
    };
    all.extend(euis("add_members", &change.add_members)?);
    let gone = euis("remove_members", &change.remove_members)?;
    all.retain(|eui| !gone.contains(eui));
    Ok(each_once(all))
}

fn each_once(mut members: Vec<Eui64>) -> Vec<Eui64> {
    members.sort_unstable();
    members.dedup();
    members
}

impl Check for NewGroup {
    type Checked = CheckedGroup;

    /// Reads and checks every field.
    fn check(&self) -> Result<Self::Checked, Problem> {
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
        let key = |field, text: &Option<Secret>| text.as_deref().map(|text| input::key(field, text)).transpose();
        Ok(CheckedGroup {
            name: input::name("name", &self.name)?,
            fleet: input::slug("fleet", &self.fleet)?,
            class: self.class,
            region,
            address,
            nwk_s_key: key("nwk_s_key", &self.nwk_s_key)?,
            app_s_key: key("app_s_key", &self.app_s_key)?,
            frequency_hz,
            data_rate,
            ping_periodicity,
            members: each_once(euis("members", &self.members)?),
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
