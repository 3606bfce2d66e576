//! The health of the service.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// The state of one part of the service.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum PartState {
    /// It works.
    Ok,
    /// It is impaired, but nothing is lost and everything is served.
    Degraded,
    /// It does not work.
    Failing,
}

/// One part of the service.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct HealthPart {
    /// `database`, `commits`, `journal`, `engine`, `gateways`, `decoders` or `clock`.
    pub part: String,
    /// Its state.
    pub state: PartState,
    /// How long it has been in this state, or how long ago it last worked.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub age_s: Option<f64>,
    /// In words.
    pub what: String,
}

/// Whether the service is up, and frames become durable.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Health {
    /// The worst of the parts: `ok`, `degraded` or `failing`. With `failing`, frames do not become durable.
    pub status: PartState,
    /// The service's version.
    pub version: String,
    /// Its parts.
    pub parts: Vec<HealthPart>,
}
