//! What the engine keeps of a device.

pub mod adr;
pub mod profile;
pub mod session;
pub mod settings;

use std::sync::Arc;

use lorawan::crypto::SessionKeys11;
use lorawan::region::Plan;
use lorawan::{AesKey, DevAddr, Eui64, MacVersion, NonceRule};

use crate::clock_step::shift;
use crate::device::adr::{AdrDecision, History};
use crate::device::profile::{Class, Policy, RadioProfile};
use crate::device::session::{Counters, Session};
use crate::device::settings::Settings;
use crate::downlink::outbox::{Outbox, OutboxItem};
use crate::downlink::schedule;
use crate::downlink::schedule::Candidate;
use crate::estates::EstateId;
use crate::io::frame::Reception;
use crate::ledger::{BandUse, Ledger, Used};
use crate::mac::{Negotiated, Negotiation};
use crate::time::{DAY_US, Timestamp};
use crate::uplink::collect::Collected;
use crate::uplink::refusal::Refusal;

/// Gateways remembered as being near a device.
const NEAR: usize = 8;
/// Taken off what a gateway heard for each uplink that it did not hear.
const MISSED_DB: f32 = 10.0;

/// Root keys of a device that joins over the air.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct RootKeys {
    /// AppKey.
    pub app_key: AesKey,
    /// NwkKey of 1.1.
    pub nwk_key: Option<AesKey>,
}

impl RootKeys {
    /// The key that signs join-requests: the NwkKey in 1.1, before it the AppKey.
    pub fn joining(&self) -> AesKey {
        self.nwk_key.unwrap_or(self.app_key)
    }
}

/// How a device comes to its session.
#[derive(Debug, Clone, PartialEq)]
pub enum Activation {
    /// It joins (OTAA).
    OverTheAir(RootKeys),
    /// It was given one for good (ABP).
    Personalized {
        /// Its address.
        dev_addr: DevAddr,
        /// Its session keys; in 1.0.x the three of the network are one.
        keys: Box<SessionKeys11>,
    },
}

/// A device as registered.
#[derive(Debug, Clone, PartialEq)]
pub struct DeviceConfig {
    /// Its DevEUI.
    pub dev_eui: Eui64,
    /// The JoinEUI it joins with.
    pub join_eui: Eui64,
    /// How it comes to its session.
    pub activation: Activation,
    /// Its radio and MAC.
    pub profile: Arc<RadioProfile>,
    /// Its fleet's limits.
    pub policy: Policy,
    /// Whose it is.
    pub estate: EstateId,
    /// Its fleet: where a join-request's key is looked for if it is not the device's own.
    pub fleet: u32,
    /// Whether it is kept from being served: its frames are refused, and nothing is sent to it.
    pub disabled: bool,
}

impl DeviceConfig {
    pub(crate) fn plan(&self) -> &'static Plan {
        self.profile.plan()
    }

    pub(crate) fn root_keys(&self) -> Option<RootKeys> {
        match &self.activation {
            Activation::OverTheAir(keys) => Some(*keys),
            Activation::Personalized { .. } => None,
        }
    }

    /// The session a personalized device begins with.
    pub(crate) fn personal_session(&self, now: Timestamp) -> Option<Session> {
        let Activation::Personalized { dev_addr, keys } = &self.activation else { return None };
        Some(Session {
            dev_addr: *dev_addr,
            keys: **keys,
            speaks_1_1: self.profile.version == MacVersion::V1_1,
            counters: Counters::default(),
            settings: Settings::personalized(&self.profile),
            joined_at: now,
        })
    }
}

/// Nonces of joins.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Nonces {
    /// DevNonces of accepted joins; of a version that counts them only the last.
    pub used_dev_nonces: Vec<u16>,
    /// JoinNonce for the next join.
    pub next_join_nonce: u32,
    /// Last RJcount1 of 1.1.
    pub rj_count_1: Option<u16>,
}

impl Default for Nonces {
    fn default() -> Self {
        Self { used_dev_nonces: Vec::new(), next_join_nonce: 1, rj_count_1: None }
    }
}

impl Nonces {
    pub(crate) fn spend(&mut self, rule: NonceRule, dev_nonce: u16) {
        if rule == NonceRule::Increasing {
            self.used_dev_nonces.clear();
        }
        self.used_dev_nonces.push(dev_nonce);
    }

    /// The JoinNonce to use now: 24 bits on air; after 16 million joins it starts over, as the field must.
    pub(crate) fn join_nonce(&mut self) -> u32 {
        let nonce = self.next_join_nonce;
        self.next_join_nonce = (nonce + 1) & 0x00ff_ffff;
        nonce
    }
}

/// A device as stored: settings and everything that must survive a restart.
#[derive(Debug, Clone, PartialEq)]
pub struct DeviceRecord {
    /// As registered.
    pub config: DeviceConfig,
    /// The running session.
    pub session: Option<Session>,
    /// A session agreed upon, before the first uplink under it.
    pub next_session: Option<Session>,
    /// Nonces that are spent.
    pub nonces: Nonces,
    /// When it last said that it listens.
    pub class: Option<Class>,
    /// Gateways that heard it last, best first: the way to it before it sends again.
    pub near: Vec<(Eui64, f32)>,
    /// Downlinks that are neither done nor given up.
    pub outbox: Vec<OutboxItem>,
}

impl DeviceRecord {
    /// A device that has never joined.
    pub fn new(config: DeviceConfig) -> Self {
        Self {
            config,
            session: None,
            next_session: None,
            nonces: Nonces::default(),
            class: None,
            near: Vec::new(),
            outbox: Vec::new(),
        }
    }
}

/// What can be told of a device.
#[derive(Debug, Clone, PartialEq)]
pub struct DeviceStatus {
    /// The running session.
    pub session: Option<Session>,
    /// A session agreed upon, before the first uplink under it.
    pub next_session: Option<Session>,
    /// When it listens, as of now.
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

/// A gateway that hears a device.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(crate) struct Near {
    pub(crate) gateway: Eui64,
    pub(crate) quality: f32,
    pub(crate) at: Timestamp,
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

/// What the engine learns of a device as it talks with it; it may be lost and learned again.
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
    /// When it was last said that the device is on air too much.
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

    /// Notes one more who heard the last uplink.
    pub(crate) fn heard_late(&mut self, copy: &Reception) {
        if !self.near.iter().any(|known| known.gateway == copy.gateway) {
            self.near.push(Near { gateway: copy.gateway, quality: copy.quality(), at: copy.heard_at });
            self.near.truncate(NEAR);
        }
    }

    /// Notes who heard the device, best first.
    pub(crate) fn heard_by(&mut self, frame: &Collected) {
        let before = self.near_gateways();
        // Whoever has missed this one is not believed to hear the device as well as it once did.
        self.near.iter_mut().for_each(|near| near.quality -= MISSED_DB);
        for copy in frame.copies.iter().take(NEAR) {
            let near = Near { gateway: copy.gateway, quality: copy.quality(), at: copy.heard_at };
            self.near.retain(|known| known.gateway != near.gateway);
            self.near.push(near);
        }
        let newest = frame.first_heard();
        self.near.retain(|known| newest.since(known.at) < DAY_US);
        // Those that heard the last uplink come before those that once did.
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
            config: record.config,
            session: record.session.map(Box::new),
            next_session: record.next_session.map(Box::new),
            nonces: record.nonces,
            outbox: Outbox::restore(record.outbox),
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

    /// The clock was set by so much.
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

    /// When it listens, as of now.
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
