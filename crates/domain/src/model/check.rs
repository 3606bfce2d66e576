//! Running a model's own tests against its decoders.

use std::time::Duration;

use api::message::ReadingValue;
use api::model::{PutModel, TestCommand, TestPayload};
use payload::check::{Expected, ExpectedCommand, check, check_command};
use payload::{Decoder, Interpreter};

use crate::model::request::payload_kind;

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

/// The first flaw of a model's decoders, if there is one: a decoder that does not load, or fails a test. Blocks while
/// it runs scripts; `clock` is any monotonic clock.
pub fn flaw(about: &PutModel, clock: fn() -> Duration) -> Option<Flaw> {
    let begun = clock();
    let own = about
        .decoder
        .as_ref()
        .map(|source| ("its decoder".to_owned(), source, about.decoder_kind, &about.tests, &about.commands));
    let versions = about
        .versions
        .iter()
        .map(|v| (format!("its decoder for {}", v.label()), &v.decoder, v.decoder_kind, &v.tests, &v.commands));
    own.into_iter().chain(versions).find_map(|(which, source, kind, tests, commands)| {
        let decoder = match Decoder::new(payload_kind(kind), source) {
            Ok(decoder) => decoder,
            Err(why) => return Some(Flaw { why: format!("{which} cannot be used: {why}"), loads: false }),
        };
        let late = || match clock().saturating_sub(begun) > TESTS_TIME {
            true => Err(format!("the model's tests take longer than {} s", TESTS_TIME.as_secs())),
            false => Ok(()),
        };
        let tests = tests.iter().map(|test| (&test.name, Test::Payload(test)));
        let commands = commands.iter().map(|command| (&command.name, Test::Command(command)));
        let failed = |(name, test): (&String, Test<'_>)| {
            let why = late().and_then(|()| try_on(&decoder, test)).err()?;
            Some(Flaw { why: format!("{which} fails its test {name:?}: {why}"), loads: true })
        };
        tests.chain(commands).find_map(failed)
    })
}

#[derive(Clone, Copy)]
enum Test<'a> {
    Payload(&'a TestPayload),
    Command(&'a TestCommand),
}

/// What a script may use is counted in steps and memory, so that a test gives the same answer on every machine.
fn try_on(decoder: &Decoder, test: Test<'_>) -> Result<(), String> {
    let bytes = |text: &str| hex::decode(text).map_err(|why| why.to_string());
    match test {
        Test::Payload(test) => {
            let bytes = bytes(&test.bytes)?;
            let readings = test.readings.iter().map(|(name, expected)| (name.clone(), value(expected))).collect();
            let readings = (!test.fails).then_some(&readings);
            check(&mut Interpreter::new(), decoder, Expected { port: test.port, bytes: &bytes, readings }, || false)
        }
        Test::Command(test) => {
            let expected = bytes(test.bytes.as_deref().unwrap_or_default())?;
            let downlink = test.port.filter(|_| !test.fails).map(|port| (port, &*expected));
            check_command(&mut Interpreter::new(), decoder, ExpectedCommand { values: &test.values, downlink }, || {
                false
            })
        }
    }
}

fn value(value: &ReadingValue) -> payload::ReadingValue {
    match value {
        ReadingValue::Boolean(b) => payload::ReadingValue::Boolean(*b),
        ReadingValue::Number(n) => payload::ReadingValue::Number(*n),
        ReadingValue::Text(t) => payload::ReadingValue::Text(t.clone()),
    }
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
        let values = serde_json::Map::from_iter([("open".to_owned(), 40.into())]);
        let (port, bytes) = (Some(10), Some("2800".to_owned()));
        about.commands = vec![TestCommand { name: "ajar".into(), values, port, bytes, fails: false }];
        assert!(flaw(&about, still).unwrap().why.contains("\"ajar\": the script has no function encodeDownlink"));
        about.decoder.as_mut().unwrap().push_str("; var encodeDownlink = (i) => ({bytes: [i.data.open]})");
        assert!(flaw(&about, still).unwrap().why.ends_with("\"ajar\": the bytes are 28, 2800 expected"));
        about.commands[0].bytes = Some("28".into());
        assert_eq!(flaw(&about, still), None);
        about.commands.clear();
        about.decoder = Some("function decodeUplink(i) { for (;;) {} }".into());
        assert!(flaw(&about, still).unwrap().why.contains("endless loop"));
        about.decoder = Some("nonsense(".into());
        assert!(!flaw(&about, still).unwrap().loads);
    }
}
