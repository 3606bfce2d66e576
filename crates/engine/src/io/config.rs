//! What the engine is told of devices, gateways and groups.

use std::sync::Arc;

use lorawan::crypto::{SessionKeys, SessionKeys11};
use lorawan::region::{Plan, Region};
use lorawan::{AesKey, DevAddr, Eui64, MacVersion, NonceRule};

use crate::device::profile::{Class, Policy, RadioProfile};
use crate::device::session::{Counters, Session};
use crate::device::settings::Settings;
use crate::downlink::candidate::Channel;
use crate::downlink::item::OutboxItem;
use crate::time::Timestamp;

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

/// How a device gets its session.
#[derive(Debug, Clone, PartialEq)]
pub enum Activation {
    /// It joins (OTAA).
    OverTheAir(RootKeys),
    /// It was given one at registration (ABP).
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
    /// How it gets its session.
    pub activation: Activation,
    /// Its radio and MAC.
    pub profile: Arc<RadioProfile>,
    /// Its fleet's limits.
    pub policy: Policy,
    /// Its estate.
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
    /// When it listens, as it last reported.
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

/// A gateway as registered.
#[derive(Debug, Clone, PartialEq)]
pub struct GatewayConfig {
    /// Its EUI.
    pub eui: Eui64,
    /// Its estate.
    pub estate: EstateId,
    /// Whether it serves other estates' devices as well.
    pub open: bool,
    /// Its region, which decides its limits.
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

/// A group as registered.
#[derive(Debug, Clone, PartialEq)]
pub struct GroupConfig {
    /// Its name among devices.
    pub group: Eui64,
    /// Its address on air (McAddr).
    pub address: DevAddr,
    /// McNwkSKey and McAppSKey.
    pub keys: SessionKeys,
    /// Where its members are.
    pub region: Region,
    /// B or C.
    pub class: Class,
    /// Where they listen.
    pub frequency_hz: u32,
    /// Data rate index.
    pub data_rate: u8,
    /// Ping slots every 2^n seconds, for class B.
    pub ping_periodicity: u8,
    /// Its members.
    pub members: Vec<Eui64>,
}

impl GroupConfig {
    pub(crate) fn plan(&self) -> &'static Plan {
        self.region.plan()
    }

    /// Where its members listen.
    pub(crate) fn channel(&self) -> Option<Channel> {
        let plan = self.plan();
        Channel::of(plan, self.frequency_hz, self.data_rate, plan.dwell.downlink_ms.is_some())
    }
}

/// Names the estate that a device or a gateway belongs to.
pub type EstateId = u32;
