//! What the network must know of a device's radio and MAC, and what it wants of it.

use std::fmt;
use std::str::FromStr;

use lorawan::MacVersion;
use lorawan::mac::NewChannel;
use lorawan::region::{ChannelSet, Plan, RECEIVE_DELAY1_S, Region};
use serde::{Deserialize, Serialize};

/// Channels that a device of a dynamic plan can have (RP002, NewChannelReq: ChIndex is below 16).
pub(crate) const DYNAMIC_CHANNELS: usize = 16;
/// MAX_FCNT_GAP (RP001 and RP002, "Default settings" of each region).
const MAX_FCNT_GAP: u32 = 16_384;
/// Channels beyond the network's that are kept of a device.
pub(crate) const MAX_EXTRA: usize = 8;

/// When a device listens (TS001 §3.3, §7 and §16).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub enum Class {
    /// After its own uplinks only.
    A,
    /// In ping slots between beacons as well, once it has found a beacon and says so.
    B,
    /// Always, but for the moments when it sends.
    C,
}

impl Class {
    /// All of them.
    pub const ALL: [Self; 3] = [Class::A, Class::B, Class::C];

    /// As written everywhere.
    pub const fn name(self) -> &'static str {
        match self {
            Class::A => "A",
            Class::B => "B",
            Class::C => "C",
        }
    }

    /// The class of a device of this one that has not said anything yet: a class B device is one of class A
    /// until it has found a beacon.
    pub(crate) const fn at_first(self) -> Self {
        match self {
            Class::A | Class::B => Class::A,
            Class::C => Class::C,
        }
    }
}

impl fmt::Display for Class {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "class {}", self.name())
    }
}

impl FromStr for Class {
    type Err = String;

    fn from_str(s: &str) -> Result<Self, String> {
        [Self::A, Self::B, Self::C]
            .into_iter()
            .find(|class| class.name().eq_ignore_ascii_case(s.trim()))
            .ok_or_else(|| format!("{s:?} is not a class: A, B or C"))
    }
}

/// Who decides a device's data rate.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Rates {
    /// The device; the network commands nothing.
    Device,
    /// One fixed data rate and power.
    Fixed {
        /// Data rate index.
        data_rate: u8,
        /// TXPower index.
        tx_power: u8,
        /// How often each uplink is sent.
        nb_trans: u8,
    },
    /// The network, from what it hears.
    Adaptive(AdrLimits),
}

/// What adaptive data rate keeps to.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct AdrLimits {
    /// Slowest data rate index.
    pub min_data_rate: u8,
    /// Fastest data rate index.
    pub max_data_rate: u8,
    /// Highest TXPower index, which is the lowest power.
    pub max_tx_power: u8,
    /// Most transmissions of each uplink.
    pub max_nb_trans: u8,
    /// Reserve above the demodulation floor that a device should keep, for fading and the seasons.
    pub margin_db: f32,
    /// The device moves about, so what was measured in one place does not hold in the next.
    pub mobile: bool,
}

impl AdrLimits {
    /// Reserve kept if nothing else is said. Counted from the level that three of four uplinks reach.
    pub const MARGIN_DB: f32 = 7.0;
    /// Transmissions of each uplink at most, if nothing else is said.
    pub const NB_TRANS: u8 = 3;

    /// The region's 125 kHz LoRa data rates and all its powers.
    pub fn of(plan: &Plan) -> Self {
        let first = plan.uplinks().next();
        Self {
            min_data_rate: first.map_or(0, |c| c.min_data_rate),
            max_data_rate: first.map_or(5, |c| c.max_data_rate),
            max_tx_power: plan.tx_power.highest,
            max_nb_trans: Self::NB_TRANS,
            margin_db: Self::MARGIN_DB,
            mobile: false,
        }
    }
}

/// Channel and data rate of ping slots, where they are not the region's.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct PingChannel {
    /// Frequency.
    pub frequency_hz: u32,
    /// Data rate index.
    pub data_rate: u8,
}

/// Where RX1 of an uplink channel is, if not on the channel's own frequency (DlChannelReq, TS001 §5.6.2).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct DownlinkChannel {
    /// The uplink channel's index.
    pub index: u8,
    /// Frequency of its RX1.
    pub frequency_hz: u32,
}

/// How many uplinks a device sends without a downlink before it slows down (ADRParamSetupReq, TS001-1.1 §5.11).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct AdrAck {
    /// ADR_ACK_LIMIT = 2^limit_exp uplinks.
    pub limit_exp: u8,
    /// ADR_ACK_DELAY = 2^delay_exp uplinks.
    pub delay_exp: u8,
}

impl AdrAck {
    /// 64 and 32 uplinks, as devices begin (RP002, "Default settings").
    pub const DEFAULT: Self = Self { limit_exp: 6, delay_exp: 5 };
}

/// How often a device sends rejoin-requests of type 0 by itself (RejoinParamSetupReq, TS001-1.1 §5.14).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct RejoinTimes {
    /// At least every 2^(max_time_n + 10) seconds.
    pub max_time_n: u8,
    /// At least every 2^(max_count_n + 4) uplinks.
    pub max_count_n: u8,
}

/// A device's radio and MAC as the network wants them. [`RadioProfile::of`] gives a region's defaults.
#[derive(Debug, Clone, PartialEq)]
pub struct RadioProfile {
    /// Where it is used.
    pub region: Region,
    /// Its link layer's version.
    pub version: MacVersion,
    /// When it listens.
    pub class: Class,
    /// From the end of an uplink to RX1, in seconds, 1 to 15.
    pub rx_delay_s: u8,
    /// RX1DROffset.
    pub rx1_data_rate_offset: u8,
    /// Data rate index of RX2.
    pub rx2_data_rate: u8,
    /// Frequency of RX2; `None` leaves it where the region, or the join, puts it.
    pub rx2_frequency_hz: Option<u32>,
    /// Uplink channels that are to be on.
    pub channels: ChannelSet,
    /// Frequencies of channels that this device has beyond the network's.
    pub extra_hz: Vec<u32>,
    /// The most power it may radiate, where that is less than the region's.
    pub max_eirp_dbm: Option<f32>,
    /// Whether transmissions are limited to 400 ms, in regions where that is the network's choice.
    pub dwell_time: bool,
    /// Share of time the device may send, as 1 / 2^n; 0 sets no limit beyond the region's.
    pub max_duty_cycle: u8,
    /// Who decides the data rate.
    pub rates: Rates,
    /// From one DevStatusReq to the next, in seconds; 0 asks never.
    pub status_every_s: u32,
    /// Ping slots' channel, where it is not the region's.
    pub ping_channel: Option<PingChannel>,
    /// Ping slots every 2^n seconds, until the device says so itself.
    pub ping_periodicity: Option<u8>,
    /// The frequency on which the device is to look for beacons, where it is not the region's.
    pub beacon_hz: Option<u32>,
    /// Uplink channels whose RX1 is elsewhere.
    pub downlink_channels: Vec<DownlinkChannel>,
    /// ADRParamSetupReq, for 1.1; `None` leaves the device's default.
    pub adr_ack: Option<AdrAck>,
    /// How often the device is to rejoin by itself, for 1.1.
    pub rejoin: Option<RejoinTimes>,
    /// Days after which the network has the device agree on a new session (ForceRejoinReq, TS001-1.1 §5.13), for 1.1.
    pub renew_after_days: Option<u16>,
    /// How long the acknowledgement of a downlink of class B or C is waited for, in seconds.
    pub ack_timeout_s: u16,
    /// Transmissions tried of each downlink, unless the downlink itself says otherwise.
    pub attempts: u8,
    /// How far an uplink's counter may be above the last one; 0 sets no limit, `None` leaves it to the version.
    pub max_counter_gap: Option<u32>,
    /// Whether a counter that starts over is accepted. Anyone who has recorded old frames can then play
    /// them back.
    pub counter_restart: bool,
}

impl RadioProfile {
    /// A day between two questions for battery and margin.
    pub const STATUS_EVERY_S: u32 = 86_400;
    /// Time for a device to decode, act and find a free channel.
    pub const ACK_TIMEOUT_S: u16 = 10;

    /// A region's defaults: LoRaWAN 1.0.3, class A, adaptive data rate.
    pub fn of(region: Region) -> Self {
        let plan = region.plan();
        Self {
            region,
            version: MacVersion::V1_0_3,
            class: Class::A,
            rx_delay_s: RECEIVE_DELAY1_S,
            rx1_data_rate_offset: 0,
            rx2_data_rate: plan.rx2_data_rate,
            rx2_frequency_hz: None,
            channels: plan.network_uplinks().map(|c| c.index).collect(),
            extra_hz: Vec::new(),
            max_eirp_dbm: None,
            dwell_time: plan.dwell.downlink_ms.is_some() || plan.dwell.uplink_ms.is_some(),
            max_duty_cycle: 0,
            rates: Rates::Adaptive(AdrLimits::of(plan)),
            status_every_s: Self::STATUS_EVERY_S,
            ping_channel: None,
            ping_periodicity: None,
            beacon_hz: None,
            downlink_channels: Vec::new(),
            adr_ack: None,
            rejoin: None,
            renew_after_days: None,
            ack_timeout_s: Self::ACK_TIMEOUT_S,
            attempts: MAX_ATTEMPTS,
            max_counter_gap: None,
            counter_restart: false,
        }
    }

    /// How many channels a device of a region can have beyond the network's.
    pub fn most_extra(plan: &Plan) -> usize {
        let network = plan.network_uplinks().count();
        if plan.dynamic() { DYNAMIC_CHANNELS.saturating_sub(network).min(MAX_EXTRA) } else { 0 }
    }

    /// The same with channels beyond the network's, which are on. Those that a device has no room for are left out.
    #[must_use]
    pub fn with_extra(mut self, frequencies_hz: &[u32]) -> Self {
        self.extra_hz = frequencies_hz.iter().copied().take(Self::most_extra(self.plan())).collect();
        let extra: Vec<NewChannel> = self.extra_channels().collect();
        extra.iter().for_each(|channel| self.channels.insert(channel.index));
        self
    }

    /// The channels beyond the network's, as a device is told of them. They carry what the network's first does.
    pub(crate) fn extra_channels(&self) -> impl Iterator<Item = NewChannel> {
        let plan = self.plan();
        let first = plan.network_uplinks().count() as u8;
        let (min_data_rate, max_data_rate) =
            plan.uplinks().next().map_or((0, 5), |c| (c.min_data_rate, c.max_data_rate));
        self.extra_hz.iter().zip(first..).map(move |(frequency_hz, index)| NewChannel {
            index,
            frequency_hz: *frequency_hz,
            min_data_rate,
            max_data_rate,
        })
    }

    /// RX1 frequencies by channel index, 0 where it is the uplink's own.
    pub(crate) fn rx1_hz(&self) -> [u32; DYNAMIC_CHANNELS] {
        let mut all = [0; DYNAMIC_CHANNELS];
        for channel in &self.downlink_channels {
            if let Some(hz) = all.get_mut(usize::from(channel.index)) {
                *hz = channel.frequency_hz;
            }
        }
        all
    }

    /// How far an uplink's counter may be above the last one. Versions up to 1.0.3 and 1.1 have MAX_FCNT_GAP
    /// (TS001-1.0.3 §4.3.1.5, TS001-1.1 §4.3.1.5); 1.0.4 has no limit.
    pub fn counter_gap_limit(&self) -> Option<u32> {
        match self.max_counter_gap {
            Some(0) => None,
            None if self.version == MacVersion::V1_0_4 => None,
            None => Some(MAX_FCNT_GAP),
            limit => limit,
        }
    }

    /// The TXPower index of the most power that is allowed.
    pub fn lowest_tx_power(&self) -> u8 {
        let power = &self.plan().tx_power;
        let Some(limit) = self.max_eirp_dbm else { return 0 };
        let allowed = |index: &u8| power.dbm(*index).is_some_and(|dbm| dbm <= limit);
        (0..=power.highest).find(allowed).unwrap_or(power.highest)
    }

    /// The region's table.
    pub const fn plan(&self) -> &'static Plan {
        self.region.plan()
    }
}

/// Limits that a fleet's owner sets beyond the law, over any 24 hours.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Policy {
    /// Airtime of a device's uplinks.
    pub airtime_us: Option<u64>,
    /// Downlinks to a device.
    pub downlinks: Option<u32>,
}

/// Transmissions tried before a downlink is given up, if nothing else is said.
pub const MAX_ATTEMPTS: u8 = 3;
