//! What the engine keeps of a device.

use lorawan::crypto::{Mic, SessionKeys};
use lorawan::region::Region;
use lorawan::{AesKey, DevAddr, Eui64};

use crate::ledger::{BandUse, Ledger};
use crate::outbox::{Outbox, OutboxItem};
use crate::time::Timestamp;

/// A device as registered.
#[derive(Debug, Clone, PartialEq)]
pub struct DeviceConfig {
    /// Its DevEUI.
    pub dev_eui: Eui64,
    /// The JoinEUI it joins with.
    pub join_eui: Eui64,
    /// Its root key.
    pub app_key: AesKey,
    /// Where it is used.
    pub region: Region,
}

/// A session between device and network.
#[derive(Debug, Clone, PartialEq)]
pub struct Session {
    /// The address given at the join.
    pub dev_addr: DevAddr,
    /// The session keys.
    pub keys: SessionKeys,
    /// Last counter accepted from the device; none before the first uplink.
    pub up: Option<u32>,
    /// MIC of that frame.
    pub last_mic: Mic,
    /// Next counter towards the device.
    pub next_down: u32,
    /// When the join was accepted.
    pub joined_at: Timestamp,
}

/// A device as stored: settings and everything that must survive a restart.
#[derive(Debug, Clone, PartialEq)]
pub struct DeviceRecord {
    /// As registered.
    pub config: DeviceConfig,
    /// The running session.
    pub session: Option<Session>,
    /// DevNonces of all accepted joins.
    pub used_dev_nonces: Vec<u16>,
    /// JoinNonce for the next join.
    pub next_join_nonce: u32,
    /// Downlinks that are neither done nor given up.
    pub outbox: Vec<OutboxItem>,
}

impl DeviceRecord {
    /// A device that has never joined.
    pub fn new(config: DeviceConfig) -> Self {
        Self { config, session: None, used_dev_nonces: Vec::new(), next_join_nonce: 1, outbox: Vec::new() }
    }
}

/// What can be told of a device.
#[derive(Debug, Clone, PartialEq)]
pub struct DeviceStatus {
    /// The running session, if it has joined.
    pub session: Option<Session>,
    /// Airtime of the last hour, by sub-band.
    pub airtime: Vec<BandUse>,
}

#[derive(Debug)]
pub(crate) struct Device {
    pub(crate) config: DeviceConfig,
    pub(crate) session: Option<Session>,
    /// Kept in order, to be searched.
    used_dev_nonces: Vec<u16>,
    pub(crate) next_join_nonce: u32,
    pub(crate) outbox: Outbox,
    pub(crate) ledger: Ledger,
}

impl Device {
    pub(crate) fn from_record(record: DeviceRecord) -> Self {
        let mut used_dev_nonces = record.used_dev_nonces;
        used_dev_nonces.sort_unstable();
        Self {
            config: record.config,
            session: record.session,
            used_dev_nonces,
            next_join_nonce: record.next_join_nonce,
            outbox: Outbox::restore(record.outbox),
            ledger: Ledger::default(),
        }
    }

    pub(crate) fn used(&self, dev_nonce: u16) -> bool {
        self.used_dev_nonces.binary_search(&dev_nonce).is_ok()
    }

    pub(crate) fn spend(&mut self, dev_nonce: u16) {
        if let Err(at) = self.used_dev_nonces.binary_search(&dev_nonce) {
            self.used_dev_nonces.insert(at, dev_nonce);
        }
    }

    pub(crate) fn status(&self, now: Timestamp) -> DeviceStatus {
        DeviceStatus { session: self.session.clone(), airtime: self.ledger.report(self.config.region.plan(), now) }
    }
}
