//! Times as people write them: RFC 3339, a date, or how long ago.

use std::str::FromStr;

use chrono::{DateTime, Days, Local, NaiveDate, NaiveDateTime, SecondsFormat, TimeDelta, TimeZone as _, Utc};

use crate::args::seconds;
use crate::show;

/// A time on the command line.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(crate) enum Moment {
    /// So many seconds ago.
    Ago(f64),
    /// At this time.
    At(DateTime<Utc>),
    /// This day, in the zone in which times are shown.
    Day(NaiveDate),
    /// This time of the clock, in that zone.
    Clock(NaiveDateTime),
}

/// What can be written, for the help of each option.
pub(crate) const FORMS: &str = "RFC 3339 (2026-05-04T09:12:00Z), a date (2026-05-04), or how long ago (2h)";

impl FromStr for Moment {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        let text = text.trim();
        if let Ok(at) = DateTime::parse_from_rfc3339(text) {
            return Ok(Self::At(at.to_utc()));
        }
        if let Ok(day) = NaiveDate::parse_from_str(text, "%Y-%m-%d") {
            return Ok(Self::Day(day));
        }
        for form in ["%Y-%m-%d %H:%M:%S", "%Y-%m-%d %H:%M", "%Y-%m-%dT%H:%M:%S", "%Y-%m-%dT%H:%M"] {
            if let Ok(clock) = NaiveDateTime::parse_from_str(text, form) {
                return Ok(Self::Clock(clock));
            }
        }
        match text.ends_with(|c: char| c.is_ascii_alphabetic()).then(|| seconds(text)) {
            Some(Ok(s)) => Ok(Self::Ago(s)),
            _ => Err(format!("{FORMS} is wanted")),
        }
    }
}

/// A time of the clock, in the zone in which times are shown. One that a change of the clock leaves out is taken an hour later.
fn of_clock(clock: NaiveDateTime) -> DateTime<Utc> {
    if show::in_utc() {
        return clock.and_utc();
    }
    let local = Local.from_local_datetime(&clock);
    local.earliest().map_or_else(|| clock.and_utc(), |local| local.to_utc())
}

impl Moment {
    /// From when on: a date from its beginning.
    pub(crate) fn since(self) -> DateTime<Utc> {
        match self {
            Self::Ago(s) => Utc::now() - TimeDelta::milliseconds((s * 1000.0) as i64),
            Self::At(at) => at,
            Self::Day(day) => of_clock(day.and_hms_opt(0, 0, 0).unwrap_or_default()),
            Self::Clock(clock) => of_clock(clock),
        }
    }

    /// Until when: a date to its end.
    pub(crate) fn until(self) -> DateTime<Utc> {
        match self {
            Self::Day(day) => Self::Day(day.checked_add_days(Days::new(1)).unwrap_or(day)).since(),
            other => other.since(),
        }
    }
}

/// As the service wants it.
pub(crate) fn text(at: DateTime<Utc>) -> String {
    at.to_rfc3339_opts(SecondsFormat::Millis, true)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_time_is_read_in_each_form() {
        let at = DateTime::parse_from_rfc3339("2026-05-04T09:12:00Z").unwrap().to_utc();
        assert_eq!("2026-05-04T11:12:00+02:00".parse(), Ok(Moment::At(at)));
        assert_eq!("2026-05-04".parse(), Ok(Moment::Day(at.date_naive())));
        assert_eq!("2026-05-04 09:12".parse(), Ok(Moment::Clock(at.naive_utc())));
        assert_eq!("2h".parse(), Ok(Moment::Ago(7200.0)));
        for bad in ["", "7", "yesterday", "2026-13-04", "-2h", "2026-05-04T25:00:00Z"] {
            assert!(bad.parse::<Moment>().is_err_and(|why| why.contains("a date")), "{bad}");
        }
    }

    #[test]
    fn a_date_is_the_whole_of_its_day() {
        let day: Moment = "2026-05-04".parse().unwrap();
        assert_eq!((day.until() - day.since()).num_hours(), 24);
    }
}
