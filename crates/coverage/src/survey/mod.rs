//! Coverage as it was measured: what a network's own traffic tells of it.

pub mod areas;
pub mod calibration;
pub mod changes;
pub mod gateways;
pub mod here;
pub mod hexagons;
pub mod observation;
pub mod record;
pub mod residuals;
pub mod steps;

/// The power of a signal whose RSSI holds the noise as well, in dBm: RSSI is the sum of both, SNR their ratio.
pub fn signal_dbm(rssi_dbm: f64, snr_db: f64) -> f64 {
    let ratio = 10f64.powf(snr_db / 10.0);
    rssi_dbm + 10.0 * (ratio / (1.0 + ratio)).log10()
}

/// The middle of some numbers; `None` of none. They are put in order.
pub fn median(values: &mut [f64]) -> Option<f64> {
    if values.is_empty() {
        return None;
    }
    values.sort_by(f64::total_cmp);
    let middle = values.len() / 2;
    Some(if values.len().is_multiple_of(2) {
        f64::midpoint(values[middle - 1], values[middle])
    } else {
        values[middle]
    })
}

/// The standard deviation of normal values whose median distance from their middle this is: 1.4826 times that (P. J.
/// Rousseeuw and C. Croux, "Alternatives to the Median Absolute Deviation", JASA vol. 88, 1993, §1).
const DEVIATION_OF_MEDIAN_DISTANCE: f64 = 1.4826;

/// How far values lie from their middle, as a standard deviation that a few wild ones do not change.
fn spread(values: &[f64], middle: f64) -> f64 {
    let mut distances: Vec<f64> = values.iter().map(|value| (value - middle).abs()).collect();
    median(&mut distances).unwrap_or(0.0) * DEVIATION_OF_MEDIAN_DISTANCE
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_signal_is_told_from_the_noise_around_it() {
        // As strong as the noise: half of what is received.
        assert!((signal_dbm(-110.0, 0.0) + 113.01).abs() < 0.01);
        assert!((signal_dbm(-80.0, 30.0) + 80.0).abs() < 0.01);
        assert!((signal_dbm(-117.0, -15.0) + 132.14).abs() < 0.01);
    }

    #[test]
    fn the_middle_and_the_spread_stand_wild_values() {
        assert_eq!(median(&mut []), None);
        assert_eq!((median(&mut [3.0, 1.0, 2.0]), median(&mut [4.0, 1.0, 2.0, 3.0])), (Some(2.0), Some(2.5)));
        assert!((spread(&[-1.0, 0.0, 1.0, 0.5, -0.5, 900.0], 0.0) - 1.11).abs() < 0.01);
    }
}
