//! How a device is doing: what stands out, why, and what to do.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::diagnosis::join::Condition;
use crate::message::Message;

/// How much something matters.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Weight {
    /// It does not work.
    Trouble,
    /// It should be looked at.
    Attention,
    /// As it should be.
    Fine,
}

/// Something found about a device.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Finding {
    /// How much it matters.
    pub weight: Weight,
    /// What it is about.
    #[schema(example = "join")]
    pub about: String,
    /// What was found.
    pub what: String,
    /// What to do; absent if nothing needs doing.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub next_step: Option<String>,
}

/// How a device is doing and how it came to that.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct DeviceWhy {
    /// What was found, what matters most first.
    pub findings: Vec<Finding>,
    /// What must be true before it is heard, in order, and what is known of each; for a device that was never heard.
    pub conditions: Vec<Condition>,
    /// What happened to it, newest first: joins, refusals, notices and downlinks.
    pub timeline: Vec<Message>,
}
