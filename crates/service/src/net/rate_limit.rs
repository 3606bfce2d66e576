//! Rate limits: a token bucket per key.

use std::collections::HashMap;
use std::hash::Hash;
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

/// Keys remembered; beyond it those whose buckets are full again are forgotten, and if there are none, new keys share
/// one answer: wait.
const MOST: usize = 50_000;

/// Buckets by key. Each holds `burst` and gets one back every `every`.
pub struct RateLimiter<K> {
    burst: f64,
    every: Duration,
    levels: Mutex<HashMap<K, (f64, Instant)>>,
}

impl<K: Eq + Hash> RateLimiter<K> {
    pub fn new(burst: u32, every: Duration) -> Self {
        Self { burst: f64::from(burst), every, levels: Mutex::default() }
    }

    fn refilled(&self, level: f64, since: Instant, now: Instant) -> f64 {
        let back = now.saturating_duration_since(since).as_secs_f64() / self.every.as_secs_f64();
        (level + back).min(self.burst)
    }

    /// Takes a token, or returns how long to wait for one.
    pub fn take(&self, key: K, now: Instant) -> Result<(), Duration> {
        let mut levels = self.levels.lock().unwrap_or_else(PoisonError::into_inner);
        if levels.len() >= MOST && !levels.contains_key(&key) {
            levels.retain(|_, (level, since)| self.refilled(*level, *since, now) < self.burst);
            if levels.len() >= MOST {
                return Err(self.every);
            }
        }
        let (level, since) = levels.entry(key).or_insert((self.burst, now));
        (*level, *since) = (self.refilled(*level, *since, now), now);
        if *level < 1.0 {
            return Err(self.every.mul_f64(1.0 - *level));
        }
        *level -= 1.0;
        Ok(())
    }

    /// How many are left, of how many, and how long until all of them are there again.
    pub fn left(&self, key: &K, now: Instant) -> (u32, u32, Duration) {
        let levels = self.levels.lock().unwrap_or_else(PoisonError::into_inner);
        let level = levels.get(key).map_or(self.burst, |(level, since)| self.refilled(*level, *since, now));
        (level as u32, self.burst as u32, self.every.mul_f64(self.burst - level))
    }

    /// Gives back a token that was not used.
    pub fn give_back(&self, key: &K) {
        let mut levels = self.levels.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some((level, _)) = levels.get_mut(key) {
            *level = (*level + 1.0).min(self.burst);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_burst_is_let_through_and_then_one_at_a_time() {
        let buckets = RateLimiter::new(3, Duration::from_secs(10));
        let start = Instant::now();
        let at = |s| start + Duration::from_secs(s);
        for _ in 0..3 {
            assert_eq!(buckets.take("a", at(0)), Ok(()));
        }
        assert_eq!(buckets.take("a", at(0)), Err(Duration::from_secs(10)));
        assert_eq!(buckets.take("b", at(0)), Ok(()), "each has its own");
        assert_eq!(buckets.left(&"a", at(4)), (0, 3, Duration::from_secs(26)));
        assert_eq!(buckets.left(&"c", at(4)), (3, 3, Duration::ZERO));
        assert_eq!(buckets.take("a", at(4)), Err(Duration::from_secs(6)));
        assert_eq!(buckets.take("a", at(10)), Ok(()));
        assert!(buckets.take("a", at(10)).is_err());
        buckets.give_back(&"a");
        assert_eq!(buckets.take("a", at(10)), Ok(()));
    }

    #[test]
    fn a_flood_of_keys_takes_no_more_memory_and_passes() {
        let buckets = RateLimiter::new(2, Duration::from_secs(10));
        let start = Instant::now();
        for n in 0..MOST {
            assert!(buckets.take(n, start).is_ok());
        }
        assert!(buckets.take(MOST, start).is_err(), "there is no room");
        assert!(buckets.take(3, start).is_ok(), "those that are known go on");
        assert!(buckets.take(MOST, start + Duration::from_secs(20)).is_ok(), "those that are full again make room");
    }
}
