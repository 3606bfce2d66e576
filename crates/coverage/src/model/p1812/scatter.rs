//! Scatter by the troposphere (P.1812-4 §4.4).

use super::Worked;

/// The loss not exceeded in the share of time asked for, in dB (equations 44 and 45).
pub(super) fn loss_db(worked: &Worked<'_>) -> f64 {
    let (f, d) = (worked.frequency_ghz, worked.length_km());
    let frequency_db = 25.0 * f.log10() - 2.5 * (f / 2.0).log10().powi(2);
    let angle_mrad = 1000.0 * d / worked.climate.earth_km + worked.horizon.tx_mrad + worked.horizon.rx_mrad;
    let time = (50.0 / worked.settings.time_percent).log10().max(0.0);
    190.1 + frequency_db + 20.0 * d.log10() + 0.573 * angle_mrad - 0.15 * worked.settings.n0 - 10.125 * time.powf(0.7)
}
