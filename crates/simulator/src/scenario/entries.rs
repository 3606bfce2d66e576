//! The parts of a scenario, as its file has them.

use std::collections::BTreeMap;

use api::device::register::PersonalSession;
use api::fleet::FleetLimits;
use api::gateway::Protocol;
use api::model::DecoderKind;
use api::radio::settings::RadioSettings;
use api::reading::ReadingRule;
use coverage::link::antenna::Antenna;
use lorawan::region::Region;
use serde::Deserialize;

use crate::gateway::Faults;
use crate::sensor::SensorKind;

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
    /// How that is written, by the file's name.
    #[serde(skip)]
    pub decoder_kind: DecoderKind,
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
    /// Its antenna above the ground, in metres.
    #[serde(default = "usual_mast_m")]
    pub height_m: f64,
    /// Gain of its antenna, in dBi.
    pub antenna_gain_dbi: f32,
    /// Its antenna, if it is not the same all around.
    pub antenna: Option<Antenna>,
    /// Noise from its surroundings above a quiet receiver's, in dB.
    #[serde(default)]
    pub noise_db: f64,
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
    /// When it was not there, in the past.
    #[serde(default)]
    pub away: Vec<DaysAgo>,
    /// Since when its antenna or its cable has lost something.
    pub weaker: Option<Weaker>,
}

/// A loss between an antenna and its gateway, both ways.
#[derive(Debug, Clone, Copy, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Weaker {
    /// When it began.
    pub since_days_ago: f64,
    /// How much is lost, in dB.
    pub loss_db: f64,
}

/// A part of the past.
#[derive(Debug, Clone, Copy, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct DaysAgo {
    /// When it begins.
    pub from_days_ago: f64,
    /// When it ends.
    pub until_days_ago: f64,
}

/// How a device was in a part of the past, where it was not as it is.
#[derive(Debug, Clone, Copy, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Spell {
    /// When it ended.
    pub until_days_ago: f64,
    /// What it measured with.
    pub sensor: Option<SensorKind>,
    /// How often it sent, in seconds.
    pub interval_s: Option<f64>,
}

/// A device.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct DeviceEntry {
    /// Its name.
    pub name: String,
    /// The device's DevEUI.
    pub dev_eui: String,
    /// The DevEUI in the device, where that is another one.
    pub dev_eui_in_device: Option<String>,
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
    /// Its antenna above the ground, in metres.
    #[serde(default = "usual_height_m")]
    pub height_m: f64,
    /// The herd of the animal it is on.
    pub herd: Option<String>,
    /// How often it sends, in seconds.
    pub interval_s: f64,
    /// The index of the data rate it begins with.
    pub data_rate: u8,
    /// Whether its uplinks are confirmed.
    #[serde(default)]
    pub confirmed: bool,
    /// When it was switched on first, if not long ago.
    pub since_days_ago: Option<f64>,
    /// When its battery was put in.
    #[serde(default = "usual_battery_age")]
    pub battery_days: f64,
    /// How long the battery lasts.
    #[serde(default = "usual_battery_life")]
    pub battery_lasts_days: f64,
    /// How it was before, the latest last.
    #[serde(default)]
    pub before: Vec<Spell>,
    /// A stranger is there but not registered.
    #[serde(default)]
    pub stranger: bool,
}

pub(super) fn eu868() -> Region {
    Region::Eu868
}

pub(super) fn usual_mast_m() -> f64 {
    10.0
}

pub(super) fn usual_height_m() -> f64 {
    1.5
}

pub(super) fn usual_battery_age() -> f64 {
    210.0
}

pub(super) fn usual_battery_life() -> f64 {
    1500.0
}
