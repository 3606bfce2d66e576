//! What gateways prove themselves by.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What a credential is for.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Purpose {
    /// To carry frames, by the WebSocket LNS protocol.
    #[default]
    Traffic,
    /// To ask over CUPS for new addresses, credentials and firmware.
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

/// Of what kind a credential is.
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

/// Whether a credential opens the door.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum CredentialState {
    /// It does.
    Good,
    /// It does, but not for long.
    Expiring,
    /// Its time is over.
    Expired,
    /// Somebody took it back.
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
    /// Of what kind it is.
    pub kind: CredentialKind,
    /// When it was made.
    #[serde(with = "crate::millis")]
    pub added_at: DateTime<Utc>,
    /// When it ends.
    #[serde(with = "crate::millis")]
    pub expires_at: DateTime<Utc>,
    /// When it last opened the door.
    #[serde(with = "crate::millis_option")]
    pub last_used: Option<DateTime<Utc>>,
    /// When it was taken back.
    #[serde(with = "crate::millis_option")]
    pub revoked_at: Option<DateTime<Utc>>,
    /// Whether the gateway is given another one when it next asks over CUPS.
    pub replace_asked: bool,
}

/// A credential to make.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct NewCredential {
    /// What it is to be for; traffic if not given.
    #[serde(default)]
    pub purpose: Purpose,
    /// Of what kind; a token if not given.
    #[serde(default)]
    pub kind: CredentialKind,
    /// For how many days, 1 to 3650; 730 if not given.
    #[serde(default)]
    pub days: Option<u16>,
}

/// A credential just made. Its secret is shown here and nowhere else.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct IssuedCredential {
    /// What is on record of it.
    pub credential: GatewayCredential,
    /// The token, to be sent as `Authorization: Bearer …`.
    pub token: Option<String>,
    /// The certificate, PEM.
    pub certificate_pem: Option<String>,
    /// Its key, PEM.
    pub key_pem: Option<String>,
    /// The authority the gateway is to trust, PEM.
    pub trust_pem: String,
}

/// What a connection kit is to hold. A kit holds new credentials: those made before cannot be read again.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct KitOrder {
    /// By what the gateway is to prove itself; a token if not given. Gateways that call by UDP prove nothing.
    #[serde(default)]
    pub kind: CredentialKind,
    /// Let the gateway fetch its credentials for traffic, and all later changes, over CUPS.
    #[serde(default)]
    pub updates: bool,
    /// For how many days the credentials are good, 1 to 3650; 730 if not given.
    #[serde(default)]
    pub days: Option<u16>,
}

/// A credential that ends soon or has ended, with its gateway.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct EndingCredential {
    /// Whose it is.
    #[schema(value_type = String, example = "0210203040506070")]
    pub gateway: lorawan::Eui64,
    /// The gateway's name.
    pub name: String,
    /// The credential.
    pub credential: GatewayCredential,
    /// Whether the gateway renews it by itself, over CUPS.
    pub renews_itself: bool,
}

/// What ends soon.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Endings {
    /// When the service's own certificate ends.
    #[serde(with = "crate::millis")]
    pub server_expires_at: DateTime<Utc>,
    /// Whether the service renews it by itself.
    pub server_renews_itself: bool,
    /// When the authority ends that gateways trust.
    #[serde(with = "crate::millis")]
    pub authority_expires_at: DateTime<Utc>,
    /// Credentials of the estate's gateways that end within 30 days or have ended, the first to end first. One that
    /// has a successor in use is left out.
    pub credentials: Vec<EndingCredential>,
}
