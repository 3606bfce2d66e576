//! The sites of a file.

use std::path::Path;

use anyhow::{Context as _, Result, bail};
use api::coverage::site::{AntennaAbout, NewSite, SiteRadio};
use coverage::geo::Place;
use coverage::link::antenna::Antenna;
use coverage::link::budget::Station;
use domain::coverage::site;
use serde::{Deserialize, Serialize};

use crate::commands::coverage::args::RadioArgs;
use crate::commands::coverage::radio;

/// A line of a file of sites.
#[derive(Default, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub(crate) struct Row {
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
    /// A JSON file of an antenna, beside this file.
    antenna: Option<String>,
}

/// A site that can be computed.
pub(super) struct Planned {
    pub name: String,
    pub place: Place,
    pub station: Station,
}

impl Row {
    /// The line for a site.
    pub(crate) fn of(site: &NewSite) -> Self {
        let antenna = site.radio.antenna.clone().unwrap_or_default();
        Self {
            name: site.name.clone(),
            latitude_deg: site.latitude_deg,
            longitude_deg: site.longitude_deg,
            height_m: site.radio.height_m,
            gain_dbi: antenna.gain_dbi,
            cable_loss_db: site.radio.cable_loss_db,
            power_dbm: site.radio.power_dbm,
            noise_figure_db: site.radio.noise_figure_db,
            azimuth_deg: antenna.azimuth_deg,
            tilt_deg: antenna.tilt_deg,
            horizontal_beam_deg: antenna.horizontal_beam_deg,
            vertical_beam_deg: antenna.vertical_beam_deg,
            front_to_back_db: antenna.front_to_back_db,
            antenna: None,
        }
    }

    /// What it says of the antenna, if anything.
    fn antenna_about(&self) -> Option<AntennaAbout> {
        let about = AntennaAbout {
            gain_dbi: self.gain_dbi,
            azimuth_deg: self.azimuth_deg,
            tilt_deg: self.tilt_deg,
            horizontal_beam_deg: self.horizontal_beam_deg,
            vertical_beam_deg: self.vertical_beam_deg,
            front_to_back_db: self.front_to_back_db,
            ..AntennaAbout::default()
        };
        Some(about).filter(|about| *about != AntennaAbout::default())
    }

    /// Its antenna: of a file beside the sites', or of its own numbers, or as usual.
    fn antenna(&self, folder: &Path, usual: &Antenna) -> Result<Antenna> {
        match (&self.antenna, self.antenna_about()) {
            (Some(name), _) => radio::antenna(&folder.join(name)),
            (None, None) => Ok(usual.clone()),
            (None, Some(about)) if about.gain_dbi.is_none() => {
                bail!("an antenna of its own has gain_dbi; it is missing")
            }
            (None, Some(about)) => Ok(site::antenna(&about)?),
        }
    }

    fn site(self, folder: &Path) -> Result<NewSite> {
        let antenna = match &self.antenna {
            Some(name) => Some(about(&radio::antenna(&folder.join(name))?)?),
            None => self.antenna_about(),
        };
        let radio = SiteRadio {
            antenna,
            height_m: self.height_m,
            power_dbm: self.power_dbm,
            cable_loss_db: self.cable_loss_db,
            noise_figure_db: self.noise_figure_db,
        };
        Ok(NewSite { name: self.name, latitude_deg: self.latitude_deg, longitude_deg: self.longitude_deg, radio })
    }
}

/// An antenna of a file as the service wants it: both are written alike but for the cuts.
fn about(antenna: &Antenna) -> Result<AntennaAbout> {
    let mut value = serde_json::to_value(antenna)?;
    if let Some(fields) = value.as_object_mut() {
        fields.remove("kind");
        for cut in ["horizontal", "vertical"] {
            let angles = fields.remove(cut);
            fields.extend(angles.map(|angles| (format!("{cut}_cut"), angles)));
        }
    }
    Ok(serde_json::from_value(value)?)
}

/// Does something with each line of a file; an error names the line.
fn each<T>(path: &Path, mut what: impl FnMut(Row, &Path) -> Result<T>) -> Result<Vec<T>> {
    let folder = path.parent().unwrap_or(Path::new(""));
    let mut reader =
        csv::ReaderBuilder::new().trim(csv::Trim::All).from_path(path).with_context(|| path.display().to_string())?;
    let headers = reader.headers()?.clone();
    if let Some(missing) =
        ["name", "latitude_deg", "longitude_deg"].iter().find(|one| !headers.iter().any(|h| h == **one))
    {
        bail!("{}: the first line names no column {missing}", path.display());
    }
    let mut all = Vec::new();
    for (n, row) in reader.deserialize::<Row>().enumerate() {
        let line = || format!("{}, line {}", path.display(), n + 2);
        all.push(what(row.with_context(line)?, folder).with_context(line)?);
    }
    if all.is_empty() {
        bail!("{}: there are no sites in it", path.display());
    }
    Ok(all)
}

/// The sites of a file, with what it says of their radios.
///
/// # Errors
/// A line cannot be read.
pub(crate) fn rows(path: &Path) -> Result<Vec<NewSite>> {
    each(path, Row::site)
}

/// The sites of a file; what it does not say is as the options have it.
///
/// # Errors
/// A line cannot be read, or a number is outside its range.
pub(super) fn read(path: &Path, radio: &RadioArgs) -> Result<Vec<Planned>> {
    let usual = radio.station()?;
    each(path, |row, folder| {
        let place = Place::new(row.latitude_deg, row.longitude_deg);
        let place = place.with_context(|| format!("{}, {} is no place", row.latitude_deg, row.longitude_deg))?;
        let station = Station {
            antenna: row.antenna(folder, &usual.antenna)?,
            height_m: row.height_m.unwrap_or(usual.height_m),
            cable_loss_db: row.cable_loss_db.unwrap_or(usual.cable_loss_db),
            power_dbm: row.power_dbm.unwrap_or(usual.power_dbm),
            noise_figure_db: row.noise_figure_db.unwrap_or(usual.noise_figure_db),
        };
        station.check()?;
        Ok(Planned { name: row.name, place, station })
    })
}
