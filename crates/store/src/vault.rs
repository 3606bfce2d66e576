//! Keys at rest: sealed with AES-256-GCM under a master key that lives in a file of its own.
//!
//! What is sealed is bound to its purpose and owner, so that a sealed key copied to another row does
//! not open.

use std::fs;
use std::io::Write as _;
use std::os::unix::fs::OpenOptionsExt as _;
use std::path::{Path, PathBuf};

use aes_gcm::aead::{Aead, KeyInit, Payload};
use aes_gcm::{Aes256Gcm, Key, Nonce};
use lorawan::Eui64;
use thiserror::Error;
use zeroize::Zeroizing;

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

/// The purpose of a sealed value.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Purpose {
    AppKey,
    SessionKeys,
    NwkKey,
    PersonalKeys,
    GroupKeys,
    FleetKey,
    OneTimeCodes,
    KeptAnswer,
    OutletSecrets,
}

/// Seals and opens keys. While the master key is being replaced there are two: new secrets are sealed under the new
/// one, and both open.
pub struct Vault {
    newest: Aes256Gcm,
    before: Option<Aes256Gcm>,
}

/// A master key as it is read; wiped from memory once ciphers are made of it, which wipe themselves as well.
type MasterKey = Zeroizing<[u8; 32]>;

fn cipher(key: &MasterKey) -> Aes256Gcm {
    let key: &Key<Aes256Gcm> = (&**key).into();
    Aes256Gcm::new(key)
}

/// The file of the new master key while it replaces the one in `path`.
fn next_to(path: &Path) -> PathBuf {
    path.with_extension("key.next")
}

/// Writes a new master key to a file, which appears only when it is complete.
fn make(path: &Path) -> Result<MasterKey, VaultError> {
    let failed = |source| VaultError::File { path: path.display().to_string(), source };
    let key = MasterKey::new(rand::random());
    let unfinished = path.with_extension("unfinished");
    // An incomplete file left behind protects nothing.
    let _ = fs::remove_file(&unfinished);
    let mut options = fs::OpenOptions::new();
    let mut file = options.write(true).create_new(true).mode(0o600).open(&unfinished).map_err(failed)?;
    file.write_all(key.as_slice()).and_then(|()| file.sync_all()).map_err(failed)?;
    fs::rename(&unfinished, path).map_err(failed)?;
    sync_folder(path).map_err(failed)?;
    Ok(key)
}

/// Syncs a file's folder, so that a rename is durable.
fn sync_folder(path: &Path) -> std::io::Result<()> {
    fs::File::open(path.parent().unwrap_or(Path::new(".")))?.sync_all()
}

/// The master key in a file, if there is one.
fn read(path: &Path) -> Result<Option<MasterKey>, VaultError> {
    match fs::read(path).map(Zeroizing::new) {
        Ok(bytes) => {
            let key = bytes
                .as_slice()
                .try_into()
                .map(MasterKey::new)
                .map_err(|_| VaultError::Length(path.display().to_string()))?;
            Ok(Some(key))
        }
        Err(e) if e.kind() == std::io::ErrorKind::NotFound => Ok(None),
        Err(source) => Err(VaultError::File { path: path.display().to_string(), source }),
    }
}

impl Vault {
    /// Whether there is a master key.
    ///
    /// # Errors
    /// If the file is there and cannot be read.
    pub fn is_there(path: &Path) -> Result<bool, VaultError> {
        Ok(read(path)?.is_some())
    }

    /// Reads the master key, or makes one at the first start (mode 0600).
    pub fn open_or_create(path: &Path) -> Result<Self, VaultError> {
        let current = match read(path)? {
            Some(key) => key,
            None => make(path)?,
        };
        Ok(match read(&next_to(path))? {
            Some(next) => Self::between(&next, &current),
            None => Self::under(&current),
        })
    }

    /// Whether the replacement of the master key was begun and not finished.
    pub fn is_being_replaced(&self) -> bool {
        self.before.is_some()
    }

    /// Begins to replace the master key, or goes on with it: the new key is made, beside the old one.
    ///
    /// # Errors
    /// If there is no master key to replace, or a file cannot be read or made.
    pub fn begin_replacement(path: &Path) -> Result<Self, VaultError> {
        let missing =
            || VaultError::File { path: path.display().to_string(), source: std::io::ErrorKind::NotFound.into() };
        let current = read(path)?.ok_or_else(missing)?;
        let next = next_to(path);
        let key = match read(&next)? {
            Some(key) => key,
            None => make(&next)?,
        };
        Ok(Self::between(&key, &current))
    }

    /// Puts the new key in the place of the old one, which is gone then. To be done once nothing is sealed under it.
    ///
    /// # Errors
    /// If the files cannot be renamed.
    pub fn end_replacement(path: &Path) -> Result<(), VaultError> {
        let failed = |source| VaultError::File { path: path.display().to_string(), source };
        fs::rename(next_to(path), path).map_err(failed)?;
        sync_folder(path).map_err(failed)
    }

    /// With a given master key.
    pub fn from_key(key: [u8; 32]) -> Self {
        Self::under(&MasterKey::new(key))
    }

    fn under(key: &MasterKey) -> Self {
        Self { newest: cipher(key), before: None }
    }

    fn between(next: &MasterKey, current: &MasterKey) -> Self {
        Self { newest: cipher(next), before: Some(cipher(current)) }
    }

    pub(crate) fn seal(&self, purpose: Purpose, owner: Eui64, secret: &[u8]) -> Result<Vec<u8>, VaultError> {
        let nonce: [u8; NONCE_LEN] = rand::random();
        let aad = bound_to(purpose, owner);
        let sealed = self
            .newest
            .encrypt(&Nonce::from(nonce), Payload { msg: secret, aad: &aad })
            .map_err(|_| VaultError::Sealed)?;
        Ok([&nonce[..], &sealed].concat())
    }

    pub(crate) fn open<const N: usize>(
        &self,
        purpose: Purpose,
        owner: Eui64,
        sealed: &[u8],
    ) -> Result<[u8; N], VaultError> {
        self.open_any(purpose, owner, sealed)?.try_into().map_err(|_| VaultError::Sealed)
    }

    /// Opens a secret of any length.
    pub(crate) fn open_any(&self, purpose: Purpose, owner: Eui64, sealed: &[u8]) -> Result<Vec<u8>, VaultError> {
        let newest = open_with(&self.newest, purpose, owner, sealed);
        match (newest, &self.before) {
            (Err(_), Some(before)) => open_with(before, purpose, owner, sealed),
            (newest, _) => newest,
        }
    }

    /// Whether a secret opens, of any kind.
    pub(crate) fn opens(&self, purpose: Purpose, owner: Eui64, sealed: &[u8]) -> bool {
        let keys = std::iter::once(&self.newest).chain(&self.before);
        keys.into_iter().any(|key| open_with(key, purpose, owner, sealed).is_ok())
    }

    /// The same secret sealed under the newest key; none if it is already.
    pub(crate) fn reseal(&self, purpose: Purpose, owner: Eui64, sealed: &[u8]) -> Result<Option<Vec<u8>>, VaultError> {
        let Some(before) = &self.before else { return Ok(None) };
        if open_with(&self.newest, purpose, owner, sealed).is_ok() {
            return Ok(None);
        }
        let secret = open_with(before, purpose, owner, sealed)?;
        self.seal(purpose, owner, &secret).map(Some)
    }
}

fn open_with(key: &Aes256Gcm, purpose: Purpose, owner: Eui64, sealed: &[u8]) -> Result<Vec<u8>, VaultError> {
    let (nonce, body) = sealed.split_first_chunk::<NONCE_LEN>().ok_or(VaultError::Sealed)?;
    let aad = bound_to(purpose, owner);
    key.decrypt(&Nonce::from(*nonce), Payload { msg: body, aad: &aad }).map_err(|_| VaultError::Sealed)
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
        Purpose::KeptAnswer => 8,
        Purpose::OutletSecrets => 9,
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

    #[test]
    fn while_the_master_key_is_replaced_both_open_and_the_new_one_seals() {
        let folder = std::env::temp_dir().join(format!("keen-heron-vault-{:016x}", rand::random::<u64>()));
        fs::create_dir(&folder).unwrap();
        let path = folder.join("master.key");
        assert!(Vault::begin_replacement(&path).is_err(), "there is none to replace");
        let old = Vault::open_or_create(&path).unwrap();
        let sealed = old.seal(Purpose::AppKey, Eui64(1), &[9; 16]).unwrap();
        let begun = Vault::begin_replacement(&path).unwrap();
        assert!(begun.is_being_replaced());
        let resealed = begun.reseal(Purpose::AppKey, Eui64(1), &sealed).unwrap().unwrap();
        // As after an interruption: begun again, it goes on with the same new key.
        let again = Vault::begin_replacement(&path).unwrap();
        assert_eq!(again.reseal(Purpose::AppKey, Eui64(1), &resealed).unwrap(), None, "it is done already");
        let between = Vault::open_or_create(&path).unwrap();
        for either in [&sealed, &resealed] {
            assert_eq!(between.open::<16>(Purpose::AppKey, Eui64(1), either).unwrap(), [9; 16]);
        }
        assert!(again.reseal(Purpose::AppKey, Eui64(2), &sealed).is_err(), "it is bound to its owner");
        Vault::end_replacement(&path).unwrap();
        let new = Vault::open_or_create(&path).unwrap();
        assert!(!new.is_being_replaced());
        assert_eq!(new.open::<16>(Purpose::AppKey, Eui64(1), &resealed).unwrap(), [9; 16]);
        assert!(new.open::<16>(Purpose::AppKey, Eui64(1), &sealed).is_err(), "the old key is gone");
        fs::remove_dir_all(&folder).unwrap();
    }
}
