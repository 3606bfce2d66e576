//! Gateways behind an MQTT broker: topics and payloads of our own, as JSON.
//!
//! Below `keen-heron/v1/gateways/EUI/` each gateway has its own topics, so that a broker can keep gateways apart by
//! one rule:
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

use lorawan::Eui64;
use serde::{Deserialize, Serialize};
use thiserror::Error;

mod down;
mod modulation;
mod up;

pub use down::{Order, Report};
pub use up::{read_up, write_up};

/// Before each gateway's topics.
pub const ROOT: &str = "keen-heron/v1/gateways";
/// Where the service says whether it is there, as a [`State`].
pub const SERVICE: &str = "keen-heron/v1/service";
/// The longest payload that is looked at.
pub const MAX_PAYLOAD: usize = 16 * 1024;

/// One of a gateway's topics.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Topic {
    /// Whether it is there.
    State,
    /// Frames and reports.
    Up,
    /// Frames to send.
    Down,
    /// What became of those.
    Sent,
    /// Whether it hears the service.
    Ask,
    /// That it does.
    Answer,
}

impl Topic {
    /// Those a gateway writes to.
    pub const OF_GATEWAYS: [Self; 4] = [Self::State, Self::Up, Self::Sent, Self::Answer];
    /// Those the service writes to.
    pub const OF_SERVICE: [Self; 2] = [Self::Down, Self::Ask];

    const fn name(self) -> &'static str {
        match self {
            Self::State => "state",
            Self::Up => "up",
            Self::Down => "down",
            Self::Sent => "sent",
            Self::Ask => "ask",
            Self::Answer => "answer",
        }
    }

    /// This topic of a gateway.
    pub fn of(self, gateway: Eui64) -> String {
        format!("{ROOT}/{gateway}/{}", self.name())
    }

    /// This topic of every gateway, as a filter.
    pub fn of_all(self) -> String {
        format!("{ROOT}/+/{}", self.name())
    }

    /// Whose topic this is, and which; `None` if it is none of these.
    pub fn parse(topic: &str) -> Option<(Eui64, Self)> {
        let (eui, name) = topic.strip_prefix(ROOT)?.strip_prefix('/')?.split_once('/')?;
        // Written one way only: a broker's rules compare text.
        let eui = eui.parse::<Eui64>().ok().filter(|parsed| parsed.to_string() == eui)?;
        let all = Self::OF_GATEWAYS.into_iter().chain(Self::OF_SERVICE);
        Some((eui, all.into_iter().find(|topic| topic.name() == name)?))
    }
}

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

    const GATEWAY: Eui64 = Eui64(0x02a1_f000_0000_0001);

    #[test]
    fn topics_are_told_apart() {
        assert_eq!(Topic::Up.of(GATEWAY), "keen-heron/v1/gateways/02a1f00000000001/up");
        assert_eq!(Topic::State.of_all(), "keen-heron/v1/gateways/+/state");
        for topic in Topic::OF_GATEWAYS.into_iter().chain(Topic::OF_SERVICE) {
            assert_eq!(Topic::parse(&topic.of(GATEWAY)), Some((GATEWAY, topic)));
        }
        for other in [
            "keen-heron/v1/gateways/02A1F00000000001/up",
            "keen-heron/v1/gateways/02a1f00000000001/up/more",
            "keen-heron/v1/gateways/02a1f00000000001",
            "keen-heron/v1/gateways/x/up",
            "keen-heron/v2/gateways/02a1f00000000001/up",
            "",
        ] {
            assert_eq!(Topic::parse(other), None, "{other}");
        }
    }

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
