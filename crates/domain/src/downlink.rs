//! Downlinks: checks of a new outbox item, and when the device is expected to take it.

use api::device::outbox::{NewOutboxItem, Values};
use api::problem::{Problem, bad_field};
use api::radio::settings::Class;
use base64::Engine as _;
use base64::engine::general_purpose::STANDARD as BASE64;
use chrono::{DateTime, TimeDelta, Utc};

use crate::{Check, input};

/// The largest payload a frame can carry at any data rate (RP002 §2.4.6).
pub const MAX_PAYLOAD: usize = 242;

/// The longest time a downlink may wait, in seconds.
const LONGEST_WAIT_S: f64 = 30.0 * 86_400.0;

/// What is to be sent: bytes, or values that become bytes.
#[derive(Debug, Clone, PartialEq)]
pub enum Cargo {
    /// These bytes on this port.
    Bytes {
        /// FPort.
        port: u8,
        /// The payload.
        payload: Vec<u8>,
    },
    /// The encoder's payload for a command that the model names, on this port or the one that the encoder names.
    Command {
        /// FPort, if it was given.
        port: Option<u8>,
        /// The command's name.
        name: String,
    },
    /// The encoder's payload for these values, on this port or the one that the encoder names.
    Values {
        /// FPort, if it was given.
        port: Option<u8>,
        /// By name.
        values: Values,
    },
}

/// A downlink whose values have been checked.
#[derive(Debug, Clone, PartialEq)]
pub struct CheckedOutboxItem {
    /// What is sent.
    pub cargo: Cargo,
    /// Whether it is to be acknowledged.
    pub confirmed: bool,
    /// Whether it goes before the others.
    pub first: bool,
    /// How often it is sent at most; the profile's number if not given.
    pub max_attempts: Option<u8>,
    /// After how many microseconds it expires.
    pub expires_in_us: Option<i64>,
    /// What its sender calls it.
    pub reference: Option<String>,
}

/// The longest name that a sender gives a downlink, in characters.
const LONGEST_REFERENCE: usize = 64;

fn reference(text: &str) -> Result<String, Problem> {
    let good = (1..=LONGEST_REFERENCE).contains(&text.chars().count()) && !text.chars().any(char::is_control);
    let allowed = || bad_field("reference", text, format!("1 to {LONGEST_REFERENCE} characters are allowed"));
    if good { Ok(text.to_owned()) } else { Err(allowed()) }
}

const PORTS: &str = "1 to 223 are allowed: 0 is for MAC commands, 224 and above are reserved";

impl Check for NewOutboxItem {
    type Checked = CheckedOutboxItem;

    /// Reads and checks every field.
    fn check(&self) -> Result<Self::Checked, Problem> {
        let max_attempts = match self.max_attempts {
            None => None,
            Some(n @ 1..=50) => Some(n as u8),
            Some(n) => return Err(bad_field("max_attempts", &n.to_string(), "1 to 50 are allowed")),
        };
        let within = |s| input::range("expires_in_s", s, 1.0, LONGEST_WAIT_S, "s").map(|s| (s * 1e6) as i64);
        Ok(CheckedOutboxItem {
            cargo: cargo(self)?,
            confirmed: self.confirmed,
            first: self.first,
            max_attempts,
            expires_in_us: self.expires_in_s.map(within).transpose()?,
            reference: self.reference.as_deref().map(reference).transpose()?,
        })
    }
}

fn cargo(item: &NewOutboxItem) -> Result<Cargo, Problem> {
    let port = match item.port.map(u8::try_from) {
        None => None,
        Some(Ok(port @ 1..=223)) => Some(port),
        Some(_) => return Err(bad_field("port", &item.port.unwrap_or_default().to_string(), PORTS)),
    };
    if let Some(name) = &item.command {
        let others =
            [item.payload.is_some(), item.payload_base64.is_some(), item.text.is_some(), item.values.is_some()];
        return match others.contains(&true) {
            true => Err(bad_field("command", name, "it stands alone: leave payload, text and values out")),
            false => Ok(Cargo::Command { port, name: name.trim().to_owned() }),
        };
    }
    let payload = match (&item.payload, &item.payload_base64, &item.text, &item.values) {
        (None, None, None, Some(values)) => return Ok(Cargo::Values { port, values: values.clone() }),
        (Some(hex), None, None, None) => input::payload("payload", hex, MAX_PAYLOAD)?,
        (None, Some(base64), None, None) => {
            let compact: String = base64.chars().filter(|c| !c.is_whitespace()).collect();
            let bytes = BASE64.decode(&compact);
            let bytes = bytes.map_err(|_| bad_field("payload_base64", base64, "base64 with its padding is wanted"))?;
            fitting("payload_base64", base64, bytes)?
        }
        (None, None, Some(text), None) => fitting("text", text, text.as_bytes().to_vec())?,
        (None, None, None, None) => {
            return Err(bad_field(
                "payload",
                "nothing",
                "one of payload, payload_base64, text, values or command is wanted",
            ));
        }
        _ => {
            let allowed = "only one of payload, payload_base64, text and values can be given";
            return Err(bad_field("payload", "more than one", allowed));
        }
    };
    let port = port.ok_or_else(|| bad_field("port", "nothing", PORTS))?;
    Ok(Cargo::Bytes { port, payload })
}

fn fitting(field: &str, given: &str, bytes: Vec<u8>) -> Result<Vec<u8>, Problem> {
    match bytes.len() {
        0..=MAX_PAYLOAD => Ok(bytes),
        n => Err(bad_field(field, given, format!("at most {MAX_PAYLOAD} bytes fit into a frame; these are {n}"))),
    }
}

/// What is known of when a device listens.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Listening {
    /// When it listens; `None` while it has no session.
    pub class: Option<Class>,
    /// When it was last heard.
    pub last_heard: Option<DateTime<Utc>>,
    /// How often it sends, in seconds.
    pub interval_s: Option<f64>,
    /// Until when airtime or a limit holds the next downlink.
    pub held_until: Option<DateTime<Utc>>,
    /// The next ping slot, and milliseconds from there to the one after it.
    pub ping_slots: Option<(DateTime<Utc>, i64)>,
}

impl Listening {
    /// When a downlink is expected to go that waits behind this many others.
    ///
    /// A class A device listens after each of its uplinks, for one of them each time (TS001-1.0.4 §3.3); class B in its
    /// ping slots; class C always, so that only what holds all downlinks can be told.
    pub fn expects(&self, ahead: u32) -> Option<DateTime<Utc>> {
        let ahead = i32::try_from(ahead).ok()?;
        match self.class? {
            Class::A => {
                let interval = self.interval_s.filter(|s| *s > 0.0 && *s < 1e8)?;
                let interval = TimeDelta::milliseconds((interval * 1000.0) as i64);
                let mut next = self.last_heard? + interval;
                if let Some(held) = self.held_until.filter(|held| *held > next) {
                    let more = (held - next).num_milliseconds() as u64;
                    let uplinks = more.div_ceil(interval.num_milliseconds().max(1) as u64);
                    next += interval * i32::try_from(uplinks).ok()?;
                }
                next.checked_add_signed(interval.checked_mul(ahead)?)
            }
            Class::B => {
                let (slot, apart_ms) = self.ping_slots?;
                let next = self.held_until.map_or(slot, |held| held.max(slot));
                next.checked_add_signed(TimeDelta::milliseconds(apart_ms).checked_mul(ahead)?)
            }
            Class::C => self.held_until.filter(|_| ahead == 0),
        }
    }
}

/// When something is expected, seen from now: "expected in about 9 min", or since when it is overdue.
pub fn expected_words(at: DateTime<Utc>, now: DateTime<Utc>) -> String {
    let s = (at - now).num_seconds();
    match s {
        0.. => format!("expected in about {}", api::elapsed(s)),
        _ => format!("was expected {} ago", api::elapsed(-s)),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn ports_and_payloads_are_checked() {
        let new = |port, payload: &str| NewOutboxItem {
            port: Some(port),
            payload: Some(payload.into()),
            ..NewOutboxItem::default()
        };
        let cargo = |port, payload: &str| new(port, payload).check().map(|item| item.cargo);
        assert_eq!(cargo(1, "01 ff"), Ok(Cargo::Bytes { port: 1, payload: vec![1, 255] }));
        assert_eq!(cargo(223, ""), Ok(Cargo::Bytes { port: 223, payload: vec![] }));
        let field = |item: NewOutboxItem| item.check().unwrap_err().field.unwrap();
        assert_eq!(field(NewOutboxItem { max_attempts: Some(0), ..new(1, "") }), "max_attempts");
        assert_eq!(field(NewOutboxItem { expires_in_s: Some(1e9), ..new(1, "") }), "expires_in_s");
        for port in [0, 224, 300] {
            assert_eq!(field(new(port, "01")), "port");
        }
        assert_eq!(field(NewOutboxItem { reference: Some("x".repeat(65)), ..new(1, "") }), "reference");
        assert_eq!(field(NewOutboxItem { port: None, ..new(1, "01") }), "port");
        assert_eq!(field(new(1, "xyz")), "payload");
        assert_eq!(field(new(1, &"00".repeat(243))), "payload");
    }

    #[test]
    fn payloads_come_in_several_forms() {
        let new = NewOutboxItem { port: Some(2), ..NewOutboxItem::default() };
        let bytes = |item: NewOutboxItem| match item.check().unwrap().cargo {
            Cargo::Bytes { payload, .. } => payload,
            Cargo::Command { .. } | Cargo::Values { .. } => panic!("bytes are wanted"),
        };
        assert_eq!(bytes(NewOutboxItem { payload_base64: Some(" Af8=\n".into()), ..new.clone() }), [1, 255]);
        assert_eq!(bytes(NewOutboxItem { text: Some("flut ä".into()), ..new.clone() }), "flut ä".as_bytes());
        let values: Values = serde_json::Map::from_iter([("opening".to_owned(), 40.into())]);
        let by_name = NewOutboxItem { values: Some(values.clone()), ..NewOutboxItem::default() };
        assert_eq!(by_name.check().unwrap().cargo, Cargo::Values { port: None, values });
        let why = |item: NewOutboxItem| item.check().unwrap_err().to_string();
        assert!(why(new.clone()).contains("one of payload, payload_base64, text, values or command"));
        assert!(
            why(NewOutboxItem { text: Some("a".into()), payload: Some("00".into()), ..new.clone() })
                .contains("only one")
        );
        assert!(why(NewOutboxItem { payload_base64: Some("A".into()), ..new.clone() }).contains("payload_base64"));
        assert!(why(NewOutboxItem { text: Some("ä".repeat(122)), ..new }).contains("these are 244"));
    }

    fn at(s: i64) -> DateTime<Utc> {
        DateTime::from_timestamp(1_790_000_000 + s, 0).unwrap()
    }

    #[test]
    fn a_device_of_class_a_takes_one_with_each_uplink() {
        let gauge = Listening {
            class: Some(Class::A),
            last_heard: Some(at(0)),
            interval_s: Some(600.0),
            ..Listening::default()
        };
        assert_eq!((gauge.expects(0), gauge.expects(2)), (Some(at(600)), Some(at(1800))));
        let held = Listening { held_until: Some(at(1300)), ..gauge.clone() };
        assert_eq!((held.expects(0), held.expects(1)), (Some(at(1800)), Some(at(2400))));
        let held = Listening { held_until: Some(at(300)), ..gauge.clone() };
        assert_eq!(held.expects(0), Some(at(600)));
        for unknown in [
            Listening { class: None, ..gauge.clone() },
            Listening { last_heard: None, ..gauge.clone() },
            Listening { interval_s: None, ..gauge.clone() },
            Listening { interval_s: Some(f64::NAN), ..gauge.clone() },
        ] {
            assert_eq!(unknown.expects(0), None);
        }
        assert_eq!(gauge.expects(u32::MAX), None);
        assert!(Listening { interval_s: Some(9e7), ..gauge }.expects(i32::MAX as u32).is_none());
    }

    #[test]
    fn others_listen_by_themselves() {
        let slots = Some((at(3), 1920));
        let b = Listening { class: Some(Class::B), ping_slots: slots, ..Listening::default() };
        assert_eq!(b.expects(1), Some(at(3) + TimeDelta::milliseconds(1920)));
        assert_eq!(Listening { held_until: Some(at(60)), ..b }.expects(0), Some(at(60)));
        let c = Listening { class: Some(Class::C), ..Listening::default() };
        assert_eq!(c.expects(0), None);
        assert_eq!(Listening { held_until: Some(at(60)), ..c }.expects(0), Some(at(60)));
    }

    #[test]
    fn times_to_come_are_told_from_now() {
        let words = |s| expected_words(at(s), at(0));
        assert_eq!(words(45), "expected in about 45 s");
        assert_eq!(words(540), "expected in about 9 min");
        assert_eq!(words(7200), "expected in about 2 h");
        assert_eq!(words(3 * 86_400), "expected in about 3 days");
        assert_eq!(words(-240), "was expected 4 min ago");
    }
}
