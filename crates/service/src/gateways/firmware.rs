//! Firmware for gateways: checked when it comes in, kept in files, handed out with its maker's signature.

use std::io;
use std::path::Path;

use api::gateway::firmware::{Firmware, NewFirmware};
use api::problem::{Problem, bad_field};
use chrono::Utc;
use domain::Check;
use domain::gateway::firmware::CheckedFirmware;
use p256::ecdsa::signature::hazmat::PrehashVerifier as _;
use p256::ecdsa::{Signature, VerifyingKey};
use p256::pkcs8::{DecodePublicKey as _, EncodePublicKey as _};
use sha2::{Digest as _, Sha256, Sha512};
use store::FirmwareRow;
use tokio::task::spawn_blocking;
use ulid::Ulid;

use crate::data_files::DataFiles;

/// Where the files are.
pub struct Firmwares(DataFiles);

/// Checks a firmware's signature and returns its record.
pub(crate) fn check(new: &NewFirmware) -> Result<(FirmwareRow, Vec<u8>), Problem> {
    let CheckedFirmware { name, bytes, signature } = new.check()?;
    let key = VerifyingKey::from_public_key_pem(new.key_pem.trim())
        .map_err(|why| bad_field("key_pem", "(a key)", format!("a public key of ECDSA over P-256, PEM: {why}")))?;
    let signed = Signature::from_der(&signature)
        .map_err(|why| bad_field("signature", "(bytes)", format!("an ECDSA signature, DER: {why}")))?;
    // A gateway checks the same, and would throw the firmware away.
    key.verify_prehash(&Sha512::digest(&bytes), &signed)
        .map_err(|_| bad_field("signature", "(bytes)", "it is not by this key over the SHA-512 of these bytes"))?;
    let der = key.to_public_key_der().map_err(|why| bad_field("key_pem", "(a key)", why))?;
    let firmware = Firmware {
        id: Ulid::generate().to_string(),
        name,
        key_crc: new.key_crc.unwrap_or_else(|| crc32fast::hash(der.as_bytes())),
        size_bytes: bytes.len() as u64,
        sha256: hex::encode(Sha256::digest(&bytes)),
        added_at: Utc::now(),
    };
    Ok((FirmwareRow { firmware, signature }, bytes))
}

impl Firmwares {
    pub fn new(data: &Path) -> Self {
        Self(DataFiles::new(data, "firmware"))
    }

    /// Keeps the bytes of a firmware; there is never half a file.
    ///
    /// # Errors
    /// They cannot be written.
    pub async fn keep(&self, id: &str, bytes: Vec<u8>) -> anyhow::Result<()> {
        let (files, id) = (self.0.clone(), id.to_owned());
        spawn_blocking(move || files.write(&id, |to| to.write_all(&bytes))).await?
    }

    pub async fn read(&self, id: &str) -> io::Result<Vec<u8>> {
        tokio::fs::read(self.0.path(id)).await
    }

    pub async fn throw_away(&self, id: &str) {
        if let Err(error) = tokio::fs::remove_file(self.0.path(id)).await {
            tracing::warn!("the file of firmware {id} could not be removed: {error}");
        }
    }
}

#[cfg(test)]
mod tests {
    use base64::Engine as _;
    use base64::prelude::BASE64_STANDARD;
    use p256::ecdsa::SigningKey;
    use p256::ecdsa::signature::hazmat::PrehashSigner as _;
    use p256::pkcs8::LineEnding;

    use super::*;

    #[test]
    fn only_what_its_key_has_signed_is_taken() {
        let key = SigningKey::from_slice(&[7; 32]).unwrap();
        let pem = key.verifying_key().to_public_key_pem(LineEnding::LF).unwrap();
        let bytes = b"#!/bin/sh\necho new\n";
        let signature: Signature = key.sign_prehash(&Sha512::digest(bytes)).unwrap();
        let new = |bytes: &[u8]| NewFirmware {
            name: "2.1".into(),
            bytes: BASE64_STANDARD.encode(bytes),
            signature: BASE64_STANDARD.encode(signature.to_der()),
            key_pem: pem.clone(),
            key_crc: None,
        };
        let (row, kept) = check(&new(bytes)).unwrap();
        assert_eq!((kept.as_slice(), row.firmware.size_bytes), (&bytes[..], 19));
        assert_ne!(row.firmware.key_crc, 0);
        let refused = check(&new(b"something else")).unwrap_err();
        assert!(refused.to_string().contains("not by this key"), "{refused}");
        let refused = check(&NewFirmware { key_pem: "x".into(), ..new(bytes) }).unwrap_err();
        assert_eq!(refused.field.as_deref(), Some("key_pem"));
        let named = check(&NewFirmware { key_crc: Some(7), ..new(bytes) }).unwrap().0;
        assert_eq!(named.firmware.key_crc, 7);
    }
}
