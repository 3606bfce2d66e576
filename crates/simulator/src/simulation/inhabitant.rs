//! A device with its sensor and its habits.

use api::problem::Problem;
use coverage::geo::Place;
use coverage::terrain::mosaic::Terrain;
use lorawan::Eui64;
use lorawan::mac::UpCommand;
use rand::{Rng, RngExt as _};

use super::days_ago;
use crate::air::Spot;
use crate::device::{Device, Emission};
use crate::environment::MomentUs;
use crate::on_air::Burst;
use crate::scenario::{DeviceEntry, Scenario, Spell};
use crate::sensor::{Cell, Sensor, SensorKind};
use crate::walk::{Herd, wander};

/// Uplinks from one LinkCheckReq of a device to the next.
const LINK_CHECK_EVERY: u32 = 48;
/// How soon a device that always listens, or in ping slots, acknowledges what it hears without having sent. The
/// network waits no longer than CLASS_B_RESP_TIMEOUT or CLASS_C_RESP_TIMEOUT, 8 s by default (RP002 §2.3).
pub(super) const ACKNOWLEDGED_AFTER_S: std::ops::Range<f64> = 1.0..4.0;
/// Between two join-requests that were not answered, at first; then less and less often (TS001 §7: join back-off).
const JOIN_AGAIN_S: f64 = 20.0;
const JOINS_AT_FIRST: u32 = 45;
const JOIN_AGAIN_LATEST_S: f64 = 1800.0;
/// From the join to the first uplink.
const FIRST_UPLINK_US: i64 = 500_000;

/// What a device sends.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Frame {
    Join,
    Rejoin,
    Uplink,
}

/// A frame that is sent, or whose windows are open.
#[derive(Debug, Clone)]
pub(super) struct UnderWay {
    pub frame: Frame,
    pub emission: Emission,
    pub burst: Burst,
}

pub(super) struct Inhabitant {
    entry: DeviceEntry,
    dev_eui: Eui64,
    pub device: Device,
    pub sensor: Sensor,
    pub spot: Spot,
    herd: Option<Herd>,
    seed: u64,
    present_us: MomentUs,
    /// The wake that counts, and when it is.
    pub plan: u32,
    pub wakes_us: MomentUs,
    pub under_way: Option<UnderWay>,
    /// How often the present uplink is still to be sent.
    repeats: u8,
    /// When an acknowledgement is to go out.
    pub soon_us: Option<MomentUs>,
    /// Uplinks in its life.
    pub sent: u32,
    /// Join-requests in vain.
    pub tries: u32,
    /// When its last uplink began.
    pub begun_us: MomentUs,
}

impl Inhabitant {
    pub(super) fn new(
        entry: &DeviceEntry,
        scenario: &Scenario,
        (present_us, seed): (MomentUs, u64),
    ) -> Result<Self, Problem> {
        let (identity, build) = entry.to_build()?;
        let seed = seed ^ identity.dev_eui.0;
        let cell =
            Cell { since_us: days_ago(present_us, entry.battery_days), lasts_days: entry.battery_lasts_days.max(1.0) };
        let place = Place { latitude_deg: entry.latitude_deg, longitude_deg: entry.longitude_deg };
        let herd = entry.herd.as_deref().and_then(|name| scenario.herd(name)).cloned();
        Ok(Self {
            dev_eui: identity.dev_eui,
            device: Device::new(identity, build, seed),
            sensor: Sensor::new(entry.sensor, seed, cell),
            spot: Spot { place, height_m: entry.height_m, walks: entry.sensor == SensorKind::Collar },
            herd,
            seed,
            present_us,
            plan: 0,
            wakes_us: 0,
            under_way: None,
            repeats: 0,
            soon_us: None,
            sent: 0,
            tries: 0,
            begun_us: 0,
            entry: entry.clone(),
        })
    }

    pub(super) fn name(&self) -> &str {
        &self.entry.name
    }

    pub(super) fn dev_eui(&self) -> Eui64 {
        self.dev_eui
    }

    /// When it would wake next if nothing came between.
    pub(super) fn next_plain_wake_us(&self) -> MomentUs {
        self.begun_us + (self.interval_s(self.begun_us) * 1e6) as i64
    }

    /// How it was at that time, if it was not as it is.
    fn spell(&self, at_us: MomentUs) -> Option<Spell> {
        self.entry.before.iter().find(|spell| at_us < days_ago(self.present_us, spell.until_days_ago)).copied()
    }

    fn interval_s(&self, at_us: MomentUs) -> f64 {
        self.spell(at_us).and_then(|spell| spell.interval_s).unwrap_or(self.entry.interval_s)
    }

    /// What it sends when it wakes.
    pub(super) fn wake(&mut self, at_us: MomentUs, terrain: &Terrain) -> Option<(Frame, Emission)> {
        self.begun_us = at_us;
        self.walk(at_us, terrain);
        if !self.device.joined() {
            return Some((Frame::Join, self.device.join_request()));
        }
        self.sent += 1;
        let due = |every: Option<u32>| every.is_some_and(|every| self.sent.is_multiple_of(every));
        let (restarts, rejoins) = (due(self.entry.restarts_every), due(self.entry.rejoins_every));
        if self.sent.is_multiple_of(LINK_CHECK_EVERY) {
            self.device.ask(UpCommand::LinkCheckReq);
        }
        if restarts {
            self.device.restart();
        }
        if rejoins && let Some(emission) = self.device.rejoin_request(0) {
            return Some((Frame::Rejoin, emission));
        }
        self.uplink(at_us)
    }

    fn uplink(&mut self, at_us: MomentUs) -> Option<(Frame, Emission)> {
        self.sensor.become_kind(self.spell(at_us).and_then(|spell| spell.sensor).unwrap_or(self.entry.sensor));
        self.device.set_battery(self.sensor.battery(at_us));
        let (port, payload) = self.sensor.measure(at_us, self.spot.place);
        let emission = self.device.uplink(port, &payload, self.entry.confirmed)?;
        self.repeats = self.device.nb_trans().saturating_sub(1);
        Some((Frame::Uplink, emission))
    }

    /// Goes where it is at that time.
    fn walk(&mut self, at_us: MomentUs, terrain: &Terrain) {
        if !self.spot.walks {
            return;
        }
        let home = Place { latitude_deg: self.entry.latitude_deg, longitude_deg: self.entry.longitude_deg };
        self.spot.place = match &self.herd {
            Some(herd) => herd.animal(self.seed, at_us, terrain),
            None => wander(home, self.seed, at_us, terrain),
        };
    }

    /// What it sends right after its windows have closed.
    pub(super) fn goes_on(&mut self, at_us: MomentUs, terrain: &Terrain) -> Option<(Frame, Emission)> {
        let frame = self.under_way.take()?.frame;
        match frame {
            Frame::Uplink if self.repeats > 0 => {
                self.repeats -= 1;
                Some((Frame::Uplink, self.device.again()?))
            }
            Frame::Rejoin => {
                self.walk(at_us, terrain);
                // The running session goes on if no answer came.
                self.uplink(at_us)
            }
            Frame::Uplink | Frame::Join => None,
        }
    }

    /// When it wakes after that.
    pub(super) fn next_wake(&mut self, now_us: MomentUs, rng: &mut impl Rng) -> MomentUs {
        // Real intervals are never quite even, and two devices must not collide for ever.
        let jitter = rng.random_range(0.94..1.06);
        let after = |from_us: MomentUs, seconds: f64| (from_us + (seconds * jitter * 1e6) as i64).max(now_us + 1);
        if let Some(soon_us) = self.soon_us.take() {
            return soon_us.max(now_us + 1);
        }
        if !self.device.joined() {
            self.tries += 1;
            let doubled = self.tries.saturating_sub(JOINS_AT_FIRST).min(12);
            return after(now_us, (JOIN_AGAIN_S * f64::from(1u32 << doubled)).min(JOIN_AGAIN_LATEST_S));
        }
        if self.just_joined() {
            return now_us + FIRST_UPLINK_US;
        }
        after(self.begun_us, self.interval_s(now_us))
    }

    /// Whether it has just joined.
    fn just_joined(&mut self) -> bool {
        let first = self.sent == 0 || self.tries > 0;
        self.tries = 0;
        first
    }
}
