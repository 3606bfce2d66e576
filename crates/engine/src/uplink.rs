//! Accepting data frames: keys, counters, repetitions, acknowledgements.

use lorawan::crypto::{MicKey, PayloadKey};
use lorawan::wire::DataView;
use lorawan::{Eui64, counter};

use crate::Engine;
use crate::collect::Collected;
use crate::downlink::{Due, airtime_change};
use crate::effect::{Change, Effect, Event, UplinkEvent};
use crate::ledger::Transmitter;
use crate::mac;
use crate::refusal::Refusal;
use crate::time::Timestamp;

/// Whose a frame is, and whether it is new.
enum Verdict {
    New(Eui64, u32),
    /// The last frame once more, bit by bit.
    Repeated(Eui64),
    TooLow(Eui64, u32, u32),
    Nobody,
}

impl Engine {
    pub(crate) fn data_up(
        &mut self,
        now: Timestamp,
        view: &DataView<'_>,
        frame: &Collected,
        effects: &mut Vec<Effect>,
    ) {
        let dev_addr = view.dev_addr();
        match self.judge(view) {
            None => effects.push(frame.refused(None, Refusal::UnknownDevAddr { dev_addr })),
            Some(Verdict::Nobody) => effects.push(frame.refused(None, Refusal::DataMic { dev_addr })),
            Some(Verdict::TooLow(dev_eui, received, last)) => {
                self.book_uplink(dev_eui, frame, effects);
                effects.push(frame.refused(Some(dev_eui), Refusal::CounterTooLow { received, last }));
            }
            Some(Verdict::Repeated(dev_eui)) => {
                // The device did not hear our acknowledgement, or sends everything several times.
                self.book_uplink(dev_eui, frame, effects);
                if view.confirmed() {
                    let due = Due { acknowledge: true, ..Due::default() };
                    self.answer(now, dev_eui, due, frame, effects);
                }
            }
            Some(Verdict::New(dev_eui, counter)) => {
                self.book_uplink(dev_eui, frame, effects);
                self.accept(now, dev_eui, counter, view, frame, effects);
            }
        }
    }

    /// Finds the session whose key made the MIC; `None` if the address is not in use at all.
    fn judge(&self, view: &DataView<'_>) -> Option<Verdict> {
        let sharing = self.by_addr.get(&view.dev_addr())?;
        let mut verdict = Verdict::Nobody;
        for dev_eui in sharing {
            let Some(session) = self.devices.get(dev_eui).and_then(|d| d.session.as_ref()) else { continue };
            let key = MicKey::new(&session.keys.nwk_s_key);
            let candidates = counter::candidates(session.up, view.counter_low());
            if let Some(ahead) = candidates.ahead
                && view.verify(&key, ahead)
            {
                return Some(Verdict::New(*dev_eui, ahead));
            }
            if let (Some(behind), Some(last)) = (candidates.behind, session.up) {
                if behind == last && view.mic() == session.last_mic && view.verify(&key, last) {
                    return Some(Verdict::Repeated(*dev_eui));
                }
                // A device that lost its memory starts over at 0, so the high half may be 0 as well.
                let restarted = u32::from(view.counter_low());
                if let Some(received) = [behind, restarted].into_iter().find(|c| view.verify(&key, *c)) {
                    verdict = Verdict::TooLow(*dev_eui, received, last);
                }
            }
        }
        Some(verdict)
    }

    fn accept(
        &mut self,
        now: Timestamp,
        dev_eui: Eui64,
        counter: u32,
        view: &DataView<'_>,
        frame: &Collected,
        effects: &mut Vec<Effect>,
    ) {
        let Some(device) = self.devices.get_mut(&dev_eui) else { return };
        let Some(session) = device.session.as_mut() else { return };
        let mut warnings = Vec::new();
        if let Some(last) = session.up
            && counter - last > 1
        {
            warnings.push(format!("{} uplinks before this one were not heard", counter - last - 1));
        }
        session.up = Some(counter);
        session.last_mic = view.mic();
        effects.push(Effect::Persist(Change::Counters {
            dev_eui,
            up: session.up,
            last_mic: session.last_mic,
            next_down: session.next_down,
        }));

        let key = if view.fport() == Some(0) { &session.keys.nwk_s_key } else { &session.keys.app_s_key };
        let payload = view.decrypt(&PayloadKey::new(key), counter);
        // TS001 §4.3.1.6: commands stand in FOpts or, on FPort 0, in the payload, never in both.
        let mac_commands = if view.fport() == Some(0) { payload.clone() } else { view.fopts().to_vec() };
        let heard = mac::hear(&mac_commands, frame);
        warnings.extend(heard.warning);
        let plan = device.config.region.plan();
        let flags = view.uplink_flags();
        let radio = frame.radio();
        let data_rate = plan.uplink_data_rate_of(radio.modulation);
        if data_rate.is_none() {
            warnings.push(format!("{} is not a data rate of {}", radio.modulation, plan.name));
        }

        let awaited = device.outbox.awaiting_ack();
        if flags.ack && awaited.is_none() {
            warnings.push("the device acknowledges a downlink that is not awaited".into());
        }
        effects.push(Effect::Publish(Event::Uplink(Box::new(UplinkEvent {
            dev_eui,
            dev_addr: view.dev_addr(),
            counter,
            port: view.fport(),
            confirmed: view.confirmed(),
            adr: flags.adr,
            payload,
            mac_commands,
            phy_payload: frame.phy_payload.clone(),
            radio,
            data_rate,
            airtime_us: frame.airtime_us(),
            heard_by: frame.copies.clone(),
            warnings,
        }))));
        // A class A device that heard a confirmed downlink says so in its very next uplink (TS001
        // §4.3.1.2), so one without it means that it was not heard.
        match awaited {
            Some((id, counter)) if flags.ack => device.outbox.acknowledged(id, counter, effects, dev_eui),
            Some((id, _)) => {
                device.outbox.return_or_fail(id, "the device's next uplink did not acknowledge it", effects, dev_eui);
            }
            None => {}
        }
        let due = Due { acknowledge: view.confirmed(), sign: flags.adr_ack_req, mac_answers: heard.answers };
        self.answer(now, dev_eui, due, frame, effects);
    }

    /// Books a frame on its device's account.
    pub(crate) fn book_uplink(&mut self, dev_eui: Eui64, frame: &Collected, effects: &mut Vec<Effect>) {
        let Some(device) = self.devices.get_mut(&dev_eui) else { return };
        let Some(band) = device.config.region.plan().sub_band(frame.best().frequency_hz) else { return };
        let booked = device.ledger.book(band.name, frame.best().heard_at, frame.airtime_us());
        effects.push(Effect::Persist(airtime_change(Transmitter::Device(dev_eui), band.name, booked)));
    }
}
