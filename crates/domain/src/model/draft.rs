//! The rules of the workbench: what a draft may ask for, and how results before and after compare.

use std::collections::{BTreeMap, BTreeSet};

use api::message::ReadingValue;
use api::model::TestPayload;
use api::model::draft::{DecoderProblem, Draft, Outcome, ReadingChange, Tried, TriedUplink, UplinkChange};
use api::problem::{Problem, bad_field};

use crate::downlink::MAX_PAYLOAD;
use crate::reading::rule;
use crate::{Check, input};

/// Stored uplinks that a draft is tried on, at most.
pub const MOST_UPLINKS: u32 = 500;

/// Payloads given along, at most.
const MOST_PAYLOADS: usize = 100;

impl Check for Draft {
    type Checked = Vec<(u8, Vec<u8>)>;

    /// The payloads as bytes, with their ports.
    ///
    /// # Errors
    /// Names the field, the value and what is allowed.
    fn check(&self) -> Result<Self::Checked, Problem> {
        if self.last > MOST_UPLINKS {
            return Err(bad_field("last", &self.last.to_string(), format!("at most {MOST_UPLINKS} are allowed")));
        }
        for (field, given) in [("payloads", self.payloads.len()), ("messages", self.messages.len())] {
            if given > MOST_PAYLOADS {
                return Err(bad_field(
                    field,
                    &format!("{given} of them"),
                    format!("at most {MOST_PAYLOADS} are allowed"),
                ));
            }
        }
        self.readings.iter().flatten().try_for_each(|(name, rule)| rule::check(rule, name))?;
        self.tests.iter().flatten().try_for_each(TestPayload::check)?;
        self.payloads
            .iter()
            .map(|given| {
                if !(1..=223).contains(&given.port) {
                    return Err(bad_field("payloads.port", &given.port.to_string(), "FPort 1 to 223 are allowed"));
                }
                Ok((given.port, input::payload("payloads.bytes", &given.bytes, MAX_PAYLOAD)?))
            })
            .collect()
    }
}

/// What is wrong with a decoder, and where.
pub fn decoder_problem(error: &payload::DecodeError) -> DecoderProblem {
    let place = error.place();
    DecoderProblem {
        message: error.to_string(),
        line: place.map(|p| p.line),
        column: place.map(|p| p.column),
        adapter: error.adapter().map(str::to_owned),
    }
}

/// A test with this result for a payload, as the decoder returns it, before scales and words.
pub fn as_test(outcome: &Outcome, name: &str, port: u8, payload: &str) -> TestPayload {
    let readings = outcome.readings.iter().map(|(name, reading)| {
        let value = reading.raw.map_or_else(|| reading.value.clone(), ReadingValue::Number);
        (name.clone(), value)
    });
    TestPayload {
        name: name.to_owned(),
        port,
        bytes: payload.to_owned(),
        readings: readings.collect(),
        fails: outcome.problem.is_some(),
    }
}

/// Compares the two results.
pub fn change(before: Option<&Outcome>, after: &Outcome) -> UplinkChange {
    match (before.map(|outcome| &outcome.problem), &after.problem) {
        (Some(None), Some(_)) => UplinkChange::Broken,
        (_, Some(_)) => UplinkChange::Fails,
        (Some(Some(_)), None) => UplinkChange::Fixed,
        (None, None) => UplinkChange::Changed,
        (Some(None), None) => {
            let shown = |outcome: &Outcome| -> BTreeMap<String, String> {
                outcome.readings.iter().map(|(name, reading)| (name.clone(), reading.to_string())).collect()
            };
            let same = before.is_some_and(|before| shown(before) == shown(after));
            if same { UplinkChange::Same } else { UplinkChange::Changed }
        }
    }
}

/// How many uplinks there are of each change, worst first.
pub fn counts(tried: &Tried) -> BTreeMap<UplinkChange, usize> {
    let mut counts = BTreeMap::new();
    for uplink in &tried.uplinks {
        *counts.entry(uplink.change).or_default() += 1;
    }
    counts
}

/// The changes of each reading, from the results of the uplinks.
pub fn changes(uplinks: &[TriedUplink]) -> Vec<ReadingChange> {
    let nothing = Outcome::default();
    let mut changes: BTreeMap<&str, ReadingChange> = BTreeMap::new();
    for uplink in uplinks {
        let before = uplink.before.as_ref().unwrap_or(&nothing);
        let names: BTreeSet<&String> = before.readings.keys().chain(uplink.after.readings.keys()).collect();
        for name in names {
            let change = changes.entry(name).or_insert_with(|| ReadingChange {
                name: name.clone(),
                appears: 0,
                vanishes: 0,
                changes: 0,
                same: 0,
            });
            match (before.readings.get(name), uplink.after.readings.get(name)) {
                (None, _) => change.appears += 1,
                (_, None) => change.vanishes += 1,
                (Some(was), Some(is)) if was.to_string() == is.to_string() => change.same += 1,
                _ => change.changes += 1,
            }
        }
    }
    changes.into_values().collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use api::message::Reading;
    use api::model::draft::DraftPayload;
    use chrono::Utc;

    fn outcome(readings: &[(&str, f64)]) -> Outcome {
        let readings = readings.iter().map(|(n, v)| ((*n).to_owned(), Reading::of(ReadingValue::Number(*v)))).collect();
        Outcome { readings, ..Outcome::default() }
    }

    fn failed() -> Outcome {
        Outcome { problem: Some("no".to_owned().into()), ..Outcome::default() }
    }

    fn tried(before: Option<Outcome>, after: Outcome) -> TriedUplink {
        let change = super::change(before.as_ref(), &after);
        let time = Utc::now();
        TriedUplink { message: None, device: None, time, port: 1, payload: String::new(), change, before, after }
    }

    #[test]
    fn what_becomes_of_an_uplink_is_told() {
        let change = |before, after| tried(before, after).change;
        assert_eq!(change(Some(outcome(&[("a", 1.0)])), failed()), UplinkChange::Broken);
        assert_eq!(change(Some(failed()), failed()), UplinkChange::Fails);
        assert_eq!(change(None, failed()), UplinkChange::Fails);
        assert_eq!(change(Some(failed()), outcome(&[])), UplinkChange::Fixed);
        assert_eq!(change(Some(outcome(&[("a", 1.0)])), outcome(&[("a", 1.0)])), UplinkChange::Same);
        assert_eq!(change(Some(outcome(&[("a", 1.0)])), outcome(&[("a", 10.0)])), UplinkChange::Changed);
    }

    #[test]
    fn what_came_of_a_payload_can_be_kept_as_a_test() {
        let mut outcome = outcome(&[("a", 21.0)]);
        outcome.readings.insert("b".into(), Reading { raw: Some(210.0), ..Reading::of(ReadingValue::Number(21.0)) });
        let test = as_test(&outcome, "spring tide", 2, "0a");
        assert_eq!(test.readings["a"], ReadingValue::Number(21.0));
        assert_eq!(test.readings["b"], ReadingValue::Number(210.0), "before the scale");
        assert!(test.check().is_ok() && as_test(&failed(), "bad", 2, "0b").fails);
    }

    #[test]
    fn what_becomes_of_readings_is_counted() {
        let uplinks = [
            tried(Some(outcome(&[("a", 1.0), ("b", 2.0)])), outcome(&[("a", 1.0), ("c", 2.0)])),
            tried(Some(outcome(&[("a", 1.0), ("b", 2.0)])), outcome(&[("a", 3.0), ("b", 2.0)])),
            tried(Some(failed()), outcome(&[("a", 1.0)])),
        ];
        let counted = |name: &str| {
            let all = changes(&uplinks);
            let found = all.iter().find(|change| change.name == name).unwrap();
            (found.appears, found.vanishes, found.changes, found.same)
        };
        assert_eq!(counted("a"), (1, 0, 1, 1));
        assert_eq!(counted("b"), (0, 1, 0, 1));
        assert_eq!(counted("c"), (1, 0, 0, 0));
        let tried = Tried { uplinks: uplinks.into(), ..Tried::default() };
        assert_eq!(counts(&tried).keys().copied().collect::<Vec<_>>(), [UplinkChange::Fixed, UplinkChange::Changed]);
    }

    #[test]
    fn a_draft_that_asks_for_too_much_is_refused() {
        let field = |draft: Draft| draft.check().unwrap_err().field.unwrap();
        assert_eq!(field(Draft { last: 501, ..Draft::default() }), "last");
        let payload = |port, bytes: &str| Draft {
            payloads: vec![DraftPayload { port, bytes: bytes.into() }],
            ..Draft::default()
        };
        assert_eq!(field(payload(0, "00")), "payloads.port");
        assert_eq!(field(payload(1, "0g")), "payloads.bytes");
        assert_eq!(field(payload(1, &"00".repeat(243))), "payloads.bytes");
        assert_eq!(field(Draft { messages: vec![String::new(); 101], ..Draft::default() }), "messages");
        assert_eq!(payload(1, "0A 1b").check().unwrap(), [(1, vec![10, 27])]);
        assert_eq!(payload(1, "").check().map(|all| all[0].1.len()), Ok(0), "a payload may be empty");
    }
}
