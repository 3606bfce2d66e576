//! A frame to send (§6, `txpk`) and what became of it (§5.5, `txpk_ack`).

use base64::Engine as _;
use lorawan::Modulation;
use serde::{Deserialize, Serialize};
use serde_json::{Value, json};
use thiserror::Error;

use super::{DatagramError, json, number, to_json};

/// When a gateway is to send a frame.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum TxTime {
    /// `imme`: as soon as it has it.
    AtOnce,
    /// `tmst`: by the concentrator's clock in microseconds, which wraps.
    Clock(u32),
    /// `tmms`: by GPS time, in milliseconds since the GPS epoch.
    GpsMs(u64),
}

/// A frame for a gateway to send.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(try_from = "Fields", into = "Fields")]
pub struct TxPacket {
    /// `imme`, `tmst` or `tmms`: when to send.
    pub when: TxTime,
    /// `freq`, in hertz.
    pub frequency_hz: u32,
    /// `rfch`: the radio to send with.
    pub rf_chain: u32,
    /// `powe`: transmit power in dBm, before antenna gain.
    pub power_dbm: i32,
    /// `modu` and `datr`.
    pub modulation: Modulation,
    /// `ipol`: inverted polarity, as LoRaWAN downlinks use so that gateways do not hear each other.
    pub inverted_polarity: bool,
    /// `fdev`: frequency deviation in hertz, FSK only.
    pub deviation_hz: Option<u32>,
    /// `ncrc`: send without the physical layer's CRC.
    pub no_crc: bool,
    /// `nhdr`: send without the physical layer's header, as beacons are.
    pub no_header: bool,
    /// `prea`: length of the preamble, where it is not the usual one.
    pub preamble_symbols: Option<u16>,
    /// `data`: the frame.
    pub phy_payload: Vec<u8>,
}

#[derive(Clone, Serialize, Deserialize)]
struct Fields {
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    imme: bool,
    #[serde(skip_serializing_if = "Option::is_none")]
    tmst: Option<u32>,
    #[serde(skip_serializing_if = "Option::is_none")]
    tmms: Option<u64>,
    freq: f64,
    #[serde(default)]
    rfch: u32,
    #[serde(default)]
    powe: i32,
    modu: String,
    datr: Value,
    #[serde(skip_serializing_if = "Option::is_none")]
    codr: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    fdev: Option<u32>,
    #[serde(default)]
    ipol: bool,
    #[serde(default)]
    ncrc: bool,
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    nhdr: bool,
    #[serde(skip_serializing_if = "Option::is_none")]
    prea: Option<u16>,
    size: usize,
    data: String,
}

impl TryFrom<Fields> for TxPacket {
    type Error = String;

    fn try_from(f: Fields) -> Result<Self, String> {
        let phy_payload = number::decode_base64("data", &f.data)?;
        if f.size != phy_payload.len() {
            return Err(format!("size says {} bytes, data has {}", f.size, phy_payload.len()));
        }
        let when = match (f.imme, f.tmst, f.tmms) {
            (true, ..) => TxTime::AtOnce,
            (false, Some(clock_us), _) => TxTime::Clock(clock_us),
            (false, None, Some(ms)) => TxTime::GpsMs(ms),
            (false, None, None) => return Err("none of tmst, tmms and imme says when to send".into()),
        };
        Ok(Self {
            when,
            frequency_hz: number::hz_from_mhz(f.freq)?,
            rf_chain: f.rfch,
            power_dbm: f.powe,
            modulation: number::modulation(&f.modu, &f.datr)?,
            inverted_polarity: f.ipol,
            deviation_hz: f.fdev,
            no_crc: f.ncrc,
            no_header: f.nhdr,
            preamble_symbols: f.prea,
            phy_payload,
        })
    }
}

impl From<TxPacket> for Fields {
    fn from(p: TxPacket) -> Self {
        Fields {
            imme: p.when == TxTime::AtOnce,
            tmst: if let TxTime::Clock(clock_us) = p.when { Some(clock_us) } else { None },
            tmms: if let TxTime::GpsMs(ms) = p.when { Some(ms) } else { None },
            freq: number::mhz(p.frequency_hz),
            rfch: p.rf_chain,
            powe: p.power_dbm,
            modu: number::modu(p.modulation).into(),
            datr: number::datr(p.modulation),
            codr: matches!(p.modulation, Modulation::Lora { .. }).then(|| "4/5".into()),
            fdev: p.deviation_hz,
            ipol: p.inverted_polarity,
            ncrc: p.no_crc,
            nhdr: p.no_header,
            prea: p.preamble_symbols,
            size: p.phy_payload.len(),
            data: number::BASE64.encode(&p.phy_payload),
        }
    }
}

/// Why a gateway did not send a frame (§5.5).
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum TxAckError {
    /// The time asked for had passed.
    #[error("TOO_LATE")]
    TooLate,
    /// The time asked for is too far ahead.
    #[error("TOO_EARLY")]
    TooEarly,
    /// Another frame is to be sent at that time.
    #[error("COLLISION_PACKET")]
    CollisionPacket,
    /// A beacon is to be sent at that time.
    #[error("COLLISION_BEACON")]
    CollisionBeacon,
    /// The frequency is outside what the radio may use.
    #[error("TX_FREQ")]
    TxFreq,
    /// The power is outside what the radio can do.
    #[error("TX_POWER")]
    TxPower,
    /// GPS time was asked for and there is none.
    #[error("GPS_UNLOCKED")]
    GpsUnlocked,
    /// A word this protocol version does not define.
    #[error("{0}")]
    Other(String),
}

impl TxAckError {
    /// The gateway's word for it.
    pub(crate) fn from_word(word: &str) -> Self {
        match word {
            "TOO_LATE" => Self::TooLate,
            "TOO_EARLY" => Self::TooEarly,
            "COLLISION_PACKET" => Self::CollisionPacket,
            "COLLISION_BEACON" => Self::CollisionBeacon,
            "TX_FREQ" => Self::TxFreq,
            "TX_POWER" => Self::TxPower,
            "GPS_UNLOCKED" => Self::GpsUnlocked,
            // The word comes from the network and goes into records: a short one is enough.
            other => Self::Other(other.chars().filter(|c| !c.is_control()).take(40).collect()),
        }
    }
}

/// Reads the JSON part of a TX_ACK; an empty one means that all is well.
pub(super) fn parse_tx_ack(bytes: &[u8]) -> Result<Result<(), TxAckError>, DatagramError> {
    #[derive(Deserialize)]
    struct Body {
        txpk_ack: Ack,
    }
    #[derive(Deserialize)]
    struct Ack {
        error: Option<String>,
    }
    if bytes.iter().all(|b| b.is_ascii_whitespace() || *b == 0) {
        return Ok(Ok(()));
    }
    let body: Body = json(bytes)?;
    Ok(match body.txpk_ack.error.as_deref() {
        None | Some("NONE" | "") => Ok(()),
        Some(word) => Err(TxAckError::from_word(word)),
    })
}

pub(super) fn emit_tx_ack(result: &Result<(), TxAckError>) -> Vec<u8> {
    match result {
        Ok(()) => to_json(&json!({ "txpk_ack": { "error": "NONE" } })),
        Err(why) => to_json(&json!({ "txpk_ack": { "error": why.to_string() } })),
    }
}
