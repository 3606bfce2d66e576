//! Forecast and survey held against each other: by how much a model is off overall, for each gateway and for each class of cover,
//! and what is left when that is taken into account.
//!
//! What a calibration is worth is told by places that it has not seen: points near one another share their shadowing, so they
//! are held out together (D. R. Roberts and others, "Cross-validation strategies for data with temporal, spatial, hierarchical,
//! or phylogenetic structure", Ecography vol. 40, 2017).

use std::collections::{BTreeMap, BTreeSet};

use serde::{Deserialize, Serialize};
use thiserror::Error;

use super::{median, spread};
use crate::geo::{EARTH_RADIUS_M, Place};

/// A forecast and what was measured.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Pair {
    /// Where.
    pub place: Place,
    /// By which gateway.
    pub gateway: u64,
    /// On which class of cover, where that is known.
    pub class: Option<u16>,
    /// The forecast, in dBm.
    pub forecast_dbm: f64,
    /// The measurement, in dBm.
    pub measured_dbm: f64,
    /// The gateway heard nothing: the measurement is the most that it can have missed. That says something only where more
    /// is forecast.
    pub at_most: bool,
}

impl Pair {
    /// By how much more was measured than was forecast.
    fn residual_db(&self) -> f64 {
        self.measured_dbm - self.forecast_dbm
    }

    /// What is left of that with a correction; `None` if it agrees with nothing having been heard.
    fn left_db(&self, correction_db: f64) -> Option<f64> {
        Some(self.residual_db() - correction_db).filter(|left_db| !self.at_most || *left_db < 0.0)
    }

    /// The square that is held out with it.
    fn square(&self) -> (i64, i64) {
        let degree_m = EARTH_RADIUS_M.to_radians();
        let north = self.place.latitude_deg * degree_m;
        let row = (north / HELD_TOGETHER_M).floor();
        let east = self.place.longitude_deg * degree_m * (row * HELD_TOGETHER_M / EARTH_RADIUS_M).cos();
        (row as i64, (east / HELD_TOGETHER_M).floor() as i64)
    }
}

/// Points in a square of this side are held out together.
const HELD_TOGETHER_M: f64 = 500.0;
/// Parts of which each is held out once.
const FOLDS: usize = 5;
/// Fewer points or squares tell nothing of a model.
const LEAST_POINTS: usize = 50;
const LEAST_SQUARES: usize = 10;
/// A gateway or a class counts for itself as far as it has more points than these: few points may be off by chance.
const POINTS_OF_DOUBT: f64 = 20.0;
/// Gateways and classes are told apart by going through both in turn.
const ROUNDS: usize = 8;

/// Why there is no calibration.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum CalibrationError {
    /// Too few points.
    #[error("{0} measured points are too few for a calibration; {LEAST_POINTS} are needed")]
    Points(usize),
    /// Too near to one another.
    #[error(
        "the {points} points lie in {squares} squares of {HELD_TOGETHER_M:.0} m; {LEAST_SQUARES} are needed, or it would say more of these places than of the model"
    )]
    Squares {
        /// How many points there are.
        points: usize,
        /// How many squares.
        squares: usize,
    },
}

/// What a part is off by, beyond the model's offset.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Correction {
    /// To be added to its forecasts, in dB.
    pub offset_db: f64,
    /// How many points say so.
    pub points: usize,
}

/// How far forecasts are off.
#[derive(Debug, Clone, Copy, Default, PartialEq, Serialize, Deserialize)]
pub struct Errors {
    /// In the middle: measured less forecast, in dB.
    pub middle_db: f64,
    /// As a standard deviation around that, in dB.
    pub spread_db: f64,
    /// Nine of ten are off by no more than this, in dB.
    pub nine_of_ten_db: f64,
}

/// A model calibrated on a survey.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Calibration {
    /// To be added to every forecast, in dB.
    pub offset_db: f64,
    /// Beyond that, by gateway.
    pub by_gateway: BTreeMap<u64, Correction>,
    /// Beyond that, by class of cover.
    pub by_class: BTreeMap<u16, Correction>,
    /// How many points it stands on.
    pub points: usize,
    /// Errors of the model as it is.
    pub before: Errors,
    /// Errors with the calibration, at places that it was not made from.
    pub after: Errors,
}

impl Calibration {
    /// What is to be added to a forecast, in dB.
    pub fn correction_db(&self, gateway: u64, class: Option<u16>) -> f64 {
        let of = |correction: Option<&Correction>| correction.map_or(0.0, |correction| correction.offset_db);
        self.offset_db + of(self.by_gateway.get(&gateway)) + of(class.and_then(|class| self.by_class.get(&class)))
    }

    /// Calibrates a model. Pairs with a number that is none are left out.
    ///
    /// # Errors
    /// There are too few points, or they lie too near to one another.
    pub fn of(pairs: &[Pair]) -> Result<Self, CalibrationError> {
        let pairs: Vec<Pair> = pairs.iter().copied().filter(|pair| pair.residual_db().is_finite()).collect();
        if pairs.len() < LEAST_POINTS {
            return Err(CalibrationError::Points(pairs.len()));
        }
        let squares: BTreeSet<(i64, i64)> = pairs.iter().map(Pair::square).collect();
        if squares.len() < LEAST_SQUARES {
            return Err(CalibrationError::Squares { points: pairs.len(), squares: squares.len() });
        }
        let fold: BTreeMap<(i64, i64), usize> =
            squares.into_iter().enumerate().map(|(n, square)| (square, n % FOLDS)).collect();
        let mut unseen = Vec::with_capacity(pairs.len());
        for held in 0..FOLDS {
            let (out, within): (Vec<Pair>, Vec<Pair>) = pairs.iter().partition(|pair| fold[&pair.square()] == held);
            let made = fitted(&within);
            unseen.extend(out.iter().filter_map(|pair| pair.left_db(made.correction_db(pair.gateway, pair.class))));
        }
        let plain: Vec<f64> = pairs.iter().filter_map(|pair| pair.left_db(0.0)).collect();
        Ok(Self { before: errors(&plain), after: errors(&unseen), ..fitted(&pairs) })
    }
}

/// The corrections that leave least, without what they are worth.
fn fitted(pairs: &[Pair]) -> Calibration {
    let mut plain: Vec<f64> = pairs.iter().filter_map(|pair| pair.left_db(0.0)).collect();
    let mut made = Calibration {
        offset_db: median(&mut plain).unwrap_or(0.0),
        by_gateway: BTreeMap::new(),
        by_class: BTreeMap::new(),
        points: pairs.len(),
        before: Errors::default(),
        after: Errors::default(),
    };
    for _ in 0..ROUNDS {
        let less = |pair: &Pair| pair.left_db(made.correction_db(pair.gateway, pair.class));
        let left = pairs.iter().filter_map(|pair| Some((pair.gateway, less(pair)?)));
        let more = grouped(left);
        adjust(&mut made.by_gateway, more);
        let less = |pair: &Pair| pair.left_db(made.correction_db(pair.gateway, pair.class));
        let left = pairs.iter().filter_map(|pair| Some((pair.class?, less(pair)?)));
        let more = grouped(left);
        adjust(&mut made.by_class, more);
    }
    made
}

fn grouped<K: Ord>(left: impl Iterator<Item = (K, f64)>) -> BTreeMap<K, Vec<f64>> {
    let mut groups: BTreeMap<K, Vec<f64>> = BTreeMap::new();
    left.for_each(|(key, db)| groups.entry(key).or_default().push(db));
    groups
}

/// Adds what is left of each group to its offset. The fewer points a group has, the less its offset counts.
fn adjust<K: Ord>(corrections: &mut BTreeMap<K, Correction>, left: BTreeMap<K, Vec<f64>>) {
    for (key, mut values) in left {
        let points = values.len();
        let trust = points as f64 / (points as f64 + POINTS_OF_DOUBT);
        let before = corrections.get(&key).map_or(0.0, |correction| correction.offset_db);
        let all_db = before + median(&mut values).unwrap_or(0.0);
        corrections.insert(key, Correction { offset_db: all_db * trust, points });
    }
}

fn errors(residuals: &[f64]) -> Errors {
    let mut sorted = residuals.to_vec();
    let middle_db = median(&mut sorted).unwrap_or(0.0);
    let mut off: Vec<f64> = residuals.iter().map(|residual| residual.abs()).collect();
    off.sort_by(f64::total_cmp);
    let nine_of_ten_db = off.get(off.len() * 9 / 10).copied().unwrap_or(0.0);
    Errors { middle_db, spread_db: spread(residuals, middle_db), nine_of_ten_db }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::link::shadowing::Shadowing;

    const MIDDLE: Place = Place { latitude_deg: 54.7, longitude_deg: 3.9 };

    /// Points around three gateways with shadowing; `off` is what the model does not know.
    fn survey(count: usize, off: impl Fn(u64, u16) -> f64) -> Vec<Pair> {
        let shadowing = Shadowing { seed: 4, deviation_db: 4.0, distance_m: 150.0 };
        let pair = |n: usize| {
            let place = MIDDLE.towards((n * 137 % 360) as f64, 300.0 + (n * 271 % 6_000) as f64);
            let (gateway, class) = ((n % 3) as u64, if n.is_multiple_of(5) { 8 } else { 4 });
            let forecast_dbm = -90.0 - (n % 40) as f64;
            let measured_dbm = forecast_dbm + off(gateway, class) + shadowing.at_db(place);
            Pair { place, gateway, class: Some(class), forecast_dbm, measured_dbm, at_most: false }
        };
        (0..count).map(pair).collect()
    }

    #[test]
    fn an_offset_a_bad_antenna_and_a_thick_wood_are_told_apart() {
        let off =
            |gateway: u64, class: u16| -4.0 - if gateway == 2 { 7.0 } else { 0.0 } - if class == 8 { 9.0 } else { 0.0 };
        let made = Calibration::of(&survey(1_500, off)).unwrap();
        let of = |gateway, class| made.correction_db(gateway, Some(class));
        for (gateway, class) in [(0, 4), (2, 4), (1, 8), (2, 8)] {
            assert!(
                (of(gateway, class) - off(gateway, class)).abs() < 1.2,
                "{gateway} {class}: {}",
                of(gateway, class)
            );
        }
        assert!(made.by_gateway[&2].offset_db < made.by_gateway[&0].offset_db - 5.5, "{made:?}");
        assert!(made.before.spread_db > made.after.spread_db + 1.0, "{made:?}");
        assert!(made.after.middle_db.abs() < 0.8 && (made.after.spread_db - 4.0).abs() < 1.0, "{made:?}");
        assert!(made.before.nine_of_ten_db > made.after.nine_of_ten_db + 4.0, "{made:?}");
    }

    #[test]
    fn few_points_are_refused_with_the_number_that_is_needed() {
        let why = Calibration::of(&survey(49, |_, _| 0.0)).unwrap_err().to_string();
        assert_eq!(why, "49 measured points are too few for a calibration; 50 are needed");
        let mut near = survey(200, |_, _| 0.0);
        near.iter_mut().for_each(|pair| pair.place = MIDDLE);
        let why = Calibration::of(&near).unwrap_err().to_string();
        assert!(why.contains("200 points lie in 1 squares of 500 m; 10 are needed"), "{why}");
    }

    #[test]
    fn a_gateway_of_two_points_is_hardly_believed() {
        let mut pairs = survey(300, |_, _| 0.0);
        for pair in pairs.iter_mut().take(2) {
            (pair.gateway, pair.measured_dbm) = (9, pair.forecast_dbm - 30.0);
        }
        let made = Calibration::of(&pairs).unwrap();
        assert!(made.by_gateway[&9].offset_db > -24.0, "{made:?}");
        assert_eq!((made.by_gateway[&9].points, made.points), (2, 300));
        assert_eq!(made.correction_db(77, None), made.offset_db, "of others only the offset is known");
    }

    #[test]
    fn silence_counts_where_a_signal_is_forecast() {
        let mut pairs = survey(600, |_, _| 0.0);
        // Gateway 2 hears nothing below -125 dBm, and it is 10 dB deafer than was thought.
        for pair in pairs.iter_mut().filter(|pair| pair.gateway == 2) {
            pair.measured_dbm -= 10.0;
            if pair.measured_dbm < -125.0 {
                (pair.measured_dbm, pair.at_most) = (-125.0, true);
            }
        }
        let with = Calibration::of(&pairs).unwrap();
        let heard: Vec<Pair> = pairs.into_iter().filter(|pair| !pair.at_most).collect();
        let without = Calibration::of(&heard).unwrap();
        assert!((with.correction_db(2, Some(4)) + 10.0).abs() < 2.0, "{with:?}");
        assert!(with.by_gateway[&2].points > without.by_gateway[&2].points, "{with:?}");
    }

    proptest! {
        #[test]
        fn any_numbers_are_stood(values in proptest::collection::vec((-200.0f32..0.0, any::<f32>(), any::<u8>()), 0..200)) {
            let pair = |(n, (forecast, measured, gateway)): (usize, (f32, f32, u8))| Pair {
                place: MIDDLE.towards(n as f64 * 17.0, n as f64 * 90.0),
                gateway: u64::from(gateway),
                class: n.is_multiple_of(2).then_some(4),
                forecast_dbm: f64::from(forecast),
                measured_dbm: f64::from(measured),
                at_most: n.is_multiple_of(7),
            };
            let pairs: Vec<Pair> = values.into_iter().enumerate().map(pair).collect();
            if let Ok(made) = Calibration::of(&pairs) {
                prop_assert!(made.offset_db.is_finite() && made.after.spread_db.is_finite());
            }
        }
    }
}
