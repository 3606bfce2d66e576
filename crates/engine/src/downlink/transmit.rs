//! Handing frames to gateways, and what the gateways' reports lead to.

use lorawan::Eui64;

use crate::device::Device;
use crate::device::profile::Class;
use crate::downlink::candidate::{Candidate, To};
use crate::downlink::frame::{Cargo, InFlight};
use crate::downlink::item::OutboxState;
use crate::downlink::schedule;
use crate::downlink::schedule::{NoWay, Ways};
use crate::io::change::Change;
use crate::io::event::{DownlinkEvent, DownlinkStage, Event, SentBy};
use crate::io::transmission::{Transmission, TransmissionId, TxFailure, WhyRx2, Window};
use crate::ledger::{Minute, Transmitter};
use crate::notice::Notice;
use crate::step::Step;
use crate::time::Timestamp;
use crate::{Engine, Timer};

/// After the moment of sending, a report that has not come is not waited for any longer.
const REPORT_GRACE_US: i64 = 2_000_000;

impl Engine {
    /// Sends `cargo` by the best of `candidates`; says why if none can.
    pub(crate) fn send_by_any(
        &mut self,
        step: &mut Step<'_>,
        cargo: Cargo,
        candidates: Vec<Candidate>,
    ) -> Result<(), NoWay> {
        let ways = self.ways_for(step.now, &cargo, candidates)?;
        self.transmit(step, cargo, ways);
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
    pub(crate) fn transmit(&mut self, step: &mut Step<'_>, cargo: Cargo, ways: Ways) {
        let Ways { open: mut ways, why_rx2 } = ways;
        if ways.is_empty() {
            return;
        }
        let taken = ways.remove(0);
        self.next_transmission = self.next_transmission.wrapping_add(1);
        let id = TransmissionId(self.next_transmission);
        let Some(gateway) = self.gateways.get_mut(&taken.gateway) else { return };
        let airtime_us = taken.airtime_us(cargo.phy_payload.len());
        let transmission = Transmission {
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
            power_dbm: taken.power_dbm(gateway.config.antenna_gain_dbi),
            airtime_us,
            phy_payload: cargo.phy_payload.clone(),
        };
        let occupied = taken.occupies(cargo.phy_payload.len());
        gateway.reserve(step.now, occupied, id, cargo.to);
        let band = taken.sub_band.name;
        let booked = gateway.ledger.book(band, taken.at, airtime_us);
        step.persist(airtime_change(Transmitter::Gateway(taken.gateway), band, booked));
        if let Some(device) = self.addressee(&cargo) {
            device.on_air_until = device.on_air_until.max(occupied.1);
            let booked = device.towards.book(band, taken.at, airtime_us);
            let whose = Transmitter::Towards(device.config.dev_eui);
            step.persist(airtime_change(whose, band, booked));
        }
        step.transmit(transmission.clone());
        self.timers.set(taken.at.plus_us(REPORT_GRACE_US), Timer::ReportOverdue(id));
        let why_rx2 = (taken.window == Window::Rx2).then_some(why_rx2);
        self.in_flight.insert(id, InFlight { cargo, taken, transmission, why_rx2, others: ways });
    }

    fn addressee(&mut self, cargo: &Cargo) -> Option<&mut Device> {
        match cargo.to {
            To::Device(dev_eui) => self.devices.get_mut(&dev_eui).map(|device| &mut **device),
            To::Group(_) | To::Everyone => None,
        }
    }

    pub(crate) fn tx_report(&mut self, step: &mut Step<'_>, id: TransmissionId, result: Result<(), TxFailure>) {
        let Some(flight) = self.in_flight.remove(&id) else { return };
        match result {
            Ok(()) => self.went_out(step, flight),
            Err(why) => self.did_not_go_out(step, id, flight, &why),
        }
    }

    pub(crate) fn report_overdue(&mut self, step: &mut Step<'_>, id: TransmissionId) {
        self.tx_report(step, id, Err(TxFailure::NoReport));
    }

    fn went_out(&mut self, step: &mut Step<'_>, flight: InFlight) {
        let InFlight { cargo, transmission, why_rx2, taken, .. } = flight;
        let sent = Some(SentBy { transmission, why_rx2 });
        let dev_eui = match cargo.to {
            To::Device(dev_eui) => dev_eui,
            To::Group(group) => {
                let (_, ends) = taken.occupies(cargo.phy_payload.len());
                step.publish(published(group, &cargo, DownlinkStage::Sent, sent));
                return self.group_reported(step, group, Some(ends));
            }
            To::Everyone => return,
        };
        self.sent_off(step, dev_eui, &cargo, &taken);
        step.publish(published(dev_eui, &cargo, DownlinkStage::Sent, sent));
        self.look_at_outbox(step, dev_eui);
    }

    /// The outbox item of a frame that was sent, or may have been: done, unless its acknowledgement is awaited.
    pub(crate) fn sent_off(&mut self, step: &mut Step<'_>, dev_eui: Eui64, cargo: &Cargo, taken: &Candidate) {
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
        device.outbox.advance(step, id, state);
    }

    fn did_not_go_out(&mut self, step: &mut Step<'_>, id: TransmissionId, mut flight: InFlight, why: &TxFailure) {
        // Without a report it may have been sent after all: that airtime stays booked.
        let surely_not = *why != TxFailure::NoReport;
        let gateway = flight.taken.gateway;
        if let Some(gateway) = self.gateways.get_mut(&gateway) {
            gateway.release(id);
        }
        if surely_not {
            self.refund(step, &flight);
        }
        self.learn_from(step.now, &mut flight, why);
        let InFlight { cargo, taken, others, .. } = flight;
        if let (To::Device(dev_eui), TxFailure::Frequency | TxFailure::Power) = (cargo.to, why) {
            step.tell(dev_eui, Notice::GatewayCannot { gateway, why: why.to_string() });
        }
        // The very same frame, with the counter it has, may still go another way: it has not been heard.
        if surely_not && let Ok(ways) = self.ways_for(step.now, &cargo, others) {
            return self.transmit(step, cargo, Ways { why_rx2: WhyRx2::Refused, ..ways });
        }
        match cargo.to {
            To::Device(dev_eui) => self.device_failed(step, dev_eui, (&cargo, &taken), why),
            To::Group(group) => self.group_failed(step, group, why),
            To::Everyone => {}
        }
    }

    /// Takes the airtime of a frame that was not sent off the accounts.
    fn refund(&mut self, step: &mut Step<'_>, flight: &InFlight) {
        let InFlight { cargo, taken, .. } = flight;
        let band = taken.sub_band.name;
        let airtime_us = taken.airtime_us(cargo.phy_payload.len());
        if let Some(gateway) = self.gateways.get_mut(&taken.gateway) {
            let left = gateway.ledger.refund(band, taken.at, airtime_us);
            step.persist(airtime_change(Transmitter::Gateway(taken.gateway), band, left));
        }
        if let Some(device) = self.addressee(cargo) {
            device.on_air_until = step.now;
            let left = device.towards.refund(band, taken.at, airtime_us);
            let whose = Transmitter::Towards(device.config.dev_eui);
            step.persist(airtime_change(whose, band, left));
        }
    }

    /// Notes on the gateway what it cannot do, so that it is not asked again.
    fn learn_from(&mut self, now: Timestamp, flight: &mut InFlight, why: &TxFailure) {
        let taken = &flight.taken;
        let Some(gateway) = self.gateways.get_mut(&taken.gateway) else { return };
        match why {
            TxFailure::Frequency => gateway.cannot(taken.frequency_hz, now),
            TxFailure::Power => flight.others.retain(|other| other.gateway != taken.gateway),
            TxFailure::GpsUnlocked => gateway.lost_gps(),
            _ => {}
        }
    }

    /// A frame to a device did not go out, and no other way is left.
    fn device_failed(
        &mut self,
        step: &mut Step<'_>,
        dev_eui: Eui64,
        (cargo, taken): (&Cargo, &Candidate),
        why: &TxFailure,
    ) {
        let Some(device) = self.devices.get_mut(&dev_eui) else { return };
        let surely_not = *why != TxFailure::NoReport;
        if cargo.asks && surely_not {
            device.link().negotiation.not_sent();
        }
        let class = device.class();
        match cargo.outbox_id {
            // It may well have been heard. The device will say so, and must not be sent it twice.
            Some(_) if cargo.confirmed && !surely_not => {
                let counter = cargo.counter.unwrap_or(0);
                step.tell(dev_eui, Notice::Unreported { gateway: taken.gateway, counter });
                self.sent_off(step, dev_eui, cargo, taken);
            }
            Some(outbox_id) => {
                if *why == TxFailure::Unreachable {
                    let pause = device.outbox.no_way_down(step, outbox_id, &why.to_string(), class);
                    if class != Class::A {
                        self.look_at(dev_eui, step.now.plus_us(pause));
                    }
                    return;
                }
                if *why == TxFailure::NotHandedOver {
                    device.outbox.was_no_attempt(outbox_id);
                }
                let allowed = device.config.profile.attempts;
                device.outbox.return_or_fail(step, outbox_id, &why.to_string(), allowed, class);
                self.look_later(step.now, dev_eui);
            }
            None => step.publish(published(dev_eui, cargo, DownlinkStage::Failed(why.to_string()), None)),
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

fn published(dev_eui: Eui64, cargo: &Cargo, stage: DownlinkStage, sent: Option<SentBy>) -> Event {
    Event::Downlink(Box::new(DownlinkEvent {
        dev_eui,
        stage,
        outbox_id: cargo.outbox_id,
        reference: cargo.reference.clone(),
        counter: cargo.counter,
        data: cargo.data.clone(),
        acknowledges: cargo.acknowledges,
        mac_commands: cargo.mac_commands.clone(),
        sent,
    }))
}
