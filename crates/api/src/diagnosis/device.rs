//! A device's diagnosis: findings, reasons, and next steps.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::diagnosis::join::Condition;
use crate::message::Message;

/// The severity.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Weight {
    /// It does not work.
    Trouble,
    /// It needs attention.
    Attention,
    /// All is well.
    Fine,
}

/// A finding about a device.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Finding {
    /// The severity.
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

/// A device's findings and history.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct DeviceWhy {
    /// The findings, the most severe first.
    pub findings: Vec<Finding>,
    /// For a device that was never heard: the conditions to be heard, in order, with what is known of each.
    pub conditions: Vec<Condition>,
    /// Its history, newest first: joins, refusals, notices and downlinks.
    pub timeline: Vec<Message>,
}
