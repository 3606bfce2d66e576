//! One step of an engine: its time and its effects.

use lorawan::Eui64;

use crate::io::Effect;
use crate::io::change::Change;
use crate::io::event::Event;
use crate::io::transmission::Transmission;
use crate::notice::Notice;
use crate::time::Timestamp;

/// The effects of one input, in order.
pub(crate) struct Step<'a> {
    pub(crate) now: Timestamp,
    effects: &'a mut Vec<Effect>,
}

impl<'a> Step<'a> {
    pub(crate) fn new(now: Timestamp, effects: &'a mut Vec<Effect>) -> Self {
        Self { now, effects }
    }

    /// To be durable before anything that is added after it takes place.
    pub(crate) fn persist(&mut self, change: Change) {
        self.effects.push(Effect::Persist(change));
    }

    pub(crate) fn transmit(&mut self, transmission: Transmission) {
        self.effects.push(Effect::Transmit(transmission));
    }

    pub(crate) fn publish(&mut self, event: Event) {
        self.effects.push(Effect::Publish(event));
    }

    /// Publishes something worth knowing about a device or a group.
    pub(crate) fn tell(&mut self, eui: Eui64, notice: Notice) {
        self.publish(Event::Notice { dev_eui: eui, at: self.now, notice: Box::new(notice) });
    }
}
