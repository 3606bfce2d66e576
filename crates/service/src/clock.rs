//! The service's time: the system's, but it never runs backwards and never stands still.
//!
//! Deadlines, windows and the journal all go by one time. When the system's clock is put back, this one goes
//! on at three quarters of its speed until the other has caught up: collections still close and downlinks
//! still leave, since what counts for them is time from one moment to the next.

use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant, SystemTime, UNIX_EPOCH};

use engine::Timestamp;

/// A clock that was last read at some moment, and what it showed.
#[derive(Debug, Clone, Copy)]
struct Steady {
    shown: Timestamp,
    at: Instant,
}

impl Steady {
    fn read(&mut self, at: Instant, system: Timestamp) -> Timestamp {
        let us = |time: Duration| i64::try_from(time.as_micros()).unwrap_or(i64::MAX);
        let passed_us = us(at.saturating_duration_since(self.at));
        self.shown = system.max(self.shown.plus_us(passed_us * 3 / 4));
        self.at = at.max(self.at);
        self.shown
    }
}

static CLOCK: Mutex<Option<Steady>> = Mutex::new(None);

/// The time now.
pub fn now() -> Timestamp {
    let since = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default();
    let system = Timestamp(i64::try_from(since.as_micros()).unwrap_or(i64::MAX));
    let at = Instant::now();
    let mut clock = CLOCK.lock().unwrap_or_else(PoisonError::into_inner);
    clock.get_or_insert(Steady { shown: system, at }).read(at, system)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn it_follows_the_systems_clock_forwards_and_slows_down_when_that_is_put_back() {
        let start = Instant::now();
        let mut clock = Steady { shown: Timestamp(1_000_000_000), at: start };
        let mut read = |after_s: u64, system_s: i64| {
            clock.read(start + Duration::from_secs(after_s), Timestamp(system_s * 1_000_000)).0 / 1_000_000
        };
        assert_eq!(read(1, 1001), 1001);
        assert_eq!(read(2, 4000), 4000, "put forward");
        assert_eq!(read(6, 1005), 4003, "put back: it goes on");
        assert_eq!(read(106, 4100), 4100, "caught up");
    }
}
