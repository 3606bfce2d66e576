//! Steps in a signal over time: an antenna that was turned, a cable that has let water in. A season's drift is none.
//!
//! Days are compared by their medians, so that fading does not count. The series is cut in two where that explains most, and each
//! part again (A. J. Scott and M. Knott, "A cluster analysis method for grouping means in the analysis of variance", Biometrics
//! vol. 30, 1974); a cut counts if it explains more than noise does and the days right before and after it differ as well.

use super::{median, spread};

/// A change of level.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Step {
    /// The first value of the new level, in seconds since 1970.
    pub at_s: i64,
    /// The level before it, in dB.
    pub before_db: f64,
    /// The level after it, in dB.
    pub after_db: f64,
}

impl Step {
    /// By how much the signal is stronger; weaker if negative.
    pub fn change_db(self) -> f64 {
        self.after_db - self.before_db
    }
}

const DAY_S: i64 = 86_400;
/// Values that a day needs to have a median.
const A_DAY: usize = 3;
/// Days that a level lasts at least.
const SHORTEST: usize = 3;
/// Of the change of level, so much lies between the days right before and after a step. A drift has little there.
const AT_ONCE: f64 = 0.6;
/// How much more than noise a cut has to explain, for each doubling of the days: about one false step in a thousand series.
const PENALTY: f64 = 3.0;

/// A day's number since 1970 and its median.
type Day = (i64, f64);

/// The steps of at least this size in values with their times in seconds since 1970, in any order; the oldest first. Values
/// that are no number are left out.
pub fn steps(values: &[(i64, f64)], least_db: f64) -> Vec<Step> {
    let mut values: Vec<(i64, f64)> = values.iter().copied().filter(|(_, value)| value.is_finite()).collect();
    values.sort_by_key(|(at_s, _)| *at_s);
    let days = days(&values);
    let mut cuts = Vec::new();
    cut(&days, 0, (noise_db(&days), least_db.max(0.1)), &mut cuts);
    cuts.sort_unstable();
    let bounds: Vec<usize> = std::iter::once(0).chain(cuts.iter().copied()).chain([days.len()]).collect();
    let level = |n: usize| {
        let mut part: Vec<f64> = days[bounds[n]..bounds[n + 1]].iter().map(|(_, level)| *level).collect();
        median(&mut part).unwrap_or(0.0)
    };
    let step = |(n, at): (usize, &usize)| {
        let (before_db, after_db) = (level(n), level(n + 1));
        let at_s =
            moment(&values, (days[at - 1].0, days[*at].0), f64::midpoint(before_db, after_db), after_db > before_db);
        Step { at_s, before_db, after_db }
    };
    cuts.iter().enumerate().map(step).filter(|step| step.change_db().abs() >= least_db).collect()
}

fn days(values: &[(i64, f64)]) -> Vec<Day> {
    let of_one_day = |a: &(i64, f64), b: &(i64, f64)| a.0.div_euclid(DAY_S) == b.0.div_euclid(DAY_S);
    let day = |part: &[(i64, f64)]| {
        let mut levels: Vec<f64> = part.iter().map(|(_, value)| *value).collect();
        let number = part.first()?.0.div_euclid(DAY_S);
        (part.len() >= A_DAY).then(|| median(&mut levels).map(|level| (number, level)))?
    };
    values.chunk_by(of_one_day).filter_map(day).collect()
}

/// How a day differs from the next where nothing has changed.
fn noise_db(days: &[Day]) -> f64 {
    let differences: Vec<f64> = days.windows(2).map(|pair| pair[1].1 - pair[0].1).collect();
    (spread(&differences, 0.0) / 2f64.sqrt()).max(0.2)
}

fn squares(part: &[Day]) -> f64 {
    let mean = part.iter().map(|(_, level)| level).sum::<f64>() / part.len().max(1) as f64;
    part.iter().map(|(_, level)| (level - mean).powi(2)).sum()
}

/// Looks for cuts in a part of the days that begins at `first`.
fn cut(part: &[Day], first: usize, limits: (f64, f64), found: &mut Vec<usize>) {
    if part.len() < 2 * SHORTEST {
        return;
    }
    let whole = squares(part);
    let gain = |at: usize| whole - squares(&part[..at]) - squares(&part[at..]);
    let places = SHORTEST..=part.len() - SHORTEST;
    let Some(at) = places.max_by(|a, b| gain(*a).total_cmp(&gain(*b))) else { return };
    let (noise_db, least_db) = limits;
    let mean = |days: &[Day]| days.iter().map(|(_, level)| level).sum::<f64>() / days.len() as f64;
    let change_db = mean(&part[at..]) - mean(&part[..at]);
    let enough = gain(at) > PENALTY * (part.len() as f64).log2() * noise_db.powi(2) && change_db.abs() >= least_db;
    if !enough {
        return;
    }
    let near_db = mean(&part[at..at + SHORTEST]) - mean(&part[at - SHORTEST..at]);
    if near_db * change_db.signum() >= AT_ONCE * change_db.abs() {
        found.push(first + at);
    }
    // A drift may hide a step within it.
    cut(&part[..at], first, limits, found);
    cut(&part[at..], first + at, limits, found);
}

/// The first value of the new level, between two days.
fn moment(values: &[(i64, f64)], (before, after): (i64, i64), middle_db: f64, rises: bool) -> i64 {
    let near: Vec<&(i64, f64)> =
        values.iter().filter(|(at_s, _)| (before..=after).contains(&at_s.div_euclid(DAY_S))).collect();
    let is_new = |value: f64| (value > middle_db) == rises;
    // Where fewest values lie on the wrong side.
    let wrong = |at: usize| {
        near[..at].iter().filter(|one| is_new(one.1)).count() + near[at..].iter().filter(|one| !is_new(one.1)).count()
    };
    let at = (0..near.len()).min_by_key(|at| wrong(*at)).unwrap_or(0);
    near.get(at).map_or(after * DAY_S, |one| one.0)
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    const START_S: i64 = 1_770_000_000;

    /// Values every half an hour with fading, by a level that is a function of the day.
    fn series(days: usize, level: impl Fn(f64) -> f64) -> Vec<(i64, f64)> {
        let fading = |n: usize| ((n * 7919) % 101) as f64 / 101.0 * 6.0 - 3.0 + ((n * 31) % 17) as f64 / 17.0 - 0.5;
        (0..days * 48).map(|n| (START_S + n as i64 * 1800, level(n as f64 / 48.0) + fading(n))).collect()
    }

    #[test]
    fn a_step_is_dated_and_sized() {
        let found = steps(&series(40, |day| if day < 23.3 { -95.0 } else { -101.2 }), 3.0);
        assert_eq!(found.len(), 1, "{found:?}");
        assert!((found[0].change_db() + 6.2).abs() < 0.7, "{found:?}");
        let off_h = (found[0].at_s - START_S) as f64 / 3600.0 - 23.3 * 24.0;
        assert!(off_h.abs() < 3.0, "{off_h} h off");
    }

    #[test]
    fn a_season_and_noise_are_no_steps() {
        assert_eq!(steps(&series(40, |_| -95.0), 2.0), []);
        assert_eq!(steps(&series(90, |day| -95.0 + 5.0 * (day / 90.0 * std::f64::consts::TAU).sin()), 2.0), []);
        assert_eq!(steps(&series(60, |day| -95.0 - day * 0.15), 2.0), [], "it leaves slowly");
        assert_eq!(steps(&series(3, |day| if day < 1.5 { -95.0 } else { -105.0 }), 2.0), [], "too short to tell");
        assert_eq!(steps(&[], 2.0), []);
    }

    #[test]
    fn a_step_is_seen_within_a_season_and_one_after_the_other() {
        let drifts = |day: f64| 3.0 * (day / 90.0 * std::f64::consts::TAU).sin();
        let found = steps(&series(60, |day| -95.0 + drifts(day) - if day < 40.0 { 0.0 } else { 8.0 }), 3.0);
        assert_eq!(found.len(), 1, "{found:?}");
        let there_and_back = |day: f64| if (15.0..30.0).contains(&day) { -103.0 } else { -95.0 };
        let found = steps(&series(45, there_and_back), 3.0);
        assert!(found.len() == 2 && found[0].change_db() < -6.0 && found[1].change_db() > 6.0, "{found:?}");
    }

    proptest! {
        #[test]
        fn any_values_are_stood(values in proptest::collection::vec((any::<i32>(), any::<f32>()), 0..300), least in -1.0f64..20.0) {
            let values: Vec<(i64, f64)> = values.into_iter().map(|(at, value)| (i64::from(at), f64::from(value))).collect();
            prop_assert!(steps(&values, least).windows(2).all(|pair| pair[0].at_s <= pair[1].at_s));
        }

        #[test]
        fn another_level_changes_nothing(shift in -60.0f64..60.0) {
            let level = |day: f64| if day < 12.0 { -95.0 } else { -102.0 };
            let (one, two) = (steps(&series(25, level), 3.0), steps(&series(25, |day| level(day) + shift), 3.0));
            prop_assert_eq!(one.len(), two.len());
            prop_assert_eq!(one[0].at_s, two[0].at_s);
        }
    }
}
