//! What is usual at each hour of the day.

use serde::{Deserialize, Serialize};

/// Values of an hour before something is usual at it.
const LEAST: u16 = 5;
/// A new value counts as one of so many: what is usual follows the seasons.
const MOST: u16 = 60;

/// The mean of the values at each hour of the day, and of how many it is.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub(crate) struct Usual(Vec<(f64, u16)>);

impl Default for Usual {
    fn default() -> Self {
        Self(vec![(0.0, 0); 24])
    }
}

impl Usual {
    /// The usual value at an hour; `None` before there are enough values.
    pub(crate) fn at(&self, hour: usize) -> Option<f64> {
        self.0.get(hour).filter(|(_, values)| *values >= LEAST).map(|(mean, _)| *mean)
    }

    /// Takes a value of an hour.
    pub(crate) fn learn(&mut self, hour: usize, value: f64) {
        if let Some((mean, values)) = self.0.get_mut(hour) {
            *values = (*values + 1).min(MOST);
            *mean += (value - *mean) / f64::from(*values);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_hour_has_its_own_and_it_moves_slowly() {
        let mut usual = Usual::default();
        for day in 0..10 {
            assert_eq!(usual.at(6).is_some(), day >= 5);
            usual.learn(6, 10.0 + f64::from(day % 2));
            usual.learn(18, 30.0);
        }
        assert_eq!((usual.at(6), usual.at(18), usual.at(7)), (Some(10.5), Some(30.0), None));
        for _ in 0..500 {
            usual.learn(6, 20.0);
        }
        assert!((usual.at(6).unwrap() - 20.0).abs() < 0.01);
        usual.learn(24, 1.0);
        assert_eq!(usual.at(24), None, "there is no such hour");
    }
}
