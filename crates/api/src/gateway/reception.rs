//! What one gateway hears, from the history: signal, channels, data rates, and what nobody else hears.

use chrono::{DateTime, Utc};
use lorawan::Eui64;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// The signal of one uplink.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct SignalPoint {
    /// Signal strength.
    pub rssi_dbm: f32,
    /// Signal to noise.
    pub snr_db: f32,
    /// The LoRa spreading factor.
    pub spreading_factor: Option<u8>,
}

/// Uplinks on one channel.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct ChannelReception {
    /// The channel's centre frequency.
    pub frequency_mhz: f64,
    /// Uplinks heard there.
    pub uplinks: u32,
    /// Their mean signal strength.
    pub rssi_dbm: f32,
    /// The noise that signal strength and ratio of the weaker of them imply, the median.
    pub noise_dbm: Option<f32>,
}

/// Uplinks at one data rate.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct RateReception {
    /// The data rate.
    pub data_rate: u8,
    /// The LoRa spreading factor.
    pub spreading_factor: Option<u8>,
    /// Uplinks heard at it.
    pub uplinks: u32,
}

/// A device that no other gateway has heard.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct OnlyHere {
    /// Its DevEUI.
    #[schema(value_type = String)]
    pub dev_eui: Eui64,
    /// Its name.
    pub name: String,
    /// Its uplinks, all heard here alone.
    pub uplinks: u32,
    /// The best signal to noise of them.
    pub best_snr_db: Option<f32>,
}

/// What one gateway hears, of the estate's last uplinks.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Reception {
    /// Uplinks that were evaluated, heard by any gateway.
    pub looked_at: u32,
    /// When the first of them came.
    #[serde(with = "crate::millis_option")]
    pub since: Option<DateTime<Utc>>,
    /// Those of them this gateway heard.
    pub uplinks: u32,
    /// The signals of the latest of these.
    pub points: Vec<SignalPoint>,
    /// By channel, the lowest first.
    pub channels: Vec<ChannelReception>,
    /// By data rate, the slowest first.
    pub data_rates: Vec<RateReception>,
    /// Devices that it alone hears: they are lost if it fails.
    pub only_here: Vec<OnlyHere>,
}

/// A gateway's online time on one day.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct UptimeDay {
    /// The day, UTC.
    #[schema(example = "2026-05-04")]
    pub day: String,
    /// The share of it, as far as it is known, in which the gateway was listening.
    pub listening_percent: Option<f64>,
    /// How often it was lost or quiet and came back.
    pub returns: u32,
}
