//! Which part of the history a redecoding job may cover.

use api::job::Redecode;
use api::problem::Problem;
use chrono::{DateTime, Utc};

/// From and until, checked.
///
/// # Errors
/// If it ends before it begins.
pub fn check(wanted: &Redecode, now: DateTime<Utc>) -> Result<(DateTime<Utc>, DateTime<Utc>), Problem> {
    crate::reading::chart::span(wanted.from, wanted.until.unwrap_or(now).min(now))
}

#[cfg(test)]
mod tests {
    use api::job::JobState;
    use chrono::TimeDelta;

    use super::*;

    #[test]
    fn history_is_decoded_up_to_now_at_most() {
        let now = Utc::now();
        let wanted = |from: i64, until: Option<i64>| Redecode {
            model: "tg2".into(),
            device: None,
            from: now + TimeDelta::hours(from),
            until: until.map(|hours| now + TimeDelta::hours(hours)),
        };
        let (from, until) = (now - TimeDelta::hours(2), now);
        assert_eq!(check(&wanted(-2, None), now), Ok((from, until)));
        assert_eq!(check(&wanted(-2, Some(5)), now), Ok((from, until)), "what is to come has a decoder already");
        assert_eq!(check(&wanted(-2, Some(-1)), now), Ok((from, now - TimeDelta::hours(1))));
        for wrong in [wanted(-2, Some(-3)), wanted(1, None), wanted(-24 * 9000, None)] {
            assert_eq!(check(&wrong, now).unwrap_err().field.as_deref(), Some("from"));
        }
    }

    #[test]
    fn states_read_back_by_their_names() {
        for state in [JobState::Running, JobState::Done, JobState::Failed, JobState::Cancelled] {
            assert_eq!(serde_json::to_value(state).unwrap(), state.name());
        }
    }
}
