//! What the options say of model and radios.

use std::path::Path;

use anyhow::{Context as _, Result};
use coverage::link::antenna::Antenna;
use coverage::link::budget::{DataRate, Judgement, Station, Terminal};
use coverage::model::Model;
use domain::coverage::forecast;

use crate::commands::coverage::args::{ModelArgs, RadioArgs};
use crate::commands::forecast::args::path_model;

/// An antenna from its JSON file.
///
/// # Errors
/// The file cannot be read, or is no antenna.
pub(super) fn antenna(path: &Path) -> Result<Antenna> {
    let text = std::fs::read_to_string(path).with_context(|| path.display().to_string())?;
    let antenna: Antenna = serde_json::from_str(&text).with_context(|| path.display().to_string())?;
    antenna.check().with_context(|| path.display().to_string())?;
    Ok(antenna)
}

impl ModelArgs {
    pub(super) fn model(&self) -> Model {
        forecast::model(path_model(self.model), self.time, self.places)
    }
}

impl RadioArgs {
    /// The frequency that is given, or that of the region's first channel, in MHz.
    pub(super) fn frequency_mhz(&self) -> f64 {
        self.frequency_mhz.unwrap_or_else(|| forecast::first_frequency_mhz(self.region))
    }

    /// The gateway.
    ///
    /// # Errors
    /// A number is outside its range.
    pub(super) fn station(&self) -> Result<Station> {
        let antenna = match &self.gateway_antenna {
            Some(path) => antenna(path)?,
            None => Antenna::Omni { gain_dbi: self.gateway_gain_dbi, vertical_beam_deg: 180.0 },
        };
        let station = Station {
            antenna,
            height_m: self.gateway_height_m,
            power_dbm: self.gateway_power_dbm,
            cable_loss_db: self.cable_loss_db,
            ..Station::default()
        };
        station.check()?;
        Ok(station)
    }

    /// The device.
    ///
    /// # Errors
    /// A number is outside its range.
    pub(super) fn terminal(&self) -> Result<Terminal> {
        let terminal = Terminal {
            gain_dbi: self.device_gain_dbi,
            height_m: self.device_height_m,
            power_dbm: self.device_power_dbm,
            penetration_loss_db: self.penetration_loss_db,
            ..Terminal::default()
        };
        terminal.check()?;
        Ok(terminal)
    }

    /// How a link is judged.
    ///
    /// # Errors
    /// A number is outside its range.
    pub(super) fn judgement(&self) -> Result<Judgement> {
        let judgement = Judgement {
            reliability: self.reliability,
            shadowing_db: self.shadowing_db,
            payload_bytes: self.payload_bytes,
            interval_s: self.interval,
        };
        judgement.check()?;
        Ok(judgement)
    }

    /// The data rates of uplinks in the region.
    pub(super) fn rates(&self) -> Vec<DataRate> {
        forecast::rates(self.region)
    }
}
