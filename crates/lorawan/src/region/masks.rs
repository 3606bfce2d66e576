//! Channel masks: what a LinkADRReq does to a device's channels, and the fewest of them that lead
//! from one set to another (TS001 §5.2, RP002 "LinkADRReq Command" of each region).

use thiserror::Error;

use super::plan::{MaskMeaning, Plan};
use super::{CfListForm, ChannelSet};

/// The two fields of a LinkADRReq that switch channels.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct ChannelMask {
    /// ChMaskCntl, 0 to 7.
    pub cntl: u8,
    /// ChMask.
    pub mask: u16,
}

/// Why a device refuses a channel mask.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Error)]
pub enum MaskError {
    /// The region gives this ChMaskCntl no meaning.
    #[error("ChMaskCntl {0} is reserved in this region")]
    Reserved(u8),
    /// A channel is switched on that the device does not know.
    #[error("channel {0} is switched on but not defined")]
    Undefined(u8),
    /// No channel would be left.
    #[error("no channel would be left on")]
    NoneLeft,
    /// The wanted set cannot be said in commands of this region.
    #[error("channels {0} are beyond what this region's masks reach")]
    OutOfReach(ChannelSet),
}

/// The channels of the 64 narrow ones and of the 8 wide ones.
const NARROW: u8 = 64;

/// The blocks that make as many groups of sixteen right as blocks can; where they cannot, those of
/// the wide channels.
fn blocks_for(wanted: ChannelSet) -> u16 {
    (0..4).fold(0, |blocks, group: u8| {
        let two = match wanted.sixteen(16 * group) {
            0x0000 => 0b00,
            0x00ff => 0b01,
            0xff00 => 0b10,
            0xffff => 0b11,
            _ => (wanted.sixteen(NARROW) >> (2 * group)) & 0b11,
        };
        blocks | (two << (2 * group))
    })
}

impl Plan {
    /// The channels after one mask, from `current`, where `defined` are the channels the device knows.
    fn masked(&self, defined: ChannelSet, current: ChannelSet, step: ChannelMask) -> Result<ChannelSet, MaskError> {
        let wide = step.mask & 0x00ff;
        let next = match self.ch_mask_cntl[usize::from(step.cntl & 7)] {
            MaskMeaning::Reserved => return Err(MaskError::Reserved(step.cntl)),
            MaskMeaning::Sixteen(first) => current.with_sixteen(first, step.mask),
            MaskMeaning::Wide => current.with_sixteen(NARROW, wide),
            MaskMeaning::Blocks => {
                let on = (0..8).filter(|block| wide & (1 << block) != 0);
                on.filter_map(|block| self.eight_channels(block)).fold(ChannelSet::EMPTY, ChannelSet::union)
            }
            MaskMeaning::NarrowOnAndWide => ChannelSet::run(0, NARROW).with_sixteen(NARROW, wide),
            MaskMeaning::NarrowOffAndWide => ChannelSet::EMPTY.with_sixteen(NARROW, wide),
            MaskMeaning::AllOn => defined,
            MaskMeaning::AllOff => ChannelSet::EMPTY,
        };
        match next.difference(defined).iter().next() {
            Some(index) => Err(MaskError::Undefined(index)),
            None => Ok(next),
        }
    }

    /// What a device with channels `defined`, of which `current` are on, makes of a block of
    /// LinkADRReq. The block is taken as a whole (TS001 §5.2): only its outcome must leave a channel.
    ///
    /// # Errors
    /// The reason for which the device unsets *ChannelMaskACK* and changes nothing.
    pub fn apply_masks(
        &self,
        defined: ChannelSet,
        current: ChannelSet,
        block: &[ChannelMask],
    ) -> Result<ChannelSet, MaskError> {
        let after = block.iter().try_fold(current, |set, step| self.masked(defined, set, *step))?;
        if after.is_empty() { Err(MaskError::NoneLeft) } else { Ok(after) }
    }

    /// What a mask does, in words.
    pub fn mask_label(&self, step: ChannelMask) -> String {
        let sixteen = |first: u8| ChannelSet::EMPTY.with_sixteen(first, step.mask);
        let wide = || ChannelSet::EMPTY.with_sixteen(NARROW, step.mask & 0x00ff);
        match self.ch_mask_cntl[usize::from(step.cntl & 7)] {
            MaskMeaning::Sixteen(first) => format!("of channels {first}-{}: {} on", first + 15, sixteen(first)),
            MaskMeaning::Wide => format!("of channels 64-71: {} on", wide()),
            MaskMeaning::Blocks => {
                let on = (0..8).filter(|block| step.mask & (1 << block) != 0).filter_map(|b| self.eight_channels(b));
                format!("of all channels: {} on", on.fold(ChannelSet::EMPTY, ChannelSet::union))
            }
            MaskMeaning::NarrowOnAndWide => format!("channels 0-63 on; of channels 64-71: {} on", wide()),
            MaskMeaning::NarrowOffAndWide => format!("channels 0-63 off; of channels 64-71: {} on", wide()),
            MaskMeaning::AllOn => "all defined channels on".into(),
            MaskMeaning::AllOff => "all channels off".into(),
            MaskMeaning::Reserved => format!("ChMaskCntl {} is reserved in {}", step.cntl, self.name),
        }
    }

    /// The channels a joining device has on after this CFList; `None` where the list does not fit the
    /// region, and the device discards it.
    pub fn after_cf_list(&self, list: &crate::wire::CfList) -> Option<ChannelSet> {
        use crate::wire::CfList;
        match (list, self.cf_list) {
            (CfList::Frequencies(all), CfListForm::Frequencies) => {
                let next = self.uplinks().count() as u8;
                let added = all.iter().zip(next..).filter(|(hz, _)| **hz > 0).map(|(_, index)| index);
                Some(self.known_channels().union(added.collect()))
            }
            (CfList::Masks(masks), CfListForm::Masks(groups)) => {
                let on = masks[..usize::from(groups).min(masks.len())].iter().zip(0u8..);
                let set = on.fold(ChannelSet::EMPTY, |set, (mask, i)| set.with_sixteen(16 * i, *mask));
                Some(set.intersection(self.known_channels()))
            }
            _ => None,
        }
    }

    /// The fewest channel masks that take a device from `current` to `wanted`, in the order in which
    /// they are to be sent; none if nothing has to change.
    ///
    /// Each mask either sets one group of channels or sets all of them at once. Two of the latter
    /// never help, since the second undoes the first, and one helps only in front. So the shortest
    /// block is found by trying each all-at-once mask, and none, and then mending the groups that are
    /// still wrong. Among blocks of one length, one is taken that leaves a channel on after every
    /// step, for devices of LoRaWAN 1.0.1 and before, which take each command by itself.
    ///
    /// # Errors
    /// [`MaskError::NoneLeft`] for an empty set, [`MaskError::Undefined`] for a channel not in
    /// `defined`, [`MaskError::OutOfReach`] for one that no mask of the region names.
    pub fn link_adr_masks(
        &self,
        defined: ChannelSet,
        current: ChannelSet,
        wanted: ChannelSet,
    ) -> Result<Vec<ChannelMask>, MaskError> {
        if wanted.is_empty() {
            return Err(MaskError::NoneLeft);
        }
        if let Some(index) = wanted.difference(defined).iter().next() {
            return Err(MaskError::Undefined(index));
        }
        let mut best: Option<(usize, bool, Vec<ChannelMask>)> = None;
        let mut consider = |start: ChannelSet, first: Option<ChannelMask>| {
            let Some(mended) = self.mend(start, wanted) else { return };
            let block: Vec<ChannelMask> = first.into_iter().chain(mended).collect();
            let mut set = current;
            let bare = block.iter().any(|step| {
                set = self.masked(defined, set, *step).unwrap_or_default();
                set.is_empty()
            });
            let rank = (block.len(), bare);
            if best.as_ref().is_none_or(|(len, bare, _)| rank < (*len, *bare)) {
                best = Some((rank.0, rank.1, block));
            }
        };
        consider(current, None);
        for first in self.all_at_once(wanted) {
            if let Ok(start) = self.masked(defined, current, first) {
                consider(start, Some(first));
            }
        }
        best.map(|(_, _, block)| block).ok_or(MaskError::OutOfReach(wanted))
    }

    /// The masks that set every channel and may be worth beginning with.
    fn all_at_once(&self, wanted: ChannelSet) -> Vec<ChannelMask> {
        let wide = wanted.sixteen(NARROW) & 0x00ff;
        let mut out = Vec::new();
        for (cntl, meaning) in (0u8..).zip(self.ch_mask_cntl) {
            match meaning {
                MaskMeaning::AllOn | MaskMeaning::AllOff => out.push(ChannelMask { cntl, mask: 0 }),
                MaskMeaning::NarrowOnAndWide | MaskMeaning::NarrowOffAndWide => {
                    out.push(ChannelMask { cntl, mask: wide });
                }
                // A group that is still wrong costs one mask each, the wide channels together one. So
                // either the wide ones come out right, or every group that blocks can make right does.
                MaskMeaning::Blocks => {
                    out.extend([wide, blocks_for(wanted)].map(|mask| ChannelMask { cntl, mask }));
                }
                MaskMeaning::Sixteen(_) | MaskMeaning::Wide | MaskMeaning::Reserved => {}
            }
        }
        out
    }

    /// One mask for each group in which `from` differs from `wanted`, those first that switch
    /// channels on. `None` if a difference lies in no group.
    fn mend(&self, from: ChannelSet, wanted: ChannelSet) -> Option<Vec<ChannelMask>> {
        let mut steps = Vec::new();
        let mut reached = from;
        for (cntl, meaning) in (0u8..).zip(self.ch_mask_cntl) {
            let first = match meaning {
                MaskMeaning::Sixteen(first) => first,
                MaskMeaning::Wide => NARROW,
                _ => continue,
            };
            let mask = wanted.sixteen(first);
            if from.sixteen(first) != mask {
                steps.push(ChannelMask { cntl, mask });
                reached = reached.with_sixteen(first, mask);
            }
        }
        steps.sort_by_key(|step| step.mask == 0);
        (reached == wanted).then_some(steps)
    }
}
