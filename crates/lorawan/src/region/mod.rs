//! Regional parameters: one table a region, interpreted here and nowhere else.

mod eu868;

use serde::{Deserialize, Serialize};

use crate::Modulation;
use crate::wire::CfList;

/// A region with a channel plan.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub enum Region {
    /// EU863-870 (RP002 §2.4).
    #[serde(rename = "EU868")]
    Eu868,
}

impl Region {
    /// The region's common name.
    pub const fn name(self) -> &'static str {
        self.plan().name
    }

    /// Its table.
    pub const fn plan(self) -> &'static Plan {
        match self {
            Region::Eu868 => &eu868::PLAN,
        }
    }
}

/// A part of the band with its own limits on duty cycle and power.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct SubBand {
    /// The letter of EN 300 220-2 V3.2.1, annex B, table B.1.
    pub name: &'static str,
    /// Lower edge, included.
    pub from_hz: u32,
    /// Upper edge, not included.
    pub to_hz: u32,
    /// Share of an hour a transmitter may be on air, in parts per million.
    pub duty_cycle_ppm: u32,
    /// Radiated power limit as EIRP (e.r.p. + 2.15 dB).
    pub max_eirp_dbm: f32,
}

impl SubBand {
    /// Airtime allowed in any hour, in microseconds. The observation period of one hour is that of
    /// EN 300 220-1 V3.1.1 §5.4.
    pub const fn hourly_allowance_us(&self) -> u64 {
        3600 * self.duty_cycle_ppm as u64
    }
}

/// A data rate of the region.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct DataRate {
    /// Its modulation.
    pub modulation: Modulation,
    /// Largest FRMPayload with no header commands, in bytes: column N, without repeater.
    pub max_payload: usize,
}

/// An uplink channel.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Channel {
    /// Centre frequency.
    pub frequency_hz: u32,
    /// Lowest data rate index.
    pub min_data_rate: u8,
    /// Highest data rate index.
    pub max_data_rate: u8,
}

/// One region's table.
#[derive(Debug)]
pub struct Plan {
    /// Common name.
    pub name: &'static str,
    /// Channels every device knows before it has joined.
    pub join_channels: &'static [Channel],
    /// Channels a network adds in the join-accept.
    pub added_channels: [u32; 5],
    /// Data rates by index.
    pub data_rates: &'static [DataRate],
    /// RX1 data rate by uplink data rate and offset.
    pub rx1_data_rate: &'static [&'static [u8]],
    /// RX2 frequency.
    pub rx2_frequency_hz: u32,
    /// RX2 data rate index.
    pub rx2_data_rate: u8,
    /// EIRP a device uses unless told otherwise; TXPower steps are relative to it.
    pub max_eirp_dbm: f32,
    /// The band's parts, in order of frequency.
    pub sub_bands: &'static [SubBand],
}

/// Delay from the end of an uplink to RX1, in seconds (RP002 §2.4.7: RECEIVE_DELAY1).
pub const RECEIVE_DELAY1_S: u8 = 1;
/// Delay from the end of a join-request to its first window (RP002 §2.4.7: JOIN_ACCEPT_DELAY1).
pub const JOIN_ACCEPT_DELAY1_S: u8 = 5;

impl Plan {
    /// The data rate with this index.
    pub fn data_rate(&self, index: u8) -> Option<&'static DataRate> {
        self.data_rates.get(usize::from(index))
    }

    /// The index of a modulation, if the region has it.
    pub fn data_rate_of(&self, modulation: Modulation) -> Option<u8> {
        self.data_rates.iter().position(|d| d.modulation == modulation).map(|i| i as u8)
    }

    /// The sub-band a frequency lies in.
    pub fn sub_band(&self, frequency_hz: u32) -> Option<&'static SubBand> {
        self.sub_bands.iter().find(|s| (s.from_hz..s.to_hz).contains(&frequency_hz))
    }

    /// The data rate of RX1 after an uplink at `uplink` with this offset.
    pub fn rx1_data_rate(&self, uplink: u8, offset: u8) -> Option<u8> {
        self.rx1_data_rate.get(usize::from(uplink))?.get(usize::from(offset)).copied()
    }

    /// The channel list of a join-accept.
    pub fn cf_list(&self) -> CfList {
        CfList { frequencies_hz: self.added_channels }
    }

    /// Every uplink frequency a joined device may use.
    pub fn uplink_frequencies_hz(&self) -> impl Iterator<Item = u32> + '_ {
        self.join_channels.iter().map(|c| c.frequency_hz).chain(self.added_channels)
    }
}
