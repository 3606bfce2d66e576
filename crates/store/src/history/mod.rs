//! The history of readings: every value, and summaries of hours and days.
//!
//! Values are written with what they came of, in one transaction. Summaries are made when an hour is over, so that no
//! uplink waits for them; hours that get values afterwards (a decoder was slow, or history was decoded again) are
//! listed and made again. A chart reads values or summaries, whichever are enough for the eye.

mod past;
mod retention;

pub use retention::KEPT_FOR_OUTLETS_DAYS;

use std::borrow::Cow;
use std::collections::HashMap;
use std::sync::{PoisonError, RwLock};

use api::message::ReadingValue;
use chrono::{DateTime, Utc};
use domain::reading::chart::Bucket;
use lorawan::Eui64;
use sqlx::{MySql, QueryBuilder, Row as _, Transaction};

use crate::commit::{StoredReading, parts};
use crate::rows::{among, eui, eui_bytes};
use crate::{Store, StoreError};

/// An hour, and how many of them a day has.
pub const HOUR_MS: i64 = 3_600_000;
const DAY_HOURS: u32 = 24;
/// Hours of all series that are summed up in one transaction.
const SUMMED: usize = 512 * 24;
/// Readings that one device can have in all its time: a decoder that makes names up must not fill the tables.
pub const MOST_SERIES: usize = 1000;
/// The longest name of a reading that is kept, and the longest text of one.
pub(crate) const LONGEST_NAME: usize = 120;
const LONGEST_WORD: usize = 200;

/// Names one reading of one device.
pub type SeriesId = u32;

/// The series that are known by name, so that a value costs one row.
#[derive(Default)]
pub(crate) struct Known(RwLock<HashMap<Eui64, HashMap<String, SeriesId>>>);

impl Known {
    fn of(&self, dev_eui: Eui64, name: &str) -> Option<SeriesId> {
        self.0.read().unwrap_or_else(PoisonError::into_inner).get(&dev_eui)?.get(name).copied()
    }

    fn knows(&self, dev_eui: Eui64) -> bool {
        self.0.read().unwrap_or_else(PoisonError::into_inner).contains_key(&dev_eui)
    }

    /// How many more a device may have.
    fn room(&self, dev_eui: Eui64) -> usize {
        let known = self.0.read().unwrap_or_else(PoisonError::into_inner);
        MOST_SERIES.saturating_sub(known.get(&dev_eui).map_or(0, HashMap::len))
    }

    fn put_all(&self, devices: &[Eui64], series: Vec<Series>) {
        let mut known = self.0.write().unwrap_or_else(PoisonError::into_inner);
        for device in devices {
            known.entry(*device).or_default();
        }
        for Series { id, dev_eui, name } in series {
            known.entry(dev_eui).or_default().insert(name, id);
        }
    }

    /// Devices that are gone may come again, as others.
    pub(crate) fn forget(&self, euis: &[Eui64]) {
        let mut known = self.0.write().unwrap_or_else(PoisonError::into_inner);
        for eui in euis {
            known.remove(eui);
        }
    }
}

/// A value of the history.
#[derive(Debug, Clone, PartialEq)]
pub struct Point {
    /// Milliseconds since 1970.
    pub at_ms: i64,
    /// A number; a boolean is 0 or 1.
    pub value: Option<f64>,
    /// A text.
    pub word: Option<String>,
}

/// What summaries are of.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Span {
    /// Hours.
    Hour,
    /// Days.
    Day,
}

impl Span {
    /// How long.
    pub const fn ms(self) -> i64 {
        match self {
            Self::Hour => HOUR_MS,
            Self::Day => HOUR_MS * DAY_HOURS as i64,
        }
    }
}

/// One reading of one device.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Series {
    /// Its number.
    pub id: SeriesId,
    /// The device's DevEUI.
    pub dev_eui: Eui64,
    /// The reading's name.
    pub name: String,
}

fn hour_of(at_ms: i64) -> u32 {
    u32::try_from(at_ms.div_euclid(HOUR_MS)).unwrap_or(0)
}

pub(crate) fn short_name(name: &str) -> String {
    name.chars().take(LONGEST_NAME).collect()
}

fn columns(value: &ReadingValue) -> (Option<f64>, Option<String>) {
    match value {
        ReadingValue::Boolean(b) => (Some(f64::from(u8::from(*b))), None),
        ReadingValue::Number(n) => (Some(*n).filter(|n| n.is_finite()), None),
        ReadingValue::Text(text) => (None, Some(text.chars().take(LONGEST_WORD).collect())),
    }
}

impl Store {
    /// Sees to it that each of these readings has a series. This stands outside of what may be rolled back.
    pub(crate) async fn know_series(&self, readings: &[StoredReading]) -> Result<(), StoreError> {
        let mut fresh: Vec<Eui64> =
            readings.iter().map(|reading| reading.dev_eui).filter(|eui| !self.known.knows(*eui)).collect();
        fresh.sort();
        fresh.dedup();
        if !fresh.is_empty() {
            self.known.put_all(&fresh, self.series_of(&fresh).await?);
        }
        let mut missing: Vec<(Eui64, String)> = readings
            .iter()
            .map(|reading| (reading.dev_eui, short_name(&reading.name)))
            .filter(|(dev_eui, name)| self.known.of(*dev_eui, name).is_none())
            .collect();
        missing.sort();
        missing.dedup();
        let mut room: HashMap<Eui64, usize> = HashMap::new();
        missing.retain(|(dev_eui, _)| {
            let left = room.entry(*dev_eui).or_insert_with(|| self.known.room(*dev_eui));
            let fits = *left > 0;
            *left = left.saturating_sub(1);
            fits
        });
        for part in parts(&missing) {
            let mut insert = QueryBuilder::<MySql>::new("INSERT IGNORE INTO series (dev_eui, name) ");
            insert.push_values(part, |mut row, (dev_eui, name)| {
                row.push_bind(eui_bytes(*dev_eui)).push_bind(name.clone());
            });
            insert.build().execute(&self.pool).await?;
        }
        let grown: Vec<Eui64> = room.into_keys().collect();
        if !missing.is_empty() {
            self.known.put_all(&grown, self.series_of(&grown).await?);
        }
        Ok(())
    }

    /// Those that have a series; a device with too many gets no more.
    pub(crate) fn with_series<'a>(&self, readings: &'a [StoredReading]) -> Cow<'a, [StoredReading]> {
        let known = |reading: &&StoredReading| self.known.of(reading.dev_eui, &short_name(&reading.name)).is_some();
        match readings.iter().all(|reading| known(&reading)) {
            true => Cow::Borrowed(readings),
            false => Cow::Owned(readings.iter().filter(known).cloned().collect()),
        }
    }

    /// Writes values; gives the hours that have got some, for [`list_late_hours`].
    pub(crate) async fn write_history(
        &self,
        tx: &mut Transaction<'_, MySql>,
        readings: &[StoredReading],
    ) -> Result<Vec<(SeriesId, u32)>, StoreError> {
        let rows: Vec<(SeriesId, i64, &ReadingValue)> = readings
            .iter()
            .filter_map(|r| {
                let id = self.known.of(r.dev_eui, &short_name(&r.name))?;
                Some((id, r.time.timestamp_millis(), &r.reading.value))
            })
            .collect();
        for part in parts(&rows) {
            let mut insert = QueryBuilder::<MySql>::new("INSERT INTO history (series_id, at_ms, value, word) ");
            insert.push_values(part, |mut row, (id, at_ms, value)| {
                let (value, word) = columns(value);
                row.push_bind(*id).push_bind(*at_ms).push_bind(value).push_bind(word);
            });
            insert.push(" ON DUPLICATE KEY UPDATE value = VALUES(value), word = VALUES(word)");
            insert.build().execute(&mut **tx).await?;
        }
        Ok(rows.iter().map(|(id, at_ms, _)| (*id, hour_of(*at_ms))).collect())
    }

    /// The series of some devices.
    pub async fn series_of(&self, devices: &[Eui64]) -> Result<Vec<Series>, StoreError> {
        let mut found = Vec::new();
        for part in devices.chunks(512) {
            let mut query = QueryBuilder::<MySql>::new("SELECT id, dev_eui, name FROM series WHERE ");
            among(&mut query, "dev_eui", part, eui_bytes);
            let rows = query.push(" ORDER BY dev_eui, name").build().fetch_all(&self.pool).await?;
            found.extend(rows.iter().map(series).collect::<Result<Vec<_>, _>>()?);
        }
        Ok(found)
    }

    /// Values in a time span, oldest first.
    pub async fn points(
        &self,
        series: SeriesId,
        from_ms: i64,
        until_ms: i64,
        limit: u32,
    ) -> Result<Vec<Point>, StoreError> {
        let rows = sqlx::query(
            "SELECT at_ms, value, word FROM history WHERE series_id = ? AND at_ms >= ? AND at_ms < ? ORDER BY at_ms LIMIT ?",
        )
        .bind(series)
        .bind(from_ms)
        .bind(until_ms)
        .bind(limit)
        .fetch_all(&self.pool)
        .await?;
        rows.iter()
            .map(|row| Ok(Point { at_ms: row.try_get(0)?, value: row.try_get(1)?, word: row.try_get(2)? }))
            .collect()
    }

    /// Summaries of whole hours or days in a time span, oldest first.
    pub async fn summaries(
        &self,
        series: SeriesId,
        span: Span,
        from_ms: i64,
        until_ms: i64,
    ) -> Result<Vec<Bucket>, StoreError> {
        let statement = match span {
            Span::Hour => {
                "SELECT hour, count, least, sum, most FROM hourly WHERE series_id = ? AND hour >= ? AND hour < ? ORDER BY hour"
            }
            Span::Day => {
                "SELECT day, count, least, sum, most FROM daily WHERE series_id = ? AND day >= ? AND day < ? ORDER BY day"
            }
        };
        let rows = sqlx::query(statement)
            .bind(series)
            .bind(from_ms.div_euclid(span.ms()))
            .bind(until_ms.div_euclid(span.ms()))
            .fetch_all(&self.pool)
            .await?;
        rows.iter()
            .map(|row| {
                Ok(Bucket {
                    at_ms: i64::from(row.try_get::<u32, _>(0)?) * span.ms(),
                    count: u64::from(row.try_get::<u32, _>(1)?),
                    least: row.try_get(2)?,
                    sum: row.try_get(3)?,
                    most: row.try_get(4)?,
                })
            })
            .collect()
    }

    /// Up to which hour summaries are made.
    pub async fn summed_until_hour(&self) -> Result<Option<u32>, StoreError> {
        Ok(sqlx::query_scalar("SELECT summed_until_hour FROM history_mark").fetch_optional(&self.pool).await?)
    }

    /// Makes the summaries of hours up to `until_hour`, and of the days that are whole then. Done again, it changes
    /// nothing.
    pub async fn sum_up(&self, until_hour: u32) -> Result<(), StoreError> {
        let from = match self.summed_until_hour().await? {
            Some(from) => from,
            // The first time: from the first value on.
            None => {
                // By series, since the index begins with them.
                let statement =
                    "SELECT MIN(first) FROM (SELECT MIN(at_ms) AS first FROM history GROUP BY series_id) AS firsts";
                let first: Option<i64> = sqlx::query_scalar(statement).fetch_one(&self.pool).await?;
                first.map_or(until_hour, hour_of)
            }
        };
        if from < until_hour {
            let ids: Vec<SeriesId> =
                sqlx::query_scalar("SELECT id FROM series ORDER BY id").fetch_all(&self.pool).await?;
            // After a long time, fewer at once: what one transaction sums up stays about the same.
            let at_once = (SUMMED / (until_hour - from) as usize).clamp(1, 512);
            for part in ids.chunks(at_once) {
                let mut tx = self.pool.begin().await?;
                sum_hours(&mut tx, part, from, until_hour).await?;
                sum_days(&mut tx, part, from / DAY_HOURS, until_hour / DAY_HOURS).await?;
                tx.commit().await?;
            }
        }
        sqlx::query(
            "INSERT INTO history_mark (id, summed_until_hour) VALUES (1, ?)
             ON DUPLICATE KEY UPDATE summed_until_hour = GREATEST(summed_until_hour, VALUES(summed_until_hour))",
        )
        .bind(until_hour)
        .execute(&self.pool)
        .await?;
        Ok(())
    }

    /// Makes summaries again that values came too late for; says whether there were any.
    pub async fn sum_up_late(&self, until_hour: u32) -> Result<bool, StoreError> {
        let rows: Vec<(SeriesId, u32)> =
            sqlx::query_as("SELECT series_id, hour FROM late_hours WHERE hour < ? ORDER BY series_id, hour LIMIT 2000")
                .bind(until_hour)
                .fetch_all(&self.pool)
                .await?;
        let mut by_series: HashMap<SeriesId, Vec<u32>> = HashMap::new();
        for (id, hour) in rows {
            by_series.entry(id).or_default().push(hour);
        }
        for (id, hours) in &by_series {
            let (Some(first), Some(last)) = (hours.first(), hours.last()) else { continue };
            let mut tx = self.pool.begin().await?;
            // Off the list first: a commit that adds a value meanwhile lists it again.
            sqlx::query("DELETE FROM late_hours WHERE series_id = ? AND hour BETWEEN ? AND ?")
                .bind(id)
                .bind(first)
                .bind(last)
                .execute(&mut *tx)
                .await?;
            sum_hours(&mut tx, &[*id], *first, last + 1).await?;
            let until_day = (last / DAY_HOURS + 1).min(until_hour / DAY_HOURS);
            sum_days(&mut tx, &[*id], first / DAY_HOURS, until_day).await?;
            tx.commit().await?;
        }
        Ok(!by_series.is_empty())
    }

    /// What each running total had reached.
    pub async fn totals(&self) -> Result<Vec<(Eui64, String, DateTime<Utc>, f64, f64)>, StoreError> {
        let rows = sqlx::query(
            "SELECT dev_eui, name, time, counter, carried FROM last_readings WHERE counter IS NOT NULL AND carried IS NOT NULL",
        )
        .fetch_all(&self.pool)
        .await?;
        rows.iter()
            .map(|row| {
                let (counter, carried) = (row.try_get("counter")?, row.try_get("carried")?);
                Ok((eui(row, "dev_eui")?, row.try_get("name")?, row.try_get("time")?, counter, carried))
            })
            .collect()
    }
}

/// Lists those of these hours that are over, to be summed up again.
pub(crate) async fn list_late_hours(
    tx: &mut Transaction<'_, MySql>,
    mut hours: Vec<(SeriesId, u32)>,
) -> Result<(), StoreError> {
    let this_hour = hour_of(Utc::now().timestamp_millis());
    hours.retain(|(_, hour)| *hour < this_hour);
    hours.sort_unstable();
    hours.dedup();
    list_late(tx, &hours).await
}

/// Notes hours whose summaries are to be made again.
pub(crate) async fn list_late(tx: &mut Transaction<'_, MySql>, late: &[(SeriesId, u32)]) -> Result<(), StoreError> {
    for part in parts(late) {
        let mut insert = QueryBuilder::<MySql>::new("INSERT IGNORE INTO late_hours (series_id, hour) ");
        insert.push_values(part, |mut row, (id, hour)| {
            row.push_bind(*id).push_bind(*hour);
        });
        insert.build().execute(&mut **tx).await?;
    }
    Ok(())
}

fn series(row: &sqlx::mysql::MySqlRow) -> Result<Series, StoreError> {
    Ok(Series { id: row.try_get("id")?, dev_eui: eui(row, "dev_eui")?, name: row.try_get("name")? })
}

async fn sum_hours(tx: &mut Transaction<'_, MySql>, ids: &[SeriesId], from: u32, until: u32) -> Result<(), StoreError> {
    let mut delete = QueryBuilder::<MySql>::new("DELETE FROM hourly WHERE ");
    among(&mut delete, "series_id", ids, |id| id);
    delete.push(" AND hour >= ").push_bind(from).push(" AND hour < ").push_bind(until);
    delete.build().execute(&mut **tx).await?;
    let mut insert = QueryBuilder::<MySql>::new(
        "INSERT INTO hourly (series_id, hour, count, least, sum, most)
         SELECT series_id, at_ms DIV 3600000 AS of_hour, COUNT(value), MIN(value), SUM(value), MAX(value)
         FROM history WHERE ",
    );
    among(&mut insert, "series_id", ids, |id| id);
    insert.push(" AND at_ms >= ").push_bind(i64::from(from) * HOUR_MS);
    insert.push(" AND at_ms < ").push_bind(i64::from(until) * HOUR_MS);
    insert.push(" AND value IS NOT NULL GROUP BY series_id, of_hour");
    insert.build().execute(&mut **tx).await?;
    Ok(())
}

/// From hours; only days that are whole.
async fn sum_days(tx: &mut Transaction<'_, MySql>, ids: &[SeriesId], from: u32, until: u32) -> Result<(), StoreError> {
    if from >= until {
        return Ok(());
    }
    let mut delete = QueryBuilder::<MySql>::new("DELETE FROM daily WHERE ");
    among(&mut delete, "series_id", ids, |id| id);
    delete.push(" AND day >= ").push_bind(from).push(" AND day < ").push_bind(until);
    delete.build().execute(&mut **tx).await?;
    let mut insert = QueryBuilder::<MySql>::new(
        "INSERT INTO daily (series_id, day, count, least, sum, most)
         SELECT series_id, hour DIV 24 AS of_day, SUM(count), MIN(least), SUM(sum), MAX(most) FROM hourly WHERE ",
    );
    among(&mut insert, "series_id", ids, |id| id);
    insert.push(" AND hour >= ").push_bind(from * DAY_HOURS).push(" AND hour < ").push_bind(until * DAY_HOURS);
    insert.push(" GROUP BY series_id, of_day");
    insert.build().execute(&mut **tx).await?;
    Ok(())
}
