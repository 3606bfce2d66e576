//! Importing catalogues of models.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::problem::Problem;

/// What a catalogue comes to for one of its models.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum ModelFate {
    /// It was not there.
    New,
    /// Something of it is different.
    Updated,
    /// Nothing of it is.
    Same,
    /// It is of no use as it stands in the catalogue; what is here stays.
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

/// What becomes of one model, or would.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct ModelOutcome {
    /// Its short name.
    pub slug: String,
    /// Maker and name.
    pub name: String,
    /// What becomes of it.
    pub fate: ModelFate,
    /// What is different, by field.
    pub changed: Vec<String>,
    /// What was changed here and stays, though the catalogue has it otherwise.
    pub kept: Vec<String>,
    /// Why its decoder will not be used: it does not load, or fails one of its own tests.
    pub flaw: Option<String>,
    /// What is wrong with its files.
    pub problem: Option<Problem>,
}

/// What an import comes to, or has come to.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct CatalogueOutcome {
    /// Where it is from.
    pub source: String,
    /// The commit it is at, if it is a git repository.
    pub revision: Option<String>,
    /// Its models.
    pub models: Vec<ModelOutcome>,
    /// Whether it was written down.
    pub done: bool,
}

/// How a catalogue comes.
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
    /// How it comes.
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
    /// Only say what would become of each model.
    #[serde(default)]
    pub preview: bool,
}

/// A catalogue to import anew.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct RefreshCatalogue {
    /// Where it is from, as listed.
    pub source: String,
    /// Only say what would become of each model.
    #[serde(default)]
    pub preview: bool,
}
