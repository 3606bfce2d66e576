//! A gateway's report on itself (§4, `stat`).

use serde::{Deserialize, Serialize};

/// Counters since the last report, and where the gateway says it stands. Every field is optional:
/// forwarders differ in what they fill in.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize)]
pub struct GatewayStatus {
    /// `time`: the gateway's clock, "2026-05-04 09:12:33 GMT".
    #[serde(skip_serializing_if = "Option::is_none")]
    pub time: Option<String>,
    /// `lati`: latitude in degrees, north positive.
    #[serde(rename = "lati", skip_serializing_if = "Option::is_none")]
    pub latitude_deg: Option<f64>,
    /// `long`: longitude in degrees, east positive.
    #[serde(rename = "long", skip_serializing_if = "Option::is_none")]
    pub longitude_deg: Option<f64>,
    /// `alti`: altitude in metres.
    #[serde(rename = "alti", skip_serializing_if = "Option::is_none")]
    pub altitude_m: Option<f64>,
    /// `rxnb`: frames received.
    #[serde(rename = "rxnb", skip_serializing_if = "Option::is_none")]
    pub received: Option<u32>,
    /// `rxok`: frames received with a valid CRC.
    #[serde(rename = "rxok", skip_serializing_if = "Option::is_none")]
    pub received_ok: Option<u32>,
    /// `rxfw`: frames forwarded.
    #[serde(rename = "rxfw", skip_serializing_if = "Option::is_none")]
    pub forwarded: Option<u32>,
    /// `ackr`: percentage of PUSH_DATA that were acknowledged.
    #[serde(rename = "ackr", skip_serializing_if = "Option::is_none")]
    pub acknowledged_percent: Option<f64>,
    /// `dwnb`: datagrams received from the server.
    #[serde(rename = "dwnb", skip_serializing_if = "Option::is_none")]
    pub downlinks_received: Option<u32>,
    /// `txnb`: frames sent.
    #[serde(rename = "txnb", skip_serializing_if = "Option::is_none")]
    pub sent: Option<u32>,
}
