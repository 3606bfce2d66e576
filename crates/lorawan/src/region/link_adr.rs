//! Blocks of LinkADRReq: building the fewest that reach what is wanted, and what a device makes of one
//! (TS001 §5.2).

use serde::{Deserialize, Serialize};
use thiserror::Error;

use super::plan::Plan;
use super::{ChannelMask, ChannelSet, MaskError};
use crate::MacVersion;
use crate::mac::{LinkAdr, NewChannel, UpCommand};

/// What LinkADRReq sets.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct AdrSettings {
    /// Data rate index.
    pub data_rate: u8,
    /// TXPower index.
    pub tx_power: u8,
    /// How often each uplink is sent, 1 to 15.
    pub nb_trans: u8,
    /// Channels that are on.
    pub channels: ChannelSet,
}

/// Why settings cannot be commanded.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Error)]
pub enum AdrError {
    /// The channels cannot be.
    #[error(transparent)]
    Mask(#[from] MaskError),
    /// None of the channels carries the data rate.
    #[error("DR{0} is not a data rate of the channels that are on")]
    DataRate(u8),
    /// The region reserves the TXPower index.
    #[error("TXPower {0} is reserved in this region")]
    TxPower(u8),
    /// NbTrans is a field of four bits, and 0 is no number of times.
    #[error("NbTrans {0} is not 1 to 15")]
    NbTrans(u8),
}

impl Plan {
    /// The fewest LinkADRReq, to be sent behind each other in one frame, that take a device with
    /// channels `defined` from `current` to `wanted`; none if nothing has to change.
    ///
    /// Data rate, power and repetitions stand in each of them: devices of 1.0.1 and before take every
    /// command by itself, later ones those of the last.
    ///
    /// # Errors
    /// What a device would refuse: see [`AdrError`].
    pub fn link_adr_block(
        &self,
        defined: ChannelSet,
        current: &AdrSettings,
        wanted: &AdrSettings,
    ) -> Result<Vec<LinkAdr>, AdrError> {
        let mut masks = self.link_adr_masks(defined, current.channels, wanted.channels)?;
        if self.tx_power.dbm(wanted.tx_power).is_none() {
            return Err(AdrError::TxPower(wanted.tx_power));
        }
        if !matches!(wanted.nb_trans, 1..=15) {
            return Err(AdrError::NbTrans(wanted.nb_trans));
        }
        if !self.carries(defined, wanted.channels, wanted.data_rate) {
            return Err(AdrError::DataRate(wanted.data_rate));
        }
        if current == wanted {
            return Ok(Vec::new());
        }
        if masks.is_empty() {
            // The field cannot be left out, so it says what is so already.
            masks.push(ChannelMask { cntl: 0, mask: wanted.channels.sixteen(0) });
        }
        let command = |channels| LinkAdr {
            data_rate: Some(wanted.data_rate),
            tx_power: Some(wanted.tx_power),
            channels,
            nb_trans: wanted.nb_trans,
        };
        Ok(masks.into_iter().map(command).collect())
    }

    /// What a device answers to a block of LinkADRReq, and its settings afterwards: the new ones if it
    /// accepts all, else the old ones.
    pub fn obey_link_adr(
        &self,
        defined: ChannelSet,
        current: &AdrSettings,
        block: &[LinkAdr],
        version: MacVersion,
    ) -> (UpCommand, AdrSettings) {
        let Some(last) = block.last() else {
            return (UpCommand::LinkAdrAns { power_ack: true, data_rate_ack: true, channel_mask_ack: true }, *current);
        };
        let masks: Vec<ChannelMask> = block.iter().map(|command| command.channels).collect();
        let channels = self.apply_masks(defined, current.channels, &masks);
        let data_rate = last.data_rate.unwrap_or(current.data_rate);
        let tx_power = last.tx_power.unwrap_or(current.tx_power);
        // If the mask is refused, the data rate is judged by the channels that stay.
        let data_rate_ack = self.carries(defined, channels.unwrap_or(current.channels), data_rate);
        let power_ack = self.tx_power.dbm(tx_power).is_some();
        let answer = UpCommand::LinkAdrAns { power_ack, data_rate_ack, channel_mask_ack: channels.is_ok() };
        match channels {
            Ok(channels) if data_rate_ack && power_ack => {
                // 0 stands for 1, but keeps the present value from 1.0.4 on (TS001-1.0.4 §5.2); 1.1 is older than that.
                let nb_trans = match (last.nb_trans, version) {
                    (0, MacVersion::V1_0_4) => current.nb_trans,
                    (times, _) => times.max(1),
                };
                (answer, AdrSettings { data_rate, tx_power, nb_trans, channels })
            }
            _ => (answer, *current),
        }
    }

    /// The NewChannelReq that give a device of a dynamic plan the channels of this network; none in a
    /// fixed plan.
    pub fn new_channels(&self) -> impl Iterator<Item = NewChannel> {
        self.network_uplinks().skip(self.uplinks().count()).map(|channel| NewChannel {
            index: channel.index,
            frequency_hz: channel.frequency_hz,
            min_data_rate: channel.min_data_rate,
            max_data_rate: channel.max_data_rate,
        })
    }

    /// Whether one of the channels that are on carries a data rate. A channel that the network has
    /// defined beyond those of the plan is taken to carry what the plan's channels do, and the data
    /// rates above them.
    fn carries(&self, defined: ChannelSet, on: ChannelSet, data_rate: u8) -> bool {
        let is_uplink = self.data_rate(data_rate).is_some_and(|rate| rate.direction != super::Use::Down);
        let by_plan = self.network_uplinks().any(|c| on.contains(c.index) && c.carries(data_rate));
        let own = self.dynamic() && !on.intersection(defined).difference(self.known_channels()).is_empty();
        is_uplink && (by_plan || own)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::region::Region;

    #[test]
    fn a_device_ends_where_the_block_says() {
        for region in Region::ALL {
            let plan = region.plan();
            let defined: ChannelSet = plan.network_uplinks().map(|c| c.index).collect();
            let current = AdrSettings { data_rate: 2, tx_power: 0, nb_trans: 1, channels: defined };
            let first = plan.network_uplinks().next().map_or(0, |c| c.index);
            let wanted =
                AdrSettings { data_rate: 3, tx_power: 2, nb_trans: 3, channels: [first].into_iter().collect() };
            let block = plan.link_adr_block(defined, &current, &wanted).unwrap();
            assert!(block.len() <= 2, "{region}: {block:?}");
            let (answer, after) = plan.obey_link_adr(defined, &current, &block, MacVersion::V1_0_3);
            assert_eq!(after, wanted, "{region}");
            let accepted = UpCommand::LinkAdrAns { power_ack: true, data_rate_ack: true, channel_mask_ack: true };
            assert_eq!(answer, accepted);
            assert_eq!(plan.link_adr_block(defined, &wanted, &wanted), Ok(vec![]));
            let faster = AdrSettings { data_rate: 2, ..wanted };
            assert_eq!(plan.link_adr_block(defined, &wanted, &faster).map(|b| b.len()), Ok(1), "the mask is restated");
        }
    }

    #[test]
    fn what_a_device_would_refuse_is_not_sent() {
        let plan = Region::Us915.plan();
        let current = AdrSettings { data_rate: 0, tx_power: 0, nb_trans: 1, channels: plan.known_channels() };
        let refused = |wanted: AdrSettings| plan.link_adr_block(plan.known_channels(), &current, &wanted).unwrap_err();
        let narrow = (0..8).collect();
        assert_eq!(refused(AdrSettings { data_rate: 4, channels: narrow, ..current }), AdrError::DataRate(4));
        assert_eq!(refused(AdrSettings { data_rate: 8, ..current }), AdrError::DataRate(8), "a downlink's");
        assert_eq!(refused(AdrSettings { tx_power: 15, ..current }), AdrError::TxPower(15));
        assert_eq!(refused(AdrSettings { nb_trans: 0, ..current }), AdrError::NbTrans(0));
        assert_eq!(
            refused(AdrSettings { channels: ChannelSet::EMPTY, ..current }),
            AdrError::Mask(MaskError::NoneLeft)
        );
    }

    #[test]
    fn a_refusal_names_each_part_and_changes_nothing() {
        let plan = Region::Eu868.plan();
        let current = AdrSettings { data_rate: 5, tx_power: 1, nb_trans: 1, channels: plan.known_channels() };
        let wrong =
            LinkAdr { data_rate: Some(14), tx_power: Some(9), channels: ChannelMask { cntl: 3, mask: 1 }, nb_trans: 2 };
        let (answer, after) = plan.obey_link_adr(plan.known_channels(), &current, &[wrong], MacVersion::V1_0_3);
        let refused = UpCommand::LinkAdrAns { power_ack: false, data_rate_ack: false, channel_mask_ack: false };
        assert_eq!((answer, after), (refused, current));
        let kept = LinkAdr { data_rate: None, tx_power: None, channels: ChannelMask { cntl: 0, mask: 3 }, nb_trans: 0 };
        let (_, after) = plan.obey_link_adr(plan.known_channels(), &current, &[kept], MacVersion::V1_0_3);
        assert_eq!(after, AdrSettings { channels: (0..2).collect(), ..current });
    }

    #[test]
    fn an_nb_trans_of_0_is_1_or_what_it_was() {
        let plan = Region::Eu868.plan();
        let current = AdrSettings { data_rate: 5, tx_power: 1, nb_trans: 3, channels: plan.known_channels() };
        let kept = LinkAdr { data_rate: None, tx_power: None, channels: ChannelMask { cntl: 0, mask: 7 }, nb_trans: 0 };
        for (version, times) in [(MacVersion::V1_0_3, 1), (MacVersion::V1_0_4, 3), (MacVersion::V1_1, 1)] {
            let (_, after) = plan.obey_link_adr(plan.known_channels(), &current, &[kept], version);
            assert_eq!(after.nb_trans, times, "{version}");
        }
    }

    #[test]
    fn a_dynamic_plan_is_given_its_channels() {
        let given: Vec<NewChannel> = Region::Eu868.plan().new_channels().collect();
        assert_eq!(given.len(), 5);
        assert_eq!((given[0].index, given[0].frequency_hz, given[0].max_data_rate), (3, 867_100_000, 5));
        assert_eq!(Region::Us915.plan().new_channels().count(), 0);
        // DR6 needs a channel that the network has added.
        let plan = Region::Eu868.plan();
        assert!(plan.carries((0..8).collect(), (3..8).collect(), 6));
        assert!(!plan.carries((0..8).collect(), (0..3).collect(), 6));
    }
}
