//! Work that takes a while.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::problem::Problem;

/// Uplinks of a time to decode anew, with the decoders in force when the work begins.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct DecodeAnew {
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

impl DecodeAnew {
    /// From and until, checked.
    ///
    /// # Errors
    /// If it ends before it begins.
    pub fn check(&self, now: DateTime<Utc>) -> Result<(DateTime<Utc>, DateTime<Utc>), Problem> {
        crate::history::span(self.from, self.until.unwrap_or(now).min(now))
    }
}

/// Where a job stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum JobState {
    /// It is being worked on; nothing has changed yet.
    Running,
    /// All of it has taken the place of what was before.
    Done,
    /// It ended, and nothing has changed.
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

/// Work that takes a while.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Job {
    /// Its name.
    pub id: String,
    /// What is to be done.
    pub wanted: DecodeAnew,
    /// Where it stands.
    pub state: JobState,
    /// Uplinks decoded so far.
    pub done: u32,
    /// Uplinks in all.
    pub total: u32,
    /// Those that could not be read.
    pub failed: u32,
    /// What is to be said of it.
    pub note: String,
    /// Who wants it.
    pub begun_by: String,
    /// Since when.
    #[serde(with = "crate::millis")]
    pub begun_at: DateTime<Utc>,
    /// When it ended.
    #[serde(with = "crate::millis_option")]
    pub ended_at: Option<DateTime<Utc>>,
}

#[cfg(test)]
mod tests {
    use chrono::TimeDelta;

    use super::*;

    #[test]
    fn history_is_decoded_up_to_now_at_most() {
        let now = Utc::now();
        let wanted = |from: i64, until: Option<i64>| DecodeAnew {
            model: "tg2".into(),
            device: None,
            from: now + TimeDelta::hours(from),
            until: until.map(|hours| now + TimeDelta::hours(hours)),
        };
        let (from, until) = (now - TimeDelta::hours(2), now);
        assert_eq!(wanted(-2, None).check(now), Ok((from, until)));
        assert_eq!(wanted(-2, Some(5)).check(now), Ok((from, until)), "what is to come has a decoder already");
        assert_eq!(wanted(-2, Some(-1)).check(now), Ok((from, now - TimeDelta::hours(1))));
        for wrong in [wanted(-2, Some(-3)), wanted(1, None), wanted(-24 * 9000, None)] {
            assert_eq!(wrong.check(now).unwrap_err().field.as_deref(), Some("from"));
        }
    }

    #[test]
    fn states_read_back_by_their_names() {
        for state in [JobState::Running, JobState::Done, JobState::Failed, JobState::Cancelled] {
            assert_eq!(serde_json::to_value(state).unwrap(), state.name());
        }
    }
}
