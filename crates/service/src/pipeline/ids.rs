//! Identifiers of messages, which sort by time.

use std::time::SystemTime;

use chrono::{DateTime, Utc};
use rand::SeedableRng as _;
use rand::rngs::StdRng;
use ulid::{Generator, Ulid};

/// The generator keeps its identifiers in order across this.
const SMALL_STEP_MS: i64 = 2_000;

/// Makes them. After the clock was set back they do not stay in the future.
#[derive(Default)]
pub(crate) struct Ids {
    generator: Generator,
    newest_ms: i64,
    chance: Option<StdRng>,
}

impl Ids {
    /// Makes the same ones for the same seed and moments.
    pub(crate) fn seeded(seed: u64) -> Self {
        Self { chance: Some(StdRng::seed_from_u64(seed)), ..Self::default() }
    }

    /// The next one, at this moment.
    pub(crate) fn next(&mut self, now: DateTime<Utc>) -> Ulid {
        let now_ms = now.timestamp_millis();
        if now_ms + SMALL_STEP_MS < self.newest_ms {
            self.generator = Generator::new();
            self.newest_ms = 0;
        }
        self.newest_ms = self.newest_ms.max(now_ms);
        let at = SystemTime::from(now);
        let made = match &mut self.chance {
            Some(chance) => self.generator.generate_from_datetime_with_source(at, chance),
            None => self.generator.generate_from_datetime(at),
        };
        made.unwrap_or_else(|overflow| overflow.commit_overflow_increment())
    }
}

#[cfg(test)]
mod tests {
    use chrono::TimeDelta;

    use super::*;

    #[test]
    fn they_sort_by_time_and_follow_a_clock_that_is_set_back() {
        let noon = DateTime::from_timestamp(1_790_000_000, 0).unwrap();
        let mut ids = Ids::default();
        let made: Vec<Ulid> = [0, 0, 5, 3, 4000].map(|ms| ids.next(noon + TimeDelta::milliseconds(ms))).into();
        assert!(made.windows(2).all(|pair| pair[0] < pair[1]));
        let back = ids.next(noon - TimeDelta::hours(1));
        assert!(back < made[0] && ids.next(noon) > back);
        let seeded = |seed| Ids::seeded(seed).next(noon);
        assert!(seeded(4) == seeded(4) && seeded(4) != seeded(5));
    }
}
