//! What the engine keeps of a gateway: its limits, its account, when it is busy sending and what it has
//! turned out not to be able to do.

use lorawan::Eui64;
use rustc_hash::FxHashMap;

use crate::downlink::candidate::{Candidate, To};
use crate::io::config::GatewayConfig;
use crate::io::frame::Reception;
use crate::io::transmission::{TransmissionId, When};
use crate::ledger::{BandUse, Ledger, Used};
use crate::time::{Timestamp, shift};

/// A gateway that has reported GPS time this long ago still has it.
const GPS_HOLDS_US: i64 = 600_000_000;

/// How much the delay from a gateway may change between two frames before a frame counts as late.
const CLOCKS_DRIFT_US: i64 = 100_000;

/// Late frames in a row after which the gateway's clock counts as restarted.
const CLOCK_RESTARTED: u8 = 8;

/// How long a gateway is not asked again for what it has refused with a reason that lasts.
const CANNOT_US: i64 = 3_600_000_000;

/// A gateway's status.
#[derive(Debug, Clone, PartialEq)]
pub struct GatewayStatus {
    /// Airtime of the last hour, by sub-band.
    pub airtime: Vec<BandUse>,
    /// Everything sent in the last 24 hours.
    pub day: Used,
    /// Whether it has GPS time.
    pub has_gps: bool,
    /// Frequencies that it is believed not to send on.
    pub cannot: Vec<CannotSend>,
}

/// A time in which a gateway sends.
#[derive(Debug)]
struct Reserved {
    from: Timestamp,
    to: Timestamp,
    id: TransmissionId,
    whom: To,
}

/// A frequency that a gateway is believed not to send on, since it has refused to.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct CannotSend {
    /// The frequency.
    pub frequency_hz: u32,
    /// When it refused.
    pub since: Timestamp,
    /// When it is tried again.
    pub until: Timestamp,
}

/// Gateways by EUI. Fast rather than safe against chosen keys: an owner chooses them, not the air.
pub(crate) type Gateways = FxHashMap<Eui64, Gateway>;

#[derive(Debug)]
pub(crate) struct Gateway {
    pub(crate) config: GatewayConfig,
    pub(crate) ledger: Ledger,
    /// Transmissions to come: a gateway has one transmitter.
    busy: Vec<Reserved>,
    gps_seen: Option<Timestamp>,
    /// What it has refused, and until when that is believed.
    cannot: Vec<CannotSend>,
    /// Whether a timer for its next beacon is set.
    pub(crate) beacon_set: bool,
    clock: Option<ClockSeen>,
}

/// One moment on both clocks: the gateway's, and the service's when the frame came in.
#[derive(Debug, Clone, Copy)]
struct ClockSeen {
    clock_us: u32,
    heard_at: Timestamp,
    /// Late frames since then. If all frames are late, the gateway has restarted its clock.
    late: u8,
}

impl ClockSeen {
    /// How much longer a frame took from the gateway to here than the one at this moment.
    fn late_us(&self, copy: &Reception) -> i64 {
        let elapsed_us = copy.heard_at.since(self.heard_at);
        // The gateway's clock wraps: of all differences, the one nearest to what has passed here.
        let behind = (elapsed_us as u32).wrapping_sub(copy.clock_us.wrapping_sub(self.clock_us));
        i64::from(behind as i32)
    }
}

impl Gateway {
    pub(crate) fn new(config: GatewayConfig) -> Self {
        let ledger = Ledger::default();
        Self { config, ledger, busy: Vec::new(), gps_seen: None, cannot: Vec::new(), beacon_set: false, clock: None }
    }

    /// Until when it sends something else in this time, and for whom that is.
    pub(crate) fn busy_with(&self, from: Timestamp, to: Timestamp) -> Option<(Timestamp, To)> {
        self.busy.iter().find(|other| other.from < to && from < other.to).map(|other| (other.to, other.whom))
    }

    /// When a transmission of this length could begin, from `from` on.
    pub(crate) fn free_from(&self, from: Timestamp, length_us: i64) -> Timestamp {
        let mut at = from;
        let mut busy: Vec<_> = self.busy.iter().map(|other| (other.from, other.to)).collect();
        busy.sort_unstable();
        for (begin, end) in busy {
            if at.plus_us(length_us) > begin && at < end {
                at = end;
            }
        }
        at
    }

    /// Keeps a time for a transmission. What has ended by `now` is forgotten.
    pub(crate) fn reserve(&mut self, now: Timestamp, (from, to): (Timestamp, Timestamp), id: TransmissionId, whom: To) {
        self.busy.retain(|other| other.to > now);
        self.busy.push(Reserved { from, to, id, whom });
    }

    pub(crate) fn release(&mut self, id: TransmissionId) {
        self.busy.retain(|held| held.id != id);
    }

    /// Compares its clock with ours.
    pub(crate) fn follow_clock(&mut self, copy: &Reception) {
        let new = ClockSeen { clock_us: copy.clock_us, heard_at: copy.heard_at, late: 0 };
        match &mut self.clock {
            Some(seen) if seen.late_us(copy) > CLOCKS_DRIFT_US && seen.late < CLOCK_RESTARTED => seen.late += 1,
            clock => *clock = Some(new),
        }
    }

    /// How late a copy has come from it, against the frames before.
    pub(crate) fn late_us(&self, copy: &Reception) -> i64 {
        self.clock.map_or(0, |seen| seen.late_us(copy).max(0))
    }

    pub(crate) fn saw_gps(&mut self, at: Timestamp) {
        self.gps_seen = Some(at);
    }

    pub(crate) fn lost_gps(&mut self) {
        self.gps_seen = None;
    }

    pub(crate) fn has_gps(&self, now: Timestamp) -> bool {
        self.gps_seen.is_some_and(|at| now.since(at) < GPS_HOLDS_US)
    }

    /// Notes that it does not send on a frequency.
    pub(crate) fn cannot(&mut self, frequency_hz: u32, now: Timestamp) {
        self.cannot.retain(|known| known.frequency_hz != frequency_hz && known.until > now);
        self.cannot.push(CannotSend { frequency_hz, since: now, until: now.plus_us(CANNOT_US) });
    }

    /// Forgets what it has refused, so that it is asked again.
    pub(crate) fn forget_refusals(&mut self) {
        self.cannot.clear();
    }

    /// Whether it can send this, without regard to airtime.
    pub(crate) fn can(&self, now: Timestamp, candidate: &Candidate) -> bool {
        let refused = self.cannot.iter().any(|known| known.frequency_hz == candidate.frequency_hz && now < known.until);
        let no_clock = matches!(candidate.when, When::Gps(_)) && !self.has_gps(now);
        !refused && !no_clock
    }

    /// The clock was set by this much.
    pub(crate) fn shift(&mut self, by_us: i64) {
        for reserved in &mut self.busy {
            (reserved.from, reserved.to) = (reserved.from.plus_us(by_us), reserved.to.plus_us(by_us));
        }
        shift(&mut self.gps_seen, by_us);
        if let Some(seen) = &mut self.clock {
            seen.heard_at = seen.heard_at.plus_us(by_us);
        }
        for known in &mut self.cannot {
            (known.since, known.until) = (known.since.plus_us(by_us), known.until.plus_us(by_us));
        }
        self.ledger.shift(by_us);
        // Its next beacon is planned again.
        self.beacon_set = false;
    }

    pub(crate) fn status(&self, now: Timestamp) -> GatewayStatus {
        GatewayStatus {
            airtime: self.ledger.report(self.config.region.plan(), now),
            day: self.ledger.day(now),
            has_gps: self.has_gps(now),
            cannot: self.cannot.iter().filter(|known| now < known.until).copied().collect(),
        }
    }
}
