//! Collecting the copies of one frame that several gateways heard.
//!
//! The first copy opens a window; when it closes, the frame is processed once with all copies. For a
//! while after, the frame is remembered, so that a copy that comes late over a slow link is not taken
//! for a replay.

use std::hash::{BuildHasher as _, RandomState};

use lorawan::{Eui64, airtime};
use rustc_hash::FxHashMap;

use crate::io::event::{Dropped, Event, HeardFrame, RefusedEvent};
use crate::io::frame::{FrameHeard, Radio, Reception};
use crate::time::Timestamp;
use crate::uplink::refusal::Refusal;

/// How long a processed frame is remembered. Shorter than the time after which a device may repeat
/// it: a repetition comes only after its second receive window, 2 s after the uplink at the soonest.
pub(crate) const REMEMBERED_US: i64 = 1_300_000;
/// Room made for the copies of a frame at once.
const USUAL_COPIES: usize = 4;
/// Copies kept of one frame.
const MAX_COPIES: usize = 64;
/// Frames under collection or remembered at a time: a bound on memory. At 1.5 s each this is more than
/// 130,000 frames a second, and long before that the queue in front of the engine is full and counts.
const MAX_FRAMES: usize = 200_000;

/// A frame with all its copies, the best one first.
#[derive(Debug, Clone)]
pub(crate) struct Collected {
    pub(crate) phy_payload: Vec<u8>,
    pub(crate) copies: Vec<Reception>,
}

impl Collected {
    /// The copy that counts: the one with the best signal.
    pub(crate) fn best(&self) -> &Reception {
        &self.copies[0]
    }

    /// The event for a frame that is not accepted.
    pub(crate) fn refused(&self, dev_eui: Option<Eui64>, reason: Refusal) -> Event {
        Event::Refused(RefusedEvent { dev_eui, reason, frame: self.told() })
    }

    /// The frame as events carry it.
    pub(crate) fn told(&self) -> HeardFrame {
        HeardFrame {
            phy_payload: self.phy_payload.clone(),
            radio: self.radio(),
            airtime_us: self.airtime_us(),
            heard_by: self.copies.clone(),
        }
    }

    /// Time on air, as an uplink.
    pub(crate) fn airtime_us(&self) -> u64 {
        airtime::uplink_us(self.best().modulation, self.phy_payload.len())
    }

    /// When the first copy came in.
    pub(crate) fn first_heard(&self) -> Timestamp {
        self.copies.iter().map(|copy| copy.heard_at).min().unwrap_or_default()
    }

    pub(crate) fn radio(&self) -> Radio {
        let best = self.best();
        Radio { frequency_hz: best.frequency_hz, modulation: best.modulation }
    }
}

/// What a copy led to.
#[derive(Debug)]
pub(crate) enum Added {
    /// It is the first: a new collection.
    First(u64),
    /// One more.
    Another,
    /// There is no room for it.
    Dropped(Dropped),
    /// It came after the frame of this device was processed.
    Late { of: Eui64, late_us: i64, copy: Reception },
}

#[derive(Debug)]
enum Slot {
    Collecting(Collected),
    Processed { first_heard: Timestamp, of: Option<Eui64> },
}

/// Frames by a keyed hash of their bytes: 64 bits that nobody outside can aim at, so two frames do not meet
/// in one by intent, and by chance not in the lifetime of the universe. The bytes themselves need not be kept
/// to know a frame again.
#[derive(Debug, Default)]
pub(crate) struct Collector {
    hasher: RandomState,
    slots: FxHashMap<u64, Slot>,
}

impl Collector {
    /// Adds a copy.
    pub(crate) fn add(&mut self, frame: FrameHeard) -> Added {
        let key = self.hasher.hash_one(&frame.phy_payload);
        match self.slots.get_mut(&key) {
            Some(Slot::Collecting(collected)) => {
                return match add_copy(&mut collected.copies, frame.reception) {
                    true => Added::Another,
                    false => Added::Dropped(Dropped::TooManyCopies),
                };
            }
            Some(Slot::Processed { first_heard, of }) => {
                let Some(of) = *of else { return Added::Another };
                let late_us = frame.reception.heard_at.since(*first_heard);
                return Added::Late { of, late_us, copy: frame.reception };
            }
            None => {}
        }
        if self.slots.len() >= MAX_FRAMES {
            return Added::Dropped(Dropped::TooManyFrames);
        }
        let mut copies = Vec::with_capacity(USUAL_COPIES);
        copies.push(frame.reception);
        self.slots.insert(key, Slot::Collecting(Collected { phy_payload: frame.phy_payload, copies }));
        Added::First(key)
    }

    /// Closes a collection and hands it over, best copy first.
    pub(crate) fn take(&mut self, key: u64) -> Option<Collected> {
        let slot = self.slots.get_mut(&key)?;
        let Slot::Collecting(collected) = slot else { return None };
        let processed = Slot::Processed { first_heard: collected.first_heard(), of: None };
        let Slot::Collecting(mut collected) = std::mem::replace(slot, processed) else { return None };
        collected.copies.sort_by(|a, b| b.quality().total_cmp(&a.quality()));
        Some(collected)
    }

    /// Notes the device that sent the frame.
    pub(crate) fn belongs_to(&mut self, key: u64, dev_eui: Eui64) {
        if let Some(Slot::Processed { of, .. }) = self.slots.get_mut(&key) {
            *of = Some(dev_eui);
        }
    }

    /// The clock was set by this much.
    pub(crate) fn shift(&mut self, by_us: i64) {
        for slot in self.slots.values_mut() {
            match slot {
                Slot::Collecting(frame) => {
                    frame.copies.iter_mut().for_each(|copy| copy.heard_at = copy.heard_at.plus_us(by_us));
                }
                Slot::Processed { first_heard, .. } => *first_heard = first_heard.plus_us(by_us),
            }
        }
    }

    pub(crate) fn forget(&mut self, key: u64) {
        self.slots.remove(&key);
    }
}

/// One copy a gateway: a strong signal also shows up faintly on neighbouring channels. Returns whether there was room.
fn add_copy(copies: &mut Vec<Reception>, copy: Reception) -> bool {
    let room = copies.len() < MAX_COPIES;
    match copies.iter_mut().find(|known| known.gateway == copy.gateway) {
        Some(known) if copy.quality() > known.quality() => *known = copy,
        Some(_) => {}
        None if room => copies.push(copy),
        None => return false,
    }
    true
}
