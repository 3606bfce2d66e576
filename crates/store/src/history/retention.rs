//! Retention: adds partitions for coming history, and removes history that has been kept long enough.

use api::fleet::FleetRetention;
use chrono::{DateTime, Datelike as _, Days, Months, NaiveDate, Utc};
use sqlx::{AssertSqlSafe, MySql, QueryBuilder, Row as _};

use crate::history::{HOUR_MS, SeriesId};
use crate::rows::{among, first_name_at};
use crate::{Store, StoreError};

/// Rows removed at a time: others write in between.
const ROWS: u32 = 20_000;
/// Days that messages are kept longer than their fleet keeps them, if an outlet has still to deliver them.
pub const KEPT_FOR_OUTLETS_DAYS: u64 = 30;
/// Series in one statement.
const SERIES: usize = 64;

/// A part of the history's table, up to `until_ms`.
#[derive(Debug, Clone, PartialEq, Eq)]
struct Partition {
    name: String,
    /// None for the last.
    until_ms: Option<i64>,
}

fn month_of(at: DateTime<Utc>) -> NaiveDate {
    at.date_naive().with_day(1).unwrap_or_default()
}

fn begin_ms(date: NaiveDate) -> i64 {
    date.and_hms_opt(0, 0, 0).map_or(0, |time| time.and_utc().timestamp_millis())
}

/// The pieces of a partition from `from_ms` on, split at the beginnings of months; empty if it stays as it is.
fn pieces(partition: &Partition, from_ms: Option<i64>, months: &[NaiveDate]) -> Vec<Partition> {
    let inside = |ms: i64| from_ms.is_none_or(|from| ms > from) && partition.until_ms.is_none_or(|until| ms < until);
    let mut cut = Vec::new();
    let mut begin: Option<NaiveDate> =
        from_ms.and_then(|ms| Some(DateTime::from_timestamp_millis(ms)?.date_naive())).filter(|date| date.day() == 1);
    let name = |begin: Option<NaiveDate>| match begin {
        Some(month) => month.format("m%Y_%m").to_string(),
        None => "earlier".into(),
    };
    for month in months.iter().filter(|month| inside(begin_ms(**month))) {
        cut.push(Partition { name: name(begin), until_ms: Some(begin_ms(*month)) });
        begin = Some(*month);
    }
    if !cut.is_empty() {
        let name = partition.until_ms.map_or_else(|| "later".into(), |_| name(begin));
        cut.push(Partition { name, until_ms: partition.until_ms });
    }
    cut
}

fn written(partition: &Partition) -> String {
    let until = partition.until_ms.map_or_else(|| "MAXVALUE".into(), |ms| format!("({ms})"));
    format!("PARTITION {} VALUES LESS THAN {until}", partition.name)
}

impl Store {
    /// Adds a partition of the history's table for each month from `first` to the one after next.
    pub async fn arrange_months(&self, first: DateTime<Utc>, now: DateTime<Utc>) -> Result<(), StoreError> {
        self.arrange_months_of("history", first, now).await
    }

    /// The same for any table that is partitioned by month.
    pub(crate) async fn arrange_months_of(
        &self,
        table: &'static str,
        first: DateTime<Utc>,
        now: DateTime<Utc>,
    ) -> Result<(), StoreError> {
        let last = month_of(now).checked_add_months(Months::new(3)).unwrap_or_default();
        let months: Vec<NaiveDate> =
            std::iter::successors(Some(month_of(first)), |m| m.checked_add_months(Months::new(1)))
                .take_while(|month| *month <= last)
                .collect();
        let mut from_ms = None;
        for partition in self.partitions(table).await? {
            let cut = pieces(&partition, from_ms, &months);
            if !cut.is_empty() {
                let cut: Vec<String> = cut.iter().map(written).collect();
                let statement =
                    format!("ALTER TABLE {table} REORGANIZE PARTITION {} INTO ({})", partition.name, cut.join(", "));
                sqlx::query(AssertSqlSafe(statement)).execute(&self.pool).await?;
            }
            from_ms = partition.until_ms;
        }
        Ok(())
    }

    async fn partitions(&self, table: &'static str) -> Result<Vec<Partition>, StoreError> {
        let rows = sqlx::query(
            "SELECT PARTITION_NAME, PARTITION_DESCRIPTION FROM information_schema.PARTITIONS
             WHERE TABLE_SCHEMA = DATABASE() AND TABLE_NAME = ? ORDER BY PARTITION_ORDINAL_POSITION",
        )
        .bind(table)
        .fetch_all(&self.pool)
        .await?;
        rows.iter()
            .map(|row| {
                let until: String = row.try_get(1)?;
                Ok(Partition { name: row.try_get(0)?, until_ms: until.parse().ok() })
            })
            .collect()
    }

    /// Removes history that fleets no longer keep, and history of removed devices.
    pub async fn prune(&self, now: DateTime<Utc>) -> Result<(), StoreError> {
        self.drop_months(now).await?;
        for (fleet_id, retention) in self.retentions().await? {
            self.prune_fleet(fleet_id, retention, now).await?;
        }
        let ended: Vec<SeriesId> = sqlx::query_scalar("SELECT id FROM ended_series").fetch_all(&self.pool).await?;
        for part in ended.chunks(SERIES) {
            for table in ["history", "hourly", "daily", "late_hours"] {
                self.take_out(table, part, None).await?;
            }
            let mut delete = QueryBuilder::<MySql>::new("DELETE FROM ended_series WHERE ");
            among(&mut delete, "id", part, |id| id);
            delete.build().execute(&self.pool).await?;
        }
        Ok(())
    }

    async fn retentions(&self) -> Result<Vec<(u32, FleetRetention)>, StoreError> {
        let rows = sqlx::query("SELECT id, keep_values_days, keep_summaries_days, keep_messages_days FROM fleets")
            .fetch_all(&self.pool)
            .await?;
        rows.iter()
            .map(|row| {
                let (values_days, summaries_days) = (row.try_get(1)?, row.try_get(2)?);
                Ok((row.try_get(0)?, FleetRetention { values_days, summaries_days, messages_days: row.try_get(3)? }))
            })
            .collect()
    }

    /// Whole months that no fleet keeps cost nothing to remove.
    async fn drop_months(&self, now: DateTime<Utc>) -> Result<(), StoreError> {
        let longest: Option<Option<i64>> = sqlx::query_scalar(
            "SELECT IF(COUNT(*) = COUNT(keep_values_days), CAST(MAX(keep_values_days) AS SIGNED), NULL) FROM fleets",
        )
        .fetch_optional(&self.pool)
        .await?;
        let Some(days) = longest.flatten().and_then(|days| u64::try_from(days).ok()) else { return Ok(()) };
        let Some(cutoff) = now.checked_sub_days(Days::new(days)) else { return Ok(()) };
        self.drop_months_of("history", cutoff).await
    }

    /// Removes the whole months of a table that ended before `cutoff`.
    pub(crate) async fn drop_months_of(&self, table: &'static str, cutoff: DateTime<Utc>) -> Result<(), StoreError> {
        for partition in self.partitions(table).await? {
            if partition.until_ms.is_some_and(|until| until <= cutoff.timestamp_millis()) {
                let statement = match partition.name.as_str() {
                    // The partition before all months stays.
                    "earlier" => format!("ALTER TABLE {table} TRUNCATE PARTITION earlier"),
                    name => format!("ALTER TABLE {table} DROP PARTITION {name}"),
                };
                sqlx::query(AssertSqlSafe(statement)).execute(&self.pool).await?;
            }
        }
        Ok(())
    }

    async fn prune_fleet(
        &self,
        fleet_id: u32,
        retention: FleetRetention,
        now: DateTime<Utc>,
    ) -> Result<(), StoreError> {
        let before = |days: Option<u32>| days.and_then(|days| now.checked_sub_days(Days::new(u64::from(days))));
        let ids: Vec<SeriesId> = sqlx::query_scalar(
            "SELECT s.id FROM series s JOIN devices d ON d.dev_eui = s.dev_eui WHERE d.fleet_id = ? ORDER BY s.id",
        )
        .bind(fleet_id)
        .fetch_all(&self.pool)
        .await?;
        for part in ids.chunks(SERIES) {
            if let Some(cutoff) = before(retention.values_days) {
                self.take_out("history", part, Some(("at_ms", cutoff.timestamp_millis()))).await?;
            }
            if let Some(cutoff) = before(retention.summaries_days) {
                let hour = cutoff.timestamp_millis().div_euclid(HOUR_MS);
                self.take_out("hourly", part, Some(("hour", hour))).await?;
                self.take_out("daily", part, Some(("day", hour.div_euclid(24)))).await?;
            }
        }
        if let Some(cutoff) = before(retention.messages_days) {
            let oldest = first_name_at(cutoff);
            let (delivered, longest) = (self.delivered(fleet_id).await?, cutoff - Days::new(KEPT_FOR_OUTLETS_DAYS));
            let devices: Vec<Vec<u8>> = sqlx::query_scalar("SELECT dev_eui FROM devices WHERE fleet_id = ?")
                .bind(fleet_id)
                .fetch_all(&self.pool)
                .await?;
            for device in devices {
                loop {
                    let delete = "DELETE FROM messages WHERE dev_eui = ? AND id < ?
                         AND (told IS NULL OR told <= ? OR id < ?) LIMIT ?";
                    let done = sqlx::query(delete)
                        .bind(&device)
                        .bind(&oldest)
                        .bind(delivered)
                        .bind(first_name_at(longest))
                        .bind(ROWS)
                        .execute(&self.pool)
                        .await?;
                    if done.rows_affected() < u64::from(ROWS) {
                        break;
                    }
                }
            }
        }
        Ok(())
    }

    /// The number up to which all outlets of a fleet's estate have delivered.
    async fn delivered(&self, fleet_id: u32) -> Result<u64, StoreError> {
        let least: Option<u64> = sqlx::query_scalar(
            "SELECT MIN(COALESCE(CAST(JSON_VALUE(undone, '$[0]') AS UNSIGNED) - 1, position)) FROM outlets
             WHERE estate_id = (SELECT estate_id FROM fleets WHERE id = ?)",
        )
        .bind(fleet_id)
        .fetch_one(&self.pool)
        .await?;
        Ok(least.unwrap_or(u64::MAX))
    }

    /// Deletes rows of some series, a part at a time.
    async fn take_out(
        &self,
        table: &'static str,
        ids: &[SeriesId],
        before: Option<(&'static str, i64)>,
    ) -> Result<(), StoreError> {
        loop {
            let mut delete = QueryBuilder::<MySql>::new("DELETE FROM ");
            delete.push(table).push(" WHERE ");
            among(&mut delete, "series_id", ids, |id| id);
            if let Some((column, before)) = before {
                delete.push(" AND ").push(column).push(" < ").push_bind(before);
            }
            delete.push(" LIMIT ").push_bind(ROWS);
            if delete.build().execute(&self.pool).await?.rows_affected() < u64::from(ROWS) {
                return Ok(());
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn month(text: &str) -> NaiveDate {
        format!("{text}-01").parse().unwrap()
    }

    #[test]
    fn a_table_is_cut_at_months_and_each_piece_is_named_by_its_own() {
        let months = [month("2026-10"), month("2026-11"), month("2026-12")];
        let whole = Partition { name: "later".into(), until_ms: None };
        let cut = pieces(&whole, None, &months);
        let names: Vec<&str> = cut.iter().map(|piece| piece.name.as_str()).collect();
        assert_eq!(names, ["earlier", "m2026_10", "m2026_11", "later"]);
        assert_eq!(written(&cut[1]), format!("PARTITION m2026_10 VALUES LESS THAN ({})", begin_ms(month("2026-11"))));
        assert_eq!(written(&cut[3]), "PARTITION later VALUES LESS THAN MAXVALUE");
        // Cut again a month later, and for months before.
        let more = [month("2026-09"), month("2026-10"), month("2026-11"), month("2026-12"), month("2027-01")];
        let last = pieces(&cut[3], cut[2].until_ms, &more);
        assert_eq!(last.iter().map(|piece| piece.name.as_str()).collect::<Vec<_>>(), ["m2026_12", "later"]);
        let first = pieces(&cut[0], None, &more);
        assert_eq!(first.iter().map(|piece| piece.name.as_str()).collect::<Vec<_>>(), ["earlier", "m2026_09"]);
        assert!(pieces(&cut[1], cut[0].until_ms, &more).is_empty());
    }
}
