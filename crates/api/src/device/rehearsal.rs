//! Rehearsals: bytes put through decoding and everything after it as if they had been received.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::message::Message;

/// What to put through as if it had been received.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Rehearse {
    /// The payload in hex, in any pasted form; that of `again` if not given.
    #[serde(default)]
    #[schema(example = "0a1b2c")]
    pub payload: Option<String>,
    /// A stored uplink of the device, by its name: port, payload, time and signal are as they were, where they are not
    /// given.
    #[serde(default)]
    pub again: Option<String>,
    /// FPort, 1 to 223; 1 if not given.
    #[serde(default)]
    #[schema(minimum = 1, maximum = 223)]
    pub port: Option<u8>,
    /// When it is to have been received; now if not given.
    #[serde(default)]
    pub time: Option<DateTime<Utc>>,
    /// The frame counter it is to have; 0 if not given.
    #[serde(default)]
    pub counter: Option<u32>,
    /// Signal strength, -200 to 50 dBm.
    #[serde(default)]
    #[schema(minimum = -200, maximum = 50)]
    pub rssi_dbm: Option<f32>,
    /// Signal-to-noise ratio, -50 to 50 dB.
    #[serde(default)]
    #[schema(minimum = -50, maximum = 50)]
    pub snr_db: Option<f32>,
    /// The gateway that is to have heard it: its EUI or name. The one that heard the device last if not given.
    #[serde(default)]
    pub gateway: Option<String>,
}

/// The result of a rehearsal.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct RehearsalOutcome {
    /// The message as all listeners got it.
    pub message: Message,
    /// Where it went.
    #[schema(example = json!(["live stream: 2 listeners"]))]
    pub went_to: Vec<String>,
}
