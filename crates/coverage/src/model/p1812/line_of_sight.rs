//! In sight, with multipath and focusing (P.1812-4 §4.2).

use super::Worked;

/// The losses of a path in sight, in dB.
pub(super) struct InSight {
    /// Not exceeded in the share of time asked for: L_b0p.
    pub at_time_db: f64,
    /// Not exceeded in the share of time with ducts: L_b0β.
    pub in_duct_db: f64,
}

impl InSight {
    /// Equations 9 to 12.
    pub(super) fn of(worked: &Worked<'_>, free_db: f64) -> Self {
        let (tx_km, rx_km) = worked.horizons_km();
        let reach = 2.6 * (1.0 - (-(tx_km + rx_km) / 10.0).exp());
        let at = |percent: f64| free_db + reach * (percent / 50.0).log10();
        Self { at_time_db: at(worked.settings.time_percent), in_duct_db: at(worked.climate.duct_percent) }
    }
}
