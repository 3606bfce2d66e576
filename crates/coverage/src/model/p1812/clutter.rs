//! Cover around the antennas, and how places differ (P.1812-4 §4.7 and §4.8).

use super::{Settings, inverse_complementary_normal};
use crate::model::knife_edge_db;
use crate::terrain::cover::Shield;
use crate::terrain::profile::Sample;

/// The loss by the cover around an antenna, in dB (equations 68 to 70).
pub(super) fn end_db(sample: Sample, height_m: f64, f: f64, street_width_m: f64) -> f64 {
    let cover_m = sample.cover_m;
    if height_m >= cover_m {
        return 0.0;
    }
    match sample.shield {
        // Low antennas in the open: the ground takes it away.
        Shield::Sea | Shield::Water | Shield::Open => {
            let by_frequency = 21.8 + 6.2 * f.log10();
            -by_frequency * (height_m.max(0.1) / cover_m).log10()
        }
        Shield::Suburban | Shield::TreesOrTown | Shield::DenseTown => {
            let above_m = cover_m - height_m;
            let angle_deg = (above_m / street_width_m).atan().to_degrees();
            let v = 0.342 * f.sqrt() * (above_m * angle_deg).sqrt();
            (knife_edge_db(v) - 6.03).max(0.0)
        }
    }
}

/// The margin that keeps the loss within the share of places asked for, in dB (equations 71 to 73). Antennas that
/// stand 10 m above the cover see no difference.
pub(super) fn places_db(settings: &Settings, frequency_ghz: f64, above_cover_m: f64) -> f64 {
    let above = (above_cover_m / 10.0).clamp(0.0, 1.0);
    let deviation_db = (0.024 * frequency_ghz + 0.52) * settings.place_width_m.powf(0.28);
    -inverse_complementary_normal(settings.places_percent / 100.0) * deviation_db * (1.0 - above)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_wood_shields_a_low_antenna_and_not_a_high_one() {
        let wood = Sample { cover_m: 15.0, shield: Shield::TreesOrTown, ..Sample::bare(0.0) };
        let at = |height_m: f64| end_db(wood, height_m, 0.868, 27.0);
        assert_eq!(at(15.0), 0.0);
        // h_dif 13.5 m, θ_clut 26.57°, ν = 0.342 √0.868 √(13.5 × 26.57) = 6.03, J(ν) = 28.5 dB.
        assert!((at(1.5) - 22.5).abs() < 0.2, "{}", at(1.5));
        assert!(at(1.0) > at(5.0) && at(5.0) > at(14.0));
        let heath = Sample { cover_m: 10.0, shield: Shield::Open, ..wood };
        assert!((end_db(heath, 1.0, 1.0, 27.0) - 21.8).abs() < 1e-9, "a tenth of the height at 1 GHz");
    }
}
