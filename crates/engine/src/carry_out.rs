//! Carrying out commands: devices, gateways and downlinks that are put in, changed and taken away.

use lorawan::Eui64;

use crate::device::Device;
use crate::device::profile::Class;
use crate::device::session::Session;
use crate::downlink::item::{OutboxItem, OutboxState, Wait};
use crate::gateway::Gateway;
use crate::io::Effect;
use crate::io::change::Change;
use crate::io::command::Command;
use crate::io::config::{DeviceConfig, DeviceRecord};
use crate::ledger::{Transmitter, Used};
use crate::time::Timestamp;
use crate::{Engine, Timer};

impl Engine {
    pub(crate) fn command(&mut self, now: Timestamp, command: Command, effects: &mut Vec<Effect>) {
        match command {
            Command::ProcessedUntil(until) => self.processed_until = until,
            Command::FramesAreNew => self.frames_are_new(effects),
            Command::ClockStepped { by_us } => self.clock_stepped(now, by_us, effects),
            Command::Quarantine(dev_eui) => {
                self.devices.get_mut(&dev_eui).into_iter().for_each(|device| device.quarantined = true);
            }
            Command::PutGateway(config) => {
                let eui = config.eui;
                self.estates.see(config.estate);
                match self.gateways.get_mut(&eui) {
                    Some(gateway) => gateway.config = config,
                    None => {
                        self.gateways.insert(eui, Gateway::new(config));
                    }
                }
                self.plan_beacon(now, eui);
            }
            Command::ForgetRefusals { gateway } => {
                self.gateways.get_mut(&gateway).into_iter().for_each(Gateway::forget_refusals);
            }
            Command::RemoveGateway(eui) => {
                self.gateways.remove(&eui);
            }
            Command::PutDevice(config) => self.put_device(now, *config, effects),
            Command::RestoreDevice(record) => self.restore(now, *record, effects),
            Command::RemoveDevice(dev_eui) => {
                self.detach(dev_eui);
                self.devices.remove(&dev_eui);
                self.leave_groups(now, dev_eui, effects);
            }
            Command::Forget { dev_eui, nonces } => self.forget(now, dev_eui, nonces, effects),
            Command::SetCounters { dev_eui, up, next_down } => self.set_counters(dev_eui, up, next_down, effects),
            Command::RestoreAirtime { transmitter, sub_band, minute, used } => {
                self.restore_airtime(now, transmitter, &sub_band, minute, used);
            }
            Command::Enqueue { dev_eui, item } => self.enqueue(now, dev_eui, item, effects),
            Command::Arrange { dev_eui, id, to } => {
                if let Some(device) = self.devices.get_mut(&dev_eui) {
                    device.outbox.arrange(id, to, effects, dev_eui);
                    self.look_at_outbox(now, dev_eui, effects);
                }
                self.arrange_for_group(dev_eui, id, to, effects);
            }
            Command::Cancel { dev_eui, id } => {
                if let Some(device) = self.devices.get_mut(&dev_eui) {
                    device.outbox.cancel(id, effects, dev_eui);
                    self.look_at_outbox(now, dev_eui, effects);
                }
                self.cancel_for_group(dev_eui, id, effects);
            }
            Command::PutGroup { config, next_down, outbox } => self.put_group(now, *config, next_down, outbox, effects),
            Command::RemoveGroup(group) => {
                self.groups.remove(&group);
            }
        }
    }

    fn enqueue(&mut self, now: Timestamp, dev_eui: Eui64, mut item: OutboxItem, effects: &mut Vec<Effect>) {
        let Some(device) = self.devices.get_mut(&dev_eui) else {
            return self.enqueue_for_group(now, dev_eui, item, effects);
        };
        item.state = OutboxState::Waiting(Wait::first(device.sessions().next().is_some(), device.class()));
        self.timers.expiry(dev_eui, &item);
        device.outbox.push(item, effects, dev_eui);
        self.look_at_outbox(now, dev_eui, effects);
    }

    /// A new device, or new settings for a known one, whose session goes on as long as it still can.
    fn put_device(&mut self, now: Timestamp, config: DeviceConfig, effects: &mut Vec<Effect>) {
        let dev_eui = config.dev_eui;
        let Some(device) = self.devices.get_mut(&dev_eui) else {
            return self.restore(now, DeviceRecord::new(config), effects);
        };
        let before = std::mem::replace(&mut device.config, config);
        if before.activation != device.config.activation {
            self.detach(dev_eui);
            if let Some(device) = self.devices.get_mut(&dev_eui) {
                (device.session, device.next_session) = (None, None);
                self.personalize(now, dev_eui, effects);
            }
        } else if before.profile != device.config.profile
            && let Some(link) = device.link.as_deref_mut()
        {
            // What was refused under the profile before may be asked anew.
            link.negotiation.reset();
            link.history.clear();
        }
        self.look_at_outbox(now, dev_eui, effects);
    }

    fn restore(&mut self, now: Timestamp, record: DeviceRecord, effects: &mut Vec<Effect>) {
        let dev_eui = record.config.dev_eui;
        self.estates.see(record.config.estate);
        self.detach(dev_eui);
        for item in &record.outbox {
            self.timers.expiry(dev_eui, item);
        }
        self.devices.insert(dev_eui, Box::new(Device::from_record(now, record)));
        self.personalize(now, dev_eui, effects);
        self.attach(dev_eui);
        if let Some(device) = self.devices.get_mut(&dev_eui) {
            let (joined, class) = (device.sessions().next().is_some(), device.class());
            device.outbox.settle(joined, class, effects, dev_eui);
            if let Some((id, counter)) = device.outbox.awaiting_ack()
                && class != Class::A
            {
                self.timers.set(device.ack_overdue_at(now), Timer::AckOverdue(dev_eui, id, counter));
            }
        }
        self.look_soon(now, dev_eui);
    }

    /// Ends a device's sessions. What was under way in them returns to its outbox.
    fn forget(&mut self, now: Timestamp, dev_eui: Eui64, nonces: bool, effects: &mut Vec<Effect>) {
        self.detach(dev_eui);
        let Some(device) = self.devices.get_mut(&dev_eui) else { return };
        (device.session, device.next_session) = (None, None);
        if nonces {
            device.nonces.used_dev_nonces.clear();
        }
        if let Some((id, _)) = device.outbox.awaiting_ack() {
            let (attempts, class) = (device.config.profile.attempts, device.class());
            device.outbox.return_or_fail(id, "its session was ended", attempts, class, effects, dev_eui);
        }
        if let Some(link) = device.link.as_deref_mut() {
            link.negotiation.reset();
            link.history.clear();
            link.decision = None;
        }
        effects.push(Effect::Persist(Change::Ended { dev_eui, nonces }));
        self.personalize(now, dev_eui, effects);
    }

    fn set_counters(
        &mut self,
        dev_eui: Eui64,
        up: Option<Option<u32>>,
        next_down: Option<u32>,
        effects: &mut Vec<Effect>,
    ) {
        let session = self.devices.get_mut(&dev_eui).and_then(|device| device.session.as_deref_mut());
        let Some(session) = session else { return };
        session.counters.up = up.unwrap_or(session.counters.up);
        session.counters.next_down = next_down.unwrap_or(session.counters.next_down);
        effects.push(Effect::Persist(Change::Counters { dev_eui, counters: session.counters }));
    }

    /// Gives a personalized device the session it was registered with, unless it runs already.
    fn personalize(&mut self, now: Timestamp, dev_eui: Eui64, effects: &mut Vec<Effect>) {
        let Some(device) = self.devices.get_mut(&dev_eui) else { return };
        let Some(session) = device.config.personal_session(now) else { return };
        let same = |running: &Session| (running.dev_addr, running.keys) == (session.dev_addr, session.keys);
        if device.session.as_deref().is_some_and(same) {
            return;
        }
        effects.push(Effect::Persist(Change::Session { dev_eui, session: Box::new(session.clone()), begun: true }));
        device.session = Some(Box::new(session));
        self.attach(dev_eui);
    }

    fn restore_airtime(&mut self, now: Timestamp, whose: Transmitter, sub_band: &str, minute: i64, used: Used) {
        let (ledger, plan) = match whose {
            Transmitter::Gateway(eui) => match self.gateways.get_mut(&eui) {
                Some(gateway) => (&mut gateway.ledger, gateway.config.region.plan()),
                None => return,
            },
            Transmitter::Device(eui) | Transmitter::Towards(eui) => match self.devices.get_mut(&eui) {
                Some(device) => {
                    let plan = device.config.plan();
                    let own = matches!(whose, Transmitter::Device(_));
                    (if own { &mut device.ledger } else { &mut device.towards }, plan)
                }
                None => return,
            },
        };
        // A band that the region no longer has sets no limit any more either.
        if let Some(band) = plan.sub_bands.iter().find(|band| band.name == sub_band) {
            ledger.restore(band.name, now, minute, used);
        }
    }

    /// Puts the device's sessions into the index by address.
    pub(crate) fn attach(&mut self, dev_eui: Eui64) {
        let Some(device) = self.devices.get(&dev_eui) else { return };
        for dev_addr in device.sessions().map(|session| session.dev_addr) {
            let sharing = self.by_addr.entry(dev_addr).or_default();
            if !sharing.contains(&dev_eui) {
                sharing.push(dev_eui);
            }
        }
    }

    /// Takes the device out of the index by address.
    pub(crate) fn detach(&mut self, dev_eui: Eui64) {
        let Some(device) = self.devices.get(&dev_eui) else { return };
        for dev_addr in device.sessions().map(|session| session.dev_addr) {
            if let Some(sharing) = self.by_addr.get_mut(&dev_addr) {
                sharing.retain(|other| *other != dev_eui);
                if sharing.is_empty() {
                    self.by_addr.remove(&dev_addr);
                }
            }
        }
    }
}
