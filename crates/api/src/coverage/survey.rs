//! The survey: coverage as the network's own uplinks tell it.

use std::collections::BTreeMap;

use chrono::{DateTime, Utc};
use lorawan::Eui64;
use lorawan::region::Region;
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

use super::forecast::LegendClass;
use crate::ground::GroundExtent;
use crate::problem::Problem;

/// What the hexagons of a survey are coloured by: of the best gateway, or of the one that is asked about.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum SurveyQuantity {
    /// SNR above what the data rate needs, in dB.
    #[default]
    Margin,
    /// The same at full power and the slowest data rate, in dB.
    Reserve,
    /// Signal strength, in dBm.
    Rssi,
    /// Signal over noise, in dB.
    Snr,
    /// The data rate used.
    DataRate,
    /// Which gateway heard best most often.
    BestGateway,
    /// How many gateways heard an uplink.
    Gateways,
    /// The share of uplinks that were heard, in percent.
    Heard,
    /// How many uplinks there are.
    Count,
}

/// Which uplinks of a survey.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct SurveyFilter {
    /// From this time on.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub since: Option<DateTime<Utc>>,
    /// Before this time.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub until: Option<DateTime<Utc>>,
    /// Only of this device, by name or DevEUI.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[param(example = "collar-07")]
    pub device: Option<String>,
    /// As this gateway heard them or did not hear them, by name or EUI.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[param(example = "gull-tower")]
    pub gateway: Option<String>,
    /// Only at this data rate.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[param(maximum = 15, example = 5)]
    pub data_rate: Option<u8>,
}

/// What is wanted of a survey's hexagons.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct HexagonQuestion {
    /// What they are coloured by; `margin` if not given.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[param(inline)]
    pub quantity: Option<SurveyQuantity>,
    /// Their size, as a resolution of H3: 5 (sides of 9.9 km) to 12 (11 m). If not given, that of the map's level, or 9 (201 m).
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[param(minimum = 5, maximum = 12, example = 9)]
    pub resolution: Option<u8>,
}

/// A place in a survey.
#[derive(Debug, Clone, Copy, Default, PartialEq, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct SurveyedPlace {
    /// Latitude in degrees (WGS 84), north positive.
    #[param(minimum = -90, maximum = 90, example = 54.707)]
    pub latitude_deg: f64,
    /// Longitude in degrees (WGS 84), east positive.
    #[param(minimum = -180, maximum = 180, example = 3.949)]
    pub longitude_deg: f64,
}

/// The legend of a quantity.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct SurveyLegend {
    /// The quantity.
    pub quantity: SurveyQuantity,
    /// What it is.
    #[schema(example = "margin at the data rate used")]
    pub title: String,
    /// Its unit; empty if it has none.
    #[schema(example = "dB")]
    pub unit: String,
    /// Its classes, from much to little.
    pub classes: Vec<LegendClass>,
}

/// A survey in figures.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Survey {
    /// Uplinks that were heard. Of a device that stands still, one in ten minutes is kept and stands for the others.
    pub uplinks: u64,
    /// Uplinks that were lost, by gaps in the frame counter.
    pub lost: u64,
    /// Uplinks whose place is known.
    pub placed: u64,
    /// Devices that they are of.
    pub devices: u32,
    /// The first.
    #[serde(with = "crate::millis_option")]
    pub from: Option<DateTime<Utc>>,
    /// The last.
    #[serde(with = "crate::millis_option")]
    pub until: Option<DateTime<Utc>>,
    /// There are older ones, which are not held in memory.
    pub cut: bool,
    /// The box around all places.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub extent: Option<GroundExtent>,
    /// The gateways, those that heard most first.
    pub gateways: Vec<SurveyedGateway>,
    /// What was left out, by reason.
    pub refused: Vec<LeftOut>,
    /// The legend of each quantity.
    pub legends: Vec<SurveyLegend>,
}

/// A gateway in a survey.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct SurveyedGateway {
    /// Its EUI.
    #[schema(value_type = String)]
    pub gateway_eui: Eui64,
    /// Its name.
    pub gateway: String,
    /// Uplinks that it heard.
    pub heard: u32,
    /// Devices that it heard.
    pub devices: u32,
    /// The median noise in its channels, told by weak uplinks; absent if all that it heard was strong.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub noise_dbm: Option<f64>,
    /// By how much that is above the noise of a good receiver.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub noise_above_db: Option<f64>,
}

/// What was left out of a survey for one reason.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct LeftOut {
    /// Why.
    #[schema(example = "a jump")]
    pub reason: String,
    /// How many.
    pub count: u64,
}

/// A drive test that was imported.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct SurveyImport {
    /// Its name.
    #[schema(example = "round the harbour")]
    pub name: String,
    /// The region whose data rates and power count.
    #[schema(value_type = String, example = "EU868")]
    pub region: Region,
    /// Uplinks that were sent in it.
    pub uplinks: u32,
    /// Those that at least one gateway heard.
    pub heard: u32,
    /// The first.
    #[serde(with = "crate::millis_option")]
    pub from: Option<DateTime<Utc>>,
    /// The last.
    #[serde(with = "crate::millis_option")]
    pub until: Option<DateTime<Utc>>,
    /// Who imported it.
    pub imported_by: String,
    /// When.
    #[serde(with = "crate::millis")]
    pub imported_at: DateTime<Utc>,
}

/// A drive test to be imported: uplinks that somebody sent on the way, as a table.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewSurveyImport {
    /// Its name, which no other import of the estate has.
    #[schema(max_length = 80, example = "round the harbour")]
    pub name: String,
    /// The region whose data rates and power count.
    #[serde(default = "eu868")]
    #[schema(value_type = String, example = "EU868")]
    pub region: Region,
    /// Which column of the table is which of `time`, `latitude_deg`, `longitude_deg`, `gateway`, `rssi_dbm`, `snr_db`,
    /// `spreading_factor`, `data_rate`, `power_dbm`, `device`, `counter`. Others are known by their usual names, and what is not
    /// known is passed over.
    #[serde(default)]
    #[schema(example = json!({ "signal": "rssi_dbm" }))]
    pub columns: BTreeMap<String, String>,
    /// The table (CSV): a line of column names, then a row for each gateway that heard an uplink. Rows of one uplink follow one
    /// another. A row without RSSI was heard by nobody.
    #[schema(example = "time,lat,lon,gateway,signal,snr,sf\n2026-05-04T09:12:33Z,54.7,3.9,chapel-rise,-101,4.5,9")]
    pub csv: String,
    /// Only say what would be imported.
    #[serde(default)]
    pub preview: bool,
}

fn eu868() -> Region {
    Region::Eu868
}

/// What an import does.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct SurveyImportEffect {
    /// What is imported.
    pub import: SurveyImport,
    /// Whether it was done, and not only previewed.
    pub done: bool,
    /// Columns of the table that were passed over.
    pub passed_over: Vec<String>,
    /// Rows that were left out.
    pub left_out: u32,
    /// What is wrong with the first of them.
    pub wrong: Vec<WrongRow>,
}

/// A row that was left out.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct WrongRow {
    /// Its line, the column names being in line 1.
    pub line: u64,
    /// What is wrong.
    pub problem: Problem,
}

/// A hexagon of a survey.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct SurveyHexagon {
    /// Its H3 index.
    #[schema(example = "891969d4217ffff")]
    pub index: String,
    /// The latitude of its middle.
    pub latitude_deg: f64,
    /// The longitude of its middle.
    pub longitude_deg: f64,
    /// The value: the median, or as the quantity says.
    pub value: f64,
    /// The value in words.
    #[schema(example = "12 dB")]
    pub words: String,
    /// From the lower to the upper quartile, where the value is a median.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub spread: Option<f64>,
    /// Uplinks that were heard.
    pub uplinks: u32,
    /// Uplinks that were not.
    pub unheard: u32,
}

/// The hexagons of a survey.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct SurveyHexagons {
    /// What the values are.
    pub quantity: SurveyQuantity,
    /// Their resolution of H3.
    pub resolution: u8,
    /// The hexagons.
    pub hexagons: Vec<SurveyHexagon>,
}

/// What was measured around a place.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct SurveyPlace {
    /// The hexagon by each quantity that has a value there.
    pub values: Vec<SurveyValue>,
    /// Each gateway that was listening, the best first.
    pub gateways: Vec<HeardThere>,
    /// Names of devices that were there: at most 20.
    pub devices: Vec<String>,
}

/// A quantity's value in a hexagon.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct SurveyValue {
    /// The quantity.
    pub quantity: SurveyQuantity,
    /// What it is.
    pub title: String,
    /// The hexagon.
    pub hexagon: SurveyHexagon,
}

/// A gateway and what it heard from a hexagon.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct HeardThere {
    /// The gateway.
    pub gateway: String,
    /// The median signal strength.
    pub rssi_dbm: Option<f64>,
    /// The median SNR.
    pub snr_db: Option<f64>,
    /// Uplinks that it heard.
    pub heard: u32,
    /// Uplinks that it did not hear although it was listening.
    pub unheard: u32,
}

/// What is wrong with an area.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum SurveyAreaKind {
    /// Fewer than half of the uplinks arrive.
    Dark,
    /// Fewer than nine of ten arrive, or with less than 10 dB of margin.
    Weak,
    /// One gateway alone hears what is sent there.
    OneGateway,
}

impl SurveyAreaKind {
    /// In words.
    pub const fn label(self) -> &'static str {
        match self {
            Self::Dark => "dark",
            Self::Weak => "weak",
            Self::OneGateway => "one gateway",
        }
    }
}

/// An area where coverage is poor.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct SurveyArea {
    /// What is wrong.
    pub kind: SurveyAreaKind,
    /// The latitude of the middle of its uplinks.
    pub latitude_deg: f64,
    /// The longitude.
    pub longitude_deg: f64,
    /// Its size.
    pub area_km2: f64,
    /// Uplinks that arrived.
    pub uplinks: u32,
    /// Uplinks that did not.
    pub lost: u32,
    /// The median margin at full power and the slowest data rate; absent if nothing arrived.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub margin_db: Option<f64>,
    /// The gateway that hears it best.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub best_gateway: Option<String>,
    /// Names of devices that were there: at most 20.
    pub devices: Vec<String>,
    /// What to do.
    pub next_step: String,
}

/// Whose signal has changed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum ChangedKind {
    /// A gateway's: most devices that it hears have changed with it.
    Gateway,
    /// A device's.
    Device,
}

/// A change of signal that stayed.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct SignalChange {
    /// Whose.
    pub kind: ChangedKind,
    /// The EUI of the device or gateway.
    #[schema(value_type = String)]
    pub eui: Eui64,
    /// Its name.
    pub name: String,
    /// Since when.
    #[serde(with = "crate::millis")]
    pub since: DateTime<Utc>,
    /// By how much the signal is stronger; weaker if negative.
    pub change_db: f64,
    /// Links that changed.
    pub links: u32,
    /// Links that were heard before and after.
    pub of: u32,
    /// What has changed, in words.
    pub what: String,
    /// What to do.
    pub next_step: String,
}

/// Which link.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub struct SignalQuestion {
    /// The device, by name or DevEUI.
    #[param(example = "tide-05")]
    pub device: String,
    /// The gateway, by name or EUI.
    #[param(example = "chapel-rise")]
    pub gateway: String,
}

/// The signal of a link over time.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct SignalHistory {
    /// The device's name.
    pub device: String,
    /// The gateway's name.
    pub gateway: String,
    /// The signal without noise less what the device transmitted, one median an hour, oldest first.
    pub points: Vec<HourlyLevel>,
    /// Steps of at least 3 dB that stayed for three days or more.
    pub steps: Vec<LevelStep>,
}

/// The signal of one hour.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct HourlyLevel {
    /// The hour's beginning, in milliseconds since 1970.
    pub at_ms: i64,
    /// The median of signal less transmitted power.
    pub level_db: f64,
    /// Uplinks of the hour.
    pub uplinks: u32,
}

/// A step of a signal.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct LevelStep {
    /// When.
    #[serde(with = "crate::millis")]
    pub at: DateTime<Utc>,
    /// The level before it.
    pub before_db: f64,
    /// The level after it.
    pub after_db: f64,
}
