//! What the engine keeps of a device.

pub(crate) mod adr;
pub(crate) mod profile;
pub(crate) mod session;
pub(crate) mod settings;

use lorawan::{Eui64, MacVersion};

use crate::device::adr::{AdrDecision, History};
use crate::device::profile::Class;
use crate::device::session::Session;
use crate::downlink::candidate::{Candidate, Near};
use crate::downlink::item::Wait;
use crate::downlink::outbox::Outbox;
use crate::downlink::schedule;
use crate::io::config::{DeviceConfig, DeviceRecord, Nonces};
use crate::io::frame::Reception;
use crate::ledger::{BandUse, Ledger, Used};
use crate::mac::{Negotiated, Negotiation, RefusedSetting};
use crate::time::{DAY_US, Timestamp, shift};
use crate::uplink::collect::Collected;
use crate::uplink::refusal::Refusal;

/// Gateways remembered as being near a device.
const NEAR: usize = 8;

/// Subtracted from a gateway's SNR for each uplink that it missed.
const MISSED_DB: f32 = 10.0;

/// A device's status.
#[derive(Debug, Clone, PartialEq)]
pub struct DeviceStatus {
    /// The running session.
    pub session: Option<Session>,
    /// A session agreed upon, before the first uplink under it.
    pub next_session: Option<Session>,
    /// Its class now.
    pub class: Class,
    /// How far device and network agree; none without a session.
    pub negotiated: Option<Negotiated>,
    /// The last decision of adaptive data rate.
    pub adr: Option<AdrDecision>,
    /// Airtime of the last hour, by sub-band.
    pub airtime: Vec<BandUse>,
    /// Uplinks of the last 24 hours.
    pub day: Used,
    /// Downlinks to it of the last 24 hours.
    pub day_down: Used,
    /// Until when the next downlink in its outbox waits at least, if airtime or a limit holds it.
    pub held_until: Option<Timestamp>,
    /// For class B: the next ping slot, and microseconds between two of them.
    pub ping_slots: Option<(Timestamp, i64)>,
}

impl DeviceStatus {
    /// Whether it has a session, even if nothing was heard under it yet.
    pub const fn has_joined(&self) -> bool {
        self.session.is_some() || self.next_session.is_some()
    }

    /// What a downlink waits for that has just been added.
    pub const fn first_wait(&self) -> Wait {
        Wait::first(self.has_joined(), self.class)
    }
}

/// Concerns about a device that works.
#[derive(Debug, Clone, PartialEq)]
pub struct DeviceAttention {
    /// The device.
    pub dev_eui: Eui64,
    /// Sub-bands in which it has used [`NEAR_PERCENT`](crate::NEAR_PERCENT) of an hour's allowance or more.
    pub airtime: Vec<BandUse>,
    /// What it refuses to be set to.
    pub refused: Vec<RefusedSetting>,
}

#[derive(Debug)]
pub(crate) struct Device {
    pub(crate) config: DeviceConfig,
    pub(crate) session: Option<Box<Session>>,
    pub(crate) next_session: Option<Box<Session>>,
    pub(crate) nonces: Nonces,
    pub(crate) outbox: Outbox,
    pub(crate) ledger: Ledger,
    /// Downlinks to it.
    pub(crate) towards: Ledger,
    pub(crate) link: Option<Box<Link>>,
    /// Whether a timer is set that will look at its outbox, and for when.
    pub(crate) looks_at: Option<Timestamp>,
    /// Until then a frame to it is under way. Another one would drown it out, or arrive before it, and then its lower
    /// counter would be refused.
    pub(crate) on_air_until: Timestamp,
    /// Whether its state cannot be kept, so that it is not served.
    pub(crate) quarantined: bool,
}

/// What the engine learns from a device's frames; after a restart it is learned again.
#[derive(Debug)]
pub(crate) struct Link {
    pub(crate) class: Class,
    pub(crate) negotiation: Negotiation,
    pub(crate) history: History,
    pub(crate) decision: Option<AdrDecision>,
    pub(crate) near: Vec<Near>,
    /// Whether class or gateways are others than were last made durable.
    pub(crate) changed: bool,
    /// When the last uplink came, new or again, and how often it has been heard.
    pub(crate) last_heard: Timestamp,
    pub(crate) times_heard: u8,
    /// When a notice last said that the device is on air too much.
    pub(crate) told_over: Option<Timestamp>,
    pub(crate) told_policy: Option<Timestamp>,
}

impl Link {
    fn new(class: Class) -> Self {
        Self {
            class: class.at_first(),
            negotiation: Negotiation::default(),
            history: History::default(),
            decision: None,
            near: Vec::new(),
            changed: false,
            last_heard: Timestamp::default(),
            times_heard: 0,
            told_over: None,
            told_policy: None,
        }
    }

    /// Notes another gateway that heard the last uplink.
    pub(crate) fn heard_late(&mut self, copy: &Reception) {
        if !self.near.iter().any(|known| known.gateway == copy.gateway) {
            self.near.push(Near { gateway: copy.gateway, quality: copy.quality(), at: copy.heard_at });
            self.near.truncate(NEAR);
        }
    }

    /// Notes the gateways that heard the device, best first.
    pub(crate) fn heard_by(&mut self, frame: &Collected) {
        let before = self.near_gateways();
        // A gateway that missed this one is rated lower than before.
        self.near.iter_mut().for_each(|near| near.quality -= MISSED_DB);
        for copy in frame.copies.iter().take(NEAR) {
            let near = Near { gateway: copy.gateway, quality: copy.quality(), at: copy.heard_at };
            self.near.retain(|known| known.gateway != near.gateway);
            self.near.push(near);
        }
        let newest = frame.first_heard();
        self.near.retain(|known| newest.since(known.at) < DAY_US);
        // Gateways that heard the last uplink come before those that heard earlier ones.
        self.near.sort_by(|a, b| {
            let fresh = |n: &Near| newest.since(n.at) <= 0;
            fresh(b).cmp(&fresh(a)).then(b.quality.total_cmp(&a.quality))
        });
        self.near.truncate(NEAR);
        self.changed |= self.near_gateways() != before;
    }

    fn near_gateways(&self) -> [Option<Eui64>; NEAR] {
        std::array::from_fn(|i| self.near.get(i).map(|near| near.gateway))
    }
}

impl Device {
    pub(crate) fn from_record(now: Timestamp, record: DeviceRecord) -> Self {
        let near = record.near.into_iter().map(|(gateway, quality)| Near { gateway, quality, at: now });
        let near: Vec<Near> = near.take(NEAR).collect();
        let profile = &record.config.profile;
        // What it said of its class holds as long as it is still registered as one of that.
        let said = record.class.filter(|class| *class == profile.class || profile.version == MacVersion::V1_1);
        let class = said.unwrap_or(profile.class.at_first());
        let link = (!near.is_empty()).then(|| Box::new(Link { near, class, ..Link::new(profile.class) }));
        Self {
            outbox: Outbox::restore(record.config.dev_eui, record.outbox),
            config: record.config,
            session: record.session.map(Box::new),
            next_session: record.next_session.map(Box::new),
            nonces: record.nonces,
            ledger: Ledger::default(),
            towards: Ledger::default(),
            link,
            looks_at: None,
            on_air_until: Timestamp(i64::MIN),
            quarantined: false,
        }
    }

    /// Why it is not served, if it is not.
    pub(crate) fn unserved(&self, joining: bool) -> Option<Refusal> {
        match self {
            Self { quarantined: true, .. } => Some(Refusal::Quarantined { joining }),
            Self { config: DeviceConfig { disabled: true, .. }, .. } => Some(Refusal::Disabled { joining }),
            _ => None,
        }
    }

    /// The clock was set by this much.
    pub(crate) fn shift(&mut self, by_us: i64) {
        shift(&mut self.looks_at, by_us);
        self.on_air_until = self.on_air_until.plus_us(by_us);
        self.ledger.shift(by_us);
        self.towards.shift(by_us);
        let Some(link) = self.link.as_deref_mut() else { return };
        link.last_heard = link.last_heard.plus_us(by_us);
        shift(&mut link.told_over, by_us);
        shift(&mut link.told_policy, by_us);
        link.near.iter_mut().for_each(|near| near.at = near.at.plus_us(by_us));
        link.negotiation.shift(by_us);
    }

    pub(crate) fn link(&mut self) -> &mut Link {
        let class = self.config.profile.class;
        self.link.get_or_insert_with(|| Box::new(Link::new(class)))
    }

    /// Its class now.
    pub(crate) fn class(&self) -> Class {
        match &self.link {
            Some(link) => link.class,
            None => self.config.profile.class.at_first(),
        }
    }

    /// When a downlink that was on air until `ends` counts as not acknowledged, for classes B and C.
    pub(crate) fn ack_overdue_at(&self, ends: Timestamp) -> Timestamp {
        ends.plus_us(i64::from(self.config.profile.ack_timeout_s) * 1_000_000)
    }

    /// The ways to answer one of its data frames, once what is under way to it has ended.
    pub(crate) fn windows_after(&self, frame: &Collected) -> Vec<Candidate> {
        let Some(session) = self.session.as_deref() else { return Vec::new() };
        let mut ways = schedule::after_uplink(self.config.plan(), &session.settings, frame, schedule::After::Data);
        ways.retain(|way| way.at >= self.on_air_until);
        ways
    }

    pub(crate) fn sessions(&self) -> impl Iterator<Item = &Session> {
        self.session.iter().chain(&self.next_session).map(|boxed| &**boxed)
    }

    /// Its concerns, if there are any.
    pub(crate) fn attention(&self, now: Timestamp) -> Option<DeviceAttention> {
        let mut airtime = self.ledger.report(self.config.plan(), now);
        airtime.retain(|band| band.near_since.is_some());
        let refused: Vec<_> = self.link.iter().flat_map(|link| link.negotiation.refusals()).collect();
        let anything = !airtime.is_empty() || !refused.is_empty();
        anything.then_some(DeviceAttention { dev_eui: self.config.dev_eui, airtime, refused })
    }

    pub(crate) fn status(&self, now: Timestamp) -> DeviceStatus {
        let idle = Negotiation::default();
        let negotiation = self.link.as_ref().map_or(&idle, |link| &link.negotiation);
        let session = self.session.as_deref();
        DeviceStatus {
            session: session.cloned(),
            next_session: self.next_session.as_deref().cloned(),
            class: self.class(),
            negotiated: session.map(|s| negotiation.report(&self.config.profile, &s.settings)),
            adr: self.link.as_ref().and_then(|link| link.decision.clone()),
            airtime: self.ledger.report(self.config.plan(), now),
            day: self.ledger.day(now),
            day_down: self.towards.day(now),
            held_until: self.outbox.held_until(),
            ping_slots: session
                .filter(|_| self.class() == Class::B)
                .and_then(|session| schedule::next_ping_slot(&session.settings, session.dev_addr, now)),
        }
    }
}
