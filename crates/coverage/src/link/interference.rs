//! Interference between frames: by the same spreading factor and by others.
//!
//! Thresholds: D. Croce, M. Gucciardo, S. Mangione, G. Santaromita, I. Tinnirello, "Impact of LoRa Imperfect Orthogonality:
//! Analysis of Link-Level Performance", IEEE Communications Letters vol. 22 no. 4, 2018, Table I.

use lorawan::modulation::SpreadingFactor;
use serde::{Deserialize, Serialize};

use super::shadowing::normal_probability;

/// How much stronger a frame has to be than one that overlaps it, in dB: by the frame's spreading factor, 7 to 12, and by
/// that of the other.
const THRESHOLDS_DB: [[f64; 6]; 6] = [
    [1.0, -8.0, -9.0, -9.0, -9.0, -9.0],
    [-11.0, 1.0, -11.0, -12.0, -13.0, -13.0],
    [-15.0, -13.0, 1.0, -13.0, -14.0, -15.0],
    [-19.0, -18.0, -17.0, 1.0, -17.0, -18.0],
    [-22.0, -22.0, -21.0, -20.0, 1.0, -20.0],
    [-25.0, -25.0, -25.0, -24.0, -23.0, 1.0],
];

/// The signal over an interferer that is needed, in dB. Spreading factors 5 and 6 count as 7: nothing was measured for them.
pub fn threshold_db(frame: SpreadingFactor, other: SpreadingFactor) -> f64 {
    let at = |factor: SpreadingFactor| usize::from(factor.value().clamp(7, 12) - 7);
    THRESHOLDS_DB[at(frame)][at(other)]
}

/// What else is sent in a channel.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Load {
    /// The spreading factor.
    pub spreading_factor: SpreadingFactor,
    /// Frames that are on the air on average, in Erlang.
    pub erlang: f64,
    /// Their median power at the receiver, in dBm.
    pub power_dbm: f64,
    /// How their powers differ, as a standard deviation in dB.
    pub deviation_db: f64,
}

/// A frame among others.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Reception {
    /// Signal over noise and the mean interference, in dB. Interference of another spreading factor counts as much less as
    /// the thresholds differ.
    pub snir_db: f64,
    /// The probability that no other frame destroys it. Frames begin at random: one that begins at most its own length before
    /// this one, or during it, overlaps it.
    pub undisturbed: f64,
}

/// How a frame of this strength fares.
pub fn reception(spreading_factor: SpreadingFactor, (signal_dbm, noise_dbm): (f64, f64), loads: &[Load]) -> Reception {
    let milliwatts = |dbm: f64| 10f64.powf(dbm / 10.0);
    let own_db = threshold_db(spreading_factor, spreading_factor);
    let mut disturbance_mw = milliwatts(noise_dbm);
    let mut destroying = 0.0;
    for load in loads {
        let threshold = threshold_db(spreading_factor, load.spreading_factor);
        // The mean of a log-normal power lies above its median.
        let mean_dbm = load.power_dbm + load.deviation_db.powi(2) * std::f64::consts::LN_10 / 20.0;
        disturbance_mw += load.erlang * milliwatts(mean_dbm + threshold - own_db);
        let needed_dbm = signal_dbm - threshold;
        let strong = if load.deviation_db > 0.0 {
            1.0 - normal_probability((needed_dbm - load.power_dbm) / load.deviation_db)
        } else if load.power_dbm > needed_dbm {
            1.0
        } else {
            0.0
        };
        destroying += 2.0 * load.erlang * strong;
    }
    Reception { snir_db: signal_dbm - 10.0 * disturbance_mw.log10(), undisturbed: (-destroying).exp() }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn sf(n: u8) -> SpreadingFactor {
        SpreadingFactor::new(n).unwrap()
    }

    fn load(factor: u8, erlang: f64, power_dbm: f64) -> Load {
        Load { spreading_factor: sf(factor), erlang, power_dbm, deviation_db: 0.0 }
    }

    #[test]
    fn equal_frames_of_one_factor_are_those_of_aloha() {
        let one = reception(sf(7), (-100.0, -117.0), &[load(7, 0.1, -100.0)]);
        assert!((one.undisturbed - (-0.2f64).exp()).abs() < 1e-12);
        let weak = reception(sf(7), (-100.0, -117.0), &[load(7, 0.1, -102.0)]);
        assert_eq!(weak.undisturbed, 1.0, "2 dB weaker: it is captured");
        let other = reception(sf(12), (-100.0, -117.0), &[load(7, 0.1, -76.0)]);
        assert_eq!(other.undisturbed, 1.0, "SF12 stands 25 dB of SF7");
        assert!(reception(sf(12), (-100.0, -117.0), &[load(7, 0.1, -74.0)]).undisturbed < 1.0);
        assert_eq!(threshold_db(sf(5), sf(9)), threshold_db(sf(7), sf(9)));
    }

    #[test]
    fn snir_is_snr_without_others_and_falls_with_load() {
        let at = |erlang: f64| reception(sf(9), (-110.0, -117.0), &[load(9, erlang, -110.0)]).snir_db;
        assert!((reception(sf(9), (-110.0, -117.0), &[]).snir_db - 7.0).abs() < 1e-9);
        assert!(at(0.0) > at(0.01) && at(0.01) > at(0.1));
        assert!((at(1.0) + 0.8).abs() < 0.1, "one frame of the same power is always there: {}", at(1.0));
        let spread = [Load { deviation_db: 8.0, ..load(9, 0.1, -110.0) }];
        let share = reception(sf(9), (-110.0, -117.0), &spread).undisturbed;
        assert!((share - (-0.2f64 * normal_probability(1.0 / 8.0)).exp()).abs() < 1e-6, "{share}");
    }
}
