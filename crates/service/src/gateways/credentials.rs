//! Gateway credentials in memory. The secrets themselves are only in the database, hashed.

use std::collections::HashMap;
use std::net::SocketAddr;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use api::gateway::credential::{CredentialKind, CredentialState, GatewayCredential, IssuedCredential, Purpose};
use chrono::{DateTime, TimeDelta, Utc};
use domain::gateway::credential;
use gateway_link::cups;
use gateway_link::mqtt::Name;
use lorawan::Eui64;
use sha2::{Digest as _, Sha256};
use store::{CredentialRow, IssuedCertificate, SecretHash, Store, StoreError};
use tokio::sync::Notify;
use ulid::Ulid;

use crate::gateways::authority::{Authority, Issued};
use crate::net::room::Seat;
use crate::net::tls::Trust;

/// A gateway's proof of identity.
#[derive(Debug, Clone, Copy)]
pub enum Proof<'a> {
    /// A text that only it knows.
    Token(&'a str),
    /// A certificate, DER, whose key it has shown to have.
    Certificate(&'a [u8]),
}

impl Proof<'_> {
    fn hash(&self) -> SecretHash {
        match self {
            Self::Token(token) => Sha256::digest(token.as_bytes()).into(),
            Self::Certificate(der) => Sha256::digest(der).into(),
        }
    }
}

/// Why a gateway is rejected, and what to do about it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Refused {
    pub text: String,
    pub next: &'static str,
    /// The owner of the credential, if that is another gateway.
    pub of: Option<Eui64>,
    /// Whether the caller holds a credential of this gateway, although not one that opens the door.
    pub holds_one: bool,
}

const NEW_KIT: &str = "Make a new connection kit for this gateway and put its files there.";

fn refused(text: impl Into<String>, next: &'static str) -> Refused {
    Refused { text: text.into(), next, of: None, holds_one: false }
}

/// A credential with its secret, which exists here and on its way to the gateway only.
pub struct Fresh {
    pub row: CredentialRow,
    /// The name in its certificate.
    name: Name,
    secret: Secret,
    segments: cups::Credentials,
}

enum Secret {
    Token(String),
    Certificate(Box<Issued>),
}

/// The header line by which a gateway sends its token.
fn token_line(token: &str) -> String {
    format!("Authorization: Bearer {token}\r\n")
}

impl Fresh {
    /// Makes a credential; it opens nothing before it is added.
    pub fn make(
        authority: &Authority,
        trust: &Trust,
        gateway: Name,
        (purpose, kind): (Purpose, CredentialKind),
        lasts: TimeDelta,
    ) -> anyhow::Result<Self> {
        let added_at = Utc::now();
        let (secret, expires_at, segments) = match kind {
            CredentialKind::Token => {
                let token = hex::encode(rand::random::<[u8; 32]>());
                let key = token_line(&token).into_bytes();
                let segments = cups::Credentials { trust: trust.der.to_vec(), certificate: None, key };
                (Secret::Token(token), added_at + lasts, segments)
            }
            CredentialKind::Certificate => {
                let issued = authority.for_gateway(gateway, (added_at + lasts).min(authority.expires_at))?;
                let certificate = Some(issued.certificate.to_vec());
                let segments =
                    cups::Credentials { trust: trust.der.to_vec(), certificate, key: issued.key.serialize_der() };
                let expires_at = issued.expires_at;
                (Secret::Certificate(Box::new(issued)), expires_at, segments)
            }
        };
        let secret_hash = match &secret {
            Secret::Token(token) => Proof::Token(token).hash(),
            Secret::Certificate(issued) => Proof::Certificate(&issued.certificate).hash(),
        };
        let credential = GatewayCredential {
            id: Ulid::generate().to_string(),
            purpose,
            kind,
            added_at,
            expires_at,
            last_used: None,
            revoked_at: None,
            replace_asked: false,
        };
        let row = CredentialRow { gateway: gateway.eui, credential, secret_hash, segment_crc: segments.crc() };
        Ok(Self { row, name: gateway, secret, segments })
    }

    /// What is remembered of its certificate until that expires.
    fn certificate(&self) -> Option<IssuedCertificate> {
        let Secret::Certificate(issued) = &self.secret else { return None };
        Some(IssuedCertificate {
            serial: issued.serial.clone(),
            name: self.name.to_string(),
            credential: self.row.credential.id.clone(),
            expires_at: issued.expires_at,
        })
    }

    /// As CUPS carries it.
    pub fn segments(&self) -> &cups::Credentials {
        &self.segments
    }

    /// As gateways keep it in files: the certificate if there is one, and the key or the header line.
    pub fn files(&self) -> (Option<String>, String) {
        match &self.secret {
            Secret::Token(token) => (None, token_line(token)),
            Secret::Certificate(issued) => (Some(issued.certificate_pem.clone()), issued.key.serialize_pem()),
        }
    }

    /// As it is shown, once.
    pub fn shown(&self, trust: &Trust) -> IssuedCredential {
        let (token, certificate_pem, key_pem) = match &self.secret {
            Secret::Token(token) => (Some(token.as_str().into()), None, None),
            Secret::Certificate(issued) => {
                (None, Some(issued.certificate_pem.clone()), Some(issued.key.serialize_pem().into()))
            }
        };
        let credential = self.row.credential.clone();
        IssuedCredential { credential, token, certificate_pem, key_pem, trust_pem: trust.pem.clone() }
    }
}

/// The credentials by hash and by gateway.
#[derive(Default)]
struct Keyring {
    by_hash: HashMap<SecretHash, CredentialRow>,
    by_gateway: HashMap<Eui64, Vec<SecretHash>>,
    /// Uses that the database does not know of yet, by the credential's name.
    used: HashMap<String, DateTime<Utc>>,
}

impl Keyring {
    fn add(&mut self, row: CredentialRow) {
        self.by_gateway.entry(row.gateway).or_default().push(row.secret_hash);
        self.by_hash.insert(row.secret_hash, row);
    }

    fn take_out(&mut self, row: &CredentialRow) {
        self.by_hash.remove(&row.secret_hash);
        if let Some(own) = self.by_gateway.get_mut(&row.gateway) {
            own.retain(|hash| *hash != row.secret_hash);
        }
    }

    fn own(&self, gateway: Eui64) -> impl Iterator<Item = &CredentialRow> {
        self.by_gateway.get(&gateway).into_iter().flatten().filter_map(|hash| self.by_hash.get(hash))
    }

    /// The newest first.
    fn of(&self, gateway: Eui64) -> Vec<CredentialRow> {
        let mut own: Vec<_> = self.own(gateway).cloned().collect();
        own.sort_by(|a, b| b.credential.id.cmp(&a.credential.id));
        own
    }

    fn check(
        &mut self,
        proof: Option<Proof<'_>>,
        claims: Eui64,
        purpose: Purpose,
        now: DateTime<Utc>,
    ) -> Result<(), Refused> {
        let Some(proof) = proof else {
            return Err(refused(
                "It brings neither a token nor a certificate.",
                "Put the key file of its connection kit on the gateway; a key file without a token in it sends none.",
            ));
        };
        let Some(row) = self.by_hash.get_mut(&proof.hash()) else { return Err(unknown(proof)) };
        let credential = &mut row.credential;
        let kind = credential.kind.name();
        if row.gateway != claims {
            let text = format!("Its {kind} belongs to {}, and it says to be {claims}.", row.gateway);
            let next = "The files of two gateways have been mixed up: each has a kit of its own.";
            return Err(Refused { of: Some(row.gateway), ..refused(text, next) });
        }
        let held = |text, next| Refused { holds_one: true, ..refused(text, next) };
        let when = |at: DateTime<Utc>| at.format("%Y-%m-%d %H:%M UTC");
        match credential::state(credential, now) {
            CredentialState::Revoked => {
                let at = when(credential.revoked_at.unwrap_or(now));
                return Err(held(format!("Its {kind} was revoked on {at}."), NEW_KIT));
            }
            CredentialState::Expired => {
                let at = when(credential.expires_at);
                return Err(held(format!("Its {kind} has expired on {at}."), NEW_KIT));
            }
            CredentialState::Good | CredentialState::Expiring => {}
        }
        if credential.purpose != purpose {
            let text = format!("Its {kind} is for {}, not for {}.", credential.purpose.name(), purpose.name());
            let next = "The files for traffic (tc) and those for updates (cups) have been mixed up.";
            return Err(held(text, next));
        }
        credential.last_used = Some(now);
        self.used.insert(credential.id.clone(), now);
        Ok(())
    }

    fn all_ended(&self, gateway: Eui64, now: DateTime<Utc>) -> bool {
        let ended = |c: &GatewayCredential| {
            matches!(credential::state(c, now), CredentialState::Expired | CredentialState::Revoked)
        };
        let mut own = self.own(gateway).map(|row| &row.credential).filter(|c| c.purpose == Purpose::Traffic).peekable();
        own.peek().is_some() && own.all(ended)
    }

    /// Credentials that a newer one in use has replaced.
    fn outlived(&self, gateway: Eui64, purpose: Purpose) -> Vec<CredentialRow> {
        let mut own = self.of(gateway);
        own.retain(|row| row.credential.purpose == purpose && row.credential.revoked_at.is_none());
        let in_use = own.iter().position(|row| row.credential.last_used.is_some()).unwrap_or(own.len());
        own.split_off((in_use + 1).min(own.len()))
    }
}

/// All credentials, in memory as in the database.
pub struct Credentials {
    store: Store,
    keyring: Mutex<Keyring>,
    ended: Notify,
}

impl Credentials {
    pub async fn load(store: Store) -> Result<Self, StoreError> {
        let mut keyring = Keyring::default();
        store.all_credentials().await?.into_iter().for_each(|row| keyring.add(row));
        Ok(Self { store, keyring: Mutex::new(keyring), ended: Notify::new() })
    }

    fn lock(&self) -> MutexGuard<'_, Keyring> {
        self.keyring.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Whether the proof is valid for the purpose, for a gateway that says it is `claims`.
    pub fn check(
        &self,
        proof: Option<Proof<'_>>,
        claims: Eui64,
        purpose: Purpose,
        now: DateTime<Utc>,
    ) -> Result<(), Refused> {
        self.lock().check(proof, claims, purpose, now)
    }

    /// When a credential expires.
    pub fn good_until(&self, proof: Proof<'_>) -> Option<DateTime<Utc>> {
        Some(self.lock().by_hash.get(&proof.hash())?.credential.expires_at)
    }

    /// Credentials of a gateway, the newest first.
    pub fn of(&self, gateway: Eui64) -> Vec<CredentialRow> {
        self.lock().of(gateway)
    }

    /// Whether a gateway has credentials for traffic, and none of them is valid any more.
    pub fn all_ended(&self, gateway: Eui64, now: DateTime<Utc>) -> bool {
        self.lock().all_ended(gateway, now)
    }

    /// Adds new credentials.
    pub async fn add(&self, fresh: &[&Fresh]) -> Result<(), StoreError> {
        let rows: Vec<CredentialRow> = fresh.iter().map(|fresh| fresh.row.clone()).collect();
        let certificates: Vec<_> = fresh.iter().filter_map(|fresh| fresh.certificate()).collect();
        self.store.add_credentials(&rows, &certificates).await?;
        let mut keyring = self.lock();
        rows.into_iter().for_each(|row| keyring.add(row));
        Ok(())
    }

    /// Drops credentials that a gateway was given for a purpose and never used: they were lost on the way.
    pub async fn drop_unused(&self, gateway: Eui64, purpose: Purpose) -> Result<(), StoreError> {
        let mut unused = self.of(gateway);
        unused.retain(|row| row.credential.purpose == purpose && row.credential.last_used.is_none());
        let ids: Vec<String> = unused.iter().map(|row| row.credential.id.clone()).collect();
        self.store.drop_credentials(&ids).await?;
        let mut keyring = self.lock();
        unused.iter().for_each(|row| keyring.take_out(row));
        drop(keyring);
        self.ended.notify_one();
        Ok(())
    }

    /// Revokes credentials.
    pub async fn revoke(&self, rows: &[CredentialRow]) -> Result<(), StoreError> {
        let now = Utc::now();
        for row in rows {
            self.store.revoke_credential(&row.credential.id, now).await?;
            if let Some(kept) = self.lock().by_hash.get_mut(&row.secret_hash) {
                kept.credential.revoked_at.get_or_insert(now);
            }
            self.ended.notify_one();
        }
        Ok(())
    }

    /// Revokes a gateway's older credentials once it uses a newer one for the same purpose. Returns how many.
    pub async fn retire_older(&self, gateway: Eui64, purpose: Purpose) -> Result<usize, StoreError> {
        let older = self.lock().outlived(gateway, purpose);
        self.revoke(&older).await?;
        Ok(older.len())
    }

    /// Has a gateway's credentials replaced when it next asks for updates.
    pub async fn ask_for_replacement(&self, gateway: Eui64) -> Result<(), StoreError> {
        self.store.ask_for_replacement(gateway).await?;
        for row in self.lock().by_hash.values_mut().filter(|row| row.gateway == gateway) {
            row.credential.replace_asked |= row.credential.revoked_at.is_none();
        }
        Ok(())
    }

    /// Forgets those of a gateway that was removed.
    pub fn forget(&self, gateway: Eui64) {
        let mut keyring = self.lock();
        for hash in keyring.by_gateway.remove(&gateway).unwrap_or_default() {
            keyring.by_hash.remove(&hash);
        }
        drop(keyring);
        self.ended.notify_one();
    }

    /// Waits until credentials have ended before their time. Cancel safe.
    pub async fn ended(&self) {
        self.ended.notified().await;
    }

    /// Writes down when credentials were last used.
    pub async fn save_uses(&self) {
        let used: Vec<_> = self.lock().used.drain().collect();
        if !used.is_empty()
            && let Err(error) = self.store.note_credentials_used(&used).await
        {
            tracing::warn!("when credentials were last used could not be written: {error}");
            let mut keyring = self.lock();
            for (id, at) in used {
                keyring.used.entry(id).or_insert(at);
            }
        }
    }
}

/// Why an unknown proof is rejected.
pub(crate) fn unknown(proof: Proof<'_>) -> Refused {
    let certificate = match proof {
        Proof::Token(token) => {
            let text = format!("Its token, of {} characters, is none of this service's.", token.chars().count());
            return refused(text, NEW_KIT);
        }
        Proof::Certificate(der) => der,
    };
    let Ok((_, parsed)) = x509_parser::parse_x509_certificate(certificate) else {
        return refused("Its certificate cannot be read.", NEW_KIT);
    };
    let shown = |name: String| name.chars().take(80).collect::<String>();
    let text = format!(
        "Its certificate, issued to {:?} by {:?}, is none of this service's.",
        shown(parsed.subject().to_string()),
        shown(parsed.issuer().to_string())
    );
    refused(text, NEW_KIT)
}

/// The caller, by its proof of identity.
#[derive(Clone)]
pub struct Peer {
    pub address: SocketAddr,
    /// Its certificate, DER.
    pub certificate: Option<Vec<u8>>,
    /// Its share of the connections there may be.
    pub seat: Arc<Seat>,
}

#[cfg(test)]
mod tests {
    use super::*;

    const OURS: Eui64 = Eui64(0x02a1_f000_0000_0001);
    const OTHER: Eui64 = Eui64(0x02a1_f000_0000_0002);

    struct Scene {
        _folder: tempfile::TempDir,
        authority: Authority,
        trust: Trust,
        keyring: Keyring,
    }

    impl Scene {
        fn new() -> Self {
            let folder = tempfile::tempdir().unwrap();
            let authority = Authority::open_or_create(folder.path()).unwrap();
            let trust = Trust { pem: authority.certificate_pem.clone(), der: authority.certificate.clone() };
            Self { _folder: folder, authority, trust, keyring: Keyring::default() }
        }

        /// A credential on record, and the secret that opens the door.
        fn add(&mut self, purpose: Purpose, kind: CredentialKind) -> (Fresh, Vec<u8>) {
            let lasts = TimeDelta::days(10);
            let name = Name { eui: OURS, registered_us: 7 };
            let fresh = Fresh::make(&self.authority, &self.trust, name, (purpose, kind), lasts).unwrap();
            self.keyring.add(fresh.row.clone());
            let secret = match &fresh.secret {
                Secret::Token(token) => token.clone().into_bytes(),
                Secret::Certificate(issued) => issued.certificate.to_vec(),
            };
            (fresh, secret)
        }
    }

    fn token(secret: &[u8]) -> Option<Proof<'_>> {
        Some(Proof::Token(std::str::from_utf8(secret).unwrap()))
    }

    #[test]
    fn a_good_proof_opens_the_door_and_its_use_is_noted() {
        let mut scene = Scene::new();
        let now = Utc::now();
        let (fresh, secret) = scene.add(Purpose::Traffic, CredentialKind::Token);
        let (_, certificate) = scene.add(Purpose::Traffic, CredentialKind::Certificate);
        assert_eq!(scene.keyring.check(token(&secret), OURS, Purpose::Traffic, now), Ok(()));
        let certificate = Some(Proof::Certificate(&certificate));
        assert_eq!(scene.keyring.check(certificate, OURS, Purpose::Traffic, now), Ok(()));
        assert_eq!(scene.keyring.used.get(&fresh.row.credential.id), Some(&now));
        let (none, key) = fresh.files();
        assert_eq!((none, key.as_bytes()), (None, fresh.segments().key.as_slice()), "in files as over CUPS");
        assert_eq!(fresh.row.segment_crc, fresh.segments().crc());
        assert_eq!(cups::Credentials::parse(&fresh.segments().bytes()).as_ref(), Ok(fresh.segments()));
    }

    #[test]
    fn each_refusal_names_its_reason() {
        let mut scene = Scene::new();
        let now = Utc::now();
        let (fresh, secret) = scene.add(Purpose::Traffic, CredentialKind::Token);
        let mut said = |proof: Option<Proof<'_>>, claims, purpose, at| {
            scene.keyring.check(proof, claims, purpose, at).unwrap_err().text
        };
        let traffic = Purpose::Traffic;
        assert_eq!(said(None, OURS, traffic, now), "It brings neither a token nor a certificate.");
        assert_eq!(said(token(b"guess"), OURS, traffic, now), "Its token, of 5 characters, is none of this service's.");
        let other = format!("Its token belongs to {OURS}, and it says to be {OTHER}.");
        assert_eq!(said(token(&secret), OTHER, traffic, now), other);
        assert_eq!(said(token(&secret), OURS, Purpose::Updates, now), "Its token is for traffic, not for updates.");
        let late = fresh.row.credential.expires_at;
        assert!(said(token(&secret), OURS, traffic, late).starts_with("Its token has expired on "));
        assert_eq!(said(Some(Proof::Certificate(b"x")), OURS, traffic, now), "Its certificate cannot be read.");
        let stranger = Authority::open_or_create(tempfile::tempdir().unwrap().path()).unwrap();
        let foreign = stranger.for_gateway(Name { eui: OURS, registered_us: 7 }, now + TimeDelta::days(1)).unwrap();
        let text = said(Some(Proof::Certificate(&foreign.certificate)), OURS, traffic, now);
        assert!(text.contains("issued to") && text.contains("Keen Heron gateway authority"), "{text}");
        scene.keyring.by_hash.get_mut(&fresh.row.secret_hash).unwrap().credential.revoked_at = Some(now);
        let text = scene.keyring.check(token(&secret), OURS, traffic, now).unwrap_err().text;
        assert!(text.starts_with("Its token was revoked on "), "{text}");
    }

    #[test]
    fn the_newest_in_use_outlives_the_older_of_its_purpose() {
        let mut scene = Scene::new();
        let now = Utc::now();
        let (old, _) = scene.add(Purpose::Traffic, CredentialKind::Token);
        let (updates, _) = scene.add(Purpose::Updates, CredentialKind::Token);
        let (new, secret) = scene.add(Purpose::Traffic, CredentialKind::Token);
        // Identifiers sort by time, to the millisecond; these were made within one.
        for (fresh, id) in [(&old, "1"), (&updates, "2"), (&new, "3")] {
            scene.keyring.by_hash.get_mut(&fresh.row.secret_hash).unwrap().credential.id = id.into();
        }
        let outlived = |keyring: &Keyring| keyring.outlived(OURS, Purpose::Traffic).len();
        assert_eq!(outlived(&scene.keyring), 0, "the new one is on its way, perhaps");
        scene.keyring.check(token(&secret), OURS, Purpose::Traffic, now).unwrap();
        let gone = scene.keyring.outlived(OURS, Purpose::Traffic);
        assert_eq!(gone.iter().map(|row| row.credential.id.as_str()).collect::<Vec<_>>(), ["1"]);
        assert!(!scene.keyring.all_ended(OURS, now));
        assert!(scene.keyring.all_ended(OURS, now + TimeDelta::days(11)));
        assert!(!scene.keyring.all_ended(OTHER, now), "who has none proves itself elsewhere");
        scene.keyring.take_out(&gone[0]);
        assert_eq!(scene.keyring.of(OURS).len(), 2);
    }
}
