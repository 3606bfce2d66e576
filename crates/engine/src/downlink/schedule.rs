//! Choosing when, where and by whom a downlink is sent.
//!
//! A class A device listens twice after each uplink (TS001 §3.3): in RX1, on the uplink's frequency at a
//! data rate that follows from the uplink's, and a second later in RX2, on fixed ones. A class B device
//! listens in its ping slots as well (TS001-1.1 §13), one of class C always on RX2's channel (§16). Here
//! the ways are listed; [`choose`] takes the one that costs least of what is scarce.

use lorawan::airtime;
use lorawan::class_b::{BEACON_PERIOD_S, PING_SLOT_US, PingSlots, beacon_time_s};
use lorawan::gps_time;
use lorawan::region::{
    ClassBFrequencies, JOIN_ACCEPT_DELAY1_S, JoinChannel, PayloadLimits, Plan, RX2_AFTER_RX1_S, SubBand,
};
use lorawan::{DevAddr, Eui64, Modulation};

use crate::device::Near;
use crate::device::settings::Settings;
use crate::downlink::frame::To;
use crate::estates::EstateId;
use crate::gateway::Gateways;
use crate::io::frame::Reception;
use crate::time::Timestamp;
use crate::uplink::collect::Collected;

/// Time a gateway needs between being handed a frame and sending it.
pub(crate) const LEAD_US: i64 = 60_000;
/// A frame that is sent at once may leave so much later than planned. Whoever hands it over keeps to this, so that
/// gateways are never given two frames for one moment.
pub const AT_ONCE_LATEST_US: i64 = 500_000;
/// A frame for a ping slot is made and handed over so long before: what an uplink asks for meanwhile has to go first.
pub(crate) const SLOT_AHEAD_US: i64 = 1_000_000;
/// Time for a frame to be made durable and to reach the gateway before a moment that is of our choosing.
const AHEAD_US: i64 = 300_000;
/// The most that common concentrators give; RX2's sub-band would allow more.
const MAX_GATEWAY_EIRP_DBM: f32 = 27.0;
/// A header with nothing behind it, in bytes: MHDR, FHDR, MIC.
pub(crate) const HEADER_LEN: usize = 12;
/// Ping slots considered, from the next on.
const SLOTS: usize = 4;
/// Gateways that differ by less in how well they hear a device are as good as each other.
const SAME_QUALITY_DB: f32 = 4.0;

/// What a transmission is for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Window {
    /// The first window after an uplink.
    Rx1,
    /// The second.
    Rx2,
    /// A slot between two beacons.
    PingSlot,
    /// A class C device's window that is always open.
    ClassC,
    /// Everyone who looks for a beacon.
    Beacon,
}

impl Window {
    /// As written everywhere.
    pub const fn name(self) -> &'static str {
        match self {
            Window::Rx1 => "RX1",
            Window::Rx2 => "RX2",
            Window::PingSlot => "ping slot",
            Window::ClassC => "class C",
            Window::Beacon => "beacon",
        }
    }
}

/// A moment in a gateway's own terms.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum When {
    /// Its clock in microseconds, which wraps.
    Clock(u32),
    /// As soon as it has the frame.
    AtOnce,
    /// Microseconds since the GPS epoch.
    Gps(i64),
}

/// One way to send a downlink.
#[derive(Debug, Clone)]
pub(crate) struct Candidate {
    pub(crate) gateway: Eui64,
    pub(crate) window: Window,
    pub(crate) at: Timestamp,
    pub(crate) when: When,
    pub(crate) frequency_hz: u32,
    pub(crate) modulation: Modulation,
    /// Largest FRMPayload in this window.
    pub(crate) max_payload: usize,
    pub(crate) sub_band: &'static SubBand,
    /// How well this gateway hears the device.
    pub(crate) quality: f32,
}

impl Candidate {
    pub(crate) fn airtime_us(&self, len: usize) -> u64 {
        match (self.window, self.modulation) {
            (Window::Beacon, Modulation::Lora { spreading_factor, bandwidth }) => {
                airtime::LoraPacket::BEACON.airtime_us(spreading_factor, bandwidth.hz(), len)
            }
            _ => airtime::downlink_us(self.modulation, len),
        }
    }

    pub(crate) fn end(&self, len: usize) -> Timestamp {
        self.at.plus_us(self.airtime_us(len) as i64)
    }

    /// From when to when its gateway may be sending. One that is to send at once does so when it has the frame.
    pub(crate) fn occupies(&self, len: usize) -> (Timestamp, Timestamp) {
        match self.when {
            When::AtOnce => (self.at.plus_us(-LEAD_US), self.end(len).plus_us(AT_ONCE_LATEST_US)),
            When::Clock(_) | When::Gps(_) => (self.at, self.end(len)),
        }
    }

    pub(crate) fn in_time(&self, now: Timestamp) -> bool {
        now.plus_us(LEAD_US) <= self.at
    }

    /// Power at the connector: the sub-band's EIRP less the antenna's gain, in whole decibels.
    pub(crate) fn power_dbm(&self, antenna_gain_dbi: f32) -> i32 {
        (self.sub_band.gateway_eirp_dbm.min(MAX_GATEWAY_EIRP_DBM) - antenna_gain_dbi).floor() as i32
    }
}

/// A channel to send on: frequency, modulation, room for payload, and the law.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Channel {
    pub(crate) frequency_hz: u32,
    pub(crate) modulation: Modulation,
    pub(crate) max_payload: usize,
    pub(crate) sub_band: &'static SubBand,
}

impl Channel {
    /// `None` on a frequency outside every sub-band, which may not be sent on, or at a rate that is too
    /// slow for it.
    pub(crate) fn of(plan: &'static Plan, frequency_hz: u32, data_rate: u8, dwell_time: bool) -> Option<Self> {
        let sub_band = plan.sub_band(frequency_hz)?;
        let max_payload = plan.max_payload(data_rate, PayloadLimits { repeater: false, dwell_time })?;
        Some(Self { frequency_hz, modulation: plan.data_rate(data_rate)?.modulation, max_payload, sub_band })
    }

    pub(crate) fn candidate(self, near: (Eui64, f32), window: Window, at: Timestamp, when: When) -> Candidate {
        let Self { frequency_hz, modulation, max_payload, sub_band } = self;
        let (gateway, quality) = near;
        Candidate { gateway, window, at, when, frequency_hz, modulation, max_payload, sub_band, quality }
    }
}

/// What a downlink follows, which decides when and where the windows open.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum After {
    /// A join-request, or a rejoin-request.
    Join(Option<JoinChannel>),
    /// A data frame.
    Data,
}

/// All ways to answer `frame` in the two windows after it.
pub(crate) fn after_uplink(
    plan: &'static Plan,
    settings: &Settings,
    frame: &Collected,
    after: After,
) -> Vec<Candidate> {
    let uplink = frame.radio();
    let dwell_time = settings.downlink_dwell_time;
    let rate = plan.uplink_data_rate_of(uplink.modulation);
    let by_rule = || rate.and_then(|rate| settings.rx1_frequency_hz(plan, uplink.frequency_hz, rate));
    let (rx1_delay_s, rx1_hz, rx2_hz) = match after {
        After::Join(Some(channel)) => (JOIN_ACCEPT_DELAY1_S, Some(channel.rx1_frequency_hz), channel.rx2_frequency_hz),
        After::Join(None) => (JOIN_ACCEPT_DELAY1_S, by_rule(), settings.rx2_frequency_hz),
        After::Data => (settings.rx_delay_s, by_rule(), settings.rx2_frequency_hz),
    };
    let rx1_rate = rate.and_then(|rate| plan.rx1_data_rate(rate, settings.rx1_data_rate_offset, dwell_time));
    let windows = [
        rx1_hz.zip(rx1_rate).map(|(hz, rate)| (Window::Rx1, rx1_delay_s, hz, rate)),
        Some((Window::Rx2, rx1_delay_s + RX2_AFTER_RX1_S, rx2_hz, settings.rx2_data_rate)),
    ];
    let mut out = Vec::with_capacity(2 * frame.copies.len());
    for (window, delay_s, frequency_hz, rate) in windows.into_iter().flatten() {
        let Some(channel) = Channel::of(plan, frequency_hz, rate, dwell_time) else { continue };
        let delay_us = 1_000_000 * u32::from(delay_s);
        out.extend(frame.copies.iter().map(|copy: &Reception| {
            let at = copy.heard_at.plus_us(i64::from(delay_us));
            let when = When::Clock(copy.clock_us.wrapping_add(delay_us));
            channel.candidate((copy.gateway, copy.quality()), window, at, when)
        }));
    }
    out
}

/// All ways to reach a class C device from `now` on, by gateways that have heard it. A gateway that is busy
/// is listed with the moment when it no longer is.
pub(crate) fn at_once(
    channel: Channel,
    near: &[Near],
    gateways: &Gateways,
    now: Timestamp,
    len: usize,
) -> Vec<Candidate> {
    let length_us = LEAD_US + airtime::downlink_us(channel.modulation, len) as i64 + AT_ONCE_LATEST_US;
    near.iter()
        .filter_map(|near| {
            let at = gateways.get(&near.gateway)?.free_from(now, length_us).plus_us(LEAD_US);
            Some(channel.candidate((near.gateway, near.quality), Window::ClassC, at, When::AtOnce))
        })
        .collect()
}

/// All ways to reach a class B device in its next ping slots.
pub(crate) fn ping_slots(
    plan: &'static Plan,
    settings: &Settings,
    dev_addr: DevAddr,
    near: &[Near],
    now: Timestamp,
) -> Vec<Candidate> {
    let Some(periodicity) = settings.ping_periodicity else { return Vec::new() };
    let join = settings.class_b_first_hz;
    let mut out = Vec::new();
    let mut slots = 0;
    let now_us = gps_time::from_unix_us(now.plus_us(AHEAD_US).0).max(0);
    let mut period_s = beacon_time_s((now_us / 1_000_000) as u32);
    // The slots of this period may all be over, and then the next has some.
    for _ in 0..2 {
        let start_us = i64::from(period_s) * 1_000_000;
        let Some(all) = PingSlots::of(period_s, dev_addr, periodicity) else { return out };
        let hz = settings.ping_frequency_hz.unwrap_or_else(|| frequencies(plan, period_s, dev_addr, join).ping_slot_hz);
        let Some(channel) = Channel::of(plan, hz, settings.ping_data_rate, settings.downlink_dwell_time) else {
            return out;
        };
        let starts = all.starts_us().map(|us| start_us + us as i64).filter(|us| *us >= now_us);
        for gps_us in starts.take(SLOTS - slots) {
            slots += 1;
            let at = Timestamp(gps_time::to_unix_us(gps_us));
            out.extend(
                near.iter().map(|near| {
                    channel.candidate((near.gateway, near.quality), Window::PingSlot, at, When::Gps(gps_us))
                }),
            );
        }
        period_s += BEACON_PERIOD_S;
    }
    out
}

/// When a class B device listens next, and microseconds from there to the slot after it.
pub(crate) fn next_ping_slot(settings: &Settings, dev_addr: DevAddr, now: Timestamp) -> Option<(Timestamp, i64)> {
    let periodicity = settings.ping_periodicity?;
    let now_us = gps_time::from_unix_us(now.plus_us(AHEAD_US).0).max(0);
    let this_s = beacon_time_s((now_us / 1_000_000) as u32);
    // The slots of this period may all be over, and then the next has some.
    [this_s, this_s + BEACON_PERIOD_S].into_iter().find_map(|period_s| {
        let slots = PingSlots::of(period_s, dev_addr, periodicity)?;
        let start_us = i64::from(period_s) * 1_000_000;
        let at = slots.next_after_us((now_us - start_us).max(0) as u64)?;
        let at = Timestamp(gps_time::to_unix_us(start_us + at as i64));
        Some((at, i64::from(slots.period) * PING_SLOT_US as i64))
    })
}

/// Where class B listens, with the channel that a join of CN470 has decided.
pub(crate) fn frequencies(
    plan: &'static Plan,
    period_s: u32,
    dev_addr: DevAddr,
    first_hz: Option<u32>,
) -> ClassBFrequencies {
    let join = first_hz.and_then(|hz| plan.join_channels().find(|c| c.class_b_first_hz == Some(hz)));
    plan.class_b_frequencies(period_s, dev_addr, join)
}

/// Why nobody can send.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum NoWay {
    /// There is no window, or nobody who has heard the device.
    Nobody,
    /// Only airtime is missing, in this sub-band, until then.
    Airtime { sub_band: &'static str, until: Timestamp },
    /// Another frame to the device itself is under way until then, and its windows have passed by then.
    UnderWay { until: Timestamp },
    /// Its windows open too soon for a frame to reach any gateway in time.
    TooLate,
    /// The gateway that hears it best sends something else then, and so do the others.
    Busy(Busy),
}

/// A gateway that has something else to send.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Busy {
    pub(crate) gateway: Eui64,
    /// Whom that is for.
    pub(crate) with: To,
    pub(crate) until: Timestamp,
}

/// Why RX2 was taken, although RX1 comes first.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum WhyRx2 {
    /// RX1 would use up more than twice as much of the airtime that is left.
    Cheaper {
        /// Share of the airtime left that RX1 would take.
        rx1_share: f64,
        /// Share that RX2 takes.
        rx2_share: f64,
    },
    /// The frame does not fit into RX1.
    TooLong {
        /// Bytes to be sent.
        len: usize,
        /// Bytes that RX1's data rate allows.
        max: usize,
    },
    /// RX1 opened too soon for the frame to reach a gateway in time.
    TooLate,
    /// The gateways that hear the device send something else during RX1.
    Busy,
    /// RX1's sub-band has no airtime left.
    Airtime {
        /// The sub-band.
        sub_band: &'static str,
    },
    /// A gateway did not send it in RX1.
    Refused,
    /// There is no RX1 after this uplink: its frequency or data rate has none.
    NoRx1,
}

/// The ways that are open, best first.
#[derive(Debug)]
pub(crate) struct Ways {
    pub(crate) open: Vec<Candidate>,
    /// What to say if the first of them is RX2.
    pub(crate) why_rx2: WhyRx2,
}

impl std::fmt::Display for WhyRx2 {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            WhyRx2::Cheaper { rx1_share, rx2_share } => write!(
                f,
                "RX1 would take {:.2} % of the airtime left in its sub-band, RX2 takes {:.2} %",
                rx1_share * 100.0,
                rx2_share * 100.0
            ),
            WhyRx2::TooLong { len, max } => write!(f, "{len} bytes do not fit into RX1, which takes {max}"),
            WhyRx2::TooLate => f.write_str("RX1 was too near for the frame to reach a gateway in time"),
            WhyRx2::Busy => f.write_str("every gateway that hears the device sends something else during RX1"),
            WhyRx2::Airtime { sub_band } => write!(f, "sub-band {sub_band} of RX1 has no airtime left"),
            WhyRx2::Refused => f.write_str("the gateway did not send it in RX1"),
            WhyRx2::NoRx1 => f.write_str("there is no RX1 after an uplink on this frequency and data rate"),
        }
    }
}

/// Puts the ways that are open in order, best first, for a frame of `len` bytes.
///
/// The windows of a class A device come in the order of what they cost: a window's share of the airtime
/// that is left counts, so that a long answer goes where there is more of it. Within a window the gateway
/// that hears the device best comes first; of several as good, the one with most airtime left.
pub(crate) fn choose(
    gateways: &Gateways,
    // Whose device it is for; none for whoever listens.
    estate: Option<EstateId>,
    now: Timestamp,
    candidates: Vec<Candidate>,
    len: usize,
) -> Result<Ways, NoWay> {
    let mut open = Vec::with_capacity(candidates.len());
    let mut eases: Option<(Timestamp, &'static str)> = None;
    let mut busy: Option<(Busy, f32)> = None;
    let mut late = false;
    // What keeps RX1 closed; the first reason of several.
    let mut closed: Option<WhyRx2> = None;
    for candidate in candidates {
        let Some(gateway) = gateways
            .get(&candidate.gateway)
            .filter(|g| estate.is_none_or(|estate| g.serves(estate)) && g.can(now, &candidate))
        else {
            continue;
        };
        let mut closes = |why| {
            if candidate.window == Window::Rx1 {
                closed.get_or_insert(why);
            }
        };
        let (from, to) = candidate.occupies(len);
        if !candidate.in_time(now) {
            late = true;
            closes(WhyRx2::TooLate);
            continue;
        }
        if let Some((until, with)) = gateway.busy_with(from, to) {
            let here = Busy { gateway: candidate.gateway, with, until };
            if busy.is_none_or(|(_, quality)| candidate.quality > quality) {
                busy = Some((here, candidate.quality));
            }
            closes(WhyRx2::Busy);
            continue;
        }
        let airtime_us = candidate.airtime_us(len);
        if gateway.ledger.allows(candidate.sub_band, candidate.at, airtime_us) {
            let left_us = gateway.ledger.left_us(candidate.sub_band, candidate.at);
            let cost = airtime_us as f64 / left_us.max(1) as f64;
            open.push((candidate, cost));
        } else if let Some(until) = gateway.ledger.allowed_from(candidate.sub_band, candidate.at, airtime_us) {
            closes(WhyRx2::Airtime { sub_band: candidate.sub_band.name });
            let later = (until, candidate.sub_band.name);
            eases = Some(eases.map_or(later, |known| known.min(later)));
        }
    }
    if open.is_empty() {
        return Err(match eases {
            Some((until, sub_band)) => NoWay::Airtime { sub_band, until },
            None => match busy {
                Some((busy, _)) => NoWay::Busy(busy),
                None if late => NoWay::TooLate,
                None => NoWay::Nobody,
            },
        });
    }
    let cheapest = |window: Window| {
        open.iter().filter(|(c, _)| c.window == window).map(|(_, cost)| *cost).fold(f64::INFINITY, f64::min)
    };
    // RX1 comes first and leaves RX2 to fall back on; it has to cost twice as much to be passed over.
    let (rx1_share, rx2_share) = (cheapest(Window::Rx1), cheapest(Window::Rx2));
    let rx2_first = rx2_share * 2.0 < rx1_share;
    let best = open.iter().map(|(c, _)| c.quality).fold(f32::NEG_INFINITY, f32::max);
    let class_of = |quality: f32| ((best - quality) / SAME_QUALITY_DB) as i32;
    open.sort_by(|(a, cost_a), (b, cost_b)| {
        let window = |c: &Candidate| match c.window {
            Window::Rx1 => i64::from(rx2_first),
            Window::Rx2 => i64::from(!rx2_first),
            Window::PingSlot => c.at.0,
            Window::ClassC | Window::Beacon => 0,
        };
        window(a)
            .cmp(&window(b))
            .then(class_of(a.quality).cmp(&class_of(b.quality)))
            .then(cost_a.total_cmp(cost_b))
            .then(b.quality.total_cmp(&a.quality))
    });
    let why_rx2 =
        if rx1_share.is_finite() { WhyRx2::Cheaper { rx1_share, rx2_share } } else { closed.unwrap_or(WhyRx2::NoRx1) };
    Ok(Ways { open: open.into_iter().map(|(candidate, _)| candidate).collect(), why_rx2 })
}
