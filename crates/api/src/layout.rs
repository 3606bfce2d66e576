//! A concentrator's settings for a region's channels, as they are shown.

use gateway_link::layout::{Chain, Layout};
use lorawan::region::{ChannelSet, Plan, Region};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

use crate::problem::{Problem, bad_field};

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
    /// The radio it hangs on, 0 or 1.
    pub radio: u8,
    /// The channel's centre.
    pub frequency_mhz: f64,
    /// From the radio's centre to the channel's.
    pub offset_khz: f64,
    /// Its bandwidth.
    pub bandwidth_khz: u32,
    /// The only spreading factor it receives, if it is not all of them.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub spreading_factor: Option<u8>,
}

/// How a concentrator is set to channels: two radios, and chains behind them.
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

/// The channels that are meant, and a concentrator's layout for them, or why there is none. Without a text, as many
/// channels as one concentrator reaches.
pub fn channels(plan: &'static Plan, text: Option<&str>) -> Result<(ChannelSet, Layout), Problem> {
    let chosen = match text {
        Some(text) => text.parse().map_err(|why| bad_field("channels", text, why))?,
        None => Layout::usual_channels(plan),
    };
    let layout = Layout::new(plan, chosen).map_err(|why| bad_field("channels", &chosen.to_string(), why))?;
    Ok((chosen, layout))
}

/// Works the layout out, or says why there is none.
pub fn layout(region: Region, question: &LayoutQuestion) -> Result<LayoutInfo, Problem> {
    let (channels, layout) = channels(region.plan(), question.channels.as_deref())?;
    let info = |chain: Chain, bandwidth_khz, spreading_factor| ChainInfo {
        radio: chain.radio,
        frequency_mhz: f64::from(chain.frequency_hz) / 1e6,
        offset_khz: f64::from(chain.offset_hz) / 1e3,
        bandwidth_khz,
        spreading_factor,
    };
    Ok(LayoutInfo {
        region,
        channels: channels.to_string(),
        radios_mhz: layout.radios_hz.iter().flatten().map(|hz| f64::from(*hz) / 1e6).collect(),
        multi_rate: layout.multi_rate.iter().map(|chain| info(*chain, 125, None)).collect(),
        standard: layout.standard.map(|s| info(s.chain, s.bandwidth.khz(), Some(s.spreading_factor))),
        fsk: layout.fsk.map(|chain| info(chain, 125, None)),
    })
}
