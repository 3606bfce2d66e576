//! How fast this database takes rows: the limit that everything built on it is held against.

use std::time::{Duration, Instant};

use sqlx::{MySql, QueryBuilder};

use crate::{Store, StoreError};

/// Rows in a statement, and statements in a transaction.
const ROWS: usize = 500;

impl Store {
    /// Durable rows a second into a table like that of messages, in transactions of 500 rows, for a while. The
    /// table is made for this and dropped again.
    pub async fn insert_rate(&self, during: Duration, body_bytes: usize) -> Result<f64, StoreError> {
        sqlx::query("CREATE OR REPLACE TABLE insert_rate LIKE messages").execute(&self.pool).await?;
        let body = filler(body_bytes);
        let (start, mut rows) = (Instant::now(), 0u64);
        while start.elapsed() < during {
            let mut tx = self.pool.begin().await?;
            let mut query = QueryBuilder::<MySql>::new("INSERT INTO insert_rate (id, estate_id, dev_eui, kind, body) ");
            query.push_values(rows..rows + ROWS as u64, |mut row, n| {
                row.push_bind(format!("{n:026}")).push_bind(1u32).push_bind((n % 10_000).to_be_bytes().to_vec());
                row.push_bind("uplink").push_bind(body.clone());
            });
            query.build().execute(&mut *tx).await?;
            tx.commit().await?;
            rows += ROWS as u64;
        }
        let rate = rows as f64 / start.elapsed().as_secs_f64();
        sqlx::query("DROP TABLE insert_rate").execute(&self.pool).await?;
        Ok(rate)
    }
}

/// JSON of a length, for the column takes nothing else.
fn filler(bytes: usize) -> String {
    format!("{{\"filler\":\"{}\"}}", "x".repeat(bytes.saturating_sub(13)))
}
