//! Forecasts: where devices will be heard.

use chrono::{DateTime, Utc};
use lorawan::region::Region;
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

use super::calibration::Calibration;
use super::link::Link;
use super::site::{ReceiverRadio, Site};
use crate::ground::GroundExtent;

/// How the loss of a path is computed.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum PathModel {
    /// Nothing in the way: ITU-R P.525.
    FreeSpace,
    /// Okumura and Hata in a city.
    HataCity,
    /// The same in a suburb.
    HataSuburban,
    /// The same in open country.
    HataOpen,
    /// Diffraction over the terrain: ITU-R P.526.
    Diffraction,
    /// All mechanisms: ITU-R P.1812.
    #[default]
    P1812,
    /// Longley and Rice, point to point.
    IrregularTerrain,
}

impl PathModel {
    /// All of them.
    pub const ALL: [Self; 7] = [
        Self::P1812,
        Self::IrregularTerrain,
        Self::Diffraction,
        Self::HataOpen,
        Self::HataSuburban,
        Self::HataCity,
        Self::FreeSpace,
    ];

    /// In words.
    pub const fn label(self) -> &'static str {
        match self {
            Self::FreeSpace => "free space (P.525)",
            Self::HataCity => "Okumura–Hata, city",
            Self::HataSuburban => "Okumura–Hata, suburb",
            Self::HataOpen => "Okumura–Hata, open country",
            Self::Diffraction => "terrain diffraction (P.526)",
            Self::P1812 => "ITU-R P.1812",
            Self::IrregularTerrain => "irregular terrain (Longley–Rice)",
        }
    }
}

/// What else is sent at one spreading factor by devices all over the region.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Load {
    /// The spreading factor.
    #[schema(minimum = 7, maximum = 12, example = 12)]
    pub spreading_factor: u8,
    /// In Erlang for each channel: frames a second times the seconds that one takes.
    #[schema(minimum = 0, maximum = 10, example = 0.05)]
    pub erlang: f64,
}

/// A forecast that is asked for.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields, default)]
pub struct NewForecast {
    /// A name for people.
    #[schema(max_length = 80, example = "four gateways")]
    pub name: String,
    /// Names of the sites; all gateways whose place is known if there are none.
    #[schema(max_items = 50)]
    pub sites: Vec<String>,
    /// The kind of receiver.
    #[schema(example = "outdoors")]
    pub receiver: String,
    /// How the loss of a path is computed.
    pub model: PathModel,
    /// The share of the time for which losses are not exceeded, in percent; of models that know it.
    #[schema(minimum = 1, maximum = 99)]
    pub time_percent: f64,
    /// The share of places for which they are not exceeded, in percent; of models that know it.
    #[schema(minimum = 1, maximum = 99)]
    pub places_percent: f64,
    /// The region, whose data rates and first frequency count.
    #[schema(value_type = String, example = "EU868")]
    pub region: Region,
    /// The frequency, if it is another than the region's first.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[schema(minimum = 30, maximum = 6000, example = 868.1)]
    pub frequency_mhz: Option<f64>,
    /// The share of places where a link is to work.
    #[schema(minimum = 0.01, maximum = 0.999, example = 0.9)]
    pub reliability: f64,
    /// How losses differ between places that look the same, as a standard deviation.
    #[schema(minimum = 0, maximum = 20, example = 6.0)]
    pub shadowing_db: f64,
    /// Bytes of a message.
    #[schema(minimum = 0, maximum = 242, example = 20)]
    pub payload_bytes: u16,
    /// How often a device sends.
    #[schema(minimum = 1, maximum = 31_536_000, example = 600.0)]
    pub interval_s: f64,
    /// How far around each site it is computed.
    #[schema(minimum = 100, maximum = 150_000, example = 12_000.0)]
    pub radius_m: f64,
    /// The side of a cell.
    #[schema(minimum = 5, maximum = 10_000, example = 50.0)]
    pub cell_m: f64,
    /// What else is on the air.
    #[schema(max_items = 6)]
    pub load: Vec<Load>,
    /// The calibration of the model that is taken into account, by its name.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[schema(example = "autumn")]
    pub calibration: Option<String>,
}

impl Default for NewForecast {
    fn default() -> Self {
        Self {
            name: String::new(),
            sites: Vec::new(),
            receiver: "outdoors".into(),
            model: PathModel::default(),
            time_percent: 50.0,
            places_percent: 50.0,
            region: Region::Eu868,
            frequency_mhz: None,
            reliability: 0.9,
            shadowing_db: 6.0,
            payload_bytes: 20,
            interval_s: 600.0,
            radius_m: 12_000.0,
            cell_m: 50.0,
            load: Vec::new(),
            calibration: None,
        }
    }
}

/// Where a forecast stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum ForecastState {
    /// Others are before it.
    Waiting,
    /// It is computed; the sites that are done can be seen.
    Running,
    /// It is whole.
    Done,
    /// It could not be computed.
    Failed,
    /// Somebody stopped it; the sites that were done can be seen.
    Cancelled,
}

impl ForecastState {
    /// As it is stored and shown.
    pub const fn name(self) -> &'static str {
        match self {
            Self::Waiting => "waiting",
            Self::Running => "running",
            Self::Done => "done",
            Self::Failed => "failed",
            Self::Cancelled => "cancelled",
        }
    }

    /// Whether nothing more comes.
    pub const fn has_ended(self) -> bool {
        !matches!(self, Self::Waiting | Self::Running)
    }
}

/// A forecast.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Forecast {
    /// Its name for programs.
    pub id: String,
    /// What was asked for.
    pub wanted: NewForecast,
    /// The sites as they were then, in the order of their numbers.
    pub sites: Vec<Site>,
    /// The receiver as it was then.
    pub receiver: ReceiverRadio,
    /// The calibration as it was then.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub calibration: Option<Calibration>,
    /// Where it stands.
    pub state: ForecastState,
    /// Sites that are done.
    pub sites_done: u32,
    /// The sites that are not done can be seen as well, in cells that are eight times as large.
    #[serde(default)]
    pub coarse: bool,
    /// How much of it is done, in percent.
    #[schema(minimum = 0, maximum = 100)]
    pub percent: u8,
    /// Sites whose losses were known from an earlier forecast.
    pub sites_reused: u32,
    /// Why it failed, or what is to be known of it.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub note: String,
    /// The edition of the ground that it was computed from; empty before that.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub ground: String,
    /// The estate's ground has changed since: make the forecast again to see it on the present one.
    #[serde(default)]
    pub ground_changed: bool,
    /// The box that it covers.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub extent: Option<GroundExtent>,
    /// Its figures, once it is whole.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub figures: Option<Figures>,
    /// Who asked for it.
    pub begun_by: String,
    /// When.
    #[serde(with = "crate::millis")]
    pub begun_at: DateTime<Utc>,
    /// When it ended.
    #[serde(with = "crate::millis_option")]
    pub ended_at: Option<DateTime<Utc>>,
}

impl Forecast {
    /// One that waits to be computed.
    pub fn waiting(
        id: String,
        wanted: NewForecast,
        (sites, receiver): (Vec<Site>, ReceiverRadio),
        begun_by: String,
        begun_at: DateTime<Utc>,
    ) -> Self {
        Self {
            id,
            wanted,
            sites,
            receiver,
            calibration: None,
            state: ForecastState::Waiting,
            sites_done: 0,
            coarse: false,
            percent: 0,
            sites_reused: 0,
            note: String::new(),
            ground: String::new(),
            ground_changed: false,
            extent: None,
            figures: None,
            begun_by,
            begun_at,
            ended_at: None,
        }
    }
}

/// An amount of area and of devices.
#[derive(Debug, Clone, Copy, Default, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Amount {
    /// Of area.
    pub area_km2: f64,
    /// Of devices with a place.
    pub devices: u32,
}

/// The figures of a forecast.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Figures {
    /// All that was computed.
    pub computed: Amount,
    /// What at least one site hears, with the margin kept.
    pub covered: Amount,
    /// By the best data rate, slowest first.
    pub by_data_rate: Vec<RateAmount>,
    /// By how many sites hear it.
    pub by_gateways: Vec<GatewaysAmount>,
    /// What only one site hears: lost when it fails.
    pub lost_with: Vec<SiteAmount>,
}

/// What has this best data rate.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct RateAmount {
    /// The data rate.
    pub data_rate: u8,
    /// How much.
    pub amount: Amount,
}

/// What this many sites hear.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct GatewaysAmount {
    /// How many sites.
    pub gateways: u16,
    /// How much.
    pub amount: Amount,
}

/// What only this site hears.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct SiteAmount {
    /// The site.
    pub site: String,
    /// How much.
    pub amount: Amount,
}

/// What is heard by at least one site, and by at least two.
#[derive(Debug, Clone, Copy, Default, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct HeardAmount {
    /// By at least one.
    pub once: Amount,
    /// By at least two, so that it is still heard when one fails.
    pub twice: Amount,
}

/// A site with what it is worth.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct SiteWorth {
    /// The site.
    pub site: String,
    /// What is heard more with it than without.
    pub more: HeardAmount,
}

/// Which site next, and which could go.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Ranking {
    /// The sites that are taken to be there: the gateways among the forecast's sites, or those that were named.
    pub base: Vec<String>,
    /// What they hear.
    pub heard: HeardAmount,
    /// What each other site of the forecast would add, the best first: devices count before area, and what is heard at all before
    /// what is heard twice.
    pub add: Vec<SiteWorth>,
    /// What would be lost without each of them, the one that could go first.
    pub remove: Vec<SiteWorth>,
}

/// From which sites a ranking starts.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub struct RankingQuestion {
    /// Sites that are taken to be there, separated by commas; the gateways if not given.
    #[param(example = "chapel-rise,gull-tower")]
    pub base: Option<String>,
}

/// One quantity of a forecast, drawn over the area.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Layer {
    /// Above the sensitivity of the slowest data rate, the fade margin taken off, in dB.
    #[default]
    Margin,
    /// The fastest data rate that works.
    DataRate,
    /// The site that hears best.
    BestSite,
    /// How many sites hear it.
    InReach,
    /// What the best site receives, in dBm.
    Uplink,
    /// What the device receives from it, in dBm.
    Downlink,
    /// Signal over noise, in dB.
    Snr,
    /// Signal over noise and the load's interference, in dB.
    Snir,
    /// Airtime of a message, in ms.
    Airtime,
    /// The share of places that are heard, 0 to 1.
    Reliability,
}

/// A layer's legend.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct LayerLegend {
    /// The layer.
    pub layer: Layer,
    /// What it is.
    #[schema(example = "best data rate")]
    pub title: String,
    /// Its unit; empty if it has none.
    #[schema(example = "dB")]
    pub unit: String,
    /// Its classes, from much to little.
    pub classes: Vec<LegendClass>,
}

/// A class of a legend.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct LegendClass {
    /// Its colour.
    #[schema(example = "#247c7c", pattern = "^#[0-9a-f]{6}$")]
    pub colour: String,
    /// What it stands for.
    #[schema(example = "30 dB or more")]
    pub words: String,
}

/// All layers of a forecast.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Legends {
    /// The layers, those that are looked at most first.
    pub layers: Vec<LayerLegend>,
}

/// Which tile is wanted.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub struct LayerQuestion {
    /// The layer; `margin` if not given.
    #[param(inline)]
    pub layer: Option<Layer>,
    /// How many sites were done when it was asked for: so that a browser does not keep an unfinished tile.
    pub sites_done: Option<u32>,
}

/// A place that is asked about.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub struct PlaceQuestion {
    /// Latitude in degrees (WGS 84), north positive.
    #[param(minimum = -90, maximum = 90, example = 54.689)]
    pub latitude_deg: f64,
    /// Longitude in degrees (WGS 84), east positive.
    #[param(minimum = -180, maximum = 180, example = 3.942)]
    pub longitude_deg: f64,
}

/// What a forecast says of a place.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct PlaceForecast {
    /// The layers that have a value there.
    pub values: Vec<LayerValue>,
    /// The link to each site, the strongest first. Each is computed along its own path, so that it may differ from the cell a
    /// little.
    pub links: Vec<Link>,
}

/// A layer's value.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct LayerValue {
    /// The layer.
    pub layer: Layer,
    /// The value.
    pub value: f64,
    /// The value in words.
    #[schema(example = "12.4 dB")]
    pub words: String,
}
