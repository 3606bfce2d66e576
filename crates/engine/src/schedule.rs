//! Choosing when, where and by whom a class A downlink is sent.
//!
//! A device listens twice after each uplink (TS001 §3.3): in RX1, on the uplink's frequency at a data
//! rate that follows from the uplink's, and a second later in RX2, on fixed ones. Every gateway that
//! heard the uplink can serve either. Here these are put in order of preference; which one is taken
//! depends on duty cycle and on what else the gateway sends.

use lorawan::airtime;
use lorawan::region::{JOIN_ACCEPT_DELAY1_S, PayloadLimits, Plan, RECEIVE_DELAY1_S, RX2_AFTER_RX1_S, SubBand};
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

/// What a downlink follows, which decides when and where the windows open.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum After {
    /// A join-request.
    Join,
    /// A data frame.
    Data,
}

/// All ways to answer `frame`, best first: RX1 before RX2, and in each the gateways in the order in
/// which they heard the uplink best.
pub(crate) fn candidates(plan: &'static Plan, frame: &Collected, after: After) -> Vec<Candidate> {
    let uplink = frame.radio();
    // Devices hold to the dwell time until they are told otherwise, which this network does not yet do.
    let dwell_time = plan.dwell.downlink_ms.is_some();
    let limits = PayloadLimits { repeater: false, dwell_time };
    let rate = plan.uplink_data_rate_of(uplink.modulation);
    let after_data = || rate.and_then(|rate| plan.rx1_frequency_hz(uplink.frequency_hz, rate));
    let (rx1_delay_s, rx1_hz, rx2_hz) = match after {
        After::Join => match plan.join_channel(uplink.frequency_hz) {
            Some(channel) => (JOIN_ACCEPT_DELAY1_S, Some(channel.rx1_frequency_hz), channel.rx2_frequency_hz),
            None => (JOIN_ACCEPT_DELAY1_S, after_data(), plan.rx2_frequency_hz),
        },
        After::Data => (RECEIVE_DELAY1_S, after_data(), plan.rx2_frequency_hz),
    };
    let rx1 = rx1_hz.zip(rate.and_then(|rate| plan.rx1_data_rate(rate, 0, dwell_time)));
    let windows = [
        rx1.map(|(hz, rate)| (Window::Rx1, rx1_delay_s, hz, rate)),
        Some((Window::Rx2, rx1_delay_s + RX2_AFTER_RX1_S, rx2_hz, plan.rx2_data_rate)),
    ];
    let mut out = Vec::with_capacity(2 * frame.copies.len());
    for (window, delay_s, frequency_hz, rate) in windows.into_iter().flatten() {
        // A frequency outside every sub-band may not be sent on, nor at a rate that is too slow for it.
        let Some(sub_band) = plan.sub_band(frequency_hz) else { continue };
        let Some((rate, max_payload)) = plan.data_rate(rate).zip(plan.max_payload(rate, limits)) else { continue };
        let delay_us = 1_000_000 * u32::from(delay_s);
        out.extend(frame.copies.iter().map(|copy: &Reception| Candidate {
            gateway: copy.gateway,
            window,
            at: copy.heard_at.plus_us(i64::from(delay_us)),
            at_clock_us: copy.clock_us.wrapping_add(delay_us),
            frequency_hz,
            modulation: rate.modulation,
            max_payload,
            sub_band,
        }));
    }
    out
}
