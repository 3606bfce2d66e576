//! When and where a device listens.

use lorawan::class_b::{BEACON_PERIOD_S, PingSlots, beacon_time_s};
use lorawan::gps_time;
use lorawan::region::Plan;
use lorawan::{DevAddr, Modulation, class_b::Beacon};

use super::session::Session;
use super::{Device, Emission, Group, Listens};

/// A window counts as hit when the frame begins this near to its opening: some symbols of the preamble
/// may be lost.
const TOLERANCE_US: i64 = 5_000;
/// How long after a window has opened a frame can still begin.
pub(super) const OPEN_US: i64 = 200_000;
/// A device goes on without a beacon for two hours (TS001-1.1 §12.1).
const BEACONLESS_S: i64 = 7200;

#[derive(Debug, Clone, Copy)]
pub(super) struct Window {
    opens_us: i64,
    frequency_hz: u32,
    modulation: Modulation,
}

/// RX1 and RX2 after an emission, the first opening at `opens_us`.
pub(super) fn after(
    plan: &'static Plan,
    session: Option<&Session>,
    emission: &Emission,
    joining: bool,
    opens_us: i64,
) -> Vec<Window> {
    let uplink_rate = plan.uplink_data_rate_of(emission.modulation);
    let (offset, dwell_time) = match session {
        Some(session) => (session.rx1_offset, session.downlink_dwell_time),
        None => (0, plan.dwell.downlink_ms.is_some()),
    };
    let modulation = |rate: Option<u8>| rate.and_then(|r| plan.data_rate(r)).map(|r| r.modulation);
    let rx1 = modulation(uplink_rate.and_then(|rate| plan.rx1_data_rate(rate, offset, dwell_time)));
    let join_channel = if joining { plan.join_channel(emission.frequency_hz) } else { None };
    let by_rule = || uplink_rate.and_then(|rate| plan.rx1_frequency_hz(emission.frequency_hz, rate));
    let moved = session.and_then(|session| session.rx1_moved_to(plan, emission.frequency_hz));
    let rx1_hz = moved.or(join_channel.map(|c| c.rx1_frequency_hz)).or_else(by_rule).unwrap_or(emission.frequency_hz);
    let (rx2_hz, rx2_rate) = match (join_channel, session) {
        (Some(channel), _) => (channel.rx2_frequency_hz, plan.rx2_data_rate),
        (None, Some(session)) => (session.rx2_frequency_hz, session.rx2_data_rate),
        (None, None) => (plan.rx2_frequency_hz, plan.rx2_data_rate),
    };
    let window = |opens_us, frequency_hz, modulation: Option<Modulation>| {
        modulation.map(|modulation| Window { opens_us, frequency_hz, modulation })
    };
    [window(opens_us, rx1_hz, rx1), window(opens_us + 1_000_000, rx2_hz, modulation(Some(rx2_rate)))]
        .into_iter()
        .flatten()
        .collect()
}

/// Whether a ping slot of this address begins at a GPS time.
fn in_slot(gps_us: i64, address: DevAddr, periodicity: u8) -> bool {
    let period_s = beacon_time_s((gps_us / 1_000_000) as u32);
    let offset_us = gps_us - i64::from(period_s) * 1_000_000;
    let slots = PingSlots::of(period_s, address, periodicity);
    slots.is_some_and(|slots| slots.starts_us().any(|start| (offset_us - start as i64).abs() <= TOLERANCE_US))
}

impl Device {
    /// Whether a frame that begins at `at_us` would be received.
    pub fn listens(&self, at_us: i64, frequency_hz: u32, modulation: Modulation) -> bool {
        let hit = |w: &Window| (at_us - w.opens_us).abs() <= TOLERANCE_US;
        let fits = |hz: u32, other: Modulation| hz == frequency_hz && other == modulation;
        if self.windows.iter().any(|w| hit(w) && fits(w.frequency_hz, w.modulation)) {
            return true;
        }
        let Some(session) = &self.session else { return false };
        let plan = self.plan();
        let modulation_of = |rate| plan.data_rate(rate).map(|rate| rate.modulation);
        let gps_us = gps_time::from_unix_us(at_us).max(0);
        let for_group = |group: &Group| {
            let listening = match group.ping_periodicity {
                None => true,
                Some(n) => self.knows_time(gps_us / 1_000_000) && in_slot(gps_us, group.address, n),
            };
            listening && modulation_of(group.data_rate).is_some_and(|m| fits(group.frequency_hz, m))
        };
        if self.groups.iter().any(for_group) {
            return true;
        }
        match self.build.listens {
            Listens::AfterUplinks => false,
            Listens::Always => modulation_of(session.rx2_data_rate).is_some_and(|m| fits(session.rx2_frequency_hz, m)),
            Listens::InPingSlots(periodicity) => {
                let period_s = beacon_time_s((gps_us / 1_000_000) as u32);
                let hz = session.ping_frequency_hz.unwrap_or_else(|| {
                    plan.class_b_frequencies(period_s, session.dev_addr, session.join_channel).ping_slot_hz
                });
                self.knows_time(gps_us / 1_000_000)
                    && in_slot(gps_us, session.dev_addr, periodicity)
                    && modulation_of(session.ping_data_rate).is_some_and(|m| fits(hz, m))
            }
        }
    }

    fn knows_time(&self, gps_s: i64) -> bool {
        self.beacon_s.is_some_and(|heard| gps_s - i64::from(heard) < BEACONLESS_S)
    }

    /// Whether beacons are of use to it.
    pub fn looks_for_beacons(&self) -> bool {
        matches!(self.build.listens, Listens::InPingSlots(_))
    }

    /// Whether it says in its uplinks that its ping slots are open.
    pub fn in_class_b(&self) -> bool {
        matches!(self.build.listens, Listens::InPingSlots(_)) && self.beacon_s.is_some()
    }

    /// Whether downlinks reach it without its having sent.
    pub fn listens_by_itself(&self) -> bool {
        self.in_class_b() || matches!(self.build.listens, Listens::Always)
    }

    /// Takes a beacon that was sent at `at_us`; says whether it was one.
    pub fn hear_beacon(&mut self, bytes: &[u8], modulation: Modulation, at_us: i64) -> bool {
        let Some((sf, _)) = modulation.lora_parts() else { return false };
        let Ok(beacon) = Beacon::parse(bytes, sf) else { return false };
        let gps_s = gps_time::from_unix_us(at_us).max(0) / 1_000_000;
        if beacon.time_s % BEACON_PERIOD_S != 0 || i64::from(beacon.time_s) != gps_s {
            return false;
        }
        self.beacon_s = Some(beacon.time_s);
        true
    }

    /// Two hours without a beacon: back to class A.
    pub fn lose_beacon(&mut self) {
        self.beacon_s = None;
    }
}
