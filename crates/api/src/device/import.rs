//! Importing and exporting devices as CSV.

use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

use crate::gateway::import::ImportOutcome;

/// How a file of devices is taken, and what holds for rows that do not say otherwise.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, IntoParams, ToSchema)]
#[into_params(parameter_in = Query)]
#[serde(default, deny_unknown_fields)]
pub struct ImportOptions {
    /// Only say what would become of each row.
    pub preview: bool,
    /// Register the good rows even if others are not. If not given, all or none.
    pub skip_bad: bool,
    /// The fleet of rows that name none.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub fleet: Option<String>,
    /// The model of rows that name none.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub model: Option<String>,
    /// The radio profile of rows that name none.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub profile: Option<String>,
    /// The JoinEUI of rows that name none.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub join_eui: Option<String>,
}

/// What became of a file of devices.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct DeviceImportOutcome {
    /// Row by row, and how many.
    #[serde(flatten)]
    pub outcome: ImportOutcome,
    /// What was assumed of the file, and what could be a mistake though it is allowed, with the line.
    pub notes: Vec<String>,
}

/// How far an import has come.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ImportProgress {
    /// Devices written down so far. If one of the others cannot be, it comes to nothing.
    pub done: usize,
    /// Devices in all.
    pub of: usize,
}
