//! Passwords and tokens. Passwords are hashed with argon2id; tokens are random, so a plain SHA-256 of
//! them is stored.

use anyhow::{Result, anyhow};
use argon2::Argon2;
use argon2::password_hash::phc::PasswordHash;
use argon2::password_hash::{PasswordHasher as _, PasswordVerifier as _};
use sha2::{Digest as _, Sha256};

/// A new token: 256 random bits in hex.
pub fn new_token() -> String {
    hex::encode(rand::random::<[u8; 32]>())
}

/// What is stored of a token.
pub fn token_hash(token: &str) -> [u8; 32] {
    Sha256::digest(token.as_bytes()).into()
}

/// Hashes a password, away from the threads that serve.
pub async fn hash(password: String) -> Result<String> {
    tokio::task::spawn_blocking(move || {
        let hash = Argon2::default().hash_password(password.as_bytes()).map_err(|e| anyhow!("{e}"))?;
        Ok(hash.to_string())
    })
    .await?
}

/// Whether `password` is the one behind `stored`. Without a hash to compare with, one is computed all
/// the same: an unknown name must not answer faster than a wrong password.
pub async fn verify(password: String, stored: Option<String>) -> Result<bool> {
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

    #[tokio::test]
    async fn a_password_is_known_by_its_hash() {
        let stored = hash("reed-bed".into()).await.unwrap();
        assert!(stored.starts_with("$argon2id$"));
        assert!(verify("reed-bed".into(), Some(stored.clone())).await.unwrap());
        assert!(!verify("reed-beds".into(), Some(stored)).await.unwrap());
        assert!(!verify("reed-bed".into(), None).await.unwrap());
    }
}
