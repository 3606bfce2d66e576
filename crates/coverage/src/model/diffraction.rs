//! Diffraction over terrain and the curved earth: the delta-Bullington construction of ITU-R P.526-15 §4.5.4, as
//! ITU-R P.1812-4 §4.3 writes it.

use std::f64::consts::PI;

use super::ground::{Ground, SmoothEnds};
use super::{Loss, Mechanism, Path, Polarization, USUAL_EARTH_FACTOR, free_space_db, wavelength_m};
use crate::geo::EARTH_RADIUS_M;
use crate::range::{RangeError, within};
use crate::terrain::profile::Sample;

/// The loss over a single knife edge, in dB (P.526-15 §4.1, equation 31). `v` is the diffraction parameter; from -0.78
/// downwards nothing is lost.
pub fn knife_edge_db(v: f64) -> f64 {
    if v <= -0.78 {
        return 0.0;
    }
    6.9 + 20.0 * (((v - 0.1).powi(2) + 1.0).sqrt() + v - 0.1).log10()
}

/// A path over which waves are diffracted.
pub(super) struct Diffraction<'a> {
    pub ground: &'a Ground<'a>,
    /// The smooth earth at both ends.
    pub smooth: SmoothEnds,
    pub frequency_mhz: f64,
    /// The share of the path over water.
    pub water_share: f64,
    pub polarization: Polarization,
}

impl Diffraction<'_> {
    /// The loss over an earth of this effective radius, in dB (§4.3.4, equation 40).
    pub(super) fn loss_db(&self, earth_km: f64) -> f64 {
        let Ground { tx_m, rx_m, .. } = *self.ground;
        let heights = (tx_m - self.smooth.tx_m, rx_m - self.smooth.rx_m);
        let actual_db = self.bullington_db(|at| self.ground.g_m(at), (tx_m, rx_m), earth_km);
        let smooth_db = self.bullington_db(|_| 0.0, heights, earth_km);
        let spherical_db = self.spherical_db(heights, earth_km);
        actual_db + (spherical_db - smooth_db).max(0.0)
    }

    /// All obstacles as one knife edge where the horizons of both antennas meet (§4.3.1, equations 13 to 22).
    fn bullington_db(&self, height_m: impl Fn(usize) -> f64, (tx_m, rx_m): (f64, f64), earth_km: f64) -> f64 {
        let d_km = |at: usize| self.ground.d_km(at);
        let length = self.ground.length_km();
        let wavelength_m = wavelength_m(self.frequency_mhz);
        let bulge_m = |d: f64| 500.0 * d * (length - d) / earth_km;
        let edge = |d: f64, above_m: f64| above_m * (0.002 * length / (wavelength_m * d * (length - d))).sqrt();
        let mut tx_slope = f64::NEG_INFINITY;
        for at in self.ground.between() {
            tx_slope = tx_slope.max((height_m(at) + bulge_m(d_km(at)) - tx_m) / d_km(at));
        }
        let edge_db = if tx_slope < (rx_m - tx_m) / length {
            let mut highest = f64::NEG_INFINITY;
            for at in self.ground.between() {
                let d = d_km(at);
                let line_m = (tx_m * (length - d) + rx_m * d) / length;
                highest = highest.max(edge(d, height_m(at) + bulge_m(d) - line_m));
            }
            knife_edge_db(highest)
        } else {
            let mut rx_slope = f64::NEG_INFINITY;
            for at in self.ground.between() {
                let d = d_km(at);
                rx_slope = rx_slope.max((height_m(at) + bulge_m(d) - rx_m) / (length - d));
            }
            // Both slopes lie above the line, so that the point is between the ends; rounding must not move it out.
            let meeting =
                ((rx_m - tx_m + rx_slope * length) / (tx_slope + rx_slope)).clamp(length * 1e-6, length * (1.0 - 1e-6));
            let line_m = (tx_m * (length - meeting) + rx_m * meeting) / length;
            knife_edge_db(edge(meeting, tx_m + tx_slope * meeting - line_m))
        };
        edge_db + (1.0 - (-edge_db / 6.0).exp()) * (10.0 + 0.02 * length)
    }

    /// The loss over a sphere (§4.3.2, equations 23 to 30); `heights` are those of the antennas above it, in metres.
    fn spherical_db(&self, heights: (f64, f64), earth_km: f64) -> f64 {
        let length = self.ground.length_km();
        // An antenna on the very ground has no horizon; its loss is that of a low one.
        let (tx_m, rx_m) = (heights.0.max(1e-3), heights.1.max(1e-3));
        let in_sight_km = (2.0 * earth_km).sqrt() * ((0.001 * tx_m).sqrt() + (0.001 * rx_m).sqrt());
        if length >= in_sight_km {
            return self.first_term_db((tx_m, rx_m), earth_km);
        }
        let c = (tx_m - rx_m) / (tx_m + rx_m);
        let m = 250.0 * length * length / (earth_km * (tx_m + rx_m));
        let inner = (3.0 * c / 2.0 * (3.0 * m / (m + 1.0).powi(3)).sqrt()).clamp(-1.0, 1.0);
        let b = 2.0 * ((m + 1.0) / (3.0 * m)).sqrt() * (PI / 3.0 + inner.acos() / 3.0).cos();
        let tx_km = length / 2.0 * (1.0 + b);
        let rx_km = length - tx_km;
        let clear_m = ((tx_m - 500.0 * tx_km * tx_km / earth_km) * rx_km
            + (rx_m - 500.0 * rx_km * rx_km / earth_km) * tx_km)
            / length;
        let needed_m = 17.456 * (tx_km * rx_km * wavelength_m(self.frequency_mhz) / length).max(0.0).sqrt();
        if clear_m > needed_m {
            return 0.0;
        }
        let grazing_km = 500.0 * (length / (tx_m.sqrt() + rx_m.sqrt())).powi(2);
        let grazing_db = self.first_term_db((tx_m, rx_m), grazing_km);
        if grazing_db < 0.0 { 0.0 } else { (1.0 - clear_m / needed_m) * grazing_db }
    }

    /// The first term of the series for a sphere, over land and sea by their shares (§4.3.3, equations 31 to 39).
    fn first_term_db(&self, heights: (f64, f64), earth_km: f64) -> f64 {
        const LAND: (f64, f64) = (22.0, 0.003);
        const SEA: (f64, f64) = (80.0, 5.0);
        let over = |ground| self.first_term_over_db(heights, earth_km, ground);
        match self.water_share {
            0.0 => over(LAND),
            1.0 => over(SEA),
            share => share * over(SEA) + (1.0 - share) * over(LAND),
        }
    }

    fn first_term_over_db(
        &self,
        (tx_m, rx_m): (f64, f64),
        earth_km: f64,
        (permittivity, conductivity): (f64, f64),
    ) -> f64 {
        let f = self.frequency_mhz / 1000.0;
        let loss_factor = (18.0 * conductivity / f).powi(2);
        let horizontal =
            0.036 * (earth_km * f).powf(-1.0 / 3.0) * ((permittivity - 1.0).powi(2) + loss_factor).powf(-0.25);
        let k = match self.polarization {
            Polarization::Horizontal => horizontal,
            Polarization::Vertical => horizontal * (permittivity.powi(2) + loss_factor).sqrt(),
        };
        let (k2, k4) = (k.powi(2), k.powi(4));
        let beta = (1.0 + 1.6 * k2 + 0.67 * k4) / (1.0 + 4.5 * k2 + 1.53 * k4);
        let x = 21.88 * beta * (f / earth_km.powi(2)).cbrt() * self.ground.length_km();
        let distance_db =
            if x >= 1.6 { 11.0 + 10.0 * x.log10() - 17.6 * x } else { -20.0 * x.log10() - 5.6488 * x.powf(1.425) };
        let height_db = |height_m: f64| {
            let b = beta * 0.9575 * beta * (f.powi(2) / earth_km).cbrt() * height_m;
            let gain = if b > 2.0 {
                17.6 * (b - 1.1).sqrt() - 5.0 * (b - 1.1).log10() - 8.0
            } else {
                20.0 * (b + 0.1 * b.powi(3)).log10()
            };
            gain.max(2.0 + 20.0 * k.log10())
        };
        -distance_db - height_db(tx_m) - height_db(rx_m)
    }
}

/// What an antenna loses that stands within the cover, in dB.
pub(super) fn cover_db(sample: Sample, height_m: f64) -> f64 {
    if height_m < sample.cover_m { sample.loss_db } else { 0.0 }
}

/// Free space, and diffraction over an earth of the usual radius, in dB.
fn compute(path: &Path<'_>) -> Result<(f64, f64), RangeError> {
    path.check(30.0..=50_000.0, 0.0..=3_000.0)?;
    within("distance_km", path.distance_km(), 0.01..=3_000.0, "km")?;
    let ground = Ground::of(path);
    let diffraction = Diffraction {
        smooth: ground.smooth_for_diffraction(),
        frequency_mhz: path.frequency_mhz,
        water_share: path.profile.water_share(),
        polarization: path.polarization,
        ground: &ground,
    };
    let distance_km = path.distance_km().hypot((ground.tx_m - ground.rx_m) / 1000.0);
    let free_db = free_space_db(path.frequency_mhz, distance_km);
    Ok((free_db, diffraction.loss_db(USUAL_EARTH_FACTOR * EARTH_RADIUS_M / 1000.0)))
}

/// Free space, diffraction, and the loss of cover that an antenna stands in.
pub(super) fn loss(path: &Path<'_>) -> Result<Loss, RangeError> {
    let (free_db, diffraction_db) = compute(path)?;
    Ok(Loss::of([
        (Mechanism::FreeSpace, free_db),
        (Mechanism::Diffraction, diffraction_db),
        (Mechanism::TransmitterCover, cover_db(path.profile.first(), path.tx_height_m)),
        (Mechanism::ReceiverCover, cover_db(path.profile.last(), path.rx_height_m)),
    ]))
}

/// The loss without what is around the receiver.
pub(super) fn without_receiver_db(path: &Path<'_>) -> Result<f64, RangeError> {
    let (free_db, diffraction_db) = compute(path)?;
    Ok(free_db + diffraction_db + cover_db(path.profile.first(), path.tx_height_m))
}
