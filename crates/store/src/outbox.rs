//! Downlinks in outboxes.

use api::device::outbox::{OutboxItem, OutboxState};
use chrono::{DateTime, Utc};
use engine::{OutboxId, Wait};
use lorawan::Eui64;
use sqlx::Row as _;
use sqlx::mysql::MySqlRow;
use ulid::Ulid;

use crate::rows::{eui_bytes, json, time_of, timestamp_of, to_json};
use crate::{Store, StoreError};

/// The columns state, note and counter of an engine's state.
pub(crate) fn columns(state: &engine::OutboxState) -> (OutboxState, Option<String>, Option<u32>) {
    use engine::OutboxState as E;
    match state {
        E::Waiting(wait) => (OutboxState::Waiting, Some(short(&wait.to_string())), None),
        E::UnderWay => (OutboxState::UnderWay, None, None),
        E::AwaitingAck(counter) => (OutboxState::AwaitingAck, None, Some(*counter)),
        E::Sent => (OutboxState::Sent, None, None),
        E::Acknowledged => (OutboxState::Acknowledged, None, None),
        E::Failed(why) => (OutboxState::Failed, Some(short(why)), None),
        E::Cancelled => (OutboxState::Cancelled, None, None),
    }
}

/// The longest note that its column holds.
fn short(note: &str) -> String {
    note.chars().take(500).collect()
}

/// The state's word in the database: the same as in the API.
pub(crate) fn state_word(state: OutboxState) -> Result<String, StoreError> {
    Ok(to_json("outbox state", &state)?.trim_matches('"').to_owned())
}

fn state(row: &MySqlRow) -> Result<OutboxState, StoreError> {
    json("outbox state", &format!("\"{}\"", row.try_get::<String, _>("state")?))
}

fn id(row: &MySqlRow) -> Result<Ulid, StoreError> {
    let bytes: Vec<u8> = row.try_get("id")?;
    let bytes =
        <[u8; 16]>::try_from(bytes.as_slice()).map_err(|_| StoreError::unreadable("outbox id", "not 16 bytes"))?;
    Ok(Ulid::from_bytes(bytes))
}

pub(crate) fn read(row: &MySqlRow) -> Result<OutboxItem, StoreError> {
    Ok(OutboxItem {
        id: id(row)?.to_string(),
        port: row.try_get("port")?,
        payload: hex::encode(row.try_get::<Vec<u8>, _>("payload")?),
        confirmed: row.try_get("confirmed")?,
        state: state(row)?,
        note: row.try_get("note")?,
        ahead: None,
        expected_at: None,
        attempts: row.try_get("attempts")?,
        max_attempts: row.try_get("max_attempts")?,
        expires_at: row.try_get("expires_at")?,
        reference: row.try_get("reference")?,
        added_at: row.try_get("added_at")?,
        changed_at: row.try_get("changed_at")?,
    })
}

/// An item as the engine wants it back.
pub(crate) fn for_engine(row: &MySqlRow) -> Result<engine::OutboxItem, StoreError> {
    use engine::OutboxState as E;
    let counter: Option<u32> = row.try_get("counter")?;
    let note: Option<String> = row.try_get("note")?;
    let state = match (state(row)?, counter) {
        (OutboxState::AwaitingAck, Some(counter)) => E::AwaitingAck(counter),
        (OutboxState::UnderWay, _) => E::UnderWay,
        _ if row.try_get::<u8, _>("attempts")? == 0 => E::Waiting(Wait::NextUplink),
        _ => E::Waiting(Wait::Again(note.unwrap_or_default())),
    };
    Ok(engine::OutboxItem {
        id: OutboxId(id(row)?.0),
        port: row.try_get("port")?,
        payload: row.try_get("payload")?,
        confirmed: row.try_get("confirmed")?,
        attempts: row.try_get("attempts")?,
        max_attempts: row.try_get("max_attempts")?,
        expires_at: row.try_get::<Option<DateTime<Utc>>, _>("expires_at")?.map(timestamp_of),
        place: row.try_get("place")?,
        reference: row.try_get("reference")?,
        state,
    })
}

/// After every name: those are ULIDs.
const LAST: [u8; 16] = [0xff; 16];

impl Store {
    /// Adds a downlink to an outbox; the engine is told afterwards.
    pub async fn add_outbox_item(&self, dev_eui: Eui64, item: &engine::OutboxItem) -> Result<OutboxItem, StoreError> {
        let now = Utc::now();
        let id = Ulid(item.id.0);
        let (state, note, _) = columns(&item.state);
        sqlx::query(
            "INSERT INTO outbox (id, dev_eui, place, port, payload, confirmed, state, note, attempts, max_attempts,
             expires_at, reference, added_at, changed_at) VALUES (?, ?, ?, ?, ?, ?, ?, ?, 0, ?, ?, ?, ?, ?)",
        )
        .bind(id.to_bytes().to_vec())
        .bind(eui_bytes(dev_eui))
        .bind(item.place)
        .bind(item.port)
        .bind(&item.payload)
        .bind(item.confirmed)
        .bind(state_word(state)?)
        .bind(&note)
        .bind(item.max_attempts)
        .bind(item.expires_at.map(time_of))
        .bind(&item.reference)
        .bind(now)
        .bind(now)
        .execute(&self.pool)
        .await?;
        Ok(OutboxItem {
            id: id.to_string(),
            port: item.port,
            payload: hex::encode(&item.payload),
            confirmed: item.confirmed,
            state,
            note,
            ahead: None,
            expected_at: None,
            attempts: 0,
            max_attempts: item.max_attempts,
            expires_at: item.expires_at.map(time_of),
            reference: item.reference.clone(),
            added_at: now,
            changed_at: now,
        })
    }

    /// The latest downlink of a device that its sender calls so.
    pub async fn outbox_item_called(&self, dev_eui: Eui64, reference: &str) -> Result<Option<OutboxItem>, StoreError> {
        let called = "SELECT * FROM outbox WHERE dev_eui = ? AND reference = ? ORDER BY id DESC LIMIT 1";
        let row = sqlx::query(called).bind(eui_bytes(dev_eui)).bind(reference).fetch_optional(&self.pool).await?;
        row.as_ref().map(read).transpose()
    }

    /// How many downlinks of a device are not done yet.
    pub async fn outbox_open(&self, dev_eui: Eui64) -> Result<u64, StoreError> {
        let open =
            "SELECT COUNT(*) FROM outbox WHERE dev_eui = ? AND state IN ('waiting', 'under_way', 'awaiting_ack')";
        let count: i64 = sqlx::query_scalar(open).bind(eui_bytes(dev_eui)).fetch_one(&self.pool).await?;
        Ok(count.unsigned_abs())
    }

    /// A device's downlinks, newest first; `before` is the last one of the page before.
    pub async fn outbox(
        &self,
        dev_eui: Eui64,
        before: Option<Ulid>,
        limit: u32,
    ) -> Result<Vec<OutboxItem>, StoreError> {
        let before = before.map_or(LAST, |id| id.to_bytes());
        let rows = sqlx::query("SELECT * FROM outbox WHERE dev_eui = ? AND id < ? ORDER BY id DESC LIMIT ?")
            .bind(eui_bytes(dev_eui))
            .bind(before.to_vec())
            .bind(limit)
            .fetch_all(&self.pool)
            .await?;
        rows.iter().map(read).collect()
    }

    /// The latest failed downlink of a device, among this many of the latest.
    pub async fn last_failed(&self, dev_eui: Eui64, among: u32) -> Result<Option<OutboxItem>, StoreError> {
        let failed = "SELECT * FROM (SELECT * FROM outbox WHERE dev_eui = ? ORDER BY id DESC LIMIT ?) AS newest
             WHERE state = 'failed' ORDER BY id DESC LIMIT 1";
        let row = sqlx::query(failed).bind(eui_bytes(dev_eui)).bind(among).fetch_optional(&self.pool).await?;
        row.as_ref().map(read).transpose()
    }

    /// How many of a device's downlinks wait, and the next one.
    pub async fn next_in_outbox(&self, dev_eui: Eui64) -> Result<Option<(u64, OutboxItem)>, StoreError> {
        let waiting = "SELECT *, COUNT(*) OVER () AS waiting FROM outbox WHERE dev_eui = ? AND state = 'waiting'
             ORDER BY place, id LIMIT 1";
        let row = sqlx::query(waiting).bind(eui_bytes(dev_eui)).fetch_optional(&self.pool).await?;
        row.map(|row| Ok((row.try_get::<i64, _>("waiting")?.unsigned_abs(), read(&row)?))).transpose()
    }

    /// One downlink of a device.
    pub async fn outbox_item(&self, dev_eui: Eui64, id: Ulid) -> Result<Option<OutboxItem>, StoreError> {
        let row = sqlx::query("SELECT * FROM outbox WHERE dev_eui = ? AND id = ?")
            .bind(eui_bytes(dev_eui))
            .bind(id.to_bytes().to_vec())
            .fetch_optional(&self.pool)
            .await?;
        row.as_ref().map(read).transpose()
    }
}
