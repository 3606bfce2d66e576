//! Shadowing: how the loss at a place differs from what a model computes, the same each time at the same place.

use serde::{Deserialize, Serialize};

use crate::geo::{EARTH_RADIUS_M, Place};
use crate::model::p1812::inverse_complementary_normal;

/// The probability that a standard normal value is below this: Φ (Abramowitz and Stegun, "Handbook of Mathematical Functions",
/// 26.2.17; off by less than 8e-8).
pub fn normal_probability(deviations: f64) -> f64 {
    const B: [f64; 5] = [0.319_381_530, -0.356_563_782, 1.781_477_937, -1.821_255_978, 1.330_274_429];
    let t = 1.0 / (1.0 + 0.231_641_9 * deviations.abs());
    let series = B.iter().rev().fold(0.0, |sum, b| (sum + b) * t);
    let density = (-deviations * deviations / 2.0).exp() / std::f64::consts::TAU.sqrt();
    let upper = density * series;
    if deviations >= 0.0 { 1.0 - upper } else { upper }
}

/// The margin that is needed so that a link works at this share of places, in dB, where losses differ with this deviation.
pub fn fade_margin_db(reliability: f64, deviation_db: f64) -> f64 {
    inverse_complementary_normal(1.0 - reliability) * deviation_db
}

/// The share of places where a link with this margin works.
pub fn reliability(margin_db: f64, deviation_db: f64) -> f64 {
    if deviation_db <= 0.0 {
        return if margin_db >= 0.0 { 1.0 } else { 0.0 };
    }
    normal_probability(margin_db / deviation_db)
}

/// A field of shadowing over the earth: normal, and alike at places next to one another (M. Gudmundson, "Correlation model for
/// shadow fading in mobile radio systems", Electronics Letters vol. 27, 1991).
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Shadowing {
    /// Which of all fields.
    pub seed: u64,
    /// Its standard deviation, in dB.
    pub deviation_db: f64,
    /// Places this far apart have little in common, in metres.
    pub distance_m: f64,
}

impl Shadowing {
    /// The loss beyond the model's at a place, in dB; negative where it is less.
    pub fn at_db(&self, place: Place) -> f64 {
        let degree_m = EARTH_RADIUS_M.to_radians();
        let north = place.latitude_deg * degree_m / self.distance_m;
        // Rows as wide as the row's own latitude: cells stay square, and a place stays in its cell.
        let row = north.floor();
        let east = |row: f64| {
            let latitude_deg = row * self.distance_m / degree_m;
            place.longitude_deg * degree_m * latitude_deg.to_radians().cos() / self.distance_m
        };
        let (south_east, north_east) = (east(row), east(row + 1.0));
        let up = north - row;
        let corner = |row: f64, east: f64| {
            let column = east.floor();
            let over = east - column;
            [(column, 1.0 - over), (column + 1.0, over)]
                .map(|(column, weight)| (self.normal(row as i64, column as i64), weight))
        };
        let [a, b] = corner(row, south_east).map(|(value, weight)| (value, weight * (1.0 - up)));
        let [c, d] = corner(row + 1.0, north_east).map(|(value, weight)| (value, weight * up));
        let all = [a, b, c, d];
        let sum: f64 = all.iter().map(|(value, weight)| value * weight).sum();
        // Four independent values together vary less between the corners; this takes it back.
        let size = all.iter().map(|(_, weight)| weight * weight).sum::<f64>().sqrt();
        sum / size * self.deviation_db
    }

    /// The same value from -3.5 to 3.5 for a cell each time.
    fn normal(&self, row: i64, column: i64) -> f64 {
        let mut x = self.seed ^ (row as u64).wrapping_mul(0x9e37_79b9_7f4a_7c15) ^ (column as u64).rotate_left(32);
        // SplitMix64 (Steele, Lea and Flood, "Fast splittable pseudorandom number generators", 2014).
        for _ in 0..2 {
            x = x.wrapping_add(0x9e37_79b9_7f4a_7c15);
            x = (x ^ (x >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
            x = (x ^ (x >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
            x ^= x >> 31;
        }
        let share = ((x >> 11) as f64 + 0.5) / (1u64 << 53) as f64;
        inverse_complementary_normal(share).clamp(-3.5, 3.5)
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    const FIELD: Shadowing = Shadowing { seed: 7, deviation_db: 6.0, distance_m: 80.0 };

    #[test]
    fn a_margin_and_a_reliability_are_two_sides_of_one_thing() {
        for (share, deviations) in [(0.5, 0.0), (0.9, 1.2816), (0.95, 1.6449), (0.99, 2.3263)] {
            assert!((normal_probability(deviations) - share).abs() < 1e-4);
            assert!((fade_margin_db(share, 6.0) - 6.0 * deviations).abs() < 6e-3);
            assert!((reliability(fade_margin_db(share, 8.0), 8.0) - share).abs() < 2e-4);
        }
        assert_eq!((reliability(0.1, 0.0), reliability(-0.1, 0.0)), (1.0, 0.0));
    }

    #[test]
    fn the_field_is_normal_and_alike_next_door() {
        let origin = Place { latitude_deg: 54.7, longitude_deg: 3.9 };
        let values: Vec<f64> =
            (0..10_000).map(|n| FIELD.at_db(origin.towards(f64::from(n % 360), f64::from(n) * 3.7))).collect();
        let mean = values.iter().sum::<f64>() / values.len() as f64;
        let deviation = (values.iter().map(|v| (v - mean).powi(2)).sum::<f64>() / values.len() as f64).sqrt();
        assert!(mean.abs() < 0.6 && (deviation - 6.0).abs() < 0.6, "{mean} {deviation}");
        let other = Shadowing { seed: 8, ..FIELD };
        assert_eq!(FIELD.at_db(origin), FIELD.at_db(origin));
        assert_ne!(FIELD.at_db(origin), other.at_db(origin));
    }

    proptest! {
        #[test]
        fn a_step_does_not_jump(lat in -80.0..80.0f64, lon in -179.0..179.0f64, bearing in 0.0..360.0f64) {
            let here = Place { latitude_deg: lat, longitude_deg: lon };
            let step = FIELD.at_db(here) - FIELD.at_db(here.towards(bearing, 0.5));
            prop_assert!(step.abs() < 1.0, "{step}");
        }
    }
}
