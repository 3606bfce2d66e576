//! Forecasts held against the survey, and against one another.

use chrono::{DateTime, Utc};
use lorawan::Eui64;
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

use super::forecast::{Amount, Layer, LegendClass};

/// What a forecast is compared with.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct ComparisonQuestion {
    /// Another forecast, by its id; the survey if not given.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub with: Option<String>,
    /// With the survey: as this gateway heard it, by name or EUI; the best one if not given.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[param(example = "north-weir")]
    pub gateway: Option<String>,
    /// With the survey: only uplinks from this time on; of the last seven days if not given.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub since: Option<DateTime<Utc>>,
    /// With another forecast: the layer whose values are subtracted, one of decibels; `margin` if not given.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[param(inline)]
    pub layer: Option<Layer>,
}

/// A forecast held against the survey.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct SurveyComparison {
    /// Hexagons and gateways that were compared.
    pub compared: u32,
    /// Measured less forecast, in the middle.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub middle_db: Option<f64>,
    /// The standard deviation around it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub spread_db: Option<f64>,
    /// The middle of each gateway, where enough was compared.
    pub gateways: Vec<GatewayDifference>,
    /// Places that are at least 12 dB worse than forecast, the worst first: at most 100.
    pub worse: Vec<WorsePlace>,
    /// The classes of the difference map.
    pub legend: Vec<LegendClass>,
}

/// What a gateway hears, less what is forecast for it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct GatewayDifference {
    /// The gateway.
    #[schema(value_type = String)]
    pub gateway_eui: Eui64,
    /// Its name.
    pub gateway: String,
    /// The middle of measured less forecast.
    pub middle_db: f64,
}

/// Why a place may be worse than forecast.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum WorseCause {
    /// All that the gateway hears is weaker.
    Gateway,
    /// All that comes from this class of cover is weaker.
    Cover,
    /// Only here.
    Here,
}

/// A place that is much worse than forecast.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct WorsePlace {
    /// The latitude of the place.
    pub latitude_deg: f64,
    /// Its longitude.
    pub longitude_deg: f64,
    /// The gateway.
    pub gateway: String,
    /// Measured less forecast.
    pub difference_db: f64,
    /// Nothing was heard: the difference is this or more to the worse.
    pub unheard: bool,
    /// The likely cause.
    pub cause: WorseCause,
    /// It in words.
    pub words: String,
}

/// Two forecasts held against one another.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct ForecastComparison {
    /// What differs in what was asked for.
    pub parameters: Vec<ParameterDifference>,
    /// What this one covers and the other does not.
    pub gained: Amount,
    /// What the other covers and this one does not.
    pub lost: Amount,
    /// What both cover.
    pub both: Amount,
    /// The middle of this one less the other, where both have a value.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub middle_db: Option<f64>,
    /// The classes of the difference map.
    pub legend: Vec<LegendClass>,
}

/// A parameter that differs.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ParameterDifference {
    /// Its name.
    #[schema(example = "sites")]
    pub name: String,
    /// In this forecast.
    pub this: String,
    /// In the other.
    pub other: String,
}
