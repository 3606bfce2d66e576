//! The sites of a file.

use std::path::Path;

use anyhow::{Context as _, Result, bail};
use coverage::geo::Place;
use coverage::link::antenna::Antenna;
use coverage::link::budget::Station;
use serde::Deserialize;

use crate::commands::coverage::args::RadioArgs;
use crate::commands::coverage::radio;

/// How high a beam is, and how much weaker its back, where a file does not say.
const USUAL_VERTICAL_BEAM_DEG: f64 = 30.0;
const USUAL_FRONT_TO_BACK_DB: f64 = 20.0;

/// A line of the file of sites.
#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Row {
    name: String,
    latitude_deg: f64,
    longitude_deg: f64,
    height_m: Option<f64>,
    gain_dbi: Option<f64>,
    cable_loss_db: Option<f64>,
    power_dbm: Option<f64>,
    noise_figure_db: Option<f64>,
    azimuth_deg: Option<f64>,
    tilt_deg: Option<f64>,
    horizontal_beam_deg: Option<f64>,
    vertical_beam_deg: Option<f64>,
    front_to_back_db: Option<f64>,
    antenna: Option<String>,
}

/// A site that can be computed.
pub(super) struct Planned {
    pub name: String,
    pub place: Place,
    pub station: Station,
}

impl Row {
    /// Its antenna: of a file beside the sites', or of its own numbers, or as usual.
    fn antenna(&self, folder: &Path, usual: &Antenna) -> Result<Antenna> {
        if let Some(name) = &self.antenna {
            return radio::antenna(&folder.join(name));
        }
        let beam = [self.azimuth_deg, self.horizontal_beam_deg];
        let rest = [self.tilt_deg, self.front_to_back_db];
        match (beam, self.gain_dbi) {
            ([Some(azimuth_deg), Some(horizontal_beam_deg)], Some(gain_dbi)) => Ok(Antenna::Sector {
                gain_dbi,
                azimuth_deg,
                tilt_deg: self.tilt_deg.unwrap_or(0.0),
                horizontal_beam_deg,
                vertical_beam_deg: self.vertical_beam_deg.unwrap_or(USUAL_VERTICAL_BEAM_DEG),
                front_to_back_db: self.front_to_back_db.unwrap_or(USUAL_FRONT_TO_BACK_DB),
            }),
            _ if beam.iter().chain(&rest).any(Option::is_some) => {
                bail!(
                    "an antenna that points somewhere has azimuth_deg, horizontal_beam_deg and gain_dbi; one is missing"
                )
            }
            (_, None) if self.vertical_beam_deg.is_none() => Ok(usual.clone()),
            (_, gain_dbi) => Ok(Antenna::Omni {
                gain_dbi: gain_dbi.context("an antenna with vertical_beam_deg has gain_dbi too")?,
                vertical_beam_deg: self.vertical_beam_deg.unwrap_or(180.0),
            }),
        }
    }
}

/// The sites of a file; what it does not say is as the options have it.
pub(super) fn read(path: &Path, radio: &RadioArgs) -> Result<Vec<Planned>> {
    let usual = radio.station()?;
    let folder = path.parent().unwrap_or(Path::new(""));
    let mut reader =
        csv::ReaderBuilder::new().trim(csv::Trim::All).from_path(path).with_context(|| path.display().to_string())?;
    let mut sites = Vec::new();
    for (n, row) in reader.deserialize::<Row>().enumerate() {
        let line = || format!("{}, line {}", path.display(), n + 2);
        let row = row.with_context(line)?;
        let place = Place::new(row.latitude_deg, row.longitude_deg);
        let place =
            place.with_context(|| format!("{}: {}, {} is no place", line(), row.latitude_deg, row.longitude_deg))?;
        let station = Station {
            antenna: row.antenna(folder, &usual.antenna).with_context(line)?,
            height_m: row.height_m.unwrap_or(usual.height_m),
            cable_loss_db: row.cable_loss_db.unwrap_or(usual.cable_loss_db),
            power_dbm: row.power_dbm.unwrap_or(usual.power_dbm),
            noise_figure_db: row.noise_figure_db.unwrap_or(usual.noise_figure_db),
        };
        station.check().with_context(line)?;
        sites.push(Planned { name: row.name, place, station });
    }
    if sites.is_empty() {
        bail!("{}: there are no sites in it", path.display());
    }
    Ok(sites)
}
