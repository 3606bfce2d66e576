//! Ducts near the ground and reflection from elevated layers (P.1812-4 §4.5).

use super::Worked;
use crate::terrain::cover::Shield;

/// The loss not exceeded in the share of time asked for, in dB (equation 46).
pub(super) fn loss_db(worked: &Worked<'_>) -> f64 {
    coupling_db(worked) + along_db(worked)
}

/// Between antennas and duct: A_f (equations 47 to 50).
fn coupling_db(worked: &Worked<'_>) -> f64 {
    let f = worked.frequency_ghz;
    let (tx_km, rx_km) = worked.horizons_km();
    let low_db = if f < 0.5 { 45.375 - 137.0 * f + 92.5 * f * f } else { 0.0 };
    let shielded_db = |angle_mrad: f64, horizon_km: f64| {
        let above = angle_mrad - 0.1 * horizon_km;
        if above > 0.0 {
            20.0 * (1.0 + 0.361 * above * (f * horizon_km).sqrt()).log10() + 0.264 * above * f.cbrt()
        } else {
            0.0
        }
    };
    let to_sea_km = sea_km(worked);
    let over_sea_db = |sea_km: f64, horizon_km: f64, antenna_m: f64| {
        if worked.water_share >= 0.75 && sea_km <= horizon_km && sea_km <= 5.0 {
            -3.0 * (-0.25 * sea_km * sea_km).exp() * (1.0 + (0.07 * (50.0 - antenna_m)).tanh())
        } else {
            0.0
        }
    };
    102.45
        + 20.0 * f.log10()
        + 20.0 * (tx_km + rx_km).log10()
        + low_db
        + shielded_db(worked.horizon.tx_mrad, tx_km)
        + shielded_db(worked.horizon.rx_mrad, rx_km)
        + over_sea_db(to_sea_km.0, tx_km, worked.ground.tx_m)
        + over_sea_db(to_sea_km.1, rx_km, worked.ground.rx_m)
}

/// How far the sea is from either end along the path, in km.
fn sea_km(worked: &Worked<'_>) -> (f64, f64) {
    let samples = worked.path.profile.samples();
    let step_km = worked.path.profile.step_m() / 1000.0;
    let sea = |mut order: Box<dyn Iterator<Item = &crate::terrain::profile::Sample> + '_>| {
        order.position(|sample| sample.shield == Shield::Sea).map_or(f64::INFINITY, |at| at as f64 * step_km)
    };
    (sea(Box::new(samples.iter())), sea(Box::new(samples.iter().rev())))
}

/// Along the duct, by time and angle: A_d (equations 51 to 60).
fn along_db(worked: &Worked<'_>) -> f64 {
    let d = worked.length_km();
    let earth_km = worked.climate.earth_km;
    let (tx_km, rx_km) = worked.horizons_km();
    let tx_mrad = worked.horizon.tx_mrad.min(0.1 * tx_km);
    let rx_mrad = worked.horizon.rx_mrad.min(0.1 * rx_km);
    let angle_mrad = 1000.0 * d / earth_km + tx_mrad + rx_mrad;
    let for_angle = 5e-5 * earth_km * worked.frequency_ghz.cbrt();

    let inland = worked.climate.inland;
    let alpha = (-0.6 - 3.5e-9 * d.powf(3.1) * inland).max(-3.4);
    let (tx_m, rx_m) = worked.effective_m();
    // An antenna on the smooth earth itself: the curve ends at 1 in any case.
    let roots = (tx_m.max(0.01).sqrt() + rx_m.max(0.01).sqrt()).powi(2);
    let by_curvature = (500.0 / earth_km * d * d / roots).powf(alpha).min(1.0);
    let between_km = (d - tx_km - rx_km).clamp(0.0, 40.0);
    let rough_m = roughness_m(worked);
    let by_roughness =
        if rough_m <= 10.0 { 1.0 } else { (-4.6e-5 * (rough_m - 10.0) * (43.0 + 6.0 * between_km)).exp() };
    let beta = worked.climate.duct_percent * by_curvature * by_roughness;
    let log_beta = beta.log10();
    let gamma = 1.076 / (2.0058 - log_beta).powf(1.012)
        * (-(9.51 - 4.8 * log_beta + 0.198 * log_beta.powi(2)) * 1e-6 * d.powf(1.13)).exp();
    let ratio = worked.settings.time_percent / beta;
    let time_db = -12.0 + (1.2 + 3.7e-3 * d) * ratio.log10() + 12.0 * ratio.powf(gamma);
    for_angle * angle_mrad + time_db
}

/// How far the ground rises above the smooth earth between the horizons, in metres (Attachment 1 §5.6.3, equation 95).
fn roughness_m(worked: &Worked<'_>) -> f64 {
    let ground = worked.ground;
    let (tx_m, rx_m) = (worked.smooth.tx_m.min(ground.h_m(0)), worked.smooth.rx_m.min(ground.h_m(ground.last())));
    let slope = (rx_m - tx_m) / worked.length_km();
    let between = worked.horizon.tx_at.min(worked.horizon.rx_at)..=worked.horizon.tx_at.max(worked.horizon.rx_at);
    between.map(|at| ground.h_m(at) - (tx_m + slope * ground.d_km(at))).fold(0.0, f64::max)
}
