//! What outlets have delivered, and what they have given up.

use std::collections::BTreeMap;

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::{MessageType, Shape};

/// A request as it was made. Secrets are left out.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct MadeRequest {
    /// The method and the address.
    #[schema(example = "POST https://harbour.example/keen-heron")]
    pub line: String,
    /// Headers; those with secrets have `(hidden)` instead of their values.
    pub headers: BTreeMap<String, String>,
    /// The first 4,096 characters of the body.
    pub body: String,
}

/// An answer of the other side.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct GivenAnswer {
    /// Its status.
    #[schema(example = 200)]
    pub status: u16,
    /// The first 4,096 bytes of its body, as text.
    pub body: String,
}

/// A delivery, or a try at one.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Delivery {
    /// When it began.
    #[serde(with = "crate::millis")]
    pub at: DateTime<Utc>,
    /// Whether the messages in it were taken.
    pub delivered: bool,
    /// Why not.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub why: Option<String>,
    /// How long it took.
    pub took_ms: f64,
    /// The messages in it, by id.
    pub messages: Vec<String>,
    /// What was sent.
    pub request: MadeRequest,
    /// What was answered, if anything was.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub answer: Option<GivenAnswer>,
}

/// A message that was given up.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct DeadLetter {
    /// Its id.
    pub id: String,
    /// The message.
    #[schema(value_type = crate::message::Message)]
    pub message: crate::message::Message,
    /// When it was given up.
    #[serde(with = "crate::millis")]
    pub given_up_at: DateTime<Utc>,
    /// How often it was tried.
    pub tries: u32,
    /// Why it was not taken, the last time.
    pub why: String,
    /// What was sent, the last time.
    pub request: MadeRequest,
    /// What was answered, the last time.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub answer: Option<GivenAnswer>,
}

/// From when on messages are sent again.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SendAgain {
    /// From when on.
    pub since: DateTime<Utc>,
}

/// What comes of sending again.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct SentAgain {
    /// Messages that are looked at again, those of other fleets included. Beyond 100,000 they are not counted.
    pub messages: u64,
}

/// How many dead letters are tried again.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Replayed {
    /// How many.
    pub letters: u64,
}

/// A shape to be tried on stored messages.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ShapeTrial {
    /// The shape.
    pub shape: Shape,
    /// Only messages of this fleet.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub fleet: Option<String>,
    /// Only those of these types; all if there are none.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub types: Vec<MessageType>,
    /// Only those of devices of this model.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub model: Option<String>,
    /// How many of the latest; 5 if not given.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(minimum = 1, maximum = 20)]
    pub latest: Option<u32>,
    /// These messages and no others, in the order of the stream: the ids of their events, at most 20. Those that are kept no
    /// longer are left out.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    #[schema(max_items = 20)]
    pub events: Vec<String>,
}

/// What a shape makes of messages.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct ShapeTried {
    /// Message by message: of the latest ones the newest first, of events in the order of the stream.
    pub items: Vec<TriedMessage>,
}

/// What a shape makes of one message.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct TriedMessage {
    /// The message.
    #[schema(value_type = crate::message::Message)]
    pub before: crate::message::Message,
    /// What would be sent; nothing if it is left out, or if the script failed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<Object>)]
    pub after: Option<serde_json::Value>,
    /// Why nothing can be sent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub why: Option<crate::model::draft::DecoderProblem>,
}

/// What a command is answered.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct CommandAnswer {
    /// Whether there is a downlink for it.
    pub taken: bool,
    /// What the command's sender calls it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub reference: Option<String>,
    /// The device that it is for, if there is one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub device: Option<crate::message::DeviceRef>,
    /// The downlink. Each of its stages is a message that has its `id` as `outbox_id`, and the `reference`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub downlink: Option<crate::device::outbox::OutboxItem>,
    /// Why there is none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub problem: Option<crate::problem::Problem>,
}

/// Whether commands are taken from a broker.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct CommandsState {
    /// Whether they are.
    pub listening: bool,
    /// Since when.
    #[serde(with = "crate::millis")]
    pub since: DateTime<Utc>,
    /// Why they are not.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub why: Option<String>,
}

/// A command that came back from a broker, and what it was answered.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct CommandTaken {
    /// When it came.
    #[serde(with = "crate::millis")]
    pub at: DateTime<Utc>,
    /// The topic that it came on.
    pub topic: String,
    /// The first 4,096 characters of it.
    pub command: String,
    /// The answer, JSON.
    pub answer: String,
    /// Whether a downlink was added.
    pub taken: bool,
}
