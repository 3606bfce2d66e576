//! What the engine keeps of a gateway: its limits, its account, when it is busy sending and what it has
//! turned out not to be able to do.

use lorawan::Eui64;
use lorawan::region::Region;
use rustc_hash::FxHashMap;

use crate::clock_step::shift;
use crate::effect::TransmissionId;
use crate::estates::EstateId;
use crate::ledger::{BandUse, Ledger, Used};
use crate::schedule::{Candidate, When};
use crate::time::Timestamp;

/// A gateway that has reported GPS time this long ago still has it.
const GPS_HOLDS_US: i64 = 600_000_000;
/// What a gateway has refused for good reason is not asked of it again for so long.
const CANNOT_US: i64 = 3_600_000_000;

/// A gateway as registered.
#[derive(Debug, Clone, PartialEq)]
pub struct GatewayConfig {
    /// Its EUI.
    pub eui: Eui64,
    /// Whose it is.
    pub estate: EstateId,
    /// Whether it serves other estates' devices as well.
    pub open: bool,
    /// Where it stands, and so which limits it keeps.
    pub region: Region,
    /// Antenna gain less cable loss.
    pub antenna_gain_dbi: f32,
    /// Latitude and longitude, told in its beacons.
    pub position_deg: Option<(f64, f64)>,
    /// Whether it is to send class B beacons, as long as it has GPS time.
    pub beacons: bool,
}

impl GatewayConfig {
    /// A gateway of the first estate, not open to others, without beacons and without a known place.
    pub fn new(eui: Eui64, region: Region, antenna_gain_dbi: f32) -> Self {
        Self { eui, estate: 0, open: false, region, antenna_gain_dbi, position_deg: None, beacons: false }
    }
}

/// What can be told of a gateway.
#[derive(Debug, Clone, PartialEq)]
pub struct GatewayStatus {
    /// Airtime of the last hour, by sub-band.
    pub airtime: Vec<BandUse>,
    /// Everything sent in the last 24 hours.
    pub day: Used,
    /// Whether it has GPS time.
    pub has_gps: bool,
}

/// Gateways by EUI. Fast rather than safe against chosen keys: an owner chooses them, not the air.
pub(crate) type Gateways = FxHashMap<Eui64, Gateway>;

#[derive(Debug)]
pub(crate) struct Gateway {
    pub(crate) config: GatewayConfig,
    pub(crate) ledger: Ledger,
    /// Transmissions to come: a gateway has one transmitter.
    busy: Vec<(Timestamp, Timestamp, TransmissionId)>,
    gps_seen: Option<Timestamp>,
    /// Frequencies it does not send on, and until when that is believed.
    cannot: Vec<(u32, Timestamp)>,
    /// Whether a timer for its next beacon is set.
    pub(crate) beacon_set: bool,
}

impl Gateway {
    pub(crate) fn new(config: GatewayConfig) -> Self {
        let ledger = Ledger::default();
        Self { config, ledger, busy: Vec::new(), gps_seen: None, cannot: Vec::new(), beacon_set: false }
    }

    pub(crate) fn free(&self, from: Timestamp, to: Timestamp) -> bool {
        self.busy.iter().all(|(begin, end, _)| to <= *begin || *end <= from)
    }

    /// When a transmission of this length could begin, from `from` on.
    pub(crate) fn free_from(&self, from: Timestamp, length_us: i64) -> Timestamp {
        let mut at = from;
        let mut busy: Vec<_> = self.busy.iter().map(|(begin, end, _)| (*begin, *end)).collect();
        busy.sort_unstable();
        for (begin, end) in busy {
            if at.plus_us(length_us) > begin && at < end {
                at = end;
            }
        }
        at
    }

    pub(crate) fn reserve(&mut self, now: Timestamp, from: Timestamp, to: Timestamp, id: TransmissionId) {
        self.busy.retain(|(_, end, _)| *end > now);
        self.busy.push((from, to, id));
    }

    pub(crate) fn release(&mut self, id: TransmissionId) {
        self.busy.retain(|(.., held)| *held != id);
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

    /// Remembers that it does not send on a frequency.
    pub(crate) fn cannot(&mut self, frequency_hz: u32, now: Timestamp) {
        self.cannot.retain(|(hz, until)| *hz != frequency_hz && *until > now);
        self.cannot.push((frequency_hz, now.plus_us(CANNOT_US)));
    }

    /// Whether it could send this, airtime aside.
    pub(crate) fn can(&self, now: Timestamp, candidate: &Candidate) -> bool {
        let refused = self.cannot.iter().any(|(hz, until)| *hz == candidate.frequency_hz && now < *until);
        let no_clock = matches!(candidate.when, When::Gps(_)) && !self.has_gps(now);
        !refused && !no_clock
    }

    /// The clock was set by so much.
    pub(crate) fn shift(&mut self, by_us: i64) {
        for (begin, end, _) in &mut self.busy {
            (*begin, *end) = (begin.plus_us(by_us), end.plus_us(by_us));
        }
        shift(&mut self.gps_seen, by_us);
        self.cannot.iter_mut().for_each(|(_, until)| *until = until.plus_us(by_us));
        self.ledger.shift(by_us);
        // Its next beacon is planned anew.
        self.beacon_set = false;
    }

    pub(crate) fn status(&self, now: Timestamp) -> GatewayStatus {
        GatewayStatus {
            airtime: self.ledger.report(self.config.region.plan(), now),
            day: self.ledger.day(now),
            has_gps: self.has_gps(now),
        }
    }
}
