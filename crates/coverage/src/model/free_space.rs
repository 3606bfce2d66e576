//! Free space: ITU-R P.525-4.

use super::{Loss, Mechanism, Path};
use crate::range::{RangeError, within};

/// The loss between isotropic antennas in free space, in dB (P.525-4 §2.3, equation 4).
pub fn free_space_db(frequency_mhz: f64, distance_km: f64) -> f64 {
    32.4 + 20.0 * frequency_mhz.log10() + 20.0 * distance_km.log10()
}

pub(super) fn loss(path: &Path<'_>) -> Result<Loss, RangeError> {
    path.check(1.0..=300_000.0, 0.0..=3_000.0)?;
    within("distance_km", path.distance_km(), 0.01..=3_000.0, "km")?;
    let (tx_m, rx_m) = path.antennas_m();
    let distance_km = path.distance_km().hypot((tx_m - rx_m) / 1000.0);
    Ok(Loss::of([(Mechanism::FreeSpace, free_space_db(path.frequency_mhz, distance_km))]))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_loss_is_that_of_the_inverse_square() {
        // (4πd/λ)² at 868.3 MHz and 1 km.
        let exact = 20.0 * (4.0 * std::f64::consts::PI * 1000.0 / (299_792_458.0 / 868.3e6)).log10();
        assert!((free_space_db(868.3, 1.0) - exact).abs() < 0.06);
        assert!((free_space_db(868.3, 2.0) - free_space_db(868.3, 1.0) - 6.0206).abs() < 1e-4);
    }
}
