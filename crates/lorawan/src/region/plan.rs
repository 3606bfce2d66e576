//! The shape of a region's table. The numbers stand in one file a region, and what they mean is
//! worked out in `interpret`, `channels` and `masks`; nothing else asks which region it is.

use super::Region;
use crate::Modulation;
use crate::modulation::{Bandwidth, LrFhssCodingRate, SpreadingFactor};

/// One region's table.
#[derive(Debug)]
pub struct Plan {
    /// The region it belongs to.
    pub region: Region,
    /// Common name.
    pub name: &'static str,
    /// The name of its section in RP002.
    pub title: &'static str,
    /// The source.
    pub source: &'static str,
    /// Lower and upper edge of the band.
    pub band_hz: (u32, u32),
    /// Uplink channels: of a dynamic plan those every device knows, of a fixed plan all.
    pub uplinks: &'static [Block],
    /// Downlink channels of a plan that has other ones than for uplinks.
    pub downlinks: &'static [Block],
    /// Where join-requests are sent.
    pub joins: &'static [JoinBlock],
    /// Channels that this network adds in a dynamic plan. RP002 leaves the choice to the operator.
    pub added_channels_hz: &'static [u32],
    /// Data rates by index.
    pub data_rates: &'static [Option<DataRate>],
    /// RX1's channel.
    pub rx1_channel: Rx1Channel,
    /// RX1's data rate by uplink data rate and RX1DROffset; an empty row is a reserved data rate.
    pub rx1_data_rate: &'static [&'static [u8]],
    /// The same while DownlinkDwellTime is on, where that makes a difference.
    pub rx1_data_rate_dwell: Option<&'static [&'static [u8]]>,
    /// RX2 frequency.
    pub rx2_frequency_hz: u32,
    /// RX2 data rate index.
    pub rx2_data_rate: u8,
    /// What the field TXPower means.
    pub tx_power: TxPower,
    /// What a join-accept's CFList holds.
    pub cf_list: CfListForm,
    /// What each ChMaskCntl of a LinkADRReq means.
    pub ch_mask_cntl: [MaskMeaning; 8],
    /// Limits on a single transmission.
    pub dwell: Dwell,
    /// Beacons and ping slots.
    pub class_b: ClassB,
    /// The band's parts, in order of frequency.
    pub sub_bands: &'static [SubBand],
    /// What else an engineer must know of this band.
    pub notes: &'static [&'static str],
}

/// A run of equally spaced channels.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Block {
    /// Index of the first.
    pub first_index: u8,
    /// How many.
    pub count: u8,
    /// Centre frequency of the first.
    pub first_hz: u32,
    /// From one to the next.
    pub step_hz: u32,
    /// Lowest data rate index.
    pub min_data_rate: u8,
    /// Highest data rate index.
    pub max_data_rate: u8,
}

impl Block {
    /// `count` channels from `first_hz` on, numbered from `first_index`.
    pub(super) const fn new(first_index: u8, count: u8, first_hz: u32, step_hz: u32, data_rates: (u8, u8)) -> Self {
        let (min_data_rate, max_data_rate) = data_rates;
        Self { first_index, count, first_hz, step_hz, min_data_rate, max_data_rate }
    }

    /// Channels 0 to 2 or so, DR0 to DR5: the usual default channels of a dynamic plan.
    pub(super) const fn defaults(count: u8, first_hz: u32) -> Self {
        Self::new(0, count, first_hz, 200_000, (0, 5))
    }

    /// Centre frequency of the `n`th channel of the block, counted from 0.
    pub const fn hz(&self, n: u8) -> u32 {
        self.first_hz + n as u32 * self.step_hz
    }
}

/// Channels for join-requests, and what follows from the one that was used.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct JoinBlock {
    /// The channels.
    pub uplinks: Block,
    /// RX1 of the join, channel for channel; `None` where the plan's rule for RX1 holds.
    pub downlinks: Option<Block>,
    /// RX2 from then on, channel for channel; `None` where it does not depend on the join.
    pub rx2: Option<Block>,
    /// The first of the eight channels that beacons and ping slots hop over, channel for channel.
    pub class_b: Option<Block>,
}

impl JoinBlock {
    pub(super) const fn plain(uplinks: Block) -> Self {
        Self { uplinks, downlinks: None, rx2: None, class_b: None }
    }
}

/// For which direction a data rate is meant.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Use {
    /// Uplinks and downlinks.
    Both,
    /// Uplinks only.
    Up,
    /// Downlinks only.
    Down,
}

/// Largest MACPayload (*M* of RP002's tables) of a data rate, with and without a repeater between
/// device and gateway. 0: the data rate may not be used.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct MaxMacPayload {
    /// No repeater.
    pub direct: u8,
    /// Compatible with a repeater, whose own header must fit as well.
    pub repeater: u8,
}

impl MaxMacPayload {
    /// As most tables have it: what a repeater forwards is at most 230 bytes.
    const fn of(direct: u8) -> Self {
        Self { direct, repeater: if direct > 230 { 230 } else { direct } }
    }
}

/// A data rate of the region.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct DataRate {
    /// Its modulation.
    pub modulation: Modulation,
    /// Its direction.
    pub direction: Use,
    /// Largest MACPayload without dwell-time limit, or where the limit always holds.
    pub max_mac_payload: MaxMacPayload,
    /// Largest MACPayload while the dwell-time limit is on.
    pub max_mac_payload_dwell: MaxMacPayload,
}

/// Builders for the tables; their arguments are constants, so a wrong one does not compile.
impl DataRate {
    const fn new(modulation: Modulation, m: u8) -> Self {
        let max = MaxMacPayload::of(m);
        Self { modulation, direction: Use::Both, max_mac_payload: max, max_mac_payload_dwell: max }
    }

    pub(super) const fn lora(spreading_factor: u8, bandwidth: Bandwidth, m: u8) -> Self {
        let Some(spreading_factor) = SpreadingFactor::new(spreading_factor) else { panic!("a spreading factor") };
        Self::new(Modulation::Lora { spreading_factor, bandwidth }, m)
    }

    pub(super) const fn fsk50(m: u8) -> Self {
        Self::new(Modulation::Fsk { bit_rate_bps: 50_000 }, m)
    }

    pub(super) const fn lr_fhss(coding_rate: LrFhssCodingRate, bandwidth_khz: u16, m: u8) -> Self {
        Self::new(Modulation::LrFhss { coding_rate, bandwidth_khz }, m).only(Use::Up)
    }

    pub(super) const fn only(mut self, direction: Use) -> Self {
        self.direction = direction;
        self
    }

    pub(super) const fn repeater(mut self, m: u8) -> Self {
        self.max_mac_payload.repeater = m;
        self.max_mac_payload_dwell.repeater = m;
        self
    }

    pub(super) const fn dwell(mut self, m: u8) -> Self {
        self.max_mac_payload_dwell = MaxMacPayload::of(m);
        self
    }
}

/// How RX1's channel follows from the uplink's.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Rx1Channel {
    /// The same frequency, unless DlChannelReq gave the channel another.
    Same,
    /// The downlink channel with the same index.
    SameIndex,
    /// The downlink channel whose index is the uplink's modulo this number.
    Modulo(u8),
}

/// Against what TXPower is measured.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum PowerReference {
    /// Radiated power, EIRP.
    Eirp,
    /// Power at the antenna connector.
    Conducted,
}

/// The power table: TXPower `n` stands for `max_dbm` − 2 dB · `n`.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct TxPower {
    /// TXPower 0.
    pub max_dbm: f32,
    /// The highest TXPower index in use.
    pub highest: u8,
    /// What the values are.
    pub reference: PowerReference,
}

impl TxPower {
    pub(super) const fn eirp(max_dbm: f32, highest: u8) -> Self {
        Self { max_dbm, highest, reference: PowerReference::Eirp }
    }

    /// The power of an index, `None` if it is reserved. It is the number nearest to the table's
    /// hundredths, so that it is written as there.
    pub fn dbm(&self, index: u8) -> Option<f32> {
        (index <= self.highest).then(|| ((self.max_dbm - 2.0 * f32::from(index)) * 100.0).round() / 100.0)
    }
}

/// What a region's CFList holds.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum CfListForm {
    /// Type 0: five frequencies.
    Frequencies,
    /// Type 1: this many masks of 16 channels.
    Masks(u8),
}

/// How a ChMaskCntl reads ChMask.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum MaskMeaning {
    /// ChMask switches the 16 channels from this index on.
    Sixteen(u8),
    /// The low 8 bits switch the 500 kHz channels 64 to 71.
    Wide,
    /// Each of the low 8 bits switches eight 125 kHz channels and their 500 kHz channel.
    Blocks,
    /// All 125 kHz channels on; the low 8 bits switch channels 64 to 71.
    NarrowOnAndWide,
    /// All 125 kHz channels off; the low 8 bits switch channels 64 to 71.
    NarrowOffAndWide,
    /// All defined channels on, whatever ChMask says.
    AllOn,
    /// All channels off, whatever ChMask says.
    AllOff,
    /// Reserved: the device refuses the command.
    Reserved,
}

/// Limits on the length of one transmission.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Dwell {
    /// Longest uplink in milliseconds.
    pub uplink_ms: Option<u32>,
    /// Longest downlink in milliseconds.
    pub downlink_ms: Option<u32>,
    /// The network switches the limits with TxParamSetupReq; they hold until it does. Otherwise they
    /// always hold, and TxParamSetupReq is not part of the region.
    pub by_command: bool,
    /// Where the limit is laid down.
    pub source: &'static str,
}

impl Dwell {
    pub(super) const NONE: Self = Self { uplink_ms: None, downlink_ms: None, by_command: false, source: "" };
}

/// Beacons and ping slots. A channel run with more than one channel is hopped over.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct ClassB {
    /// Channels of the beacon.
    pub beacon: Block,
    /// Channels of ping slots.
    pub ping_slot: Block,
}

impl ClassB {
    /// One frequency each, at one data rate.
    pub(super) const fn fixed(beacon_hz: u32, ping_slot_hz: u32, data_rate: u8) -> Self {
        const fn one(hz: u32, data_rate: u8) -> Block {
            Block::new(0, 1, hz, 0, (data_rate, data_rate))
        }
        Self { beacon: one(beacon_hz, data_rate), ping_slot: one(ping_slot_hz, data_rate) }
    }
}

/// A part of the band with its own limits on duty cycle and power.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct SubBand {
    /// What its regulation calls it; unique in the region.
    pub name: &'static str,
    /// Lower edge, included.
    pub from_hz: u32,
    /// Upper edge, not included.
    pub to_hz: u32,
    /// Share of an hour a transmitter may be on air, in parts per million; `None` sets no limit.
    pub duty_cycle_ppm: Option<u32>,
    /// Radiated power limit as EIRP (e.r.p. + 2.15 dB).
    pub max_eirp_dbm: f32,
    /// The same for gateways, where they may use more than devices.
    pub gateway_eirp_dbm: f32,
    /// Where this is laid down.
    pub source: &'static str,
}

impl SubBand {
    pub(super) const fn new(
        name: &'static str,
        from_hz: u32,
        to_hz: u32,
        duty_cycle_ppm: Option<u32>,
        max_eirp_dbm: f32,
        source: &'static str,
    ) -> Self {
        Self { name, from_hz, to_hz, duty_cycle_ppm, max_eirp_dbm, gateway_eirp_dbm: max_eirp_dbm, source }
    }

    /// The same, with a limit of their own for gateways.
    pub(super) const fn with_gateways(self, gateway_eirp_dbm: f32) -> Self {
        Self { gateway_eirp_dbm, ..self }
    }

    /// Airtime allowed in any hour, in microseconds; all of it where there is no limit. The
    /// observation period of one hour is that of EN 300 220-1 V3.1.1 §5.4.
    pub const fn hourly_allowance_us(&self) -> u64 {
        match self.duty_cycle_ppm {
            Some(ppm) => 3600 * ppm as u64,
            None => 3_600_000_000,
        }
    }
}

/// LoRa DR0 to DR5 and their payloads as most regions have them: SF12 to SF7 at 125 kHz.
pub(super) const LORA_0_TO_5: [Option<DataRate>; 6] = [
    Some(DataRate::lora(12, Bandwidth::Khz125, 59)),
    Some(DataRate::lora(11, Bandwidth::Khz125, 59)),
    Some(DataRate::lora(10, Bandwidth::Khz125, 59)),
    Some(DataRate::lora(9, Bandwidth::Khz125, 123)),
    Some(DataRate::lora(8, Bandwidth::Khz125, 250)),
    Some(DataRate::lora(7, Bandwidth::Khz125, 250)),
];

/// The same with DR6, SF7 at 250 kHz, and DR7, FSK at 50 kbit/s.
pub(super) const LORA_0_TO_6_FSK_7: [Option<DataRate>; 8] = {
    let [a, b, c, d, e, f] = LORA_0_TO_5;
    [a, b, c, d, e, f, Some(DataRate::lora(7, Bandwidth::Khz250, 250)), Some(DataRate::fsk50(250))]
};

/// RX1 data rate "uplink minus offset, not below 0", for eight data rates and offsets 0 to 5.
pub(super) const RX1_0_TO_7: [&[u8]; 8] = [
    &[0, 0, 0, 0, 0, 0],
    &[1, 0, 0, 0, 0, 0],
    &[2, 1, 0, 0, 0, 0],
    &[3, 2, 1, 0, 0, 0],
    &[4, 3, 2, 1, 0, 0],
    &[5, 4, 3, 2, 1, 0],
    &[6, 5, 4, 3, 2, 1],
    &[7, 6, 5, 4, 3, 2],
];

/// ChMaskCntl of a dynamic plan with sixteen channels.
pub(super) const DYNAMIC_MASKS: [MaskMeaning; 8] = {
    use MaskMeaning::{AllOn, Reserved, Sixteen};
    [Sixteen(0), Reserved, Reserved, Reserved, Reserved, Reserved, AllOn, Reserved]
};

/// ChMaskCntl of the plans with 64 narrow and 8 wide channels.
pub(super) const FIXED_72_MASKS: [MaskMeaning; 8] = {
    use MaskMeaning::{Blocks, NarrowOffAndWide, NarrowOnAndWide, Sixteen, Wide};
    [Sixteen(0), Sixteen(16), Sixteen(32), Sixteen(48), Wide, Blocks, NarrowOnAndWide, NarrowOffAndWide]
};
