//! Requests that were made with an `Idempotency-Key`: how each was answered, for a day.

use chrono::{DateTime, TimeDelta, Utc};
use lorawan::Eui64;
use serde::{Deserialize, Serialize};
use sqlx::Row as _;

use crate::rows::{json, to_json};
use crate::vault::Purpose;
use crate::{PersonId, Store, StoreError};

/// Hours for which a key is known.
pub const KEY_HOURS: i64 = 24;
/// Keys of one account at most.
pub const MOST_KEYS: u32 = 20_000;
/// Old keys that are removed when a new one comes.
const REMOVED_AT_ONCE: u32 = 1000;

/// A request with its key.
#[derive(Debug, Clone, Copy)]
pub struct KeyedRequest {
    /// Whose it is.
    pub person: PersonId,
    /// SHA-256 of the key.
    pub key_hash: [u8; 32],
    /// SHA-256 of all that makes it this request.
    pub request_hash: [u8; 32],
}

/// How a request was answered.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct KeptAnswer {
    /// The HTTP status.
    pub status: u16,
    /// Names and values of its headers.
    pub headers: Vec<(String, String)>,
    /// Its body, JSON.
    pub body: String,
}

/// What is known of a request's key.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum KeyState {
    /// It is new; the request is to be carried out.
    New,
    /// The request was carried out.
    Done(KeptAnswer),
    /// The request was begun, and its answer is not known.
    Begun(DateTime<Utc>),
    /// It was used for another request.
    OfAnother,
    /// The account has too many.
    TooMany,
}

impl KeyedRequest {
    /// What the answer is sealed for.
    fn owner(&self) -> Eui64 {
        let mut first = [0; 8];
        first.copy_from_slice(&self.key_hash[..8]);
        Eui64(u64::from_be_bytes(first))
    }
}

impl Store {
    /// Begins a request, if its key is new.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn begin_keyed(&self, request: &KeyedRequest, now: DateTime<Utc>) -> Result<KeyState, StoreError> {
        let old = now - TimeDelta::hours(KEY_HOURS);
        sqlx::query("DELETE FROM idempotency WHERE begun_at < ? LIMIT ?")
            .bind(old)
            .bind(REMOVED_AT_ONCE)
            .execute(&self.pool)
            .await?;
        let count = "SELECT COUNT(*) FROM (SELECT 1 FROM idempotency WHERE person_id = ? LIMIT ?) kept";
        let kept: i64 = sqlx::query_scalar(count).bind(request.person).bind(MOST_KEYS).fetch_one(&self.pool).await?;
        let full = kept >= i64::from(MOST_KEYS);
        if !full {
            let insert =
                "INSERT IGNORE INTO idempotency (person_id, key_hash, request_hash, begun_at) VALUES (?, ?, ?, ?)";
            let query = sqlx::query(insert).bind(request.person).bind(&request.key_hash[..]);
            let done = query.bind(&request.request_hash[..]).bind(now).execute(&self.pool).await?;
            if done.rows_affected() == 1 {
                return Ok(KeyState::New);
            }
        }
        let select =
            "SELECT request_hash, begun_at, answer_sealed FROM idempotency WHERE person_id = ? AND key_hash = ?";
        let row = sqlx::query(select).bind(request.person).bind(&request.key_hash[..]);
        let Some(row) = row.fetch_optional(&self.pool).await? else {
            // Its owner has removed it in between: it failed, and may be tried again.
            return Ok(if full { KeyState::TooMany } else { KeyState::Begun(now) });
        };
        if row.try_get::<Vec<u8>, _>("request_hash")? != request.request_hash {
            return Ok(KeyState::OfAnother);
        }
        let Some(sealed) = row.try_get::<Option<Vec<u8>>, _>("answer_sealed")? else {
            return Ok(KeyState::Begun(row.try_get("begun_at")?));
        };
        let opened = self.vault.open_any(Purpose::KeptAnswer, request.owner(), &sealed)?;
        Ok(KeyState::Done(json("kept answer", &String::from_utf8_lossy(&opened))?))
    }

    /// Keeps the answer of a request that was carried out.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn end_keyed(&self, request: &KeyedRequest, answer: &KeptAnswer) -> Result<(), StoreError> {
        let text = to_json("kept answer", answer)?;
        let sealed = self.vault.seal(Purpose::KeptAnswer, request.owner(), text.as_bytes())?;
        sqlx::query("UPDATE idempotency SET answer_sealed = ? WHERE person_id = ? AND key_hash = ?")
            .bind(sealed)
            .bind(request.person)
            .bind(&request.key_hash[..])
            .execute(&self.pool)
            .await?;
        Ok(())
    }

    /// Forgets a request that was not carried out: it may be tried again with the same key.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn forget_keyed(&self, request: &KeyedRequest) -> Result<(), StoreError> {
        sqlx::query("DELETE FROM idempotency WHERE person_id = ? AND key_hash = ? AND answer_sealed IS NULL")
            .bind(request.person)
            .bind(&request.key_hash[..])
            .execute(&self.pool)
            .await?;
        Ok(())
    }
}
