//! Choosing when, where and by whom a class A downlink is sent.
//!
//! A device listens twice after each uplink (TS001 §3.3): in RX1, on the uplink's frequency at a data
//! rate that follows from the uplink's, and a second later in RX2, on fixed ones. Every gateway that
//! heard the uplink can serve either. Here these are put in order of preference; which one is taken
//! depends on duty cycle and on what else the gateway sends.

use lorawan::airtime;
use lorawan::region::{Plan, SubBand};
use lorawan::{Eui64, Modulation};

use crate::collect::Collected;
use crate::effect::Reception;
use crate::time::Timestamp;

/// Time a gateway needs between being handed a frame and sending it.
const LEAD_US: i64 = 60_000;
/// The most that common concentrators give; RX2's sub-band would allow more.
const MAX_GATEWAY_EIRP_DBM: f32 = 27.0;
/// A header with nothing behind it, in bytes: MHDR, FHDR, MIC.
pub(crate) const HEADER_LEN: usize = 12;

/// One of a class A device's two windows.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Window {
    /// The first.
    Rx1,
    /// The second.
    Rx2,
}

impl Window {
    /// As written everywhere.
    pub const fn name(self) -> &'static str {
        match self {
            Window::Rx1 => "RX1",
            Window::Rx2 => "RX2",
        }
    }
}

/// One way to send a downlink.
#[derive(Debug, Clone)]
pub(crate) struct Candidate {
    pub(crate) gateway: Eui64,
    pub(crate) window: Window,
    pub(crate) at: Timestamp,
    pub(crate) at_clock_us: u32,
    pub(crate) frequency_hz: u32,
    pub(crate) modulation: Modulation,
    /// Largest FRMPayload in this window.
    pub(crate) max_payload: usize,
    pub(crate) sub_band: &'static SubBand,
}

impl Candidate {
    pub(crate) fn airtime_us(&self, len: usize) -> u64 {
        airtime::downlink_us(self.modulation, len)
    }

    pub(crate) fn end(&self, len: usize) -> Timestamp {
        self.at.plus_us(self.airtime_us(len) as i64)
    }

    pub(crate) fn in_time(&self, now: Timestamp) -> bool {
        now.plus_us(LEAD_US) <= self.at
    }

    /// Power at the connector: the sub-band's EIRP less the antenna's gain, in whole decibels.
    pub(crate) fn power_dbm(&self, antenna_gain_dbi: f32) -> i32 {
        (self.sub_band.max_eirp_dbm.min(MAX_GATEWAY_EIRP_DBM) - antenna_gain_dbi).floor() as i32
    }
}

/// All ways to answer `frame`, best first: RX1 before RX2, and in each the gateways in the order in
/// which they heard the uplink best.
pub(crate) fn candidates(plan: &'static Plan, frame: &Collected, rx1_delay_s: u8) -> Vec<Candidate> {
    let uplink = frame.radio();
    let rx1 = plan
        .data_rate_of(uplink.modulation)
        .and_then(|index| plan.rx1_data_rate(index, 0))
        .and_then(|index| plan.data_rate(index))
        .map(|rate| (Window::Rx1, rx1_delay_s, uplink.frequency_hz, rate));
    let rx2 =
        plan.data_rate(plan.rx2_data_rate).map(|rate| (Window::Rx2, rx1_delay_s + 1, plan.rx2_frequency_hz, rate));
    let mut out = Vec::with_capacity(2 * frame.copies.len());
    for (window, delay_s, frequency_hz, rate) in rx1.into_iter().chain(rx2) {
        // A frequency outside every sub-band may not be sent on.
        let Some(sub_band) = plan.sub_band(frequency_hz) else { continue };
        let delay_us = 1_000_000 * u32::from(delay_s);
        out.extend(frame.copies.iter().map(|copy: &Reception| Candidate {
            gateway: copy.gateway,
            window,
            at: copy.heard_at.plus_us(i64::from(delay_us)),
            at_clock_us: copy.clock_us.wrapping_add(delay_us),
            frequency_hz,
            modulation: rate.modulation,
            max_payload: rate.max_payload,
            sub_band,
        }));
    }
    out
}
