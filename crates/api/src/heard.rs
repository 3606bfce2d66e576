//! How a frame was sent, and which gateways heard it.

use lorawan::Eui64;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// How a frame was sent.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Radio {
    /// The region.
    #[schema(example = "EU868")]
    pub region: String,
    /// Data rate index, where the region has that modulation.
    pub data_rate: Option<u8>,
    /// Spreading factor; FSK has none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub spreading_factor: Option<u8>,
    /// LoRa bandwidth; FSK has none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub bandwidth_khz: Option<u32>,
    /// Centre frequency.
    pub frequency_mhz: f64,
    /// Time on air.
    pub airtime_ms: f64,
    /// What the device has been told to transmit with (EIRP), of uplinks.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(example = 14.0)]
    pub power_dbm: Option<f64>,
}

/// One gateway's reception.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct HeardBy {
    /// The gateway's EUI.
    #[schema(value_type = String)]
    pub gateway: Eui64,
    /// Its name.
    pub name: String,
    /// Signal strength.
    pub rssi_dbm: f32,
    /// Signal-to-noise ratio; FSK has none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub snr_db: Option<f32>,
}
