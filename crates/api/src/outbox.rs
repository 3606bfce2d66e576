//! The downlinks of one device.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::problem::{self, Problem};

/// The largest payload a frame can carry at any data rate (RP002 §2.4.6).
pub const MAX_PAYLOAD: usize = 242;

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
    /// In words.
    pub const fn words(self) -> &'static str {
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
    /// Where it stands.
    pub state: OutboxState,
    /// What it waits for, or why it failed.
    pub note: Option<String>,
    /// Transmissions tried.
    pub attempts: u8,
    /// When it was put in.
    #[serde(with = "crate::millis")]
    pub added_at: DateTime<Utc>,
    /// When its state last changed.
    #[serde(with = "crate::millis")]
    pub changed_at: DateTime<Utc>,
}

/// A downlink to send.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct NewOutboxItem {
    /// FPort, 1 to 223.
    #[schema(minimum = 1, maximum = 223)]
    pub port: u32,
    /// The payload in hex, in any pasted form; at most 242 bytes.
    #[schema(example = "01 ff")]
    pub payload: String,
    /// Whether the device is to acknowledge it.
    #[serde(default)]
    pub confirmed: bool,
}

impl NewOutboxItem {
    /// Port and payload, checked.
    pub fn check(&self) -> Result<(u8, Vec<u8>), Problem> {
        let port = match u8::try_from(self.port) {
            Ok(port @ 1..=223) => port,
            _ => {
                let allowed = "1 to 223 are allowed: 0 is for MAC commands, 224 and above are reserved";
                return Err(problem::bad_field("port", &self.port.to_string(), allowed));
            }
        };
        Ok((port, problem::payload("payload", &self.payload, MAX_PAYLOAD)?))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn ports_and_payloads_are_checked() {
        let item = |port, payload: &str| NewOutboxItem { port, payload: payload.into(), confirmed: false }.check();
        assert_eq!(item(1, "01 ff").unwrap(), (1, vec![1, 255]));
        assert_eq!(item(223, "").unwrap(), (223, vec![]));
        for port in [0, 224, 300] {
            assert_eq!(item(port, "01").unwrap_err().field.as_deref(), Some("port"));
        }
        assert_eq!(item(1, "xyz").unwrap_err().field.as_deref(), Some("payload"));
        assert!(item(1, &"00".repeat(243)).is_err());
    }
}
