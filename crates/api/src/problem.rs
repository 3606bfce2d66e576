//! Errors as RFC 9457 problem details.

use std::fmt;

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What went wrong, for people and for programs (RFC 9457).
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Problem {
    /// `about:blank`: the code says all there is to say.
    #[serde(rename = "type")]
    pub kind: String,
    /// A short sentence.
    pub title: String,
    /// The HTTP status.
    pub status: u16,
    /// A stable code for programs.
    pub code: String,
    /// The particulars, with the value and what is allowed.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub detail: Option<String>,
    /// The field it is about.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub field: Option<String>,
    /// What could be meant instead, the likeliest first.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub offers: Vec<String>,
    /// Seconds until another try may work, if that is known.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub retry_after_s: Option<u32>,
}

impl Problem {
    /// A problem without detail.
    pub fn new(status: u16, code: &str, title: impl Into<String>) -> Self {
        let (kind, title, code) = ("about:blank".into(), title.into(), code.into());
        Self { kind, title, status, code, detail: None, field: None, offers: Vec::new(), retry_after_s: None }
    }

    /// Adds the particulars.
    #[must_use]
    pub fn detail(mut self, detail: impl Into<String>) -> Self {
        self.detail = Some(detail.into());
        self
    }

    /// Adds the field it is about.
    #[must_use]
    pub fn field(mut self, field: &str) -> Self {
        self.field = Some(field.into());
        self
    }
}

impl fmt::Display for Problem {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if let Some(field) = &self.field {
            write!(f, "{field}: ")?;
        }
        f.write_str(&self.title)?;
        match &self.detail {
            Some(detail) => write!(f, ": {detail}"),
            None => Ok(()),
        }
    }
}

impl std::error::Error for Problem {}

/// A field that cannot be what was entered.
pub fn bad_field(field: &str, value: &str, allowed: impl fmt::Display) -> Problem {
    let shown: String = value.chars().take(80).collect();
    Problem::new(422, "bad_field", "This value cannot be used")
        .field(field)
        .detail(format!("{shown:?} was given; {allowed}"))
}
