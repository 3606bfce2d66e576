//! What a device is set to: where it listens, on which channels and how it sends.
//!
//! The network keeps what a device has acknowledged, or what follows from its join. What it wants is the
//! profile; [`crate::mac`] leads from the one to the other.

use lorawan::region::{AdrSettings, ChannelSet, JoinChannel, Plan, RECEIVE_DELAY1_S};
use lorawan::wire::{CfList, JoinAccept};
use serde::{Deserialize, Serialize};

use crate::device::profile::{AdrAck, DYNAMIC_CHANNELS, MAX_EXTRA, RadioProfile, Rates, RejoinTimes};

/// A device's settings.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Settings {
    /// Channels it knows.
    pub defined: ChannelSet,
    /// Frequencies of the channels it has beyond the network's, as it has taken them; 0 where there is none.
    #[serde(default)]
    pub extra_hz: [u32; MAX_EXTRA],
    /// Data rate, power, repetitions, and the channels that are on.
    pub adr: AdrSettings,
    /// From the end of an uplink to RX1, in seconds.
    pub rx_delay_s: u8,
    /// RX1DROffset.
    pub rx1_data_rate_offset: u8,
    /// Data rate index of RX2.
    pub rx2_data_rate: u8,
    /// Frequency of RX2.
    pub rx2_frequency_hz: u32,
    /// MaxDutyCycle.
    pub max_duty_cycle: u8,
    /// Whether the dwell time of downlinks holds.
    pub downlink_dwell_time: bool,
    /// Whether the dwell time of uplinks holds.
    pub uplink_dwell_time: bool,
    /// Ping slots every 2^n seconds, as the device has said.
    pub ping_periodicity: Option<u8>,
    /// Frequency of ping slots, where it is not the region's.
    pub ping_frequency_hz: Option<u32>,
    /// Data rate index of ping slots.
    pub ping_data_rate: u8,
    /// First channel that class B hops over, where the join decides that.
    pub class_b_first_hz: Option<u32>,
    /// Frequency of the beacon, where it is not the region's.
    #[serde(default)]
    pub beacon_hz: Option<u32>,
    /// RX1 frequencies of channels by index; 0 where it is the uplink's own.
    #[serde(default)]
    pub rx1_hz: [u32; DYNAMIC_CHANNELS],
    /// When it misses the network, if it was told so.
    #[serde(default)]
    pub adr_ack: Option<AdrAck>,
    /// How often it rejoins by itself, if it was told so.
    #[serde(default)]
    pub rejoin: Option<RejoinTimes>,
}

impl Settings {
    /// A device that knows nothing but its region.
    pub fn of_region(profile: &RadioProfile) -> Self {
        let plan = profile.plan();
        let known = plan.known_channels();
        Self {
            defined: known,
            extra_hz: [0; MAX_EXTRA],
            adr: AdrSettings {
                data_rate: plan.slowest_from(0, plan.dwell.uplink_ms.is_some()),
                tx_power: 0,
                nb_trans: 1,
                channels: known,
            },
            rx_delay_s: RECEIVE_DELAY1_S,
            rx1_data_rate_offset: 0,
            rx2_data_rate: plan.rx2_data_rate,
            rx2_frequency_hz: plan.rx2_frequency_hz,
            max_duty_cycle: 0,
            downlink_dwell_time: plan.dwell.downlink_ms.is_some(),
            uplink_dwell_time: plan.dwell.uplink_ms.is_some(),
            ping_periodicity: profile.ping_periodicity,
            ping_frequency_hz: None,
            ping_data_rate: plan.class_b.ping_slot.min_data_rate,
            class_b_first_hz: None,
            beacon_hz: None,
            rx1_hz: [0; DYNAMIC_CHANNELS],
            adr_ack: None,
            rejoin: None,
        }
    }

    /// A device activated by personalization: its windows are programmed as its profile says, its channels
    /// are those that every device of the region knows.
    pub fn personalized(profile: &RadioProfile) -> Self {
        let region = Self::of_region(profile);
        Self {
            rx_delay_s: profile.rx_delay_s,
            rx1_data_rate_offset: profile.rx1_data_rate_offset,
            rx2_data_rate: profile.rx2_data_rate,
            rx2_frequency_hz: profile.rx2_frequency_hz.unwrap_or(region.rx2_frequency_hz),
            ..region
        }
    }

    /// A device whose settings are not known, for it joined before they were kept: as its profile says.
    pub fn assumed(profile: &RadioProfile) -> Self {
        let personalized = Self::personalized(profile);
        let extra = profile.extra_channels().map(|channel| channel.index).collect();
        let channels = profile.channels.difference(extra);
        let defined = personalized.defined.union(channels);
        let adr = AdrSettings { channels, ..personalized.adr };
        Self { defined, adr, ..personalized }
    }

    /// A device that has taken this join-accept, after a request on `channel`.
    pub fn joined(profile: &RadioProfile, accept: &JoinAccept, channel: Option<JoinChannel>) -> Self {
        let plan = profile.plan();
        let region = Self::of_region(profile);
        let listed = accept.cf_list.as_ref().and_then(|list: &CfList| plan.after_cf_list(list));
        let on = listed.unwrap_or(region.defined);
        let defined = if plan.dynamic() { on } else { region.defined };
        Self {
            defined,
            adr: AdrSettings { channels: on, ..region.adr },
            rx_delay_s: accept.rx_delay_s.max(1),
            rx1_data_rate_offset: accept.rx1_data_rate_offset,
            rx2_data_rate: accept.rx2_data_rate,
            rx2_frequency_hz: channel.map_or(region.rx2_frequency_hz, |c| c.rx2_frequency_hz),
            class_b_first_hz: channel.and_then(|c| c.class_b_first_hz),
            ..region
        }
    }

    /// What members of a class B group are set to, as far as their slots go.
    pub(crate) fn for_group(plan: &Plan, frequency_hz: u32, data_rate: u8, ping_periodicity: u8) -> Self {
        Self {
            ping_periodicity: Some(ping_periodicity),
            ping_frequency_hz: Some(frequency_hz),
            ping_data_rate: data_rate,
            ..Self::of_region(&RadioProfile::of(plan.region))
        }
    }

    /// Index of the channel that has a frequency, in a dynamic plan.
    fn channel_at(&self, plan: &Plan, frequency_hz: u32) -> Option<u8> {
        let network = plan.network_uplinks().find(|channel| channel.frequency_hz == frequency_hz);
        let extra = || self.extra_hz.iter().position(|hz| *hz == frequency_hz);
        network.map(|channel| channel.index).or_else(|| extra().map(|n| (plan.network_uplinks().count() + n) as u8))
    }

    /// Frequency of RX1 after an uplink, if it follows from that.
    pub(crate) fn rx1_frequency_hz(&self, plan: &Plan, uplink_hz: u32, data_rate: u8) -> Option<u32> {
        if self.rx1_hz != [0; DYNAMIC_CHANNELS]
            && let Some(channel) = self.channel_at(plan, uplink_hz)
            && let Some(moved) = self.rx1_hz.get(usize::from(channel)).filter(|hz| **hz != 0)
        {
            return Some(*moved);
        }
        plan.rx1_frequency_hz(uplink_hz, data_rate)
    }

    /// The frequency of a channel that the device has, in a dynamic plan.
    pub(crate) fn frequency_of(&self, plan: &Plan, index: u8) -> Option<u32> {
        let network = plan.network_uplinks().find(|channel| channel.index == index);
        let extra = usize::from(index).checked_sub(plan.network_uplinks().count());
        let extra = extra.and_then(|n| self.extra_hz.get(n)).copied().filter(|hz| *hz != 0);
        network.map(|channel| channel.frequency_hz).or(extra)
    }

    /// What the profile wants of a device with these settings, where the profile alone decides it.
    pub fn wanted(&self, profile: &RadioProfile) -> Self {
        let plan = profile.plan();
        let dwell = |limit: Option<u32>, now: bool| {
            if plan.dwell.by_command { profile.dwell_time && limit.is_some() } else { now }
        };
        let defined = if plan.dynamic() { self.defined.union(profile.channels) } else { self.defined };
        let mut extra_hz = self.extra_hz;
        extra_hz.iter_mut().zip(&profile.extra_hz).for_each(|(known, wanted)| *known = *wanted);
        let tx_power = self.adr.tx_power.max(profile.lowest_tx_power());
        let mut adr = AdrSettings { channels: profile.channels, tx_power, ..self.adr };
        let uplink_dwell_time = dwell(plan.dwell.uplink_ms, self.uplink_dwell_time);
        if let Rates::Fixed { data_rate, tx_power, nb_trans } = profile.rates {
            // As long as the device keeps to the dwell time, slower ones do not exist for it.
            let data_rate = plan.slowest_from(data_rate, uplink_dwell_time || self.uplink_dwell_time);
            adr = AdrSettings { data_rate, tx_power, nb_trans, ..adr };
        }
        Self {
            defined,
            extra_hz,
            adr,
            rx_delay_s: profile.rx_delay_s,
            rx1_data_rate_offset: profile.rx1_data_rate_offset,
            rx2_data_rate: profile.rx2_data_rate,
            rx2_frequency_hz: profile.rx2_frequency_hz.unwrap_or(self.rx2_frequency_hz),
            max_duty_cycle: profile.max_duty_cycle,
            downlink_dwell_time: dwell(plan.dwell.downlink_ms, self.downlink_dwell_time),
            uplink_dwell_time,
            beacon_hz: profile.beacon_hz,
            rx1_hz: profile.rx1_hz(),
            adr_ack: profile.adr_ack.or(self.adr_ack.map(|_| AdrAck::DEFAULT)),
            // Nothing takes this back.
            rejoin: profile.rejoin.or(self.rejoin),
            ping_frequency_hz: profile.ping_channel.map(|c| c.frequency_hz),
            ping_data_rate: profile.ping_channel.map_or(plan.class_b.ping_slot.min_data_rate, |c| c.data_rate),
            ..*self
        }
    }
}
