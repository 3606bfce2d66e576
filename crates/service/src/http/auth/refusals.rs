//! Refusals in audit logs: what somebody is refused again and again is counted, and told in one entry, so that nobody fills the log
//! of an estate.

use std::collections::HashMap;
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use store::EstateId;

use crate::net::rate_limit::RateLimiter;

/// Refusals of one caller in one log that are written down at once, and how long until one more is.
const BURST: u32 = 20;
const EVERY: Duration = Duration::from_secs(60);
/// How long refusals are counted before their number is written down.
pub(crate) const GATHERED: Duration = Duration::from_secs(60);
/// Callers and logs that are counted at once; of more only the service's own log says something.
const MOST: usize = 10_000;

/// Who is refused, and in whose log.
pub(crate) type Key = (String, Option<EstateId>);

/// What becomes of a refusal.
#[derive(Debug, PartialEq, Eq)]
pub(crate) enum Fate {
    /// It is written down.
    Written,
    /// It is counted; the first one, so that the number has to be written down later.
    Begun,
    /// It is counted.
    Counted,
}

/// Refusals that are counted.
pub struct Refusals {
    limits: RateLimiter<Key>,
    more: Mutex<HashMap<Key, u32>>,
}

impl Default for Refusals {
    fn default() -> Self {
        Self { limits: RateLimiter::new(BURST, EVERY), more: Mutex::default() }
    }
}

impl Refusals {
    fn lock(&self) -> MutexGuard<'_, HashMap<Key, u32>> {
        self.more.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// What becomes of one more.
    pub(crate) fn one_more(&self, key: &Key, now: Instant) -> Fate {
        if self.limits.take(key.clone(), now).is_ok() {
            return Fate::Written;
        }
        let mut more = self.lock();
        if let Some(count) = more.get_mut(key) {
            *count = count.saturating_add(1);
            return Fate::Counted;
        }
        if more.len() >= MOST {
            tracing::warn!(who = key.0, "refusals of so many callers are not counted any more");
            return Fate::Counted;
        }
        more.insert(key.clone(), 1);
        Fate::Begun
    }

    /// How many were counted; the count starts at zero again.
    pub(crate) fn counted(&self, key: &Key) -> u32 {
        self.lock().remove(key).unwrap_or_default()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn many_refusals_are_some_entries_and_a_number() {
        let (refusals, start) = (Refusals::default(), Instant::now());
        let (of, other) = (("marit".to_owned(), Some(7)), ("marit".to_owned(), Some(8)));
        let fates: Vec<Fate> = (0..1_000).map(|_| refusals.one_more(&of, start)).collect();
        let count = |fate: Fate| fates.iter().filter(|one| **one == fate).count();
        assert_eq!((count(Fate::Written), count(Fate::Begun), count(Fate::Counted)), (BURST as usize, 1, 979));
        assert_eq!(refusals.one_more(&other, start), Fate::Written, "another log is another matter");
        assert_eq!((refusals.counted(&of), refusals.counted(&of)), (980, 0));
        assert_eq!(refusals.one_more(&of, start + EVERY), Fate::Written);
        assert_eq!(refusals.one_more(&of, start + EVERY), Fate::Begun);
    }
}
