//! An authority for certificates of other systems, as a test needs it.

use rcgen::{BasicConstraints, CertificateParams, CertifiedIssuer, DnType, IsCa, KeyPair};

/// An authority, and what it issues.
pub struct TestAuthority(CertifiedIssuer<'static, KeyPair>);

impl TestAuthority {
    /// One of its own.
    ///
    /// # Panics
    /// If no key can be made.
    #[allow(clippy::new_without_default)]
    pub fn new() -> Self {
        let mut params = CertificateParams::new(Vec::new()).expect("no names");
        params.is_ca = IsCa::Ca(BasicConstraints::Unconstrained);
        params.distinguished_name.push(DnType::CommonName, format!("quay {}", rand::random::<u32>()));
        let key = KeyPair::generate().expect("a key");
        Self(CertifiedIssuer::self_signed(params, key).expect("signed"))
    }

    /// Its certificate, PEM.
    pub fn pem(&self) -> String {
        self.0.pem()
    }

    /// A certificate for a name, and its key; both PEM.
    ///
    /// # Panics
    /// If no key can be made.
    pub fn issue(&self, name: &str) -> (String, String) {
        let key = KeyPair::generate().expect("a key");
        let mut params = CertificateParams::new(vec![name.to_owned()]).expect("a name");
        params.distinguished_name.push(DnType::CommonName, name);
        (params.signed_by(&key, &self.0).expect("signed").pem(), key.serialize_pem())
    }
}
