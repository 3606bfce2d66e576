//! Downlinks to devices that listen without having sent: class C at once, class B in the next ping slot.
//!
//! Nothing here waits by itself. Whenever something may have become possible (a downlink is put in, one has
//! gone out, airtime comes back), the outbox is looked at.

use lorawan::Eui64;

use crate::device::profile::Class;
use crate::downlink::candidate::{Candidate, Channel, LEAD_US};
use crate::downlink::frame::label;
use crate::downlink::item::{OutboxId, Wait};
use crate::downlink::schedule;
use crate::downlink::schedule::{HEADER_LEN, NoWay, SLOT_AHEAD_US};
use crate::io::Effect;
use crate::time::Timestamp;
use crate::{Engine, Timer};

/// After a try that did not work out, the next comes so much later.
const TRY_AGAIN_US: i64 = 2_000_000;

impl Engine {
    /// Looks at a device's outbox at a time, unless it is looked at before.
    pub(crate) fn look_at(&mut self, dev_eui: Eui64, at: Timestamp) {
        let Some(device) = self.devices.get_mut(&dev_eui) else { return };
        if device.looks_at.is_none_or(|known| at < known) {
            device.looks_at = Some(at);
            self.timers.set(at, Timer::LookAtOutbox(dev_eui));
        }
    }

    /// At a later time than this, however little.
    pub(crate) fn look_soon(&mut self, now: Timestamp, dev_eui: Eui64) {
        let Some(device) = self.devices.get(&dev_eui) else { return };
        if device.class() != Class::A && device.outbox.next_waiting().is_some() {
            self.look_at(dev_eui, now.plus_us(1));
        }
    }

    pub(crate) fn look_later(&mut self, now: Timestamp, dev_eui: Eui64) {
        if self.devices.get(&dev_eui).is_some_and(|device| device.class() != Class::A) {
            self.look_at(dev_eui, now.plus_us(TRY_AGAIN_US));
        }
    }

    pub(crate) fn time_to_look(&mut self, now: Timestamp, dev_eui: Eui64, effects: &mut Vec<Effect>) {
        if let Some(device) = self.devices.get_mut(&dev_eui).filter(|d| d.looks_at.is_some_and(|at| at <= now)) {
            device.looks_at = None;
            self.look_at_outbox(now, dev_eui, effects);
        }
    }

    /// Sends what waits for a device of class B or C, if that is possible now.
    pub(crate) fn look_at_outbox(&mut self, now: Timestamp, dev_eui: Eui64, effects: &mut Vec<Effect>) {
        let Some(device) = self.devices.get(&dev_eui) else { return };
        let (class, Some(session)) = (device.class(), device.session.as_deref()) else { return };
        // Until the first uplink the device may not have the session (TS001-1.0.4 §16: no downlink before it).
        if device.unserved(false).is_some()
            || class == Class::A
            || session.counters.up.is_none()
            || device.outbox.next_waiting().is_none()
        {
            return;
        }
        if device.on_air_until > now {
            let until = device.on_air_until;
            return self.look_at(dev_eui, until);
        }
        let settings = session.settings;
        let dev_addr = session.dev_addr;
        let plan = device.config.plan();
        let near = device.link.as_ref().map_or(&[][..], |link| &link.near);
        let (candidates, room) = match class {
            Class::C => {
                let dwell_time = settings.downlink_dwell_time;
                let Some(channel) = Channel::of(plan, settings.rx2_frequency_hz, settings.rx2_data_rate, dwell_time)
                else {
                    return;
                };
                let len = device.outbox.next_waiting().map_or(0, |item| HEADER_LEN + 1 + item.payload.len());
                (schedule::at_once(channel, near, &self.gateways, now, len), channel.max_payload)
            }
            _ => {
                let slots = schedule::ping_slots(plan, &settings, dev_addr, near, now);
                let room = slots.iter().map(|c| c.max_payload).max().unwrap_or(0);
                (slots, room)
            }
        };
        if candidates.is_empty() {
            self.wait_for(dev_eui, Wait::Gateway, effects);
            return;
        }
        let Some(item) = self.next_item(now, dev_eui, room, effects) else {
            self.look_when_policy_allows(dev_eui);
            return;
        };
        // A gateway that is busy now is free at a time that is known, and a slot further off has time yet: until then, an
        // answer to an uplink may have to go first.
        let ahead_us = if class == Class::C { LEAD_US } else { SLOT_AHEAD_US };
        let (ready, later): (Vec<Candidate>, Vec<Candidate>) =
            candidates.into_iter().partition(|c| c.at.since(now) <= ahead_us);
        let next_try = later.iter().map(|c| c.at.plus_us(-ahead_us)).min();
        if let (true, Class::B, Some(at)) = (ready.is_empty(), class, next_try) {
            return self.look_at(dev_eui, at.max(now.plus_us(1)));
        }
        match self.send_unasked(now, dev_eui, &item, ready, effects) {
            Ok(()) => {}
            Err(NoWay::Airtime { sub_band, until }) => {
                self.wait_for(dev_eui, Wait::Airtime { sub_band, until }, effects);
                // Another gateway may have airtime left, once it is free.
                let free = next_try.filter(|_| class == Class::C);
                self.look_at(dev_eui, free.map_or(until, |at| at.min(until)).max(now.plus_us(1)));
            }
            Err(why) => {
                let wait = if later.is_empty() { Wait::again(&label(&why), class) } else { Wait::Gateway };
                self.wait_for(dev_eui, wait, effects);
                let again_at = now.plus_us(TRY_AGAIN_US);
                self.look_at(dev_eui, next_try.map_or(again_at, |at| at.clamp(now.plus_us(1), again_at)));
            }
        }
    }

    fn wait_for(&mut self, dev_eui: Eui64, wait: Wait, effects: &mut Vec<Effect>) {
        let Some(device) = self.devices.get_mut(&dev_eui) else { return };
        if let Some(id) = device.outbox.next_waiting().map(|item| item.id) {
            device.outbox.waits(id, wait, effects, dev_eui);
        }
    }

    fn look_when_policy_allows(&mut self, dev_eui: Eui64) {
        let waits = self.devices.get(&dev_eui).and_then(|device| device.outbox.next_waiting().map(|i| i.state.clone()));
        if let Some(crate::downlink::item::OutboxState::Waiting(Wait::Policy { until, .. })) = waits {
            self.look_at(dev_eui, until);
        }
    }

    /// The device had its time to acknowledge a downlink of class B or C.
    pub(crate) fn ack_overdue(
        &mut self,
        now: Timestamp,
        dev_eui: Eui64,
        id: OutboxId,
        counter: u32,
        effects: &mut Vec<Effect>,
    ) {
        let Some(device) = self.devices.get_mut(&dev_eui) else { return };
        if device.outbox.awaiting_ack() != Some((id, counter)) {
            return;
        }
        let (class, profile) = (device.class(), &device.config.profile);
        let why = format!("no acknowledgement within {} s", profile.ack_timeout_s);
        device.outbox.return_or_fail(id, &why, profile.attempts, class, effects, dev_eui);
        self.look_at_outbox(now, dev_eui, effects);
    }
}
