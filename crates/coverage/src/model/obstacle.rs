//! What stands in the way: the sample that shields most, and the first Fresnel zone (ITU-R P.526-15 §2).

use serde::{Deserialize, Serialize};

use super::{Path, USUAL_EARTH_FACTOR, wavelength_m};
use crate::geo::EARTH_RADIUS_M;

/// The sample of a path that comes nearest to the line of sight, or rises most above it, measured in Fresnel zones.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Obstacle {
    /// From the transmitter, in metres.
    pub distance_m: f64,
    /// Its top above the line of sight, in metres; negative where it lies below.
    pub above_line_m: f64,
    /// The radius of the first Fresnel zone there, in metres.
    pub fresnel_m: f64,
    /// The ground there above the sea, in metres.
    pub ground_m: f64,
    /// What stands on it, in metres.
    pub cover_m: f64,
}

impl Obstacle {
    /// The line of sight is blocked.
    pub fn blocks(&self) -> bool {
        self.above_line_m > 0.0
    }

    /// It reaches into the inner 60 % of the first Fresnel zone, which has to be free for a loss as in free space.
    pub fn disturbs(&self) -> bool {
        self.above_line_m > -0.6 * self.fresnel_m
    }
}

impl std::fmt::Display for Obstacle {
    /// A sentence: whether the line of sight is free, and what comes nearest to it.
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let cover = if self.cover_m > 0.0 { format!(" with cover of {} m on it", self.cover_m) } else { String::new() };
        let at = format!("ground{cover}, {:.2} km from the gateway", self.distance_m / 1000.0);
        let by = self.above_line_m.abs();
        if self.blocks() {
            write!(f, "The line of sight is blocked: {at}, rises {by:.1} m above it.")
        } else if self.disturbs() {
            let needed = 0.6 * self.fresnel_m;
            write!(
                f,
                "The line of sight is free, but {at}, comes within {by:.1} m of it: {needed:.1} m would be needed."
            )
        } else {
            write!(f, "The line of sight is free: {at}, stays {by:.1} m below it.")
        }
    }
}

/// How far the curved earth rises between the ends of a path, in metres.
pub fn bulge_m(distance_m: f64, length_m: f64) -> f64 {
    distance_m * (length_m - distance_m) / (2.0 * USUAL_EARTH_FACTOR * EARTH_RADIUS_M)
}

/// The radius of the first Fresnel zone, in metres.
pub fn fresnel_m(frequency_mhz: f64, distance_m: f64, length_m: f64) -> f64 {
    (wavelength_m(frequency_mhz) * distance_m * (length_m - distance_m) / length_m).max(0.0).sqrt()
}

impl Path<'_> {
    /// What stands most in the way.
    pub fn obstacle(&self) -> Obstacle {
        let samples = self.profile.samples();
        let (length_m, (tx_m, rx_m)) = (self.profile.length_m(), self.antennas_m());
        let one = |at: usize| {
            let distance_m = self.profile.step_m() * at as f64;
            let line_m = tx_m + (rx_m - tx_m) * distance_m / length_m;
            let sample = samples[at];
            Obstacle {
                distance_m,
                above_line_m: sample.ground_m + sample.cover_m + bulge_m(distance_m, length_m) - line_m,
                fresnel_m: fresnel_m(self.frequency_mhz, distance_m, length_m),
                ground_m: sample.ground_m,
                cover_m: sample.cover_m,
            }
        };
        let zones = |obstacle: &Obstacle| obstacle.above_line_m / obstacle.fresnel_m;
        let all = (1..samples.len() - 1).map(one);
        all.reduce(|most, next| if zones(&next) > zones(&most) { next } else { most }).unwrap_or_else(|| one(1))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::model::Polarization;
    use crate::terrain::profile::{Profile, Sample};

    #[test]
    fn the_ridge_in_the_way_is_found() {
        let mut samples = vec![Sample::bare(0.0); 101];
        samples[30] = Sample { cover_m: 12.0, ..Sample::bare(40.0) };
        let profile = Profile::new(5_000.0, samples).unwrap();
        let path = |height_m: f64| Path {
            profile: profile.whole(),
            frequency_mhz: 868.3,
            polarization: Polarization::Vertical,
            tx_height_m: height_m,
            rx_height_m: height_m,
            latitude_deg: 54.7,
        };
        let low = path(10.0).obstacle();
        assert_eq!((low.distance_m, low.ground_m, low.cover_m), (1_500.0, 40.0, 12.0));
        // 52 m and the earth's 0.31 m above a line at 10 m; the zone is √(0.345 m · 1500 m · 3500 m / 5000 m) = 19 m wide.
        assert!((low.above_line_m - 42.31).abs() < 0.01 && (low.fresnel_m - 19.04).abs() < 0.01, "{low:?}");
        assert!(low.blocks() && low.disturbs());
        let near = path(60.0).obstacle();
        assert!(!near.blocks() && near.disturbs(), "{near:?}");
        assert!(!path(90.0).obstacle().disturbs());
    }
}
