//! Firmware that gateways fetch over CUPS.

use base64::Engine as _;
use base64::prelude::BASE64_STANDARD;
use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::problem::{self, Problem, bad_field};

/// The largest firmware.
pub const LARGEST: usize = 64 << 20;
/// A signature of ECDSA over P-256 takes 72 bytes at most.
const LONGEST_SIGNATURE: usize = 128;

/// A firmware to keep for gateways.
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

/// A new firmware with its parts read.
#[derive(Debug)]
pub struct CheckedFirmware {
    pub name: String,
    pub bytes: Vec<u8>,
    pub signature: Vec<u8>,
}

impl NewFirmware {
    /// Reads every field but the key.
    pub fn check(&self) -> Result<CheckedFirmware, Problem> {
        let read = |field, text: &str, most: usize| {
            let text: String = text.split_whitespace().collect();
            let bytes =
                BASE64_STANDARD.decode(text).map_err(|why| bad_field(field, "(bytes)", format!("base64: {why}")))?;
            match bytes.len() {
                0 => Err(bad_field(field, "", "it may not be empty")),
                length if length > most => {
                    Err(bad_field(field, &format!("{length} bytes"), format!("at most {most} bytes are allowed")))
                }
                _ => Ok(bytes),
            }
        };
        Ok(CheckedFirmware {
            name: problem::name("name", &self.name)?,
            bytes: read("bytes", &self.bytes, LARGEST)?,
            signature: read("signature", &self.signature, LONGEST_SIGNATURE)?,
        })
    }
}

/// A firmware that is kept.
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

/// Which firmware a gateway is to be handed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct HandFirmware {
    /// The firmware; none takes the order back.
    pub firmware: Option<String>,
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_cannot_be_a_firmware_is_named() {
        let new = NewFirmware {
            name: "2.1".into(),
            bytes: "q80=".into(),
            signature: "AAECAw==".into(),
            ..NewFirmware::default()
        };
        assert_eq!(new.check().unwrap().bytes, [0xab, 0xcd]);
        let said = |new: NewFirmware| new.check().unwrap_err().to_string();
        assert!(said(NewFirmware { bytes: "?".into(), ..new.clone() }).contains("bytes: "));
        assert!(said(NewFirmware { bytes: String::new(), ..new.clone() }).contains("may not be empty"));
        assert!(said(NewFirmware { signature: "AAAA".repeat(60), ..new.clone() }).contains("at most 128"));
        assert!(said(NewFirmware { name: " ".into(), ..new }).contains("name"));
    }
}
