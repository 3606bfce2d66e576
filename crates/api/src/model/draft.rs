//! The workbench: a draft of a decoder, tried on payloads and on stored uplinks.

use std::collections::BTreeMap;

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::message::{DeviceRef, Reading};
use crate::model::{DecoderKind, TestPayload};
use crate::reading::ReadingRule;

/// A draft, and what to try it on.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Draft {
    /// What decodes payloads; the current decoder if not given.
    #[serde(default)]
    pub decoder: Option<String>,
    /// How that is written; a script if not given.
    #[serde(default)]
    pub decoder_kind: DecoderKind,
    /// Which of the model's decoders it is a draft of: that of some versions, as these are told in words. The one for
    /// all others if not given.
    #[serde(default)]
    #[schema(example = "firmware 1.0, 1.1")]
    pub version: Option<String>,
    /// The rules of its readings; the current ones if not given.
    #[serde(default)]
    pub readings: Option<BTreeMap<String, ReadingRule>>,
    /// Tests: payloads with their expected results; the current tests if not given.
    #[serde(default)]
    pub tests: Option<Vec<TestPayload>>,
    /// Payloads to try it on.
    #[serde(default)]
    pub payloads: Vec<DraftPayload>,
    /// How many of the last stored uplinks of its devices to try, at most 500.
    #[serde(default)]
    #[schema(minimum = 0, maximum = 500)]
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
    #[schema(minimum = 1, maximum = 223)]
    pub port: u8,
    /// In hex, in any pasted form.
    #[schema(example = "0a1b2c")]
    pub bytes: String,
}

/// Why a decoder fails, and where in its source.
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

impl From<String> for DecoderProblem {
    fn from(message: String) -> Self {
        Self { message, line: None, column: None, adapter: None }
    }
}

/// The result of a decoder for one payload.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Outcome {
    /// By name.
    pub readings: BTreeMap<String, Reading>,
    /// Warnings.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub warnings: Vec<String>,
    /// Why there are no readings.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub problem: Option<DecoderProblem>,
    /// The places of the bytes that readings were found to depend on, by trying, where the decoder cannot tell.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub tried_bytes: BTreeMap<String, Vec<usize>>,
}

/// The change of an uplink's result.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum UplinkChange {
    /// It could be decoded, and cannot any more.
    Broken,
    /// Neither can decode it.
    Fails,
    /// It could not be decoded, and now it can.
    Fixed,
    /// Its readings are different.
    Changed,
    /// It is the same.
    Same,
}

impl UplinkChange {
    /// In words.
    pub const fn label(self) -> &'static str {
        match self {
            Self::Broken => "fails now",
            Self::Fails => "still fails",
            Self::Fixed => "fixed",
            Self::Changed => "changed",
            Self::Same => "the same",
        }
    }
}

/// One payload, read by the current decoder and by the draft.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct TriedUplink {
    /// The stored uplink's name, if it is one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub message: Option<String>,
    /// Its device.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub device: Option<DeviceRef>,
    /// When it was received, or tried.
    #[serde(with = "crate::millis")]
    pub time: DateTime<Utc>,
    /// FPort.
    pub port: u8,
    /// In hex.
    pub payload: String,
    /// The result.
    pub change: UplinkChange,
    /// By the current decoder, if there is one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub before: Option<Outcome>,
    /// By the draft.
    pub after: Outcome,
}

/// The changes of a reading over all uplinks that both can decode.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ReadingChange {
    /// Its name.
    pub name: String,
    /// Uplinks in which it appears.
    pub appears: usize,
    /// Uplinks that no longer have it.
    pub vanishes: usize,
    /// Uplinks in which its value or unit is another.
    pub changes: usize,
    /// Uplinks in which nothing of it is different.
    pub same: usize,
}

/// The result of trying a draft.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Tried {
    /// What was skipped in the draft.
    pub notes: Vec<String>,
    /// Why it does not load.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub problem: Option<DecoderProblem>,
    /// Which of the model's tests the draft fails, and how; the decoder would not be used.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub flaw: Option<String>,
    /// Each payload: those given, then stored ones, newest first.
    pub uplinks: Vec<TriedUplink>,
    /// The changes of each reading.
    pub readings: Vec<ReadingChange>,
    /// Uplinks that were not tried, since the decoders took too long.
    pub left_out: usize,
}
