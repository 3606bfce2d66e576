//! `heron gateway layout`: worked out here, without a service.

use anyhow::Result;
use api::gateway::channels::{ChainInfo, LayoutInfo, LayoutQuestion};
use domain::gateway::channels;

use crate::commands::gateway::args::LayoutArgs;
use crate::show::{self, Out};

pub(super) fn run(out: &Out, args: LayoutArgs) -> Result<()> {
    let layout = channels::layout(args.region, &LayoutQuestion { channels: args.channels })?;
    if out.json { out.json(&layout) } else { draw(out, &layout) }
}

/// Radios, and the chains behind each.
fn draw(out: &Out, layout: &LayoutInfo) -> Result<()> {
    let radios: Vec<String> = layout.radios_mhz.iter().map(|mhz| format!("{mhz} MHz")).collect();
    out.line(format!("{}, channels {}: radios at {}", layout.region, layout.channels, radios.join(" and ")))?;
    let row = |what: String, chain: &ChainInfo| {
        let receives = match chain.spreading_factor {
            Some(sf) => format!("LoRa SF{sf}, {} kHz", chain.bandwidth_khz),
            None => what,
        };
        let offset = format!("{:+} kHz", chain.offset_khz);
        vec![format!("{} MHz", chain.frequency_mhz), receives, chain.radio.to_string(), offset]
    };
    let lora = |chain: &ChainInfo| row("LoRa 125 kHz, any SF".into(), chain);
    let chains = layout.multi_rate.iter().chain(&layout.standard).map(lora);
    let chains = chains.chain(layout.fsk.iter().map(|chain| row("FSK".into(), chain)));
    out.line(show::table(&["CHANNEL", "RECEIVES", "RADIO", "FROM ITS CENTRE"], chains))
}
