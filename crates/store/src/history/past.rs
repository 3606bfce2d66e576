//! A past that is written at once, for a database that is made to be looked at.

use chrono::{DateTime, Utc};
use sqlx::AssertSqlSafe;

use crate::history::HOUR_MS;
use crate::{EstateId, Store, StoreError};

impl Store {
    /// Gets an estate ready for a past that begins at this time: all that is registered is as old.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn begin_past(
        &self,
        estate_id: EstateId,
        begin: DateTime<Utc>,
        now: DateTime<Utc>,
    ) -> Result<(), StoreError> {
        self.arrange_months(begin, now).await?;
        for table in ["fleets", "gateways", "devices"] {
            let statement = format!("UPDATE {table} SET added_at = ? WHERE estate_id = ? AND added_at > ?");
            sqlx::query(AssertSqlSafe(statement)).bind(begin).bind(estate_id).bind(begin).execute(&self.pool).await?;
        }
        Ok(())
    }

    /// Sums up all hours until then from the first value on, whatever counted as summed up.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn sum_up_anew(&self, until: DateTime<Utc>) -> Result<(), StoreError> {
        sqlx::query("DELETE FROM history_mark").execute(&self.pool).await?;
        self.sum_up(u32::try_from(until.timestamp_millis().div_euclid(HOUR_MS)).unwrap_or(0)).await
    }

    /// Whether an estate has messages.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn has_messages(&self, estate_id: EstateId) -> Result<bool, StoreError> {
        let found = sqlx::query_scalar::<_, i32>("SELECT 1 FROM messages WHERE estate_id = ? LIMIT 1").bind(estate_id);
        Ok(found.fetch_optional(&self.pool).await?.is_some())
    }
}
