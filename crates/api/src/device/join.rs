//! Join-requests check by check, and devices that ask to join without being registered.

use chrono::{DateTime, Utc};
use lorawan::Eui64;
use lorawan::region::Region;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::heard::{HeardBy, Radio};

/// The result of a check.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Verdict {
    /// Passed.
    Passed,
    /// Not right, but the request was not refused for it.
    Doubtful,
    /// The request failed because of it.
    Failed,
    /// An earlier check failed.
    NotReached,
}

impl Verdict {
    /// A symbol for tables.
    pub const fn sign(self) -> char {
        match self {
            Verdict::Passed => '✓',
            Verdict::Doubtful => '?',
            Verdict::Failed => '✗',
            Verdict::NotReached => '·',
        }
    }
}

/// A check of a join-request.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct JoinCheck {
    /// The condition.
    #[schema(example = "its MIC matches the registered key")]
    pub what: String,
    /// The result.
    pub verdict: Verdict,
    /// What was found, where there is more to say.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub found: Option<String>,
}

/// A device that asks to join and is not registered.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct DeviceStranger {
    /// Its DevEUI, as received.
    #[schema(value_type = String)]
    pub dev_eui: Eui64,
    /// Its JoinEUI, as received.
    #[schema(value_type = String)]
    pub join_eui: Eui64,
    /// The region of the gateway that hears it best.
    #[schema(value_type = String)]
    pub region: Region,
    /// When its first request was heard, since the service started.
    #[serde(with = "crate::millis")]
    pub first_heard: DateTime<Utc>,
    /// When its last one was.
    #[serde(with = "crate::millis")]
    pub last_heard: DateTime<Utc>,
    /// How many were heard.
    pub requests: u64,
    /// How the last one was sent.
    pub radio: Radio,
    /// Who heard the last one, best first.
    pub heard_by: Vec<HeardBy>,
    /// The registered device it may be: its DevEUI differs by a likely copying mistake.
    pub resembles: Option<Resemblance>,
}

/// A registered device whose DevEUI is almost that of an unregistered one.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Resemblance {
    /// Its DevEUI, as registered.
    #[schema(value_type = String)]
    pub dev_eui: Eui64,
    /// Its name.
    pub name: String,
}
