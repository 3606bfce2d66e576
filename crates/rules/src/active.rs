//! When a rule is active: hours of weekdays in a time zone, and dates on which it is quiet.

use chrono::{DateTime, Datelike as _, Days, NaiveDate, NaiveTime, TimeDelta, Timelike as _, Weekday};
use chrono_tz::Tz;

use crate::rule::AtMs;

/// How many days ahead the next active time is looked for: a year with all its quiet dates.
const LOOK_AHEAD_DAYS: u64 = 370;
/// The longest time that a clock is put forward by, in minutes, but for whole days.
const LONGEST_GAP_MIN: i64 = 180;

/// Hours of a day.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Hours {
    /// Minutes after midnight of the first minute.
    pub from_min: u16,
    /// Minutes after midnight of the first minute after it. If it is not later than `from_min`, the hours go on into the next
    /// day.
    pub until_min: u16,
}

impl Hours {
    fn over_midnight(self) -> bool {
        self.until_min <= self.from_min
    }
}

/// When a rule is active.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Active {
    /// The time zone that hours and dates are in.
    pub zone: Tz,
    /// The weekdays on which the hours begin, Monday first.
    pub weekdays: [bool; 7],
    /// The hours.
    pub hours: Hours,
    /// Dates on which the hours do not begin.
    pub quiet: Vec<NaiveDate>,
}

impl Active {
    fn begins_on(&self, date: NaiveDate) -> bool {
        self.weekdays[date.weekday().days_since(Weekday::Mon) as usize] && !self.quiet.contains(&date)
    }

    /// Whether it is active at a time. Clocks that are put forward or back are followed: what counts is what the clock on the
    /// wall shows.
    pub fn covers(&self, at: AtMs) -> bool {
        let Some(utc) = DateTime::from_timestamp_millis(at.0) else { return false };
        let local = utc.with_timezone(&self.zone);
        let minute = (local.hour() * 60 + local.minute()) as u16;
        let (today, Hours { from_min, until_min }) = (local.date_naive(), self.hours);
        if !self.hours.over_midnight() {
            return self.begins_on(today) && (from_min..until_min).contains(&minute);
        }
        let since_yesterday = minute < until_min && today.pred_opt().is_some_and(|date| self.begins_on(date));
        since_yesterday || (minute >= from_min && self.begins_on(today))
    }

    /// The first time after `at` at which its hours begin; none within a year if it is never active.
    pub fn next_begin(&self, at: AtMs) -> Option<AtMs> {
        let utc = DateTime::from_timestamp_millis(at.0)?;
        let today = utc.with_timezone(&self.zone).date_naive();
        let begin = NaiveTime::from_num_seconds_from_midnight_opt(u32::from(self.hours.from_min) * 60, 0)?;
        (0..=LOOK_AHEAD_DAYS).find_map(|days| {
            let date = today.checked_add_days(Days::new(days)).filter(|date| self.begins_on(*date))?;
            // Where the clock is put forward over this minute, they begin with the first minute that there is.
            let exists = |minutes| (date.and_time(begin) + TimeDelta::minutes(minutes)).and_local_timezone(self.zone);
            let begins = (0..=LONGEST_GAP_MIN).find_map(|minutes| exists(minutes).earliest())?;
            Some(AtMs(begins.timestamp_millis())).filter(|begins| *begins > at)
        })
    }

    /// The hour of the day at a time.
    pub(crate) fn hour(zone: Tz, at: AtMs) -> usize {
        DateTime::from_timestamp_millis(at.0).map_or(0, |utc| utc.with_timezone(&zone).hour() as usize)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn at(text: &str) -> AtMs {
        AtMs(DateTime::parse_from_rfc3339(text).unwrap().timestamp_millis())
    }

    fn active(weekdays: [bool; 7], from_min: u16, until_min: u16) -> Active {
        let zone = chrono_tz::Europe::Copenhagen;
        Active { zone, weekdays, hours: Hours { from_min, until_min }, quiet: Vec::new() }
    }

    const WORKDAYS: [bool; 7] = [true, true, true, true, true, false, false];

    #[test]
    fn office_hours_follow_the_clock_on_the_wall() {
        let office = active(WORKDAYS, 8 * 60, 17 * 60);
        // Friday in winter: UTC+1. Friday in summer: UTC+2.
        assert!(office.covers(at("2026-01-16T07:00:00Z")) && !office.covers(at("2026-01-16T06:59:59Z")));
        assert!(office.covers(at("2026-07-17T06:00:00Z")) && !office.covers(at("2026-07-17T15:00:00Z")));
        assert!(!office.covers(at("2026-01-17T10:00:00Z")), "a Saturday");
        assert_eq!(office.next_begin(at("2026-01-16T07:00:00Z")), Some(at("2026-01-19T07:00:00Z")), "Monday");
    }

    #[test]
    fn a_night_belongs_to_the_day_on_which_it_begins() {
        let mut friday_night = active([false, false, false, false, true, false, false], 22 * 60, 6 * 60);
        assert!(friday_night.covers(at("2026-01-16T21:30:00Z")) && friday_night.covers(at("2026-01-17T04:59:00Z")));
        assert!(!friday_night.covers(at("2026-01-17T05:00:00Z")) && !friday_night.covers(at("2026-01-17T21:30:00Z")));
        friday_night.quiet = vec![NaiveDate::from_ymd_opt(2026, 1, 16).unwrap()];
        assert!(!friday_night.covers(at("2026-01-17T04:59:00Z")), "the night of a quiet date");
        assert_eq!(friday_night.next_begin(at("2026-01-15T00:00:00Z")), Some(at("2026-01-23T21:00:00Z")));
    }

    #[test]
    fn the_days_on_which_clocks_change_have_their_hours() {
        // 29 March 2026: 02:00 becomes 03:00. 25 October 2026: 03:00 becomes 02:00.
        let early = active([true; 7], 2 * 60 + 30, 3 * 60 + 30);
        assert_eq!(
            early.next_begin(at("2026-03-28T12:00:00Z")),
            Some(at("2026-03-29T01:00:00Z")),
            "03:00 is the first"
        );
        assert!(!early.covers(at("2026-03-29T00:59:00Z")) && early.covers(at("2026-03-29T01:00:00Z")));
        for half_past_two in ["2026-10-25T00:30:00Z", "2026-10-25T01:30:00Z"] {
            assert!(early.covers(at(half_past_two)), "{half_past_two}");
        }
        assert_eq!(early.next_begin(at("2026-10-24T12:00:00Z")), Some(at("2026-10-25T00:30:00Z")));
    }

    #[test]
    fn one_that_is_never_active_has_no_next_time() {
        assert_eq!(active([false; 7], 0, 0).next_begin(AtMs(0)), None);
        let whole_days = active([true; 7], 0, 0);
        assert!(whole_days.covers(at("2026-01-16T23:30:00Z")) && whole_days.covers(at("2026-01-16T12:00:00Z")));
    }
}
