//! Gateway events: connections, rejections, restarts, changes.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::gateway::GatewayState;

/// The kind of an event.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum GatewayEventKind {
    /// It connected, or connects from another address.
    Connected,
    /// Its connection ended.
    Disconnected,
    /// It called and was rejected.
    Refused,
    /// It restarted.
    Restarted,
    /// It, or its credentials, were registered or changed.
    Changed,
    /// Its state changed.
    State,
    /// Something is odd.
    Odd,
}

impl GatewayEventKind {
    /// In words.
    pub const fn label(self) -> &'static str {
        match self {
            Self::Connected => "connected",
            Self::Disconnected => "disconnected",
            Self::Refused => "refused",
            Self::Restarted => "restarted",
            Self::Changed => "changed",
            Self::State => "state",
            Self::Odd => "odd",
        }
    }
}

/// A gateway event.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct GatewayEvent {
    /// Its identifier; later ones sort after earlier ones.
    pub id: String,
    /// When.
    #[serde(with = "crate::millis")]
    pub time: DateTime<Utc>,
    /// Of what kind.
    pub kind: GatewayEventKind,
    /// What happened, and why.
    pub text: String,
    /// What to do about it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub next: Option<String>,
    /// From where the gateway called.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub address: Option<String>,
    /// The new state.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub state: Option<GatewayState>,
}
