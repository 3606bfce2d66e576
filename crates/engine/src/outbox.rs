//! The downlinks waiting for one device, first in, first out.

use std::collections::VecDeque;
use std::fmt;

use lorawan::Eui64;

use crate::effect::{Change, DownlinkEvent, DownlinkStage, Effect, Event};

/// Transmissions tried before a downlink is given up.
pub const MAX_ATTEMPTS: u8 = 3;

/// Names a downlink in an outbox.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct OutboxId(pub u128);

/// A downlink to be sent.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct OutboxItem {
    /// Its name.
    pub id: OutboxId,
    /// FPort, 1 to 223.
    pub port: u8,
    /// The payload in the clear.
    pub payload: Vec<u8>,
    /// Whether the device is to acknowledge it.
    pub confirmed: bool,
    /// Transmissions tried so far.
    pub attempts: u8,
    /// Where it stands.
    pub state: OutboxState,
}

/// Where a downlink stands.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum OutboxState {
    /// In the outbox.
    Waiting(Wait),
    /// Handed to a gateway.
    UnderWay,
    /// Sent with this counter; the device has yet to acknowledge it.
    AwaitingAck(u32),
    /// A gateway sent it. Done, as no acknowledgement was asked for.
    Sent,
    /// The device acknowledged it. Done.
    Acknowledged,
    /// Given up, with the reason.
    Failed(String),
    /// Taken out before it was sent.
    Cancelled,
}

impl OutboxState {
    /// Whether nothing more will happen.
    pub const fn is_final(&self) -> bool {
        matches!(self, Self::Sent | Self::Acknowledged | Self::Failed(_) | Self::Cancelled)
    }
}

/// What a waiting downlink waits for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Wait {
    /// The device's join: there is no session to send it under.
    Join,
    /// The device's next uplink: a class A device listens only then (TS001 §3.3).
    NextUplink,
    /// A data rate at which the payload fits.
    SmallerThan {
        /// Bytes to be sent.
        len: usize,
        /// Bytes allowed in the largest window of the last uplink.
        max: usize,
    },
    /// The last try did not work out, for this reason; the device's next uplink gives another.
    Again(String),
}

impl Wait {
    /// Another try after the next uplink, with the reason why the last one did not work out.
    pub(crate) fn again(why: &str) -> Self {
        Wait::Again(format!("{why}; tried again after the device's next uplink"))
    }
}

impl fmt::Display for Wait {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Wait::Join => f.write_str("waits for the device to join: there is no session to send it under"),
            Wait::NextUplink => f.write_str("waits for the device's next uplink: a class A device listens only then"),
            Wait::SmallerThan { len, max } => write!(
                f,
                "{len} bytes do not fit: the data rate of the last uplink allows {max}; waits for a faster one"
            ),
            Wait::Again(why) => f.write_str(why),
        }
    }
}

#[derive(Debug, Default)]
pub(crate) struct Outbox {
    items: VecDeque<OutboxItem>,
}

impl Outbox {
    /// Puts items back as stored.
    pub(crate) fn restore(items: Vec<OutboxItem>) -> Self {
        Self { items: items.into() }
    }

    /// After a restart: one that was under way may or may not have been sent, and waits again; without a
    /// session all wait for the join.
    pub(crate) fn settle(&mut self, joined: bool, effects: &mut Vec<Effect>, dev_eui: Eui64) {
        for item in &mut self.items {
            let wait = match item.state {
                OutboxState::UnderWay => Wait::again("the service was restarted while it was under way"),
                OutboxState::Waiting(_) if !joined => Wait::Join,
                _ => continue,
            };
            let state = OutboxState::Waiting(wait);
            if item.state != state {
                item.state = state;
                effects.push(Effect::Persist(item.change(dev_eui)));
            }
        }
    }

    pub(crate) fn push(&mut self, item: OutboxItem, effects: &mut Vec<Effect>, dev_eui: Eui64) {
        effects.push(Effect::Persist(item.change(dev_eui)));
        self.items.push_back(item);
    }

    /// There is a session now: what waited for one waits for an uplink.
    pub(crate) fn joined(&mut self, effects: &mut Vec<Effect>, dev_eui: Eui64) {
        for item in self.items.iter_mut().filter(|i| i.state == OutboxState::Waiting(Wait::Join)) {
            item.state = OutboxState::Waiting(Wait::NextUplink);
            effects.push(Effect::Persist(item.change(dev_eui)));
        }
    }

    /// Whether something waits to be sent.
    pub(crate) fn waiting(&self) -> usize {
        self.items.iter().filter(|i| matches!(i.state, OutboxState::Waiting(_))).count()
    }

    pub(crate) fn next_waiting(&mut self) -> Option<&mut OutboxItem> {
        self.items.iter_mut().find(|i| matches!(i.state, OutboxState::Waiting(_)))
    }

    pub(crate) fn awaiting_ack(&self) -> Option<(OutboxId, u32)> {
        self.items.iter().find_map(|i| match i.state {
            OutboxState::AwaitingAck(counter) => Some((i.id, counter)),
            _ => None,
        })
    }

    pub(crate) fn get_mut(&mut self, id: OutboxId) -> Option<&mut OutboxItem> {
        self.items.iter_mut().find(|i| i.id == id)
    }

    pub(crate) fn cancel(&mut self, id: OutboxId, effects: &mut Vec<Effect>, dev_eui: Eui64) {
        if let Some(item) = self.get_mut(id)
            && matches!(item.state, OutboxState::Waiting(_))
        {
            self.advance(id, OutboxState::Cancelled, effects, dev_eui);
        }
    }

    /// Moves an item on, says so to the store, and lets it go when it is done.
    pub(crate) fn advance(&mut self, id: OutboxId, state: OutboxState, effects: &mut Vec<Effect>, dev_eui: Eui64) {
        let Some(item) = self.get_mut(id) else { return };
        item.state = state;
        effects.push(Effect::Persist(item.change(dev_eui)));
        self.items.retain(|i| !i.state.is_final());
    }

    /// After a try that did not work out: wait for the next uplink, or give up.
    pub(crate) fn return_or_fail(&mut self, id: OutboxId, why: &str, effects: &mut Vec<Effect>, dev_eui: Eui64) {
        let Some(item) = self.get_mut(id) else { return };
        let data = Some((item.port, item.payload.clone()));
        let (state, stage) = if item.attempts >= MAX_ATTEMPTS {
            let why = format!("given up after {MAX_ATTEMPTS} attempts: {why}");
            (OutboxState::Failed(why.clone()), DownlinkStage::Failed(why))
        } else {
            (OutboxState::Waiting(Wait::again(why)), DownlinkStage::Returned(why.to_owned()))
        };
        self.advance(id, state, effects, dev_eui);
        effects.push(Effect::Publish(Event::Downlink(Box::new(DownlinkEvent {
            outbox_id: Some(id),
            data,
            ..DownlinkEvent::off_air(dev_eui, stage)
        }))));
    }

    /// The device acknowledged an item that was sent with this counter.
    pub(crate) fn acknowledged(&mut self, id: OutboxId, counter: u32, effects: &mut Vec<Effect>, dev_eui: Eui64) {
        let data = self.get_mut(id).map(|item| (item.port, item.payload.clone()));
        self.advance(id, OutboxState::Acknowledged, effects, dev_eui);
        effects.push(Effect::Publish(Event::Downlink(Box::new(DownlinkEvent {
            outbox_id: Some(id),
            counter: Some(counter),
            data,
            ..DownlinkEvent::off_air(dev_eui, DownlinkStage::Acknowledged)
        }))));
    }
}

impl OutboxItem {
    fn change(&self, dev_eui: Eui64) -> Change {
        Change::Outbox { dev_eui, id: self.id, state: self.state.clone(), attempts: self.attempts }
    }
}
