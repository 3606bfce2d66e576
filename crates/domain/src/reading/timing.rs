//! Readings with times of their own, as data loggers send them.

use std::collections::BTreeMap;

use api::message::{EarlierValue, Reading};
use chrono::{DateTime, TimeDelta, Utc};

/// How long before its uplink a value can have been measured.
const OLDEST: TimeDelta = TimeDelta::days(366);
/// How far a device's clock may be ahead.
const AHEAD: TimeDelta = TimeDelta::minutes(5);

/// When a value was measured: when its decoder says, else when the uplink was heard. None, with a warning, if that cannot be.
pub fn measured_at(
    found: &payload::Reading,
    heard: DateTime<Utc>,
    warnings: &mut Vec<String>,
) -> Option<DateTime<Utc>> {
    let Some(at_ms) = found.at_ms else { return Some(heard) };
    let at = DateTime::from_timestamp_millis(at_ms).filter(|at| (heard - OLDEST..=heard + AHEAD).contains(at));
    if at.is_none() {
        let told = DateTime::from_timestamp_millis(at_ms).map_or_else(|| at_ms.to_string(), |at| at.to_rfc3339());
        warnings.push(format!("{}: it says that it was measured at {told}, left out", found.name()));
    }
    at
}

/// Adds a reading to those of its uplink. One with a time of its own that follows others of its name has them as earlier values.
pub fn put(readings: &mut BTreeMap<String, Reading>, name: &str, mut reading: Reading) {
    if reading.time.is_some()
        && let Some(mut before) = readings.remove(name)
        && let Some(time) = before.time
    {
        reading.earlier = std::mem::take(&mut before.earlier);
        reading.earlier.push(EarlierValue { value: before.value, time });
    }
    readings.insert(name.to_owned(), reading);
}

/// A reading and its earlier values, each by itself, oldest first.
pub fn apart<'a>(name: &'a String, reading: &'a Reading) -> impl Iterator<Item = (&'a String, Reading)> {
    let last = Reading { earlier: Vec::new(), ..reading.clone() };
    let like_last = last.clone();
    let earlier = reading.earlier.iter().map(move |earlier| Reading {
        value: earlier.value.clone(),
        time: Some(earlier.time),
        // What is said of the last value need not be so of an earlier one.
        word: None,
        raw: None,
        ..like_last.clone()
    });
    earlier.chain([last]).map(move |reading| (name, reading))
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use api::message::ReadingValue;
    use payload::Meaning;

    use super::*;

    fn found(at_ms: Option<i64>) -> payload::Reading {
        let of = Arc::new(Meaning { name: "level".into(), unit: None });
        payload::Reading { of, value: payload::ReadingValue::Number(1.0), bytes: None, at_ms }
    }

    #[test]
    fn a_time_that_cannot_be_is_left_out_and_told() {
        let heard = DateTime::from_timestamp_millis(1_777_885_200_000).unwrap();
        let mut warnings = Vec::new();
        let mut at = |ms: Option<i64>| measured_at(&found(ms), heard, &mut warnings);
        assert_eq!(at(None), Some(heard));
        assert_eq!(at(Some(1_777_885_000_000)).unwrap().timestamp_millis(), 1_777_885_000_000);
        assert_eq!(at(Some(1_777_985_200_000)), None, "a day ahead");
        assert_eq!(at(Some(0)), None, "a clock that was never set");
        assert_eq!(warnings.len(), 2);
        assert!(warnings[1].starts_with("level: it says that it was measured at 1970"), "{warnings:?}");
    }

    #[test]
    fn values_of_one_name_are_put_together_and_taken_apart() {
        let at = |ms| DateTime::from_timestamp_millis(ms);
        let timed = |n: f64, ms| Reading { time: at(ms), ..Reading::of(ReadingValue::Number(n)) };
        let mut readings = BTreeMap::new();
        for (n, ms) in [(1.0, 1000), (2.0, 2000), (3.0, 3000)] {
            put(&mut readings, "level", timed(n, ms));
        }
        put(&mut readings, "mode", Reading::of(ReadingValue::Text("ebb".into())));
        assert_eq!(readings["level"].earlier.len(), 2);
        assert_eq!(readings["level"].value, ReadingValue::Number(3.0));
        let (name, reading) = readings.first_key_value().unwrap();
        let apart: Vec<Reading> = apart(name, reading).map(|(_, reading)| reading).collect();
        assert_eq!(apart, [timed(1.0, 1000), timed(2.0, 2000), timed(3.0, 3000)]);
    }
}
