//! Server certificates and TLS configuration.

use std::fs;
use std::path::Path;
use std::sync::{Arc, PoisonError, RwLock};

use anyhow::{Context as _, Result};
use chrono::{DateTime, TimeDelta, Utc};
use rustls::client::danger::HandshakeSignatureValid;
use rustls::crypto::{CryptoProvider, ring, verify_tls12_signature, verify_tls13_signature};
use rustls::pki_types::pem::PemObject as _;
use rustls::pki_types::{CertificateDer, PrivateKeyDer, PrivatePkcs8KeyDer, UnixTime};
use rustls::server::danger::{ClientCertVerified, ClientCertVerifier};
use rustls::server::{ClientHello, ResolvesServerCert};
use rustls::sign::CertifiedKey;
use rustls::{DigitallySignedStruct, DistinguishedName, ServerConfig, SignatureScheme};

use crate::gateways::authority;
use crate::gateways::authority::Authority;

/// How long before its end the service's certificate is renewed.
const RENEW_BEFORE: TimeDelta = TimeDelta::days(30);

/// The certificate that gateways check the service's own one against.
#[derive(Clone)]
pub struct Trust {
    pub pem: String,
    pub der: CertificateDer<'static>,
}

impl Trust {
    pub fn read(pem: String) -> Result<Self> {
        let der = CertificateDer::from_pem_slice(pem.as_bytes()).map_err(|why| anyhow::anyhow!("{why}"))?;
        Ok(Self { pem, der })
    }
}

/// A certificate that was given: its file, that of its key, and that of the authority it is checked against.
pub struct Given<'a> {
    pub certificate: &'a Path,
    pub key: &'a Path,
    pub trust: &'a Path,
}

/// By what the service proves to gateways who it is.
pub struct Identity {
    shown: RwLock<(Arc<CertifiedKey>, DateTime<Utc>)>,
    pub trust: Trust,
    /// Names it is renewed for; a given one is renewed by the operator who gave it.
    names: Option<Vec<String>>,
}

impl std::fmt::Debug for Identity {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Identity")
    }
}

impl Identity {
    /// A certificate of the own authority's.
    pub fn own(authority: &Authority, names: &[String]) -> Result<Self> {
        let trust = Trust { pem: authority.certificate_pem.clone(), der: authority.certificate.clone() };
        Ok(Self { shown: RwLock::new(issue(authority, names)?), trust, names: Some(names.to_vec()) })
    }

    /// A certificate from files.
    pub fn given(given: &Given<'_>) -> Result<Self> {
        let read = |path: &Path| fs::read_to_string(path).with_context(|| format!("reading {}", path.display()));
        let chain: Vec<CertificateDer<'static>> = CertificateDer::pem_slice_iter(read(given.certificate)?.as_bytes())
            .collect::<Result<_, _>>()
            .map_err(|why| anyhow::anyhow!("{}: {why}", given.certificate.display()))?;
        let first = chain.first().with_context(|| format!("{} holds no certificate", given.certificate.display()))?;
        let ends = authority::expiry(first)?;
        let key = PrivateKeyDer::from_pem_slice(read(given.key)?.as_bytes())
            .map_err(|why| anyhow::anyhow!("{}: {why}", given.key.display()))?;
        let trust = Trust::read(read(given.trust)?).with_context(|| format!("reading {}", given.trust.display()))?;
        let certified = CertifiedKey::new(chain, ring::sign::any_supported_type(&key)?);
        certified.keys_match().context("the given certificate and key do not belong together")?;
        Ok(Self { shown: RwLock::new((Arc::new(certified), ends)), trust, names: None })
    }

    pub fn expires_at(&self) -> DateTime<Utc> {
        self.shown.read().unwrap_or_else(PoisonError::into_inner).1
    }

    pub fn renews_itself(&self) -> bool {
        self.names.is_some()
    }

    /// Renews what will end soon.
    pub fn renew(&self, authority: &Authority) -> Result<()> {
        let Some(names) = self.names.as_ref().filter(|_| self.expires_at() - Utc::now() < RENEW_BEFORE) else {
            return Ok(());
        };
        let new = issue(authority, names)?;
        *self.shown.write().unwrap_or_else(PoisonError::into_inner) = new;
        tracing::info!("the service has a new certificate for {}", names.join(", "));
        Ok(())
    }
}

fn issue(authority: &Authority, names: &[String]) -> Result<(Arc<CertifiedKey>, DateTime<Utc>)> {
    let issued = authority.for_server(names)?;
    let key = PrivateKeyDer::from(PrivatePkcs8KeyDer::from(issued.key.serialize_der()));
    let certified = CertifiedKey::new(vec![issued.certificate], ring::sign::any_supported_type(&key)?);
    Ok((Arc::new(certified), issued.expires_at))
}

impl ResolvesServerCert for Identity {
    fn resolve(&self, _hello: ClientHello<'_>) -> Option<Arc<CertifiedKey>> {
        Some(Arc::clone(&self.shown.read().unwrap_or_else(PoisonError::into_inner).0))
    }
}

/// Lets gateways show a certificate, and has them prove that they hold its key. Whether it opens the door is decided
/// behind the handshake, where the gateway can be told why not.
#[derive(Debug)]
struct ShowsKey(Arc<CryptoProvider>);

impl ClientCertVerifier for ShowsKey {
    fn root_hint_subjects(&self) -> &[DistinguishedName] {
        &[]
    }

    fn client_auth_mandatory(&self) -> bool {
        false
    }

    fn verify_client_cert(
        &self,
        _end_entity: &CertificateDer<'_>,
        _intermediates: &[CertificateDer<'_>],
        _now: UnixTime,
    ) -> Result<ClientCertVerified, rustls::Error> {
        Ok(ClientCertVerified::assertion())
    }

    fn verify_tls12_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signature: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        verify_tls12_signature(message, certificate, signature, &self.0.signature_verification_algorithms)
    }

    fn verify_tls13_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signature: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        verify_tls13_signature(message, certificate, signature, &self.0.signature_verification_algorithms)
    }

    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        self.0.signature_verification_algorithms.supported_schemes()
    }
}

/// How the port speaks TLS.
pub(crate) fn config(identity: Arc<Identity>) -> Result<Arc<ServerConfig>> {
    let provider = Arc::new(ring::default_provider());
    let mut config = ServerConfig::builder_with_provider(Arc::clone(&provider))
        .with_safe_default_protocol_versions()?
        .with_client_cert_verifier(Arc::new(ShowsKey(provider)))
        .with_cert_resolver(identity);
    config.alpn_protocols = vec![b"http/1.1".to_vec()];
    Ok(Arc::new(config))
}

/// The same for people and programs, who have passwords and tokens.
pub(crate) fn plain_config(identity: Arc<Identity>) -> Result<Arc<ServerConfig>> {
    let provider = Arc::new(ring::default_provider());
    let mut config = ServerConfig::builder_with_provider(provider)
        .with_safe_default_protocol_versions()?
        .with_no_client_auth()
        .with_cert_resolver(identity);
    config.alpn_protocols = vec![b"http/1.1".to_vec()];
    Ok(Arc::new(config))
}

#[cfg(test)]
mod tests {
    use rustls::pki_types::ServerName;
    use rustls::{ClientConfig, RootCertStore};
    use tokio_rustls::{TlsAcceptor, TlsConnector};

    use super::*;

    fn authority() -> (tempfile::TempDir, Authority) {
        let folder = tempfile::tempdir().unwrap();
        let authority = Authority::open_or_create(folder.path()).unwrap();
        (folder, authority)
    }

    /// One handshake; says which certificate the gateway showed.
    async fn shake(identity: Identity, client: ClientConfig) -> std::io::Result<Option<Vec<u8>>> {
        let (near, far) = tokio::io::duplex(16 * 1024);
        let acceptor = TlsAcceptor::from(config(Arc::new(identity)).unwrap());
        let connecting = tokio::spawn(async move {
            let name = ServerName::try_from("gate.example").unwrap();
            TlsConnector::from(Arc::new(client)).connect(name, near).await
        });
        let accepted = acceptor.accept(far).await;
        let _held = connecting.await.unwrap()?;
        Ok(accepted?.get_ref().1.peer_certificates().map(|chain| chain[0].to_vec()))
    }

    fn trusting(trust: &Trust) -> rustls::ConfigBuilder<ClientConfig, rustls::client::WantsClientCert> {
        let mut roots = RootCertStore::empty();
        roots.add(trust.der.clone()).unwrap();
        let builder = ClientConfig::builder_with_provider(Arc::new(ring::default_provider()));
        builder.with_safe_default_protocol_versions().unwrap().with_root_certificates(roots)
    }

    #[tokio::test]
    async fn gateways_check_the_service_and_may_show_a_certificate() {
        let (_folder, authority) = authority();
        let own = || Identity::own(&authority, &["gate.example".into()]).unwrap();
        let plain = trusting(&own().trust).with_no_client_auth();
        assert_eq!(shake(own(), plain).await.unwrap(), None);
        let name = gateway_link::mqtt::Name { eui: lorawan::Eui64(1), registered_us: 7 };
        let issued = authority.for_gateway(name, Utc::now() + TimeDelta::days(1)).unwrap();
        let key = PrivateKeyDer::from(PrivatePkcs8KeyDer::from(issued.key.serialize_der()));
        let with_certificate =
            trusting(&own().trust).with_client_auth_cert(vec![issued.certificate.clone()], key).unwrap();
        assert_eq!(shake(own(), with_certificate).await.unwrap(), Some(issued.certificate.to_vec()));
        let elsewhere = Identity::own(&authority, &["other.example".into()]).unwrap();
        let plain = trusting(&own().trust).with_no_client_auth();
        assert!(shake(elsewhere, plain).await.is_err(), "the name has to be one of the service's");
    }

    #[tokio::test]
    async fn a_given_certificate_is_shown_and_one_without_its_key_is_refused() {
        let (folder, authority) = authority();
        let issued = authority.for_server(&["gate.example".into()]).unwrap();
        let file = |name: &str, text: &str| {
            let path = folder.path().join(name);
            fs::write(&path, text).unwrap();
            path
        };
        let certificate = file("server.pem", &issued.certificate_pem);
        let (key, trust) = (file("server.key", &issued.key.serialize_pem()), folder.path().join("authority.pem"));
        let given = Given { certificate: &certificate, key: &key, trust: &trust };
        let identity = Identity::given(&given).unwrap();
        assert!(!identity.renews_itself() && identity.expires_at() > Utc::now());
        identity.renew(&authority).unwrap();
        let plain = trusting(&identity.trust).with_no_client_auth();
        assert_eq!(shake(identity, plain).await.unwrap(), None);
        let other = file("other.key", &authority.for_client("x").unwrap().key.serialize_pem());
        let why = Identity::given(&Given { key: &other, ..given }).unwrap_err().to_string();
        assert!(why.contains("do not belong together"), "{why}");
        let empty = file("empty.pem", "");
        let given = Given { certificate: &empty, key: &key, trust: &trust };
        assert!(Identity::given(&given).unwrap_err().to_string().contains("holds no certificate"));
    }
}
