//! Downlinks under way: handing them to gateways, and what their reports lead to.

use std::collections::HashMap;

use lorawan::crypto::{MicKey, PayloadKey};
use lorawan::wire::{DataRepr, DownlinkFlags};
use lorawan::{Eui64, Modulation};

use crate::collect::Collected;
use crate::effect::{Change, DownlinkEvent, DownlinkStage, Effect, Event, Transmission, TransmissionId, TxFailure};
use crate::gateway::Gateway;
use crate::ledger::{Minute, Transmitter};
use crate::outbox::{Outbox, OutboxId, OutboxItem, OutboxState, Wait};
use crate::schedule::{self, Candidate, HEADER_LEN, Window};
use crate::time::Timestamp;
use crate::{Engine, Timer};

/// After the moment of sending, a report that has not come is not waited for any longer.
const REPORT_GRACE_US: i64 = 2_000_000;

/// Where and how a downlink went out.
#[derive(Debug, Clone, PartialEq)]
pub struct Sent {
    /// The gateway.
    pub gateway: Eui64,
    /// The device's window.
    pub window: Window,
    /// Centre frequency.
    pub frequency_hz: u32,
    /// Modulation.
    pub modulation: Modulation,
    /// Time on air.
    pub airtime_us: u64,
    /// Power at the antenna connector.
    pub power_dbm: i32,
    /// The frame as sent.
    pub phy_payload: Vec<u8>,
}

/// What a frame under way carries.
#[derive(Debug, Clone)]
pub(crate) struct Cargo {
    pub(crate) dev_eui: Eui64,
    pub(crate) phy_payload: Vec<u8>,
    pub(crate) counter: Option<u32>,
    pub(crate) outbox_id: Option<OutboxId>,
    pub(crate) data: Option<(u8, Vec<u8>)>,
    pub(crate) acknowledges: bool,
    pub(crate) mac_commands: Vec<u8>,
    /// Whether the device is to acknowledge it.
    pub(crate) confirmed: bool,
}

/// A frame handed to a gateway, and the other ways it could still go.
#[derive(Debug)]
pub(crate) struct InFlight {
    cargo: Cargo,
    taken: Candidate,
    sent: Sent,
    others: Vec<Candidate>,
}

/// What an uplink asks of the downlink after it.
#[derive(Debug, Default)]
pub(crate) struct Due {
    /// An acknowledgement.
    pub(crate) acknowledge: bool,
    /// Any frame, as a sign that the device is heard (ADRACKReq).
    pub(crate) sign: bool,
    /// MAC commands for FOpts.
    pub(crate) mac_answers: Vec<u8>,
}

impl Due {
    /// What is owed, in words; `None` if nothing is.
    fn owed(&self) -> Option<&'static str> {
        match self {
            Due { acknowledge: true, .. } => Some("acknowledgement"),
            Due { mac_answers, .. } if !mac_answers.is_empty() => Some("answer to its MAC commands"),
            Due { sign: true, .. } => Some("sign that it is heard"),
            _ => None,
        }
    }
}

impl Engine {
    /// Answers an uplink that was accepted: what is due, and the next downlink from the outbox if one
    /// fits beside it.
    pub(crate) fn answer(
        &mut self,
        now: Timestamp,
        dev_eui: Eui64,
        due: Due,
        frame: &Collected,
        effects: &mut Vec<Effect>,
    ) {
        let Some(device) = self.devices.get_mut(&dev_eui) else { return };
        let waiting = device.outbox.waiting();
        if due.owed().is_none() && waiting == 0 {
            return;
        }
        let plan = device.config.region.plan();
        let candidates = schedule::candidates(plan, frame, schedule::After::Data);
        // MAC answers get room first: a payload that does not fit beside them waits.
        let fopts = due.mac_answers.len();
        let room = |c: &Candidate| c.max_payload.saturating_sub(fopts);
        let largest = candidates.iter().map(room).max().unwrap_or(0);
        let Some(session) = device.session.as_mut() else { return };

        let item = next_that_fits(&mut device.outbox, largest, effects, dev_eui);
        if item.is_none() && due.owed().is_none() {
            return;
        }

        let len = item.as_ref().map_or(0, |i| i.payload.len());
        let frame_len = HEADER_LEN + fopts + item.as_ref().map_or(0, |i| 1 + i.payload.len());
        let usable: Vec<Candidate> = candidates.into_iter().filter(|c| room(c) >= len).collect();
        let Some((taken, others)) = pick(&self.gateways, now, &usable, frame_len) else {
            no_answer(&mut device.outbox, item.as_ref(), &due, &no_way(&usable), effects, dev_eui);
            return;
        };

        let counter = session.next_down;
        // A counter that has run out ends the session's downlinks; it must never wrap (TS001 §4.3.1.5).
        let Some(next_down) = counter.checked_add(1) else { return };
        let flags = DownlinkFlags { adr: false, ack: due.acknowledge, pending: waiting > usize::from(item.is_some()) };
        let data = item.as_ref().map(|i| (i.port, i.payload.as_slice()));
        let confirmed = item.as_ref().is_some_and(|i| i.confirmed);
        let repr = DataRepr::downlink(session.dev_addr, counter, flags, data);
        let repr = repr.confirmed(confirmed).with_fopts(&due.mac_answers);
        let keys = &session.keys;
        let Ok(phy_payload) = repr.emit(&MicKey::new(&keys.nwk_s_key), &PayloadKey::new(&keys.app_s_key)) else {
            return;
        };
        session.next_down = next_down;
        effects.push(Effect::Persist(Change::Counters {
            dev_eui,
            up: session.up,
            last_mic: session.last_mic,
            next_down,
        }));
        if let Some(item) = &item {
            if let Some(kept) = device.outbox.get_mut(item.id) {
                kept.attempts += 1;
            }
            device.outbox.advance(item.id, OutboxState::UnderWay, effects, dev_eui);
        }
        let cargo = Cargo {
            dev_eui,
            phy_payload,
            counter: Some(counter),
            outbox_id: item.as_ref().map(|i| i.id),
            data: item.map(|i| (i.port, i.payload)),
            acknowledges: due.acknowledge,
            mac_commands: due.mac_answers,
            confirmed,
        };
        self.transmit(now, cargo, taken, others, effects);
    }

    /// Sends `cargo` by the first of `candidates` that can; says why if none can.
    pub(crate) fn send_by_any(
        &mut self,
        now: Timestamp,
        cargo: Cargo,
        candidates: &[Candidate],
        effects: &mut Vec<Effect>,
    ) -> Result<(), String> {
        match pick(&self.gateways, now, candidates, cargo.phy_payload.len()) {
            Some((taken, others)) => {
                self.transmit(now, cargo, taken, others, effects);
                Ok(())
            }
            None => Err(no_way(candidates)),
        }
    }

    fn transmit(
        &mut self,
        now: Timestamp,
        cargo: Cargo,
        taken: Candidate,
        others: Vec<Candidate>,
        effects: &mut Vec<Effect>,
    ) {
        let Some(gateway) = self.gateways.get_mut(&taken.gateway) else { return };
        self.next_transmission = self.next_transmission.wrapping_add(1);
        let id = TransmissionId(self.next_transmission);
        let len = cargo.phy_payload.len();
        let airtime_us = taken.airtime_us(len);
        gateway.reserve(now, taken.at, taken.end(len), id);
        let booked = gateway.ledger.book(taken.sub_band.name, taken.at, airtime_us);
        effects.push(Effect::Persist(airtime_change(Transmitter::Gateway(taken.gateway), taken.sub_band.name, booked)));
        let power_dbm = taken.power_dbm(gateway.config.antenna_gain_dbi);
        effects.push(Effect::Transmit(Transmission {
            id,
            gateway: taken.gateway,
            at_clock_us: taken.at_clock_us,
            at: taken.at,
            window: taken.window,
            frequency_hz: taken.frequency_hz,
            modulation: taken.modulation,
            power_dbm,
            airtime_us,
            phy_payload: cargo.phy_payload.clone(),
        }));
        self.timers.set(taken.at.plus_us(REPORT_GRACE_US), Timer::ReportOverdue(id));
        let sent = Sent {
            gateway: taken.gateway,
            window: taken.window,
            frequency_hz: taken.frequency_hz,
            modulation: taken.modulation,
            airtime_us,
            power_dbm,
            phy_payload: cargo.phy_payload.clone(),
        };
        self.in_flight.insert(id, InFlight { cargo, taken, sent, others });
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
            Ok(()) => self.went_out(flight, effects),
            Err(why) => self.did_not_go_out(now, id, flight, &why, effects),
        }
    }

    pub(crate) fn report_overdue(&mut self, now: Timestamp, id: TransmissionId, effects: &mut Vec<Effect>) {
        self.tx_report(now, id, Err(TxFailure::NoReport), effects);
    }

    fn went_out(&mut self, flight: InFlight, effects: &mut Vec<Effect>) {
        let InFlight { cargo, sent, .. } = flight;
        if let (Some(id), Some(device)) = (cargo.outbox_id, self.devices.get_mut(&cargo.dev_eui)) {
            let state = match cargo.counter {
                Some(counter) if cargo.confirmed => OutboxState::AwaitingAck(counter),
                _ => OutboxState::Sent,
            };
            device.outbox.advance(id, state, effects, cargo.dev_eui);
        }
        effects.push(published(&cargo, DownlinkStage::Sent, Some(sent)));
    }

    fn did_not_go_out(
        &mut self,
        now: Timestamp,
        id: TransmissionId,
        flight: InFlight,
        why: &TxFailure,
        effects: &mut Vec<Effect>,
    ) {
        let InFlight { cargo, taken, others, .. } = flight;
        if let Some(gateway) = self.gateways.get_mut(&taken.gateway) {
            gateway.release(id);
            // Without a report it may have been sent after all: that airtime stays booked.
            if *why != TxFailure::NoReport {
                let airtime_us = taken.airtime_us(cargo.phy_payload.len());
                let left = gateway.ledger.refund(taken.sub_band.name, taken.at, airtime_us);
                let whose = Transmitter::Gateway(taken.gateway);
                effects.push(Effect::Persist(airtime_change(whose, taken.sub_band.name, left)));
            }
        }
        // The very same frame, with the counter it has, may still go another way: it has not been heard.
        if *why != TxFailure::NoReport && self.send_by_any(now, cargo.clone(), &others, effects).is_ok() {
            return;
        }
        match (cargo.outbox_id, self.devices.get_mut(&cargo.dev_eui)) {
            (Some(outbox_id), Some(device)) => {
                device.outbox.return_or_fail(outbox_id, &why.to_string(), effects, cargo.dev_eui);
            }
            _ => effects.push(published(&cargo, DownlinkStage::Failed(why.to_string()), None)),
        }
    }
}

/// The next downlink of the outbox, if it fits into `largest` bytes; one that does not is held, and its
/// state says so.
fn next_that_fits(
    outbox: &mut Outbox,
    largest: usize,
    effects: &mut Vec<Effect>,
    dev_eui: Eui64,
) -> Option<OutboxItem> {
    let next = outbox.next_waiting()?;
    if next.payload.len() <= largest {
        return Some(next.clone());
    }
    let held = OutboxState::Waiting(Wait::SmallerThan { len: next.payload.len(), max: largest });
    if next.state != held {
        let id = next.id;
        outbox.advance(id, held, effects, dev_eui);
    }
    None
}

/// Nobody can send: the downlink waits on, and what is due beside it is reported missing.
fn no_answer(
    outbox: &mut Outbox,
    item: Option<&OutboxItem>,
    due: &Due,
    why: &str,
    effects: &mut Vec<Effect>,
    dev_eui: Eui64,
) {
    if let Some(item) = item {
        let waits = OutboxState::Waiting(Wait::again(why));
        if item.state != waits {
            outbox.advance(item.id, waits, effects, dev_eui);
        }
    }
    if let Some(owed) = due.owed() {
        let stage = DownlinkStage::Failed(format!("no {owed} could be sent: {why}"));
        let event = DownlinkEvent { acknowledges: due.acknowledge, ..DownlinkEvent::off_air(dev_eui, stage) };
        effects.push(Effect::Publish(Event::Downlink(Box::new(event))));
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

fn published(cargo: &Cargo, stage: DownlinkStage, sent: Option<Sent>) -> Effect {
    Effect::Publish(Event::Downlink(Box::new(DownlinkEvent {
        dev_eui: cargo.dev_eui,
        stage,
        outbox_id: cargo.outbox_id,
        counter: cargo.counter,
        data: cargo.data.clone(),
        acknowledges: cargo.acknowledges,
        mac_commands: cargo.mac_commands.clone(),
        sent,
    })))
}

/// The first candidate that is in time, within its duty cycle and not in the way of another
/// transmission, together with those after it.
fn pick(
    gateways: &HashMap<Eui64, Gateway>,
    now: Timestamp,
    candidates: &[Candidate],
    len: usize,
) -> Option<(Candidate, Vec<Candidate>)> {
    let at = candidates.iter().position(|c| {
        gateways.get(&c.gateway).is_some_and(|gateway| {
            c.in_time(now)
                && gateway.free(c.at, c.end(len))
                && gateway.ledger.allows(c.sub_band, c.at, c.airtime_us(len))
        })
    })?;
    Some((candidates[at].clone(), candidates[at + 1..].to_vec()))
}

fn no_way(candidates: &[Candidate]) -> String {
    if candidates.is_empty() {
        "no receive window of the last uplink could take it".into()
    } else {
        "every gateway that heard the last uplink was busy, too late or out of duty cycle".into()
    }
}
