//! Okumura's measurements as formulas: M. Hata, "Empirical formula for propagation loss in land mobile radio services", IEEE
//! Transactions on Vehicular Technology, vol. 29 no. 3, 1980.

use serde::{Deserialize, Serialize};

use super::{Loss, Mechanism, Path, free_space_db};
use crate::range::{RangeError, within};

/// Where the lower antenna stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Surroundings {
    /// A large city.
    LargeCity,
    /// A medium or small city.
    City,
    /// A suburb.
    Suburban,
    /// Open country.
    Open,
}

/// The median loss, in dB; `base_m` is the effective height of the higher antenna, `mobile_m` the height of the lower one above
/// the ground.
fn median_db(frequency_mhz: f64, (base_m, mobile_m): (f64, f64), distance_km: f64, surroundings: Surroundings) -> f64 {
    let log_f = frequency_mhz.log10();
    // Equations 11 to 14: a(h_m).
    let mobile_db = match surroundings {
        Surroundings::LargeCity if frequency_mhz <= 300.0 => 8.29 * (1.54 * mobile_m).log10().powi(2) - 1.1,
        Surroundings::LargeCity => 3.2 * (11.75 * mobile_m).log10().powi(2) - 4.97,
        _ => (1.1 * log_f - 0.7) * mobile_m - (1.56 * log_f - 0.8),
    };
    // Equation 10.
    let urban_db = 69.55 + 26.16 * log_f - 13.82 * base_m.log10() - mobile_db
        + (44.9 - 6.55 * base_m.log10()) * distance_km.log10();
    match surroundings {
        Surroundings::LargeCity | Surroundings::City => urban_db,
        // Equation 15.
        Surroundings::Suburban => urban_db - 2.0 * (frequency_mhz / 28.0).log10().powi(2) - 5.4,
        // Equation 16.
        Surroundings::Open => urban_db - 4.78 * log_f.powi(2) + 18.33 * log_f - 40.94,
    }
}

/// The height of an antenna above the mean of the ground before it: between a fifth of the path and its end, or 3 and 15 km
/// (ITU-R P.1546-6 Annex 5 §3).
fn effective_m(antenna_m: f64, grounds_m: &[f64], length_km: f64) -> f64 {
    let reach_km = length_km.min(15.0);
    let at = |km: f64| ((km / length_km) * (grounds_m.len() - 1) as f64).round() as usize;
    let part = &grounds_m[at(0.2 * reach_km)..=at(reach_km)];
    antenna_m - part.iter().sum::<f64>() / part.len() as f64
}

pub(super) fn loss(path: &Path<'_>, surroundings: Surroundings) -> Result<Loss, RangeError> {
    path.check(150.0..=1_500.0, 1.0..=1_000.0)?;
    let distance_km = path.distance_km();
    within("distance_km", distance_km, 1.0..=20.0, "km")?;
    let mut grounds_m: Vec<f64> = path.profile.samples().iter().map(|sample| sample.ground_m).collect();
    let (tx_m, rx_m) = path.antennas_m();
    // The formulas are for a base and a mobile station: the higher one is the base, whichever sends.
    let (base_asl_m, mobile_m) = if tx_m >= rx_m {
        (tx_m, path.rx_height_m)
    } else {
        grounds_m.reverse();
        (rx_m, path.tx_height_m)
    };
    let base_m = effective_m(base_asl_m, &grounds_m, distance_km);
    within("effective height of the higher antenna", base_m, 30.0..=200.0, "m")?;
    within("height of the lower antenna", mobile_m, 1.0..=10.0, "m")?;
    let median_db = median_db(path.frequency_mhz, (base_m, mobile_m), distance_km, surroundings);
    let free_db = free_space_db(path.frequency_mhz, distance_km);
    Ok(Loss::of([(Mechanism::FreeSpace, free_db), (Mechanism::Surroundings, median_db - free_db)]))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::model::Polarization;
    use crate::terrain::profile::Profile;

    /// The worked example that textbooks of mobile radio give most often: 900 MHz, 30 m, 1.5 m, 1 km in a city is about 126 dB.
    #[test]
    fn the_formulas_give_the_usual_example() {
        let db = |km: f64, surroundings| median_db(900.0, (30.0, 1.5), km, surroundings);
        assert!((db(1.0, Surroundings::City) - 126.4).abs() < 0.1, "{}", db(1.0, Surroundings::City));
        // 35.2 dB for each factor of ten in distance at this height.
        assert!((db(10.0, Surroundings::City) - db(1.0, Surroundings::City) - 35.22).abs() < 0.01);
        assert!((db(1.0, Surroundings::City) - db(1.0, Surroundings::Suburban) - 9.94).abs() < 0.01);
        assert!((db(1.0, Surroundings::City) - db(1.0, Surroundings::Open) - 28.5).abs() < 0.1);
        let large = median_db(900.0, (30.0, 1.5), 1.0, Surroundings::LargeCity);
        assert!((large - db(1.0, Surroundings::City)).abs() < 1.0);
    }

    #[test]
    fn what_it_is_not_valid_for_is_named() {
        let profile = Profile::level(5_000.0, 10.0, 101).unwrap();
        let path = Path {
            profile: profile.whole(),
            frequency_mhz: 868.0,
            polarization: Polarization::Vertical,
            tx_height_m: 40.0,
            rx_height_m: 2.0,
            latitude_deg: 54.7,
        };
        let there = loss(&path, Surroundings::Open).unwrap().total_db;
        let back = loss(&Path { tx_height_m: 2.0, rx_height_m: 40.0, ..path }, Surroundings::Open).unwrap().total_db;
        assert!((there - back).abs() < 1e-9);
        let why = |path: &Path<'_>| loss(path, Surroundings::Open).unwrap_err().to_string();
        assert!(
            why(&Path { frequency_mhz: 100.0, ..path }).contains("frequency_mhz is 100 MHz; allowed are 150 to 1500")
        );
        assert!(why(&Path { tx_height_m: 20.0, ..path }).contains("effective height of the higher antenna is 20 m"));
        assert!(why(&Path { rx_height_m: 12.0, ..path }).contains("height of the lower antenna is 12 m"));
        let far = Profile::level(30_000.0, 10.0, 101).unwrap();
        assert!(why(&Path { profile: far.whole(), ..path }).contains("distance_km is 30 km"));
    }
}
