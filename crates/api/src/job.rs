//! Jobs that take a while.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Uplinks of a period to decode again, with the decoders that are current when the job begins.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Redecode {
    /// The model whose devices they are of.
    pub model: String,
    /// Only this device: its DevEUI.
    #[serde(default)]
    pub device: Option<String>,
    /// From when on.
    pub from: DateTime<Utc>,
    /// Until when; the moment it begins if not given.
    #[serde(default)]
    pub until: Option<DateTime<Utc>>,
}

/// A job's state.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum JobState {
    /// It is being worked on; nothing has changed yet.
    Running,
    /// It has replaced the earlier results.
    Done,
    /// It failed, and nothing has changed.
    Failed,
    /// Somebody stopped it, and nothing has changed.
    Cancelled,
}

impl JobState {
    /// As it is stored and shown.
    pub const fn name(self) -> &'static str {
        match self {
            Self::Running => "running",
            Self::Done => "done",
            Self::Failed => "failed",
            Self::Cancelled => "cancelled",
        }
    }
}

/// A job.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Job {
    /// Its name.
    pub id: String,
    /// The request.
    pub wanted: Redecode,
    /// Its state.
    pub state: JobState,
    /// Uplinks decoded so far.
    pub done: u32,
    /// Uplinks in all.
    pub total: u32,
    /// Those that could not be read.
    pub failed: u32,
    /// A note.
    pub note: String,
    /// Who started it.
    pub begun_by: String,
    /// Since when.
    #[serde(with = "crate::millis")]
    pub begun_at: DateTime<Utc>,
    /// When it ended.
    #[serde(with = "crate::millis_option")]
    pub ended_at: Option<DateTime<Utc>>,
}
