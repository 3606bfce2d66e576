//! The reference attenuation, relative to free space: in sight, by diffraction, by scatter (Algorithm §4 to §26).

use std::f64::consts::{FRAC_PI_2, PI, SQRT_2};

use super::terrain::Shape;
use super::{Complex, Medium};

/// What is used in more than one of the ranges.
struct Reference<'a> {
    shape: &'a Shape,
    medium: &'a Medium,
    /// Both horizons over a smooth earth, and their sum d_Ls.
    smooth_m: f64,
    /// The sum of both horizons, d_L.
    horizons_m: f64,
    /// The sum of the elevations, or that of a smooth earth if it is more.
    elevations: f64,
}

/// Attenuation relative to free space in half of the time, places and situations, in dB.
pub(super) fn attenuation_db(shape: &Shape, medium: &Medium) -> f64 {
    let horizons_m = shape.horizon_m[0] + shape.horizon_m[1];
    let reference = Reference {
        smooth_m: shape.effective_m.iter().map(|height_m| (2.0 * height_m / medium.curvature).sqrt()).sum(),
        horizons_m,
        elevations: (shape.elevation[0] + shape.elevation[1]).max(-horizons_m * medium.curvature),
        shape,
        medium,
    };
    let diffraction = reference.diffraction();
    let db = if shape.length_m < reference.smooth_m {
        reference.in_sight_db(&diffraction)
    } else {
        reference.beyond_db(&diffraction)
    };
    db.max(0.0)
}

/// A line through attenuations over distance.
struct Line {
    at_zero_db: f64,
    per_m_db: f64,
}

impl Line {
    fn at(&self, distance_m: f64) -> f64 {
        self.at_zero_db + self.per_m_db * distance_m
    }
}

impl Reference<'_> {
    /// x_ae: the distance that diffraction scales with (§4).
    fn scale_m(&self) -> f64 {
        (self.medium.wave_number * self.medium.curvature.powi(2)).powf(-1.0 / 3.0)
    }

    /// Δh as it appears over a distance.
    fn irregularity_m(&self, distance_m: f64) -> f64 {
        (1.0 - 0.8 * (-distance_m / 50e3).exp()) * self.shape.irregularity_m
    }

    /// The line through the diffraction attenuation at two distances beyond the horizon (§6).
    fn diffraction(&self) -> Line {
        let scale = self.scale_m();
        let near = self.smooth_m.max(1.3787 * scale + self.horizons_m);
        let far = near + 2.7574 * scale;
        let (near_db, far_db) = (self.diffraction_db(near), self.diffraction_db(far));
        let per_m_db = (far_db - near_db) / (far - near);
        Line { at_zero_db: near_db - per_m_db * near, per_m_db }
    }

    /// Between a rounded earth and two knife edges (§9 to §13).
    fn diffraction_db(&self, distance_m: f64) -> f64 {
        let Shape { structural_m, effective_m, horizon_m, .. } = self.shape;
        let Medium { wave_number, curvature, impedance, .. } = *self.medium;
        let product = structural_m[0] * structural_m[1];
        // A point-to-point path: 10 m² are added so that low antennas do not weigh too much.
        let low = product + 10.0;
        let raised = (1.0 + (effective_m[0] * effective_m[1] - product) / low).sqrt();
        let turned_m = self.horizons_m + self.elevations / curvature;
        // Clutter (§10).
        let rough = self.irregularity_m(self.smooth_m);
        let rough = rough * 0.78 * (-(rough / 16.0).powf(0.25)).exp();
        let clutter_db = (2.171 * (1.0 + 4.77e-4 * product * wave_number * rough).ln()).min(15.0);
        // The rounded earth up to both horizons (§8).
        let admittance = 1.0 / impedance.square().sqrt();
        let (mut heights_db, mut heights_x) = (20.0, 0.0);
        for end in 0..2 {
            let radius = 0.5 * horizon_m[end].powi(2) / effective_m[end];
            let root = (radius * wave_number).cbrt();
            let k = admittance / root;
            let x = (1.607 - k) * 151.0 * root * horizon_m[end] / radius;
            heights_x += x;
            heights_db += height_gain_db(x, k);
        }
        // Knife edges at the horizons (§12).
        let angle = self.elevations + distance_m * curvature;
        let beyond = distance_m - self.horizons_m;
        let v2 = 0.079_577_5 * wave_number * beyond * angle * angle;
        let edges_db: f64 = horizon_m.iter().map(|h| edge_db(v2 * h / (beyond + h))).sum();
        // The rounded earth between them (§13).
        let radius = beyond / angle;
        let root = (radius * wave_number).cbrt();
        let k = admittance / root;
        let x = (1.607 - k) * 151.0 * root * angle + heights_x;
        let round_db = 0.057_51 * x - 4.343 * x.ln() - heights_db;
        let rough = (self.irregularity_m(distance_m) * wave_number).min(6283.2);
        let weight = 25.1 / (25.1 + ((raised + turned_m / distance_m) * rough).max(0.0).sqrt());
        round_db * weight + (1.0 - weight) * edges_db + clutter_db
    }

    /// A two-ray attenuation blended with diffraction (§16 to §19).
    fn two_rays_db(&self, distance_m: f64, diffraction: &Line) -> f64 {
        let Medium { wave_number, impedance, .. } = *self.medium;
        let [tx, rx] = self.shape.effective_m;
        let blend = 0.021 / (0.021 + wave_number * self.shape.irregularity_m / self.smooth_m.max(10e3));
        let rough = self.irregularity_m(distance_m);
        let rough = 0.78 * rough * (-(rough / 16.0).powf(0.25)).exp();
        let sum = tx + rx;
        let grazing = sum / distance_m.hypot(sum);
        let sine = Complex { re: grazing, im: 0.0 };
        let reflected = sine.plus(impedance.times(-1.0)).over(sine.plus(impedance));
        let mut reflected = reflected.times((-(wave_number * rough * grazing).min(10.0)).exp());
        let square = reflected.square();
        if square < 0.25 || square < grazing {
            reflected = reflected.times((grazing / square.max(1e-300)).sqrt());
        }
        let mut phase = wave_number * tx * rx * 2.0 / distance_m;
        if phase > FRAC_PI_2 {
            phase = PI - FRAC_PI_2.powi(2) / phase;
        }
        let both = Complex { re: phase.cos(), im: -phase.sin() }.plus(reflected);
        let diffraction_db = diffraction.at(distance_m);
        (-4.343 * both.square().ln() - diffraction_db) * blend + diffraction_db
    }

    /// Within the smooth horizons: a curve through three attenuations (§15).
    fn in_sight_db(&self, diffraction: &Line) -> f64 {
        let far = self.smooth_m;
        let far_db = diffraction.at(far);
        let [tx, rx] = self.shape.effective_m;
        let mut near = 1.908 * self.medium.wave_number * tx * rx;
        let middle = if diffraction.at_zero_db >= 0.0 {
            near = near.min(0.5 * self.horizons_m);
            near + 0.25 * (self.horizons_m - near)
        } else {
            (-diffraction.at_zero_db / diffraction.per_m_db).max(0.25 * self.horizons_m)
        };
        let middle_db = self.two_rays_db(middle, diffraction);
        let mut curve = None;
        if near < middle {
            let near_db = self.two_rays_db(near, diffraction);
            let logs = (far / near).ln();
            let by_log = ((far - near) * (middle_db - near_db) - (middle - near) * (far_db - near_db))
                / ((far - near) * (middle / near).ln() - (middle - near) * logs);
            let by_log = by_log.max(0.0);
            if diffraction.at_zero_db >= 0.0 || by_log > 0.0 {
                let by_metre = (far_db - near_db - by_log * logs) / (far - near);
                curve = Some(if by_metre >= 0.0 {
                    (by_metre, by_log)
                } else {
                    let by_log = (far_db - near_db).max(0.0) / logs;
                    (if by_log == 0.0 { diffraction.per_m_db } else { 0.0 }, by_log)
                });
            }
        }
        let (by_metre, by_log) = curve.unwrap_or_else(|| {
            let by_metre = (far_db - middle_db).max(0.0) / (far - middle);
            (if by_metre == 0.0 { diffraction.per_m_db } else { by_metre }, 0.0)
        });
        let distance_m = self.shape.length_m;
        far_db - by_metre * (far - distance_m) - by_log * (far / distance_m).ln()
    }

    /// Beyond the smooth horizons: diffraction, and scatter from where that is less (§20 to §21).
    fn beyond_db(&self, diffraction: &Line) -> f64 {
        let distance_m = self.shape.length_m;
        let near = self.horizons_m + 200e3;
        let far = near + 200e3;
        let mut carried = None;
        let far_db = self.scatter_db(far, &mut carried);
        let near_db = self.scatter_db(near, &mut carried);
        let (Some(far_db), Some(near_db)) = (far_db, near_db) else { return diffraction.at(distance_m) };
        let per_m_db = (far_db - near_db) / 200e3;
        let by_frequency = self.horizons_m + 0.3 * self.scale_m() * (47.7 * self.medium.wave_number).ln();
        let crossing = (near_db - diffraction.at_zero_db - per_m_db * near) / (diffraction.per_m_db - per_m_db);
        let from = self.smooth_m.max(by_frequency).max(crossing);
        if distance_m > from {
            diffraction.at(from) + per_m_db * (distance_m - from)
        } else {
            diffraction.at(distance_m)
        }
    }

    /// Tropospheric scatter; `None` where the antennas are too low for it (§22 to §26). `carried` is H₀ of the distance before.
    fn scatter_db(&self, distance_m: f64, carried: &mut Option<f64>) -> Option<f64> {
        let Medium { wave_number, refractivity, curvature, .. } = *self.medium;
        let Shape { horizon_m, effective_m, elevation, .. } = self.shape;
        let mut difference = horizon_m[0] - horizon_m[1];
        let mut ratio = effective_m[1] / effective_m[0];
        if difference < 0.0 {
            (difference, ratio) = (-difference, 1.0 / ratio);
        }
        let gain_db = match *carried {
            Some(gain_db) if gain_db > 15.0 => gain_db,
            before => {
                let angle = elevation[0] + elevation[1] + distance_m * curvature;
                let heights = [0, 1].map(|end: usize| 2.0 * wave_number * angle * effective_m[end]);
                if heights[0] < 0.2 && heights[1] < 0.2 {
                    return None;
                }
                let symmetry = (distance_m - difference) / (distance_m + difference);
                let skew = (ratio / symmetry).clamp(0.1, 10.0);
                let symmetry = symmetry.max(0.1);
                let crossing_m = (distance_m - difference) * (distance_m + difference) * angle * 0.25 / distance_m;
                let by_air = (5.67e-6 * refractivity - 2.32e-3) * refractivity + 0.031;
                let eta = (by_air * (-(crossing_m / 8.0e3).min(1.7).powi(6)).exp() + 1.0) * crossing_m / 1.7556e3;
                let at_least = eta.max(1.0);
                let mean = (frequency_gain_db(heights[0], at_least) + frequency_gain_db(heights[1], at_least)) / 2.0;
                let correction = (1.38 - at_least.ln()) * symmetry.ln() * skew.ln() * 0.49;
                let mut gain_db = (mean + mean.min(correction)).max(0.0);
                if eta < 1.0 {
                    let [r1, r2] = heights;
                    let edges =
                        ((1.0 + SQRT_2 / r1) * (1.0 + SQRT_2 / r2)).powi(2) * (r1 + r2) / (r1 + r2 + 2.0 * SQRT_2);
                    gain_db = eta * gain_db + (1.0 - eta) * 4.343 * edges.ln();
                }
                match before {
                    Some(before) if gain_db > 15.0 => before,
                    _ => gain_db,
                }
            }
        };
        *carried = Some(gain_db);
        let angle = self.elevations + distance_m * curvature;
        let turned = angle * distance_m;
        Some(
            scatter_distance_db(turned) + 4.343 * (47.7 * wave_number * angle.powi(4)).ln()
                - 0.1 * (refractivity - 301.0) * (-turned / 40e3).exp()
                + gain_db,
        )
    }
}

/// A knife edge, by the square of ν (§14).
fn edge_db(v2: f64) -> f64 {
    if v2 < 5.76 { 6.02 + 9.11 * v2.max(0.0).sqrt() - 1.27 * v2 } else { 12.953 + 4.343 * v2.ln() }
}

/// The height gain over a sphere (§14).
fn height_gain_db(x: f64, k: f64) -> f64 {
    if x < 200.0 {
        let w = -k.ln();
        if k < 1e-5 || x * w.powi(3) > 5495.0 {
            return if x > 1.0 { 17.372 * x.ln() - 117.0 } else { -117.0 };
        }
        return 2.5e-5 * x * x / k - 8.686 * w - 15.0;
    }
    let far = 0.057_51 * x - 4.343 * x.ln();
    if x >= 2000.0 {
        return far;
    }
    let w = 0.0134 * x * (-0.005 * x).exp();
    (1.0 - w) * far + w * (17.372 * x.ln() - 117.0)
}

/// H₀₁, the frequency gain for one antenna (§26).
fn frequency_gain_db(height: f64, eta: f64) -> f64 {
    const A: [f64; 5] = [25.0, 80.0, 177.0, 395.0, 705.0];
    const B: [f64; 5] = [24.0, 45.0, 68.0, 80.0, 105.0];
    let x = (1.0 / height).powi(2);
    let at = |n: usize| 4.343 * ((A[n] * x + B[n]) * x + 1.0).ln();
    let low = (eta as usize).clamp(1, 5);
    let share = if low == 5 { 0.0 } else { eta - low as f64 };
    if share == 0.0 { at(low - 1) } else { (1.0 - share) * at(low - 1) + share * at(low) }
}

/// F(θd), the attenuation by distance and angle (§26); the argument in metres.
fn scatter_distance_db(turned_m: f64) -> f64 {
    let (a, b, c) = match turned_m {
        near if near <= 10e3 => (133.4, 0.332e-3, -4.343),
        middle if middle <= 70e3 => (104.6, 0.212e-3, -1.086),
        _ => (71.8, 0.157e-3, 2.171),
    };
    a + b * turned_m + c * turned_m.ln()
}
