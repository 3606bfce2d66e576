//! The second step of signing in: codes that an app makes (RFC 6238), and recovery codes for when it is lost.

use std::time::{SystemTime, UNIX_EPOCH};

use rand::RngExt as _;
use store::Person;
use totp_rs::{Builder, Secret, Totp};

use crate::http::app::App;
use crate::http::auth::secret::{CLEAR, token_hash};
use crate::http::error::Refusal;

/// Recovery codes of an account.
pub(crate) const RECOVERY_CODES: usize = 10;
/// Characters of one: some 49 bits.
const CODE_LENGTH: usize = 10;

/// A new secret of 160 bits, as RFC 4226 §4 recommends.
pub(crate) fn new_secret() -> [u8; 20] {
    rand::random()
}

/// The code generator of a secret: SHA-1, six digits, every 30 s; one interval early or late is allowed (RFC 6238
/// §5.2).
fn codes(secret: &[u8; 20], account: &str) -> Option<Totp> {
    let issuer = Some("Keen Heron");
    // A colon would end the name (it stands between issuer and account).
    let account = account.replace(':', " ");
    Builder::new()
        .with_secret(Secret::from(&secret[..]))
        .with_skew(1)
        .with_account_name(account)
        .with_issuer(issuer)
        .build()
        .ok()
}

/// The secret for entering by hand, and for an app.
pub(crate) fn shown(secret: &[u8; 20], account: &str) -> Option<(String, String)> {
    Some((Secret::from(&secret[..]).to_base32(), codes(secret, account)?.to_url().ok()?))
}

/// The interval whose code this is, at a time in seconds since 1970.
pub(crate) fn step_of(secret: &[u8; 20], code: &str, now_s: u64) -> Option<u64> {
    let digits: String = code.chars().filter(|c| !c.is_whitespace()).collect();
    codes(secret, "")?.check(&digits, now_s)
}

/// New recovery codes, with what is stored of each.
pub(crate) fn new_recovery_codes() -> Vec<(String, [u8; 32])> {
    let mut rng = rand::rng();
    (0..RECOVERY_CODES)
        .map(|_| {
            let code: String = (0..CODE_LENGTH).map(|_| char::from(CLEAR[rng.random_range(0..CLEAR.len())])).collect();
            let shown = format!("{}-{}", &code[..CODE_LENGTH / 2], &code[CODE_LENGTH / 2..]);
            (shown, recovery_hash(&code))
        })
        .collect()
}

/// The hash of a recovery code, without regard to spaces and case.
pub(crate) fn recovery_hash(code: &str) -> [u8; 32] {
    let plain: String = code.chars().filter(char::is_ascii_alphanumeric).map(|c| c.to_ascii_lowercase()).collect();
    token_hash(&plain)
}

/// Whether a code of the app is right and has not been used before.
pub(crate) async fn spend_code(app: &App, person: &Person, code: &str) -> Result<bool, Refusal> {
    let Some(secret) = app.store.otp_secret(person.id).await? else { return Ok(false) };
    let now_s = SystemTime::now().duration_since(UNIX_EPOCH).map_or(0, |since| since.as_secs());
    match step_of(&secret, code, now_s) {
        Some(step) => Ok(app.store.spend_otp_step(person.id, step).await?),
        None => Ok(false),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// RFC 6238 appendix B, for SHA-1, cut to six digits.
    #[test]
    fn codes_are_those_of_the_standard() {
        let secret = b"12345678901234567890";
        for (at_s, code) in
            [(59, "287082"), (1_111_111_109, "081804"), (1_234_567_890, "005924"), (20_000_000_000, "353130")]
        {
            assert_eq!(step_of(secret, code, at_s), Some(at_s / 30), "{code}");
            assert_eq!(step_of(secret, code, at_s + 30), Some(at_s / 30), "one interval late");
            assert_eq!(step_of(secret, code, at_s + 90), None);
        }
        assert_eq!(step_of(secret, "287 082", 59), Some(1), "as apps show it");
        for nonsense in ["", "28708", "2870822", "abcdef", "28\u{7}082"] {
            assert_eq!(step_of(secret, nonsense, 59), None, "{nonsense:?}");
        }
    }

    #[test]
    fn an_app_is_told_what_it_needs() {
        let (secret, uri) = shown(b"12345678901234567890", "marit: harbour").unwrap();
        assert_eq!(secret, "GEZDGNBVGY3TQOJQGEZDGNBVGY3TQOJQ");
        assert!(uri.starts_with("otpauth://totp/") && uri.contains(&secret) && uri.contains("issuer="), "{uri}");
    }

    #[test]
    fn recovery_codes_are_known_however_they_are_written() {
        let codes = new_recovery_codes();
        assert_eq!(codes.len(), RECOVERY_CODES);
        let (shown, hash) = &codes[0];
        assert_eq!(recovery_hash(&shown.to_uppercase().replace('-', " ")), *hash);
        assert_ne!(codes[0].1, codes[1].1);
    }
}
