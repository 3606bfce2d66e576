//! A model's scripts, tried on its own test payloads.

use std::time::Duration;

use payload::check::{Expected, check};
use payload::{Interpreter, Limits, Script};

use crate::message::ReadingValue;
use crate::model::{PutModel, TestPayload};

/// One test payload may take so long; no device's payload is allowed more.
const TEST_TIME: Duration = Duration::from_millis(250);
/// All tests of a model together.
const TESTS_TIME: Duration = Duration::from_secs(5);

/// What is wrong with a model's decoders.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Flaw {
    /// In words.
    pub why: String,
    /// Whether its scripts at least load.
    pub loads: bool,
}

/// The first thing that is wrong with a model's decoders, if anything is: that one does not load, or fails a test. This runs
/// scripts, so it is not for a thread that serves; `clock` is any that goes forward.
pub fn flaw(about: &PutModel, clock: fn() -> Duration) -> Option<Flaw> {
    let begun = clock();
    let own = about.decoder.as_ref().map(|source| ("its decoder".to_owned(), source, &about.tests));
    let versions = about.versions.iter().map(|v| (format!("its decoder for {}", v.words()), &v.decoder, &v.tests));
    own.into_iter().chain(versions).find_map(|(which, source, tests)| {
        let script = match Script::new(source, Limits::default()) {
            Ok(script) => script,
            Err(why) => return Some(Flaw { why: format!("{which} cannot be used: {why}"), loads: false }),
        };
        let failed = tests.iter().find_map(|test| {
            let late = clock().saturating_sub(begun) > TESTS_TIME;
            let late = late.then(|| format!("the model's tests take longer than {} s", TESTS_TIME.as_secs()));
            Some((test, late.or_else(|| try_on(&script, test, clock).err())?))
        });
        let words = |(test, why): (&TestPayload, String)| format!("{which} fails its test {:?}: {why}", test.name);
        failed.map(words).map(|why| Flaw { why, loads: true })
    })
}

fn try_on(script: &Script, test: &TestPayload, clock: fn() -> Duration) -> Result<(), String> {
    let bytes = hex::decode(&test.bytes).map_err(|why| why.to_string())?;
    let value = |value: &ReadingValue| match value {
        ReadingValue::Boolean(b) => payload::ReadingValue::Boolean(*b),
        ReadingValue::Number(n) => payload::ReadingValue::Number(*n),
        ReadingValue::Text(t) => payload::ReadingValue::Text(t.clone()),
    };
    let readings = test.readings.iter().map(|(name, expected)| (name.clone(), value(expected))).collect();
    let readings = (!test.fails).then_some(&readings);
    let started = clock();
    let over = move || clock().saturating_sub(started) > TEST_TIME;
    check(&mut Interpreter::new(), script, Expected { port: test.port, bytes: &bytes, readings }, over)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_model_that_fails_its_own_test_is_found_out() {
        let test = TestPayload {
            name: "one".into(),
            port: 1,
            bytes: "01".into(),
            readings: [("level".to_owned(), ReadingValue::Number(10.0))].into(),
            fails: false,
        };
        let decoder = Some("function decodeUplink(i) { return {data: {level: i.bytes[0]}} }".to_owned());
        let mut about = PutModel { decoder, tests: vec![test], ..PutModel::default() };
        let still = || Duration::ZERO;
        let found = flaw(&about, still).unwrap();
        assert_eq!(found.why, "its decoder fails its test \"one\": level is 1, 10 expected");
        assert!(found.loads);
        about.tests[0].readings.insert("level".into(), ReadingValue::Number(1.0));
        assert_eq!(flaw(&about, still), None);
        about.decoder = Some("function decodeUplink(i) { for (;;) {} }".into());
        assert!(flaw(&about, still).unwrap().why.contains("endless loop"));
        about.decoder = Some("nonsense(".into());
        assert!(!flaw(&about, still).unwrap().loads);
    }
}
