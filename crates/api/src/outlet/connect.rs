//! How another system is connected.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// How another system gets messages: what is to be set on its side, and lines that work.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Connecting {
    /// What is to be set on the other side.
    pub settings: Vec<ConnectSetting>,
    /// Commands and programs that can be copied as they are. Secrets are read from the environment.
    pub snippets: Vec<Snippet>,
    /// Whether a token is needed; the right `view` for the fleet is enough.
    pub needs_token: bool,
    /// The latest message, as it would be sent; none if there is none yet.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub sample: Option<String>,
}

/// A setting of the other side.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ConnectSetting {
    /// What it is.
    #[schema(example = "topic")]
    pub name: String,
    /// Its value.
    #[schema(example = "quay/+/+")]
    pub value: String,
}

/// In what language a snippet is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum SnippetLanguage {
    /// A line for a shell.
    Shell,
    /// Python 3.
    Python,
    /// JavaScript for Node.js.
    Javascript,
}

/// Something to copy.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Snippet {
    /// What it does.
    pub title: String,
    /// Its language.
    pub language: SnippetLanguage,
    /// The text.
    pub text: String,
}
