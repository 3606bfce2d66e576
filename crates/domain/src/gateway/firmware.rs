//! Checks of a firmware image before it is kept for gateways.

use api::gateway::firmware::NewFirmware;
use api::problem::{Problem, bad_field};
use base64::Engine as _;
use base64::prelude::BASE64_STANDARD;

use crate::{Check, input};

/// The largest firmware.
pub const LARGEST: usize = 64 << 20;

/// A signature of ECDSA over P-256 takes 72 bytes at most.
const LONGEST_SIGNATURE: usize = 128;

/// A new firmware with its parts read.
#[derive(Debug)]
pub struct CheckedFirmware {
    /// Its name.
    pub name: String,
    /// Its bytes.
    pub bytes: Vec<u8>,
    /// Its signature.
    pub signature: Vec<u8>,
}

impl Check for NewFirmware {
    type Checked = CheckedFirmware;

    /// Reads every field but the key.
    fn check(&self) -> Result<Self::Checked, Problem> {
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
            name: input::name("name", &self.name)?,
            bytes: read("bytes", &self.bytes, LARGEST)?,
            signature: read("signature", &self.signature, LONGEST_SIGNATURE)?,
        })
    }
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
