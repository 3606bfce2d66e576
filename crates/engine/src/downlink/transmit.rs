//! Handing frames to gateways, and what the gateways' reports lead to.

use lorawan::Eui64;

use crate::device::Device;
use crate::device::profile::Class;
use crate::downlink::candidate::{Candidate, To};
use crate::downlink::frame::{Cargo, InFlight};
use crate::downlink::item::OutboxState;
use crate::downlink::schedule;
use crate::downlink::schedule::{NoWay, Ways};
use crate::io::Effect;
use crate::io::change::Change;
use crate::io::event::{DownlinkEvent, DownlinkStage, Event, SentBy};
use crate::io::transmission::{Transmission, TransmissionId, TxFailure, WhyRx2, Window};
use crate::ledger::{Minute, Transmitter};
use crate::notice::Notice;
use crate::time::Timestamp;
use crate::{Engine, Timer};

/// After the moment of sending, a report that has not come is not waited for any longer.
const REPORT_GRACE_US: i64 = 2_000_000;

impl Engine {
    /// Sends `cargo` by the best of `candidates`; says why if none can.
    pub(crate) fn send_by_any(
        &mut self,
        now: Timestamp,
        cargo: Cargo,
        candidates: Vec<Candidate>,
        effects: &mut Vec<Effect>,
    ) -> Result<(), NoWay> {
        let ways = self.ways_for(now, &cargo, candidates)?;
        self.transmit(now, cargo, ways, effects);
        Ok(())
    }

    /// The ways of `candidates` that are open to `cargo`, best first.
    fn ways_for(&self, now: Timestamp, cargo: &Cargo, candidates: Vec<Candidate>) -> Result<Ways, NoWay> {
        let estate = match cargo.to {
            To::Device(eui) => self.devices.get(&eui).map(|device| device.config.estate),
            // Their gateways were looked at when they were chosen.
            To::Group(_) | To::Everyone => None,
        };
        schedule::choose(&self.gateways, estate, now, candidates, cargo.phy_payload.len())
    }

    /// Hands a frame to the first of `ways`, and keeps the others for the case that it does not go out.
    pub(crate) fn transmit(&mut self, now: Timestamp, cargo: Cargo, ways: Ways, effects: &mut Vec<Effect>) {
        let Ways { open: mut ways, why_rx2 } = ways;
        if ways.is_empty() {
            return;
        }
        let taken = ways.remove(0);
        let Some(gateway) = self.gateways.get_mut(&taken.gateway) else { return };
        self.next_transmission = self.next_transmission.wrapping_add(1);
        let id = TransmissionId(self.next_transmission);
        let len = cargo.phy_payload.len();
        let airtime_us = taken.airtime_us(len);
        let (from, to) = taken.occupies(len);
        gateway.reserve(now, (from, to), id, cargo.to);
        let band = taken.sub_band.name;
        let booked = gateway.ledger.book(band, taken.at, airtime_us);
        effects.push(Effect::Persist(airtime_change(Transmitter::Gateway(taken.gateway), band, booked)));
        let power_dbm = taken.power_dbm(gateway.config.antenna_gain_dbi);
        if let Some(device) = self.addressee(&cargo) {
            device.on_air_until = device.on_air_until.max(to);
            let booked = device.towards.book(band, taken.at, airtime_us);
            let whose = Transmitter::Towards(device.config.dev_eui);
            effects.push(Effect::Persist(airtime_change(whose, band, booked)));
        }
        effects.push(Effect::Transmit(Transmission {
            id,
            towards: match cargo.to {
                To::Device(eui) | To::Group(eui) => Some(eui),
                To::Everyone => None,
            },
            gateway: taken.gateway,
            when: taken.when,
            at: taken.at,
            window: taken.window,
            frequency_hz: taken.frequency_hz,
            modulation: taken.modulation,
            power_dbm,
            airtime_us,
            phy_payload: cargo.phy_payload.clone(),
        }));
        self.timers.set(taken.at.plus_us(REPORT_GRACE_US), Timer::ReportOverdue(id));
        let sent = SentBy {
            gateway: taken.gateway,
            window: taken.window,
            why_rx2: (taken.window == Window::Rx2).then_some(why_rx2),
            frequency_hz: taken.frequency_hz,
            modulation: taken.modulation,
            airtime_us,
            power_dbm,
            phy_payload: cargo.phy_payload.clone(),
        };
        self.in_flight.insert(id, InFlight { cargo, taken, sent, others: ways });
    }

    fn addressee(&mut self, cargo: &Cargo) -> Option<&mut Device> {
        match cargo.to {
            To::Device(dev_eui) => self.devices.get_mut(&dev_eui).map(|device| &mut **device),
            To::Group(_) | To::Everyone => None,
        }
    }

    pub(crate) fn tx_report(
        &mut self,
        now: Timestamp,
        id: TransmissionId,
        result: Result<(), TxFailure>,
        effects: &mut Vec<Effect>,
    ) {
        let Some(flight) = self.in_flight.remove(&id) else { return };
        match result {
            Ok(()) => self.went_out(now, flight, effects),
            Err(why) => self.did_not_go_out(now, id, flight, &why, effects),
        }
    }

    pub(crate) fn report_overdue(&mut self, now: Timestamp, id: TransmissionId, effects: &mut Vec<Effect>) {
        self.tx_report(now, id, Err(TxFailure::NoReport), effects);
    }

    fn went_out(&mut self, now: Timestamp, flight: InFlight, effects: &mut Vec<Effect>) {
        let InFlight { cargo, sent, taken, .. } = flight;
        let dev_eui = match cargo.to {
            To::Device(dev_eui) => dev_eui,
            To::Group(group) => {
                let (_, ends) = taken.occupies(cargo.phy_payload.len());
                effects.push(published(group, &cargo, DownlinkStage::Sent, Some(sent)));
                return self.group_reported(now, group, Ok(()), Some(ends), effects);
            }
            To::Everyone => return,
        };
        self.sent_off(dev_eui, &cargo, &taken, effects);
        effects.push(published(dev_eui, &cargo, DownlinkStage::Sent, Some(sent)));
        self.look_at_outbox(now, dev_eui, effects);
    }

    /// The outbox item of a frame that was sent, or may have been: done, unless its acknowledgement is awaited.
    pub(crate) fn sent_off(&mut self, dev_eui: Eui64, cargo: &Cargo, taken: &Candidate, effects: &mut Vec<Effect>) {
        let (Some(id), Some(device)) = (cargo.outbox_id, self.devices.get_mut(&dev_eui)) else { return };
        let state = match cargo.counter {
            Some(counter) if cargo.confirmed => OutboxState::AwaitingAck(counter),
            _ => OutboxState::Sent,
        };
        // A class A device acknowledges in its next uplink, if at all; the others have a time for it.
        if let OutboxState::AwaitingAck(counter) = &state
            && device.class() != Class::A
        {
            let ends = taken.end(cargo.phy_payload.len());
            self.timers.set(device.ack_overdue_at(ends), Timer::AckOverdue(dev_eui, id, *counter));
        }
        device.outbox.advance(id, state, effects, dev_eui);
    }

    fn did_not_go_out(
        &mut self,
        now: Timestamp,
        id: TransmissionId,
        flight: InFlight,
        why: &TxFailure,
        effects: &mut Vec<Effect>,
    ) {
        let InFlight { cargo, taken, mut others, .. } = flight;
        // Without a report it may have been sent after all: that airtime stays booked.
        let surely_not = *why != TxFailure::NoReport;
        let band = taken.sub_band.name;
        let airtime_us = taken.airtime_us(cargo.phy_payload.len());
        if let Some(gateway) = self.gateways.get_mut(&taken.gateway) {
            gateway.release(id);
            if surely_not {
                let left = gateway.ledger.refund(band, taken.at, airtime_us);
                effects.push(Effect::Persist(airtime_change(Transmitter::Gateway(taken.gateway), band, left)));
            }
            match why {
                TxFailure::Frequency => gateway.cannot(taken.frequency_hz, now),
                TxFailure::Power => others.retain(|other| other.gateway != taken.gateway),
                TxFailure::GpsUnlocked => gateway.lost_gps(),
                _ => {}
            }
        }
        if surely_not && let Some(device) = self.addressee(&cargo) {
            device.on_air_until = now;
            let left = device.towards.refund(band, taken.at, airtime_us);
            let whose = Transmitter::Towards(device.config.dev_eui);
            effects.push(Effect::Persist(airtime_change(whose, band, left)));
        }
        if let (To::Device(dev_eui), TxFailure::Frequency | TxFailure::Power) = (cargo.to, why) {
            let notice = Notice::GatewayCannot { gateway: taken.gateway, why: why.to_string() };
            effects.push(notice.told(now, dev_eui));
        }
        // The very same frame, with the counter it has, may still go another way: it has not been heard.
        if surely_not && let Ok(ways) = self.ways_for(now, &cargo, others) {
            return self.transmit(now, cargo, Ways { why_rx2: WhyRx2::Refused, ..ways }, effects);
        }
        let dev_eui = match cargo.to {
            To::Device(dev_eui) => dev_eui,
            To::Group(group) => return self.group_failed(now, group, why, effects),
            To::Everyone => return,
        };
        let Some(device) = self.devices.get_mut(&dev_eui) else { return };
        if cargo.asks && surely_not {
            device.link().negotiation.not_sent();
        }
        let class = device.class();
        match cargo.outbox_id {
            // It may well have been heard. The device will say so, and must not be sent it twice.
            Some(_) if cargo.confirmed && !surely_not => {
                let notice = Notice::Unreported { gateway: taken.gateway, counter: cargo.counter.unwrap_or(0) };
                effects.push(notice.told(now, dev_eui));
                self.sent_off(dev_eui, &cargo, &taken, effects);
            }
            Some(outbox_id) => {
                if *why == TxFailure::NotHandedOver {
                    device.outbox.was_no_attempt(outbox_id);
                }
                let allowed = device.config.profile.attempts;
                device.outbox.return_or_fail(outbox_id, &why.to_string(), allowed, class, effects, dev_eui);
                self.look_later(now, dev_eui);
            }
            None => effects.push(published(dev_eui, &cargo, DownlinkStage::Failed(why.to_string()), None)),
        }
    }
}

pub(crate) fn airtime_change(transmitter: Transmitter, sub_band: &'static str, minute: Minute) -> Change {
    Change::Airtime {
        transmitter,
        sub_band,
        minute: minute.minute,
        airtime_us: minute.airtime_us,
        frames: minute.frames,
    }
}

fn published(dev_eui: Eui64, cargo: &Cargo, stage: DownlinkStage, sent: Option<SentBy>) -> Effect {
    Effect::Publish(Event::Downlink(Box::new(DownlinkEvent {
        dev_eui,
        stage,
        outbox_id: cargo.outbox_id,
        counter: cargo.counter,
        data: cargo.data.clone(),
        acknowledges: cargo.acknowledges,
        mac_commands: cargo.mac_commands.clone(),
        sent,
    })))
}
