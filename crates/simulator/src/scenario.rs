//! A scenario's text files: who there is, what is registered, and what is wrong on purpose.
//!
//! A folder with `scenario.toml` and the decoders it names.

use std::collections::BTreeMap;
use std::fmt::Display;
use std::path::Path;
use std::str::FromStr;

use api::device::place::Place;
use api::device::register::{NewDevice, PersonalSession};
use api::fleet::{FleetLimits, NewFleet};
use api::gateway::{GatewayAbout, NewGateway, Protocol};
use api::model::PutModel;
use api::problem::{Problem, bad_field};
use api::radio::settings::{Class, RadioSettings, RateSettings};
use api::reading::ReadingRule;
use lorawan::crypto::{SessionKeys, SessionKeys11};
use lorawan::region::Region;
use lorawan::{DevAddr, Eui64, MacVersion};
use serde::Deserialize;
use thiserror::Error;

use crate::device::{Build, Identity, Listens};
use crate::gateway::Faults;
use crate::lns::LinkError;
use crate::sensor::SensorKind;

/// Ping slots of a stand-in of class B: every eight seconds.
const PING_PERIODICITY: u8 = 3;

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
    /// Its fleets.
    #[serde(default, rename = "fleet")]
    pub fleets: Vec<FleetEntry>,
    /// Its models.
    #[serde(default, rename = "model")]
    pub models: Vec<ModelEntry>,
    /// Its gateways.
    #[serde(rename = "gateway")]
    pub gateways: Vec<GatewayEntry>,
    /// Its devices.
    #[serde(rename = "device")]
    pub devices: Vec<DeviceEntry>,
}

/// A fleet.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct FleetEntry {
    /// Its short name.
    pub slug: String,
    /// Its name.
    pub name: String,
    /// What its devices may send.
    #[serde(default)]
    pub limits: FleetLimits,
}

/// A model.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ModelEntry {
    /// Its short name.
    pub slug: String,
    /// Who makes it.
    pub maker: String,
    /// Its name.
    pub name: String,
    /// A file beside the scenario; read into its text when the scenario is loaded.
    pub decoder: String,
    /// Readings.
    #[serde(default)]
    pub readings: BTreeMap<String, ReadingRule>,
}

/// A gateway.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct GatewayEntry {
    /// Its EUI.
    pub eui: String,
    /// Its name.
    pub name: String,
    /// Latitude, in degrees north.
    pub latitude_deg: f64,
    /// Longitude, in degrees east.
    pub longitude_deg: f64,
    /// Altitude, in metres above sea level.
    pub altitude_m: f64,
    /// Gain of its antenna, in dBi.
    pub antenna_gain_dbi: f32,
    /// Its region.
    #[serde(default = "eu868")]
    pub region: Region,
    /// It has GPS time and sends class B beacons.
    #[serde(default)]
    pub beacons: bool,
    /// Its protocol.
    #[serde(default)]
    pub protocol: Protocol,
    /// What is wrong with it.
    #[serde(default)]
    pub faults: Faults,
    /// A stranger is there but not registered.
    #[serde(default)]
    pub stranger: bool,
}

/// A device.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct DeviceEntry {
    /// Its name.
    pub name: String,
    /// The device's DevEUI.
    pub dev_eui: String,
    /// Its JoinEUI.
    pub join_eui: String,
    /// The key it is registered with.
    pub app_key: String,
    /// The key in the device, where that is another one.
    pub app_key_in_device: Option<String>,
    /// The NwkKey of a 1.1 device.
    pub nwk_key: Option<String>,
    /// Session of a device that is activated by personalization.
    pub personal: Option<PersonalSession>,
    /// Its region.
    #[serde(default = "eu868")]
    pub region: Region,
    /// How it is registered, and built.
    #[serde(default)]
    pub radio: RadioSettings,
    /// Uplinks from one restart to the next; a restart forgets the counters.
    pub restarts_every: Option<u32>,
    /// Uplinks from one rejoin-request to the next (1.1).
    pub rejoins_every: Option<u32>,
    /// The short name of its fleet.
    pub fleet: String,
    /// The short name of its model.
    pub model: Option<String>,
    /// What it measures.
    pub sensor: SensorKind,
    /// Latitude, in degrees north.
    pub latitude_deg: f64,
    /// Longitude, in degrees east.
    pub longitude_deg: f64,
    /// How often it sends, in seconds.
    pub interval_s: f64,
    /// The index of the data rate it begins with.
    pub data_rate: u8,
    /// Whether its uplinks are confirmed.
    #[serde(default)]
    pub confirmed: bool,
}

fn eu868() -> Region {
    Region::Eu868
}

impl Scenario {
    /// Reads the folder.
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
        for model in &mut scenario.models {
            model.decoder = read(&model.decoder)?;
        }
        Ok(scenario)
    }
}

impl FleetEntry {
    /// What is asked of the service.
    pub fn to_register(&self) -> NewFleet {
        NewFleet { slug: self.slug.clone(), name: Some(self.name.clone()), limits: self.limits }
    }
}

impl ModelEntry {
    /// What is asked of the service.
    pub fn to_register(&self) -> PutModel {
        PutModel {
            maker: self.maker.clone(),
            name: self.name.clone(),
            decoder: Some(self.decoder.clone()),
            readings: self.readings.clone(),
            ..PutModel::default()
        }
    }
}

impl GatewayEntry {
    /// What is asked of the service.
    pub fn to_register(&self) -> NewGateway {
        let about = GatewayAbout {
            name: self.name.clone(),
            latitude_deg: Some(self.latitude_deg),
            longitude_deg: Some(self.longitude_deg),
            altitude_m: Some(self.altitude_m),
            antenna_gain_dbi: Some(self.antenna_gain_dbi),
            region: Some(self.region),
            beacons: Some(self.beacons),
            protocol: Some(self.protocol),
            ..GatewayAbout::default()
        };
        NewGateway { eui: self.eui.clone(), about }
    }
}

impl DeviceEntry {
    /// The device as it is built, which may differ from how it is registered.
    pub fn to_build(&self) -> Result<(Identity, Build), Problem> {
        let identity = Identity {
            dev_eui: parsed("dev_eui", &self.dev_eui)?,
            join_eui: parsed("join_eui", &self.join_eui)?,
            app_key: parsed("app_key", self.app_key_in_device.as_ref().unwrap_or(&self.app_key))?,
            nwk_key: self.nwk_key.as_deref().map(|key| parsed("nwk_key", key)).transpose()?,
            personal: self.personal.as_ref().map(session).transpose()?,
        };
        let listens = match self.radio.class {
            None | Some(Class::A) => Listens::AfterUplinks,
            Some(Class::B) => Listens::InPingSlots(
                self.radio.ping_period_s.and_then(u16::checked_ilog2).map_or(PING_PERIODICITY, |n| n as u8),
            ),
            Some(Class::C) => Listens::Always,
        };
        let version = self.radio.mac_version.unwrap_or(MacVersion::V1_0_3);
        let adr = !matches!(self.radio.rates, Some(RateSettings::Device));
        Ok((identity, Build { region: self.region, version, listens, data_rate: self.data_rate, adr }))
    }

    /// What is asked of the service.
    pub fn to_register(&self) -> NewDevice {
        // A scenario goes by faster than its models would.
        let interval_s = self.radio.uplink_interval_s.unwrap_or(self.interval_s.ceil() as u32);
        NewDevice {
            dev_eui: self.dev_eui.clone(),
            join_eui: self.join_eui.clone(),
            app_key: Some(self.app_key.clone()).filter(|_| self.personal.is_none()),
            nwk_key: self.nwk_key.clone(),
            personal: self.personal.clone(),
            region: Some(self.region),
            radio: RadioSettings { uplink_interval_s: Some(interval_s), ..self.radio.clone() },
            name: self.name.clone(),
            fleet: self.fleet.clone(),
            model: self.model.clone(),
            place: Some(Place {
                latitude_deg: self.latitude_deg,
                longitude_deg: self.longitude_deg,
                height_m: None,
                indoor: Some(false),
            }),
            ..NewDevice::default()
        }
    }
}

/// The session of a device that does not join.
fn session(personal: &PersonalSession) -> Result<(DevAddr, SessionKeys11), Problem> {
    let nwk_s_key = parsed("personal.nwk_s_key", &personal.nwk_s_key)?;
    let app_s_key = parsed("personal.app_s_key", &personal.app_s_key)?;
    let mut keys = SessionKeys11::from(SessionKeys { nwk_s_key, app_s_key });
    if let Some(key) = &personal.s_nwk_s_int_key {
        keys.s_nwk_s_int_key = parsed("personal.s_nwk_s_int_key", key)?;
    }
    if let Some(key) = &personal.nwk_s_enc_key {
        keys.nwk_s_enc_key = parsed("personal.nwk_s_enc_key", key)?;
    }
    Ok((parsed("personal.dev_addr", &personal.dev_addr)?, keys))
}

/// Reads an EUI or a key of a scenario's file.
pub(crate) fn parsed<T: FromStr<Err: Display>>(field: &str, text: &str) -> Result<T, Problem> {
    text.parse().map_err(|why| bad_field(field, text, why))
}

#[cfg(test)]
mod tests {
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
        assert_eq!((scenario.gateways.len(), scenario.devices.len(), scenario.fleets.len()), (5, 11, 2));
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
        for device in &scenario.devices {
            // What it names is there.
            let checked = register::check(&device.to_register(), &mut estate).unwrap();
            assert!(checked.model.is_some(), "{}", checked.name);
        }
        assert!(scenario.models.iter().all(|m| m.decoder.contains("decodeUplink")), "the files are read in");
    }

    #[test]
    fn errors_name_the_file() {
        let error = Scenario::load(Path::new("nowhere")).unwrap_err().to_string();
        assert!(error.contains("nowhere/scenario.toml"), "{error}");
        let unknown = "name = 'x'\ncolour = 'grey'\ngateway = []\ndevice = []\n";
        assert!(toml::from_str::<Scenario>(unknown).unwrap_err().to_string().contains("colour"));
    }
}
