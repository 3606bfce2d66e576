//! A way to a device: a gateway, a window, a channel, and how well the gateway hears the device.

use lorawan::region::{PayloadLimits, Plan, SubBand};
use lorawan::{Eui64, Modulation, airtime};

use crate::io::transmission::{When, Window};
use crate::time::Timestamp;

/// The receiver of a frame under way.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum To {
    Device(Eui64),
    Group(Eui64),
    /// Every device that looks for a beacon.
    Everyone,
}

/// A gateway that hears a device.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(crate) struct Near {
    pub(crate) gateway: Eui64,
    pub(crate) quality: f32,
    pub(crate) at: Timestamp,
}

/// One way to send a downlink.
#[derive(Debug, Clone)]
pub(crate) struct Candidate {
    pub(crate) gateway: Eui64,
    pub(crate) window: Window,
    pub(crate) at: Timestamp,
    pub(crate) when: When,
    pub(crate) frequency_hz: u32,
    pub(crate) modulation: Modulation,
    /// Largest FRMPayload in this window.
    pub(crate) max_payload: usize,
    pub(crate) sub_band: &'static SubBand,
    /// How well this gateway hears the device.
    pub(crate) quality: f32,
}

impl Candidate {
    pub(crate) fn airtime_us(&self, len: usize) -> u64 {
        match (self.window, self.modulation) {
            (Window::Beacon, Modulation::Lora { spreading_factor, bandwidth }) => {
                airtime::LoraPacket::BEACON.airtime_us(spreading_factor, bandwidth.hz(), len)
            }
            _ => airtime::downlink_us(self.modulation, len),
        }
    }

    pub(crate) fn end(&self, len: usize) -> Timestamp {
        self.at.plus_us(self.airtime_us(len) as i64)
    }

    /// From when to when its gateway may be sending. One that is to send at once does so when it has the frame.
    pub(crate) fn occupies(&self, len: usize) -> (Timestamp, Timestamp) {
        match self.when {
            When::AtOnce => (self.at.plus_us(-LEAD_US), self.end(len).plus_us(AT_ONCE_LATEST_US)),
            When::Clock(_) | When::Gps(_) => (self.at, self.end(len)),
        }
    }

    pub(crate) fn in_time(&self, now: Timestamp) -> bool {
        now.plus_us(LEAD_US) <= self.at
    }

    /// Power at the connector: the sub-band's EIRP less the antenna's gain, in whole decibels.
    pub(crate) fn power_dbm(&self, antenna_gain_dbi: f32) -> i32 {
        (self.sub_band.gateway_eirp_dbm.min(MAX_GATEWAY_EIRP_DBM) - antenna_gain_dbi).floor() as i32
    }
}

/// A channel to send on: frequency, modulation, room for payload, and the law.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Channel {
    pub(crate) frequency_hz: u32,
    pub(crate) modulation: Modulation,
    pub(crate) max_payload: usize,
    pub(crate) sub_band: &'static SubBand,
}

impl Channel {
    /// `None` on a frequency outside every sub-band, which may not be sent on, or at a rate that is too
    /// slow for it.
    pub(crate) fn of(plan: &'static Plan, frequency_hz: u32, data_rate: u8, dwell_time: bool) -> Option<Self> {
        let sub_band = plan.sub_band(frequency_hz)?;
        let max_payload = plan.max_payload(data_rate, PayloadLimits { repeater: false, dwell_time })?;
        Some(Self { frequency_hz, modulation: plan.data_rate(data_rate)?.modulation, max_payload, sub_band })
    }

    pub(crate) fn candidate(self, near: (Eui64, f32), window: Window, at: Timestamp, when: When) -> Candidate {
        let Self { frequency_hz, modulation, max_payload, sub_band } = self;
        let (gateway, quality) = near;
        Candidate { gateway, window, at, when, frequency_hz, modulation, max_payload, sub_band, quality }
    }
}

/// A gateway that has something else to send.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Busy {
    pub(crate) gateway: Eui64,
    /// The receiver of that frame.
    pub(crate) with: To,
    pub(crate) until: Timestamp,
}

/// Time a gateway needs between being handed a frame and sending it.
pub(crate) const LEAD_US: i64 = 60_000;

/// How much later than planned a frame may leave that is sent at once. The caller keeps to this, so that
/// gateways are never given two frames for one moment.
pub const AT_ONCE_LATEST_US: i64 = 500_000;

/// The most that common concentrators give; RX2's sub-band would allow more.
pub(crate) const MAX_GATEWAY_EIRP_DBM: f32 = 27.0;
