//! Class B beacons (TS001-1.1 §15): every 128 seconds of GPS time, by gateways that have it.

use lorawan::class_b::{BEACON_PERIOD_S, Beacon, GatewaySpecific, beacon_time_s};
use lorawan::{DevAddr, Eui64, gps_time};

use crate::downlink::candidate::{Channel, To};
use crate::downlink::frame::Cargo;
use crate::downlink::schedule;
use crate::io::transmission::{When, Window};
use crate::step::Step;
use crate::time::Timestamp;
use crate::{Engine, Timer};

/// How long before its time a beacon is handed to its gateway.
const AHEAD_US: i64 = 2_000_000;

impl Engine {
    /// Sets the timer for a gateway's next beacon, if it is to send any.
    pub(crate) fn plan_beacon(&mut self, now: Timestamp, eui: Eui64) {
        let Some(gateway) = self.gateways.get_mut(&eui) else { return };
        if !gateway.config.beacons || gateway.beacon_set || !gateway.has_gps(now) {
            return;
        }
        gateway.beacon_set = true;
        let gps_s = gps_time::from_unix_us(now.0 + AHEAD_US).max(0) / 1_000_000;
        // GPS seconds fit 32 bits until 2106.
        let next_s = beacon_time_s(gps_s as u32) + BEACON_PERIOD_S;
        let at = Timestamp(gps_time::to_unix_us(i64::from(next_s) * 1_000_000) - AHEAD_US);
        self.timers.set(at, Timer::Beacon(eui, next_s));
    }

    /// Hands a beacon to its gateway.
    pub(crate) fn send_beacon(&mut self, step: &mut Step<'_>, eui: Eui64, time_s: u32) {
        let Some(gateway) = self.gateways.get_mut(&eui) else { return };
        gateway.beacon_set = false;
        let plan = gateway.config.region.plan();
        let rate = plan.class_b.beacon.min_data_rate;
        let frequency_hz = schedule::frequencies(plan, time_s, DevAddr(0), None).beacon_hz;
        let lora = plan.data_rate(rate).and_then(|rate| rate.modulation.lora_parts());
        let own = gateway.config.position_deg.map(|(latitude, longitude)| GatewaySpecific::at(latitude, longitude));
        let beacon = Beacon { param: 0, time_s, gateway: own };
        let wanted = gateway.config.beacons && gateway.has_gps(step.now);
        // Beacons are not under the dwell-time limit that downlinks to devices may have.
        if let (true, Some((sf, _)), Some(channel)) = (wanted, lora, Channel::of(plan, frequency_hz, rate, false))
            && let Ok(bytes) = beacon.emit(sf)
        {
            let gps_us = i64::from(time_s) * 1_000_000;
            let at = Timestamp(gps_time::to_unix_us(gps_us));
            let candidate = channel.candidate((eui, 0.0), Window::Beacon, at, When::Gps(gps_us));
            // One that cannot be sent is left out; devices bridge two hours without (TS001-1.1 §12.1).
            let _ = self.send_by_any(step, Cargo::bare(To::Everyone, bytes), vec![candidate]);
        }
        self.plan_beacon(step.now, eui);
    }
}
