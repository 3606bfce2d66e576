//! Points in time, and what is due at them. Nothing here reads a clock.

use std::cmp::Reverse;
use std::collections::BinaryHeap;
use std::fmt;

use serde::{Deserialize, Serialize};
use time::OffsetDateTime;

/// A day, in microseconds.
pub(crate) const DAY_US: i64 = 86_400_000_000;

/// Microseconds since 1970-01-01 00:00 UTC.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Default, Serialize, Deserialize)]
pub struct Timestamp(pub i64);

impl Timestamp {
    /// A later time.
    #[must_use]
    pub const fn plus_us(self, us: i64) -> Self {
        Self(self.0.saturating_add(us))
    }

    /// Microseconds from `earlier` to this time.
    pub const fn since(self, earlier: Self) -> i64 {
        self.0.saturating_sub(earlier.0)
    }

    /// The whole minute this time lies in, counted from 1970.
    pub const fn minute(self) -> i64 {
        self.0.div_euclid(60_000_000)
    }

    /// The whole hour this time lies in, counted from 1970.
    pub const fn hour(self) -> i64 {
        self.0.div_euclid(3_600_000_000)
    }
}

/// Time of day, as notes say it: `14:03:07 UTC`. A day further off is told from now by its caller.
impl fmt::Display for Timestamp {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let s = self.0.rem_euclid(DAY_US) / 1_000_000;
        write!(f, "{:02}:{:02}:{:02} UTC", s / 3600, s / 60 % 60, s % 60)
    }
}

/// Date and time of day, as `2026-05-04 09:12:33 UTC`: for what may be on another day.
pub(crate) struct Dated(pub(crate) Timestamp);

impl fmt::Display for Dated {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match OffsetDateTime::from_unix_timestamp(self.0.0.div_euclid(1_000_000)) {
            Ok(at) => write!(f, "{} {}", at.date(), self.0),
            Err(_) => write!(f, "{}", self.0),
        }
    }
}

/// Timers in order of time; those of one time in the order they were set.
#[derive(Debug)]
pub(crate) struct Timers<T> {
    pub(crate) heap: BinaryHeap<Reverse<(Timestamp, u64, T)>>,
    set: u64,
}

impl<T: Ord> Default for Timers<T> {
    fn default() -> Self {
        Self { heap: BinaryHeap::new(), set: 0 }
    }
}

impl<T: Ord> Timers<T> {
    pub(crate) fn set(&mut self, at: Timestamp, timer: T) {
        self.set += 1;
        self.heap.push(Reverse((at, self.set, timer)));
    }

    pub(crate) fn next(&self) -> Option<Timestamp> {
        self.heap.peek().map(|Reverse((at, ..))| *at)
    }

    /// The next timer whose time has come.
    pub(crate) fn due(&mut self, now: Timestamp) -> Option<T> {
        if self.next()? > now {
            return None;
        }
        self.heap.pop().map(|Reverse((.., timer))| timer)
    }
}

/// Moves an optional time.
pub(crate) fn shift(time: &mut Option<Timestamp>, by_us: i64) {
    *time = time.map(|at| at.plus_us(by_us));
}
