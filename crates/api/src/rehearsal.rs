//! Rehearsals: bytes put through decoding and everything after it as if they had been received.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::message::Message;
use crate::outbox::MAX_PAYLOAD;
use crate::problem::{self, Problem, bad_field};

/// What to put through as if it had been received.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Rehearse {
    /// The payload in hex, in any pasted form; that of `again` if not given.
    #[serde(default)]
    #[schema(example = "0a1b2c")]
    pub payload: Option<String>,
    /// A stored uplink of the device, by its name: port, payload, time and signal are as they were, where they are not given.
    #[serde(default)]
    pub again: Option<String>,
    /// FPort, 1 to 223; 1 if not given.
    #[serde(default)]
    pub port: Option<u8>,
    /// When it is to have been received; now if not given.
    #[serde(default)]
    pub time: Option<DateTime<Utc>>,
    /// The frame counter it is to have; 0 if not given.
    #[serde(default)]
    pub counter: Option<u32>,
    /// Signal strength, -200 to 50 dBm.
    #[serde(default)]
    pub rssi_dbm: Option<f32>,
    /// Signal-to-noise ratio, -50 to 50 dB.
    #[serde(default)]
    pub snr_db: Option<f32>,
    /// The gateway that is to have heard it: its EUI or name. The one that heard the device last if not given.
    #[serde(default)]
    pub gateway: Option<String>,
}

impl Rehearse {
    /// The payload as bytes, if one is given.
    ///
    /// # Errors
    /// Names the field, the value and what is allowed.
    pub fn check(&self) -> Result<Option<Vec<u8>>, Problem> {
        if self.payload.is_none() && self.again.is_none() {
            return Err(bad_field("payload", "nothing", "bytes are wanted, or the name of a stored uplink as `again`"));
        }
        if let Some(port) = self.port.filter(|port| !(1..=223).contains(port)) {
            return Err(bad_field("port", &port.to_string(), "FPort 1 to 223 are allowed"));
        }
        for (field, value, from, to, unit) in
            [("rssi_dbm", self.rssi_dbm, -200.0, 50.0, "dBm"), ("snr_db", self.snr_db, -50.0, 50.0, "dB")]
        {
            if let Some(value) = value {
                problem::range(field, f64::from(value), from, to, unit)?;
            }
        }
        self.payload.as_deref().map(|text| problem::payload("payload", text, MAX_PAYLOAD)).transpose()
    }
}

/// What came of a rehearsal.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct RehearsalOutcome {
    /// The message as everybody who listens has got it.
    pub message: Message,
    /// Where it went.
    #[schema(example = json!(["live stream: 2 listeners"]))]
    pub went_to: Vec<String>,
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_cannot_be_received_cannot_be_rehearsed() {
        let field = |wanted: Rehearse| wanted.check().unwrap_err().field.unwrap();
        let given = Rehearse { payload: Some("01".into()), ..Rehearse::default() };
        assert_eq!(given.check().unwrap(), Some(vec![1]));
        assert_eq!(field(Rehearse::default()), "payload");
        assert_eq!(field(Rehearse { port: Some(224), ..given.clone() }), "port");
        assert_eq!(field(Rehearse { rssi_dbm: Some(-900.0), ..given.clone() }), "rssi_dbm");
        assert_eq!(field(Rehearse { snr_db: Some(f32::NAN), ..given.clone() }), "snr_db");
        assert_eq!(field(Rehearse { payload: Some("0g".into()), ..given }), "payload");
        assert_eq!(Rehearse { again: Some("x".into()), ..Rehearse::default() }.check().unwrap(), None);
    }
}
