//! The service's own small certificate authority. It issues the certificates of the service and of gateways.

use std::fs;
use std::io::Write as _;
use std::net::IpAddr;
use std::os::unix::fs::OpenOptionsExt as _;
use std::path::Path;

use anyhow::{Context as _, Result, anyhow};
use chrono::{DateTime, TimeDelta, Utc};
use gateway_link::mqtt::Name;
use rcgen::{
    BasicConstraints, CertificateParams, CertificateRevocationListParams, DnType, ExtendedKeyUsagePurpose, IsCa,
    Issuer, KeyIdMethod, KeyPair, KeyUsagePurpose, RevokedCertParams, SanType, SerialNumber,
};
use rustls::pki_types::pem::PemObject as _;
use rustls::pki_types::{CertificateDer, DnsName};
use time::OffsetDateTime;
use x509_parser::extensions::ParsedExtension;

/// The authority's key, which never leaves the service.
const KEY_FILE: &str = "authority.key";
/// Its certificate, which every gateway is given.
const CERTIFICATE_FILE: &str = "authority.pem";
/// How long it is valid.
const AUTHORITY_LASTS: TimeDelta = TimeDelta::days(20 * 365);
/// How long the service's own certificate is valid; it is renewed a month before.
const SERVER_LASTS: TimeDelta = TimeDelta::days(365);
/// Certificates are valid from this time before now: a gateway's clock may be behind after a start.
const BACKDATED: TimeDelta = TimeDelta::days(1);

/// Issues certificates.
pub struct Authority {
    issuer: Issuer<'static, KeyPair>,
    pub certificate_pem: String,
    pub certificate: CertificateDer<'static>,
    pub expires_at: DateTime<Utc>,
    /// Its key's identifier (RFC 5280 §4.2.1.2), if its certificate has one.
    key_id: Option<Vec<u8>>,
}

/// A certificate with its key.
pub struct Issued {
    pub certificate: CertificateDer<'static>,
    pub certificate_pem: String,
    pub key: KeyPair,
    pub serial: Vec<u8>,
    pub expires_at: DateTime<Utc>,
}

/// A certificate's serial number: random, positive and not zero (RFC 5280 §4.1.2.2).
fn serial() -> Vec<u8> {
    let mut serial = rand::random::<[u8; 16]>();
    serial[0] = serial[0] & 0x3f | 0x40;
    serial.to_vec()
}

fn time(at: DateTime<Utc>) -> OffsetDateTime {
    OffsetDateTime::from_unix_timestamp(at.timestamp()).unwrap_or(OffsetDateTime::UNIX_EPOCH)
}

/// A certificate's name and what it may be used for, before it is signed.
fn params(name: &str, until: DateTime<Utc>) -> Result<CertificateParams> {
    let mut params = CertificateParams::new(Vec::new())?;
    params.distinguished_name.push(DnType::OrganizationName, "Keen Heron");
    params.distinguished_name.push(DnType::CommonName, name);
    params.not_before = time(Utc::now() - BACKDATED);
    params.not_after = time(until);
    Ok(params)
}

/// A client's certificate, before it is signed.
fn client(name: &str, expires_at: DateTime<Utc>) -> Result<CertificateParams> {
    let mut params = params(name, expires_at)?;
    params.key_usages = vec![KeyUsagePurpose::DigitalSignature];
    params.extended_key_usages = vec![ExtendedKeyUsagePurpose::ClientAuth];
    Ok(params)
}

/// When a certificate ends.
pub(crate) fn expiry(certificate: &[u8]) -> Result<DateTime<Utc>> {
    let (_, parsed) = x509_parser::parse_x509_certificate(certificate).map_err(|why| anyhow!("{why}"))?;
    let ends = parsed.validity().not_after.timestamp();
    DateTime::from_timestamp(ends, 0).context("a certificate ends at no time that there is")
}

/// The identifier of a certificate's key.
fn key_id(certificate: &[u8]) -> Result<Option<Vec<u8>>> {
    let (_, parsed) = x509_parser::parse_x509_certificate(certificate).map_err(|why| anyhow!("{why}"))?;
    let own = parsed.extensions().iter().find_map(|extension| match extension.parsed_extension() {
        ParsedExtension::SubjectKeyIdentifier(id) => Some(id.0.to_vec()),
        _ => None,
    });
    Ok(own)
}

impl Authority {
    /// Reads the authority from the data folder, or makes one at the first start. Who has an authority of their own
    /// puts its key and certificate there before that.
    pub fn open_or_create(folder: &Path) -> Result<Self> {
        let (key_path, certificate_path) = (folder.join(KEY_FILE), folder.join(CERTIFICATE_FILE));
        if !certificate_path.exists() {
            Self::create(&key_path, &certificate_path).with_context(|| format!("making {}", key_path.display()))?;
        }
        let read = |path: &Path| fs::read_to_string(path).with_context(|| format!("reading {}", path.display()));
        let (key_pem, certificate_pem) = (read(&key_path)?, read(&certificate_path)?);
        let key = KeyPair::from_pem(&key_pem).with_context(|| format!("reading {}", key_path.display()))?;
        let certificate = CertificateDer::from_pem_slice(certificate_pem.as_bytes())
            .map_err(|why| anyhow!("{}: {why}", certificate_path.display()))?;
        let (expires_at, key_id) = (expiry(&certificate)?, key_id(&certificate)?);
        let issuer = Issuer::from_ca_cert_der(&certificate, key)
            .with_context(|| format!("{} is not an authority's certificate", certificate_path.display()))?;
        Ok(Self { issuer, certificate_pem, certificate, expires_at, key_id })
    }

    fn create(key_path: &Path, certificate_path: &Path) -> Result<()> {
        let key = match fs::read_to_string(key_path) {
            Ok(pem) => KeyPair::from_pem(&pem)?,
            Err(_) => Self::create_key(key_path)?,
        };
        let mut params = params("Keen Heron gateway authority", Utc::now() + AUTHORITY_LASTS)?;
        params.is_ca = IsCa::Ca(BasicConstraints::Constrained(0));
        params.key_usages = vec![KeyUsagePurpose::KeyCertSign, KeyUsagePurpose::CrlSign];
        let certificate = params.self_signed(&key)?;
        fs::write(certificate_path, certificate.pem())?;
        Ok(())
    }

    fn create_key(path: &Path) -> Result<KeyPair> {
        let key = KeyPair::generate()?;
        let mut file = fs::OpenOptions::new().write(true).create_new(true).mode(0o600).open(path)?;
        file.write_all(key.serialize_pem().as_bytes())?;
        file.sync_all()?;
        Ok(key)
    }

    fn issue(&self, mut params: CertificateParams, serial: Vec<u8>, expires_at: DateTime<Utc>) -> Result<Issued> {
        let key = KeyPair::generate()?;
        params.serial_number = Some(SerialNumber::from_slice(&serial));
        let signed = params.signed_by(&key, &self.issuer)?;
        Ok(Issued { certificate: signed.der().clone(), certificate_pem: signed.pem(), key, serial, expires_at })
    }

    /// A list of the certificates with these serial numbers, PEM (RFC 5280 §5): who reads it accepts them no more. It is good
    /// as long as the authority: one that has run out would keep out everybody.
    pub fn revocation_list(&self, serials: &[Vec<u8>], this_update: DateTime<Utc>) -> Result<String> {
        let revoked = |serial: &Vec<u8>| RevokedCertParams {
            serial_number: SerialNumber::from_slice(serial),
            revocation_time: time(this_update),
            reason_code: None,
            invalidity_date: None,
        };
        let list = CertificateRevocationListParams {
            this_update: time(this_update),
            next_update: time(self.expires_at),
            crl_number: SerialNumber::from(u64::try_from(this_update.timestamp()).unwrap_or_default()),
            issuing_distribution_point: None,
            revoked_certs: serials.iter().map(revoked).collect(),
            // As the authority's certificate says it, which may be of somebody else's making.
            key_identifier_method: self.key_id.clone().map_or(KeyIdMethod::Sha256, KeyIdMethod::PreSpecified),
        };
        Ok(list.signed_by(&self.issuer)?.pem()?)
    }

    /// A certificate for the service, under the names and addresses that gateways reach it by.
    pub fn for_server(&self, names: &[String]) -> Result<Issued> {
        let expires_at = (Utc::now() + SERVER_LASTS).min(self.expires_at);
        let first = names.first().map_or("localhost", String::as_str);
        let mut params = params(first, expires_at)?;
        for name in names {
            params.subject_alt_names.push(match name.parse::<IpAddr>() {
                Ok(address) => SanType::IpAddress(address),
                Err(_) => {
                    let wrong = || anyhow!("{name:?} is neither a host name nor an address");
                    DnsName::try_from(name.as_str()).map_err(|_| wrong())?;
                    SanType::DnsName(name.as_str().try_into().map_err(|_| wrong())?)
                }
            });
        }
        params.key_usages = vec![KeyUsagePurpose::DigitalSignature];
        params.extended_key_usages = vec![ExtendedKeyUsagePurpose::ServerAuth];
        self.issue(params, serial(), expires_at)
    }

    /// A certificate for the service as a client of a broker.
    pub fn for_client(&self, name: &str) -> Result<Issued> {
        self.client(name, (Utc::now() + SERVER_LASTS).min(self.expires_at))
    }

    /// A certificate for the gateway of this name.
    pub fn for_gateway(&self, name: Name, expires_at: DateTime<Utc>) -> Result<Issued> {
        self.client(&name.to_string(), expires_at)
    }

    /// A certificate with a serial number of the caller's choice.
    pub fn for_trial(&self, name: &str, serial: Vec<u8>, expires_at: DateTime<Utc>) -> Result<Issued> {
        self.issue(client(name, expires_at)?, serial, expires_at)
    }

    fn client(&self, name: &str, expires_at: DateTime<Utc>) -> Result<Issued> {
        self.issue(client(name, expires_at)?, serial(), expires_at)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_authority_is_made_once_and_kept() {
        let folder = tempfile::tempdir().unwrap();
        let first = Authority::open_or_create(folder.path()).unwrap();
        let again = Authority::open_or_create(folder.path()).unwrap();
        assert_eq!(first.certificate, again.certificate);
        let mode = std::os::unix::fs::MetadataExt::mode(&fs::metadata(folder.path().join(KEY_FILE)).unwrap());
        assert_eq!(mode & 0o777, 0o600, "the key is its owner's alone");
        assert!(first.expires_at > Utc::now() + TimeDelta::days(7000));
        fs::write(folder.path().join(CERTIFICATE_FILE), "nonsense").unwrap();
        let Err(why) = Authority::open_or_create(folder.path()) else { panic!() };
        assert!(why.to_string().contains("authority.pem"), "{why}");
    }

    #[test]
    fn certificates_carry_names_and_ends() {
        let folder = tempfile::tempdir().unwrap();
        let authority = Authority::open_or_create(folder.path()).unwrap();
        let server = authority.for_server(&["gate.example".into(), "192.0.2.7".into()]).unwrap();
        let (_, parsed) = x509_parser::parse_x509_certificate(&server.certificate).unwrap();
        let names = parsed.subject_alternative_name().unwrap().unwrap().value.general_names.clone();
        assert_eq!(names.len(), 2);
        assert!(authority.for_server(&["not a name".into()]).is_err());
        let ends = Utc::now() + TimeDelta::days(10);
        let name = Name { eui: lorawan::Eui64(0x02a1_f000_0000_0001), registered_us: 0xabc };
        let gateway = authority.for_gateway(name, ends).unwrap();
        let (_, parsed) = x509_parser::parse_x509_certificate(&gateway.certificate).unwrap();
        assert_eq!(parsed.subject().iter_common_name().next().unwrap().as_str().unwrap(), "02a1f00000000001-abc");
        assert_eq!(parsed.raw_serial(), gateway.serial);
        assert_eq!(expiry(&gateway.certificate).unwrap().timestamp(), ends.timestamp());
    }
}
