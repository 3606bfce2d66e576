//! Importing and exporting devices as CSV.

use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

use crate::gateway::import::ImportOutcome;

/// A file of devices, with defaults for its rows.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, IntoParams, ToSchema)]
#[into_params(parameter_in = Query)]
#[serde(default, deny_unknown_fields)]
pub struct ImportOptions {
    /// Only preview the result for each row.
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

/// The result of importing a file of devices.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct DeviceImportOutcome {
    /// Row by row, and how many.
    #[serde(flatten)]
    pub outcome: ImportOutcome,
    /// Assumptions about the file, and warnings, with the line.
    pub notes: Vec<String>,
}

/// An import's progress.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ImportProgress {
    /// Devices stored so far. If one of the others fails, none stays.
    pub done: usize,
    /// Devices in all.
    pub of: usize,
}
