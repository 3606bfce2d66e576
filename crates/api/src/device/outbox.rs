//! The downlinks of one device.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Where a downlink stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum OutboxState {
    /// In the outbox; `note` says what for.
    Waiting,
    /// Handed to a gateway.
    UnderWay,
    /// Sent; the device has yet to acknowledge it.
    AwaitingAck,
    /// Sent by a gateway. Done, as no acknowledgement was asked for.
    Sent,
    /// Acknowledged by the device. Done.
    Acknowledged,
    /// Given up; `note` says why.
    Failed,
    /// Taken out before it was sent.
    Cancelled,
}

impl OutboxState {
    /// Whether it is still to be sent or acknowledged.
    pub const fn is_open(self) -> bool {
        matches!(self, Self::Waiting | Self::UnderWay | Self::AwaitingAck)
    }

    /// In words.
    pub const fn label(self) -> &'static str {
        match self {
            Self::Waiting => "waiting",
            Self::UnderWay => "under way",
            Self::AwaitingAck => "awaiting acknowledgement",
            Self::Sent => "sent",
            Self::Acknowledged => "acknowledged",
            Self::Failed => "failed",
            Self::Cancelled => "cancelled",
        }
    }
}

/// A downlink in a device's outbox.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct OutboxItem {
    /// Its name.
    pub id: String,
    /// FPort.
    pub port: u8,
    /// The payload, in hex.
    #[schema(example = "01ff")]
    pub payload: String,
    /// Whether the device is to acknowledge it.
    pub confirmed: bool,
    /// Its state.
    pub state: OutboxState,
    /// What it waits for, or why it failed.
    pub note: Option<String>,
    /// How many go before it, for one that waits.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ahead: Option<u32>,
    /// When it is expected to go, as far as the device's usual interval tells; a time that has passed means that the
    /// device is overdue.
    #[serde(default, skip_serializing_if = "Option::is_none", with = "crate::millis_option")]
    pub expected_at: Option<DateTime<Utc>>,
    /// Transmissions tried.
    pub attempts: u8,
    /// Transmissions allowed, where it is not the device's radio profile that says so.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub max_attempts: Option<u8>,
    /// When it is given up, if it has not been sent by then.
    #[serde(default, skip_serializing_if = "Option::is_none", with = "crate::millis_option")]
    pub expires_at: Option<DateTime<Utc>>,
    /// What its sender calls it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub reference: Option<String>,
    /// When it was added.
    #[serde(with = "crate::millis")]
    pub added_at: DateTime<Utc>,
    /// When its state last changed.
    #[serde(with = "crate::millis")]
    pub changed_at: DateTime<Utc>,
}

/// A downlink to send. Exactly one of `payload`, `payload_base64`, `text` and `values` says what.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewOutboxItem {
    /// FPort, 1 to 223. An encoder may choose it for named values.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(minimum = 1, maximum = 223)]
    pub port: Option<u32>,
    /// The payload in hex, in any pasted form; at most 242 bytes. It may be empty.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(example = "01 ff")]
    pub payload: Option<String>,
    /// The payload in base64.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(example = "Af8=")]
    pub payload_base64: Option<String>,
    /// The payload as text, sent as UTF-8.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(example = "reboot")]
    pub text: Option<String>,
    /// Named values, for the encoder of the device's model.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Object, example = json!({ "opening": 40 }))]
    pub values: Option<Values>,
    /// A command of the device's model by its name; its values go through the encoder.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(example = "open to 40 %")]
    pub command: Option<String>,
    /// Whether the device is to acknowledge it.
    #[serde(default)]
    pub confirmed: bool,
    /// Whether it goes before all that wait already.
    #[serde(default)]
    pub first: bool,
    /// Transmissions allowed, 1 to 50; the device's radio profile says so if not given.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(minimum = 1, maximum = 50)]
    pub max_attempts: Option<u32>,
    /// Seconds after which it is given up, if it has not been sent by then; at most 30 days.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(minimum = 1, maximum = 2_592_000)]
    pub expires_in_s: Option<f64>,
    /// What you call it, 1 to 64 characters: each of its messages has this beside its own name.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(max_length = 64, example = "spring-tide-17")]
    pub reference: Option<String>,
}

/// Values by name, as an encoder takes them.
pub type Values = serde_json::Map<String, serde_json::Value>;

/// What adding a downlink would do, before it is added.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct OutboxReadBack {
    /// FPort.
    pub port: u8,
    /// The payload, in hex.
    #[schema(example = "28")]
    pub payload: String,
    /// Its bytes.
    pub length: usize,
    /// The named values in it, as the model's decoder reads downlinks, if it does.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<Object>, example = json!({ "opening": 40 }))]
    pub reads_as: Option<Values>,
    /// What it would wait for.
    pub note: String,
    /// How many would go before it.
    pub ahead: u32,
    /// When it would be expected to go.
    #[serde(default, skip_serializing_if = "Option::is_none", with = "crate::millis_option")]
    pub expected_at: Option<DateTime<Utc>>,
    /// What the encoder found questionable.
    pub warnings: Vec<String>,
}

/// Changes of a waiting downlink.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ChangeOutboxItem {
    /// Its new place.
    pub place: OutboxPlace,
}

/// A waiting downlink's place in the queue.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case", deny_unknown_fields)]
pub enum OutboxPlace {
    /// Before all others.
    First,
    /// After all others.
    Last,
    /// Before the one of this name.
    Before(String),
}
