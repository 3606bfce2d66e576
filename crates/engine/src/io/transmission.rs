//! Frames for gateways to send, and why one was not sent.

use crate::downlink::schedule::{When, Window};
use crate::time::Timestamp;
use lorawan::{Eui64, Modulation};

/// Names one attempt to transmit.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct TransmissionId(pub u64);

/// A frame for one gateway to send.
#[derive(Debug, Clone, PartialEq)]
pub struct Transmission {
    /// To be named in the report.
    pub id: TransmissionId,
    /// The device or group it is for; a beacon is for nobody alone.
    pub towards: Option<Eui64>,
    /// Who sends.
    pub gateway: Eui64,
    /// When to begin, in the gateway's terms.
    pub when: When,
    /// The same moment by the service's clock.
    pub at: Timestamp,
    /// What it is for.
    pub window: Window,
    /// Centre frequency.
    pub frequency_hz: u32,
    /// Modulation.
    pub modulation: Modulation,
    /// Power at the antenna connector: the lawful EIRP less the antenna's gain.
    pub power_dbm: i32,
    /// Time on air.
    pub airtime_us: u64,
    /// The frame.
    pub phy_payload: Vec<u8>,
}

/// Why a gateway did not send.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum TxFailure {
    /// The frame reached the gateway too late for its window.
    TooLate,
    /// The service itself did not hand it over in time, so that no gateway had it.
    NotHandedOver,
    /// The frame lies too far ahead for the gateway.
    TooEarly,
    /// The gateway sends another frame at that time.
    CollisionPacket,
    /// The gateway sends a beacon at that time.
    CollisionBeacon,
    /// The gateway cannot send on that frequency.
    Frequency,
    /// The gateway cannot send at that power.
    Power,
    /// The gateway has lost GPS time.
    GpsUnlocked,
    /// Another reason, in the gateway's word.
    Refused(String),
    /// The gateway has no open way down.
    Unreachable,
    /// No report came.
    NoReport,
}

impl std::fmt::Display for TxFailure {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            TxFailure::TooLate => f.write_str("it came too late for its window"),
            TxFailure::NotHandedOver => f.write_str("the service did not hand it to the gateway in time"),
            TxFailure::TooEarly => f.write_str("the gateway found it too early to take"),
            TxFailure::CollisionPacket => f.write_str("the gateway sends another frame at that time"),
            TxFailure::CollisionBeacon => f.write_str("the gateway sends a beacon at that time"),
            TxFailure::Frequency => f.write_str("the gateway cannot send on that frequency"),
            TxFailure::Power => f.write_str("the gateway cannot send at that power"),
            TxFailure::GpsUnlocked => f.write_str("the gateway has lost GPS time"),
            TxFailure::Refused(word) => write!(f, "the gateway refused: {word}"),
            TxFailure::Unreachable => f.write_str("the gateway cannot be reached: it has no open way down"),
            TxFailure::NoReport => f.write_str("the gateway did not report whether it sent the frame"),
        }
    }
}
