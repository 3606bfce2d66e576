//! Accepting data frames: keys, counters, repetitions, acknowledgements.

use lorawan::region::{SubBand, Use};
use lorawan::wire::DataView;
use lorawan::{Eui64, airtime, counter};

use crate::device::Device;
use crate::device::profile::{Class, RadioProfile, Rates};
use crate::device::session::{NetworkKeys, SentOn, Session};
use crate::device::settings::Settings;
use crate::downlink::item::OutboxId;
use crate::downlink::reply::Due;
use crate::downlink::transmit::airtime_change;
use crate::estates::tell_discarded;
use crate::io::change::Change;
use crate::io::event::{Event, UplinkEvent};
use crate::ledger::Transmitter;
use crate::mac::Heard;
use crate::notice::Notice;
use crate::step::Step;
use crate::time::{DAY_US, Timestamp};
use crate::uplink::collect::Collected;
use crate::uplink::follow::Accepted;
use crate::uplink::refusal::Refusal;
use crate::{Engine, mac};

/// Two sendings of one uplink lie no further apart: RX2 has closed, and a random pause of seconds
/// (TS001 §4.3.1.1 and §19.1) has passed, even at a low duty cycle.
const REPETITION_US: i64 = 120_000_000;
/// How often a device of any version sends a frame at most: NbTrans has four bits.
const MOST_TIMES: u8 = 15;
/// A frame that took this much longer than others from its gateway to here is a late copy.
const LATE_US: i64 = 1_000_000;
/// How long until the same excess is told again.
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

/// Whose a frame is.
#[allow(clippy::large_enum_variant)] // the large one is the common one
enum Verdict {
    Of(Eui64, Judged),
    Nobody,
    /// A device of an estate whose gateways have not heard it.
    Elsewhere,
}

/// Whether a device's frame is new.
#[allow(clippy::large_enum_variant)] // the large one is the common one
enum Judged {
    New(New),
    /// The last frame again, the same bytes.
    Repeated,
    TooLow {
        received: u32,
        last: u32,
    },
    /// More uplinks would be lost than the device's version allows.
    TooFar {
        received: u32,
        last: u32,
        limit: u32,
    },
}

/// The result of checking a frame against one session.
#[allow(clippy::large_enum_variant)] // the large one is the common one
enum Claim {
    /// Its MIC was not made in it.
    Foreign,
    /// It was, this many counters after the last.
    Ahead(u32, New),
    /// It was, and its counter has to be checked further.
    Settled(Judged),
}

impl Engine {
    pub(crate) fn data_up(&mut self, step: &mut Step<'_>, view: &DataView<'_>, frame: &Collected) -> Option<Eui64> {
        let dev_addr = view.dev_addr();
        let (dev_eui, judged) = match self.judge(view, frame) {
            Some(Verdict::Of(dev_eui, judged)) => (dev_eui, judged),
            Some(Verdict::Elsewhere) => {
                tell_discarded(step, frame.copies.len());
                return None;
            }
            Some(Verdict::Nobody) => {
                self.refuse_unknown(step, frame, Refusal::DataMic { dev_addr });
                return None;
            }
            None => {
                self.refuse_unknown(step, frame, Refusal::UnknownDevAddr { dev_addr });
                return None;
            }
        };
        let device = self.devices.get(&dev_eui)?;
        let (estate, unserved) = (device.config.estate, device.unserved(false));
        let kept = self.kept_for(step, frame, estate);
        if !matches!(unserved, Some(Refusal::Quarantined { .. })) {
            self.book_uplink(step, dev_eui, &kept);
        }
        match unserved {
            Some(why) => step.publish(kept.refused(Some(dev_eui), why)),
            None => self.data_of(step, dev_eui, judged, (view, &kept)),
        }
        Some(dev_eui)
    }

    /// A data frame of a device that is served.
    fn data_of(
        &mut self,
        step: &mut Step<'_>,
        dev_eui: Eui64,
        judged: Judged,
        (view, frame): (&DataView<'_>, &Collected),
    ) {
        match judged {
            Judged::TooLow { received, last } => {
                let reason = self.came_late(frame, received, last).unwrap_or(Refusal::CounterTooLow { received, last });
                step.publish(frame.refused(Some(dev_eui), reason));
            }
            Judged::TooFar { received, last, limit } => {
                step.publish(frame.refused(Some(dev_eui), Refusal::CounterGap { received, last, limit }));
            }
            Judged::Repeated => self.repeated(step, dev_eui, view, frame),
            Judged::New(new) => {
                if new.which == Which::Next {
                    self.begin_session(step, dev_eui);
                }
                if let Some(last) = new.restarted_after {
                    step.tell(dev_eui, Notice::CounterRestarted { received: new.counter, last });
                    self.begins_anew(step, dev_eui);
                }
                self.accept(step, &new, view, frame);
            }
        }
    }

    /// Finds the session in which the frame was made; `None` if the address is not in use at all. A MIC of
    /// four bytes may agree in several: then the one whose counter is nearest is taken, and how many others
    /// there are is told.
    fn judge(&self, view: &DataView<'_>, frame: &Collected) -> Option<Verdict> {
        let sharing = self.by_addr.get(&view.dev_addr())?;
        let mut verdict = Verdict::Nobody;
        let mut nearest: Option<(u32, New)> = None;
        let (mut agree, mut unheard) = (0, 0);
        for device in sharing.iter().filter_map(|dev_eui| self.devices.get(dev_eui)) {
            let heard = self.heard_for(frame, device.config.estate);
            unheard += usize::from(!heard);
            for (session, which) in sessions_at(device, view) {
                match claim(device, (session, which), view, frame) {
                    Claim::Foreign => {}
                    _ if !heard => {
                        if matches!(verdict, Verdict::Nobody) {
                            verdict = Verdict::Elsewhere;
                        }
                    }
                    Claim::Settled(Judged::Repeated) => {
                        return Some(Verdict::Of(device.config.dev_eui, Judged::Repeated));
                    }
                    Claim::Settled(judged) => verdict = Verdict::Of(device.config.dev_eui, judged),
                    Claim::Ahead(gap, new) => {
                        agree += 1;
                        if nearest.as_ref().is_none_or(|(known, _)| gap < *known) {
                            nearest = Some((gap, new));
                        }
                    }
                }
            }
        }
        if let Some((_, new)) = nearest {
            return Some(Verdict::Of(new.dev_eui, Judged::New(New { also: agree - 1, ..new })));
        }
        // To the estates whose gateways heard it, an address that only other estates use is not in use.
        let elsewhere_only = matches!(verdict, Verdict::Nobody) && unheard == sharing.len();
        (!elsewhere_only).then_some(verdict)
    }

    /// Whether a frame with a counter of before was on its way for long, rather than sent again: each gateway that
    /// brings it had heard it long before.
    fn came_late(&self, frame: &Collected, counter: u32, last: u32) -> Option<Refusal> {
        let late = frame.copies.iter().map(|copy| {
            let gateway = self.gateways.get(&copy.gateway);
            (gateway.map_or(0, |gateway| gateway.late_us(copy)), copy.gateway)
        });
        let (late_us, gateway) = late.min()?;
        (late_us >= LATE_US).then_some(Refusal::CameLate { counter, last, gateway, late_ms: late_us / 1000 })
    }

    /// The last uplink again: the device is set to send each several times, or did not hear our
    /// acknowledgement. Later, or more often, it is a replay.
    fn repeated(&mut self, step: &mut Step<'_>, dev_eui: Eui64, view: &DataView<'_>, frame: &Collected) {
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
            step.publish(frame.refused(Some(dev_eui), reason));
            return;
        }
        link.last_heard = frame.first_heard();
        link.heard_by(frame);
        step.tell(dev_eui, Notice::Repeated { counter, times, nb_trans });
        if view.confirmed() {
            let due = Due { acknowledge: true, ..Due::default() };
            self.answer(step, dev_eui, due, frame);
        }
    }

    /// The first uplink under the session agreed upon last: the one before has ended.
    fn begin_session(&mut self, step: &mut Step<'_>, dev_eui: Eui64) {
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
        step.persist(Change::Began { dev_eui, counters });
        if let Some((id, _)) = device.outbox.awaiting_ack() {
            let why = "the device has begun a new session";
            device.outbox.return_or_fail(step, id, why, attempts, class);
        }
        self.attach(dev_eui);
        step.tell(dev_eui, Notice::SessionBegan { dev_addr, replaces });
    }

    /// A personalized device that restarts its counter has forgotten its settings as well: it sends at full power again, and
    /// knows only the channels of its region. It is told again what the network wants.
    fn begins_anew(&mut self, step: &mut Step<'_>, dev_eui: Eui64) {
        let Some(device) = self.devices.get_mut(&dev_eui) else { return };
        let settings = Settings::personalized(&device.config.profile);
        let Some(session) = device.session.as_deref_mut() else { return };
        session.settings = settings;
        let link = device.link();
        link.negotiation.reset();
        link.history.clear();
        link.decision = None;
        step.persist(Change::Settings { dev_eui, settings: Box::new(settings) });
    }

    fn accept(&mut self, step: &mut Step<'_>, new: &New, view: &DataView<'_>, frame: &Collected) {
        let dev_eui = new.dev_eui;
        let Some(device) = self.devices.get_mut(&dev_eui) else { return };
        let mut warnings = Vec::new();
        let lost = device.take_counter(step, new, view, &mut warnings);
        let Some((mut event, heard)) = device.open(new, view, frame) else { return };
        event.warnings.splice(..0, warnings);
        let awaited = device.outbox.awaiting_ack();
        let acknowledged = device.acknowledged_by(new, view, frame);
        let flags = view.uplink_flags();
        if flags.ack && !acknowledged {
            event.warnings.push("the device acknowledges a downlink that is not awaited".into());
        }
        let accepted = Accepted { counter: new.counter, data_rate: event.data_rate, flags, heard, frame };
        step.publish(Event::Uplink(Box::new(event)));
        device.settle_awaited(step, awaited, acknowledged);

        let followed = device.follow(step.now, &accepted);
        if let Some(link) = device.link.as_deref_mut().filter(|link| link.changed) {
            link.changed = false;
            let near = link.near.iter().map(|near| (near.gateway, near.quality)).collect();
            step.persist(Change::Near { dev_eui, class: link.class, near });
        }
        if let (true, Some(session)) = (followed.changed, device.session.as_deref()) {
            step.persist(Change::Settings { dev_eui, settings: Box::new(session.settings) });
        }
        let adr = flags.adr || matches!(device.config.profile.rates, Rates::Fixed { .. });
        let asks = device.asks(step.now, adr);
        lost.into_iter().chain(followed.notices).for_each(|notice| step.tell(dev_eui, notice));
        let mac_answers = accepted.heard.answers;
        let due = Due { acknowledge: view.confirmed(), sign: flags.adr_ack_req, mac_answers, asks };
        self.answer(step, dev_eui, due, frame);
        self.look_at_outbox(step, dev_eui);
    }

    /// Books a frame on its device's account, and says so if that is more than the law or the fleet allows.
    pub(crate) fn book_uplink(&mut self, step: &mut Step<'_>, dev_eui: Eui64, frame: &Collected) {
        let Some(device) = self.devices.get_mut(&dev_eui) else { return };
        let Some(band) = device.config.plan().sub_band(frame.best().frequency_hz) else { return };
        let booked = device.ledger.book(band.name, frame.best().heard_at, frame.airtime_us());
        step.persist(airtime_change(Transmitter::Device(dev_eui), band.name, booked));
        if let Some(notice) = device.over_duty_cycle(step.now, band, frame) {
            step.tell(dev_eui, notice);
        }
        if let Some(notice) = device.over_policy(step.now) {
            step.tell(dev_eui, notice);
        }
    }
}

/// Whether a notice may be repeated that was given then.
fn told_long_ago(told: Option<Timestamp>, now: Timestamp, every_us: i64) -> bool {
    told.is_none_or(|at| now.since(at) >= every_us)
}

impl Device {
    /// The content of a new frame; nothing if the session has ended in the meantime.
    fn open(&self, new: &New, view: &DataView<'_>, frame: &Collected) -> Option<(UplinkEvent, Heard)> {
        let session = self.session.as_deref()?;
        let (payload, mac_commands) = session.open(&new.keys, view, new.counter);
        let mut heard = mac::hear(&mac_commands, self.config.profile.version, frame);
        let plan = self.config.plan();
        let modulation = frame.radio().modulation;
        let data_rate = plan.uplink_data_rate_of(modulation);
        let mut warnings = Vec::from_iter(heard.warning.take());
        if data_rate.is_none() {
            warnings.push(format!("{modulation} is not a data rate of {}", plan.name));
        }
        let event = UplinkEvent {
            dev_eui: new.dev_eui,
            dev_addr: view.dev_addr(),
            counter: new.counter,
            port: view.fport(),
            confirmed: view.confirmed(),
            adr: view.uplink_flags().adr,
            payload,
            mac_commands,
            frame: frame.told(),
            data_rate,
            power_dbm: plan.tx_power.dbm(session.settings.adr.tx_power),
            warnings,
        };
        Some((event, heard))
    }

    /// Notes a new frame's counter, and tells of those before it that were not heard.
    fn take_counter(
        &mut self,
        step: &mut Step<'_>,
        new: &New,
        view: &DataView<'_>,
        warnings: &mut Vec<String>,
    ) -> Option<Notice> {
        let session = self.session.as_deref_mut()?;
        let received = new.counter;
        let missed = |last: u32| received.saturating_sub(last).saturating_sub(1);
        let lost = session.counters.up.map(|last| (missed(last), last)).filter(|(lost, _)| *lost > 0);
        session.counters.up = Some(received);
        session.counters.last_mic = view.mic();
        step.persist(Change::Counters { dev_eui: new.dev_eui, counters: session.counters });
        if let Some((lost, _)) = lost {
            warnings.push(format!("{lost} uplinks before this one were not heard"));
        }
        if new.also > 0 {
            let also = new.also;
            warnings.push(format!(
                "the MIC agrees with {also} more sessions at this address; the nearest counter was taken"
            ));
        }
        lost.map(|(lost, last)| Notice::UplinksLost { lost, last, received })
    }

    /// Whether a frame acknowledges the downlink that waits for it. Each transmission of it had its own counter, and
    /// the device may have heard any of them.
    fn acknowledged_by(&self, new: &New, view: &DataView<'_>, frame: &Collected) -> bool {
        let (Some((id, down)), Some(session)) = (self.outbox.awaiting_ack(), self.session.as_deref()) else {
            return false;
        };
        let tries = u32::from(self.outbox.attempts_of(id).saturating_sub(1));
        let ways = ways(&self.config.profile, session, frame);
        let may_mean = down.saturating_sub(tries)..=down;
        view.uplink_flags().ack && !session.acknowledges_earlier(&new.keys, (view, new.counter), &ways, may_mean)
    }

    /// What an uplink means for the downlink whose acknowledgement was awaited. A class A device that heard it says so
    /// in its very next uplink (TS001 §4.3.1.2), so one without it means that it was not heard. The others have a time
    /// for it.
    fn settle_awaited(&mut self, step: &mut Step<'_>, awaited: Option<(OutboxId, u32)>, acknowledged: bool) {
        let (class, attempts) = (self.class(), self.config.profile.attempts);
        match awaited {
            Some((id, counter)) if acknowledged => self.outbox.acknowledged(step, id, counter),
            Some((id, _)) if class == Class::A => {
                let why = "the device's next uplink did not acknowledge it";
                self.outbox.return_or_fail(step, id, why, attempts, class);
            }
            _ => {}
        }
    }

    /// Whether it is on air for longer than the law allows in an hour, which is told once an hour.
    fn over_duty_cycle(&mut self, now: Timestamp, band: &'static SubBand, frame: &Collected) -> Option<Notice> {
        let used = self.ledger.used(band.name, now);
        let allowed_us = band.hourly_allowance_us();
        if used.airtime_us <= allowed_us || !told_long_ago(self.link().told_over, now, TELL_AGAIN_US) {
            return None;
        }
        self.link().told_over = Some(now);
        let at_rate = |modulation| airtime::uplink_us(modulation, frame.phy_payload.len()) * u64::from(used.frames);
        let faster = self.config.plan().data_rates().filter(|(_, rate)| rate.direction != Use::Down);
        let fits = faster.map(|(index, rate)| (index, at_rate(rate.modulation))).find(|(_, us)| *us <= allowed_us);
        Some(Notice::OverDutyCycle {
            sub_band: band.name,
            frames: used.frames,
            airtime_us: used.airtime_us,
            allowed_us,
            frame_us: frame.airtime_us(),
            fits,
        })
    }

    /// Whether it is on air for longer than its fleet grants in a day, which is told once a day.
    fn over_policy(&mut self, now: Timestamp) -> Option<Notice> {
        let airtime_us = self.ledger.day(now).airtime_us;
        let allowed_us = self.config.policy.airtime_us.filter(|allowed_us| airtime_us > *allowed_us)?;
        if !told_long_ago(self.link().told_policy, now, DAY_US) {
            return None;
        }
        self.link().told_policy = Some(now);
        Some(Notice::OverPolicy { airtime_us, allowed_us })
    }
}

/// Checks a frame against a device's session.
fn claim(device: &Device, (session, which): (&Session, Which), view: &DataView<'_>, frame: &Collected) -> Claim {
    let (dev_eui, profile) = (device.config.dev_eui, &device.config.profile);
    let ways = ways(profile, session, frame);
    let keys = session.network_keys();
    let made = |counter: &u32| session.made(&keys, view, *counter, &ways);
    let last = session.counters.up;
    let candidates = counter::candidates(last, view.counter_low());
    if let Some(ahead) = candidates.ahead.filter(made) {
        let gap = ahead - last.unwrap_or(0);
        if let (Some(last), Some(limit)) = (last, profile.counter_gap_limit())
            && gap > limit
        {
            return Claim::Settled(Judged::TooFar { received: ahead, last, limit });
        }
        return Claim::Ahead(gap, New { dev_eui, which, keys, counter: ahead, restarted_after: None, also: 0 });
    }
    let (Some(behind), Some(last)) = (candidates.behind, last) else { return Claim::Foreign };
    if behind == last && session.repeats(&keys, view, last) {
        return Claim::Settled(Judged::Repeated);
    }
    // A device that lost its memory starts over at 0, so the high half may be 0 as well.
    let restarted = u32::from(view.counter_low());
    let Some(received) = [behind, restarted].into_iter().find(made) else { return Claim::Foreign };
    if profile.counter_restart && received == restarted {
        let restarted_after = Some(last);
        return Claim::Settled(Judged::New(New { dev_eui, which, keys, counter: received, restarted_after, also: 0 }));
    }
    Claim::Settled(Judged::TooLow { received, last })
}

/// A device's sessions at the frame's address.
fn sessions_at<'a>(device: &'a Device, view: &DataView<'_>) -> impl Iterator<Item = (&'a Session, Which)> {
    let dev_addr = view.dev_addr();
    let running = device.session.as_deref().map(|session| (session, Which::Running));
    let next = device.next_session.as_deref().map(|session| (session, Which::Next));
    running.into_iter().chain(next).filter(move |(session, _)| session.dev_addr == dev_addr)
}

/// Data rate and channel of an uplink, as a MIC of 1.1 binds them; several, if several of the device's channels have
/// its frequency. Empty for other sessions, whose MIC binds neither.
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
