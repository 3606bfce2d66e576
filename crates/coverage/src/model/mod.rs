//! Propagation models: the basic transmission loss of a path, between isotropic antennas.

mod diffraction;
mod free_space;
mod ground;
mod hata;
pub mod irregular;
pub mod obstacle;
pub mod p1812;

use serde::{Deserialize, Serialize};

pub use diffraction::knife_edge_db;
pub use free_space::free_space_db;
pub use hata::Surroundings;

use crate::range::{RangeError, within};
use crate::terrain::profile::{Sample, Stretch};

/// The median effective radius of the earth over the true one, where nothing more is known (ITU-R P.452-16 §3.4, ΔN about 39).
pub const USUAL_EARTH_FACTOR: f64 = 4.0 / 3.0;

/// How the electric field stands.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Polarization {
    /// Upright, as from the usual rod antenna.
    #[default]
    Vertical,
    /// Lying.
    Horizontal,
}

/// A radio path.
#[derive(Debug, Clone, Copy)]
pub struct Path<'a> {
    /// The ground, from transmitter to receiver.
    pub profile: Stretch<'a>,
    /// The frequency, in MHz.
    pub frequency_mhz: f64,
    /// The polarization.
    pub polarization: Polarization,
    /// The transmitter's antenna above the ground, in metres.
    pub tx_height_m: f64,
    /// The receiver's antenna above the ground, in metres.
    pub rx_height_m: f64,
    /// The latitude of the path's middle, in degrees.
    pub latitude_deg: f64,
}

impl Path<'_> {
    /// The path's length, in km.
    pub fn distance_km(&self) -> f64 {
        self.profile.length_m() / 1000.0
    }

    /// The antennas above the sea, in metres.
    pub fn antennas_m(&self) -> (f64, f64) {
        (self.profile.first().ground_m + self.tx_height_m, self.profile.last().ground_m + self.rx_height_m)
    }

    fn check(
        &self,
        frequencies_mhz: std::ops::RangeInclusive<f64>,
        heights_m: std::ops::RangeInclusive<f64>,
    ) -> Result<(), RangeError> {
        within("frequency_mhz", self.frequency_mhz, frequencies_mhz, "MHz")?;
        within("tx_height_m", self.tx_height_m, heights_m.clone(), "m")?;
        within("rx_height_m", self.rx_height_m, heights_m, "m")?;
        within("latitude_deg", self.latitude_deg, -90.0..=90.0, "°")
    }
}

/// Which formulas compute a path.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Model {
    /// Free space, whatever stands between: ITU-R P.525.
    FreeSpace,
    /// Okumura and Hata: measured medians by surroundings, without the terrain's shape.
    Hata(Surroundings),
    /// Free space and the diffraction by the terrain: ITU-R P.526, and the loss of cover around the antennas.
    Diffraction,
    /// ITU-R P.1812: all mechanisms, for shares of time and of places.
    P1812(p1812::Settings),
    /// The irregular-terrain model of Longley and Rice, point to point.
    IrregularTerrain(irregular::Settings),
}

/// What a part of a loss comes from.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Mechanism {
    /// The way alone.
    FreeSpace,
    /// What was measured beyond free space in such surroundings.
    Surroundings,
    /// Several ways through the air that add up or cancel, and focusing.
    Multipath,
    /// Hills and cover between the antennas, and the earth's curvature.
    Diffraction,
    /// Gained because scatter or a duct carries further than diffraction: negative.
    BeyondHorizon,
    /// Cover around the transmitter.
    TransmitterCover,
    /// Cover around the receiver.
    ReceiverCover,
    /// The margin for other places nearby, which may be better or worse.
    Places,
    /// The margin for times, places and situations.
    Variability,
    /// What measurements have shown: negative where signals are stronger than the model says.
    Calibration,
}

impl Mechanism {
    /// In words.
    pub const fn label(self) -> &'static str {
        match self {
            Self::FreeSpace => "free space",
            Self::Surroundings => "surroundings",
            Self::Multipath => "multipath",
            Self::Diffraction => "diffraction",
            Self::BeyondHorizon => "scatter and ducts",
            Self::TransmitterCover => "cover at the gateway",
            Self::ReceiverCover => "cover at the device",
            Self::Places => "worse places",
            Self::Variability => "variability",
            Self::Calibration => "calibration",
        }
    }
}

/// One part of a loss.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct LossPart {
    /// What it comes from.
    pub mechanism: Mechanism,
    /// How much it is, in dB; negative where it is gained.
    pub loss_db: f64,
}

/// The basic transmission loss of a path.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Loss {
    /// All of it, in dB.
    pub total_db: f64,
    /// Its parts, whose sum it is.
    pub parts: Vec<LossPart>,
}

impl Loss {
    /// The sum of these parts; a part of nothing is left out.
    fn of(parts: impl IntoIterator<Item = (Mechanism, f64)>) -> Self {
        let parts: Vec<_> = parts
            .into_iter()
            .filter(|(mechanism, loss_db)| *mechanism == Mechanism::FreeSpace || loss_db.abs() > 1e-9)
            .map(|(mechanism, loss_db)| LossPart { mechanism, loss_db })
            .collect();
        Self { total_db: parts.iter().map(|part| part.loss_db).sum(), parts }
    }
}

impl Model {
    /// The loss of a path.
    ///
    /// # Errors
    /// A parameter is outside what the model is valid for.
    pub fn loss(&self, path: &Path<'_>) -> Result<Loss, RangeError> {
        match self {
            Self::FreeSpace => free_space::loss(path),
            Self::Hata(surroundings) => hata::loss(path, *surroundings),
            Self::Diffraction => diffraction::loss(path),
            Self::P1812(settings) => p1812::loss(path, settings),
            Self::IrregularTerrain(settings) => irregular::loss(path, settings),
        }
    }

    /// The loss of a path but for what is around the receiver: with [`Self::at_receiver_db`] the whole. Neighbouring receivers
    /// of one transmitter differ little in it.
    ///
    /// # Errors
    /// A parameter is outside what the model is valid for.
    pub fn without_receiver_db(&self, path: &Path<'_>) -> Result<f64, RangeError> {
        match self {
            Self::Diffraction => diffraction::without_receiver_db(path),
            Self::P1812(settings) => p1812::without_receiver_db(path, settings),
            Self::FreeSpace | Self::Hata(_) | Self::IrregularTerrain(_) => Ok(self.loss(path)?.total_db),
        }
    }

    /// What the cover around a receiver of this height adds to a loss, in dB.
    pub fn at_receiver_db(&self, frequency_mhz: f64, sample: Sample, height_m: f64) -> f64 {
        match self {
            Self::Diffraction => diffraction::cover_db(sample, height_m),
            Self::P1812(settings) => p1812::at_receiver_db(settings, frequency_mhz, (sample, height_m)),
            Self::FreeSpace | Self::Hata(_) | Self::IrregularTerrain(_) => 0.0,
        }
    }

    /// The shortest path that it computes, in metres. Areas take free space for shorter ones.
    pub const fn shortest_m(&self) -> f64 {
        match self {
            Self::FreeSpace | Self::Diffraction => 10.0,
            Self::Hata(_) | Self::IrregularTerrain(_) => 1000.0,
            Self::P1812(_) => 250.0,
        }
    }
}

/// Metres of a wave.
pub(crate) fn wavelength_m(frequency_mhz: f64) -> f64 {
    299.792_458 / frequency_mhz
}

#[cfg(test)]
mod tests;
