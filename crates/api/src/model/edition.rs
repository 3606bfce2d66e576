//! Editions: a model each time it was saved.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::model::PutModel;

/// A model as it was saved once.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Edition {
    /// Counted from 1 for each model; the last is current.
    pub number: u32,
    /// Who saved it.
    pub saved_by: String,
    /// When.
    #[serde(with = "crate::millis")]
    pub saved_at: DateTime<Utc>,
    /// The reason.
    pub note: String,
    /// Why its decoder was not used.
    pub flaw: Option<String>,
    /// In which fields it differs from the edition before.
    pub changed: Vec<String>,
}

/// An edition with the model itself.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct WholeEdition {
    /// Its summary.
    #[serde(flatten)]
    pub edition: Edition,
    /// The model.
    pub about: PutModel,
}

/// How two editions differ.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Comparison {
    /// The older, by number.
    pub from: u32,
    /// The newer.
    pub to: u32,
    /// What is different.
    pub parts: Vec<ComparedPart>,
}

/// A part of a model that is different.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct ComparedPart {
    /// A field of the model.
    #[schema(example = "decoder")]
    pub field: String,
    /// Its lines, with some around each change.
    pub lines: Vec<ComparedLine>,
}

/// A line of a comparison.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ComparedLine {
    /// The kind of line.
    pub change: LineChange,
    /// Its number in the older, from 1.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub old: Option<usize>,
    /// Its number in the newer.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub new: Option<usize>,
    /// The line.
    pub text: String,
}

/// The kind of a line in a comparison.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum LineChange {
    /// It is in both.
    Stays,
    /// Only in the newer.
    Added,
    /// Only in the older.
    Removed,
    /// Lines that are in both and not shown.
    Skipped,
}
