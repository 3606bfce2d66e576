//! Importing catalogues of models.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::problem::Problem;

/// The result of an import for one model.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum ModelFate {
    /// New.
    New,
    /// Changed.
    Updated,
    /// Unchanged.
    Same,
    /// Invalid in the catalogue; the present model stays.
    Bad,
    /// A model with its short name did not come from this catalogue; it stays.
    Taken,
    /// It came from this catalogue, which does not have it any more; it stays.
    Gone,
}

impl ModelFate {
    /// For people.
    pub const fn label(self) -> &'static str {
        match self {
            ModelFate::New => "new",
            ModelFate::Updated => "updated",
            ModelFate::Same => "the same",
            ModelFate::Bad => "not usable",
            ModelFate::Taken => "name taken",
            ModelFate::Gone => "gone there",
        }
    }
}

/// The result for one model, or its preview.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct ModelOutcome {
    /// Its short name.
    pub slug: String,
    /// Maker and name.
    pub name: String,
    /// The result.
    pub fate: ModelFate,
    /// What is different, by field.
    pub changed: Vec<String>,
    /// Fields edited here that stay, although the catalogue differs.
    pub kept: Vec<String>,
    /// Why its decoder will not be used: it does not load, or fails one of its own tests.
    pub flaw: Option<String>,
    /// What is wrong with its files.
    pub problem: Option<Problem>,
}

/// The result of an import, or its preview.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct CatalogueOutcome {
    /// Where it is from.
    pub source: String,
    /// The commit it is at, if it is a git repository.
    pub revision: Option<String>,
    /// Its models.
    pub models: Vec<ModelOutcome>,
    /// Whether it was stored.
    pub done: bool,
}

/// The origin of a catalogue.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum SourceKind {
    /// With the service.
    Shipped,
    /// As files that are sent in.
    Files,
    /// From a git repository.
    Git,
}

/// A catalogue that was imported.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct CatalogueSource {
    /// Where it is from: `shipped`, the name files were sent in under, or a repository's address.
    pub source: String,
    /// Its origin.
    pub kind: SourceKind,
    /// The commit it was at.
    pub revision: Option<String>,
    /// Models that are from it.
    pub models: u64,
    /// When it was last imported.
    #[serde(with = "crate::millis")]
    pub refreshed_at: DateTime<Utc>,
}

/// A git repository to import.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct GitCatalogue {
    /// Its address: https, http or git.
    #[schema(example = "https://example.org/models.git")]
    pub address: String,
    /// A branch or tag; the repository's default branch if not given.
    #[serde(default)]
    pub branch: Option<String>,
    /// Only preview the result for each model.
    #[serde(default)]
    pub preview: bool,
}

/// A catalogue to import again.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct RefreshCatalogue {
    /// Where it is from, as listed.
    pub source: String,
    /// Only preview the result for each model.
    #[serde(default)]
    pub preview: bool,
}
