//! What a limit on airtime allows: how large a frame, how often, how many a day; and how weak a
//! signal may be to be heard.

use crate::Direction;
use crate::airtime::{downlink_us, uplink_us};
use crate::modulation::{Modulation, SpreadingFactor};
use crate::wire::MAX_PHY_PAYLOAD;

/// A day, in microseconds.
pub const DAY_US: u64 = 86_400_000_000;

/// Airtime that may be used in a period.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum AirtimeLimit {
    /// A share of the time, in parts per million: a duty cycle.
    Share {
        /// Parts per million.
        ppm: u32,
    },
    /// So much airtime in a day: what a network asks of its members.
    Daily {
        /// Microseconds a day.
        us: u64,
    },
}

impl AirtimeLimit {
    /// The shortest time from the start of one frame to the start of the next that keeps the limit
    /// for good, in microseconds, rounded up. `None` if the limit allows no airtime.
    pub fn shortest_interval_us(self, airtime_us: u64) -> Option<u64> {
        let (allowed, of) = self.ratio();
        (allowed > 0).then(|| (u128::from(airtime_us) * of).div_ceil(allowed) as u64)
    }

    /// The airtime that may be used in each interval, in microseconds.
    pub fn airtime_us_in(self, interval_us: u64) -> u64 {
        let (allowed, of) = self.ratio();
        (u128::from(interval_us) * allowed / of) as u64
    }

    /// How many frames of this airtime a day allows.
    pub fn frames_a_day(self, airtime_us: u64) -> u64 {
        let (allowed, of) = self.ratio();
        (u128::from(DAY_US) * allowed / of / u128::from(airtime_us.max(1))) as u64
    }

    fn ratio(self) -> (u128, u128) {
        match self {
            AirtimeLimit::Share { ppm } => (u128::from(ppm), 1_000_000),
            AirtimeLimit::Daily { us } => (u128::from(us), u128::from(DAY_US)),
        }
    }
}

/// The share of the time that frames of this airtime take when one is begun every `interval_us`;
/// above 1 they do not fit.
pub fn duty_cycle(airtime_us: u64, interval_us: u64) -> f64 {
    airtime_us as f64 / interval_us.max(1) as f64
}

/// The largest PHYPayload whose airtime keeps within `airtime_us`, in bytes; `None` if not even an
/// empty packet does.
pub fn largest_phy_payload(modulation: Modulation, direction: Direction, airtime_us: u64) -> Option<usize> {
    let airtime = match direction {
        Direction::Up => uplink_us,
        Direction::Down => downlink_us,
    };
    // Airtime never falls with length, so the lengths that fit are the first ones.
    (0..=MAX_PHY_PAYLOAD).take_while(|len| airtime(modulation, *len) <= airtime_us).last()
}

/// Noise figure of a usual receiver, in dB.
pub const NOISE_FIGURE_DB: f64 = 6.0;

/// Thermal noise of −174 dBm/Hz over the bandwidth, and the receiver's own.
pub fn noise_dbm(bandwidth_hz: u32, noise_figure_db: f64) -> f64 {
    -174.0 + 10.0 * f64::from(bandwidth_hz.max(1)).log10() + noise_figure_db
}

/// The weakest LoRa signal a receiver demodulates, in dBm: thermal noise of −174 dBm/Hz over the
/// bandwidth, the receiver's own noise, and the SNR the spreading factor needs (SX1276 datasheet,
/// rev. 7, §4.1.1.2 and table 13).
pub fn sensitivity_dbm(spreading_factor: SpreadingFactor, bandwidth_hz: u32, noise_figure_db: f64) -> f64 {
    noise_dbm(bandwidth_hz, noise_figure_db) + spreading_factor.required_snr_db()
}

/// The same for a receiver with the usual noise figure; LoRa only.
pub fn usual_sensitivity_dbm(modulation: Modulation) -> Option<f64> {
    match modulation {
        Modulation::Lora { spreading_factor, bandwidth } => {
            Some(sensitivity_dbm(spreading_factor, bandwidth.hz(), NOISE_FIGURE_DB))
        }
        Modulation::Fsk { .. } | Modulation::LrFhss { .. } => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    const ONE_PERCENT: AirtimeLimit = AirtimeLimit::Share { ppm: 10_000 };

    #[test]
    fn limits_worked_by_hand() {
        assert_eq!(ONE_PERCENT.shortest_interval_us(61_696), Some(6_169_600));
        assert_eq!(ONE_PERCENT.frames_a_day(61_696), 14_004, "864 s / 61.696 ms = 14 004.1");
        let thirty_seconds = AirtimeLimit::Daily { us: 30_000_000 };
        assert_eq!(thirty_seconds.frames_a_day(1_155_072), 25);
        assert_eq!(thirty_seconds.shortest_interval_us(1_155_072), Some(3_326_607_360));
        assert_eq!(AirtimeLimit::Share { ppm: 0 }.shortest_interval_us(1), None);
        assert_eq!(duty_cycle(36_000_000, 3_600_000_000), 0.01);
    }

    #[test]
    fn the_largest_payload_under_a_dwell_time() {
        // RP002's US915 table: 400 ms at SF10/125 leave 19 bytes of MACPayload, 24 of PHYPayload.
        let sf10 = Modulation::lora(10, 125).unwrap();
        assert_eq!(largest_phy_payload(sf10, Direction::Up, 400_000), Some(24));
        assert_eq!(largest_phy_payload(Modulation::lora(12, 125).unwrap(), Direction::Up, 400_000), None);
    }

    #[test]
    fn sensitivity_is_the_datasheets() {
        // -174 + 50.97 + 6 - 20 = -137.03 dBm; the SX1276 datasheet gives -137 dBm.
        let sf12 = SpreadingFactor::new(12).unwrap();
        assert!((sensitivity_dbm(sf12, 125_000, NOISE_FIGURE_DB) + 137.03).abs() < 0.01);
        let sf7 = SpreadingFactor::new(7).unwrap();
        assert!((sensitivity_dbm(sf7, 500_000, NOISE_FIGURE_DB) + 118.51).abs() < 0.01);
    }

    proptest! {
        #[test]
        fn frames_at_the_shortest_interval_keep_the_limit(airtime_us in 1u64..10_000_000, ppm in 1u32..=1_000_000) {
            let limit = AirtimeLimit::Share { ppm };
            let interval = limit.shortest_interval_us(airtime_us).unwrap();
            prop_assert!(u128::from(airtime_us) * 1_000_000 <= u128::from(interval) * u128::from(ppm));
            prop_assert!(limit.airtime_us_in(interval) >= airtime_us);
            prop_assert!(interval == 0 || limit.airtime_us_in(interval - 1) <= airtime_us);
            let used = u128::from(limit.frames_a_day(airtime_us)) * u128::from(airtime_us);
            prop_assert!(used * 1_000_000 <= u128::from(DAY_US) * u128::from(ppm));
        }
    }
}
