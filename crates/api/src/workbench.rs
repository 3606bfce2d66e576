//! The workbench: a draft of a decoder, tried on payloads and on stored uplinks beside the decoder in force.

use std::collections::{BTreeMap, BTreeSet};

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::message::{DeviceRef, Reading, ReadingValue};
use crate::model::{DecoderKind, TestPayload};
use crate::outbox::MAX_PAYLOAD;
use crate::problem::{self, Problem, bad_field};
use crate::reading::ReadingRule;

/// Stored uplinks that a draft is tried on, at most.
pub const MOST_UPLINKS: u32 = 500;
/// Payloads given along, at most.
const MOST_PAYLOADS: usize = 100;

/// A draft, and what to try it on.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Draft {
    /// What reads payloads; what is in force if not given.
    #[serde(default)]
    pub decoder: Option<String>,
    /// How that is written; a script if not given.
    #[serde(default)]
    pub decoder_kind: DecoderKind,
    /// Which of the model's decoders it is a draft of: that of some versions, as these are told in words. The one for all
    /// others if not given.
    #[serde(default)]
    #[schema(example = "firmware 1.0, 1.1")]
    pub version: Option<String>,
    /// What is to be known of its readings; what is in force if not given.
    #[serde(default)]
    pub readings: Option<BTreeMap<String, ReadingRule>>,
    /// What it must make of some payloads; the tests in force if not given.
    #[serde(default)]
    pub tests: Option<Vec<TestPayload>>,
    /// Payloads to try it on.
    #[serde(default)]
    pub payloads: Vec<DraftPayload>,
    /// So many of the last stored uplinks of devices that use it, at most 500.
    #[serde(default)]
    pub last: u32,
    /// Only those of this device.
    #[serde(default)]
    pub device: Option<String>,
    /// Stored uplinks by their names.
    #[serde(default)]
    pub messages: Vec<String>,
}

/// A payload to try a draft on.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct DraftPayload {
    /// FPort, 1 to 223.
    pub port: u8,
    /// In hex, in any pasted form.
    #[schema(example = "0a1b2c")]
    pub bytes: String,
}

impl Draft {
    /// The payloads as bytes, with their ports.
    ///
    /// # Errors
    /// Names the field, the value and what is allowed.
    pub fn check(&self) -> Result<Vec<(u8, Vec<u8>)>, Problem> {
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
        self.readings.iter().flatten().try_for_each(|(name, rule)| rule.check(name))?;
        self.tests.iter().flatten().try_for_each(TestPayload::check)?;
        self.payloads
            .iter()
            .map(|given| {
                if !(1..=223).contains(&given.port) {
                    return Err(bad_field("payloads.port", &given.port.to_string(), "FPort 1 to 223 are allowed"));
                }
                Ok((given.port, problem::payload("payloads.bytes", &given.bytes, MAX_PAYLOAD)?))
            })
            .collect()
    }
}

/// Why a decoder gives nothing, and where in its source.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct DecoderProblem {
    /// In words.
    pub message: String,
    /// Line, from 1.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub line: Option<u32>,
    /// Column, from 1.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub column: Option<u32>,
    /// A line that would make it decode, if it were added.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub adapter: Option<String>,
}

impl From<&payload::DecodeError> for DecoderProblem {
    fn from(error: &payload::DecodeError) -> Self {
        let place = error.place();
        Self {
            message: error.to_string(),
            line: place.map(|p| p.line),
            column: place.map(|p| p.column),
            adapter: error.adapter().map(str::to_owned),
        }
    }
}

impl From<String> for DecoderProblem {
    fn from(message: String) -> Self {
        Self { message, line: None, column: None, adapter: None }
    }
}

/// What a decoder makes of one payload.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Outcome {
    /// By name.
    pub readings: BTreeMap<String, Reading>,
    /// What it finds questionable.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub warnings: Vec<String>,
    /// Why there is nothing.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub problem: Option<DecoderProblem>,
    /// The places of the bytes that readings were found to depend on, by trying, where the decoder cannot tell.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub tried_bytes: BTreeMap<String, Vec<usize>>,
}

/// What becomes of an uplink.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum UplinkChange {
    /// It could be read, and cannot any more.
    Broken,
    /// It cannot be read by either.
    Fails,
    /// It could not be read, and now it can.
    Mended,
    /// Its readings are different.
    Changed,
    /// Nothing of it is different.
    Same,
}

impl UplinkChange {
    /// In words.
    pub const fn words(self) -> &'static str {
        match self {
            Self::Broken => "fails now",
            Self::Fails => "still fails",
            Self::Mended => "mended",
            Self::Changed => "changed",
            Self::Same => "the same",
        }
    }
}

/// One payload, read by the decoder in force and by the draft.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct TriedUplink {
    /// The stored uplink's name, if it is one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub message: Option<String>,
    /// Whose it is.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub device: Option<DeviceRef>,
    /// When it was received, or tried.
    #[serde(with = "crate::millis")]
    pub time: DateTime<Utc>,
    /// FPort.
    pub port: u8,
    /// In hex.
    pub payload: String,
    /// What becomes of it.
    pub change: UplinkChange,
    /// By the decoder in force, if there is one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub before: Option<Outcome>,
    /// By the draft.
    pub after: Outcome,
}

impl Outcome {
    /// A test that this is what must come of a payload, as the decoder gives it: before scales and words.
    pub fn as_test(&self, name: &str, port: u8, payload: &str) -> TestPayload {
        let readings = self.readings.iter().map(|(name, reading)| {
            let value = reading.raw.map_or_else(|| reading.value.clone(), ReadingValue::Number);
            (name.clone(), value)
        });
        TestPayload {
            name: name.to_owned(),
            port,
            bytes: payload.to_owned(),
            readings: readings.collect(),
            fails: self.problem.is_some(),
        }
    }
}

impl TriedUplink {
    /// Compares what became of it.
    pub fn change(before: Option<&Outcome>, after: &Outcome) -> UplinkChange {
        match (before.map(|outcome| &outcome.problem), &after.problem) {
            (Some(None), Some(_)) => UplinkChange::Broken,
            (_, Some(_)) => UplinkChange::Fails,
            (Some(Some(_)), None) => UplinkChange::Mended,
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
}

/// What becomes of a reading over all uplinks that both can read.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ReadingChange {
    /// Its name.
    pub name: String,
    /// Uplinks in which it appears.
    pub appears: usize,
    /// Uplinks in which it is no more.
    pub vanishes: usize,
    /// Uplinks in which its value or unit is another.
    pub changes: usize,
    /// Uplinks in which nothing of it is different.
    pub same: usize,
}

/// What came of trying a draft.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Tried {
    /// What was passed over in the draft.
    pub notes: Vec<String>,
    /// Why it does not load.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub problem: Option<DecoderProblem>,
    /// Which of the model's tests the draft fails, and how; the decoder would not be used.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub flaw: Option<String>,
    /// Each payload: those given, then stored ones, newest first.
    pub uplinks: Vec<TriedUplink>,
    /// What becomes of each reading.
    pub readings: Vec<ReadingChange>,
    /// Uplinks that were not tried, since the decoders took too long.
    pub left_out: usize,
}

impl Tried {
    /// How many uplinks there are of each change, worst first.
    pub fn counts(&self) -> BTreeMap<UplinkChange, usize> {
        let mut counts = BTreeMap::new();
        for uplink in &self.uplinks {
            *counts.entry(uplink.change).or_default() += 1;
        }
        counts
    }

    /// What becomes of each reading, by what became of the uplinks.
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
}

#[cfg(test)]
mod tests {
    use super::*;

    fn outcome(readings: &[(&str, f64)]) -> Outcome {
        let readings = readings.iter().map(|(n, v)| ((*n).to_owned(), Reading::of(ReadingValue::Number(*v)))).collect();
        Outcome { readings, ..Outcome::default() }
    }

    fn failed() -> Outcome {
        Outcome { problem: Some("no".to_owned().into()), ..Outcome::default() }
    }

    fn tried(before: Option<Outcome>, after: Outcome) -> TriedUplink {
        let change = TriedUplink::change(before.as_ref(), &after);
        let time = Utc::now();
        TriedUplink { message: None, device: None, time, port: 1, payload: String::new(), change, before, after }
    }

    #[test]
    fn what_becomes_of_an_uplink_is_told() {
        let change = |before, after| tried(before, after).change;
        assert_eq!(change(Some(outcome(&[("a", 1.0)])), failed()), UplinkChange::Broken);
        assert_eq!(change(Some(failed()), failed()), UplinkChange::Fails);
        assert_eq!(change(None, failed()), UplinkChange::Fails);
        assert_eq!(change(Some(failed()), outcome(&[])), UplinkChange::Mended);
        assert_eq!(change(Some(outcome(&[("a", 1.0)])), outcome(&[("a", 1.0)])), UplinkChange::Same);
        assert_eq!(change(Some(outcome(&[("a", 1.0)])), outcome(&[("a", 10.0)])), UplinkChange::Changed);
    }

    #[test]
    fn what_came_of_a_payload_can_be_kept_as_a_test() {
        let mut outcome = outcome(&[("a", 21.0)]);
        outcome.readings.insert("b".into(), Reading { raw: Some(210.0), ..Reading::of(ReadingValue::Number(21.0)) });
        let test = outcome.as_test("spring tide", 2, "0a");
        assert_eq!(test.readings["a"], ReadingValue::Number(21.0));
        assert_eq!(test.readings["b"], ReadingValue::Number(210.0), "before the scale");
        assert!(test.check().is_ok() && failed().as_test("bad", 2, "0b").fails);
    }

    #[test]
    fn what_becomes_of_readings_is_counted() {
        let uplinks = [
            tried(Some(outcome(&[("a", 1.0), ("b", 2.0)])), outcome(&[("a", 1.0), ("c", 2.0)])),
            tried(Some(outcome(&[("a", 1.0), ("b", 2.0)])), outcome(&[("a", 3.0), ("b", 2.0)])),
            tried(Some(failed()), outcome(&[("a", 1.0)])),
        ];
        let counted = |name: &str| {
            let all = Tried::changes(&uplinks);
            let found = all.iter().find(|change| change.name == name).unwrap();
            (found.appears, found.vanishes, found.changes, found.same)
        };
        assert_eq!(counted("a"), (1, 0, 1, 1));
        assert_eq!(counted("b"), (0, 1, 0, 1));
        assert_eq!(counted("c"), (1, 0, 0, 0));
        let tried = Tried { uplinks: uplinks.into(), ..Tried::default() };
        assert_eq!(tried.counts().keys().copied().collect::<Vec<_>>(), [UplinkChange::Mended, UplinkChange::Changed]);
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
