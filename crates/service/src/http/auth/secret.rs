//! Passwords and tokens. Passwords are hashed with argon2id; tokens are random, so a plain SHA-256 of
//! them is stored.

use std::ops::RangeInclusive;

use anyhow::{Result, anyhow};
use api::problem::{Problem, bad_field};
use api::secret::Secret;
use argon2::Argon2;
use argon2::password_hash::phc::PasswordHash;
use argon2::password_hash::{PasswordHasher as _, PasswordVerifier as _};
use rand::RngExt as _;
use sha2::{Digest as _, Sha256};

/// Letters and digits that are not mistaken for each other when read from a screen.
pub(crate) const CLEAR: &[u8] = b"abcdefghjkmnpqrstuvwxyz23456789";
/// Characters of a password.
const LENGTH: RangeInclusive<usize> = 12..=256;
/// A password that is guessed in fewer attempts than this, common ones first, is refused.
const MOST_GUESSABLE: f64 = 8.0;

/// Checks a new password: long enough, and not one that is tried first. Any characters are allowed.
///
/// # Errors
/// Says what is allowed, never what was given.
pub(crate) fn check_password(field: &str, password: &str, name: &str) -> Result<(), Problem> {
    let length = password.chars().count();
    if !LENGTH.contains(&length) {
        let allowed = format!("{} to {} characters are allowed, not {length}", LENGTH.start(), LENGTH.end());
        return Err(bad_field(field, "(hidden)", allowed));
    }
    // The beginning is enough for the estimate; a long password would take long.
    let begin: String = password.chars().take(64).collect();
    let guess = zxcvbn::zxcvbn(&begin, &[name, "keen heron", "lorawan"]);
    if guess.guesses_log10() < MOST_GUESSABLE {
        let warning = guess.feedback().and_then(zxcvbn::feedback::Feedback::warning);
        let why = warning.map_or_else(String::new, |warning| format!(": {warning}"));
        let allowed =
            format!("it is among those that are tried first{why}; a few words that do not belong together are good");
        return Err(bad_field(field, "(hidden)", allowed));
    }
    Ok(())
}

/// A password made up by the service: four groups of five, about 99 bits.
pub(crate) fn made_up_password() -> String {
    let mut rng = rand::rng();
    let mut group = || -> String { (0..5).map(|_| char::from(CLEAR[rng.random_range(0..CLEAR.len())])).collect() };
    (0..4).map(|_| group()).collect::<Vec<_>>().join("-")
}

/// A new token: 256 random bits in hex.
pub(crate) fn new_token() -> String {
    hex::encode(rand::random::<[u8; 32]>())
}

/// The hash of a token, as stored.
pub(crate) fn token_hash(token: &str) -> [u8; 32] {
    Sha256::digest(token.as_bytes()).into()
}

/// Hashes a password, away from the threads that serve.
pub(crate) async fn hash(password: Secret) -> Result<String> {
    tokio::task::spawn_blocking(move || {
        let hash = Argon2::default().hash_password(password.as_bytes()).map_err(|e| anyhow!("{e}"))?;
        Ok(hash.to_string())
    })
    .await?
}

/// Whether `password` is the one behind `stored`. Without a hash to compare with, one is computed all
/// the same: an unknown name must not answer faster than a wrong password.
pub(crate) async fn verify(password: Secret, stored: Option<String>) -> Result<bool> {
    let Some(stored) = stored else {
        hash(password).await?;
        return Ok(false);
    };
    tokio::task::spawn_blocking(move || {
        let parsed = PasswordHash::new(&stored).map_err(|e| anyhow!("{e}"))?;
        Ok(Argon2::default().verify_password(password.as_bytes(), &parsed).is_ok())
    })
    .await?
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn passwords_are_long_and_not_among_those_tried_first() {
        let why = |password: &str| check_password("new", password, "harbourmaster").map_err(|why| why.to_string());
        for good in ["reed bed lantern ocean", "fünf Störche am Deich", "zzkqpwmxvbrt"] {
            assert_eq!(why(good), Ok(()), "{good}");
        }
        assert!(why("short").unwrap_err().contains("12 to 256"));
        for common in
            ["password1234", "123456789012", "qwertyuiop123", "aaaaaaaaaaaaaaaa", "harbourmaster", "abcabcabcabc"]
        {
            let why = why(common).unwrap_err();
            assert!(why.contains("tried first") && !why.contains(common), "{why}");
        }
        assert!(why(&"x y".repeat(200)).unwrap_err().contains("not 600"));
        assert_eq!(why(&made_up_password()), Ok(()));
    }

    #[tokio::test]
    async fn a_password_is_known_by_its_hash() {
        let stored = hash("reed-bed".into()).await.unwrap();
        assert!(stored.starts_with("$argon2id$"));
        assert!(verify("reed-bed".into(), Some(stored.clone())).await.unwrap());
        assert!(!verify("reed-beds".into(), Some(stored)).await.unwrap());
        assert!(!verify("reed-bed".into(), None).await.unwrap());
    }
}
