//! Choosing when, where and by whom a downlink is sent.
//!
//! A class A device listens twice after each uplink (TS001 §3.3): in RX1, on the uplink's frequency at a
//! data rate that follows from the uplink's, and a second later in RX2, on fixed ones. A class B device
//! listens in its ping slots as well (TS001-1.1 §13), one of class C always on RX2's channel (§16). Here
//! the ways are listed; [`choose`] takes the one that costs least of what is scarce.

use lorawan::class_b::{BEACON_PERIOD_S, PING_SLOT_US, PingSlots, beacon_time_s};
use lorawan::region::{ClassBFrequencies, JOIN_ACCEPT_DELAY1_S, JoinChannel, Plan, RX2_AFTER_RX1_S};
use lorawan::{DevAddr, airtime, gps_time};

use crate::device::settings::Settings;
use crate::downlink::candidate::{AT_ONCE_LATEST_US, Busy, Candidate, Channel, LEAD_US, Near};
use crate::gateway::{Gateway, Gateways};
use crate::io::config::EstateId;
use crate::io::frame::Reception;
use crate::io::transmission::{When, WhyRx2, Window};
use crate::time::Timestamp;
use crate::uplink::collect::Collected;

/// How long before its time a frame for a ping slot is made and handed over: what an uplink asks for meanwhile has to
/// go first.
pub(crate) const SLOT_AHEAD_US: i64 = 1_000_000;

/// Time for a frame to be made durable and to reach the gateway before a moment that is of our choosing.
const AHEAD_US: i64 = 300_000;

/// A header with nothing behind it, in bytes: MHDR, FHDR, MIC.
pub(crate) const HEADER_LEN: usize = 12;

/// Ping slots considered, from the next on.
const SLOTS: usize = 4;

/// Gateways whose SNR differs by less than this count as equally good.
const SAME_QUALITY_DB: f32 = 4.0;

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

/// The ways that are open, best first.
#[derive(Debug)]
pub(crate) struct Ways {
    pub(crate) open: Vec<Candidate>,
    /// What to say if the first of them is RX2.
    pub(crate) why_rx2: WhyRx2,
}

/// Puts the ways that are open in order, best first, for a frame of `len` bytes.
///
/// The windows of a class A device come in the order of what they cost: a window's share of the airtime
/// that is left counts, so that a long answer goes where there is more of it. Within a window the gateway
/// that hears the device best comes first; of several as good, the one with most airtime left.
pub(crate) fn choose(
    gateways: &Gateways,
    // The estate of its device; none for a beacon.
    estate: Option<EstateId>,
    now: Timestamp,
    candidates: Vec<Candidate>,
    len: usize,
) -> Result<Ways, NoWay> {
    let mut open = Vec::with_capacity(candidates.len());
    let mut closed = Closed::default();
    for candidate in candidates {
        let Some(gateway) = gateways
            .get(&candidate.gateway)
            .filter(|g| estate.is_none_or(|estate| g.serves(estate)) && g.can(now, &candidate))
        else {
            continue;
        };
        match look(gateway, &candidate, now, len) {
            Ok(cost) => open.push((candidate, cost)),
            Err(obstacle) => closed.note(&candidate, obstacle),
        }
    }
    if open.is_empty() {
        return Err(closed.no_way());
    }
    let cheapest = |window: Window| {
        open.iter().filter(|(c, _)| c.window == window).map(|(_, cost)| *cost).fold(f64::INFINITY, f64::min)
    };
    let (rx1_share, rx2_share) = (cheapest(Window::Rx1), cheapest(Window::Rx2));
    // RX1 comes first and leaves RX2 to fall back on; it has to cost twice as much to be passed over.
    sort(&mut open, rx2_share * 2.0 < rx1_share);
    let why_rx2 = if rx1_share.is_finite() {
        WhyRx2::Cheaper { rx1_share, rx2_share }
    } else {
        closed.rx1.unwrap_or(WhyRx2::NoRx1)
    };
    Ok(Ways { open: open.into_iter().map(|(candidate, _)| candidate).collect(), why_rx2 })
}

/// Why one way is closed.
#[derive(Clone, Copy)]
enum Obstacle {
    TooLate,
    Busy(Busy),
    /// Airtime is missing until then; never, if it is more than any hour grants.
    Airtime(Option<Timestamp>),
}

/// Whether a gateway can send by a way, and what share of the airtime that it has left this takes.
fn look(gateway: &Gateway, candidate: &Candidate, now: Timestamp, len: usize) -> Result<f64, Obstacle> {
    if !candidate.in_time(now) {
        return Err(Obstacle::TooLate);
    }
    let (from, to) = candidate.occupies(len);
    if let Some((until, with)) = gateway.busy_with(from, to) {
        return Err(Obstacle::Busy(Busy { gateway: candidate.gateway, with, until }));
    }
    let airtime_us = candidate.airtime_us(len);
    if !gateway.ledger.allows(candidate.sub_band, candidate.at, airtime_us) {
        return Err(Obstacle::Airtime(gateway.ledger.allowed_from(candidate.sub_band, candidate.at, airtime_us)));
    }
    let left_us = gateway.ledger.left_us(candidate.sub_band, candidate.at);
    Ok(airtime_us as f64 / left_us.max(1) as f64)
}

/// Why the closed ways are closed.
#[derive(Default)]
struct Closed {
    airtime: Option<(Timestamp, &'static str)>,
    /// With how well that gateway hears the device.
    busy: Option<(Busy, f32)>,
    late: bool,
    /// What keeps RX1 closed; the first reason of several.
    rx1: Option<WhyRx2>,
}

impl Closed {
    fn note(&mut self, candidate: &Candidate, obstacle: Obstacle) {
        let sub_band = candidate.sub_band.name;
        let why = match obstacle {
            Obstacle::TooLate => {
                self.late = true;
                WhyRx2::TooLate
            }
            Obstacle::Busy(busy) => {
                if self.busy.is_none_or(|(_, quality)| candidate.quality > quality) {
                    self.busy = Some((busy, candidate.quality));
                }
                WhyRx2::Busy
            }
            Obstacle::Airtime(Some(until)) => {
                let later = (until, sub_band);
                self.airtime = Some(self.airtime.map_or(later, |known| known.min(later)));
                WhyRx2::Airtime { sub_band }
            }
            Obstacle::Airtime(None) => return,
        };
        if candidate.window == Window::Rx1 {
            self.rx1.get_or_insert(why);
        }
    }

    /// Why nobody can send: what passes soonest is told first.
    fn no_way(self) -> NoWay {
        match (self.airtime, self.busy) {
            (Some((until, sub_band)), _) => NoWay::Airtime { sub_band, until },
            (None, Some((busy, _))) => NoWay::Busy(busy),
            (None, None) if self.late => NoWay::TooLate,
            (None, None) => NoWay::Nobody,
        }
    }
}

/// Best first; each with its share of the airtime that its gateway has left.
fn sort(open: &mut [(Candidate, f64)], rx2_first: bool) {
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
}
