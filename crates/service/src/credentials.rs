//! Who may come in: the gateways' credentials, in memory as they are in the database. The secrets themselves are in
//! neither.

use std::collections::HashMap;
use std::net::SocketAddr;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use api::credential::{CredentialKind, CredentialState, GatewayCredential, IssuedCredential, Purpose};
use chrono::{DateTime, TimeDelta, Utc};
use gateway_link::cups;
use lorawan::Eui64;
use sha2::{Digest as _, Sha256};
use store::{CredentialRow, SecretHash, Store, StoreError};
use tokio::sync::OwnedSemaphorePermit;
use ulid::Ulid;

use crate::authority::{Authority, Issued};
use crate::link::tls::Trust;

/// By what a gateway proves who it is.
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

/// Why a gateway is not let in, and what to do about it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Refused {
    pub text: String,
    pub next: &'static str,
}

const NEW_KIT: &str = "Make a new connection kit for this gateway and put its files there.";

fn refused(text: impl Into<String>, next: &'static str) -> Refused {
    Refused { text: text.into(), next }
}

/// A credential with its secret, which exists here and on its way to the gateway only.
pub struct Fresh {
    pub row: CredentialRow,
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
        gateway: Eui64,
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
        let row = CredentialRow { gateway, credential, secret_hash, segment_crc: segments.crc() };
        Ok(Self { row, secret, segments })
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
            Secret::Token(token) => (Some(token.clone()), None, None),
            Secret::Certificate(issued) => {
                (None, Some(issued.certificate_pem.clone()), Some(issued.key.serialize_pem()))
            }
        };
        let credential = self.row.credential.clone();
        IssuedCredential { credential, token, certificate_pem, key_pem, trust_pem: trust.pem.clone() }
    }
}

/// All credentials.
pub struct Credentials {
    store: Store,
    inner: Mutex<Inner>,
}

#[derive(Default)]
struct Inner {
    by_hash: HashMap<SecretHash, CredentialRow>,
    /// Uses that the database does not know of yet, by the credential's name.
    used: HashMap<String, DateTime<Utc>>,
}

impl Credentials {
    pub async fn load(store: Store) -> Result<Self, StoreError> {
        let by_hash = store.all_credentials().await?.into_iter().map(|row| (row.secret_hash, row)).collect();
        Ok(Self { store, inner: Mutex::new(Inner { by_hash, used: HashMap::new() }) })
    }

    fn lock(&self) -> MutexGuard<'_, Inner> {
        self.inner.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Who this is, if the proof is good for the purpose. `claims` is who it says to be.
    pub fn check(
        &self,
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
        let mut inner = self.lock();
        let Some(row) = inner.by_hash.get_mut(&proof.hash()) else { return Err(unknown(proof)) };
        let credential = &mut row.credential;
        let kind = credential.kind.name();
        if row.gateway != claims {
            let text = format!("Its {kind} belongs to {}, and it says to be {claims}.", row.gateway);
            return Err(refused(text, "The files of two gateways have been mixed up: each has a kit of its own."));
        }
        match credential.state(now) {
            CredentialState::Revoked => {
                let at = credential.revoked_at.unwrap_or(now).format("%Y-%m-%d %H:%M UTC");
                return Err(refused(format!("Its {kind} was revoked on {at}."), NEW_KIT));
            }
            CredentialState::Expired => {
                let at = credential.expires_at.format("%Y-%m-%d %H:%M UTC");
                return Err(refused(format!("Its {kind} has expired on {at}."), NEW_KIT));
            }
            CredentialState::Good | CredentialState::Expiring => {}
        }
        if credential.purpose != purpose {
            let text = format!("Its {kind} is for {}, not for {}.", credential.purpose.name(), purpose.name());
            let next = "The files for traffic (tc) and those for updates (cups) have been mixed up.";
            return Err(refused(text, next));
        }
        credential.last_used = Some(now);
        let id = credential.id.clone();
        inner.used.insert(id, now);
        Ok(())
    }

    /// Credentials of a gateway, the newest first.
    pub fn of(&self, gateway: Eui64) -> Vec<CredentialRow> {
        let mut all: Vec<_> = self.lock().by_hash.values().filter(|row| row.gateway == gateway).cloned().collect();
        all.sort_by(|a, b| b.credential.id.cmp(&a.credential.id));
        all
    }

    /// Whether a gateway has credentials for traffic, and none of them opens the door any more.
    pub fn all_ended(&self, gateway: Eui64, now: DateTime<Utc>) -> bool {
        let inner = self.lock();
        let mut own = inner.by_hash.values().filter(|row| row.gateway == gateway).map(|row| &row.credential).peekable();
        let ended = |c: &GatewayCredential| matches!(c.state(now), CredentialState::Expired | CredentialState::Revoked);
        own.peek().is_some() && own.filter(|c| c.purpose == Purpose::Traffic).all(ended)
    }

    /// Lets new credentials in from now on.
    pub async fn add(&self, fresh: &[&Fresh]) -> Result<(), StoreError> {
        let rows: Vec<CredentialRow> = fresh.iter().map(|fresh| fresh.row.clone()).collect();
        self.store.add_credentials(&rows).await?;
        self.lock().by_hash.extend(rows.into_iter().map(|row| (row.secret_hash, row)));
        Ok(())
    }

    /// Drops what a gateway was given for a purpose and never used: it got lost on the way.
    pub async fn drop_unused(&self, gateway: Eui64, purpose: Purpose) -> Result<(), StoreError> {
        let mut unused = self.of(gateway);
        unused.retain(|row| row.credential.purpose == purpose && row.credential.last_used.is_none());
        let ids: Vec<String> = unused.iter().map(|row| row.credential.id.clone()).collect();
        self.store.drop_credentials(&ids).await?;
        let mut inner = self.lock();
        for row in unused {
            inner.by_hash.remove(&row.secret_hash);
        }
        Ok(())
    }

    /// Takes credentials back.
    pub async fn revoke(&self, rows: &[CredentialRow]) -> Result<(), StoreError> {
        let now = Utc::now();
        for row in rows {
            self.store.revoke_credential(&row.credential.id, now).await?;
            if let Some(kept) = self.lock().by_hash.get_mut(&row.secret_hash) {
                kept.credential.revoked_at.get_or_insert(now);
            }
        }
        Ok(())
    }

    /// Once a gateway uses a newer credential, the older ones for the same purpose lie about for nobody's good.
    pub async fn retire_older(&self, gateway: Eui64, purpose: Purpose) -> Result<usize, StoreError> {
        let mut own = self.of(gateway);
        own.retain(|row| row.credential.purpose == purpose && row.credential.revoked_at.is_none());
        let in_use = own.iter().position(|row| row.credential.last_used.is_some()).unwrap_or(own.len());
        let older = own.get(in_use + 1..).unwrap_or_default();
        self.revoke(older).await?;
        Ok(older.len())
    }

    /// Has a gateway's credentials replaced when it next asks over CUPS.
    pub async fn ask_for_replacement(&self, gateway: Eui64) -> Result<(), StoreError> {
        self.store.ask_for_replacement(gateway).await?;
        for row in self.lock().by_hash.values_mut().filter(|row| row.gateway == gateway) {
            row.credential.replace_asked |= row.credential.revoked_at.is_none();
        }
        Ok(())
    }

    /// Forgets those of a gateway that was removed.
    pub fn forget(&self, gateway: Eui64) {
        self.lock().by_hash.retain(|_, row| row.gateway != gateway);
    }

    /// Writes down when credentials were last used.
    pub async fn save_uses(&self) {
        let used: Vec<_> = self.lock().used.drain().collect();
        if !used.is_empty()
            && let Err(error) = self.store.note_credentials_used(&used).await
        {
            tracing::warn!("when credentials were last used could not be written: {error}");
            let mut inner = self.lock();
            for (id, at) in used {
                inner.used.entry(id).or_insert(at);
            }
        }
    }
}

/// Why a proof that is not on record does not do.
fn unknown(proof: Proof<'_>) -> Refused {
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

/// Who calls, by what it proves who it is.
#[derive(Clone)]
pub struct Peer {
    pub address: SocketAddr,
    /// Its certificate, DER.
    pub certificate: Option<Vec<u8>>,
    /// Its share of the connections there may be.
    pub permit: Arc<OwnedSemaphorePermit>,
}
