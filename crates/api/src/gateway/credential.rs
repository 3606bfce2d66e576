//! Gateways' credentials.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::secret::Secret;

/// What a credential is for.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Purpose {
    /// To carry frames.
    #[default]
    Traffic,
    /// To ask for new addresses, credentials and firmware.
    Updates,
}

impl Purpose {
    /// As it is written.
    pub const fn name(self) -> &'static str {
        match self {
            Self::Traffic => "traffic",
            Self::Updates => "updates",
        }
    }
}

/// The kind of a credential.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum CredentialKind {
    /// A secret text, sent with each request.
    #[default]
    Token,
    /// A certificate of the service's own authority, with its key.
    Certificate,
}

impl CredentialKind {
    /// As it is written.
    pub const fn name(self) -> &'static str {
        match self {
            Self::Token => "token",
            Self::Certificate => "certificate",
        }
    }
}

/// A credential's validity.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum CredentialState {
    /// Valid.
    Good,
    /// Valid, but it expires soon.
    Expiring,
    /// Expired.
    Expired,
    /// Revoked.
    Revoked,
}

impl CredentialState {
    /// In words.
    pub const fn label(self) -> &'static str {
        match self {
            Self::Good => "good",
            Self::Expiring => "expires soon",
            Self::Expired => "expired",
            Self::Revoked => "revoked",
        }
    }
}

/// A gateway's credential; its secret was shown once, when it was made.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct GatewayCredential {
    /// Names it.
    pub id: String,
    /// What it is for.
    pub purpose: Purpose,
    /// Its kind.
    pub kind: CredentialKind,
    /// When it was made.
    #[serde(with = "crate::millis")]
    pub added_at: DateTime<Utc>,
    /// When it ends.
    #[serde(with = "crate::millis")]
    pub expires_at: DateTime<Utc>,
    /// When it was last used.
    #[serde(with = "crate::millis_option")]
    pub last_used: Option<DateTime<Utc>>,
    /// When it was revoked.
    #[serde(with = "crate::millis_option")]
    pub revoked_at: Option<DateTime<Utc>>,
    /// Whether the gateway is given another one when it next asks for updates.
    pub replace_asked: bool,
}

/// A credential to make.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct NewCredential {
    /// What it is to be for; traffic if not given.
    #[serde(default)]
    pub purpose: Purpose,
    /// Its kind; a token if not given.
    #[serde(default)]
    pub kind: CredentialKind,
    /// Days that it is valid, 1 to 3650; 730 if not given.
    #[serde(default)]
    #[schema(minimum = 1, maximum = 3_650)]
    pub days: Option<u16>,
}

/// A credential just made. Its secret is shown here and nowhere else.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct IssuedCredential {
    /// Its record.
    pub credential: GatewayCredential,
    /// The token, to be sent as `Authorization: Bearer …`.
    pub token: Option<Secret>,
    /// The certificate, PEM.
    pub certificate_pem: Option<String>,
    /// Its key, PEM.
    pub key_pem: Option<Secret>,
    /// The authority the gateway is to trust, PEM.
    pub trust_pem: String,
}

/// A connection kit to make. A kit has new credentials: earlier ones cannot be read again.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct KitOrder {
    /// The kind of credential; a token if not given. Gateways with UDP have none.
    #[serde(default)]
    pub kind: CredentialKind,
    /// Let the gateway fetch its credentials for traffic, and all later changes, by itself.
    #[serde(default)]
    pub updates: bool,
    /// Days that the credentials are valid, 1 to 3650; 730 if not given.
    #[serde(default)]
    #[schema(minimum = 1, maximum = 3_650)]
    pub days: Option<u16>,
}

/// A credential that expires soon or has expired, with its gateway.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct EndingCredential {
    /// The gateway.
    #[schema(value_type = String, example = "0210203040506070")]
    pub gateway: lorawan::Eui64,
    /// The gateway's name.
    pub name: String,
    /// The credential.
    pub credential: GatewayCredential,
    /// Whether the gateway renews it itself.
    pub renews_itself: bool,
}

/// What expires soon.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Endings {
    /// When the service's own certificate ends.
    #[serde(with = "crate::millis")]
    pub server_expires_at: DateTime<Utc>,
    /// Whether the service renews it itself.
    pub server_renews_itself: bool,
    /// When the authority ends that gateways trust.
    #[serde(with = "crate::millis")]
    pub authority_expires_at: DateTime<Utc>,
    /// Credentials of the estate's gateways that end within 30 days or have ended, the first to end first. One that
    /// has a successor in use is left out.
    pub credentials: Vec<EndingCredential>,
}
