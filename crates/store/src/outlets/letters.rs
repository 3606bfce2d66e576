//! Dead letters: messages that an outlet has given up.

use chrono::{DateTime, Utc};
use serde::Serialize;
use serde::de::DeserializeOwned;
use sqlx::Row as _;
use sqlx::mysql::MySqlRow;

use super::OutletId;
use crate::rows::{json, to_json};
use crate::{Store, StoreError};

/// A message that is given up.
#[derive(Debug, Clone)]
pub struct NewLetter<'a, A> {
    /// Its number in the order of commits.
    pub told: u64,
    /// Its id.
    pub message_id: &'a str,
    /// The message as it is stored.
    pub body: &'a str,
    /// What is known of the tries.
    pub about: A,
}

/// A dead letter as it is stored.
#[derive(Debug, Clone)]
pub struct LetterRow<A> {
    /// Its number.
    pub id: u64,
    /// The message's number in the order of commits.
    pub told: u64,
    /// When it was given up.
    pub given_up_at: DateTime<Utc>,
    /// The message as it was.
    pub body: String,
    /// What is known of the tries.
    pub about: A,
}

fn read<A: DeserializeOwned>(row: &MySqlRow) -> Result<LetterRow<A>, StoreError> {
    Ok(LetterRow {
        id: row.try_get("id")?,
        told: row.try_get("told")?,
        given_up_at: row.try_get("given_up_at")?,
        body: row.try_get("body")?,
        about: json("dead letter", &row.try_get::<String, _>("about")?)?,
    })
}

impl Store {
    /// Keeps a message that is given up. Kept twice, it is one letter.
    pub async fn add_dead_letter<A: Serialize + Sync>(
        &self,
        outlet: OutletId,
        letter: NewLetter<'_, A>,
    ) -> Result<(), StoreError> {
        sqlx::query(
            "INSERT INTO dead_letters (outlet_id, told, message_id, given_up_at, about, body) VALUES (?, ?, ?, ?, ?, ?)
             ON DUPLICATE KEY UPDATE given_up_at = VALUES(given_up_at), about = VALUES(about)",
        )
        .bind(outlet)
        .bind(letter.told)
        .bind(letter.message_id)
        .bind(Utc::now())
        .bind(to_json("dead letter", &letter.about)?)
        .bind(letter.body)
        .execute(&self.pool)
        .await?;
        Ok(())
    }

    /// How many dead letters an outlet has.
    pub async fn count_dead_letters(&self, outlet: OutletId) -> Result<u64, StoreError> {
        let count: i64 = sqlx::query_scalar("SELECT COUNT(*) FROM dead_letters WHERE outlet_id = ?")
            .bind(outlet)
            .fetch_one(&self.pool)
            .await?;
        Ok(count.unsigned_abs())
    }

    /// A page of an outlet's dead letters, oldest first.
    pub async fn dead_letters<A: DeserializeOwned>(
        &self,
        outlet: OutletId,
        after: u64,
        limit: u32,
    ) -> Result<Vec<LetterRow<A>>, StoreError> {
        let rows = sqlx::query("SELECT * FROM dead_letters WHERE outlet_id = ? AND id > ? ORDER BY id LIMIT ?")
            .bind(outlet)
            .bind(after)
            .bind(limit)
            .fetch_all(&self.pool)
            .await?;
        rows.iter().map(read).collect()
    }

    /// The numbers of an outlet's dead letters, oldest first.
    pub async fn dead_letter_ids(&self, outlet: OutletId, limit: u32) -> Result<Vec<u64>, StoreError> {
        let select = sqlx::query_scalar("SELECT id FROM dead_letters WHERE outlet_id = ? ORDER BY id LIMIT ?");
        Ok(select.bind(outlet).bind(limit).fetch_all(&self.pool).await?)
    }

    /// One dead letter.
    pub async fn dead_letter<A: DeserializeOwned>(
        &self,
        outlet: OutletId,
        id: u64,
    ) -> Result<Option<LetterRow<A>>, StoreError> {
        let row = sqlx::query("SELECT * FROM dead_letters WHERE outlet_id = ? AND id = ?").bind(outlet).bind(id);
        row.fetch_optional(&self.pool).await?.as_ref().map(read).transpose()
    }

    /// Notes another try of a dead letter.
    pub async fn note_try<A: Serialize + Sync>(&self, id: u64, about: &A) -> Result<(), StoreError> {
        let about = to_json("dead letter", about)?;
        sqlx::query("UPDATE dead_letters SET about = ? WHERE id = ?").bind(about).bind(id).execute(&self.pool).await?;
        Ok(())
    }

    /// Removes a dead letter, as it was delivered or is not wanted any more; whether there was one.
    pub async fn remove_dead_letter(&self, outlet: OutletId, id: u64) -> Result<bool, StoreError> {
        let delete = sqlx::query("DELETE FROM dead_letters WHERE outlet_id = ? AND id = ?").bind(outlet).bind(id);
        Ok(delete.execute(&self.pool).await?.rows_affected() > 0)
    }
}
