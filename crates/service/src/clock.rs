//! The service's time: the system's clock, with notice of when it was set.
//!
//! Deadlines, windows and time stamps use one time. Small differences to the system's clock are made up for slowly, so
//! that it neither stands still nor jumps; a large one, as when the network's time arrives after a start with a wrong
//! clock, is followed at once. A caller that counts from one moment to the next learns from [`Moment::stepped_us`] that
//! this was no time that passed.

use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant, SystemTime, UNIX_EPOCH};

use chrono::{DateTime, Utc};
use engine::Timestamp;
use rustix::time::{ClockId, clock_gettime};

/// Differences up to this are made up for slowly.
const SMALL_US: i64 = 2_000_000;
/// How much slower or faster the clock runs during that time: by one part in this many.
const SLEW: i64 = 8;
/// Steps that are remembered.
const REMEMBERED: usize = 20;

/// A time, and how far the clock has been moved since the start.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Moment {
    pub at: Timestamp,
    /// The sum of all steps.
    pub stepped_us: i64,
}

/// The clock was set.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Step {
    /// When, by the clock after it.
    pub at: Timestamp,
    pub by_us: i64,
}

/// A clock that was last read at some moment, and what it showed.
#[derive(Debug)]
struct Steady {
    shown: Timestamp,
    at: Instant,
    stepped_us: i64,
    steps: Vec<Step>,
    /// Since when it was not set.
    calm_since: Instant,
}

impl Steady {
    fn new(at: Instant, system: Timestamp) -> Self {
        Self { shown: system, at, stepped_us: 0, steps: Vec::new(), calm_since: at }
    }

    fn read(&mut self, at: Instant, system: Timestamp) -> Moment {
        let passed_us = i64::try_from(at.saturating_duration_since(self.at).as_micros()).unwrap_or(i64::MAX);
        let expected = self.shown.plus_us(passed_us);
        let off_us = system.since(expected);
        self.at = at.max(self.at);
        if off_us.abs() <= SMALL_US {
            self.shown = expected.plus_us(off_us.clamp(-passed_us / SLEW, passed_us / SLEW));
        } else {
            self.shown = system;
            self.stepped_us += off_us;
            self.calm_since = at;
            if self.steps.len() == REMEMBERED {
                self.steps.remove(0);
            }
            self.steps.push(Step { at: system, by_us: off_us });
            tracing::warn!("the clock was set by {:.1} s; it is followed at once", off_us as f64 / 1e6);
        }
        Moment { at: self.shown, stepped_us: self.stepped_us }
    }
}

static CLOCK: Mutex<Option<Steady>> = Mutex::new(None);

fn with_clock<T>(work: impl FnOnce(&mut Steady, Instant, Timestamp) -> T) -> T {
    let since = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default();
    let system = Timestamp(i64::try_from(since.as_micros()).unwrap_or(i64::MAX));
    let at = Instant::now();
    let mut clock = CLOCK.lock().unwrap_or_else(PoisonError::into_inner);
    work(clock.get_or_insert_with(|| Steady::new(at, system)), at, system)
}

/// The time now, and how often the clock was set.
pub(crate) fn moment() -> Moment {
    with_clock(Steady::read)
}

/// The time now.
pub(crate) fn now() -> Timestamp {
    moment().at
}

/// The time now, as stored.
pub(crate) fn utc() -> DateTime<Utc> {
    DateTime::from_timestamp_micros(now().0).unwrap_or_default()
}

/// For how long the clock has not been set, as far as is known.
pub(crate) fn calm_for() -> Duration {
    with_clock(|clock, at, system| {
        clock.read(at, system);
        at.saturating_duration_since(clock.calm_since)
    })
}

/// When the clock was set, the latest last.
pub(crate) fn steps() -> Vec<Step> {
    with_clock(|clock, at, system| {
        clock.read(at, system);
        clock.steps.clone()
    })
}

/// Microseconds since the machine was started: a clock that nobody sets.
pub(crate) fn since_boot_us() -> i64 {
    let since = clock_gettime(ClockId::Boottime);
    let since: Duration = since.try_into().unwrap_or_default();
    i64::try_from(since.as_micros()).unwrap_or(i64::MAX)
}

/// Names this run of the machine, as far as the system tells.
pub(crate) fn boot_id() -> String {
    let id = std::fs::read_to_string("/proc/sys/kernel/random/boot_id").unwrap_or_default();
    id.chars().filter(char::is_ascii_hexdigit).take(12).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn s(seconds: f64) -> Timestamp {
        Timestamp((seconds * 1e6) as i64)
    }

    #[test]
    fn a_large_step_is_followed_at_once_and_told_a_small_one_slowly() {
        let start = Instant::now();
        let mut clock = Steady::new(start, s(1000.0));
        let mut read = |after_s: f64, system_s: f64| {
            let moment = clock.read(start + Duration::from_secs_f64(after_s), s(system_s));
            ((moment.at.0 as f64 / 1e6 * 10.0).round() / 10.0, moment.stepped_us / 1_000_000)
        };
        assert_eq!(read(1.0, 1001.0), (1001.0, 0));
        assert_eq!(read(2.0, 4602.0), (4602.0, 3600), "put forward by an hour");
        assert_eq!(read(3.0, 1003.0), (1003.0, 0), "and back");
        assert_eq!(read(11.0, 1010.0), (1010.0, 0), "a second behind: eight parts of seven");
        assert_eq!(read(15.0, 1016.0), (1014.5, 0), "ahead: it runs faster");
        assert_eq!(read(31.0, 1032.0), (1032.0, 0), "caught up");
        assert_eq!(clock.steps.len(), 2);
    }

    #[test]
    fn the_clock_that_nobody_sets_goes_forward() {
        let before = since_boot_us();
        assert!(before > 0 && since_boot_us() >= before);
    }
}
