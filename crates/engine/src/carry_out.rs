//! Carries out commands: adds, changes and removes devices, gateways and downlinks.

use lorawan::Eui64;

use crate::device::Device;
use crate::device::profile::Class;
use crate::device::session::Session;
use crate::downlink::item::{OutboxItem, OutboxState, Wait};
use crate::gateway::Gateway;
use crate::io::change::Change;
use crate::io::command::Command;
use crate::io::config::{DeviceConfig, DeviceRecord};
use crate::ledger::{Transmitter, Used};
use crate::step::Step;
use crate::time::Timestamp;
use crate::{Engine, Timer};

impl Engine {
    pub(crate) fn command(&mut self, step: &mut Step<'_>, command: Command) {
        match command {
            Command::ProcessedUntil(until) => self.processed_until = until,
            Command::FramesAreNew => self.frames_are_new(step),
            Command::ClockStepped { by_us } => self.clock_stepped(step, by_us),
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
                self.plan_beacon(step.now, eui);
            }
            Command::ForgetRefusals { gateway } => {
                self.gateways.get_mut(&gateway).into_iter().for_each(Gateway::forget_refusals);
            }
            Command::RemoveGateway(eui) => {
                self.gateways.remove(&eui);
            }
            Command::PutDevice(config) => self.put_device(step, *config),
            Command::RestoreDevice(record) => self.restore(step, *record),
            Command::RemoveDevice(dev_eui) => {
                self.detach(dev_eui);
                self.devices.remove(&dev_eui);
                self.leave_groups(step, dev_eui);
            }
            Command::Forget { dev_eui, nonces } => self.forget(step, dev_eui, nonces),
            Command::SetCounters { dev_eui, up, next_down } => self.set_counters(step, dev_eui, up, next_down),
            Command::RestoreAirtime { transmitter, sub_band, minute, used } => {
                self.restore_airtime(step.now, transmitter, &sub_band, minute, used);
            }
            Command::Enqueue { dev_eui, item } => self.enqueue(step, dev_eui, item),
            Command::Arrange { dev_eui, id, to } => {
                if let Some(outbox) = self.outbox_mut(dev_eui) {
                    outbox.arrange(step, id, to);
                }
                self.look_at_outbox(step, dev_eui);
            }
            Command::Cancel { dev_eui, id } => {
                if let Some(outbox) = self.outbox_mut(dev_eui) {
                    outbox.cancel(step, id);
                }
                self.look_at_outbox(step, dev_eui);
            }
            Command::PutGroup { config, next_down, outbox } => self.put_group(step, *config, next_down, outbox),
            Command::RemoveGroup(group) => {
                self.groups.remove(&group);
            }
        }
    }

    fn enqueue(&mut self, step: &mut Step<'_>, dev_eui: Eui64, mut item: OutboxItem) {
        let Some(device) = self.devices.get_mut(&dev_eui) else {
            return self.enqueue_for_group(step, dev_eui, item);
        };
        item.state = OutboxState::Waiting(Wait::first(device.sessions().next().is_some(), device.class()));
        self.timers.expiry(dev_eui, &item);
        device.outbox.push(step, item);
        self.look_at_outbox(step, dev_eui);
    }

    /// A new device, or new settings for a known one, whose session goes on as long as it still can.
    fn put_device(&mut self, step: &mut Step<'_>, config: DeviceConfig) {
        let dev_eui = config.dev_eui;
        let Some(device) = self.devices.get_mut(&dev_eui) else {
            return self.restore(step, DeviceRecord::new(config));
        };
        let before = std::mem::replace(&mut device.config, config);
        if before.activation != device.config.activation {
            self.detach(dev_eui);
            if let Some(device) = self.devices.get_mut(&dev_eui) {
                (device.session, device.next_session) = (None, None);
                self.personalize(step, dev_eui);
            }
        } else if before.profile != device.config.profile
            && let Some(link) = device.link.as_deref_mut()
        {
            // What was refused under the profile before may be asked again.
            link.negotiation.reset();
            link.history.clear();
        }
        self.look_at_outbox(step, dev_eui);
    }

    fn restore(&mut self, step: &mut Step<'_>, record: DeviceRecord) {
        let dev_eui = record.config.dev_eui;
        self.estates.see(record.config.estate);
        self.detach(dev_eui);
        for item in &record.outbox {
            self.timers.expiry(dev_eui, item);
        }
        self.devices.insert(dev_eui, Box::new(Device::from_record(step.now, record)));
        self.personalize(step, dev_eui);
        self.attach(dev_eui);
        if let Some(device) = self.devices.get_mut(&dev_eui) {
            let (joined, class) = (device.sessions().next().is_some(), device.class());
            device.outbox.settle(step, joined, class);
            if let Some((id, counter)) = device.outbox.awaiting_ack()
                && class != Class::A
            {
                self.timers.set(device.ack_overdue_at(step.now), Timer::AckOverdue(dev_eui, id, counter));
            }
        }
        self.look_soon(step.now, dev_eui);
    }

    /// Ends a device's sessions. What was under way in them returns to its outbox.
    fn forget(&mut self, step: &mut Step<'_>, dev_eui: Eui64, nonces: bool) {
        self.detach(dev_eui);
        let Some(device) = self.devices.get_mut(&dev_eui) else { return };
        (device.session, device.next_session) = (None, None);
        if nonces {
            device.nonces.used_dev_nonces.clear();
        }
        if let Some((id, _)) = device.outbox.awaiting_ack() {
            let (attempts, class) = (device.config.profile.attempts, device.class());
            device.outbox.return_or_fail(step, id, "its session was ended", attempts, class);
        }
        if let Some(link) = device.link.as_deref_mut() {
            link.negotiation.reset();
            link.history.clear();
            link.decision = None;
        }
        step.persist(Change::Ended { dev_eui, nonces });
        self.personalize(step, dev_eui);
    }

    fn set_counters(&mut self, step: &mut Step<'_>, dev_eui: Eui64, up: Option<Option<u32>>, next_down: Option<u32>) {
        let session = self.devices.get_mut(&dev_eui).and_then(|device| device.session.as_deref_mut());
        let Some(session) = session else { return };
        session.counters.up = up.unwrap_or(session.counters.up);
        session.counters.next_down = next_down.unwrap_or(session.counters.next_down);
        step.persist(Change::Counters { dev_eui, counters: session.counters });
    }

    /// Gives a personalized device the session it was registered with, unless it runs already.
    fn personalize(&mut self, step: &mut Step<'_>, dev_eui: Eui64) {
        let Some(device) = self.devices.get_mut(&dev_eui) else { return };
        let Some(session) = device.config.personal_session(step.now) else { return };
        let same = |running: &Session| (running.dev_addr, running.keys) == (session.dev_addr, session.keys);
        if device.session.as_deref().is_some_and(same) {
            return;
        }
        step.persist(Change::Session { dev_eui, session: Box::new(session.clone()), begun: true });
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
