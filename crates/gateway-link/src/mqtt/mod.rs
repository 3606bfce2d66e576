//! Gateways behind an MQTT broker: topics and payloads of our own, as JSON.
//!
//! Below `keen-heron/v1/gateways/NAME/` each gateway has its own topics, so that a broker can keep gateways apart by
//! one rule. The [`Name`] is also in its certificate:
//!
//! | topic | from | payload |
//! |---|---|---|
//! | `state` | gateway, retained, and as its last will | [`State`] |
//! | `up` | gateway | frames heard, and the gateway's report on itself: [`read_up`] |
//! | `down` | service | [`Order`]: a frame to send |
//! | `sent` | gateway | [`Report`]: what became of it |
//! | `ask` | service | [`Echo`] |
//! | `answer` | gateway | the [`Echo`] it was asked with |
//!
//! In [`SERVICE`] the service says, retained and as its last will, whether it hears what gateways publish. A broker
//! keeps nothing for a subscriber it does not know yet, so a gateway keeps its frames until then.

use serde::{Deserialize, Serialize};
use thiserror::Error;

mod down;
mod modulation;
mod topic;
mod up;

pub use down::{Order, Report};
pub use topic::{Name, ROOT, Topic};
pub use up::{read_up, write_up};

/// Where the service says whether it is there, as a [`State`].
pub const SERVICE: &str = "keen-heron/v1/service";
/// The longest payload that is looked at.
pub const MAX_PAYLOAD: usize = 16 * 1024;

/// Why a payload cannot be read.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum PayloadError {
    /// Longer than [`MAX_PAYLOAD`].
    #[error("{len} bytes are more than the {MAX_PAYLOAD} allowed")]
    TooLong {
        /// Bytes there.
        len: usize,
    },
    /// Not JSON of the right shape.
    #[error("the JSON is not readable: {0}")]
    Json(String),
}

/// Reads a payload.
pub fn read<'de, T: Deserialize<'de>>(payload: &'de [u8]) -> Result<T, PayloadError> {
    if payload.len() > MAX_PAYLOAD {
        return Err(PayloadError::TooLong { len: payload.len() });
    }
    serde_json::from_slice(payload).map_err(|why| PayloadError::Json(why.to_string()))
}

/// Writes a payload.
pub fn write(payload: &impl Serialize) -> Vec<u8> {
    serde_json::to_vec(payload).unwrap_or_default()
}

/// Whether a gateway, or the service, is there.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct State {
    /// It is.
    pub connected: bool,
    /// The program that speaks for it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub software: Option<String>,
}

impl State {
    /// A last will: the broker publishes it when the client is gone.
    pub const GONE: Self = Self { connected: false, software: None };
}

/// A question that a gateway gives back, so that the way there and back is measured.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Echo {
    /// Of the service's choice.
    pub number: u32,
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn a_payload_is_read_up_to_its_longest() {
        assert_eq!(write(&State::GONE), br#"{"connected":false}"#);
        assert_eq!(read::<Echo>(br#"{"number":12}"#), Ok(Echo { number: 12 }));
        let long = [b' '; MAX_PAYLOAD + 1];
        assert_eq!(read::<Echo>(&long), Err(PayloadError::TooLong { len: MAX_PAYLOAD + 1 }));
        assert!(read::<Order>(b"{}").unwrap_err().to_string().contains("missing field"));
    }

    proptest! {
        #[test]
        fn no_payload_makes_it_panic(payload in prop::collection::vec(any::<u8>(), 0..200), topic in ".{0,60}") {
            let _ = (read::<State>(&payload), read::<Order>(&payload), read::<Report>(&payload), Topic::parse(&topic));
        }
    }
}
