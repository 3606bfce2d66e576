//! Access tokens: for programs, with rights of their own, never more than those of who made them.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::people::rights::{Right, Scope};

use crate::secret::Secret;

/// An access token's secret begins with this, so that a leaked one is recognized.
pub const PREFIX: &str = "khr_";

/// An access token, without its secret.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct AccessToken {
    /// Its identifier, for revoking it.
    pub id: u32,
    /// What it is for.
    pub name: String,
    /// Who made it.
    pub by: String,
    /// Its rights, as far as its maker still has them.
    pub rights: Vec<Right>,
    /// Its scope.
    pub scope: Scope,
    /// When it was made.
    #[serde(with = "crate::millis")]
    pub since: DateTime<Utc>,
    /// When it ends.
    #[serde(default, with = "crate::millis_option", skip_serializing_if = "Option::is_none")]
    pub expires_at: Option<DateTime<Utc>>,
    /// When it was used last, to some minutes.
    #[serde(default, with = "crate::millis_option", skip_serializing_if = "Option::is_none")]
    pub last_used: Option<DateTime<Utc>>,
    /// From where.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub last_from: Option<String>,
}

/// An access token to make.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewToken {
    /// What it is for.
    #[schema(example = "dashboard in the harbour office")]
    pub name: String,
    /// What it allows: view, send, devices, decoders, gateways, keys, audit.
    pub rights: Vec<Right>,
    /// Its scope; the whole estate if not given.
    #[serde(default)]
    pub scope: Option<Scope>,
    /// Days it is valid; without an end if not given.
    #[serde(default)]
    #[schema(minimum = 1, maximum = 3_660)]
    pub days: Option<u32>,
}

/// An access token that was just made.
#[derive(Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct MadeToken {
    /// The token.
    pub token: AccessToken,
    /// To be sent as `Authorization: Bearer …`. It is shown only now.
    pub secret: Secret,
}
