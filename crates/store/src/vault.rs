//! Keys at rest: sealed with AES-256-GCM under a master key that lives in a file of its own.
//!
//! What is sealed is bound to its purpose and owner, so that a sealed key copied to another row does
//! not open.

use std::fs;
use std::io::Write as _;
use std::os::unix::fs::OpenOptionsExt as _;
use std::path::Path;

use aes_gcm::aead::{Aead, KeyInit, Payload};
use aes_gcm::{Aes256Gcm, Key, Nonce};
use lorawan::Eui64;
use thiserror::Error;

const NONCE_LEN: usize = 12;

/// Why a key could not be sealed or opened.
#[derive(Debug, Error)]
pub enum VaultError {
    /// The file of the master key cannot be read or made.
    #[error("the master key file {path}: {source}")]
    File {
        /// Which file.
        path: String,
        /// Why not.
        source: std::io::Error,
    },
    /// The file does not hold a master key.
    #[error("the master key file {0} does not hold 32 bytes")]
    Length(String),
    /// The sealed bytes were made under another master key, for another purpose, or are damaged.
    #[error("a sealed key does not open: it was sealed under another master key, or is damaged")]
    Sealed,
}

/// What a sealed value is for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Purpose {
    AppKey,
    SessionKeys,
    NwkKey,
    PersonalKeys,
    GroupKeys,
    FleetKey,
    OneTimeCodes,
}

/// Seals and opens keys.
pub struct Vault(Aes256Gcm);

impl Vault {
    /// Reads the master key, or makes one at the first start (mode 0600).
    pub fn open_or_create(path: &Path) -> Result<Self, VaultError> {
        let failed = |source| VaultError::File { path: path.display().to_string(), source };
        let key = match fs::read(path) {
            Ok(bytes) => {
                <[u8; 32]>::try_from(bytes.as_slice()).map_err(|_| VaultError::Length(path.display().to_string()))?
            }
            Err(e) if e.kind() == std::io::ErrorKind::NotFound => {
                let key: [u8; 32] = rand::random();
                let mut options = fs::OpenOptions::new();
                let mut file = options.write(true).create_new(true).mode(0o600).open(path).map_err(failed)?;
                file.write_all(&key).and_then(|()| file.sync_all()).map_err(failed)?;
                key
            }
            Err(e) => return Err(failed(e)),
        };
        Ok(Self::from_key(key))
    }

    /// A vault under a given key.
    pub fn from_key(key: [u8; 32]) -> Self {
        Self(Aes256Gcm::new(&Key::<Aes256Gcm>::from(key)))
    }

    pub(crate) fn seal(&self, purpose: Purpose, owner: Eui64, secret: &[u8]) -> Result<Vec<u8>, VaultError> {
        let nonce: [u8; NONCE_LEN] = rand::random();
        let aad = bound_to(purpose, owner);
        let sealed =
            self.0.encrypt(&Nonce::from(nonce), Payload { msg: secret, aad: &aad }).map_err(|_| VaultError::Sealed)?;
        Ok([&nonce[..], &sealed].concat())
    }

    pub(crate) fn open<const N: usize>(
        &self,
        purpose: Purpose,
        owner: Eui64,
        sealed: &[u8],
    ) -> Result<[u8; N], VaultError> {
        let (nonce, body) = sealed.split_first_chunk::<NONCE_LEN>().ok_or(VaultError::Sealed)?;
        let aad = bound_to(purpose, owner);
        let secret =
            self.0.decrypt(&Nonce::from(*nonce), Payload { msg: body, aad: &aad }).map_err(|_| VaultError::Sealed)?;
        secret.try_into().map_err(|_| VaultError::Sealed)
    }
}

fn bound_to(purpose: Purpose, owner: Eui64) -> [u8; 9] {
    let mut aad = [0; 9];
    aad[0] = match purpose {
        Purpose::AppKey => 1,
        Purpose::SessionKeys => 2,
        Purpose::NwkKey => 3,
        Purpose::PersonalKeys => 4,
        Purpose::GroupKeys => 5,
        Purpose::FleetKey => 6,
        Purpose::OneTimeCodes => 7,
    };
    aad[1..].copy_from_slice(&owner.to_bytes());
    aad
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_sealed_key_opens_only_where_it_belongs() {
        let vault = Vault::from_key([7; 32]);
        let sealed = vault.seal(Purpose::AppKey, Eui64(1), &[9; 16]).unwrap();
        assert!(!sealed.windows(16).any(|w| w == [9; 16]));
        assert_eq!(vault.open::<16>(Purpose::AppKey, Eui64(1), &sealed).unwrap(), [9; 16]);
        assert!(vault.open::<16>(Purpose::AppKey, Eui64(2), &sealed).is_err());
        assert!(vault.open::<16>(Purpose::SessionKeys, Eui64(1), &sealed).is_err());
        assert!(Vault::from_key([8; 32]).open::<16>(Purpose::AppKey, Eui64(1), &sealed).is_err());
        assert!(vault.open::<16>(Purpose::AppKey, Eui64(1), &sealed[..5]).is_err());
        assert_ne!(sealed, vault.seal(Purpose::AppKey, Eui64(1), &[9; 16]).unwrap(), "a nonce is used once");
    }

    #[test]
    fn the_master_key_is_made_once_and_kept_private() {
        use std::os::unix::fs::PermissionsExt as _;
        let path = std::env::temp_dir().join(format!("keen-heron-vault-{:016x}", rand::random::<u64>()));
        let first = Vault::open_or_create(&path).unwrap();
        assert_eq!(fs::metadata(&path).unwrap().permissions().mode() & 0o777, 0o600);
        let sealed = first.seal(Purpose::AppKey, Eui64(1), &[9; 16]).unwrap();
        let again = Vault::open_or_create(&path).unwrap();
        assert_eq!(again.open::<16>(Purpose::AppKey, Eui64(1), &sealed).unwrap(), [9; 16]);
        fs::write(&path, b"short").unwrap();
        assert!(matches!(Vault::open_or_create(&path), Err(VaultError::Length(_))));
        fs::remove_file(&path).unwrap();
    }
}
