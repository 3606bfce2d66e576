//! Signing in.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::fleet::Estate;

/// Name and password.
#[derive(Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct SignIn {
    /// The account's name.
    pub name: String,
    /// Its password.
    pub password: String,
}

/// Proof of a sign-in.
#[derive(Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct SignedIn {
    /// To be sent as `Authorization: Bearer …`. Browsers get it as a cookie as well.
    pub token: String,
    /// When it ends.
    #[serde(with = "crate::millis")]
    pub expires_at: DateTime<Utc>,
    /// Who signed in.
    pub me: Me,
}

/// The person signed in.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Me {
    /// The account's name.
    pub name: String,
    /// Estates the person belongs to.
    pub estates: Vec<Estate>,
}
