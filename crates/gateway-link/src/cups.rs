//! CUPS: a gateway asks over HTTPS whether its addresses, credentials or firmware are to change, and is given what
//! is new. Sections are those of the protocol's published text ("The CUPS Protocol").

use lorawan::Eui64;
use serde::{Deserialize, Serialize};
use serde_json::Value;
use thiserror::Error;

use crate::lns::{self, MessageError};

/// Where gateways ask.
pub const PATH: &str = "/update-info";
/// The longest question that is looked at.
pub const MAX_QUESTION: usize = 16 * 1024;
/// Stands where a certificate or a key would stand.
const ABSENT: [u8; 4] = [0; 4];

/// A gateway tells what it has (section "HTTP POST request").
#[derive(Debug, Clone, PartialEq)]
pub struct Question {
    /// Who asks.
    pub gateway: Eui64,
    /// Where it asks.
    pub cups_uri: String,
    /// Where it connects for traffic.
    pub tc_uri: String,
    /// CRC-32 of its credentials for asking.
    pub cups_crc: u32,
    /// CRC-32 of its credentials for traffic.
    pub tc_crc: u32,
    /// Version of the program that asks.
    pub station: String,
    /// The gateway's hardware.
    pub model: String,
    /// Name and version of the installed package.
    pub package: String,
    /// CRC-32 of each key whose signature it accepts on a firmware.
    pub keys: Vec<u32>,
}

#[derive(Serialize, Deserialize)]
struct Fields {
    router: Value,
    #[serde(rename = "cupsUri", default)]
    cups_uri: String,
    #[serde(rename = "tcUri", default)]
    tc_uri: String,
    #[serde(rename = "cupsCredCrc", default)]
    cups_crc: i64,
    #[serde(rename = "tcCredCrc", default)]
    tc_crc: i64,
    #[serde(default)]
    station: String,
    #[serde(default)]
    model: String,
    #[serde(default)]
    package: String,
    #[serde(default)]
    keys: Vec<i64>,
}

impl Question {
    /// Reads a question; any bytes are answered.
    pub fn parse(bytes: &[u8]) -> Result<Self, MessageError> {
        if bytes.len() > MAX_QUESTION {
            return Err(MessageError::TooLong { len: bytes.len() });
        }
        let fields: Fields = serde_json::from_slice(bytes).map_err(|why| MessageError::Json(why.to_string()))?;
        // Some write a CRC as a signed number; its bits are the same.
        let crc = |value: i64| value as u32;
        Ok(Self {
            gateway: lns::eui("router", &fields.router)?,
            cups_uri: fields.cups_uri,
            tc_uri: fields.tc_uri,
            cups_crc: crc(fields.cups_crc),
            tc_crc: crc(fields.tc_crc),
            station: fields.station,
            model: fields.model,
            package: fields.package,
            keys: fields.keys.into_iter().map(crc).collect(),
        })
    }

    /// As gateways ask.
    pub fn emit(&self) -> Vec<u8> {
        let fields = Fields {
            router: lns::id6(self.gateway).into(),
            cups_uri: self.cups_uri.clone(),
            tc_uri: self.tc_uri.clone(),
            cups_crc: self.cups_crc.into(),
            tc_crc: self.tc_crc.into(),
            station: self.station.clone(),
            model: self.model.clone(),
            package: self.package.clone(),
            keys: self.keys.iter().map(|key| i64::from(*key)).collect(),
        };
        serde_json::to_vec(&fields).unwrap_or_default()
    }
}

/// What a gateway proves itself by and whom it trusts, in the order of a credentials segment.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Credentials {
    /// The authority's certificate, DER.
    pub trust: Vec<u8>,
    /// The gateway's certificate, DER; a gateway with a token has none.
    pub certificate: Option<Vec<u8>>,
    /// The certificate's key, DER, or the HTTP header line that holds the token.
    pub key: Vec<u8>,
}

impl Credentials {
    /// The segment's bytes: three DER structures one after the other, four zero bytes for one that is not there.
    pub fn bytes(&self) -> Vec<u8> {
        let certificate = self.certificate.as_deref().unwrap_or(&ABSENT);
        [self.trust.as_slice(), certificate, &self.key].concat()
    }

    /// What a gateway gives as `cupsCredCrc` or `tcCredCrc` when it has them.
    pub fn crc(&self) -> u32 {
        crc32fast::hash(&self.bytes())
    }

    /// Takes a segment apart.
    pub fn parse(bytes: &[u8]) -> Result<Self, SegmentError> {
        let (trust, rest) = der(bytes)?;
        let (certificate, key) = match rest.strip_prefix(&ABSENT) {
            Some(key) => (None, key),
            None => der(rest).map(|(certificate, key)| (Some(certificate.to_vec()), key))?,
        };
        if key.is_empty() {
            return Err(SegmentError("the key is missing"));
        }
        Ok(Self { trust: trust.to_vec(), certificate, key: key.to_vec() })
    }
}

/// Splits off one DER structure (X.690 §8.1.3): a sequence whose length takes one, two or three bytes.
fn der(bytes: &[u8]) -> Result<(&[u8], &[u8]), SegmentError> {
    let length = match *bytes {
        [0x30, n @ 0..=0x7f, ..] => 2 + usize::from(n),
        [0x30, 0x81, n, ..] => 3 + usize::from(n),
        [0x30, 0x82, high, low, ..] => 4 + usize::from(u16::from_be_bytes([high, low])),
        _ => return Err(SegmentError("a credential does not begin with a DER sequence")),
    };
    bytes.split_at_checked(length).ok_or(SegmentError("a credential ends before its own length"))
}

/// Why an update cannot be read.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Error)]
#[error("{0}")]
pub struct SegmentError(&'static str);

/// A firmware with its maker's signature.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Firmware {
    /// CRC-32 of the key the signature is by: one the gateway has told.
    pub key_crc: u32,
    /// ECDSA signature over the SHA-512 of the bytes.
    pub signature: Vec<u8>,
    /// What the gateway runs once it has checked the signature.
    pub bytes: Vec<u8>,
}

/// What a gateway is given; nothing of what stays as it is (section "HTTP POST response").
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Update {
    /// Where to ask from now on.
    pub cups_uri: Option<String>,
    /// Where to connect for traffic from now on.
    pub tc_uri: Option<String>,
    /// Credentials for asking.
    pub cups: Option<Credentials>,
    /// Credentials for traffic.
    pub tc: Option<Credentials>,
    /// A firmware.
    pub firmware: Option<Firmware>,
}

impl Update {
    /// Whether there is nothing new.
    pub fn is_empty(&self) -> bool {
        *self == Self::default()
    }

    /// The answer's bytes: segments, each after its length.
    ///
    /// # Errors
    /// A part that is longer than its length field can say.
    pub fn emit(&self) -> Result<Vec<u8>, SegmentError> {
        let mut out = Vec::new();
        for uri in [&self.cups_uri, &self.tc_uri] {
            let uri = uri.as_deref().unwrap_or("");
            out.push(u8::try_from(uri.len()).map_err(|_| SegmentError("an address is longer than 255 bytes"))?);
            out.extend(uri.as_bytes());
        }
        for credentials in [&self.cups, &self.tc] {
            let bytes = credentials.as_ref().map(Credentials::bytes).unwrap_or_default();
            let length = u16::try_from(bytes.len()).map_err(|_| SegmentError("credentials are longer than 64 kB"))?;
            out.extend(length.to_le_bytes());
            out.extend(bytes);
        }
        let long = |bytes: &[u8], more: usize| {
            u32::try_from(bytes.len() + more).map_err(|_| SegmentError("a firmware is longer than 4 GB"))
        };
        match &self.firmware {
            Some(firmware) => {
                // The signature's length counts the key's CRC in front of it.
                out.extend(long(&firmware.signature, 4)?.to_le_bytes());
                out.extend(firmware.key_crc.to_le_bytes());
                out.extend(&firmware.signature);
                out.extend(long(&firmware.bytes, 0)?.to_le_bytes());
                out.extend(&firmware.bytes);
            }
            None => out.extend([0; 8]),
        }
        Ok(out)
    }

    /// Reads an answer, as gateways do.
    pub fn parse(bytes: &[u8]) -> Result<Self, SegmentError> {
        let mut rest = bytes;
        let mut take = |length: usize| {
            let (taken, left) = rest.split_at_checked(length).ok_or(SegmentError("the answer ends too early"))?;
            rest = left;
            Ok::<_, SegmentError>(taken)
        };
        let number = |bytes: &[u8]| bytes.iter().rev().fold(0usize, |n, byte| n << 8 | usize::from(*byte));
        let mut uri = || -> Result<Option<String>, SegmentError> {
            let length = number(take(1)?);
            let uri = std::str::from_utf8(take(length)?).map_err(|_| SegmentError("an address is not text"))?;
            Ok((!uri.is_empty()).then(|| uri.to_owned()))
        };
        let (cups_uri, tc_uri) = (uri()?, uri()?);
        let mut credentials = || -> Result<Option<Credentials>, SegmentError> {
            match number(take(2)?) {
                0 => Ok(None),
                length => Credentials::parse(take(length)?).map(Some),
            }
        };
        let (cups, tc) = (credentials()?, credentials()?);
        let signed = number(take(4)?);
        let signed = take(signed)?;
        let length = number(take(4)?);
        let bytes = take(length)?.to_vec();
        let firmware = match signed.split_first_chunk::<4>() {
            Some((key_crc, signature)) => {
                Some(Firmware { key_crc: u32::from_le_bytes(*key_crc), signature: signature.to_vec(), bytes })
            }
            None if bytes.is_empty() => None,
            None => return Err(SegmentError("a firmware has no signature")),
        };
        Ok(Self { cups_uri, tc_uri, cups, tc, firmware })
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    /// A DER sequence of this many bytes.
    fn sequence(length: usize) -> Vec<u8> {
        let header = match length {
            0..=0x7f => vec![0x30, length as u8],
            0x80..=0xff => vec![0x30, 0x81, length as u8],
            _ => [&[0x30, 0x82][..], &(length as u16).to_be_bytes()].concat(),
        };
        [header, vec![7; length]].concat()
    }

    #[test]
    fn segments_stand_where_the_protocol_puts_them() {
        assert_eq!(Update::default().emit().unwrap(), [0; 14], "nothing new");
        let update = Update {
            tc_uri: Some("wss://a".into()),
            tc: Some(Credentials { trust: sequence(1), certificate: None, key: b"Authorization: x\r\n".to_vec() }),
            firmware: Some(Firmware { key_crc: 0x0403_0201, signature: vec![9; 2], bytes: vec![5; 3] }),
            ..Update::default()
        };
        let bytes = update.emit().unwrap();
        assert_eq!(bytes[..9], *b"\0\x07wss://a");
        assert_eq!(bytes[9..13], [0, 0, 25, 0], "no credentials for asking, 25 bytes of those for traffic");
        assert_eq!(bytes[13..20], [0x30, 1, 7, 0, 0, 0, 0], "the certificate is left out");
        assert_eq!(bytes[38..], [6, 0, 0, 0, 1, 2, 3, 4, 9, 9, 3, 0, 0, 0, 5, 5, 5]);
        assert_eq!(Update::parse(&bytes), Ok(update));
    }

    #[test]
    fn what_is_cut_off_is_said() {
        let why = |bytes: &[u8]| Update::parse(bytes).unwrap_err().to_string();
        assert_eq!(why(&[]), "the answer ends too early");
        assert_eq!(why(&[0, 0, 3, 0, 1, 2, 3]), "a credential does not begin with a DER sequence");
        assert_eq!(why(&[0, 0, 3, 0, 0x30, 9, 3]), "a credential ends before its own length");
        assert_eq!(why(&[1, 0xff]), "an address is not text");
        let long = Update { cups_uri: Some("x".repeat(256)), ..Update::default() };
        assert_eq!(long.emit().unwrap_err().to_string(), "an address is longer than 255 bytes");
    }

    #[test]
    fn a_question_is_read_with_signed_and_unsigned_crcs() {
        let asked =
            br#"{"router":"2a1:f000::1","cupsUri":"https://a:443","tcUri":"","cupsCredCrc":-1,"tcCredCrc":4294967295,
            "station":"2.0","model":"m","package":"1","keys":[1,-2]}"#;
        let question = Question::parse(asked).unwrap();
        assert_eq!(
            (question.gateway, question.cups_crc, question.tc_crc),
            (Eui64(0x02a1_f000_0000_0001), u32::MAX, u32::MAX)
        );
        assert_eq!(question.keys, [1, 0xffff_fffe]);
        assert_eq!(Question::parse(&question.emit()), Ok(question));
        assert!(Question::parse(br#"{"router":true}"#).is_err());
    }

    proptest! {
        #[test]
        fn updates_come_through_whole(
            uri in prop::option::of("[a-z:/]{1,40}"), lengths in prop::collection::vec(1..2000usize, 3),
            has_certificate: bool, has_firmware: bool,
        ) {
            let credentials = Credentials {
                trust: sequence(lengths[0]),
                certificate: has_certificate.then(|| sequence(lengths[1])),
                key: sequence(lengths[2]),
            };
            let firmware = has_firmware.then(|| Firmware { key_crc: 1, signature: vec![2; 70], bytes: vec![3; lengths[0]] });
            let update = Update { cups_uri: uri.clone(), tc_uri: uri, cups: Some(credentials.clone()), tc: Some(credentials), firmware };
            prop_assert_eq!(Update::parse(&update.emit().unwrap()), Ok(update));
        }

        #[test]
        fn no_bytes_make_it_panic(bytes in prop::collection::vec(any::<u8>(), 0..200)) {
            let _ = Update::parse(&bytes);
            let _ = Question::parse(&bytes);
            let _ = Credentials::parse(&bytes);
        }
    }
}
