//! What the engine keeps of a gateway: its limits, its account and when it is busy sending.

use lorawan::Eui64;
use lorawan::region::Region;

use crate::effect::TransmissionId;
use crate::ledger::{BandUse, Ledger};
use crate::time::Timestamp;

/// A gateway as registered.
#[derive(Debug, Clone, PartialEq)]
pub struct GatewayConfig {
    /// Its EUI.
    pub eui: Eui64,
    /// Where it stands, and so which limits it keeps.
    pub region: Region,
    /// Antenna gain less cable loss.
    pub antenna_gain_dbi: f32,
}

/// What can be told of a gateway.
#[derive(Debug, Clone, PartialEq)]
pub struct GatewayStatus {
    /// Airtime of the last hour, by sub-band.
    pub airtime: Vec<BandUse>,
}

#[derive(Debug)]
pub(crate) struct Gateway {
    pub(crate) config: GatewayConfig,
    pub(crate) ledger: Ledger,
    /// Transmissions to come: a gateway has one transmitter.
    busy: Vec<(Timestamp, Timestamp, TransmissionId)>,
}

impl Gateway {
    pub(crate) fn new(config: GatewayConfig) -> Self {
        Self { config, ledger: Ledger::default(), busy: Vec::new() }
    }

    pub(crate) fn free(&self, from: Timestamp, to: Timestamp) -> bool {
        self.busy.iter().all(|(begin, end, _)| to <= *begin || *end <= from)
    }

    pub(crate) fn reserve(&mut self, now: Timestamp, from: Timestamp, to: Timestamp, id: TransmissionId) {
        self.busy.retain(|(_, end, _)| *end > now);
        self.busy.push((from, to, id));
    }

    pub(crate) fn release(&mut self, id: TransmissionId) {
        self.busy.retain(|(.., held)| *held != id);
    }

    pub(crate) fn status(&self, now: Timestamp) -> GatewayStatus {
        GatewayStatus { airtime: self.ledger.report(self.config.region.plan(), now) }
    }
}
