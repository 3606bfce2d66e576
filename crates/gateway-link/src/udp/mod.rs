//! The UDP packet-forwarder protocol, version 2.
//!
//! Twelve bytes of header at most, then a JSON object. The gateway keeps its own path open with
//! PULL_DATA; the server may send PULL_RESP down that path at any time. Section numbers are those of
//! the protocol's published text ("Basic communication protocol between LoRa gateway and server",
//! version 1.4).

mod number;
mod rxpk;
mod stat;
mod txpk;

pub use rxpk::{AntennaSignal, RxPacket};
pub(crate) use rxpk::{MAX_ANTENNAS, SECOND_NS};
pub use stat::GatewayStatus;
pub use txpk::{TxAckError, TxPacket, TxTime};

use lorawan::Eui64;
use serde::{Deserialize, Serialize};
use serde_json::value::RawValue;
use thiserror::Error;

/// The port gateways call unless told otherwise.
pub const CUSTOMARY_PORT: u16 = 1700;
/// The largest datagram that is looked at; a full concentrator report stays well below it.
pub const MAX_DATAGRAM: usize = 16 * 1024;
/// Frames read from one PUSH_DATA; a concentrator hands over at most 16 at a time.
pub const MAX_RXPK: usize = 64;

const VERSION: u8 = 2;
const HEADER_LEN: usize = 4;
const EUI_END: usize = 12;

mod ident {
    pub(super) const PUSH_DATA: u8 = 0x00;
    pub(super) const PUSH_ACK: u8 = 0x01;
    pub(super) const PULL_DATA: u8 = 0x02;
    pub(super) const PULL_RESP: u8 = 0x03;
    pub(super) const PULL_ACK: u8 = 0x04;
    pub(super) const TX_ACK: u8 = 0x05;
}

/// Pairs a message with its acknowledgement.
pub type Token = u16;

/// Why a datagram is not a message of the protocol.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum DatagramError {
    /// Shorter than the header of its kind.
    #[error("{len} bytes are too few: at least {needed} are needed")]
    TooShort {
        /// Bytes there.
        len: usize,
        /// Bytes needed.
        needed: usize,
    },
    /// Longer than [`MAX_DATAGRAM`].
    #[error("{len} bytes are more than the {MAX_DATAGRAM} allowed")]
    TooLong {
        /// Bytes there.
        len: usize,
    },
    /// Another protocol version.
    #[error("protocol version {0} is not spoken here, only version 2")]
    Version(u8),
    /// An identifier that the protocol does not define.
    #[error("message identifier {0:#04x} is not one of the protocol's")]
    Identifier(u8),
    /// The JSON part does not parse, or is not an object of the right shape.
    #[error("the JSON part is not readable: {0}")]
    Json(String),
}

/// What a PUSH_DATA carries (§4).
#[derive(Debug, Clone, PartialEq, Default)]
pub struct PushData {
    /// Frames received.
    pub frames: Vec<RxPacket>,
    /// The gateway's own report, sent now and then.
    pub status: Option<GatewayStatus>,
    /// Entries that could not be read, with the reason; the others stand.
    pub unreadable: Vec<String>,
}

/// A message, either way.
#[derive(Debug, Clone, PartialEq)]
pub enum Datagram {
    /// Frames and status from a gateway (§3.2).
    PushData {
        /// To be given back in the acknowledgement.
        token: Token,
        /// The sender.
        gateway: Eui64,
        /// What it brings.
        push: PushData,
    },
    /// The server has a PUSH_DATA (§3.3).
    PushAck {
        /// Of the PUSH_DATA.
        token: Token,
    },
    /// Keeps the way down open (§5.2).
    PullData {
        /// To be given back in the acknowledgement.
        token: Token,
        /// The sender.
        gateway: Eui64,
    },
    /// The way down is open (§5.4).
    PullAck {
        /// Of the PULL_DATA.
        token: Token,
    },
    /// A frame to send (§5.3).
    PullResp {
        /// To be given back in the TX_ACK.
        token: Token,
        /// The frame and when, where and how to send it.
        packet: TxPacket,
    },
    /// What became of a PULL_RESP (§5.5).
    TxAck {
        /// Of the PULL_RESP.
        token: Token,
        /// The sender.
        gateway: Eui64,
        /// Sent or going to be, or refused.
        result: Result<(), TxAckError>,
    },
}

impl Datagram {
    /// Reads a datagram; any bytes are answered.
    pub fn parse(bytes: &[u8]) -> Result<Self, DatagramError> {
        let len = bytes.len();
        if len > MAX_DATAGRAM {
            return Err(DatagramError::TooLong { len });
        }
        let Some(&[version, t0, t1, identifier]) = bytes.first_chunk::<HEADER_LEN>() else {
            return Err(DatagramError::TooShort { len, needed: HEADER_LEN });
        };
        if version != VERSION {
            return Err(DatagramError::Version(version));
        }
        let token = u16::from_le_bytes([t0, t1]);
        let gateway = || match bytes.get(HEADER_LEN..).and_then(|rest| rest.first_chunk::<8>()) {
            Some(eui) => Ok(Eui64(u64::from_be_bytes(*eui))),
            None => Err(DatagramError::TooShort { len, needed: EUI_END }),
        };
        match identifier {
            ident::PUSH_DATA => {
                let gateway = gateway()?;
                Ok(Datagram::PushData { token, gateway, push: PushData::parse(&bytes[EUI_END..])? })
            }
            ident::PUSH_ACK => Ok(Datagram::PushAck { token }),
            ident::PULL_DATA => Ok(Datagram::PullData { token, gateway: gateway()? }),
            ident::PULL_ACK => Ok(Datagram::PullAck { token }),
            ident::PULL_RESP => {
                let body: PullRespBody = json(&bytes[HEADER_LEN..])?;
                Ok(Datagram::PullResp { token, packet: body.txpk })
            }
            ident::TX_ACK => {
                let gateway = gateway()?;
                let result = txpk::parse_tx_ack(&bytes[EUI_END..])?;
                Ok(Datagram::TxAck { token, gateway, result })
            }
            other => Err(DatagramError::Identifier(other)),
        }
    }

    /// The datagram's bytes.
    pub fn emit(&self) -> Vec<u8> {
        let (token, identifier, gateway, body) = match self {
            Datagram::PushData { token, gateway, push } => (token, ident::PUSH_DATA, Some(gateway), push.emit()),
            Datagram::PushAck { token } => (token, ident::PUSH_ACK, None, Vec::new()),
            Datagram::PullData { token, gateway } => (token, ident::PULL_DATA, Some(gateway), Vec::new()),
            Datagram::PullAck { token } => (token, ident::PULL_ACK, None, Vec::new()),
            Datagram::PullResp { token, packet } => {
                (token, ident::PULL_RESP, None, to_json(&PullRespBody { txpk: packet.clone() }))
            }
            Datagram::TxAck { token, gateway, result } => {
                (token, ident::TX_ACK, Some(gateway), txpk::emit_tx_ack(result))
            }
        };
        let [t0, t1] = token.to_le_bytes();
        let mut out = vec![VERSION, t0, t1, identifier];
        out.extend(gateway.into_iter().flat_map(|eui| eui.to_bytes()));
        out.extend(body);
        out
    }
}

#[derive(Serialize, Deserialize)]
struct PullRespBody {
    txpk: TxPacket,
}

impl PushData {
    /// Reads the JSON object; one bad entry does not cost the others.
    pub(crate) fn parse(bytes: &[u8]) -> Result<Self, DatagramError> {
        #[derive(Deserialize)]
        struct Body<'a> {
            #[serde(default, borrow)]
            rxpk: Vec<&'a RawValue>,
            #[serde(borrow)]
            stat: Option<&'a RawValue>,
        }
        let body: Body<'_> = json(bytes)?;
        let mut push = PushData::default();
        for (i, entry) in body.rxpk.into_iter().enumerate() {
            if i == MAX_RXPK {
                push.unreadable.push(format!("rxpk: entries after the first {MAX_RXPK} are not read"));
                break;
            }
            match RxPacket::from_json(entry.get()) {
                Ok(frame) => push.frames.push(frame),
                Err(why) => push.unreadable.push(format!("rxpk[{i}]: {why}")),
            }
        }
        match body.stat.map(|stat| serde_json::from_str(stat.get())) {
            Some(Ok(status)) => push.status = Some(status),
            Some(Err(why)) => push.unreadable.push(format!("stat: {why}")),
            None => {}
        }
        Ok(push)
    }

    /// The JSON object's bytes.
    pub fn emit(&self) -> Vec<u8> {
        let mut body = serde_json::Map::new();
        if !self.frames.is_empty() {
            body.insert("rxpk".into(), self.frames.iter().map(RxPacket::to_json).collect());
        }
        if let Some(status) = &self.status {
            body.insert("stat".into(), serde_json::to_value(status).unwrap_or_default());
        }
        to_json(&body)
    }
}

fn json<'de, T: Deserialize<'de>>(bytes: &'de [u8]) -> Result<T, DatagramError> {
    serde_json::from_slice(bytes).map_err(|why| DatagramError::Json(why.to_string()))
}

/// JSON of values that cannot fail to serialise: maps with text keys, numbers and text.
fn to_json(value: &impl Serialize) -> Vec<u8> {
    serde_json::to_vec(value).unwrap_or_default()
}
