//! Estates and fleets.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::people::rights::{Right, Role, Scope};

/// An estate: the boundary of an owner's people, gateways and fleets.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Estate {
    /// Its short name, used in addresses.
    #[schema(example = "tarnsey")]
    pub slug: String,
    /// Its name.
    pub name: String,
    /// The caller's role there; absent if only a part is shared with them.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub role: Option<Role>,
    /// The caller's rights there.
    pub rights: Vec<Right>,
    /// The parts that the rights cover; empty for all of it.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub only: Vec<Scope>,
}

impl Estate {
    /// The caller's role there, as text.
    pub fn role_label(&self) -> String {
        let parts: Vec<String> = self.only.iter().map(ToString::to_string).collect();
        match self.role {
            Some(role) if parts.is_empty() => role.to_string(),
            _ => parts.join(", "),
        }
    }
}

/// Devices with one purpose.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Fleet {
    /// The revision; send it as `If-Match` with a change, which is then refused if another change came first.
    #[serde(default)]
    pub revision: String,
    /// Its short name, used in addresses.
    #[schema(example = "tide-and-sluice")]
    pub slug: String,
    /// Its name.
    pub name: String,
    /// Devices in it.
    pub devices: u64,
    /// What its devices may use in any 24 hours.
    #[serde(flatten)]
    pub limits: FleetLimits,
    /// How long its history is kept.
    #[serde(default)]
    pub retention: FleetRetention,
    /// Whether it holds an AppKey that its devices ship with.
    pub has_default_key: bool,
    /// When it was made.
    #[serde(with = "crate::millis")]
    pub added_at: DateTime<Utc>,
}

/// Changes of a fleet: what is left out stays, and `null` takes it away.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ChangeFleet {
    /// Another short name. Messages that are stored keep the one they have.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub slug: Option<String>,
    /// Another name.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(max_length = 80)]
    pub name: Option<String>,
    /// Airtime of each device's uplinks in any 24 hours; `null` for no limit but the law's.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(minimum = 0.001, maximum = 86_400)]
    pub airtime_a_day_s: Option<f64>,
    /// Downlinks to each device in any 24 hours; `null` for no limit.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub downlinks_a_day: Option<u32>,
    /// How long its history is kept; what is older is removed within hours, and cannot be restored.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub retention: Option<FleetRetention>,
    /// The AppKey that its devices ship with, 32 hex digits; `null` takes it away, a blank one leaves it as it is. Devices
    /// that are registered keep what they have. It is not shown again.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub app_key: Option<String>,
}

/// The settings of a fleet that can be changed in part.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct FleetSettings {
    /// Its short name.
    pub slug: String,
    /// Its name.
    pub name: String,
    /// What its devices may use in any 24 hours.
    #[serde(flatten)]
    pub limits: FleetLimits,
    /// How long its history is kept.
    #[serde(default)]
    pub retention: FleetRetention,
}

impl From<&Fleet> for FleetSettings {
    fn from(fleet: &Fleet) -> Self {
        let Fleet { slug, name, limits, retention, .. } = fleet.clone();
        Self { slug, name, limits, retention }
    }
}

/// Limits of a fleet beyond the law, for each of its devices and any 24 hours.
#[derive(Debug, Clone, Copy, Default, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct FleetLimits {
    /// Airtime of uplinks.
    #[serde(default)]
    #[schema(minimum = 0.001, maximum = 86_400)]
    pub airtime_a_day_s: Option<f64>,
    /// Downlinks.
    #[serde(default)]
    pub downlinks_a_day: Option<u32>,
}

/// How long a fleet's history is kept; what has no number is kept for ever.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct FleetRetention {
    /// Days for which every value of a reading is kept.
    #[serde(default)]
    #[schema(minimum = 1, maximum = 36_500, example = 400)]
    pub values_days: Option<u32>,
    /// Days for which summaries of hours and days are kept.
    #[serde(default)]
    #[schema(minimum = 1, maximum = 36_500)]
    pub summaries_days: Option<u32>,
    /// Days for which messages are kept: frames as they were heard and sent.
    #[serde(default)]
    #[schema(minimum = 1, maximum = 36_500)]
    pub messages_days: Option<u32>,
}

/// A fleet to make.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct NewFleet {
    /// Its short name: lower-case letters, digits and dashes.
    #[schema(example = "tide-and-sluice")]
    pub slug: String,
    /// Its name; the short name if not given.
    #[serde(default)]
    #[schema(max_length = 80)]
    pub name: Option<String>,
    /// What its devices may use in any 24 hours.
    #[serde(flatten)]
    pub limits: FleetLimits,
}
