//! The second step of signing in: the secret of an app, its codes, and recovery codes.

use lorawan::Eui64;

use crate::people::accounts::PersonId;
use crate::vault::Purpose;
use crate::{Store, StoreError};

impl Store {
    /// Stores a secret, which is not in use until its first code has been confirmed.
    pub async fn set_otp_secret(&self, id: PersonId, secret: Option<&[u8; 20]>) -> Result<(), StoreError> {
        let sealed = secret.map(|secret| self.vault.seal(Purpose::OneTimeCodes, otp_owner(id), secret)).transpose()?;
        let mut tx = self.pool.begin().await?;
        sqlx::query("UPDATE people SET otp_sealed = ?, otp_in_use = FALSE, otp_last_step = NULL WHERE id = ?")
            .bind(sealed)
            .bind(id)
            .execute(&mut *tx)
            .await?;
        sqlx::query("DELETE FROM recovery_codes WHERE person_id = ?").bind(id).execute(&mut *tx).await?;
        tx.commit().await?;
        Ok(())
    }

    /// The secret, whether in use or not.
    pub async fn otp_secret(&self, id: PersonId) -> Result<Option<[u8; 20]>, StoreError> {
        let sealed: Option<Vec<u8>> =
            sqlx::query_scalar("SELECT otp_sealed FROM people WHERE id = ?").bind(id).fetch_one(&self.pool).await?;
        Ok(sealed.map(|sealed| self.vault.open(Purpose::OneTimeCodes, otp_owner(id), &sealed)).transpose()?)
    }

    /// Marks an interval as used; returns whether its code had not been used before.
    pub async fn spend_otp_step(&self, id: PersonId, step: u64) -> Result<bool, StoreError> {
        let done = sqlx::query(
            "UPDATE people SET otp_last_step = ? WHERE id = ? AND (otp_last_step IS NULL OR otp_last_step < ?)",
        )
        .bind(step)
        .bind(id)
        .bind(step)
        .execute(&self.pool)
        .await?;
        Ok(done.rows_affected() > 0)
    }

    /// Begins to ask for codes, and stores the recovery codes.
    pub async fn begin_two_step(&self, id: PersonId, codes: &[[u8; 32]]) -> Result<(), StoreError> {
        let mut tx = self.pool.begin().await?;
        sqlx::query("UPDATE people SET otp_in_use = TRUE WHERE id = ?").bind(id).execute(&mut *tx).await?;
        sqlx::query("DELETE FROM recovery_codes WHERE person_id = ?").bind(id).execute(&mut *tx).await?;
        for hash in codes {
            sqlx::query("INSERT INTO recovery_codes (person_id, code_hash) VALUES (?, ?)")
                .bind(id)
                .bind(hash.to_vec())
                .execute(&mut *tx)
                .await?;
        }
        tx.commit().await?;
        Ok(())
    }

    /// Uses up a recovery code; returns whether it was valid.
    pub async fn spend_recovery_code(&self, id: PersonId, hash: [u8; 32]) -> Result<bool, StoreError> {
        let done = sqlx::query("DELETE FROM recovery_codes WHERE person_id = ? AND code_hash = ?")
            .bind(id)
            .bind(hash.to_vec())
            .execute(&self.pool)
            .await?;
        Ok(done.rows_affected() > 0)
    }

    /// How many recovery codes are left.
    pub async fn recovery_codes_left(&self, id: PersonId) -> Result<u32, StoreError> {
        let count: i64 = sqlx::query_scalar("SELECT COUNT(*) FROM recovery_codes WHERE person_id = ?")
            .bind(id)
            .fetch_one(&self.pool)
            .await?;
        Ok(u32::try_from(count).unwrap_or(u32::MAX))
    }
}

/// The owner that a person's secret is sealed for.
pub(crate) fn otp_owner(id: PersonId) -> Eui64 {
    Eui64(u64::from(id))
}
