//! What a region allows, as its table says.

use lorawan::region::Region;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A region's summary.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct RegionSummary {
    /// Common name.
    #[schema(value_type = String, example = "EU868")]
    pub name: Region,
    /// Its name in RP002.
    pub title: String,
    /// Lower edge of the band.
    pub from_mhz: f64,
    /// Upper edge of the band.
    pub to_mhz: f64,
    /// Uplink channels every device knows.
    pub channels: usize,
    /// Whether devices can be given further channels.
    pub dynamic: bool,
    /// Largest power, in dBm.
    pub max_power_dbm: f32,
}

/// Everything a region's table says.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct RegionDetail {
    /// A summary.
    #[serde(flatten)]
    pub summary: RegionSummary,
    /// The source.
    pub source: String,
    /// Uplink channels.
    pub uplinks: Vec<ChannelInfo>,
    /// Downlink channels, where they are others.
    pub downlinks: Vec<ChannelInfo>,
    /// Blocks of eight channels and a wide one, where the plan has them: a gateway with eight receivers serves one.
    pub blocks: Vec<BlockInfo>,
    /// Where join-requests are sent, and where they are answered.
    pub joins: Vec<JoinInfo>,
    /// Data rates.
    pub data_rates: Vec<DataRateInfo>,
    /// How RX1's channel follows from the uplink's, in words.
    pub rx1_channel: String,
    /// RX1's data rate by uplink data rate and RX1DROffset.
    pub rx1_data_rates: Vec<Rx1Row>,
    /// The same while DownlinkDwellTime is on, where that makes a difference.
    pub rx1_data_rates_dwell: Option<Vec<Rx1Row>>,
    /// RX2 frequency.
    pub rx2_mhz: f64,
    /// RX2 data rate index.
    pub rx2_data_rate: u8,
    /// RX2's width.
    pub rx2_bandwidth_khz: u32,
    /// What TXPower stands for, by index.
    pub tx_power_dbm: Vec<f32>,
    /// `EIRP` or `conducted`.
    pub tx_power_reference: String,
    /// What a join-accept's CFList holds, in words.
    pub cf_list: String,
    /// What each ChMaskCntl means, in words, 0 to 7.
    pub ch_mask_cntl: Vec<String>,
    /// Limits on one transmission.
    pub dwell: DwellInfo,
    /// Beacons and ping slots.
    pub class_b: ClassBInfo,
    /// The band's parts.
    pub sub_bands: Vec<SubBandInfo>,
    /// Further notes.
    pub notes: Vec<String>,
}

/// A channel.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct ChannelInfo {
    /// Its index.
    pub index: u8,
    /// Centre frequency.
    pub frequency_mhz: f64,
    /// Width of its lowest data rate.
    pub bandwidth_khz: u32,
    /// Lowest data rate index.
    pub min_data_rate: u8,
    /// Highest data rate index.
    pub max_data_rate: u8,
    /// The sub-band it lies in.
    pub sub_band: Option<String>,
    /// Not of the region, but added by this network.
    pub added: bool,
}

/// Eight narrow channels and the wide one over them.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct BlockInfo {
    /// Its number, from 1.
    pub number: u8,
    /// Its channels, as runs.
    #[schema(example = "0-7, 64")]
    pub channels: String,
    /// Centre of the lowest narrow channel.
    pub from_mhz: f64,
    /// Centre of the highest narrow channel.
    pub to_mhz: f64,
    /// The bit of ChMaskCntl 5 that switches it.
    pub mask: u16,
}

/// A channel for join-requests.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct JoinInfo {
    /// Its index.
    pub index: u8,
    /// Centre frequency.
    pub frequency_mhz: f64,
    /// Lowest data rate index.
    pub min_data_rate: u8,
    /// Highest data rate index.
    pub max_data_rate: u8,
    /// RX1 of the join.
    pub rx1_mhz: f64,
    /// RX2 of the join.
    pub rx2_mhz: f64,
}

/// A data rate.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct DataRateInfo {
    /// Its index.
    pub index: u8,
    /// Its modulation, as text.
    pub modulation: String,
    /// `up`, `down` or `both`.
    pub direction: String,
    /// Bits a second of coded payload.
    pub bit_rate_bps: u32,
    /// Largest FRMPayload in bytes (*N*): plainly; absent if the data rate cannot be used.
    pub max_payload: Option<usize>,
    /// With a repeater.
    pub max_payload_repeater: Option<usize>,
    /// With the dwell-time limit on.
    pub max_payload_dwell: Option<usize>,
    /// With both.
    pub max_payload_dwell_repeater: Option<usize>,
    /// SNR a LoRa receiver needs.
    pub required_snr_db: Option<f64>,
    /// Weakest LoRa signal a receiver with a noise figure of 6 dB hears.
    pub sensitivity_dbm: Option<f64>,
}

/// RX1 data rates after one uplink data rate.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Rx1Row {
    /// The uplink's data rate index.
    pub uplink: u8,
    /// RX1's, by RX1DROffset from 0 on.
    pub rx1: Vec<u8>,
}

/// Limits on the length of one transmission.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct DwellInfo {
    /// Longest uplink.
    pub uplink_ms: Option<u32>,
    /// Longest downlink.
    pub downlink_ms: Option<u32>,
    /// Switched by TxParamSetupReq, and on until then.
    pub by_command: bool,
    /// The source.
    pub source: String,
}

/// Beacons and ping slots.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct ClassBInfo {
    /// Beacon frequencies; several are hopped over.
    pub beacon_mhz: Vec<f64>,
    /// Data rate index of the beacon.
    pub beacon_data_rate: u8,
    /// Width of beacon and ping slots.
    pub bandwidth_khz: u32,
    /// Ping-slot frequencies; several are hopped over.
    pub ping_slot_mhz: Vec<f64>,
    /// Data rate index of ping slots.
    pub ping_slot_data_rate: u8,
}

/// A part of the band with its own limits.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct SubBandInfo {
    /// What its regulation calls it.
    pub name: String,
    /// Lower edge.
    pub from_mhz: f64,
    /// Upper edge.
    pub to_mhz: f64,
    /// Duty cycle in percent of an hour, if there is a limit.
    pub duty_cycle_percent: Option<f64>,
    /// Largest EIRP of a device.
    pub max_eirp_dbm: f32,
    /// Largest EIRP of a gateway.
    pub gateway_eirp_dbm: f32,
    /// The source.
    pub source: String,
}
