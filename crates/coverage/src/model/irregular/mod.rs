//! The irregular-terrain model, point to point: A. G. Longley and P. L. Rice, ESSA Technical Report ERL 79-ITS 67 (1968);
//! G. A. Hufford, A. G. Longley and W. A. Kissick, NTIA Report 82-100 (1982); and Hufford, "The ITS Irregular Terrain Model,
//! version 1.2.2: The Algorithm" (1985), whose sections are named beside the formulas ("Algorithm §…").
//!
//! It could not be checked against published numbers here. The tests hold it to its limits: free space in sight, reciprocity,
//! more loss behind higher hills.

mod reference;
mod terrain;
mod variability;

use serde::{Deserialize, Serialize};

use super::{Loss, Mechanism, Path, Polarization, free_space_db};
use crate::range::{RangeError, within};

/// Climates, as the report numbers them.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Climate {
    /// At the equator.
    Equatorial,
    /// Continental, subtropical.
    ContinentalSubtropical,
    /// Maritime, subtropical.
    MaritimeSubtropical,
    /// Desert.
    Desert,
    /// Continental, temperate.
    ContinentalTemperate,
    /// Maritime, temperate, over land.
    #[default]
    MaritimeTemperateLand,
    /// Maritime, temperate, over sea.
    MaritimeTemperateSea,
}

/// What varies, and what is the same each time (Algorithm §28).
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Mode {
    /// One message at one time between two places: all of it varies together.
    SingleMessage,
    /// A given receiver: its place varies together with its situation.
    Individual,
    /// A receiver that moves: place and time vary together.
    Mobile,
    /// Many receivers of one transmitter: time, place and situation each by itself.
    #[default]
    Broadcast,
}

/// What is asked of the model.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct Settings {
    /// The climate.
    pub climate: Climate,
    /// The refractivity of the air at sea level, in N-units, 250 to 400.
    pub refractivity: f64,
    /// The relative permittivity of the ground, 1 to 100.
    pub permittivity: f64,
    /// The conductivity of the ground, in S/m, 0 to 10.
    pub conductivity_s_m: f64,
    /// What varies.
    pub mode: Mode,
    /// The loss is not exceeded in this share of the time, in percent.
    pub time_percent: f64,
    /// Nor at this share of places.
    pub places_percent: f64,
    /// Nor in this share of situations: of paths that look the same to the model.
    pub situations_percent: f64,
}

impl Default for Settings {
    fn default() -> Self {
        Self {
            climate: Climate::default(),
            refractivity: 320.0,
            permittivity: 15.0,
            conductivity_s_m: 0.005,
            mode: Mode::default(),
            time_percent: 50.0,
            places_percent: 50.0,
            situations_percent: 50.0,
        }
    }
}

impl Settings {
    fn check(&self) -> Result<(), RangeError> {
        within("refractivity", self.refractivity, 250.0..=400.0, "N-units")?;
        within("permittivity", self.permittivity, 1.0..=100.0, "")?;
        within("conductivity_s_m", self.conductivity_s_m, 0.0..=10.0, "S/m")?;
        within("time_percent", self.time_percent, 0.1..=99.9, "%")?;
        within("places_percent", self.places_percent, 0.1..=99.9, "%")?;
        within("situations_percent", self.situations_percent, 0.1..=99.9, "%")
    }
}

/// The medium that waves travel in (Algorithm §1).
#[derive(Debug, Clone, Copy)]
struct Medium {
    /// The wave number, 1/m.
    wave_number: f64,
    /// The surface refractivity, in N-units.
    refractivity: f64,
    /// The curvature of the effective earth, 1/m.
    curvature: f64,
    /// The surface transfer impedance of the ground.
    impedance: Complex,
}

/// The little that is needed of complex numbers.
#[derive(Debug, Clone, Copy, PartialEq)]
struct Complex {
    re: f64,
    im: f64,
}

impl Complex {
    fn plus(self, other: Self) -> Self {
        Self { re: self.re + other.re, im: self.im + other.im }
    }

    fn times(self, factor: f64) -> Self {
        Self { re: self.re * factor, im: self.im * factor }
    }

    fn over(self, other: Self) -> Self {
        let square = other.square();
        Self {
            re: (self.re * other.re + self.im * other.im) / square,
            im: (self.im * other.re - self.re * other.im) / square,
        }
    }

    fn sqrt(self) -> Self {
        let size = self.square().sqrt();
        let re = ((size + self.re) / 2.0).max(0.0).sqrt();
        Self { re, im: ((size - self.re) / 2.0).max(0.0).sqrt().copysign(self.im) }
    }

    /// The square of its size.
    fn square(self) -> f64 {
        self.re * self.re + self.im * self.im
    }
}

impl Medium {
    fn of(path: &Path<'_>, settings: &Settings) -> Self {
        let samples = path.profile.samples();
        let mean_m = samples.iter().map(|sample| sample.ground_m).sum::<f64>() / samples.len() as f64;
        let wave_number = path.frequency_mhz / 47.7;
        let refractivity = settings.refractivity * (-mean_m.max(0.0) / 9460.0).exp();
        let permittivity = Complex { re: settings.permittivity, im: 376.62 * settings.conductivity_s_m / wave_number };
        let root = permittivity.plus(Complex { re: -1.0, im: 0.0 }).sqrt();
        Self {
            wave_number,
            refractivity,
            curvature: 157e-9 * (1.0 - 0.04665 * (refractivity / 179.3).exp()),
            impedance: match path.polarization {
                Polarization::Horizontal => root,
                Polarization::Vertical => root.over(permittivity),
            },
        }
    }
}

pub(super) fn loss(path: &Path<'_>, settings: &Settings) -> Result<Loss, RangeError> {
    path.check(20.0..=20_000.0, 0.5..=3_000.0)?;
    within("distance_km", path.distance_km(), 1.0..=2_000.0, "km")?;
    settings.check()?;
    let medium = Medium::of(path, settings);
    let shape = terrain::Shape::of(path, &medium);
    let reference_db = reference::attenuation_db(&shape, &medium);
    let attenuation_db = variability::Variability::of(&shape, &medium, settings).attenuation_db(reference_db, settings);
    Ok(Loss::of([
        (Mechanism::FreeSpace, free_space_db(path.frequency_mhz, path.distance_km())),
        (Mechanism::Diffraction, reference_db),
        (Mechanism::Variability, attenuation_db - reference_db),
    ]))
}
