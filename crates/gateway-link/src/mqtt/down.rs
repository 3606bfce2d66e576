//! What the service has a gateway send, and what became of it.

use lorawan::Modulation;
use serde::{Deserialize, Serialize};

use super::{modulation, up};
use crate::udp::{TxAckError, TxPacket, TxTime};

/// A frame to send.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(try_from = "Written", into = "Written")]
pub struct Order {
    /// Names it in the report.
    pub id: u32,
    /// The frame and when, where and how to send it.
    pub frame: TxPacket,
}

#[derive(Clone, Serialize, Deserialize)]
struct Written {
    id: u32,
    frame: Framed,
}

#[derive(Clone, Serialize, Deserialize)]
struct Framed(#[serde(with = "Frame")] TxPacket);

#[derive(Serialize, Deserialize)]
#[serde(remote = "TxPacket")]
struct Frame {
    #[serde(with = "When")]
    when: TxTime,
    frequency_hz: u32,
    #[serde(default)]
    rf_chain: u32,
    power_dbm: i32,
    #[serde(with = "modulation")]
    modulation: Modulation,
    inverted_polarity: bool,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    deviation_hz: Option<u32>,
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    no_crc: bool,
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    no_header: bool,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    preamble_symbols: Option<u16>,
    #[serde(with = "modulation::hex")]
    phy_payload: Vec<u8>,
}

#[derive(Serialize, Deserialize)]
#[serde(remote = "TxTime", rename_all = "snake_case")]
enum When {
    AtOnce,
    #[serde(rename = "clock_us")]
    Clock(u32),
    #[serde(rename = "gps_time_ms")]
    GpsMs(u64),
}

impl TryFrom<Written> for Order {
    type Error = String;

    fn try_from(Written { id, frame: Framed(frame) }: Written) -> Result<Self, String> {
        if !up::FREQUENCIES_HZ.contains(&frame.frequency_hz) {
            return Err(format!("frequency_hz: {} is not a frequency of a gateway", frame.frequency_hz));
        }
        Ok(Self { id, frame })
    }
}

impl From<Order> for Written {
    fn from(Order { id, frame }: Order) -> Self {
        Self { id, frame: Framed(frame) }
    }
}

/// What became of a frame: `{"id": 7, "sent": true}`, or `{"id": 7, "sent": false, "why": "too_late"}`.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Report {
    /// Of the order.
    pub id: u32,
    /// It was sent, or is going to be.
    pub sent: bool,
    /// Why it was not: `too_late`, `too_early`, `collision_packet`, `collision_beacon`, `tx_freq`, `tx_power`,
    /// `gps_unlocked`, or a word of the gateway's own.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub why: Option<String>,
}

impl Report {
    /// About an order.
    pub fn new(id: u32, result: &Result<(), TxAckError>) -> Self {
        let why = result.as_ref().err().map(|why| why.to_string().to_lowercase());
        Self { id, sent: why.is_none(), why }
    }

    /// Its fields.
    ///
    /// # Errors
    /// The frame was not sent, for this reason.
    pub fn result(&self) -> Result<(), TxAckError> {
        match &self.why {
            _ if self.sent => Ok(()),
            None => Err(TxAckError::Other("NOT_SENT".into())),
            Some(word) => Err(TxAckError::from_word(&word.chars().take(40).collect::<String>().to_uppercase())),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::super::{read, write};
    use super::*;

    #[test]
    fn an_order_is_written_in_our_own_words() {
        let text = br#"{"id":7,"frame":{"when":"at_once","frequency_hz":869525000,"rf_chain":0,"power_dbm":27,"modulation":{"lora":{"spreading_factor":12,"bandwidth_khz":125}},"inverted_polarity":true,"phy_payload":"abcd"}}"#;
        let order: Order = read(text).unwrap();
        assert_eq!((order.id, order.frame.when, &order.frame.phy_payload[..]), (7, TxTime::AtOnce, &[0xab, 0xcd][..]));
        assert_eq!(write(&order), text);
        for when in [TxTime::Clock(u32::MAX), TxTime::GpsMs(1_400_000_000_000)] {
            let mut other = order.clone();
            other.frame.when = when;
            assert_eq!(read(&write(&other)), Ok(other));
        }
        let low = String::from_utf8_lossy(text).replace("869525000", "869");
        assert!(read::<Order>(low.as_bytes()).unwrap_err().to_string().contains("frequency_hz: 869 is not"));
    }

    #[test]
    fn a_report_says_why() {
        let late = Report::new(7, &Err(TxAckError::TooLate));
        assert_eq!(write(&late), br#"{"id":7,"sent":false,"why":"too_late"}"#);
        assert_eq!(late.result(), Err(TxAckError::TooLate));
        assert_eq!(write(&Report::new(7, &Ok(()))), br#"{"id":7,"sent":true}"#);
        let own: Report = read(br#"{"id":7,"sent":false,"why":"asleep"}"#).unwrap();
        assert_eq!(own.result(), Err(TxAckError::Other("ASLEEP".into())));
        let mute: Report = read(br#"{"id":7,"sent":false}"#).unwrap();
        assert!(mute.result().is_err());
    }
}
