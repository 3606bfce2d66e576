//! A device's radio and MAC, as its owner wants them.

use engine::{AdrLimits, PingChannel, RadioProfile, Rates};
use lorawan::MacVersion;
use lorawan::region::{ChannelSet, PayloadLimits, Plan, Region, Use};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::problem::{self, Problem};

/// When a device listens.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub enum Class {
    /// After its own uplinks only.
    A,
    /// In ping slots between beacons as well.
    B,
    /// Always.
    C,
}

impl Class {
    /// As written everywhere.
    pub fn name(self) -> &'static str {
        engine::Class::from(self).name()
    }
}

impl From<Class> for engine::Class {
    fn from(class: Class) -> Self {
        match class {
            Class::A => Self::A,
            Class::B => Self::B,
            Class::C => Self::C,
        }
    }
}

impl From<engine::Class> for Class {
    fn from(class: engine::Class) -> Self {
        match class {
            engine::Class::A => Self::A,
            engine::Class::B => Self::B,
            engine::Class::C => Self::C,
        }
    }
}

/// Who decides the data rate.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(tag = "by", rename_all = "snake_case", deny_unknown_fields)]
pub enum RateSettings {
    /// The device; the network commands nothing.
    Device,
    /// This profile, for good.
    Profile {
        /// Data rate index.
        data_rate: u8,
        /// TXPower index; 0, full power, if not given.
        #[serde(default)]
        tx_power: u8,
        /// How often each uplink is sent; once if not given.
        #[serde(default = "once")]
        nb_trans: u8,
    },
    /// The network, from what it hears (ADR). Limits that are not given are the region's.
    Network {
        /// Slowest data rate index.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        min_data_rate: Option<u8>,
        /// Fastest data rate index.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        max_data_rate: Option<u8>,
        /// Highest TXPower index, which is the lowest power.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        max_tx_power: Option<u8>,
        /// Most transmissions of each uplink; 3 if not given.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        max_nb_trans: Option<u8>,
        /// Reserve above the demodulation floor; 7 dB if not given.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        margin_db: Option<f32>,
        /// The device moves about.
        #[serde(default, skip_serializing_if = "std::ops::Not::not")]
        mobile: bool,
    },
}

const fn once() -> u8 {
    1
}

/// Channel of ping slots.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct PingSlotSettings {
    /// Frequency.
    pub frequency_hz: u32,
    /// Data rate index.
    pub data_rate: u8,
}

/// Radio and MAC settings of a device. What is left out follows the region.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
#[allow(clippy::struct_field_names)] // the standard's names
pub struct RadioSettings {
    /// Version of its link layer; 1.0.3 if not given.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<String>, example = "1.0.4")]
    pub mac_version: Option<MacVersion>,
    /// When it listens; class A if not given.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub class: Option<Class>,
    /// From the end of an uplink to RX1, 1 to 15 s.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rx_delay_s: Option<u8>,
    /// RX1DROffset.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rx1_data_rate_offset: Option<u8>,
    /// Data rate index of RX2.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rx2_data_rate: Option<u8>,
    /// Frequency of RX2.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rx2_frequency_hz: Option<u32>,
    /// Uplink channels that are to be on, as runs: `8-15, 65`. All of the network's if not given.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub channels: Option<String>,
    /// Whether transmissions are limited to 400 ms, in regions where that is the network's choice.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub dwell_time: Option<bool>,
    /// Share of time the device may send, as 1 / 2^n, n from 0 to 15; 0 sets no limit beyond the region's.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub max_duty_cycle: Option<u8>,
    /// Who decides the data rate; the network if not given.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rates: Option<RateSettings>,
    /// From one question for battery and margin to the next; 0 asks never, a day if not given.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub status_interval_s: Option<u32>,
    /// Channel of ping slots, where it is not the region's.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ping_slot: Option<PingSlotSettings>,
    /// How long the acknowledgement of a class B or C downlink is waited for; 10 s if not given.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ack_timeout_s: Option<u16>,
    /// Transmissions tried of each downlink; 3 if not given.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub attempts: Option<u8>,
    /// Whether a frame counter that starts over is accepted. Recorded frames can then be played back.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub counter_restart: Option<bool>,
    /// How often it is expected to send, in seconds: it is silent when it is three times overdue. Its own rhythm counts if not
    /// given.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub uplink_interval_s: Option<u32>,
}

fn bad<T: ToString + ?Sized>(field: &str, value: &T, allowed: impl std::fmt::Display) -> Problem {
    problem::bad_field(&format!("radio.{field}"), &value.to_string(), allowed)
}

fn within<T: PartialOrd + ToString + Copy>(field: &str, value: T, from: T, to: T) -> Result<T, Problem> {
    if (from..=to).contains(&value) {
        Ok(value)
    } else {
        Err(bad(field, &value, format!("{} to {} are allowed", from.to_string(), to.to_string())))
    }
}

/// The data rates of one direction, for an error to name.
fn data_rates(plan: &Plan, not: Use) -> String {
    let all: Vec<String> =
        plan.data_rates().filter(|(_, rate)| rate.direction != not).map(|(index, _)| index.to_string()).collect();
    format!("{} has the data rates {} in this direction", plan.name, all.join(", "))
}

fn rate(plan: &Plan, field: &str, index: u8, not: Use) -> Result<u8, Problem> {
    let known = plan.data_rate(index).is_some_and(|rate| rate.direction != not);
    if known { Ok(index) } else { Err(bad(field, &index, data_rates(plan, not))) }
}

fn frequency(plan: &Plan, field: &str, hz: u32) -> Result<u32, Problem> {
    match plan.sub_band(hz) {
        Some(_) => Ok(hz),
        None => {
            let bands: Vec<String> = plan
                .sub_bands
                .iter()
                .map(|b| format!("{:.3} to {:.3} MHz", f64::from(b.from_hz) / 1e6, f64::from(b.to_hz) / 1e6))
                .collect();
            Err(bad(field, &hz, format!("{} has {}", plan.name, bands.join(", "))))
        }
    }
}

impl RadioSettings {
    /// These settings, and where they leave something out those of `base`.
    #[must_use]
    pub fn over(&self, base: &Self) -> Self {
        Self {
            mac_version: self.mac_version.or(base.mac_version),
            class: self.class.or(base.class),
            rx_delay_s: self.rx_delay_s.or(base.rx_delay_s),
            rx1_data_rate_offset: self.rx1_data_rate_offset.or(base.rx1_data_rate_offset),
            rx2_data_rate: self.rx2_data_rate.or(base.rx2_data_rate),
            rx2_frequency_hz: self.rx2_frequency_hz.or(base.rx2_frequency_hz),
            channels: self.channels.clone().or_else(|| base.channels.clone()),
            dwell_time: self.dwell_time.or(base.dwell_time),
            max_duty_cycle: self.max_duty_cycle.or(base.max_duty_cycle),
            rates: self.rates.or(base.rates),
            status_interval_s: self.status_interval_s.or(base.status_interval_s),
            ping_slot: self.ping_slot.or(base.ping_slot),
            ack_timeout_s: self.ack_timeout_s.or(base.ack_timeout_s),
            attempts: self.attempts.or(base.attempts),
            counter_restart: self.counter_restart.or(base.counter_restart),
            uplink_interval_s: self.uplink_interval_s.or(base.uplink_interval_s),
        }
    }

    /// The profile these settings make in a region.
    ///
    /// # Errors
    /// Names the field, the value and what the region allows.
    pub fn profile(&self, region: Region) -> Result<RadioProfile, Problem> {
        let plan = region.plan();
        let base = RadioProfile::of(region);
        let mut profile = RadioProfile {
            version: self.mac_version.unwrap_or(base.version),
            class: self.class.map_or(base.class, Into::into),
            rx_delay_s: within("rx_delay_s", self.rx_delay_s.unwrap_or(base.rx_delay_s), 1, 15)?,
            rx1_data_rate_offset: within(
                "rx1_data_rate_offset",
                self.rx1_data_rate_offset.unwrap_or(base.rx1_data_rate_offset),
                0,
                plan.max_rx1_offset(),
            )?,
            rx2_data_rate: rate(plan, "rx2_data_rate", self.rx2_data_rate.unwrap_or(base.rx2_data_rate), Use::Up)?,
            rx2_frequency_hz: self.rx2_frequency_hz.map(|hz| frequency(plan, "rx2_frequency_hz", hz)).transpose()?,
            max_duty_cycle: within("max_duty_cycle", self.max_duty_cycle.unwrap_or(0), 0, 15)?,
            status_every_s: self.status_interval_s.unwrap_or(base.status_every_s),
            ack_timeout_s: within("ack_timeout_s", self.ack_timeout_s.unwrap_or(base.ack_timeout_s), 1, 3600)?,
            attempts: within("attempts", self.attempts.unwrap_or(base.attempts), 1, 50)?,
            counter_restart: self.counter_restart.unwrap_or(base.counter_restart),
            ..base
        };
        if let Some(dwell_time) = self.dwell_time {
            if !plan.dwell.by_command && dwell_time != profile.dwell_time {
                let allowed = format!("in {} the dwell time is not the network's choice", plan.name);
                return Err(bad("dwell_time", &dwell_time, allowed));
            }
            profile.dwell_time = dwell_time;
        }
        if let Some(channels) = &self.channels {
            profile.channels = self.check_channels(plan, channels)?;
        }
        if let Some(ping) = self.ping_slot {
            profile.ping_channel = Some(PingChannel {
                frequency_hz: frequency(plan, "ping_slot.frequency_hz", ping.frequency_hz)?,
                data_rate: rate(plan, "ping_slot.data_rate", ping.data_rate, Use::Up)?,
            });
        }
        profile.rates = self.check_rates(plan)?;
        let limits = PayloadLimits { repeater: false, dwell_time: profile.dwell_time };
        if plan.max_payload(profile.rx2_data_rate, limits).is_none() {
            let allowed = "within the dwell time it is too slow: choose a faster one, or switch the dwell time off";
            return Err(bad("rx2_data_rate", &profile.rx2_data_rate, allowed));
        }
        Ok(profile)
    }

    fn check_channels(&self, plan: &Plan, text: &str) -> Result<ChannelSet, Problem> {
        let set: ChannelSet = text.parse().map_err(|why| bad("channels", text, format!("{why}")))?;
        let all: ChannelSet = plan.network_uplinks().map(|c| c.index).collect();
        if set.is_empty() || !set.difference(all).is_empty() {
            return Err(bad("channels", text, format!("{} has the channels {all}; at least one is needed", plan.name)));
        }
        Ok(set)
    }

    fn check_rates(&self, plan: &Plan) -> Result<Rates, Problem> {
        let power = |field: &str, index: u8| within(field, index, 0, plan.tx_power.highest);
        Ok(match self.rates {
            None => Rates::Adaptive(AdrLimits::of(plan)),
            Some(RateSettings::Device) => Rates::Device,
            Some(RateSettings::Profile { data_rate, tx_power, nb_trans }) => Rates::Fixed {
                data_rate: rate(plan, "rates.data_rate", data_rate, Use::Down)?,
                tx_power: power("rates.tx_power", tx_power)?,
                nb_trans: within("rates.nb_trans", nb_trans, 1, 15)?,
            },
            Some(RateSettings::Network {
                min_data_rate,
                max_data_rate,
                max_tx_power,
                max_nb_trans,
                margin_db,
                mobile,
            }) => {
                let base = AdrLimits::of(plan);
                let min = rate(plan, "rates.min_data_rate", min_data_rate.unwrap_or(base.min_data_rate), Use::Down)?;
                let max = rate(plan, "rates.max_data_rate", max_data_rate.unwrap_or(base.max_data_rate), Use::Down)?;
                if min > max {
                    return Err(bad("rates.min_data_rate", &min, format!("it must not be above max_data_rate, {max}")));
                }
                Rates::Adaptive(AdrLimits {
                    min_data_rate: min,
                    max_data_rate: max,
                    max_tx_power: power("rates.max_tx_power", max_tx_power.unwrap_or(base.max_tx_power))?,
                    max_nb_trans: within("rates.max_nb_trans", max_nb_trans.unwrap_or(base.max_nb_trans), 1, 15)?,
                    margin_db: within("rates.margin_db", margin_db.unwrap_or(base.margin_db), 0.0, 40.0)?,
                    mobile,
                })
            }
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn read(json: &str) -> RadioSettings {
        serde_json::from_str(json).unwrap()
    }

    #[test]
    fn a_region_alone_suffices() {
        for region in Region::ALL {
            assert_eq!(RadioSettings::default().profile(region).unwrap(), RadioProfile::of(region), "{region}");
        }
    }

    #[test]
    fn conflicts_name_field_value_and_what_is_allowed() {
        for (json, region, field, said) in [
            (r#"{"rx2_data_rate": 14}"#, Region::Eu868, "radio.rx2_data_rate", "0, 1, 2, 3, 4, 5, 6, 7"),
            (r#"{"rx2_data_rate": 3}"#, Region::Us915, "radio.rx2_data_rate", "8, 9, 10, 11, 12, 13"),
            (r#"{"rx2_data_rate": 0}"#, Region::As923_1, "radio.rx2_data_rate", "dwell time"),
            (r#"{"rx2_frequency_hz": 915000000}"#, Region::Eu868, "radio.rx2_frequency_hz", "869.400 to 869.650 MHz"),
            (r#"{"rx_delay_s": 16}"#, Region::Eu868, "radio.rx_delay_s", "1 to 15"),
            (r#"{"channels": "0-2, 9"}"#, Region::Eu868, "radio.channels", "0-7"),
            (r#"{"channels": "x"}"#, Region::Eu868, "radio.channels", "runs of numbers"),
            (r#"{"dwell_time": true}"#, Region::Eu868, "radio.dwell_time", "not the network's choice"),
            (
                r#"{"rates": {"by": "profile", "data_rate": 9}}"#,
                Region::Us915,
                "radio.rates.data_rate",
                "0, 1, 2, 3, 4, 5, 6",
            ),
            (
                r#"{"rates": {"by": "network", "min_data_rate": 4, "max_data_rate": 2}}"#,
                Region::Eu868,
                "radio.rates.min_data_rate",
                "above max_data_rate",
            ),
            (r#"{"rates": {"by": "network", "margin_db": -1}}"#, Region::Eu868, "radio.rates.margin_db", "0 to 40"),
        ] {
            let problem = read(json).profile(region).unwrap_err();
            assert_eq!(problem.field.as_deref(), Some(field), "{json}");
            assert!(problem.to_string().contains(said), "{problem}");
        }
        assert!(serde_json::from_str::<RadioSettings>(r#"{"colour": 1}"#).is_err());
    }

    #[test]
    fn what_is_given_is_taken() {
        let settings = read(
            r#"{"mac_version": "1.1", "class": "C", "rx_delay_s": 5, "channels": "8-15, 65",
            "rates": {"by": "network", "max_data_rate": 3, "mobile": true}, "counter_restart": true}"#,
        );
        let profile = settings.profile(Region::Us915).unwrap();
        assert_eq!((profile.version, profile.class, profile.rx_delay_s), (MacVersion::V1_1, engine::Class::C, 5));
        assert_eq!((profile.channels.len(), profile.counter_restart), (9, true));
        let Rates::Adaptive(limits) = profile.rates else { panic!("{profile:?}") };
        assert_eq!((limits.max_data_rate, limits.mobile), (3, true));
        let again: RadioSettings = serde_json::from_str(&serde_json::to_string(&settings).unwrap()).unwrap();
        assert_eq!(again, settings);
    }
}
