//! Firmware that gateways fetch by themselves.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A firmware to add for gateways.
#[derive(Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct NewFirmware {
    /// Its name, such as that of its version.
    pub name: String,
    /// Its bytes, base64: what the gateway runs once it has checked the signature.
    pub bytes: String,
    /// The maker's signature, base64: ECDSA over the SHA-512 of the bytes, DER.
    pub signature: String,
    /// The maker's public key, PEM. The signature is checked by it before anything is handed out.
    pub key_pem: String,
    /// CRC-32 by which gateways name that key; that of its DER if not given.
    #[serde(default)]
    pub key_crc: Option<u32>,
}

/// A stored firmware.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Firmware {
    /// Names it.
    pub id: String,
    /// Its name.
    pub name: String,
    /// CRC-32 by which gateways name the key of its signature.
    pub key_crc: u32,
    /// How large it is.
    pub size_bytes: u64,
    /// SHA-256 of its bytes, in hex.
    pub sha256: String,
    /// When it was added.
    #[serde(with = "crate::millis")]
    pub added_at: DateTime<Utc>,
}

/// The firmware that a gateway is to get.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct HandFirmware {
    /// The firmware; none withdraws the order.
    pub firmware: Option<String>,
}
