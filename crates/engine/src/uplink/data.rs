//! Accepting data frames: keys, counters, repetitions, acknowledgements.

use lorawan::region::Use;
use lorawan::wire::DataView;
use lorawan::{Eui64, airtime, counter};

use crate::device::Device;
use crate::device::profile::{Class, RadioProfile, Rates};
use crate::device::session::{NetworkKeys, SentOn, Session};
use crate::downlink::reply::Due;
use crate::downlink::transmit::airtime_change;
use crate::estates::tell_discarded;
use crate::io::Effect;
use crate::io::change::Change;
use crate::io::event::{Event, UplinkEvent};
use crate::ledger::Transmitter;
use crate::notice::Notice;
use crate::time::{DAY_US, Timestamp};
use crate::uplink::collect::Collected;
use crate::uplink::refusal::Refusal;
use crate::{Engine, mac};

/// Two sendings of one uplink lie no further apart: RX2 has closed, and a random pause of seconds
/// (TS001 §4.3.1.1 and §19.1) has passed, even at a low duty cycle.
const REPETITION_US: i64 = 120_000_000;
/// How often a device of any version sends a frame at most: NbTrans has four bits.
const MOST_TIMES: u8 = 15;
/// A frame that took so much longer than others from its gateway to here is a late copy.
const LATE_US: i64 = 1_000_000;
/// The same excess is told again after so long.
const TELL_AGAIN_US: i64 = 3_600_000_000;

/// Which of a device's sessions.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Which {
    Running,
    /// The one agreed upon, which begins with this uplink.
    Next,
}

/// A new frame of a device.
struct New {
    dev_eui: Eui64,
    which: Which,
    /// Those of its session: making them ready costs more than all else that is done with them.
    keys: NetworkKeys,
    counter: u32,
    restarted_after: Option<u32>,
    /// How many more sessions its MIC agrees with.
    also: usize,
}

/// Whose a frame is, and whether it is new.
#[allow(clippy::large_enum_variant)] // the large one is the common one
enum Verdict {
    New(New),
    /// The last frame once more, bit by bit.
    Repeated(Eui64),
    TooLow {
        dev_eui: Eui64,
        received: u32,
        last: u32,
    },
    /// More uplinks would be lost than the device's version allows.
    TooFar {
        dev_eui: Eui64,
        received: u32,
        last: u32,
        limit: u32,
    },
    Nobody,
    /// A device of an estate whose gateways have not heard it.
    Elsewhere,
}

impl Verdict {
    fn device(&self) -> Option<Eui64> {
        match self {
            Self::New(New { dev_eui, .. })
            | Self::Repeated(dev_eui)
            | Self::TooLow { dev_eui, .. }
            | Self::TooFar { dev_eui, .. } => Some(*dev_eui),
            Self::Nobody | Self::Elsewhere => None,
        }
    }
}

impl Engine {
    pub(crate) fn data_up(
        &mut self,
        now: Timestamp,
        view: &DataView<'_>,
        frame: &Collected,
        effects: &mut Vec<Effect>,
    ) -> Option<Eui64> {
        let dev_addr = view.dev_addr();
        let Some(verdict) = self.judge(view, frame) else {
            self.refuse_unknown(frame, Refusal::UnknownDevAddr { dev_addr }, effects);
            return None;
        };
        let whose = verdict.device().and_then(|dev_eui| self.devices.get(&dev_eui));
        let kept = whose.map(|device| self.kept_for(frame, device.config.estate, effects));
        let frame = kept.as_deref().unwrap_or(frame);
        if let Some(dev_eui) = verdict.device()
            && let Some(why) = self.devices.get(&dev_eui).and_then(|device| device.unserved(false))
        {
            if !matches!(why, Refusal::Quarantined { .. }) {
                self.book_uplink(now, dev_eui, frame, effects);
            }
            effects.push(frame.refused(Some(dev_eui), why));
            return Some(dev_eui);
        }
        match verdict {
            Verdict::Nobody => {
                self.refuse_unknown(frame, Refusal::DataMic { dev_addr }, effects);
                None
            }
            Verdict::Elsewhere => {
                tell_discarded(frame.copies.len(), effects);
                None
            }
            Verdict::TooLow { dev_eui, received, last } => {
                self.book_uplink(now, dev_eui, frame, effects);
                let reason = self.came_late(frame, received, last).unwrap_or(Refusal::CounterTooLow { received, last });
                effects.push(frame.refused(Some(dev_eui), reason));
                Some(dev_eui)
            }
            Verdict::TooFar { dev_eui, received, last, limit } => {
                self.book_uplink(now, dev_eui, frame, effects);
                effects.push(frame.refused(Some(dev_eui), Refusal::CounterGap { received, last, limit }));
                Some(dev_eui)
            }
            Verdict::Repeated(dev_eui) => {
                self.book_uplink(now, dev_eui, frame, effects);
                self.repeated(now, dev_eui, view, frame, effects);
                Some(dev_eui)
            }
            Verdict::New(new) => {
                let dev_eui = new.dev_eui;
                self.book_uplink(now, dev_eui, frame, effects);
                if new.which == Which::Next {
                    self.begin_session(now, dev_eui, effects);
                }
                if let Some(last) = new.restarted_after {
                    effects.push(Notice::CounterRestarted { received: new.counter, last }.told(now, dev_eui));
                }
                self.accept(now, &new, view, frame, effects);
                Some(dev_eui)
            }
        }
    }

    /// Finds the session in which the frame was made; `None` if the address is not in use at all. A MIC of
    /// four bytes may agree in several: then the one whose counter is nearest is taken, and how many others
    /// there are is told.
    fn judge(&self, view: &DataView<'_>, frame: &Collected) -> Option<Verdict> {
        let sharing = self.by_addr.get(&view.dev_addr())?;
        let mut verdict = Verdict::Nobody;
        let mut best: Option<(u32, New)> = None;
        let (mut agree, mut foreign) = (0, 0);
        for dev_eui in sharing {
            let dev_eui = *dev_eui;
            let Some(device) = self.devices.get(&dev_eui) else { continue };
            let heard = self.heard_for(frame, device.config.estate);
            foreign += usize::from(!heard);
            for (session, which) in sessions_at(device, view) {
                let ways = ways(&device.config.profile, session, frame);
                let keys = session.network_keys();
                let made = |counter| session.made(&keys, view, counter, &ways);
                let last = session.counters.up;
                let candidates = counter::candidates(last, view.counter_low());
                if !heard {
                    let theirs = || candidates.ahead.is_some_and(made) || candidates.behind.is_some_and(made);
                    if matches!(verdict, Verdict::Nobody) && theirs() {
                        verdict = Verdict::Elsewhere;
                    }
                    continue;
                }
                if let Some(ahead) = candidates.ahead
                    && made(ahead)
                {
                    let gap = ahead - last.unwrap_or(0);
                    if let (Some(last), Some(limit)) = (last, device.config.profile.counter_gap_limit())
                        && gap > limit
                    {
                        verdict = Verdict::TooFar { dev_eui, received: ahead, last, limit };
                        continue;
                    }
                    agree += 1;
                    if best.as_ref().is_none_or(|(known, _)| gap < *known) {
                        let new = New { dev_eui, which, keys, counter: ahead, restarted_after: None, also: 0 };
                        best = Some((gap, new));
                    }
                    continue;
                }
                let (Some(behind), Some(last)) = (candidates.behind, last) else { continue };
                if behind == last && session.repeats(&keys, view, last) {
                    return Some(Verdict::Repeated(dev_eui));
                }
                // A device that lost its memory starts over at 0, so the high half may be 0 as well.
                let restarted = u32::from(view.counter_low());
                if let Some(received) = [behind, restarted].into_iter().find(|c| made(*c)) {
                    verdict = if device.config.profile.counter_restart && received == restarted {
                        let restarted_after = Some(last);
                        Verdict::New(New { dev_eui, which, keys, counter: received, restarted_after, also: 0 })
                    } else {
                        Verdict::TooLow { dev_eui, received, last }
                    };
                }
            }
        }
        // To those who have heard it, an address that only other estates use is not in use at all.
        if best.is_none() && matches!(verdict, Verdict::Nobody) && foreign == sharing.len() {
            return None;
        }
        Some(best.map_or(verdict, |(_, new)| Verdict::New(New { also: agree - 1, ..new })))
    }

    /// Whether a frame with a counter of before was on its way for long, rather than sent again: each gateway that brings it
    /// had heard it long before.
    fn came_late(&self, frame: &Collected, counter: u32, last: u32) -> Option<Refusal> {
        let late = frame.copies.iter().map(|copy| {
            let gateway = self.gateways.get(&copy.gateway);
            (gateway.map_or(0, |gateway| gateway.late_us(copy)), copy.gateway)
        });
        let (late_us, gateway) = late.min()?;
        (late_us >= LATE_US).then_some(Refusal::CameLate { counter, last, gateway, late_ms: late_us / 1000 })
    }

    /// The last uplink once more: the device is set to send each several times, or did not hear our
    /// acknowledgement. Later, or more often, it is a replay.
    fn repeated(
        &mut self,
        now: Timestamp,
        dev_eui: Eui64,
        view: &DataView<'_>,
        frame: &Collected,
        effects: &mut Vec<Effect>,
    ) {
        let Some(device) = self.devices.get_mut(&dev_eui) else { return };
        let Some(counters) = device.session.as_deref().map(|session| session.counters) else { return };
        let nb_trans = device.session.as_deref().map_or(1, |session| session.settings.adr.nb_trans);
        let link = device.link();
        let counter = counters.up.unwrap_or(0);
        // After a restart of the service it is not known when it was heard.
        let since_us = if link.times_heard == 0 { 0 } else { frame.first_heard().since(link.last_heard) };
        link.times_heard = link.times_heard.saturating_add(1).max(2);
        let times = link.times_heard;
        if since_us > REPETITION_US || times > MOST_TIMES {
            let replayed = Refusal::Replayed { counter, times, after_s: since_us / 1_000_000 };
            let reason = self.came_late(frame, counter, counter).unwrap_or(replayed);
            effects.push(frame.refused(Some(dev_eui), reason));
            return;
        }
        link.last_heard = frame.first_heard();
        link.heard_by(frame);
        effects.push(Notice::Repeated { counter, times, nb_trans }.told(now, dev_eui));
        if view.confirmed() {
            let due = Due { acknowledge: true, ..Due::default() };
            self.answer(now, dev_eui, due, frame, effects);
        }
    }

    /// The first uplink under the session agreed upon last: the one before has ended.
    fn begin_session(&mut self, now: Timestamp, dev_eui: Eui64, effects: &mut Vec<Effect>) {
        self.detach(dev_eui);
        let Some(device) = self.devices.get_mut(&dev_eui) else { return };
        let Some(next) = device.next_session.take() else { return };
        let (dev_addr, counters) = (next.dev_addr, next.counters);
        let replaces = device.session.replace(next).map(|before| before.dev_addr);
        let class = device.class();
        let attempts = device.config.profile.attempts;
        let link = device.link();
        link.negotiation.reset();
        link.history.clear();
        link.decision = None;
        effects.push(Effect::Persist(Change::Began { dev_eui, counters }));
        if let Some((id, _)) = device.outbox.awaiting_ack() {
            let why = "the device has begun a new session";
            device.outbox.return_or_fail(id, why, attempts, class, effects, dev_eui);
        }
        self.attach(dev_eui);
        effects.push(Notice::SessionBegan { dev_addr, replaces }.told(now, dev_eui));
    }

    fn accept(&mut self, now: Timestamp, new: &New, view: &DataView<'_>, frame: &Collected, effects: &mut Vec<Effect>) {
        let New { dev_eui, ref keys, counter, also, .. } = *new;
        let Some(device) = self.devices.get_mut(&dev_eui) else { return };
        let Some(session) = device.session.as_deref_mut() else { return };
        let mut warnings = Vec::new();
        let mut notices = Vec::new();
        if let Some(last) = session.counters.up
            && counter > last
            && counter - last > 1
        {
            let lost = counter - last - 1;
            warnings.push(format!("{lost} uplinks before this one were not heard"));
            notices.push(Notice::UplinksLost { lost, last, received: counter });
        }
        if also > 0 {
            warnings.push(format!(
                "the MIC agrees with {also} more sessions at this address; the nearest counter was taken"
            ));
        }
        session.counters.up = Some(counter);
        session.counters.last_mic = view.mic();
        effects.push(Effect::Persist(Change::Counters { dev_eui, counters: session.counters }));

        let (payload, mac_commands) = session.open(keys, view, counter);
        let version = device.config.profile.version;
        let mut heard = mac::hear(&mac_commands, version, frame);
        warnings.extend(heard.warning.take());
        let plan = device.config.plan();
        let flags = view.uplink_flags();
        let radio = frame.radio();
        let data_rate = plan.uplink_data_rate_of(radio.modulation);
        if data_rate.is_none() {
            warnings.push(format!("{} is not a data rate of {}", radio.modulation, plan.name));
        }
        let awaited = device.outbox.awaiting_ack();
        // Each try of a downlink had a counter of its own, and any of them may be the one that was heard.
        let acknowledged = flags.ack
            && awaited.is_some_and(|(id, down)| {
                let tries = u32::from(device.outbox.attempts_of(id).saturating_sub(1));
                let ways = ways(&device.config.profile, session, frame);
                !session.acknowledges_earlier(keys, (view, counter), &ways, down.saturating_sub(tries)..=down)
            });
        if flags.ack && !acknowledged {
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
        // §4.3.1.2), so one without it means that it was not heard. The others have a time for it.
        let (class, attempts) = (device.class(), device.config.profile.attempts);
        match awaited {
            Some((id, counter)) if acknowledged => device.outbox.acknowledged(id, counter, effects, dev_eui),
            Some((id, _)) if class == Class::A => {
                let why = "the device's next uplink did not acknowledge it";
                device.outbox.return_or_fail(id, why, attempts, class, effects, dev_eui);
            }
            _ => {}
        }
        if flags.ack {
            device.link().negotiation.heard_us();
        }
        let changed = device.follow(now, counter, data_rate, flags.adr, flags.class_b, &heard, frame, &mut notices);
        if let Some(link) = device.link.as_deref_mut().filter(|link| link.changed) {
            link.changed = false;
            let near = link.near.iter().map(|near| (near.gateway, near.quality)).collect();
            effects.push(Effect::Persist(Change::Near { dev_eui, class: link.class, near }));
        }
        if let (true, Some(session)) = (changed, device.session.as_deref()) {
            effects.push(Effect::Persist(Change::Settings { dev_eui, settings: Box::new(session.settings) }));
        }
        let adr = flags.adr || matches!(device.config.profile.rates, Rates::Fixed { .. });
        let asks = device.asks(now, adr);
        effects.extend(notices.into_iter().map(|notice| notice.told(now, dev_eui)));
        let due = Due { acknowledge: view.confirmed(), sign: flags.adr_ack_req, mac_answers: heard.answers, asks };
        self.answer(now, dev_eui, due, frame, effects);
        self.look_at_outbox(now, dev_eui, effects);
    }

    /// Books a frame on its device's account, and says so if that is more than the law or the fleet allows.
    pub(crate) fn book_uplink(&mut self, now: Timestamp, dev_eui: Eui64, frame: &Collected, effects: &mut Vec<Effect>) {
        let Some(device) = self.devices.get_mut(&dev_eui) else { return };
        let plan = device.config.plan();
        let Some(band) = plan.sub_band(frame.best().frequency_hz) else { return };
        let frame_us = frame.airtime_us();
        let booked = device.ledger.book(band.name, frame.best().heard_at, frame_us);
        effects.push(Effect::Persist(airtime_change(Transmitter::Device(dev_eui), band.name, booked)));

        let fresh = |told: Option<Timestamp>, every_us| told.is_none_or(|at| now.since(at) >= every_us);
        let used = device.ledger.used(band.name, now);
        let allowed_us = band.hourly_allowance_us();
        if used.airtime_us > allowed_us && fresh(device.link().told_over, TELL_AGAIN_US) {
            device.link().told_over = Some(now);
            let at_rate = |modulation| airtime::uplink_us(modulation, frame.phy_payload.len()) * u64::from(used.frames);
            let faster = plan.data_rates().filter(|(_, rate)| rate.direction != Use::Down);
            let fits = faster.map(|(index, rate)| (index, at_rate(rate.modulation))).find(|(_, us)| *us <= allowed_us);
            let notice = Notice::OverDutyCycle {
                sub_band: band.name,
                frames: used.frames,
                airtime_us: used.airtime_us,
                allowed_us,
                frame_us,
                fits,
            };
            effects.push(notice.told(now, dev_eui));
        }
        let Some(device) = self.devices.get_mut(&dev_eui) else { return };
        let day = device.ledger.day(now);
        if let Some(allowed_us) = device.config.policy.airtime_us
            && day.airtime_us > allowed_us
            && fresh(device.link().told_policy, DAY_US)
        {
            device.link().told_policy = Some(now);
            let notice = Notice::OverPolicy { airtime_us: day.airtime_us, allowed_us };
            effects.push(notice.told(now, dev_eui));
        }
    }
}

/// A device's sessions at the frame's address.
fn sessions_at<'a>(device: &'a Device, view: &DataView<'_>) -> impl Iterator<Item = (&'a Session, Which)> {
    let dev_addr = view.dev_addr();
    let running = device.session.as_deref().map(|session| (session, Which::Running));
    let next = device.next_session.as_deref().map(|session| (session, Which::Next));
    running.into_iter().chain(next).filter(move |(session, _)| session.dev_addr == dev_addr)
}

/// Data rate and channel of an uplink, as a MIC of 1.1 binds them; several, if several of the device's channels have its
/// frequency. Empty for other sessions, whose MIC binds neither.
fn ways(profile: &RadioProfile, session: &Session, frame: &Collected) -> Vec<SentOn> {
    if !session.speaks_1_1 {
        return Vec::new();
    }
    let plan = profile.plan();
    let radio = frame.radio();
    let Some(data_rate) = plan.uplink_data_rate_of(radio.modulation) else { return Vec::new() };
    // A channel that the network has added carries more data rates than the table says.
    let network = plan.network_uplinks().filter(|channel| channel.frequency_hz == radio.frequency_hz);
    let mut indices: Vec<u8> = network.map(|channel| channel.index).collect();
    // Its answer to a NewChannelReq may not have been heard: a channel may be where it was, or where it is wanted.
    let extra = profile.extra_channels().zip(session.settings.extra_hz);
    let here = extra.filter(|(wanted, known)| [wanted.frequency_hz, *known].contains(&radio.frequency_hz));
    indices.extend(here.map(|(wanted, _)| wanted.index));
    indices.into_iter().map(|channel| SentOn { data_rate, channel }).collect()
}
