//! Downlinks to devices that listen without an uplink before: class C at once, class B in the next ping slot.
//!
//! Nothing here waits by itself. Whenever something may have become possible (a downlink is added, one has
//! gone out, airtime comes back), the outbox is looked at.

use lorawan::Eui64;

use crate::device::Device;
use crate::device::profile::Class;
use crate::device::session::Session;
use crate::downlink::candidate::{Candidate, Channel, LEAD_US};
use crate::downlink::frame::{Content, label};
use crate::downlink::item::{OutboxId, Wait};
use crate::downlink::reply::Commands;
use crate::downlink::schedule;
use crate::downlink::schedule::{HEADER_LEN, NoWay, SLOT_AHEAD_US};
use crate::step::Step;
use crate::time::Timestamp;
use crate::{Engine, Timer};

/// The ways to a device that listens without an uplink before (class B or C).
struct Listening {
    candidates: Vec<Candidate>,
    /// The largest payload that one of them takes.
    room: usize,
}

/// The pause between a failed try and the next one.
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

    /// The next moment after this time.
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

    pub(crate) fn time_to_look(&mut self, step: &mut Step<'_>, dev_eui: Eui64) {
        if let Some(device) = self.devices.get_mut(&dev_eui).filter(|d| d.looks_at.is_some_and(|at| at <= step.now)) {
            device.looks_at = None;
            self.look_at_outbox(step, dev_eui);
        }
    }

    /// Sends what waits for a device of class B or C, if that is possible now.
    pub(crate) fn look_at_outbox(&mut self, step: &mut Step<'_>, dev_eui: Eui64) {
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
        if device.on_air_until > step.now {
            let until = device.on_air_until;
            return self.look_at(dev_eui, until);
        }
        let Some(Listening { candidates, room }) = self.listening(step.now, device, session) else { return };
        if candidates.is_empty() {
            self.wait_for(step, dev_eui, Wait::Gateway);
            return;
        }
        let Some(item) = self.next_item(step, dev_eui, room) else {
            self.look_when_policy_allows(dev_eui);
            return;
        };
        // A gateway that is busy now is free at a time that is known, and a slot further off has time yet: until then,
        // an answer to an uplink may have to go first.
        let ahead_us = if class == Class::C { LEAD_US } else { SLOT_AHEAD_US };
        let (ready, later): (Vec<Candidate>, Vec<Candidate>) =
            candidates.into_iter().partition(|c| c.at.since(step.now) <= ahead_us);
        let next_try = later.iter().map(|c| c.at.plus_us(-ahead_us)).min();
        if let (true, Class::B, Some(at)) = (ready.is_empty(), class, next_try) {
            return self.look_at(dev_eui, at.max(step.now.plus_us(1)));
        }
        let mac = Commands::default();
        if let Err(why) = self.send_data(step, dev_eui, Content { item: Some(&item), acknowledge: false, mac }, ready) {
            self.try_later(step, dev_eui, &why, next_try);
        }
    }

    /// Where and when a device of class B or C listens; nothing if its settings name no channel that may be used.
    fn listening(&self, now: Timestamp, device: &Device, session: &Session) -> Option<Listening> {
        let settings = &session.settings;
        let plan = device.config.plan();
        let near = device.link.as_ref().map_or(&[][..], |link| &link.near);
        if device.class() == Class::C {
            let (hz, rate) = (settings.rx2_frequency_hz, settings.rx2_data_rate);
            let channel = Channel::of(plan, hz, rate, settings.downlink_dwell_time)?;
            let len = device.outbox.next_waiting().map_or(0, |item| HEADER_LEN + 1 + item.payload.len());
            let candidates = schedule::at_once(channel, near, &self.gateways, now, len);
            return Some(Listening { candidates, room: channel.max_payload });
        }
        let candidates = schedule::ping_slots(plan, settings, session.dev_addr, near, now);
        let room = candidates.iter().map(|c| c.max_payload).max().unwrap_or(0);
        Some(Listening { candidates, room })
    }

    /// Nobody could send now: says what the downlink waits for, and looks again when that may have changed. `free_at`
    /// is when a gateway that is busy now has time again.
    fn try_later(&mut self, step: &mut Step<'_>, dev_eui: Eui64, why: &NoWay, free_at: Option<Timestamp>) {
        let Some(class) = self.devices.get(&dev_eui).map(|device| device.class()) else { return };
        let (soonest, again_at) = (step.now.plus_us(1), step.now.plus_us(TRY_AGAIN_US));
        if let NoWay::Airtime { sub_band, until } = *why {
            self.wait_for(step, dev_eui, Wait::Airtime { sub_band, until });
            // Another gateway may have airtime left, once it is free.
            let free = free_at.filter(|_| class == Class::C);
            return self.look_at(dev_eui, free.map_or(until, |at| at.min(until)).max(soonest));
        }
        let wait = if free_at.is_none() { Wait::again(&label(why), class) } else { Wait::Gateway };
        self.wait_for(step, dev_eui, wait);
        self.look_at(dev_eui, free_at.map_or(again_at, |at| at.clamp(soonest, again_at)));
    }

    fn wait_for(&mut self, step: &mut Step<'_>, dev_eui: Eui64, wait: Wait) {
        let Some(device) = self.devices.get_mut(&dev_eui) else { return };
        if let Some(id) = device.outbox.next_waiting().map(|item| item.id) {
            device.outbox.waits(step, id, wait);
        }
    }

    fn look_when_policy_allows(&mut self, dev_eui: Eui64) {
        let waits = self.devices.get(&dev_eui).and_then(|device| device.outbox.next_waiting().map(|i| i.state.clone()));
        if let Some(crate::downlink::item::OutboxState::Waiting(Wait::Policy { until, .. })) = waits {
            self.look_at(dev_eui, until);
        }
    }

    /// The device had its time to acknowledge a downlink of class B or C.
    pub(crate) fn ack_overdue(&mut self, step: &mut Step<'_>, dev_eui: Eui64, id: OutboxId, counter: u32) {
        let Some(device) = self.devices.get_mut(&dev_eui) else { return };
        if device.outbox.awaiting_ack() != Some((id, counter)) {
            return;
        }
        let (class, profile) = (device.class(), &device.config.profile);
        let why = format!("no acknowledgement within {} s", profile.ack_timeout_s);
        device.outbox.return_or_fail(step, id, &why, profile.attempts, class);
        self.look_at_outbox(step, dev_eui);
    }
}
