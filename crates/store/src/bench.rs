//! How many rows a second this database takes: the limit for everything built on it.

use std::time::{Duration, Instant};

use chrono::{TimeDelta, Utc};
use futures::{StreamExt as _, TryStreamExt as _};
use sqlx::{AssertSqlSafe, MySql, QueryBuilder};

use crate::history::SeriesId;
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

    /// Gives every device a history of one reading until now: a tide, a spring tide and some noise, with a gap of some
    /// hours now and then. Returns the number of values.
    pub async fn make_history(&self, reading: &str, unit: &str, days: u32, interval_s: u32) -> Result<u64, StoreError> {
        let now = Utc::now();
        let begin = now - TimeDelta::days(i64::from(days));
        self.arrange_months(begin, now).await?;
        sqlx::query("INSERT IGNORE INTO series (dev_eui, name) SELECT dev_eui, ? FROM devices")
            .bind(reading)
            .execute(&self.pool)
            .await?;
        let ids: Vec<SeriesId> = sqlx::query_scalar("SELECT id FROM series WHERE name = ? ORDER BY id")
            .bind(reading)
            .fetch_all(&self.pool)
            .await?;
        let (step_ms, begin_ms) = (i64::from(interval_s) * 1000, begin.timestamp_millis());
        let last = i64::from(days) * 86_400 / i64::from(interval_s) - 1;
        let fill = async |id: SeriesId| {
            // The sequence is a table of the database's own; its name is made of a number.
            let statement = format!(
                "INSERT IGNORE INTO history (series_id, at_ms, value)
                 SELECT ?, ? + seq * ?, ROUND(2.4 + 1.2 * SIN((seq * ? / 44714) * 2 * PI() + ?) * (1 + 0.25 * SIN(seq * ? / 203000))
                   + 0.04 * (RAND() - 0.5), 3)
                 FROM seq_0_to_{last} WHERE (seq + ? * 37) % 2016 >= 30"
            );
            let done = sqlx::query(AssertSqlSafe(statement))
                .bind(id)
                .bind(begin_ms)
                .bind(step_ms)
                .bind(interval_s)
                .bind(f64::from(id % 7) * 0.1)
                .bind(interval_s)
                .bind(id)
                .execute(&self.pool)
                .await?;
            Ok::<u64, StoreError>(done.rows_affected())
        };
        let written = futures::stream::iter(ids).map(fill).buffer_unordered(2);
        let rows: u64 = written.try_fold(0, |sum, rows| async move { Ok(sum + rows) }).await?;
        sqlx::query(
            "INSERT IGNORE INTO last_readings (dev_eui, name, reading, time, interval_s)
             SELECT s.dev_eui, s.name, JSON_OBJECT('value', 2.4, 'unit', ?), ?, ? FROM series s WHERE s.name = ?",
        )
        .bind(unit)
        .bind(now)
        .bind(interval_s)
        .bind(reading)
        .execute(&self.pool)
        .await?;
        self.sum_up_anew(now).await?;
        Ok(rows)
    }
}

/// JSON of this length: the column takes nothing else.
fn filler(bytes: usize) -> String {
    format!("{{\"filler\":\"{}\"}}", "x".repeat(bytes.saturating_sub(13)))
}
