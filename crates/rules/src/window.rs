//! The lowest or the highest value of the last time.

use std::collections::VecDeque;

use serde::{Deserialize, Serialize};

use crate::rule::AtMs;

/// Values that are kept at most. They are only those that could still become the extreme, so a window of very many values
/// seldom needs more; then the oldest is forgotten early.
const MOST: usize = 256;

/// Which extreme is looked for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Extreme {
    Lowest,
    Highest,
}

/// The values of the last time that could be its extreme, now or later, oldest first: each is more extreme than those after it.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub(crate) struct Window(VecDeque<(AtMs, f64)>);

impl Window {
    /// Takes a value, and gives the extreme of the values since `within_ms` before it.
    pub(crate) fn take(&mut self, at: AtMs, value: f64, within_ms: i64, extreme: Extreme) -> f64 {
        let beaten = |kept: f64| match extreme {
            Extreme::Lowest => kept >= value,
            Extreme::Highest => kept <= value,
        };
        while self.0.back().is_some_and(|(_, kept)| beaten(*kept)) {
            self.0.pop_back();
        }
        self.0.push_back((at, value));
        let from = at.plus(within_ms.saturating_neg());
        while self.0.len() > MOST || self.0.front().is_some_and(|(kept_at, _)| *kept_at < from) {
            self.0.pop_front();
        }
        self.0.front().map_or(value, |(_, kept)| *kept)
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn it_finds_what_a_look_at_all_values_finds(
            values in prop::collection::vec((1_i64..50, -20_i32..20), 1..200), within_ms in 1_i64..300
        ) {
            for extreme in [Extreme::Lowest, Extreme::Highest] {
                let (mut window, mut all, mut at) = (Window::default(), Vec::new(), AtMs(0));
                for (pause, value) in &values {
                    at = at.plus(*pause);
                    let value = f64::from(*value);
                    all.push((at, value));
                    let recent = all.iter().filter(|(then, _)| at.since(*then) <= within_ms).map(|(_, value)| *value);
                    let found = match extreme {
                        Extreme::Lowest => recent.fold(f64::INFINITY, f64::min),
                        Extreme::Highest => recent.fold(f64::NEG_INFINITY, f64::max),
                    };
                    prop_assert_eq!(window.take(at, value, within_ms, extreme), found);
                }
            }
        }
    }

    #[test]
    fn it_has_a_bound() {
        let mut window = Window::default();
        for n in 0..10_000 {
            window.take(AtMs(n), n as f64, i64::MAX, Extreme::Lowest);
        }
        assert!(window.0.len() <= MOST);
    }
}
