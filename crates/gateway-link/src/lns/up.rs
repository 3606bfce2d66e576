//! What a gateway says.

use lorawan::Eui64;
use lorawan::wire::MAX_PHY_PAYLOAD;
use serde::{Deserialize, Serialize};
use serde_json::{Value, json};

use super::{MessageError, dashed, eui, field, read, to_json};

/// What the protocol writes where a frame has no port.
const NO_PORT: i16 = -1;

/// What a gateway is (section "Station version").
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct Version {
    /// Version of the program that speaks the protocol.
    #[serde(default)]
    pub station: String,
    /// Version of the gateway's firmware.
    #[serde(default)]
    pub firmware: String,
    /// Name and version of the installed package.
    #[serde(default)]
    pub package: String,
    /// The gateway's hardware.
    #[serde(default)]
    pub model: String,
    /// Version of the protocol: [`PROTOCOL`](super::PROTOCOL).
    pub protocol: i64,
    /// What it can do beyond the protocol's core, in words of its own.
    #[serde(default)]
    pub features: Value,
}

/// Where and how a frame was heard (section "Radio metadata").
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct RadioInfo {
    /// Which antenna heard it, to be given back with an answer.
    #[serde(default)]
    pub rctx: i64,
    /// The gateway's clock at the frame's end, in microseconds; its upper bits name the session.
    pub xtime: i64,
    /// GPS time at the frame's end, in microseconds; 0 without GPS.
    #[serde(default)]
    pub gpstime: i64,
    /// Signal strength, in dBm.
    pub rssi: f64,
    /// Signal to noise, in dB.
    #[serde(default)]
    pub snr: f64,
    /// UTC at the frame's end by the gateway's clock, in seconds.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rxtime: Option<f64>,
    /// Fine time stamp: nanoseconds within the second of GPS time, where the radio has it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub fts: Option<i64>,
}

/// A frame as one gateway heard it.
#[derive(Debug, Clone, PartialEq)]
pub struct Heard {
    /// Index into the data rates of the channel plan it was given.
    pub data_rate: u8,
    /// The channel's centre, in hertz.
    pub frequency_hz: u32,
    /// The rest.
    pub radio: RadioInfo,
    /// The frame, put together again from the fields that the gateway takes it apart into.
    pub phy_payload: Vec<u8>,
}

/// A gateway has sent a frame (section "Transmit confirmation").
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Sent {
    /// Of the order to send.
    pub diid: i64,
    /// The gateway's clock at the frame's begin, in microseconds.
    #[serde(default)]
    pub xtime: i64,
    /// GPS time at the frame's begin, in microseconds; 0 without GPS.
    #[serde(default)]
    pub gpstime: i64,
}

/// A message of a gateway.
#[derive(Debug, Clone, PartialEq)]
pub enum FromGateway {
    /// It introduces itself.
    Version(Version),
    /// It has heard a frame: `jreq`, `updf` or `propdf`.
    Heard(Heard),
    /// It has sent a frame: `dntxed`.
    Sent(Sent),
    /// It asks for GPS time: `timesync`.
    TimeAsked {
        /// Its clock when it asked, to be given back.
        txtime: i64,
    },
    /// It says something of another kind, such as the output of a remote shell; nothing follows from it.
    Other(String),
}

#[derive(Deserialize)]
struct Kind<'a> {
    #[serde(borrow)]
    msgtype: std::borrow::Cow<'a, str>,
}

#[derive(Deserialize)]
struct Meta {
    #[serde(rename = "DR")]
    data_rate: u8,
    #[serde(rename = "Freq")]
    frequency_hz: u32,
    upinfo: RadioInfo,
}

#[derive(Deserialize)]
#[serde(rename_all = "PascalCase")]
struct JoinRequest {
    #[serde(rename = "MHdr")]
    header: u8,
    join_eui: Value,
    dev_eui: Value,
    dev_nonce: u16,
    #[serde(rename = "MIC")]
    mic: i64,
}

#[derive(Deserialize)]
struct DataFrame {
    #[serde(rename = "MHdr")]
    header: u8,
    #[serde(rename = "DevAddr")]
    address: i64,
    #[serde(rename = "FCtrl")]
    control: u8,
    #[serde(rename = "FCnt")]
    counter: u16,
    #[serde(rename = "FOpts", default)]
    options: String,
    #[serde(rename = "FPort")]
    port: i16,
    #[serde(rename = "FRMPayload", default)]
    payload: String,
    #[serde(rename = "MIC")]
    mic: i64,
}

#[derive(Deserialize)]
struct WholeFrame {
    #[serde(rename = "FRMPayload")]
    payload: String,
}

/// 32 bits that are written as a signed number, and by some as an unsigned one.
fn bits(name: &'static str, value: i64) -> Result<[u8; 4], MessageError> {
    match (i32::try_from(value), u32::try_from(value)) {
        (Ok(signed), _) => Ok(signed.to_le_bytes()),
        (_, Ok(unsigned)) => Ok(unsigned.to_le_bytes()),
        _ => Err(field(name, value, "it has 32 bits")),
    }
}

pub(super) fn hex(name: &'static str, text: &str) -> Result<Vec<u8>, MessageError> {
    let digits = |pair: &[u8]| std::str::from_utf8(pair).ok().and_then(|p| u8::from_str_radix(p, 16).ok());
    let wrong = || field(name, text, "pairs of hex digits");
    if !text.len().is_multiple_of(2) || !text.bytes().all(|byte| byte.is_ascii_hexdigit()) {
        return Err(wrong());
    }
    text.as_bytes().chunks(2).map(|pair| digits(pair).ok_or_else(wrong)).collect()
}

impl JoinRequest {
    fn frame(&self) -> Result<Vec<u8>, MessageError> {
        let mut out = vec![self.header];
        out.extend(eui("JoinEui", &self.join_eui)?.to_wire());
        out.extend(eui("DevEui", &self.dev_eui)?.to_wire());
        out.extend(self.dev_nonce.to_le_bytes());
        out.extend(bits("MIC", self.mic)?);
        Ok(out)
    }
}

impl DataFrame {
    fn frame(&self) -> Result<Vec<u8>, MessageError> {
        let mut out = vec![self.header];
        out.extend(bits("DevAddr", self.address)?);
        out.push(self.control);
        out.extend(self.counter.to_le_bytes());
        let options = hex("FOpts", &self.options)?;
        if options.len() != usize::from(self.control & 0x0f) {
            return Err(field("FOpts", &self.options, "it is as long as FCtrl says"));
        }
        out.extend(options);
        let payload = hex("FRMPayload", &self.payload)?;
        match (self.port, u8::try_from(self.port)) {
            (_, Ok(port)) => out.push(port),
            (NO_PORT, _) if payload.is_empty() => {}
            (NO_PORT, _) => return Err(field("FPort", self.port, "a frame with FRMPayload has a port")),
            (other, _) => return Err(field("FPort", other, "0 to 255, or -1 for none")),
        }
        out.extend(payload);
        out.extend(bits("MIC", self.mic)?);
        Ok(out)
    }
}

impl FromGateway {
    /// Reads a message; any text is answered.
    pub fn parse(text: &str) -> Result<Self, MessageError> {
        let kind: Kind<'_> = read(text)?;
        let phy_payload = match &*kind.msgtype {
            "version" => return Ok(Self::Version(read(text)?)),
            "dntxed" => return Ok(Self::Sent(read(text)?)),
            "timesync" => {
                #[derive(Deserialize)]
                struct Asked {
                    txtime: i64,
                }
                return Ok(Self::TimeAsked { txtime: read::<Asked>(text)?.txtime });
            }
            "jreq" => read::<JoinRequest>(text)?.frame()?,
            "updf" => read::<DataFrame>(text)?.frame()?,
            "propdf" => hex("FRMPayload", &read::<WholeFrame>(text)?.payload)?,
            other => return Ok(Self::Other(other.chars().take(40).collect())),
        };
        if phy_payload.len() > MAX_PHY_PAYLOAD {
            return Err(field("FRMPayload", phy_payload.len(), "a frame has at most 255 bytes"));
        }
        let meta: Meta = read(text)?;
        let Meta { data_rate, frequency_hz, upinfo: radio } = meta;
        Ok(Self::Heard(Heard { data_rate, frequency_hz, radio, phy_payload }))
    }

    /// As JSON, the way gateways write it.
    pub fn emit(&self) -> String {
        let tagged = |kind: &str, mut value: Value| {
            value["msgtype"] = json!(kind);
            value.to_string()
        };
        match self {
            Self::Version(version) => tagged("version", json!(version)),
            Self::Sent(sent) => tagged("dntxed", json!(sent)),
            Self::TimeAsked { txtime } => json!({ "msgtype": "timesync", "txtime": txtime }).to_string(),
            Self::Other(kind) => to_json(&json!({ "msgtype": kind })),
            Self::Heard(heard) => heard.emit(),
        }
    }
}

impl Heard {
    fn emit(&self) -> String {
        let mut out = json!({ "DR": self.data_rate, "Freq": self.frequency_hz, "upinfo": self.radio });
        let upper = |bytes: &[u8]| bytes.iter().map(|byte| format!("{byte:02X}")).collect::<String>();
        let signed = |bytes: &[u8; 4]| i32::from_le_bytes(*bytes);
        let frame = self.phy_payload.as_slice();
        let mut set = |name: &str, value: Value| out[name] = value;
        match (frame.first().map(|header| header >> 5), frame.split_last_chunk::<4>()) {
            (Some(0), Some((request, mic))) if request.len() == 19 => {
                let wire = |at: usize| Eui64::from_wire(std::array::from_fn(|i| request[at + i]));
                set("msgtype", json!("jreq"));
                set("MHdr", json!(request[0]));
                set("JoinEui", json!(dashed(wire(1))));
                set("DevEui", json!(dashed(wire(9))));
                set("DevNonce", json!(u16::from_le_bytes([request[17], request[18]])));
                set("MIC", json!(signed(mic)));
            }
            (Some(2 | 4), Some((data, mic))) if data.len() >= 8 && data.len() >= 8 + usize::from(data[5] & 0x0f) => {
                let (options, rest) = data[8..].split_at(usize::from(data[5] & 0x0f));
                set("msgtype", json!("updf"));
                set("MHdr", json!(data[0]));
                set("DevAddr", json!(signed(&[data[1], data[2], data[3], data[4]])));
                set("FCtrl", json!(data[5]));
                set("FCnt", json!(u16::from_le_bytes([data[6], data[7]])));
                set("FOpts", json!(upper(options)));
                set("FPort", json!(rest.first().map_or(NO_PORT, |port| i16::from(*port))));
                set("FRMPayload", json!(upper(rest.get(1..).unwrap_or_default())));
                set("MIC", json!(signed(mic)));
            }
            _ => {
                set("msgtype", json!("propdf"));
                set("FRMPayload", json!(upper(frame)));
            }
        }
        out.to_string()
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    const UPINFO: &str = r#""DR":5,"Freq":868300000,"upinfo":{"rctx":0,"xtime":17732923575042052,"gpstime":1335000000123456,"rssi":-97,"snr":7.25,"rxtime":1651000000.5}"#;

    fn heard(text: &str) -> Heard {
        match FromGateway::parse(text) {
            Ok(FromGateway::Heard(heard)) => heard,
            other => panic!("{other:?}"),
        }
    }

    #[test]
    fn a_join_request_is_put_together_again() {
        let heard = heard(&format!(
            r#"{{"msgtype":"jreq","MHdr":0,"JoinEui":"02-B0-09-00-00-00-00-AA","DevEui":"02-B0-09-00-00-00-00-01","DevNonce":513,"MIC":-559038737,{UPINFO}}}"#
        ));
        assert_eq!(heard.phy_payload[..3], [0, 0xaa, 0]);
        assert_eq!(heard.phy_payload[9..12], [1, 0, 0]);
        assert_eq!(heard.phy_payload[17..], [1, 2, 0xef, 0xbe, 0xad, 0xde]);
        assert_eq!((heard.data_rate, heard.frequency_hz, heard.radio.snr), (5, 868_300_000, 7.25));
        assert_eq!(FromGateway::parse(&FromGateway::Heard(heard.clone()).emit()), Ok(FromGateway::Heard(heard)));
    }

    #[test]
    fn data_frames_with_and_without_a_port_are_put_together_again() {
        let frame = |port: i32, payload: &str, control: u8, options: &str| {
            FromGateway::parse(&format!(
                r#"{{"msgtype":"updf","MHdr":64,"DevAddr":-17,"FCtrl":{control},"FCnt":258,"FOpts":"{options}","FPort":{port},"FRMPayload":"{payload}","MIC":1,{UPINFO}}}"#
            ))
        };
        let bytes = |message| match message {
            Ok(FromGateway::Heard(heard)) => heard.phy_payload,
            other => panic!("{other:?}"),
        };
        let address = [0xef, 0xff, 0xff, 0xff];
        let start = [&[64][..], &address, &[0x82, 2, 1, 0xab, 0xcd]].concat();
        assert_eq!(bytes(frame(7, "0A0b", 0x82, "ABCD")), [&start[..], &[7, 10, 11, 1, 0, 0, 0]].concat());
        assert_eq!(bytes(frame(-1, "", 0x82, "ABCD")), [&start[..], &[1, 0, 0, 0]].concat());
        let said = |message: Result<FromGateway, MessageError>| message.unwrap_err().to_string();
        assert_eq!(said(frame(-1, "0A", 0, "")), "FPort is -1: a frame with FRMPayload has a port");
        assert_eq!(said(frame(256, "", 0, "")), "FPort is 256: 0 to 255, or -1 for none");
        assert_eq!(said(frame(1, "", 3, "ABCD")), "FOpts is ABCD: it is as long as FCtrl says");
        assert_eq!(said(frame(1, "0A0", 0, "")), "FRMPayload is 0A0: pairs of hex digits");
        assert_eq!(said(frame(1, "+A", 0, "")), "FRMPayload is +A: pairs of hex digits");
        assert_eq!(said(frame(1, &"00".repeat(300), 0, "")), "FRMPayload is 313: a frame has at most 255 bytes");
    }

    #[test]
    fn other_messages_are_read_too() {
        let version = r#"{"msgtype":"version","station":"2.0","model":"test","protocol":2,"features":"gps"}"#;
        let Ok(FromGateway::Version(version)) = FromGateway::parse(version) else { panic!() };
        assert_eq!((version.station.as_str(), version.protocol, version.firmware.as_str()), ("2.0", 2, ""));
        assert_eq!(
            FromGateway::parse(r#"{"msgtype":"timesync","txtime":42}"#),
            Ok(FromGateway::TimeAsked { txtime: 42 })
        );
        let sent = r#"{"msgtype":"dntxed","diid":7,"DevEui":"00-00-00-00-00-00-00-00","rctx":0,"xtime":9,"gpstime":0}"#;
        assert_eq!(FromGateway::parse(sent), Ok(FromGateway::Sent(Sent { diid: 7, xtime: 9, gpstime: 0 })));
        assert_eq!(FromGateway::parse(r#"{"msgtype":"rmtsh"}"#), Ok(FromGateway::Other("rmtsh".into())));
    }

    #[test]
    fn wrong_types_are_named() {
        for (text, said) in [
            ("", "EOF"),
            ("[]", "invalid length 0"),
            (r#"{"msgtype":7}"#, "invalid type"),
            (r#"{"msgtype":"timesync","txtime":"x"}"#, "expected i64"),
            (r#"{"msgtype":"propdf","FRMPayload":"00"}"#, "missing field"),
            (r#"{"msgtype":"propdf","FRMPayload":"00","DR":300,"Freq":1,"upinfo":{}}"#, "expected u8"),
            (r#"{"msgtype":"propdf","FRMPayload":"00","DR":3,"Freq":-1,"upinfo":{}}"#, "expected u32"),
            (r#"{"msgtype":"version","protocol":1e400}"#, "number out of range"),
        ] {
            let why = FromGateway::parse(text).unwrap_err().to_string();
            assert!(why.contains(said), "{text}: {why}");
        }
    }

    proptest! {
        #[test]
        fn any_frame_comes_through_whole(header in any::<u8>(), rest in prop::collection::vec(any::<u8>(), 0..250)) {
            let phy_payload = [vec![header], rest].concat();
            let radio = RadioInfo { rctx: 1, xtime: 2, gpstime: 3, rssi: -4.0, snr: 5.0, rxtime: None, fts: None };
            let heard = FromGateway::Heard(Heard { data_rate: 5, frequency_hz: 868_100_000, radio, phy_payload });
            prop_assert_eq!(FromGateway::parse(&heard.emit()), Ok(heard));
        }

        #[test]
        fn no_text_makes_it_panic(text in ".{0,300}") {
            let _ = FromGateway::parse(&text);
            let _ = super::super::Query::parse(&text);
        }
    }
}
