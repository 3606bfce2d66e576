//! A device's wanted radio and MAC settings.

use lorawan::MacVersion;
use lorawan::region::RegionalRevision;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

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
    pub const fn name(self) -> &'static str {
        match self {
            Self::A => "A",
            Self::B => "B",
            Self::C => "C",
        }
    }
}

/// How a device gets its session (TS001 §6).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub enum ActivationMode {
    /// It joins, over the air.
    #[serde(rename = "OTAA")]
    Otaa,
    /// It has a fixed session, by personalization.
    #[serde(rename = "ABP")]
    Abp,
}

/// Who decides the data rate.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(tag = "by", rename_all = "snake_case", deny_unknown_fields)]
pub enum RateSettings {
    /// The device; the network commands nothing.
    Device,
    /// This fixed profile.
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

/// Where RX1 of an uplink channel is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct DownlinkChannelSettings {
    /// The uplink channel's index.
    pub channel: u8,
    /// Frequency of its RX1.
    pub frequency_hz: u32,
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
    /// Revision of the regional parameters its firmware keeps to. Regions and data rates that came later are refused.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<String>, example = "RP002-1.0.3")]
    pub regional_revision: Option<RegionalRevision>,
    /// How its devices get a session; either if not given.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub activation: Option<ActivationMode>,
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
    /// Uplink channels beyond those of the network, by frequency, in regions whose devices can be given channels: at
    /// most as many as make sixteen. They are always on; gateways near the device must listen there.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub extra_frequencies_hz: Option<Vec<u32>>,
    /// The most power the device may radiate. Where a region's table of powers is that at the antenna connector, an
    /// antenna of 0 dBi is taken.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub max_eirp_dbm: Option<f32>,
    /// Whether transmissions are limited to 400 ms, in regions where that is the network's choice.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub dwell_time: Option<bool>,
    /// Share of time the device may send, as 1 / 2^n, n from 0 to 15; 0 sets no limit beyond the region's.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub max_duty_cycle: Option<u8>,
    /// Who decides the data rate; the network if not given.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rates: Option<RateSettings>,
    /// Interval of DevStatusReq; 0 for never, a day if not given.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub status_interval_s: Option<u32>,
    /// Channel of ping slots, where it is not the region's.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ping_slot: Option<PingSlotSettings>,
    /// From one ping slot to the next, in class B: 1, 2, 4, 8, 16, 32, 64 or 128 s. The device's own PingSlotInfoReq
    /// overrides it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ping_period_s: Option<u16>,
    /// How long the acknowledgement of a class B or C downlink is waited for; 10 s if not given.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ack_timeout_s: Option<u16>,
    /// Transmissions tried of each downlink; 3 if not given.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub attempts: Option<u8>,
    /// How far an uplink's frame counter may be above the last one (MAX_FCNT_GAP); 0 sets no limit. 16384 up to 1.0.3
    /// and in 1.1, no limit in 1.0.4, if not given.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub max_counter_gap: Option<u32>,
    /// Uplink channels whose RX1 is on another frequency (DlChannelReq), from 1.0.2 on, in regions whose devices can be
    /// given channels.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub downlink_channels: Option<Vec<DownlinkChannelSettings>>,
    /// The frequency on which a class B device looks for beacons (BeaconFreqReq), where it is not the region's.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub beacon_frequency_hz: Option<u32>,
    /// Uplinks without a downlink after which a device sets ADRACKReq (ADR_ACK_LIMIT), a power of two from 1 to 32768;
    /// for 1.1. 64 if not given.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub adr_ack_limit: Option<u16>,
    /// Uplinks for which it then waits before it slows down (ADR_ACK_DELAY), a power of two from 1 to 32768; for 1.1.
    /// 32 if not given.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub adr_ack_delay: Option<u16>,
    /// The device is to send a rejoin-request at least this often, 2^10 to 2^25 s in powers of two; for 1.1.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rejoin_interval_s: Option<u32>,
    /// The same by uplinks: 2^4 to 2^19 in powers of two; for 1.1.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rejoin_interval_uplinks: Option<u32>,
    /// Days after which the network has the device agree on a new session (ForceRejoinReq), 1 to 3650; for 1.1.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub renew_session_days: Option<u16>,
    /// Whether a frame counter that starts over is accepted. Recorded frames can then be replayed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub counter_restart: Option<bool>,
    /// How often it is expected to send, in seconds: it is silent when it is three times overdue. Its usual interval
    /// counts if not given.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub uplink_interval_s: Option<u32>,
}
