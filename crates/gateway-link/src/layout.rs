//! How a concentrator is set to a channel plan: two radios, each tuned to a centre, and behind them chains that
//! each receive one channel within their radio's reach.
//!
//! The usual concentrators have eight chains for LoRa of 125 kHz at any spreading factor, one for LoRa of another
//! bandwidth at one spreading factor, and one for FSK. A radio passes ±462.5 kHz round its centre for channels of
//! 125 kHz, ±500 kHz for those of 250 kHz and ±550 kHz for those of 500 kHz.

use lorawan::region::{Channel, ChannelSet, Plan};
use lorawan::{Bandwidth, Modulation};
use thiserror::Error;

/// Chains for LoRa of 125 kHz.
pub const MULTI_RATE_CHAINS: usize = 8;
/// Radios.
pub const RADIOS: usize = 2;
/// Centres are rounded to this, if all channels stay within reach.
const ROUND_HZ: u32 = 100_000;

/// What one chain receives.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Chain {
    /// Which radio it hangs on: 0 or 1.
    pub radio: u8,
    /// The channel's centre frequency.
    pub frequency_hz: u32,
    /// The channel's offset from the radio's centre.
    pub offset_hz: i32,
}

/// The chain for LoRa of another bandwidth.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct StandardChain {
    /// Where it listens.
    pub chain: Chain,
    /// Its bandwidth.
    pub bandwidth: Bandwidth,
    /// Its only spreading factor.
    pub spreading_factor: u8,
}

/// A concentrator's settings.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Layout {
    /// The radios' centres, lowest first; one that is not needed is off.
    pub radios_hz: [Option<u32>; RADIOS],
    /// LoRa of 125 kHz, by frequency.
    pub multi_rate: Vec<Chain>,
    /// LoRa of another bandwidth.
    pub standard: Option<StandardChain>,
    /// FSK.
    pub fsk: Option<Chain>,
}

/// Why no concentrator can listen on all these channels.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum LayoutError {
    /// There is none.
    #[error("no channel is chosen")]
    NoChannels,
    /// A channel the plan does not have.
    #[error("{plan} has no channel {index}")]
    NoSuchChannel {
        /// The plan.
        plan: &'static str,
        /// The index.
        index: u8,
    },
    /// More than there are chains.
    #[error(
        "{count} channels are of 125 kHz, and a concentrator has {MULTI_RATE_CHAINS} chains for them: leave {} out",
        count - MULTI_RATE_CHAINS
    )]
    TooMany {
        /// How many.
        count: usize,
    },
    /// More than one of a kind there is one chain for.
    #[error("{} are of {what}, for which a concentrator has one chain: leave all but one out", mhz(frequencies_hz))]
    OnlyOne {
        /// Of what kind.
        what: &'static str,
        /// Which.
        frequencies_hz: Vec<u32>,
    },
    /// Further apart than two radios reach.
    #[error(
        "two radios cannot reach all channels: with radios at {}, {} is out of reach",
        mhz(radios_hz),
        mhz(&[*frequency_hz])
    )]
    TooFarApart {
        /// Where the radios would have to be for the lower channels.
        radios_hz: Vec<u32>,
        /// The first channel that neither reaches.
        frequency_hz: u32,
    },
}

fn mhz(frequencies_hz: &[u32]) -> String {
    let all: Vec<String> = frequencies_hz.iter().map(|hz| (f64::from(*hz) / 1e6).to_string()).collect();
    format!("{} MHz", all.join(" and "))
}

/// How far a channel's centre may lie from its radio's.
const fn reach_hz(bandwidth: Bandwidth) -> u32 {
    let passes_hz = match bandwidth {
        Bandwidth::Khz125 => 925_000,
        Bandwidth::Khz250 => 1_000_000,
        Bandwidth::Khz500 => 1_100_000,
    };
    (passes_hz - bandwidth.hz()) / 2
}

/// A channel that a chain is to receive.
#[derive(Debug, Clone, Copy)]
struct Wanted {
    frequency_hz: u32,
    /// The radio's centre must lie within these.
    from_hz: u32,
    to_hz: u32,
}

impl Wanted {
    fn new(frequency_hz: u32, bandwidth: Bandwidth) -> Self {
        let reach = reach_hz(bandwidth);
        Self { frequency_hz, from_hz: frequency_hz.saturating_sub(reach), to_hz: frequency_hz + reach }
    }
}

impl Layout {
    /// The channels that one concentrator usually has in a plan: all of the network's if it reaches them. Of a plan
    /// with eight sub-bands it has the second, which most devices are sold for; of another large plan the first eight
    /// channels.
    pub fn usual_channels(plan: &'static Plan) -> ChannelSet {
        let all: ChannelSet = plan.network_uplinks().map(|channel| channel.index).collect();
        if Self::new(plan, all).is_ok() {
            return all;
        }
        plan.eight_channels(1).unwrap_or_else(|| all.iter().take(MULTI_RATE_CHAINS).collect())
    }

    /// The layout that listens on these channels of a plan, or why there is none.
    pub fn new(plan: &'static Plan, channels: ChannelSet) -> Result<Self, LayoutError> {
        let find = |index| plan.network_uplinks().find(|channel| channel.index == index);
        let chosen: Vec<Channel> = channels
            .iter()
            .map(|index| find(index).ok_or(LayoutError::NoSuchChannel { plan: plan.name, index }))
            .collect::<Result<_, _>>()?;
        let (mut multi, mut standard, mut fsk) = (Vec::new(), Vec::new(), Vec::new());
        for channel in &chosen {
            let rates = (channel.min_data_rate..=channel.max_data_rate).filter_map(|index| plan.data_rate(index));
            let (mut narrow, mut wide, mut shifted) = (false, None, false);
            for rate in rates {
                match rate.modulation {
                    Modulation::Lora { bandwidth: Bandwidth::Khz125, .. } => narrow = true,
                    Modulation::Lora { bandwidth, spreading_factor } => {
                        wide = Some((bandwidth, spreading_factor.value()));
                    }
                    Modulation::Fsk { .. } => shifted = true,
                    // For this a gateway has receivers of its own.
                    Modulation::LrFhss { .. } => {}
                }
            }
            if narrow {
                multi.push(channel.frequency_hz);
            }
            if let Some((bandwidth, spreading_factor)) = wide {
                standard.push((channel.frequency_hz, bandwidth, spreading_factor));
            }
            if shifted {
                fsk.push(channel.frequency_hz);
            }
        }
        if multi.len() > MULTI_RATE_CHAINS {
            return Err(LayoutError::TooMany { count: multi.len() });
        }
        if standard.len() > 1 {
            let frequencies_hz = standard.iter().map(|(hz, ..)| *hz).collect();
            return Err(LayoutError::OnlyOne { what: "LoRa wider than 125 kHz", frequencies_hz });
        }
        if fsk.len() > 1 {
            return Err(LayoutError::OnlyOne { what: "FSK", frequencies_hz: fsk });
        }
        let wanted: Vec<Wanted> = multi
            .iter()
            .chain(&fsk)
            .map(|hz| Wanted::new(*hz, Bandwidth::Khz125))
            .chain(standard.iter().map(|(hz, bandwidth, _)| Wanted::new(*hz, *bandwidth)))
            .collect();
        let radios_hz = centres(wanted)?;
        let place = |hz: u32, bandwidth: Bandwidth| chain(&radios_hz, hz, reach_hz(bandwidth));
        multi.sort_unstable();
        Ok(Self {
            multi_rate: multi.iter().filter_map(|hz| place(*hz, Bandwidth::Khz125)).collect(),
            standard: standard.first().and_then(|(hz, bandwidth, spreading_factor)| {
                let (bandwidth, spreading_factor) = (*bandwidth, *spreading_factor);
                Some(StandardChain { chain: place(*hz, bandwidth)?, bandwidth, spreading_factor })
            }),
            fsk: fsk.first().and_then(|hz| place(*hz, Bandwidth::Khz125)),
            radios_hz: [radios_hz.first().copied(), radios_hz.get(1).copied()],
        })
    }
}

/// Centres for the radios, such that each channel has one within reach. The lowest radio goes as high as its lowest
/// channel lets it, the next one likewise with what is left: no choice needs fewer. Then each moves to the midst of
/// where its own channels let it be.
fn centres(mut wanted: Vec<Wanted>) -> Result<Vec<u32>, LayoutError> {
    wanted.sort_unstable_by_key(|channel| (channel.to_hz, channel.frequency_hz));
    let mut centres = Vec::new();
    while let Some(lowest) = wanted.first().copied() {
        if centres.len() == RADIOS {
            return Err(LayoutError::TooFarApart { radios_hz: centres, frequency_hz: lowest.frequency_hz });
        }
        let (own, rest): (Vec<_>, Vec<_>) = wanted.into_iter().partition(|channel| channel.from_hz <= lowest.to_hz);
        wanted = rest;
        let from_hz = own.iter().map(|channel| channel.from_hz).max().unwrap_or(lowest.from_hz);
        let midst_hz = u32::midpoint(from_hz, lowest.to_hz);
        let round_hz = (midst_hz + ROUND_HZ / 2) / ROUND_HZ * ROUND_HZ;
        centres.push(if (from_hz..=lowest.to_hz).contains(&round_hz) { round_hz } else { midst_hz });
    }
    if centres.is_empty() { Err(LayoutError::NoChannels) } else { Ok(centres) }
}

/// The chain for a channel, at the nearest radio.
fn chain(radios_hz: &[u32], frequency_hz: u32, reach_hz: u32) -> Option<Chain> {
    let (radio, centre_hz) = radios_hz.iter().enumerate().min_by_key(|(_, hz)| hz.abs_diff(frequency_hz))?;
    let offset_hz = i32::try_from(i64::from(frequency_hz) - i64::from(*centre_hz)).ok()?;
    (offset_hz.unsigned_abs() <= reach_hz).then_some(Chain { radio: radio as u8, frequency_hz, offset_hz })
}

#[cfg(test)]
mod tests {
    use lorawan::region::Region;
    use proptest::prelude::*;

    use super::*;

    fn layout(region: Region, channels: &str) -> Result<Layout, LayoutError> {
        Layout::new(region.plan(), channels.parse().unwrap())
    }

    #[test]
    fn europes_eight_channels_take_two_radios() {
        let layout = layout(Region::Eu868, "0-7").unwrap();
        assert_eq!(layout.radios_hz, [Some(867_500_000), Some(868_300_000)]);
        let chains: Vec<_> = layout.multi_rate.iter().map(|c| (c.radio, c.frequency_hz / 1000, c.offset_hz)).collect();
        assert_eq!(
            chains,
            [
                (0, 867_100, -400_000),
                (0, 867_300, -200_000),
                (0, 867_500, 0),
                (0, 867_700, 200_000),
                (0, 867_900, 400_000),
                (1, 868_100, -200_000),
                (1, 868_300, 0),
                (1, 868_500, 200_000),
            ]
        );
        assert_eq!((layout.standard, layout.fsk), (None, None), "no channel of the table carries those");
    }

    #[test]
    fn a_sub_band_of_america_has_its_wide_channel() {
        let layout = layout(Region::Us915, "8-15, 65").unwrap();
        assert_eq!(layout.multi_rate.len(), 8);
        let wide = layout.standard.unwrap();
        assert_eq!(
            (wide.chain.frequency_hz, wide.bandwidth, wide.spreading_factor),
            (904_600_000, Bandwidth::Khz500, 8)
        );
        assert!(wide.chain.offset_hz.abs() <= 300_000);
    }

    #[test]
    fn one_radio_is_enough_for_three_channels() {
        let layout = layout(Region::Eu868, "0-2").unwrap();
        assert_eq!(layout.radios_hz, [Some(868_300_000), None]);
    }

    #[test]
    fn what_cannot_be_is_refused_with_the_reason() {
        let said = |region, channels| layout(region, channels).unwrap_err().to_string();
        assert_eq!(
            said(Region::Us915, "0-15"),
            "16 channels are of 125 kHz, and a concentrator has 8 chains for them: leave 8 out"
        );
        assert_eq!(
            said(Region::Us915, "64, 65"),
            "903 and 904.6 MHz are of LoRa wider than 125 kHz, for which a concentrator has one chain: leave all but one out"
        );
        assert_eq!(
            said(Region::Us915, "0, 20, 40, 60"),
            "two radios cannot reach all channels: with radios at 902.3 and 906.3 MHz, 910.3 MHz is out of reach"
        );
        assert_eq!(said(Region::Eu868, "0-9"), "EU868 has no channel 8");
        let none = Layout::new(Region::Eu868.plan(), ChannelSet::default());
        assert_eq!(none, Err(LayoutError::NoChannels));
    }

    #[test]
    fn every_plan_has_channels_that_one_concentrator_reaches() {
        for region in Region::ALL {
            let usual = Layout::usual_channels(region.plan());
            assert!(Layout::new(region.plan(), usual).is_ok(), "{region} {usual}");
        }
        assert_eq!(Layout::usual_channels(Region::Us915.plan()).to_string(), "8-15, 65");
        assert_eq!(Layout::usual_channels(Region::Eu868.plan()).to_string(), "0-7");
    }

    proptest! {
        /// Whatever is chosen, every channel is received within its radio's reach, or the reason is said.
        #[test]
        fn no_channel_is_left_out(region in prop::sample::select(Region::ALL.to_vec()), pick in prop::collection::vec(any::<bool>(), 96)) {
            let plan = region.plan();
            let all: Vec<Channel> = plan.network_uplinks().collect();
            let chosen: Vec<&Channel> = all.iter().zip(&pick).filter(|(_, taken)| **taken).map(|(c, _)| c).collect();
            let set: ChannelSet = chosen.iter().map(|channel| channel.index).collect();
            let Ok(layout) = Layout::new(plan, set) else { return Ok(()) };
            let chains: Vec<Chain> = layout.multi_rate.iter().copied().chain(layout.standard.map(|s| s.chain)).chain(layout.fsk).collect();
            for channel in chosen {
                prop_assert!(chains.iter().any(|chain| chain.frequency_hz == channel.frequency_hz), "{region} {channel:?}");
            }
            for chain in chains {
                let centre = layout.radios_hz[usize::from(chain.radio)].unwrap();
                prop_assert_eq!(i64::from(centre) + i64::from(chain.offset_hz), i64::from(chain.frequency_hz));
                prop_assert!(chain.offset_hz.abs() <= 400_000);
            }
        }
    }
}
