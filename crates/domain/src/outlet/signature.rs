//! How requests of webhooks are signed: HMAC-SHA-256 (RFC 2104, FIPS 180-4) of the time, a line feed, and the body.

use hmac::{Hmac, KeyInit as _, Mac as _};
use sha2::Sha256;

/// The header that holds the time of the request, in seconds since 1970.
pub const TIME_HEADER: &str = "Keen-Heron-Time";
/// The header that holds the signature, in hex.
pub const SIGNATURE_HEADER: &str = "Keen-Heron-Signature";

/// The signature of a body that is sent at `time_s`, in hex.
pub fn signature(secret: &str, time_s: i64, body: &[u8]) -> String {
    // A key of any length will do (RFC 2104 §2).
    let Ok(mut mac) = Hmac::<Sha256>::new_from_slice(secret.as_bytes()) else { return String::new() };
    mac.update(time_s.to_string().as_bytes());
    mac.update(b"\n");
    mac.update(body);
    hex::encode(mac.finalize().into_bytes())
}

#[cfg(test)]
mod tests {
    use super::*;

    /// As `printf %s\\n%s TIME BODY | openssl dgst -sha256 -hmac SECRET` says.
    #[test]
    fn it_is_what_another_program_computes() {
        assert_eq!(
            signature("a secret of the harbour", 1_777_885_953, br#"{"id":"01K"}"#),
            "2a77da34317d840ce159ee93dc9f6ec5baeb2699b159a9f50c8772582522c5f3"
        );
    }

    #[test]
    fn time_and_body_both_count() {
        let one = signature("a secret of the harbour", 1, b"x");
        assert_eq!(one.len(), 64);
        assert_ne!(one, signature("a secret of the harbour", 2, b"x"));
        assert_ne!(one, signature("a secret of the harbour", 1, b"y"));
        assert_ne!(one, signature("another secret", 1, b"x"));
    }
}
