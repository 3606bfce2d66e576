//! Importing gateways from CSV.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::problem::Problem;

/// A file of gateways.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct GatewayImport {
    /// The file's text: a line of column names, then a gateway a line. Columns are those of a gateway's registration;
    /// their order, case and blanks do not matter; separated by commas, semicolons or tabs.
    pub csv: String,
    /// Register the good rows even if others are not. If not given, all or none.
    #[serde(default)]
    pub skip_bad: bool,
    /// Only preview the result for each row.
    #[serde(default)]
    pub preview: bool,
}

/// The result for a row.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Fate {
    /// It will be registered, as far as one can tell.
    Ready,
    /// It was registered.
    Registered,
    /// It cannot be registered.
    Bad,
    /// It was not registered, because others failed.
    Held,
}

impl Fate {
    /// In words.
    pub const fn label(self) -> &'static str {
        match self {
            Self::Ready => "will be registered",
            Self::Registered => "registered",
            Self::Bad => "cannot be registered",
            Self::Held => "held back",
        }
    }
}

/// A row and its result.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct ImportedRow {
    /// Its line in the file, the column names being line 1.
    pub line: u64,
    /// The EUI as it was understood, or as it was written if it was not.
    pub eui: String,
    /// The name.
    pub name: String,
    /// The result.
    pub fate: Fate,
    /// Why it cannot be registered.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub problem: Option<Problem>,
}

/// The result of importing a file.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct ImportOutcome {
    /// Row by row.
    pub rows: Vec<ImportedRow>,
    /// How many were registered.
    pub registered: usize,
    /// How many cannot be.
    pub bad: usize,
}
