//! The WebSocket LNS protocol: JSON objects, one a message.
//!
//! A gateway first asks where to go ([`Query`], [`Answer`]), connects there, says what it is ([`Version`]), is told
//! its channel plan ([`RouterConfig`]), and from then on both sides talk ([`FromGateway`], [`ToGateway`]). The names
//! of sections are those of the protocol's published text ("The LNS Protocol").

mod config;
mod down;
mod up;

pub use config::{Beaconing, RouterConfig, region_name};
pub use down::{Downlink, Moment, TimeTold, ToGateway};
pub use up::{FromGateway, Heard, RadioInfo, Sent, Version};

use lorawan::Eui64;
use serde::{Deserialize, Serialize};
use serde_json::{Value, json};
use thiserror::Error;

/// The longest message that is looked at. A frame of 255 bytes takes less than 1 kB.
pub const MAX_MESSAGE: usize = 16 * 1024;
/// Version 2 of the data protocol, the one there is.
pub const PROTOCOL: i64 = 2;
/// Where gateways ask for their way (section "Querying the LNS connection endpoint").
pub const DISCOVERY_PATH: &str = "/router-info";

/// Why a message cannot be understood.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum MessageError {
    /// Longer than [`MAX_MESSAGE`].
    #[error("{len} bytes are more than the {MAX_MESSAGE} allowed")]
    TooLong {
        /// Bytes there.
        len: usize,
    },
    /// Not JSON, or a field is missing or of another type.
    #[error("the JSON is not readable: {0}")]
    Json(String),
    /// A field with a value that it cannot have.
    #[error("{field} is {value}: {allowed}")]
    Field {
        /// Which.
        field: &'static str,
        /// What stands there.
        value: String,
        /// What may stand there.
        allowed: &'static str,
    },
}

fn read<'de, T: Deserialize<'de>>(text: &'de str) -> Result<T, MessageError> {
    if text.len() > MAX_MESSAGE {
        return Err(MessageError::TooLong { len: text.len() });
    }
    serde_json::from_str(text).map_err(|why| MessageError::Json(why.to_string()))
}

fn field(field: &'static str, value: impl std::fmt::Display, allowed: &'static str) -> MessageError {
    MessageError::Field { field, value: format!("{value}").chars().take(80).collect(), allowed }
}

/// A gateway asks where to go.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Query {
    /// Who asks.
    pub gateway: Eui64,
}

impl Query {
    /// Reads the question; the EUI may be a number, or text in any of the forms of [`eui`].
    pub fn parse(text: &str) -> Result<Self, MessageError> {
        #[derive(Deserialize)]
        struct Body {
            router: Value,
        }
        let body: Body = read(text)?;
        Ok(Self { gateway: eui("router", &body.router)? })
    }

    /// As gateways ask.
    pub fn emit(&self) -> String {
        json!({ "router": id6(self.gateway) }).to_string()
    }
}

/// Where a gateway is to go, or why nowhere.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Answer {
    /// The gateway asked about.
    pub router: String,
    /// Who answers, as an ID6.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub muxs: Option<String>,
    /// Where to connect.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub uri: Option<String>,
    /// Why there is no place to connect to.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub error: Option<String>,
}

impl Answer {
    /// It may connect there.
    pub fn go(gateway: Eui64, uri: String) -> Self {
        Self { router: id6(gateway), muxs: Some("::0".into()), uri: Some(uri), error: None }
    }

    /// It may not.
    pub fn refused(gateway: Eui64, why: String) -> Self {
        Self { router: id6(gateway), muxs: None, uri: None, error: Some(why) }
    }

    /// Reads an answer.
    pub fn parse(text: &str) -> Result<Self, MessageError> {
        read(text)
    }

    /// As JSON.
    pub fn emit(&self) -> String {
        to_json(self)
    }
}

/// JSON of values that cannot fail to serialise: maps with text keys, numbers and text.
fn to_json(value: &impl Serialize) -> String {
    serde_json::to_string(value).unwrap_or_default()
}

/// An EUI as the protocol writes it: four groups of 16 bits, with the longest run of zero groups left out ("ID6").
pub fn id6(eui: Eui64) -> String {
    let groups: [u16; 4] = std::array::from_fn(|i| (eui.0 >> (48 - 16 * i)) as u16);
    let hex = |groups: &[u16]| groups.iter().map(|g| format!("{g:x}")).collect::<Vec<_>>().join(":");
    let zeros = |at: usize| groups[at..].iter().take_while(|g| **g == 0).count();
    // The first of the longest, as IPv6 does; a single zero group is written.
    let (length, at) = (0..4).map(|at| (zeros(at), at)).rev().max_by_key(|(length, _)| *length).unwrap_or((0, 0));
    match length {
        0 | 1 => hex(&groups),
        _ => format!("{}::{}", hex(&groups[..at]), hex(&groups[at + length..])),
    }
}

/// Reads an EUI in the forms the protocol allows: a number, an ID6, or 16 digits with separators.
pub fn eui(name: &'static str, value: &Value) -> Result<Eui64, MessageError> {
    let wrong = || field(name, value, "an EUI is a number, an ID6 such as a0:b1::c2, or 16 hex digits");
    match value {
        Value::Number(number) => number.as_u64().map(Eui64).ok_or_else(wrong),
        Value::String(text) => from_id6(text).or_else(|| text.parse().ok()).ok_or_else(wrong),
        _ => Err(wrong()),
    }
}

fn from_id6(text: &str) -> Option<Eui64> {
    // Some write who they are in front of it.
    let text = text.strip_prefix("router-").unwrap_or(text);
    let groups = |part: &str| -> Option<Vec<u16>> {
        if part.is_empty() {
            return Some(Vec::new());
        }
        part.split(':').map(|g| if g.len() <= 4 { u16::from_str_radix(g, 16).ok() } else { None }).collect()
    };
    let all = match text.split_once("::") {
        Some((front, back)) => {
            let (mut front, back) = (groups(front)?, groups(back)?);
            let left_out = 4usize.checked_sub(front.len() + back.len())?;
            front.extend(std::iter::repeat_n(0, left_out));
            front.extend(back);
            front
        }
        None => groups(text)?,
    };
    let all: [u16; 4] = all.try_into().ok()?;
    Some(Eui64(all.iter().fold(0, |eui, group| eui << 16 | u64::from(*group))))
}

/// An EUI as the data messages write it: `01-23-45-67-89-AB-CD-EF`.
pub(crate) fn dashed(eui: Eui64) -> String {
    eui.to_bytes().map(|byte| format!("{byte:02X}")).join("-")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn euis_are_read_in_every_form_and_written_as_id6() {
        for (text, eui) in [
            ("b827:ebff:fee1:e39a", 0xb827_ebff_fee1_e39a),
            ("::1", 1),
            ("::0", 0),
            ("::", 0),
            ("1::", 0x0001_0000_0000_0000),
            ("a0b1::c2d3", 0xa0b1_0000_0000_c2d3),
            ("1:0:2:0", 0x0001_0000_0002_0000),
            ("1:2:3:4", 0x0001_0002_0003_0004),
            ("02-A1-F0-00-00-00-00-01", 0x02a1_f000_0000_0001),
            ("02a1f00000000001", 0x02a1_f000_0000_0001),
        ] {
            let read = super::eui("router", &json!(text));
            assert_eq!(read, Ok(Eui64(eui)), "{text}");
            assert_eq!(from_id6(&id6(Eui64(eui))), Some(Eui64(eui)), "{text}");
        }
        assert_eq!(super::eui("router", &json!(42)), Ok(Eui64(42)));
        assert_eq!(id6(Eui64(0xa0b1_0000_0000_c2d3)), "a0b1::c2d3");
        assert_eq!(id6(Eui64(0)), "::");
        for wrong in [json!(-1), json!("1:2:3"), json!("1:2:3:4:5"), json!("1::2::3"), json!("12345::1"), json!(null)] {
            assert!(super::eui("router", &wrong).is_err(), "{wrong}");
        }
    }

    #[test]
    fn a_gateway_asks_and_is_answered() {
        let query = Query { gateway: Eui64(0x02a1_f000_0000_0001) };
        assert_eq!(query.emit(), r#"{"router":"2a1:f000:0:1"}"#);
        assert_eq!(Query::parse(&query.emit()), Ok(query));
        let go = Answer::go(query.gateway, "wss://example.net:8681/gateways/02a1f00000000001".into());
        assert_eq!(Answer::parse(&go.emit()), Ok(go.clone()));
        assert!(!go.emit().contains("error"));
        let no = Answer::refused(query.gateway, "it is not registered".into());
        assert_eq!(no.emit(), r#"{"router":"2a1:f000:0:1","error":"it is not registered"}"#);
        let said = Query::parse(r#"{"router":[1]}"#).unwrap_err().to_string();
        assert!(said.starts_with("router is [1]"), "{said}");
        assert_eq!(Query::parse(&" ".repeat(MAX_MESSAGE + 1)), Err(MessageError::TooLong { len: MAX_MESSAGE + 1 }));
    }
}
