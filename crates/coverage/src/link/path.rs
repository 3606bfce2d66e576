//! One link over the terrain: the ground under it, the loss part by part, what stands in the way, and the budget.

use std::collections::BTreeMap;

use thiserror::Error;

use super::budget::{Budget, DataRate, Judgement, Station, Terminal, budget};
use crate::geo::Place;
use crate::model::obstacle::Obstacle;
use crate::model::{Loss, LossPart, Mechanism, Model, Path, Polarization};
use crate::range::RangeError;
use crate::terrain::mosaic::{Terrain, TerrainError};
use crate::terrain::profile::Profile;

/// Why a link cannot be computed.
#[derive(Debug, Clone, PartialEq, Error)]
pub enum LinkError {
    /// The ground under it cannot be read.
    #[error(transparent)]
    Terrain(#[from] TerrainError),
    /// A parameter is outside what the model is valid for.
    #[error(transparent)]
    Range(#[from] RangeError),
}

/// What links are computed with.
#[derive(Debug, Clone, Copy)]
pub struct Method<'a> {
    /// The ground.
    pub terrain: &'a Terrain,
    /// The model.
    pub model: &'a Model,
    /// The frequency, in MHz.
    pub frequency_mhz: f64,
    /// Between samples of the ground, in metres.
    pub step_m: f64,
    /// The data rates that devices use.
    pub rates: &'a [DataRate],
    /// How a link is judged.
    pub judgement: &'a Judgement,
    /// What measurements have shown, if the model was calibrated.
    pub calibrated: Calibrated<'a>,
}

/// By how much signals are stronger than a model says, for one gateway.
#[derive(Debug, Clone, Copy, Default)]
pub struct Calibrated<'a> {
    /// At that gateway, in dB.
    pub gateway_db: f64,
    /// Beyond that, by the class of cover that the receiver stands in, in dB.
    pub by_class: Option<&'a BTreeMap<u16, f64>>,
}

impl Calibrated<'_> {
    /// At a place, in dB.
    pub fn at_db(&self, terrain: &Terrain, place: Place) -> f64 {
        let class_db = self.by_class.and_then(|by_class| by_class.get(&terrain.class(place)?)).copied();
        self.gateway_db + class_db.unwrap_or(0.0)
    }
}

impl Method<'_> {
    /// The same for a link of this length. Nearer than its model reaches there is free space between the antennas, as in areas.
    #[must_use]
    pub fn over(self, distance_m: f64) -> Self {
        if distance_m < self.model.shortest_m() { Self { model: &Model::FreeSpace, ..self } } else { self }
    }
}

/// A computed link.
#[derive(Debug, Clone, PartialEq)]
pub struct Link {
    /// The ground from the station to the terminal.
    pub profile: Profile,
    /// The frequency, in MHz.
    pub frequency_mhz: f64,
    /// The station's antenna above the ground, in metres.
    pub station_m: f64,
    /// The terminal's antenna above the ground, in metres.
    pub terminal_m: f64,
    /// The latitude of its middle.
    pub latitude_deg: f64,
    /// From the station to the terminal, in degrees from north.
    pub bearing_deg: f64,
    /// The loss with its parts.
    pub loss: Loss,
    /// What stands most in the way.
    pub obstacle: Obstacle,
    /// What both ends receive, and which data rates work.
    pub budget: Budget,
}

impl Link {
    /// Computes the link between a station and a terminal.
    ///
    /// # Errors
    /// The path leaves the terrain, or is outside what the model is valid for.
    pub fn between(
        method: &Method<'_>,
        (from, station): (Place, &Station),
        (to, terminal): (Place, &Terminal),
    ) -> Result<Self, LinkError> {
        let profile = method.terrain.profile(from, to, method.step_m)?;
        let mut link = Self {
            frequency_mhz: method.frequency_mhz,
            station_m: station.height_m,
            terminal_m: terminal.height_m,
            latitude_deg: f64::midpoint(from.latitude_deg, to.latitude_deg),
            bearing_deg: from.bearing_deg(to),
            loss: Loss { total_db: 0.0, parts: Vec::new() },
            obstacle: Obstacle { distance_m: 0.0, above_line_m: 0.0, fresnel_m: 0.0, ground_m: 0.0, cover_m: 0.0 },
            budget: budget((station, terminal), 0.0, (0.0, 0.0), &[], method.judgement),
            profile,
        };
        let path = link.path();
        let mut loss = method.model.loss(&path)?;
        let stronger_db = method.calibrated.at_db(method.terrain, to);
        if stronger_db != 0.0 {
            loss.total_db -= stronger_db;
            loss.parts.push(LossPart { mechanism: Mechanism::Calibration, loss_db: -stronger_db });
        }
        let (station_m, terminal_m) = path.antennas_m();
        let elevation_deg = ((terminal_m - station_m) / link.profile.length_m()).atan().to_degrees();
        let towards = (link.bearing_deg, elevation_deg);
        let obstacle = path.obstacle();
        link.budget = budget((station, terminal), loss.total_db, towards, method.rates, method.judgement);
        (link.loss, link.obstacle) = (loss, obstacle);
        Ok(link)
    }

    /// The path that it was computed for.
    pub fn path(&self) -> Path<'_> {
        Path {
            profile: self.profile.whole(),
            frequency_mhz: self.frequency_mhz,
            polarization: Polarization::Vertical,
            tx_height_m: self.station_m,
            rx_height_m: self.terminal_m,
            latitude_deg: self.latitude_deg,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::area::forecast::usual_rates;
    use crate::link::antenna::Antenna;
    use crate::terrain::mosaic::NoData;

    #[test]
    fn a_link_is_the_sum_of_its_parts_and_says_why_it_cannot_be() {
        let sea = Terrain { no_data: NoData::Sea, ..Terrain::default() };
        let (rates, judgement) = (usual_rates(), Judgement::default());
        let method = Method {
            terrain: &sea,
            model: &Model::FreeSpace,
            frequency_mhz: 868.1,
            step_m: 30.0,
            rates: &rates,
            judgement: &judgement,
            calibrated: Calibrated::default(),
        };
        let from = Place { latitude_deg: 54.7, longitude_deg: 3.9 };
        let station = Station { antenna: Antenna::ISOTROPIC, cable_loss_db: 0.0, ..Station::default() };
        let terminal = Terminal::default();
        let of = |method: &Method<'_>, to| Link::between(method, (from, &station), (to, &terminal));
        let link = of(&method, from.towards(90.0, 5_000.0)).unwrap();
        // ITU-R P.525-4 §2.3: 32.4 + 20 log f + 20 log d, of 868.1 MHz and 5 km.
        assert!((link.loss.total_db - 105.16).abs() < 0.05, "{:?}", link.loss);
        assert!((link.budget.uplink_dbm - (14.0 - link.loss.total_db)).abs() < 1e-9);
        assert!((link.bearing_deg - 90.0).abs() < 0.1 && (link.profile.length_m() - 5_000.0).abs() < 1.0);
        assert_eq!((link.budget.best_data_rate, link.obstacle.blocks()), (Some(5), false));
        let bare = Terrain::default();
        let off = of(&Method { terrain: &bare, ..method }, from.towards(90.0, 5_000.0)).unwrap_err().to_string();
        assert!(off.contains("leaves the terrain"), "{off}");
        let hata = Model::Hata(crate::model::Surroundings::Open);
        let near = Method { model: &hata, ..method };
        assert!(of(&near, from.towards(90.0, 200.0)).is_err(), "it begins at a kilometre");
        assert!(of(&near.over(200.0), from.towards(90.0, 200.0)).is_ok());
        let far = Method { frequency_mhz: f64::NAN, ..method };
        assert!(matches!(of(&far, from.towards(0.0, 900.0)), Err(LinkError::Range(_))));
    }
}
