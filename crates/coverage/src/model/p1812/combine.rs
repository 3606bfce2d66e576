//! All mechanisms together (P.1812-4 §4.6).

use super::Worked;
use super::line_of_sight::InSight;

/// The losses of the mechanisms, in dB.
pub(super) struct Parts {
    pub in_sight: InSight,
    /// Free space and diffraction in half of the time: L_bd50.
    pub median_with_diffraction_db: f64,
    /// Diffraction alone in the share of time asked for: L_dp.
    pub diffracted_db: f64,
    /// By scatter: L_bs.
    pub scattered_db: f64,
    /// Through ducts: L_ba.
    pub ducted_db: f64,
    /// F_i.
    pub share: f64,
}

impl Parts {
    /// The loss without the cover around the antennas, in half of the places, in dB.
    pub(super) fn combined_db(&self, worked: &Worked<'_>) -> f64 {
        let time_percent = worked.settings.time_percent;
        let land_share = 1.0 - worked.water_share;
        // Equation 61: by the angle of the path.
        let slopes =
            |(tx_mrad, straight): (f64, f64)| 1.0 - 0.5 * (1.0 + (3.0 * 0.8 * (tx_mrad - straight) / 0.3).tanh());
        let ground = worked.ground;
        let length = worked.length_km();
        let bulge = |d: f64| 500.0 * d * (length - d) / worked.climate.earth_km;
        let steepest = ground
            .between()
            .map(|at| (ground.g_m(at) + bulge(ground.d_km(at)) - ground.tx_m) / ground.d_km(at))
            .fold(f64::NEG_INFINITY, f64::max);
        let by_angle = slopes((steepest, (ground.rx_m - ground.tx_m) / length));
        // Equation 62: by the length of the path.
        let by_length = 1.0 - 0.5 * (1.0 + (3.0 * 0.5 * (length - 20.0) / 20.0).tanh());
        // Equation 63: in sight, and diffraction over water left aside.
        let least_db = if time_percent < worked.climate.duct_percent {
            self.in_sight.at_time_db + land_share * self.diffracted_db
        } else {
            let median_db = self.median_with_diffraction_db;
            let in_duct_db = self.in_sight.in_duct_db + land_share * self.diffracted_db;
            median_db + (in_duct_db - median_db) * self.share
        };
        // Equation 64: a duct, or in sight if that is less. As a difference, so that no power of e overflows.
        let lower = self.ducted_db.min(self.in_sight.at_time_db);
        let power = |db: f64| ((db - lower) / 2.5).min(700.0).exp();
        let in_duct_db = lower + 2.5 * (power(self.ducted_db) + power(self.in_sight.at_time_db)).ln();
        // Equation 65.
        let diffracted_db = self.in_sight.at_time_db + self.diffracted_db;
        let duct_or_diffraction_db = if in_duct_db > diffracted_db {
            diffracted_db
        } else {
            in_duct_db + (diffracted_db - in_duct_db) * by_length
        };
        // Equations 66 and 67.
        let modified_db = duct_or_diffraction_db + (least_db - duct_or_diffraction_db) * by_angle;
        let louder = self.scattered_db.min(modified_db);
        let amount = |db: f64| 10f64.powf(-0.2 * (db - louder));
        louder - 5.0 * (amount(self.scattered_db) + amount(modified_db)).log10()
    }
}
