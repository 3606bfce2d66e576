//! Messages, in the one JSON form that history, live stream and outlets share.

use std::collections::BTreeMap;

use chrono::{DateTime, Utc};
use lorawan::mac::{Command, DownCommand, UpCommand, commands};
use lorawan::{DevAddr, Direction, Eui64};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::device::join::JoinCheck;
use crate::gateway::GatewayState;
use crate::heard::{HeardBy, Radio};

/// A message: an event of the network.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Message {
    /// Its name: a ULID, so names sort by time.
    #[schema(example = "01K8Z3V7Q0000000000000000")]
    pub id: String,
    /// When it happened.
    #[serde(with = "crate::millis")]
    pub time: DateTime<Utc>,
    /// The estate's short name.
    pub estate: String,
    /// The fleet's short name, where it concerns a device.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub fleet: Option<String>,
    /// The device, where it concerns one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub device: Option<DeviceRef>,
    /// What happened.
    #[serde(flatten)]
    pub body: Body,
}

/// What happened.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(tag = "type", rename_all = "snake_case")]
pub enum Body {
    /// A data frame was accepted.
    Uplink(Box<Uplink>),
    /// A join was accepted.
    Join(Join),
    /// A frame was refused.
    Refused(Refused),
    /// A downlink moved on.
    Downlink(Box<Downlink>),
    /// A notice about a device.
    Notice(Notice),
    /// A gateway's state has changed. Only in the live stream.
    Gateway(GatewayNews),
}

impl Body {
    /// The value of `type`.
    pub const fn kind(&self) -> &'static str {
        match self {
            Body::Uplink(_) => "uplink",
            Body::Join(_) => "join",
            Body::Refused(_) => "refused",
            Body::Downlink(_) => "downlink",
            Body::Notice(_) => "notice",
            Body::Gateway(_) => "gateway",
        }
    }

    /// Whether this gateway heard it or sent it, or it is news of it.
    pub fn is_of(&self, gateway: Eui64) -> bool {
        let heard = |by: &[HeardBy]| by.iter().any(|heard| heard.gateway == gateway);
        match self {
            Body::Uplink(uplink) => heard(&uplink.heard_by),
            Body::Join(join) => heard(&join.heard_by),
            Body::Refused(refused) => heard(&refused.heard_by),
            Body::Downlink(downlink) => downlink.sent.as_ref().is_some_and(|sent| sent.gateway == gateway),
            Body::Notice(_) => false,
            Body::Gateway(news) => news.gateway == gateway,
        }
    }

    /// The whole frame as heard or sent, in hex. Messages from before it was kept have none.
    pub fn phy_payload(&self) -> Option<&str> {
        let frame = match self {
            Body::Uplink(uplink) => &uplink.phy_payload,
            Body::Join(join) => &join.phy_payload,
            Body::Refused(refused) => &refused.phy_payload,
            Body::Downlink(downlink) => &downlink.sent.as_ref()?.phy_payload,
            Body::Notice(_) | Body::Gateway(_) => return None,
        };
        Some(frame.as_str()).filter(|frame| !frame.is_empty())
    }
}

/// Names a device.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct DeviceRef {
    /// Its DevEUI.
    #[schema(value_type = String)]
    pub eui: Eui64,
    /// Its name.
    pub name: String,
    /// Its model's short name.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub model: Option<String>,
}

/// An accepted data frame.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Uplink {
    /// The frame.
    pub frame: UplinkFrame,
    /// The whole frame, in hex; `heron frame show` shows its fields.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub phy_payload: String,
    /// What the payload says.
    pub readings: BTreeMap<String, Reading>,
    /// How it was sent.
    pub radio: Radio,
    /// Who heard it, best first.
    pub heard_by: Vec<HeardBy>,
    /// Warnings of the network.
    pub warnings: Vec<String>,
    /// Warnings of the decoder.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub decode_warnings: Vec<String>,
    /// Why the payload could not be decoded.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub decode_error: Option<String>,
    /// It was rehearsed: nothing was received.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rehearsed: Option<Rehearsed>,
}

/// Who put bytes through decoding as if they had been received.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Rehearsed {
    /// Who.
    pub by: String,
    /// The uplink whose bytes they are, if they are those of one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub again: Option<String>,
    /// Values that nobody gave and that are not known of the device, so that others stand in their place.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    #[schema(example = json!(["radio: DR0 at 868.1 MHz, since the device was never heard"]))]
    pub assumed: Vec<String>,
}

/// The frame of an uplink.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct UplinkFrame {
    /// The full frame counter.
    pub counter: u32,
    /// FPort, if there was one.
    pub port: Option<u8>,
    /// Whether the device wanted an acknowledgement.
    pub confirmed: bool,
    /// The decrypted payload, in hex.
    #[schema(example = "0a1b2c")]
    pub payload: String,
    /// MAC commands, from the header or FPort 0, in hex.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub mac_commands: String,
    /// The same, explained.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub mac: Vec<MacCommand>,
}

/// A MAC command, explained.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct MacCommand {
    /// The standard's name.
    #[schema(example = "LinkCheckAns")]
    pub name: String,
    /// Its fields.
    #[schema(example = "heard 15 dB above the floor, by 2 gateways")]
    pub words: String,
}

impl MacCommand {
    /// The commands in `clear`, as far as they can be read.
    pub fn all(direction: Direction, clear: &[u8]) -> Vec<Self> {
        fn listed<C: Command + std::fmt::Display>(clear: &[u8]) -> Vec<MacCommand> {
            let read = commands::<C>(clear).map_while(Result::ok).map(|placed| placed.command);
            read.map(|c| MacCommand { name: c.cid().name(C::DIRECTION).into(), words: c.to_string() }).collect()
        }
        match direction {
            Direction::Up => listed::<UpCommand>(clear),
            Direction::Down => listed::<DownCommand>(clear),
        }
    }
}

/// A reading's value.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Reading {
    /// A number, a text or a boolean.
    pub value: ReadingValue,
    /// Its unit, where model, decoder or name say one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub unit: Option<String>,
    /// The model's word for this value.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub word: Option<String>,
    /// The decoder's value, if the model changes it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub raw: Option<f64>,
    /// The bytes of the payload it came from, where the decoder can tell: the first, and the one after the last.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub bytes: Option<[u8; 2]>,
    /// When it was measured, if the decoder says so; else when the uplink was received.
    #[serde(default, with = "crate::millis_option", skip_serializing_if = "Option::is_none")]
    pub time: Option<DateTime<Utc>>,
    /// Values of the same uplink that were measured before this one, oldest first.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub earlier: Vec<EarlierValue>,
}

/// A value that a device measured before the last one, and sent with it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct EarlierValue {
    /// A number, a text or a boolean.
    pub value: ReadingValue,
    /// When it was measured.
    #[serde(with = "crate::millis")]
    pub time: DateTime<Utc>,
}

impl Reading {
    /// With nothing but a value.
    pub const fn of(value: ReadingValue) -> Self {
        Self { value, unit: None, word: None, raw: None, bytes: None, time: None, earlier: Vec::new() }
    }
}

/// A number, a text or a boolean.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(untagged)]
pub enum ReadingValue {
    /// A state.
    Boolean(bool),
    /// A measured value or a count.
    Number(f64),
    /// A word.
    Text(String),
}

impl std::fmt::Display for ReadingValue {
    /// As words for values are looked up.
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            ReadingValue::Boolean(b) => write!(f, "{b}"),
            ReadingValue::Number(n) => write!(f, "{n}"),
            ReadingValue::Text(t) => f.write_str(t),
        }
    }
}

impl std::fmt::Display for Reading {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match (&self.word, &self.value) {
            (Some(word), _) => return f.write_str(word),
            (None, ReadingValue::Boolean(true)) => f.write_str("yes")?,
            (None, ReadingValue::Boolean(false)) => f.write_str("no")?,
            (None, value) => write!(f, "{value}")?,
        }
        match &self.unit {
            Some(unit) => write!(f, " {unit}"),
            None => Ok(()),
        }
    }
}

/// An accepted join.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Join {
    /// The address given.
    #[schema(value_type = String)]
    pub dev_addr: DevAddr,
    /// The DevNonce used; a rejoin-request's RJcount.
    pub dev_nonce: u16,
    /// Rejoin type, if it was a rejoin-request.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rejoin_type: Option<u8>,
    /// The whole join-request, in hex; `heron frame show` shows its fields.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub phy_payload: String,
    /// How the request was sent.
    pub radio: Radio,
    /// Who heard it, best first.
    pub heard_by: Vec<HeardBy>,
    /// What was checked of it, in order.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub checks: Vec<JoinCheck>,
    /// Why no answer could be sent, if none could.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub unanswered: Option<String>,
}

/// A frame that was not accepted.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Refused {
    /// Why, and what to do.
    pub refusal: RefusalNote,
    /// What was checked of it, in order, if it is a join-request.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub checks: Vec<JoinCheck>,
    /// The whole frame, in hex; `heron frame show` shows its fields.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub phy_payload: String,
    /// How it was sent.
    pub radio: Radio,
    /// Who heard it, best first.
    pub heard_by: Vec<HeardBy>,
}

/// Why a frame was not accepted, and what to do about it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct RefusalNote {
    /// A stable code for programs.
    #[schema(example = "join_mic_mismatch")]
    pub code: String,
    /// Whether it was a join.
    pub join: bool,
    /// What was found.
    pub why: String,
    /// The values behind it.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub evidence: Vec<Evidence>,
    /// What to do.
    pub next_step: String,
    /// When.
    #[serde(with = "crate::millis")]
    pub time: DateTime<Utc>,
}

/// A notice about a device.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Notice {
    /// A stable code for programs.
    #[schema(example = "adr_change")]
    pub code: String,
    /// Whether someone should look at it.
    pub wants_attention: bool,
    /// What was found.
    pub why: String,
    /// The values that were compared.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub evidence: Vec<Evidence>,
    /// What to do; absent if nothing needs doing.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub next_step: Option<String>,
}

/// A value that a conclusion is based on.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Evidence {
    /// What it is.
    #[schema(example = "last counter")]
    pub name: String,
    /// The value with its unit.
    #[schema(example = "4465")]
    pub value: String,
}

impl Evidence {
    /// What the engine compared.
    pub fn all(values: Vec<(&'static str, String)>) -> Vec<Self> {
        values.into_iter().map(|(name, value)| Self { name: name.into(), value }).collect()
    }
}

/// A step in a downlink's life.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Downlink {
    /// What happened.
    pub stage: DownlinkStage,
    /// Why, where it did not go as planned.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub note: Option<String>,
    /// The outbox item it carries; a bare acknowledgement or a join-accept carries none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub outbox_id: Option<String>,
    /// What the item's sender calls it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub reference: Option<String>,
    /// The frame; a join-accept has none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub frame: Option<DownlinkFrame>,
    /// Whether it acknowledges a confirmed uplink.
    pub acknowledges: bool,
    /// Where and how it was sent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub sent: Option<SentBy>,
}

/// A downlink's step.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum DownlinkStage {
    /// A gateway took it to send.
    Sent,
    /// The device acknowledged it.
    Acknowledged,
    /// It waits in the outbox again.
    Returned,
    /// It is given up.
    Failed,
}

/// The frame of a downlink.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct DownlinkFrame {
    /// The frame counter, once it has one.
    pub counter: Option<u32>,
    /// FPort, if there is one.
    pub port: Option<u8>,
    /// The payload in the clear, in hex.
    pub payload: String,
    /// MAC commands in the header, in words.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub mac: Vec<MacCommand>,
}

/// Where and how a downlink was sent.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct SentBy {
    /// The gateway's EUI.
    #[schema(value_type = String)]
    pub gateway: Eui64,
    /// Its name.
    pub name: String,
    /// `RX1`, `RX2`, `ping slot` or `class C`.
    pub window: String,
    /// Why it was RX2 and not RX1, in words.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub window_reason: Option<String>,
    /// Power at the antenna connector.
    pub power_dbm: i32,
    /// The whole frame, in hex; `heron frame show` shows its fields.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub phy_payload: String,
    /// How it was sent.
    pub radio: Radio,
}

/// A change of a gateway.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct GatewayNews {
    /// Its EUI.
    #[schema(value_type = String)]
    pub gateway: Eui64,
    /// Its name; a stranger has none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
    /// Its state.
    pub state: GatewayState,
    /// Whether it is not registered.
    pub stranger: bool,
}
