//! The latest readings, and statistics of recent ones.

use std::collections::HashMap;

use api::message::{DeviceRef, Reading};
use chrono::{DateTime, Utc};
use domain::reading::chart::Bucket;
use lorawan::Eui64;
use sqlx::{MySql, QueryBuilder, Row as _, Transaction};

use crate::commit::{DecodeFailure, StoredReading, parts};
use crate::history::{SeriesId, short_name};
use crate::rows::{among, eui, eui_bytes, json, to_json};
use crate::{EstateId, Store, StoreError};

/// Series asked about in one statement.
const SERIES: usize = 512;

/// A reading's last value.
#[derive(Debug, Clone)]
pub struct ReadingRow {
    /// The reading's name.
    pub name: String,
    /// Its value.
    pub reading: Reading,
    /// When it was measured.
    pub time: DateTime<Utc>,
    /// Its usual interval.
    pub interval_s: Option<f64>,
    /// Its number in the history.
    pub series: Option<SeriesId>,
}

/// A reading of a device, with what is needed to judge its values.
#[derive(Debug, Clone)]
pub struct JudgedSeries {
    /// Its number.
    pub id: SeriesId,
    /// Its estate.
    pub estate_id: EstateId,
    /// The device's model.
    pub model: String,
    /// The device.
    pub device: DeviceRef,
    /// The reading's name.
    pub name: String,
    /// Its unit.
    pub unit: Option<String>,
}

impl Store {
    /// A device's readings by name.
    pub async fn readings_of(&self, dev_eui: Eui64) -> Result<Vec<ReadingRow>, StoreError> {
        let rows = sqlx::query(
            "SELECT l.name, l.reading, l.time, l.interval_s, s.id FROM last_readings l
             LEFT JOIN series s ON s.dev_eui = l.dev_eui AND s.name = l.name WHERE l.dev_eui = ? ORDER BY l.name",
        )
        .bind(eui_bytes(dev_eui))
        .fetch_all(&self.pool)
        .await?;
        rows.iter()
            .map(|row| {
                Ok(ReadingRow {
                    name: row.try_get(0)?,
                    reading: json("reading", &row.try_get::<String, _>(1)?)?,
                    time: row.try_get(2)?,
                    interval_s: row.try_get(3)?,
                    series: row.try_get(4)?,
                })
            })
            .collect()
    }

    /// Values summed up by steps of a period, oldest first.
    pub async fn stepped(
        &self,
        series: SeriesId,
        from_ms: i64,
        until_ms: i64,
        step_ms: i64,
    ) -> Result<Vec<Bucket>, StoreError> {
        let rows = sqlx::query(
            "SELECT at_ms DIV ? AS step, COUNT(value), MIN(value), SUM(value), MAX(value) FROM history
             WHERE series_id = ? AND at_ms >= ? AND at_ms < ? AND value IS NOT NULL GROUP BY step ORDER BY step",
        )
        .bind(step_ms)
        .bind(series)
        .bind(from_ms)
        .bind(until_ms)
        .fetch_all(&self.pool)
        .await?;
        rows.iter()
            .map(|row| {
                Ok(Bucket {
                    at_ms: row.try_get::<i64, _>(0)?.saturating_mul(step_ms),
                    count: row.try_get::<i64, _>(1)?.unsigned_abs(),
                    least: row.try_get(2)?,
                    sum: row.try_get(3)?,
                    most: row.try_get(4)?,
                })
            })
            .collect()
    }

    /// Statistics of the values of some series since a time.
    pub async fn since(&self, series: &[SeriesId], from_ms: i64) -> Result<HashMap<SeriesId, Bucket>, StoreError> {
        let statement = "SELECT series_id, COUNT(value), MIN(value), SUM(value), MAX(value) FROM history WHERE ";
        self.taken_together(statement, "at_ms", series, from_ms).await
    }

    /// The same, by whole hours.
    pub async fn since_hour(&self, series: &[SeriesId], hour: i64) -> Result<HashMap<SeriesId, Bucket>, StoreError> {
        let statement =
            "SELECT series_id, CAST(SUM(count) AS SIGNED), MIN(least), SUM(sum), MAX(most) FROM hourly WHERE ";
        self.taken_together(statement, "hour", series, hour).await
    }

    async fn taken_together(
        &self,
        statement: &'static str,
        column: &'static str,
        series: &[SeriesId],
        from: i64,
    ) -> Result<HashMap<SeriesId, Bucket>, StoreError> {
        let mut found = HashMap::new();
        for part in series.chunks(SERIES) {
            let mut query = QueryBuilder::<MySql>::new(statement);
            among(&mut query, "series_id", part, |id| id);
            query.push(" AND ").push(column).push(" >= ").push_bind(from).push(" GROUP BY series_id");
            for row in query.build().fetch_all(&self.pool).await? {
                // Texts have no numbers.
                let Some(least) = row.try_get::<Option<f64>, _>(2)? else { continue };
                let summary = Bucket {
                    at_ms: from,
                    count: row.try_get::<i64, _>(1)?.unsigned_abs(),
                    least,
                    sum: row.try_get(3)?,
                    most: row.try_get(4)?,
                };
                found.insert(row.try_get(0)?, summary);
            }
        }
        Ok(found)
    }

    /// All series of devices with a model, or of one model.
    pub async fn judged_series(&self, of: Option<(EstateId, &str)>) -> Result<Vec<JudgedSeries>, StoreError> {
        let (estate_id, model) = of.unzip();
        let rows = sqlx::query(
            "SELECT s.id, s.name, s.dev_eui, d.estate_id, d.name AS device, m.slug,
             JSON_UNQUOTE(JSON_EXTRACT(l.reading, '$.unit')) AS unit
             FROM series s JOIN devices d ON d.dev_eui = s.dev_eui JOIN models m ON m.id = d.model_id
             JOIN last_readings l ON l.dev_eui = s.dev_eui AND l.name = s.name
             WHERE (? IS NULL OR m.estate_id = ?) AND (? IS NULL OR m.slug = ?) ORDER BY s.id",
        )
        .bind(estate_id)
        .bind(estate_id)
        .bind(model)
        .bind(model)
        .fetch_all(&self.pool)
        .await?;
        rows.iter()
            .map(|row| {
                let model: String = row.try_get("slug")?;
                let (eui, name) = (eui(row, "dev_eui")?, row.try_get("device")?);
                Ok(JudgedSeries {
                    id: row.try_get("id")?,
                    estate_id: row.try_get("estate_id")?,
                    device: DeviceRef { eui, name, model: Some(model.clone()) },
                    model,
                    name: row.try_get("name")?,
                    unit: row.try_get("unit")?,
                })
            })
            .collect()
    }
}

/// Stores the last value of each reading.
pub(crate) async fn write_readings(
    tx: &mut Transaction<'_, MySql>,
    readings: &[StoredReading],
) -> Result<(), StoreError> {
    for part in parts(readings) {
        let bodies: Vec<String> = part.iter().map(|r| to_json("reading", &r.reading)).collect::<Result<_, _>>()?;
        let mut query =
            QueryBuilder::<MySql>::new("INSERT INTO last_readings (dev_eui, name, reading, time, counter, carried) ");
        query.push_values(part.iter().zip(&bodies), |mut row, (stored, body)| {
            row.push_bind(eui_bytes(stored.dev_eui)).push_bind(short_name(&stored.name));
            row.push_bind(body.clone()).push_bind(stored.time);
            row.push_bind(stored.counted.map(|c| c.counter)).push_bind(stored.counted.map(|c| c.carried));
        });
        // An older uplink may be decoded after a newer one. How often a reading comes follows changes within a few of
        // its values; columns are set in order, so the time comes last.
        query.push(
            " ON DUPLICATE KEY UPDATE
              interval_s = IF(VALUES(time) > time, COALESCE(interval_s + (TIMESTAMPDIFF(MICROSECOND, time, VALUES(time)) / 1e6 - interval_s) / 4,
                  TIMESTAMPDIFF(MICROSECOND, time, VALUES(time)) / 1e6), interval_s),
              reading = IF(VALUES(time) >= time, VALUES(reading), reading),
              counter = IF(VALUES(time) >= time, VALUES(counter), counter),
              carried = IF(VALUES(time) >= time, VALUES(carried), carried),
              time = GREATEST(time, VALUES(time))",
        );
        query.build().execute(&mut **tx).await?;
    }
    Ok(())
}

/// Counts failures; the first of them keeps its place.
pub(crate) async fn write_failures(
    tx: &mut Transaction<'_, MySql>,
    failures: &[DecodeFailure],
) -> Result<(), StoreError> {
    for part in parts(failures) {
        let mut query = QueryBuilder::<MySql>::new(
            "INSERT INTO decode_failures (dev_eui, model, failures, first_message, first_at, last_at, why) ",
        );
        query.push_values(part, |mut row, failure| {
            row.push_bind(eui_bytes(failure.dev_eui)).push_bind(failure.model.clone()).push_bind(1);
            row.push_bind(failure.message_id.clone()).push_bind(failure.at).push_bind(failure.at);
            row.push_bind(failure.why.chars().take(500).collect::<String>());
        });
        query.push(
            " ON DUPLICATE KEY UPDATE failures = failures + 1, last_at = GREATEST(last_at, VALUES(last_at)), why = VALUES(why)",
        );
        query.build().execute(&mut **tx).await?;
    }
    Ok(())
}
