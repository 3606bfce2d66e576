//! A concentrator's radio settings for a region's channels.

use api::gateway::channels::{ChainInfo, LayoutInfo, LayoutQuestion};
use api::problem::{Problem, bad_field};
use gateway_link::layout::{Chain, Layout};
use lorawan::region::{ChannelSet, Plan, Region};

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
