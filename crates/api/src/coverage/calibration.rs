//! Calibrations: what a survey shows of a path model, so that forecasts can take it into account.

use chrono::{DateTime, Utc};
use lorawan::Eui64;
use lorawan::region::Region;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::forecast::PathModel;

/// A calibration that is asked for.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewCalibration {
    /// Its name, which no other calibration of the estate has.
    #[schema(max_length = 80, example = "autumn")]
    pub name: String,
    /// The model that is calibrated.
    #[serde(default)]
    pub model: PathModel,
    /// The region, whose first frequency counts.
    #[serde(default = "eu868")]
    #[schema(value_type = String, example = "EU868")]
    pub region: Region,
    /// The share of the time for which its losses are not exceeded, in percent; of models that know it.
    #[serde(default = "half")]
    #[schema(minimum = 1, maximum = 99, example = 50.0)]
    pub time_percent: f64,
    /// The share of places for which they are not exceeded, in percent; of models that know it.
    #[serde(default = "half")]
    #[schema(minimum = 1, maximum = 99, example = 50.0)]
    pub places_percent: f64,
    /// Only on uplinks from this time on.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub since: Option<DateTime<Utc>>,
    /// Only on uplinks before this time.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub until: Option<DateTime<Utc>>,
}

fn eu868() -> Region {
    Region::Eu868
}

fn half() -> f64 {
    50.0
}

/// A path model calibrated on the survey.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Calibration {
    /// What was asked for.
    pub wanted: NewCalibration,
    /// By how much measured signals are stronger than the model says: negative if weaker.
    pub offset_db: f64,
    /// Beyond that, by gateway.
    pub by_gateway: Vec<GatewayCorrection>,
    /// Beyond that, by the class of cover that the device stands in.
    pub by_class: Vec<ClassCorrection>,
    /// Places and gateways that it stands on.
    pub points: u32,
    /// Of them, those where nothing was heard although it was listened.
    pub unheard: u32,
    /// The errors of the model as it is.
    pub before: ForecastErrors,
    /// The errors with the calibration, at places that it was not made from.
    pub after: ForecastErrors,
    /// Who made it.
    pub made_by: String,
    /// When.
    #[serde(with = "crate::millis")]
    pub made_at: DateTime<Utc>,
}

/// What one gateway is off by.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct GatewayCorrection {
    /// The gateway.
    #[schema(value_type = String)]
    pub gateway_eui: Eui64,
    /// Its name.
    pub gateway: String,
    /// By how much it receives more than the model says, beyond the common offset.
    pub offset_db: f64,
    /// Places that say so.
    pub points: u32,
}

/// What one class of cover is off by.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct ClassCorrection {
    /// Its number in the files of cover.
    pub class: u16,
    /// What it is.
    #[schema(example = "wood")]
    pub name: String,
    /// By how much is received from there more than the model says, beyond the common offset.
    pub offset_db: f64,
    /// Places that say so.
    pub points: u32,
}

/// How far forecasts are off.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct ForecastErrors {
    /// In the middle: measured less forecast.
    pub middle_db: f64,
    /// As a standard deviation around that.
    pub spread_db: f64,
    /// Nine of ten are off by no more than this.
    pub nine_of_ten_db: f64,
}
