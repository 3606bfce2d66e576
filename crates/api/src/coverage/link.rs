//! Links between a device and sites: forecast and measured.

use lorawan::Eui64;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A link to one site, as it is computed along its path.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Link {
    /// The site.
    #[schema(example = "chapel-rise")]
    pub site: String,
    /// How far it is.
    pub distance_m: f64,
    /// From the site to the place, from north over east.
    pub bearing_deg: f64,
    /// What the site receives.
    pub uplink_dbm: f64,
    /// Its SNR in 125 kHz.
    pub uplink_snr_db: f64,
    /// What the device receives.
    pub downlink_dbm: f64,
    /// Above the sensitivity of the slowest data rate, the fade margin taken off.
    pub margin_db: f64,
    /// The fastest data rate that works; absent if none does.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub data_rate: Option<u8>,
    /// The loss, all of it.
    pub loss_db: f64,
    /// The loss, part by part.
    pub parts: Vec<LossPart>,
    /// What stands most in the way, in words.
    #[schema(example = "The line of sight is blocked: ground, 2.31 km from the gateway, rises 24.0 m above it.")]
    pub obstacle: String,
    /// Whether the line of sight is blocked.
    pub blocked: bool,
    /// The ground from the site to the place.
    pub profile: PathProfile,
}

/// A part of a loss.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct LossPart {
    /// What it comes from.
    #[schema(example = "diffraction")]
    pub what: String,
    /// How much; negative where it is gained.
    pub loss_db: f64,
}

/// The ground under a path, at most 400 points.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct PathProfile {
    /// Between two points.
    pub step_m: f64,
    /// The ground above the sea.
    pub ground_m: Vec<f32>,
    /// The cover on it.
    pub cover_m: Vec<f32>,
    /// How far the curved earth rises there above the line between the ends.
    pub bulge_m: Vec<f32>,
    /// The line between the antennas above the sea.
    pub line_m: Vec<f32>,
    /// The radius of the first Fresnel zone.
    pub fresnel_m: Vec<f32>,
}

/// What was measured of a device by a gateway.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Measured {
    /// The median of the signal strength.
    pub rssi_dbm: f64,
    /// The median of the SNR.
    pub snr_db: f64,
    /// Uplinks that this gateway heard.
    pub heard: u32,
    /// Uplinks that were looked at.
    pub of: u32,
}

/// A device and a gateway: what is forecast, what was measured, and by how much they differ.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct DeviceLink {
    /// The device.
    #[schema(value_type = String, example = "02bb00000000002a")]
    pub dev_eui: Eui64,
    /// Its name.
    pub device: String,
    /// The short name of its fleet.
    pub fleet: String,
    /// The gateway.
    #[schema(value_type = String, example = "0210203040506070")]
    pub gateway_eui: Eui64,
    /// Its name.
    pub gateway: String,
    /// How far it is.
    pub distance_m: f64,
    /// The forecast loss.
    pub loss_db: f64,
    /// What the forecast lets the gateway receive.
    pub forecast_dbm: f64,
    /// The forecast margin at the slowest data rate, the fade margin taken off.
    pub margin_db: f64,
    /// The fastest data rate that the forecast lets work; absent if none does.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub data_rate: Option<u8>,
    /// Whether the line of sight is blocked.
    pub blocked: bool,
    /// What was measured, if it was heard.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub measured: Option<Measured>,
    /// The signal as measured, the noise taken out of its RSSI, less the forecast.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub residual_db: Option<f64>,
    /// Whether this is the device's gateway by the criterion.
    pub assigned: bool,
}

/// By what a gateway is assigned to a device.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum AssignBy {
    /// The most margin in the forecast.
    #[default]
    Forecast,
    /// The strongest that was measured; by the forecast where nothing was.
    Measured,
    /// The nearest.
    Distance,
}

/// What the links of a device come to.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum CoverageVerdict {
    /// It has margin, and another gateway if the best fails.
    Good,
    /// It has margin, and is lost when its best gateway fails.
    OneGateway,
    /// It is weak, and the forecast says the same.
    WeakByNature,
    /// It is weak, and the forecast says that it should not be.
    WeakByFault,
    /// It is not heard, and the forecast says that it should be.
    NotHeard,
    /// It is out of reach in the forecast, and not heard.
    OutOfReach,
    /// Nothing was measured and nothing can be forecast.
    Unknown,
}

impl CoverageVerdict {
    /// In words.
    pub const fn label(self) -> &'static str {
        match self {
            Self::Good => "good",
            Self::OneGateway => "one gateway",
            Self::WeakByNature => "weak by nature",
            Self::WeakByFault => "weak by fault",
            Self::NotHeard => "not heard",
            Self::OutOfReach => "out of reach",
            Self::Unknown => "unknown",
        }
    }
}

/// The coverage of one device.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct DeviceCoverage {
    /// The device.
    #[schema(value_type = String, example = "02bb00000000002a")]
    pub dev_eui: Eui64,
    /// Its name.
    pub device: String,
    /// The short name of its fleet.
    pub fleet: String,
    /// What its links come to.
    pub verdict: CoverageVerdict,
    /// Why, and what to do, in words.
    pub words: String,
    /// Its margin at the data rate that it uses, as measured; absent if it was not heard.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub margin_db: Option<f64>,
    /// The gateway that hears it best.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub best: Option<String>,
    /// The next one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub second: Option<String>,
    /// The margin that is left when the best fails.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub margin_without_best_db: Option<f64>,
}
