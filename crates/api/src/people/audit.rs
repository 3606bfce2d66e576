//! The audit log: who did what, from where, and what it changed.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What kind of thing was done.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum AuditKind {
    /// Something was changed.
    Change,
    /// Somebody signed in or out, or failed to.
    Sign,
    /// Something was not allowed.
    Refusal,
    /// A secret was shown.
    Secret,
}

impl AuditKind {
    /// All of them.
    pub const ALL: [Self; 4] = [Self::Change, Self::Sign, Self::Refusal, Self::Secret];

    /// As written everywhere.
    pub const fn name(self) -> &'static str {
        match self {
            Self::Change => "change",
            Self::Sign => "sign",
            Self::Refusal => "refusal",
            Self::Secret => "secret",
        }
    }

    /// From what is stored.
    pub fn of_name(name: &str) -> Self {
        Self::ALL.into_iter().find(|kind| kind.name() == name).unwrap_or(Self::Change)
    }
}

/// One field that a change touched.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct AuditDifference {
    /// Which.
    pub field: String,
    /// What it was; nothing if it was not there.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub before: Option<serde_json::Value>,
    /// What it is.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub after: Option<serde_json::Value>,
}

/// An entry of the audit log.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct AuditEntry {
    /// Sorts by time.
    pub id: String,
    /// When.
    #[serde(with = "crate::millis")]
    pub time: DateTime<Utc>,
    /// What kind of thing.
    pub kind: AuditKind,
    /// Who: an account's name, or one that was given.
    pub who: String,
    /// The access token that was used, if it was one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub token: Option<String>,
    /// From where.
    pub address: String,
    /// What was done, as the interface names it.
    #[schema(example = "change_device")]
    pub action: String,
    /// To what.
    pub object: String,
    /// How it ended: an HTTP status.
    pub status: u16,
    /// Why it was refused, or what else is to be said.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub note: Option<String>,
    /// What it changed; of secrets only that they have changed.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub differences: Vec<AuditDifference>,
}

/// A page of the audit log.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct AuditPage {
    /// The entries, newest first.
    pub items: Vec<AuditEntry>,
    /// Pass this as `after` to get the next page; absent on the last.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub next: Option<String>,
    /// Days for which entries are kept.
    pub kept_days: u32,
    /// Whether the service's own database account can only add to the log.
    pub append_only: bool,
}
