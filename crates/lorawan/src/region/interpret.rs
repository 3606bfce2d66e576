//! What follows from a region's table.

use super::plan::{Block, CfListForm, Plan, Rx1Channel, SubBand, Use};
use super::{ChannelSet, DataRate};
use crate::class_b::BEACON_PERIOD_S;
use crate::wire::CfList;
use serde::{Deserialize, Serialize};

use crate::{DevAddr, Modulation};

/// A channel.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Channel {
    /// Its index in the plan.
    pub index: u8,
    /// Centre frequency.
    pub frequency_hz: u32,
    /// Lowest data rate index.
    pub min_data_rate: u8,
    /// Highest data rate index.
    pub max_data_rate: u8,
}

impl Channel {
    /// Whether a data rate is among the channel's.
    pub fn carries(&self, data_rate: u8) -> bool {
        (self.min_data_rate..=self.max_data_rate).contains(&data_rate)
    }
}

/// A channel for join-requests, with what follows from its use.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct JoinChannel {
    /// Its index: of the plan's channel, or in CN470 among the common join channels.
    pub index: u8,
    /// Centre frequency.
    pub frequency_hz: u32,
    /// Lowest data rate index.
    pub min_data_rate: u8,
    /// Highest data rate index.
    pub max_data_rate: u8,
    /// Frequency of RX1 after the join-request.
    pub rx1_frequency_hz: u32,
    /// Frequency of RX2, then and from then on.
    pub rx2_frequency_hz: u32,
    /// First channel that beacons and ping slots hop over, if the join decides that.
    pub class_b_first_hz: Option<u32>,
}

/// What a payload's size depends on beside the data rate.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default)]
pub struct PayloadLimits {
    /// A repeater may stand between device and gateway.
    pub repeater: bool,
    /// The dwell-time limit of this direction is on.
    pub dwell_time: bool,
}

/// Where a device of class B listens in one beacon period.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct ClassBFrequencies {
    /// The beacon.
    pub beacon_hz: u32,
    /// The ping slots.
    pub ping_slot_hz: u32,
}

impl Block {
    /// The channels of the block.
    pub fn channels(self) -> impl Iterator<Item = Channel> {
        (0..self.count).map(move |n| Channel {
            index: self.first_index + n,
            frequency_hz: self.hz(n),
            min_data_rate: self.min_data_rate,
            max_data_rate: self.max_data_rate,
        })
    }

    /// The frequency in use at `hop`, counted from 0 at the GPS epoch.
    fn hopped(&self, hop: u32) -> u32 {
        self.hz((hop % u32::from(self.count.max(1))) as u8)
    }
}

impl Plan {
    /// The data rate with this index.
    pub fn data_rate(&self, index: u8) -> Option<&'static DataRate> {
        self.data_rates.get(usize::from(index))?.as_ref()
    }

    /// The data rates with their indices.
    pub fn data_rates(&self) -> impl Iterator<Item = (u8, &'static DataRate)> {
        self.data_rates.iter().enumerate().filter_map(|(i, d)| Some((i as u8, d.as_ref()?)))
    }

    /// A data rate in words; by its index alone if the region does not have it.
    pub fn data_rate_label(&self, index: u8) -> String {
        match self.data_rate(index) {
            Some(rate) => format!("DR{index} ({})", rate.modulation),
            None => format!("DR{index}"),
        }
    }

    fn data_rate_of(&self, modulation: Modulation, not: Use) -> Option<u8> {
        self.data_rates().find(|(_, d)| d.modulation == modulation && d.direction != not).map(|(i, _)| i)
    }

    /// The index of an uplink's modulation, if the region has it. In the fixed plans one modulation
    /// can have two indices, one for each direction.
    pub fn uplink_data_rate_of(&self, modulation: Modulation) -> Option<u8> {
        self.data_rate_of(modulation, Use::Down)
    }

    /// The index of a downlink's modulation, if the region has it.
    pub fn downlink_data_rate_of(&self, modulation: Modulation) -> Option<u8> {
        self.data_rate_of(modulation, Use::Up)
    }

    /// The largest FRMPayload of a frame without header commands (*N* of RP002's tables), in bytes.
    /// `None` if the data rate is not one of the region or cannot be used under these limits.
    pub fn max_payload(&self, data_rate: u8, limits: PayloadLimits) -> Option<usize> {
        self.max_mac_payload(data_rate, limits).map(|m| m - 8)
    }

    /// The largest MACPayload (*M* of RP002's tables: FHDR, FPort and FRMPayload), in bytes.
    pub fn max_mac_payload(&self, data_rate: u8, limits: PayloadLimits) -> Option<usize> {
        let rate = self.data_rate(data_rate)?;
        let max = if limits.dwell_time { rate.max_mac_payload_dwell } else { rate.max_mac_payload };
        let m = usize::from(if limits.repeater { max.repeater } else { max.direct });
        (m >= 8).then_some(m)
    }

    /// Whether a device can send at a data rate: with the dwell-time limit on, the slow ones carry nothing.
    pub fn sends_at(&self, data_rate: u8, dwell_time: bool) -> bool {
        let up = self.data_rate(data_rate).is_some_and(|rate| rate.direction != Use::Down);
        up && self.max_mac_payload(data_rate, PayloadLimits { repeater: false, dwell_time }).is_some()
    }

    /// The slowest data rate from `data_rate` on at which a device can send.
    pub fn slowest_from(&self, data_rate: u8, dwell_time: bool) -> u8 {
        let last = self.data_rates.len() as u8;
        (data_rate..last).find(|rate| self.sends_at(*rate, dwell_time)).unwrap_or(data_rate)
    }

    /// The sub-band a frequency lies in.
    pub fn sub_band(&self, frequency_hz: u32) -> Option<&'static SubBand> {
        self.sub_bands.iter().find(|s| (s.from_hz..s.to_hz).contains(&frequency_hz))
    }

    /// Whether devices can be given channels, as in a dynamic plan; in a fixed plan all are known and
    /// only switched on and off.
    pub const fn dynamic(&self) -> bool {
        matches!(self.cf_list, CfListForm::Frequencies)
    }

    /// Uplink channels every device of the region knows.
    pub fn uplinks(&self) -> impl Iterator<Item = Channel> {
        self.uplinks.iter().flat_map(|block| block.channels())
    }

    /// Their indices.
    pub fn known_channels(&self) -> ChannelSet {
        self.uplinks().map(|c| c.index).collect()
    }

    /// The same with the channels this network adds.
    pub fn network_uplinks(&self) -> impl Iterator<Item = Channel> {
        let next = self.uplinks().count() as u8;
        let rates = self.uplinks.first().map_or((0, 5), |b| (b.min_data_rate, b.max_data_rate));
        self.uplinks().chain(self.added_channels_hz.iter().zip(next..).map(move |(hz, index)| Channel {
            index,
            frequency_hz: *hz,
            min_data_rate: rates.0,
            max_data_rate: rates.1,
        }))
    }

    /// Downlink channels of a plan that has other ones than for uplinks.
    pub fn downlinks(&self) -> impl Iterator<Item = Channel> {
        self.downlinks.iter().flat_map(|block| block.channels())
    }

    /// The uplink channel on a frequency that can carry a data rate.
    pub fn uplink_channel(&self, frequency_hz: u32, data_rate: u8) -> Option<Channel> {
        self.network_uplinks().find(|c| c.frequency_hz == frequency_hz && c.carries(data_rate))
    }

    /// Channels for join-requests.
    pub fn join_channels(&self) -> impl Iterator<Item = JoinChannel> {
        self.joins.iter().flat_map(move |join| {
            join.uplinks.channels().zip(0..).map(move |(channel, n)| JoinChannel {
                index: channel.index,
                frequency_hz: channel.frequency_hz,
                min_data_rate: channel.min_data_rate,
                max_data_rate: channel.max_data_rate,
                rx1_frequency_hz: match join.downlinks {
                    Some(block) => block.hz(n),
                    None => self.rx1_of(channel.index, channel.frequency_hz),
                },
                rx2_frequency_hz: join.rx2.map_or(self.rx2_frequency_hz, |block| block.hz(n)),
                class_b_first_hz: join.class_b.map(|block| block.hz(n)),
            })
        })
    }

    fn rx1_of(&self, index: u8, uplink_hz: u32) -> u32 {
        let wanted = match self.rx1_channel {
            Rx1Channel::Same => return uplink_hz,
            Rx1Channel::SameIndex => index,
            Rx1Channel::Modulo(n) => index % n,
        };
        self.downlinks().find(|c| c.index == wanted).map_or(uplink_hz, |c| c.frequency_hz)
    }

    /// The frequency of RX1 after an uplink. `None` if the uplink was on no channel from which it
    /// follows.
    pub fn rx1_frequency_hz(&self, uplink_hz: u32, data_rate: u8) -> Option<u32> {
        match self.rx1_channel {
            Rx1Channel::Same => Some(uplink_hz),
            _ => self.uplink_channel(uplink_hz, data_rate).map(|c| self.rx1_of(c.index, uplink_hz)),
        }
    }

    /// The channel for join-requests on a frequency.
    pub fn join_channel(&self, frequency_hz: u32) -> Option<JoinChannel> {
        self.join_channels().find(|c| c.frequency_hz == frequency_hz)
    }

    /// The data rate of RX1 after an uplink at `uplink` with this RX1DROffset.
    pub fn rx1_data_rate(&self, uplink: u8, offset: u8, downlink_dwell_time: bool) -> Option<u8> {
        let table = match self.rx1_data_rate_dwell {
            Some(table) if downlink_dwell_time => table,
            _ => self.rx1_data_rate,
        };
        table.get(usize::from(uplink))?.get(usize::from(offset)).copied()
    }

    /// The highest RX1DROffset of the region.
    pub fn max_rx1_offset(&self) -> u8 {
        self.rx1_data_rate.first().map_or(0, |row| row.len().saturating_sub(1) as u8)
    }

    /// The CFList that gives a joining device the channels of this network: `channels` in a fixed
    /// plan, the added ones in a dynamic one.
    pub fn cf_list(&self, channels: ChannelSet) -> CfList {
        match self.cf_list {
            CfListForm::Frequencies => {
                CfList::Frequencies(std::array::from_fn(|i| self.added_channels_hz.get(i).copied().unwrap_or(0)))
            }
            CfListForm::Masks(groups) => CfList::Masks(std::array::from_fn(|i| {
                if i < usize::from(groups) { channels.sixteen(16 * i as u8) } else { 0 }
            })),
        }
    }

    /// The channels of one sub-band of a 64+8-channel plan: eight narrow ones and their wide one.
    /// `block` counts from 0.
    pub fn eight_channels(&self, block: u8) -> Option<ChannelSet> {
        let wide = self.uplinks.get(1).filter(|b| self.uplinks[0].count == 64 && b.count == 8 && block < 8)?;
        Some(ChannelSet::run(8 * block, 8).union(ChannelSet::run(wide.first_index + block, 1)))
    }

    /// Where class B listens in the beacon period that begins at `beacon_time_s` (GPS seconds, a
    /// multiple of 128): RP002, "Class B Beacon" of each region. `join` is the channel the device
    /// joined on, where the plan asks for it.
    pub fn class_b_frequencies(
        &self,
        beacon_time_s: u32,
        dev_addr: DevAddr,
        join: Option<JoinChannel>,
    ) -> ClassBFrequencies {
        let period = beacon_time_s / BEACON_PERIOD_S;
        let moved = |block: Block| match join.and_then(|j| j.class_b_first_hz) {
            Some(first_hz) => Block { first_hz, ..block },
            None => block,
        };
        ClassBFrequencies {
            beacon_hz: moved(self.class_b.beacon).hopped(period),
            // The sum is reduced before it is formed, so that it cannot overflow.
            ping_slot_hz: moved(self.class_b.ping_slot).hopped(dev_addr.0 % 8 + period % 8),
        }
    }
}
