//! A scenario's text files: who there is, what is registered, and what is wrong on purpose.
//!
//! A folder with `scenario.toml`, the table of devices and the files of the ground that it names, and its decoders.

mod devices_file;
mod entries;
mod register;

use std::fmt::Display;
use std::io::BufReader;
use std::path::{Path, PathBuf};
use std::str::FromStr;
use std::sync::Arc;

use api::problem::{Problem, bad_field};
use coverage::terrain::file::{self, FileError};
use coverage::terrain::grid::Grid;
use coverage::terrain::mosaic::{NoData, Terrain};
use domain::model::request::kind_of_file;
use lorawan::Eui64;
use serde::Deserialize;
use thiserror::Error;

pub use entries::{DaysAgo, DeviceEntry, FleetEntry, GatewayEntry, ModelEntry, Spell, Weaker};

use crate::lns::LinkError;
use crate::walk::Herd;
use devices_file::DeviceLine;

/// Why a scenario cannot be read.
#[derive(Debug, Error)]
pub enum ScenarioError {
    /// A file cannot be read.
    #[error("{file}: {source}")]
    File {
        /// Which.
        file: String,
        /// Why.
        source: std::io::Error,
    },
    /// A file is not the TOML expected here.
    #[error("{file}: {source}")]
    Toml {
        /// Which.
        file: String,
        /// Why.
        source: Box<toml::de::Error>,
    },
    /// The table of devices cannot be read.
    #[error("{file}: {source}")]
    Csv {
        /// Which.
        file: String,
        /// Why.
        source: csv::Error,
    },
    /// A file of the ground cannot be read.
    #[error("{file}: {source}")]
    Ground {
        /// Which.
        file: String,
        /// Why.
        source: Box<FileError>,
    },
    /// A saved state cannot be read.
    #[error("{file}: {why}")]
    State {
        /// Which.
        file: String,
        /// Why.
        why: String,
    },
    /// A value cannot be used.
    #[error("{what}: {problem}")]
    Value {
        /// What it is of.
        what: String,
        /// Why.
        problem: Box<api::problem::Problem>,
    },
    /// A gateway's kit cannot be used.
    #[error("the kit of {eui}: {source}")]
    Kit {
        /// The gateway's EUI.
        eui: Eui64,
        /// Why.
        source: LinkError,
    },
    /// A gateway needs a kit and has none.
    #[error("{name} does not call by UDP, and there is no connection kit for it: {eui}.zip is missing")]
    NoKit {
        /// The gateway's name.
        name: String,
        /// Its EUI.
        eui: Eui64,
    },
}

/// Who there is.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Scenario {
    /// Its name.
    pub name: String,
    /// Files of the ground beside the scenario; without them there is only water.
    #[serde(default)]
    pub ground: GroundFiles,
    /// A table of further devices beside the scenario, one a line.
    pub devices_file: Option<String>,
    /// Its fleets.
    #[serde(default, rename = "fleet")]
    pub fleets: Vec<FleetEntry>,
    /// Its models.
    #[serde(default, rename = "model")]
    pub models: Vec<ModelEntry>,
    /// Its herds.
    #[serde(default, rename = "herd")]
    pub herds: Vec<Herd>,
    /// Its gateways.
    #[serde(rename = "gateway")]
    pub gateways: Vec<GatewayEntry>,
    /// Its devices.
    #[serde(rename = "device")]
    pub devices: Vec<DeviceEntry>,
    /// Where the files are.
    #[serde(skip)]
    pub folder: PathBuf,
}

/// Files of the ground.
#[derive(Debug, Clone, Default, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct GroundFiles {
    /// GeoTIFF of heights.
    pub heights: Option<String>,
    /// GeoTIFF of cover.
    pub cover: Option<String>,
}

impl Scenario {
    /// Reads the folder.
    ///
    /// # Errors
    /// A file cannot be read, or is not what it should be.
    pub fn load(folder: &Path) -> Result<Self, ScenarioError> {
        let read = |name: &str| {
            let file = folder.join(name);
            std::fs::read_to_string(&file)
                .map_err(|source| ScenarioError::File { file: file.display().to_string(), source })
        };
        let mut scenario: Self = toml::from_str(&read("scenario.toml")?).map_err(|source| ScenarioError::Toml {
            file: folder.join("scenario.toml").display().to_string(),
            source: Box::new(source),
        })?;
        scenario.folder = folder.to_owned();
        for model in &mut scenario.models {
            model.decoder_kind = kind_of_file(&model.decoder).unwrap_or_default();
            model.decoder = read(&model.decoder)?;
        }
        if let Some(name) = &scenario.devices_file {
            let text = read(name)?;
            for line in csv::Reader::from_reader(text.as_bytes()).deserialize::<DeviceLine>() {
                let line = line.map_err(|source| ScenarioError::Csv { file: name.clone(), source })?;
                scenario.devices.push(line.into());
            }
        }
        Ok(scenario)
    }

    /// The ground of its files, with the sea around it.
    ///
    /// # Errors
    /// A file cannot be read.
    pub fn terrain(&self) -> Result<Terrain, ScenarioError> {
        let grid = |name: &Option<String>| -> Result<Vec<Arc<Grid>>, ScenarioError> {
            let Some(name) = name else { return Ok(Vec::new()) };
            let path = self.folder.join(name);
            let named = || path.display().to_string();
            let opened = std::fs::File::open(&path).map_err(|source| ScenarioError::File { file: named(), source })?;
            let read = file::read(name, BufReader::new(opened))
                .map_err(|source| ScenarioError::Ground { file: named(), source: Box::new(source) })?;
            Ok(vec![Arc::new(read)])
        };
        Ok(Terrain {
            heights: grid(&self.ground.heights)?,
            covers: grid(&self.ground.cover)?,
            no_data: NoData::Sea,
            ..Terrain::default()
        })
    }

    /// The herd of this name.
    pub fn herd(&self, name: &str) -> Option<&Herd> {
        self.herds.iter().find(|herd| herd.name == name)
    }
}

/// Reads an EUI or a key of a scenario's file.
pub(crate) fn parsed<T: FromStr<Err: Display>>(field: &str, text: &str) -> Result<T, Problem> {
    text.parse().map_err(|why| bad_field(field, text, why))
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeSet;

    use api::gateway::Protocol;
    use api::radio::settings::RadioSettings;
    use domain::Check as _;
    use domain::device::register::{self, EstateDefaults, RegistrationContext};
    use lorawan::NetId;

    use super::*;

    fn folder() -> std::path::PathBuf {
        Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/tarnsey")
    }

    #[test]
    fn tarnsey_is_complete_and_can_be_registered() {
        let scenario = Scenario::load(&folder()).unwrap();
        assert_eq!((scenario.gateways.len(), scenario.devices.len(), scenario.fleets.len()), (5, 62, 3));
        assert_eq!(scenario.gateways.iter().filter(|g| g.stranger).count(), 1);
        let ways =
            Protocol::ALL.map(|way| scenario.gateways.iter().filter(|g| g.protocol == way && !g.stranger).count());
        assert_eq!(ways, [2, 1, 1]);
        let wrong: Vec<_> = scenario.devices.iter().filter(|d| d.app_key_in_device.is_some()).collect();
        assert_eq!(wrong.len(), 1);
        assert_ne!(wrong[0].app_key_in_device.as_ref(), Some(&wrong[0].app_key));
        for gateway in &scenario.gateways {
            let eui = gateway.to_register().check().unwrap().eui;
            assert_eq!(eui.to_bytes()[0] & 0x02, 0x02, "{eui} is locally administered: it is nobody's");
        }
        let defaults = EstateDefaults {
            fleets: scenario.fleets.iter().map(|fleet| (fleet.slug.clone(), None)).collect(),
            models: scenario.models.iter().map(|model| (model.slug.clone(), RadioSettings::default().into())).collect(),
            ..EstateDefaults::default()
        };
        let mut random = || [0; 16];
        let mut estate = RegistrationContext {
            defaults: &defaults,
            net_id: NetId::new(0),
            taken: &|_| false,
            preview: false,
            random: &mut random,
        };
        assert_eq!(scenario.devices.iter().filter(|d| d.stranger).count(), 1);
        assert_eq!(scenario.devices.iter().filter_map(|d| d.model.clone()).collect::<BTreeSet<_>>().len(), 6);
        assert!(scenario.devices.iter().all(|d| d.herd.as_deref().is_none_or(|name| scenario.herd(name).is_some())));
        for device in &scenario.devices {
            // What it names is there.
            let checked = register::check(&device.to_register(), &mut estate).unwrap();
            assert!(checked.model.is_some(), "{}", checked.name);
        }
        assert!(
            scenario.models.iter().all(|m| m.decoder.contains("decodeUplink") || m.decoder.contains("[[block]]")),
            "the files are read in"
        );
    }

    #[test]
    fn errors_name_the_file() {
        let error = Scenario::load(Path::new("nowhere")).unwrap_err().to_string();
        assert!(error.contains("nowhere/scenario.toml"), "{error}");
        let unknown = "name = 'x'\ncolour = 'grey'\ngateway = []\ndevice = []\n";
        assert!(toml::from_str::<Scenario>(unknown).unwrap_err().to_string().contains("colour"));
    }
}
