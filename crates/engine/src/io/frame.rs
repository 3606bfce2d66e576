//! Frames as gateways hear them.

use lorawan::{Eui64, Modulation};
use serde::{Deserialize, Serialize};

use crate::time::Timestamp;

/// A frame as one gateway heard it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct FrameHeard {
    /// The frame.
    pub phy_payload: Vec<u8>,
    /// How it was heard.
    pub reception: Reception,
}

/// One gateway's reception of a frame.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Reception {
    /// The gateway.
    pub gateway: Eui64,
    /// When the copy reached the service. Of frames handed in one after another, none was heard before the one
    /// that came before it.
    pub heard_at: Timestamp,
    /// The gateway's own clock at the end of reception, in microseconds; it wraps.
    pub clock_us: u32,
    /// Whether the gateway knows GPS time.
    pub has_gps: bool,
    /// Centre frequency.
    pub frequency_hz: u32,
    /// Modulation.
    pub modulation: Modulation,
    /// Signal strength.
    pub rssi_dbm: f32,
    /// Signal-to-noise ratio; FSK has none.
    pub snr_db: Option<f32>,
}

impl Reception {
    /// What copies are compared by: SNR, or strength above a quiet receiver's noise where there is
    /// none.
    pub(crate) fn quality(&self) -> f32 {
        self.snr_db.unwrap_or(self.rssi_dbm + 117.0)
    }
}

/// Frequency and modulation of a frame.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Radio {
    /// Centre frequency.
    pub frequency_hz: u32,
    /// Modulation.
    pub modulation: Modulation,
}
