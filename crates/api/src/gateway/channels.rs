//! A concentrator's radio settings for a region's channels.

use lorawan::region::Region;
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

/// Which channels a gateway is to listen on.
#[derive(Debug, Clone, Default, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct LayoutQuestion {
    /// Uplink channels, as runs: `8-15, 65`. As many as one concentrator reaches if not given.
    pub channels: Option<String>,
}

/// What one chain of a concentrator receives.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct ChainInfo {
    /// Its radio, 0 or 1.
    pub radio: u8,
    /// The channel's centre frequency.
    pub frequency_mhz: f64,
    /// The channel's offset from the radio's centre.
    pub offset_khz: f64,
    /// Its bandwidth.
    pub bandwidth_khz: u32,
    /// The only spreading factor it receives, if it is not all of them.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub spreading_factor: Option<u8>,
}

/// The settings of a concentrator: two radios, and their chains.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct LayoutInfo {
    /// The region.
    #[schema(value_type = String, example = "EU868")]
    pub region: Region,
    /// The channels, as runs.
    #[schema(example = "0-7")]
    pub channels: String,
    /// The radios' centres.
    pub radios_mhz: Vec<f64>,
    /// LoRa of 125 kHz at any spreading factor, at most eight.
    pub multi_rate: Vec<ChainInfo>,
    /// LoRa of another bandwidth.
    pub standard: Option<ChainInfo>,
    /// FSK.
    pub fsk: Option<ChainInfo>,
}
