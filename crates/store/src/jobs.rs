//! Stored uplinks decoded again: the results stand beside the history until all of it is done, and then takes its place
//! in one transaction.

use std::collections::HashMap;

use api::job::{Job, JobState};
use api::message::{Body, Message};
use chrono::{DateTime, Utc};
use lorawan::Eui64;
use sqlx::mysql::MySqlRow;
use sqlx::{Executor, MySql, QueryBuilder, Row as _, Transaction};

use crate::commit::{DecodeFailure, StoredReading, parts};
use crate::history::{HOUR_MS, SeriesId, list_late, list_late_hours};
use crate::readings::{write_failures, write_readings};
use crate::rows::{among, eui_bytes, json, to_json};
use crate::{EstateId, Store, StoreError};

/// Results read back at once.
const PAGE: u32 = 1000;

fn read(row: &MySqlRow) -> Result<(EstateId, Job), StoreError> {
    let state: String = row.try_get("state")?;
    let job = Job {
        id: row.try_get("id")?,
        wanted: json("job", &row.try_get::<String, _>("wanted")?)?,
        state: json("job", &format!("\"{state}\""))?,
        done: row.try_get("done")?,
        total: row.try_get("total")?,
        failed: row.try_get("failed")?,
        note: row.try_get("note")?,
        begun_by: row.try_get("begun_by")?,
        begun_at: row.try_get("begun_at")?,
        ended_at: row.try_get("ended_at")?,
    };
    Ok((row.try_get("estate_id")?, job))
}

impl Store {
    /// Adds a job.
    pub async fn add_job(&self, estate_id: EstateId, job: &Job) -> Result<(), StoreError> {
        sqlx::query(
            "INSERT INTO jobs (id, estate_id, wanted, state, done, total, failed, note, begun_by, begun_at)
             VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
        )
        .bind(&job.id)
        .bind(estate_id)
        .bind(to_json("job", &job.wanted)?)
        .bind(job.state.name())
        .bind(job.done)
        .bind(job.total)
        .bind(job.failed)
        .bind(&job.note)
        .bind(&job.begun_by)
        .bind(job.begun_at)
        .execute(&self.pool)
        .await?;
        Ok(())
    }

    /// An estate's jobs, newest first.
    pub async fn jobs(&self, estate_id: EstateId, before: &str, limit: u32) -> Result<Vec<Job>, StoreError> {
        let rows =
            sqlx::query("SELECT * FROM jobs WHERE estate_id = ? AND (? = '' OR id < ?) ORDER BY id DESC LIMIT ?")
                .bind(estate_id)
                .bind(before)
                .bind(before)
                .bind(limit)
                .fetch_all(&self.pool)
                .await?;
        rows.iter().map(|row| Ok(read(row)?.1)).collect()
    }

    /// One job of an estate.
    pub async fn job(&self, estate_id: EstateId, id: &str) -> Result<Option<Job>, StoreError> {
        let row = sqlx::query("SELECT * FROM jobs WHERE estate_id = ? AND id = ?")
            .bind(estate_id)
            .bind(id)
            .fetch_optional(&self.pool)
            .await?;
        Ok(row.as_ref().map(read).transpose()?.map(|(_, job)| job))
    }

    /// The oldest job that is to be worked on.
    pub async fn next_job(&self) -> Result<Option<(EstateId, Job)>, StoreError> {
        let row = sqlx::query("SELECT * FROM jobs WHERE state = 'running' ORDER BY id LIMIT 1")
            .fetch_optional(&self.pool)
            .await?;
        row.as_ref().map(read).transpose()
    }

    /// Ends a running job without a result; whether there was one.
    pub async fn end_job(
        &self,
        estate_id: EstateId,
        id: &str,
        state: JobState,
        note: &str,
    ) -> Result<bool, StoreError> {
        let mut tx = self.pool.begin().await?;
        let ended = sqlx::query(
            "UPDATE jobs SET state = ?, note = ?, ended_at = ? WHERE estate_id = ? AND id = ? AND state = 'running'",
        )
        .bind(state.name())
        .bind(note.chars().take(500).collect::<String>())
        .bind(Utc::now())
        .bind(estate_id)
        .bind(id)
        .execute(&mut *tx)
        .await?;
        if ended.rows_affected() > 0 {
            sqlx::query("DELETE FROM redecoded WHERE job_id = ?").bind(id).execute(&mut *tx).await?;
        }
        tx.commit().await?;
        Ok(ended.rows_affected() > 0)
    }

    /// How many uplinks of some devices an estate has between two names. Uplinks that an EUI sent in another estate do
    /// not count.
    pub async fn count_uplinks(
        &self,
        estate_id: EstateId,
        devices: &[Eui64],
        from: &str,
        until: &str,
    ) -> Result<u32, StoreError> {
        let mut total = 0i64;
        for part in devices.chunks(256) {
            let mut query = QueryBuilder::<MySql>::new("SELECT COUNT(*) FROM messages WHERE kind = 'uplink' AND ");
            among(&mut query, "dev_eui", part, eui_bytes);
            query.push(" AND estate_id = ").push_bind(estate_id);
            query.push(" AND id >= ").push_bind(from.to_owned()).push(" AND id < ").push_bind(until.to_owned());
            total += query.build_query_scalar::<i64>().fetch_one(&self.pool).await?;
        }
        Ok(u32::try_from(total).unwrap_or(u32::MAX))
    }

    /// Uplinks of one device between two names, oldest first.
    pub async fn uplinks_of(
        &self,
        estate_id: EstateId,
        device: Eui64,
        after: &str,
        until: &str,
        limit: u32,
    ) -> Result<Vec<Message>, StoreError> {
        let rows = sqlx::query(
            "SELECT body FROM messages WHERE dev_eui = ? AND estate_id = ? AND kind = 'uplink' AND id > ? AND id < ?
             ORDER BY id LIMIT ?",
        )
        .bind(eui_bytes(device))
        .bind(estate_id)
        .bind(after)
        .bind(until)
        .bind(limit)
        .fetch_all(&self.pool)
        .await?;
        rows.iter().map(|row| json("message", &row.try_get::<String, _>("body")?)).collect()
    }

    /// The last uplink of a device with readings before a name.
    pub async fn uplink_before(
        &self,
        estate_id: EstateId,
        device: Eui64,
        before: &str,
    ) -> Result<Option<Message>, StoreError> {
        let rows = sqlx::query(
            "SELECT body FROM messages WHERE dev_eui = ? AND estate_id = ? AND kind = 'uplink' AND id < ?
             ORDER BY id DESC LIMIT 20",
        )
        .bind(eui_bytes(device))
        .bind(estate_id)
        .bind(before)
        .fetch_all(&self.pool)
        .await?;
        let mut messages = rows.iter().map(|row| json::<Message>("message", &row.try_get::<String, _>("body")?));
        let has = |message: &Message| matches!(&message.body, Body::Uplink(uplink) if !uplink.readings.is_empty());
        messages.find(|message| message.as_ref().map_or(true, has)).transpose()
    }

    /// The last uplinks of each of some devices, newest first.
    pub async fn last_uplinks(
        &self,
        estate_id: EstateId,
        devices: &[Eui64],
        each: u32,
    ) -> Result<Vec<Message>, StoreError> {
        let mut found = Vec::new();
        for part in devices.chunks(32) {
            let mut query = QueryBuilder::<MySql>::new("");
            for (n, device) in part.iter().enumerate() {
                query.push(if n > 0 { " UNION ALL " } else { "" });
                query.push("(SELECT body FROM messages WHERE dev_eui = ").push_bind(eui_bytes(*device));
                query.push(" AND estate_id = ").push_bind(estate_id);
                query.push(" AND kind = 'uplink' ORDER BY id DESC LIMIT ").push_bind(each).push(")");
            }
            for row in query.build().fetch_all(&self.pool).await? {
                found.push(json::<Message>("message", &row.try_get::<String, _>("body")?)?);
            }
        }
        found.sort_by(|a, b| b.id.cmp(&a.id));
        Ok(found)
    }

    /// A message of an estate by its name.
    pub async fn message(&self, estate_id: EstateId, id: &str) -> Result<Option<Message>, StoreError> {
        let body: Option<String> = sqlx::query_scalar("SELECT body FROM messages WHERE id = ? AND estate_id = ?")
            .bind(id)
            .bind(estate_id)
            .fetch_optional(&self.pool)
            .await?;
        body.map(|body| json("message", &body)).transpose()
    }

    /// Stores results of a job apart, with how far it has come; whether it is still to go on.
    pub async fn put_aside(&self, id: &str, messages: &[Message], job: &Job) -> Result<bool, StoreError> {
        let mut tx = self.pool.begin().await?;
        for part in parts(messages) {
            let bodies: Vec<String> = part.iter().map(|m| to_json("message", m)).collect::<Result<_, _>>()?;
            let mut insert = QueryBuilder::<MySql>::new("REPLACE INTO redecoded (job_id, message_id, body) ");
            insert.push_values(part.iter().zip(&bodies), |mut row, (message, body)| {
                row.push_bind(id.to_owned()).push_bind(message.id.clone()).push_bind(body.clone());
            });
            insert.build().execute(&mut *tx).await?;
        }
        let going = sqlx::query("UPDATE jobs SET done = ?, failed = ? WHERE id = ? AND state = 'running'")
            .bind(job.done)
            .bind(job.failed)
            .bind(id)
            .execute(&mut *tx)
            .await?;
        tx.commit().await?;
        // A row that is the same already is none that was changed.
        let state: Option<String> =
            sqlx::query_scalar("SELECT state FROM jobs WHERE id = ?").bind(id).fetch_optional(&self.pool).await?;
        Ok(going.rows_affected() > 0 || state.as_deref() == Some("running"))
    }

    /// Removes the results of a job so far: it begins again.
    pub async fn begin_again(&self, id: &str) -> Result<(), StoreError> {
        sqlx::query("DELETE FROM redecoded WHERE job_id = ?").bind(id).execute(&self.pool).await?;
        sqlx::query("UPDATE jobs SET done = 0, failed = 0 WHERE id = ?").bind(id).execute(&self.pool).await?;
        Ok(())
    }

    /// Puts the results of a job in the place of what was there: messages, values and what was told of failures.
    /// `found` gives what a decoded message comes to. Whether it was still to be done.
    pub async fn swap_in_results(
        &self,
        id: &str,
        devices: &[Eui64],
        (from, until): (DateTime<Utc>, DateTime<Utc>),
        note: &str,
        found: &impl Fn(&Message) -> (Vec<StoredReading>, Option<DecodeFailure>),
    ) -> Result<bool, StoreError> {
        // Series first, outside of the transaction.
        let mut after = String::new();
        loop {
            let page = results_after(&self.pool, id, &after).await?;
            let Some(last) = page.last() else { break };
            after.clone_from(&last.id);
            let readings: Vec<StoredReading> = page.iter().flat_map(|message| found(message).0).collect();
            self.know_series(&readings).await?;
        }
        let mut series: HashMap<Eui64, Vec<SeriesId>> = HashMap::new();
        for one in self.series_of(devices).await? {
            series.entry(one.dev_eui).or_default().push(one.id);
        }
        let mut tx = self.pool.begin().await?;
        if !end_job(&mut tx, id, note).await? {
            return Ok(false);
        }
        forget_failures(&mut tx, devices, (from, until)).await?;
        let mut after = String::new();
        loop {
            let page = results_after(&mut *tx, id, &after).await?;
            let Some(last) = page.last() else { break };
            after.clone_from(&last.id);
            clear(&mut tx, &series, &page).await?;
            let (readings, failures): (Vec<_>, Vec<_>) = page.iter().map(found).unzip();
            let readings: Vec<StoredReading> = readings.into_iter().flatten().collect();
            let failures: Vec<DecodeFailure> = failures.into_iter().flatten().collect();
            let readings = self.with_series(&readings);
            write_readings(&mut tx, &readings).await?;
            let hours = self.write_history(&mut tx, &readings).await?;
            list_late_hours(&mut tx, hours).await?;
            write_failures(&mut tx, &failures).await?;
        }
        replace_messages(&mut tx, id).await?;
        tx.commit().await?;
        Ok(true)
    }
}

async fn results_after<'c>(
    connection: impl Executor<'c, Database = MySql>,
    id: &str,
    after: &str,
) -> Result<Vec<Message>, StoreError> {
    let rows =
        sqlx::query("SELECT body FROM redecoded WHERE job_id = ? AND message_id > ? ORDER BY message_id LIMIT ?")
            .bind(id)
            .bind(after)
            .bind(PAGE)
            .fetch_all(connection)
            .await?;
    rows.iter().map(|row| json("message", &row.try_get::<String, _>("body")?)).collect()
}

/// Ends a job that is running; whether it was.
async fn end_job(tx: &mut Transaction<'_, MySql>, id: &str, note: &str) -> Result<bool, StoreError> {
    let ended =
        sqlx::query("UPDATE jobs SET state = 'done', note = ?, ended_at = ? WHERE id = ? AND state = 'running'")
            .bind(note.chars().take(500).collect::<String>())
            .bind(Utc::now())
            .bind(id)
            .execute(&mut **tx)
            .await?;
    Ok(ended.rows_affected() > 0)
}

/// Removes the decoding failures of a period.
async fn forget_failures(
    tx: &mut Transaction<'_, MySql>,
    devices: &[Eui64],
    (from, until): (DateTime<Utc>, DateTime<Utc>),
) -> Result<(), StoreError> {
    for part in devices.chunks(256) {
        let mut delete = QueryBuilder::<MySql>::new("DELETE FROM decode_failures WHERE ");
        among(&mut delete, "dev_eui", part, eui_bytes);
        delete.push(" AND first_at >= ").push_bind(from).push(" AND last_at < ").push_bind(until);
        delete.build().execute(&mut **tx).await?;
    }
    Ok(())
}

/// Replaces messages by those of a job.
async fn replace_messages(tx: &mut Transaction<'_, MySql>, id: &str) -> Result<(), StoreError> {
    let statements = [
        "UPDATE messages m JOIN redecoded n ON n.message_id = m.id AND n.job_id = ? SET m.body = n.body",
        "DELETE u FROM undecoded u JOIN redecoded n ON n.message_id = u.message_id AND n.job_id = ?",
        "DELETE FROM redecoded WHERE job_id = ?",
    ];
    for statement in statements {
        sqlx::query(statement).bind(id).execute(&mut **tx).await?;
    }
    Ok(())
}

/// Removes the values of some uplinks, and has their hours summed up again: a reading that is no longer there must not
/// stay.
async fn clear(
    tx: &mut Transaction<'_, MySql>,
    series: &HashMap<Eui64, Vec<SeriesId>>,
    page: &[Message],
) -> Result<(), StoreError> {
    let mut times: HashMap<Eui64, Vec<i64>> = HashMap::new();
    for message in page {
        let Some(device) = &message.device else { continue };
        times.entry(device.eui).or_default().push(message.time.timestamp_millis());
    }
    for (device, times) in &times {
        let ids = series.get(device).map(Vec::as_slice).unwrap_or_default();
        for times in times.chunks(256).filter(|_| !ids.is_empty()) {
            let mut delete = QueryBuilder::<MySql>::new("DELETE FROM history WHERE ");
            among(&mut delete, "series_id", ids, |id| id);
            at_times(&mut delete, " AND at_ms", times);
            delete.build().execute(&mut **tx).await?;
            let mut delete = QueryBuilder::<MySql>::new("DELETE FROM last_readings WHERE dev_eui = ");
            delete.push_bind(eui_bytes(*device));
            at_times(&mut delete, " AND FLOOR(UNIX_TIMESTAMP(time) * 1000)", times);
            delete.build().execute(&mut **tx).await?;
        }
        let mut hours: Vec<u32> = times.iter().map(|ms| u32::try_from(ms.div_euclid(HOUR_MS)).unwrap_or(0)).collect();
        hours.dedup();
        let late: Vec<(SeriesId, u32)> = ids.iter().flat_map(|id| hours.iter().map(|hour| (*id, *hour))).collect();
        list_late(tx, &late).await?;
    }
    Ok(())
}

fn at_times(query: &mut QueryBuilder<MySql>, column: &str, times: &[i64]) {
    query.push(column).push(" IN (");
    let mut list = query.separated(", ");
    let again = times.len().next_power_of_two() - times.len();
    for ms in times.iter().chain(times.last().into_iter().cycle().take(again)) {
        list.push_bind(*ms);
    }
    query.push(")");
}
