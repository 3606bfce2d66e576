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
    /// Whether it is still to be sent or acknowledged.
    pub const fn is_open(self) -> bool {
        matches!(self, Self::Waiting | Self::UnderWay | Self::AwaitingAck)
    }

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
    /// Transmissions allowed, where it is not the device's radio profile that says so.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub max_attempts: Option<u8>,
    /// When it is given up, if it has not been sent by then.
    #[serde(default, skip_serializing_if = "Option::is_none", with = "crate::millis_option")]
    pub expires_at: Option<DateTime<Utc>>,
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
    /// Transmissions allowed, 1 to 50; the device's radio profile says so if not given.
    #[serde(default)]
    #[schema(minimum = 1, maximum = 50)]
    pub max_attempts: Option<u32>,
    /// Seconds after which it is given up, if it has not been sent by then; at most 30 days.
    #[serde(default)]
    pub expires_in_s: Option<f64>,
}

/// The longest time a downlink may wait, in seconds.
const LONGEST_WAIT_S: f64 = 30.0 * 86_400.0;

/// A downlink whose values have been checked.
#[derive(Debug, Clone, PartialEq)]
pub struct CheckedOutboxItem {
    pub port: u8,
    pub payload: Vec<u8>,
    pub confirmed: bool,
    pub max_attempts: Option<u8>,
    pub expires_in_us: Option<i64>,
}

impl NewOutboxItem {
    /// Reads and checks every field.
    pub fn check(&self) -> Result<CheckedOutboxItem, Problem> {
        let port = match u8::try_from(self.port) {
            Ok(port @ 1..=223) => port,
            _ => {
                let allowed = "1 to 223 are allowed: 0 is for MAC commands, 224 and above are reserved";
                return Err(problem::bad_field("port", &self.port.to_string(), allowed));
            }
        };
        let max_attempts = match self.max_attempts {
            None => None,
            Some(n @ 1..=50) => Some(n as u8),
            Some(n) => return Err(problem::bad_field("max_attempts", &n.to_string(), "1 to 50 are allowed")),
        };
        let within = |s| problem::range("expires_in_s", s, 1.0, LONGEST_WAIT_S, "s").map(|s| (s * 1e6) as i64);
        Ok(CheckedOutboxItem {
            port,
            payload: problem::payload("payload", &self.payload, MAX_PAYLOAD)?,
            confirmed: self.confirmed,
            max_attempts,
            expires_in_us: self.expires_in_s.map(within).transpose()?,
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn ports_and_payloads_are_checked() {
        let new = |port, payload: &str| NewOutboxItem {
            port,
            payload: payload.into(),
            confirmed: false,
            max_attempts: None,
            expires_in_s: None,
        };
        let item = |port, payload: &str| new(port, payload).check();
        assert_eq!(item(1, "01 ff").unwrap().payload, [1, 255]);
        assert_eq!(item(223, "").unwrap().port, 223);
        let field = |item: NewOutboxItem| item.check().unwrap_err().field.unwrap();
        assert_eq!(field(NewOutboxItem { max_attempts: Some(0), ..new(1, "") }), "max_attempts");
        assert_eq!(field(NewOutboxItem { expires_in_s: Some(1e9), ..new(1, "") }), "expires_in_s");
        for port in [0, 224, 300] {
            assert_eq!(item(port, "01").unwrap_err().field.as_deref(), Some("port"));
        }
        assert_eq!(item(1, "xyz").unwrap_err().field.as_deref(), Some("payload"));
        assert!(item(1, &"00".repeat(243)).is_err());
    }
}
