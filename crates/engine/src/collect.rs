//! Collecting the copies of one frame that several gateways heard.
//!
//! The first copy opens a window; when it closes, the frame is processed once with all copies. For a
//! while after, the frame is remembered, so that a copy that comes late over a slow link is not taken
//! for a replay.

use std::collections::HashMap;

use lorawan::{Eui64, airtime};

use crate::effect::{Effect, Event, FrameHeard, Radio, Reception, RefusedEvent};
use crate::refusal::Refusal;

/// How long a processed frame is remembered. Shorter than the time after which a device may repeat
/// it: a repetition comes only after its second receive window, 2 s after the uplink at the soonest.
pub(crate) const REMEMBERED_US: i64 = 1_300_000;
/// Copies kept of one frame.
const MAX_COPIES: usize = 64;
/// Frames under collection or remembered at a time: a bound on memory. At 1.5 s each this is more than
/// 130,000 frames a second, and long before that the queue in front of the engine is full and counts.
const MAX_FRAMES: usize = 200_000;

/// A frame with all its copies, the best one first.
#[derive(Debug)]
pub(crate) struct Collected {
    pub(crate) phy_payload: Vec<u8>,
    pub(crate) copies: Vec<Reception>,
}

impl Collected {
    /// The copy to go by: the one with the best signal.
    pub(crate) fn best(&self) -> &Reception {
        &self.copies[0]
    }

    /// What is told when the frame is not accepted.
    pub(crate) fn refused(&self, dev_eui: Option<Eui64>, reason: Refusal) -> Effect {
        Effect::Publish(Event::Refused(RefusedEvent {
            dev_eui,
            reason,
            phy_payload: self.phy_payload.clone(),
            radio: self.radio(),
            airtime_us: self.airtime_us(),
            heard_by: self.copies.clone(),
        }))
    }

    /// Time on air, as an uplink.
    pub(crate) fn airtime_us(&self) -> u64 {
        airtime::uplink_us(self.best().modulation, self.phy_payload.len())
    }

    pub(crate) fn radio(&self) -> Radio {
        let best = self.best();
        Radio { frequency_hz: best.frequency_hz, modulation: best.modulation }
    }
}

#[derive(Debug)]
enum Slot {
    Collecting(Collected),
    Processed(Vec<u8>),
}

#[derive(Debug, Default)]
pub(crate) struct Collector {
    by_bytes: HashMap<Vec<u8>, u64>,
    slots: HashMap<u64, Slot>,
    next_key: u64,
}

impl Collector {
    /// Adds a copy; gives the key of a new collection if it is the first.
    pub(crate) fn add(&mut self, frame: FrameHeard) -> Option<u64> {
        if let Some(key) = self.by_bytes.get(&frame.phy_payload) {
            if let Some(Slot::Collecting(collected)) = self.slots.get_mut(key) {
                add_copy(&mut collected.copies, frame.reception);
            }
            return None;
        }
        if self.slots.len() >= MAX_FRAMES {
            return None;
        }
        self.next_key += 1;
        self.by_bytes.insert(frame.phy_payload.clone(), self.next_key);
        let collected = Collected { phy_payload: frame.phy_payload, copies: vec![frame.reception] };
        self.slots.insert(self.next_key, Slot::Collecting(collected));
        Some(self.next_key)
    }

    /// Closes a collection and hands it over, best copy first.
    pub(crate) fn take(&mut self, key: u64) -> Option<Collected> {
        let slot = self.slots.get_mut(&key)?;
        let Slot::Collecting(collected) = slot else { return None };
        let bytes = collected.phy_payload.clone();
        let Slot::Collecting(mut collected) = std::mem::replace(slot, Slot::Processed(bytes)) else { return None };
        collected.copies.sort_by(|a, b| b.quality().total_cmp(&a.quality()));
        Some(collected)
    }

    pub(crate) fn forget(&mut self, key: u64) {
        if let Some(Slot::Processed(bytes) | Slot::Collecting(Collected { phy_payload: bytes, .. })) =
            self.slots.remove(&key)
        {
            self.by_bytes.remove(&bytes);
        }
    }
}

/// One copy a gateway: a strong signal also shows up faintly on neighbouring channels.
fn add_copy(copies: &mut Vec<Reception>, copy: Reception) {
    let room = copies.len() < MAX_COPIES;
    match copies.iter_mut().find(|known| known.gateway == copy.gateway) {
        Some(known) if copy.quality() > known.quality() => *known = copy,
        None if room => copies.push(copy),
        _ => {}
    }
}
