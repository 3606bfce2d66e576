//! How the air bends waves: the effective earth and how often it is not the usual one (P.1812-4 §3.5 and §3.6).

use super::{Path, Settings, inverse_complementary_normal};
use crate::geo::EARTH_RADIUS_M;
use crate::terrain::cover::Shield;

/// The earth's effective radius over the true one in a duct (§3.5, k_β).
pub(super) const DUCT_EARTH_FACTOR: f64 = 3.0;

/// Land up to this height above the sea, and no farther from it than [`COAST_KM`], is coast (§3.4.1, Table 3).
const COAST_M: f64 = 100.0;
const COAST_KM: f64 = 50.0;

pub(super) struct Climate {
    /// The median effective radius of the earth, in km.
    pub earth_km: f64,
    /// The share of time with ducts in the lowest 100 m, β₀, in percent.
    pub duct_percent: f64,
    /// τ, which grows from 0 to 1 with the longest way inland.
    pub inland: f64,
}

impl Climate {
    pub(super) fn of(path: &Path<'_>, settings: &Settings) -> Self {
        let (land_km, inland_km) = longest_km(path);
        // Equations 3 to 7.
        let inland = 1.0 - (-0.000412 * inland_km.powf(2.41)).exp();
        let by_land = 10f64.powf(-land_km / (16.0 - 6.6 * inland)) + 10f64.powf(-(2.48 + 1.77 * inland));
        let mu1 = by_land.powf(0.2).min(1.0);
        let north = path.latitude_deg.abs();
        let (mu4, usual) = if north <= 70.0 {
            (mu1.powf(-0.935 + 0.0176 * north), 10f64.powf(-0.015 * north + 1.67))
        } else {
            (mu1.powf(0.3), 4.17)
        };
        Self {
            earth_km: EARTH_RADIUS_M / 1000.0 * 157.0 / (157.0 - settings.delta_n),
            duct_percent: usual * mu1 * mu4,
            inland,
        }
    }

    /// F_i: how far between the median and a duct the time asked for lies (§4.3.5, equation 42).
    pub(super) fn share_of(&self, time_percent: f64) -> f64 {
        if time_percent >= 50.0 {
            0.0
        } else if time_percent > self.duct_percent {
            inverse_complementary_normal(time_percent / 100.0) / inverse_complementary_normal(self.duct_percent / 100.0)
        } else {
            1.0
        }
    }
}

/// The longest part over land, and the longest inland, in km.
fn longest_km(path: &Path<'_>) -> (f64, f64) {
    let samples = path.profile.samples();
    let step_km = path.profile.step_m() / 1000.0;
    let mut coast = vec![false; samples.len()];
    // From the sea inland, from both sides.
    let mut mark = |order: &mut dyn Iterator<Item = usize>| {
        let mut from_sea_km = f64::INFINITY;
        for at in order {
            from_sea_km = match samples[at].shield {
                Shield::Sea => 0.0,
                _ if samples[at].ground_m > COAST_M => f64::INFINITY,
                _ => from_sea_km + step_km,
            };
            coast[at] |= from_sea_km <= COAST_KM;
        }
    };
    mark(&mut (0..samples.len()));
    mark(&mut (0..samples.len()).rev());
    let longest = |is: &dyn Fn(usize) -> bool| {
        let (mut longest, mut run) = (0usize, 0usize);
        for at in 0..samples.len() {
            run = if is(at) { run + 1 } else { 0 };
            longest = longest.max(run);
        }
        // A run of samples reaches half a step beyond its ends, but not beyond the path's.
        (longest as f64 * step_km).min(path.distance_km())
    };
    (longest(&|at| samples[at].shield != Shield::Sea), longest(&|at| samples[at].shield != Shield::Sea && !coast[at]))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::model::Polarization;
    use crate::terrain::profile::{Profile, Sample};

    fn climate(samples: Vec<Sample>, length_m: f64) -> Climate {
        let profile = Profile::new(length_m, samples).unwrap();
        let path = Path {
            profile: profile.whole(),
            frequency_mhz: 868.0,
            polarization: Polarization::Vertical,
            tx_height_m: 10.0,
            rx_height_m: 10.0,
            latitude_deg: 54.7,
        };
        Climate::of(&path, &Settings::default())
    }

    #[test]
    fn ducts_are_more_frequent_over_sea_than_inland() {
        let sea = Sample { shield: Shield::Sea, ..Sample::bare(0.0) };
        let over_sea = climate(vec![sea; 101], 100_000.0);
        // All over sea: μ1 is at its largest, β₀ = 10^(1.67 - 0.015 φ) μ1 μ4.
        assert!((over_sea.earth_km - 6371.0 * 157.0 / 112.0).abs() < 1e-9);
        assert_eq!(over_sea.inland, 0.0);
        assert!((over_sea.duct_percent - 7.07).abs() < 0.05, "{}", over_sea.duct_percent);
        let land = climate(vec![Sample::bare(50.0); 101], 100_000.0);
        assert!(land.duct_percent < over_sea.duct_percent && land.inland > 0.99);
        let mut coast = vec![Sample::bare(20.0); 101];
        coast[0] = sea;
        let coast = climate(coast, 40_000.0);
        assert_eq!(coast.inland, 0.0, "low land within 50 km of the sea is coast");
        assert_eq!((coast.share_of(50.0), coast.share_of(0.001)), (0.0, 1.0));
        assert!(coast.share_of(10.0) > 0.0 && coast.share_of(10.0) < 1.0);
    }
}
