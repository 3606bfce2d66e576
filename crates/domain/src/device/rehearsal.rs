//! Checks of a rehearsal.

use api::device::rehearsal::Rehearse;
use api::problem::{Problem, bad_field};

use crate::downlink::MAX_PAYLOAD;
use crate::{Check, input};

impl Check for Rehearse {
    type Checked = Option<Vec<u8>>;

    /// The payload as bytes, if one is given.
    ///
    /// # Errors
    /// Names the field, the value and what is allowed.
    fn check(&self) -> Result<Self::Checked, Problem> {
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
                input::range(field, f64::from(value), from, to, unit)?;
            }
        }
        self.payload.as_deref().map(|text| input::payload("payload", text, MAX_PAYLOAD)).transpose()
    }
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
