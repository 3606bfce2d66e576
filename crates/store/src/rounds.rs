//! Rounds: one downlink for each of many devices.

use api::device::outbox::{NewOutboxItem, OutboxState};
use api::device::round::{NewRound, Round, RoundDevice, RoundState};
use chrono::{DateTime, Utc};
use lorawan::Eui64;
use sqlx::mysql::MySqlRow;
use sqlx::{MySql, QueryBuilder, Row as _};
use ulid::Ulid;

use crate::rows::{eui, eui_bytes, json, to_json};
use crate::{EstateId, Store, StoreError};

/// Devices written in one statement.
const PART: usize = 500;

/// A device of a round that is to begin: what it is sent, or why nothing.
#[derive(Debug, Clone, PartialEq)]
pub struct PlannedDownlink {
    /// The device.
    pub dev_eui: Eui64,
    /// When its turn is.
    pub due_at: DateTime<Utc>,
    /// FPort and payload, or why it cannot be sent it.
    pub downlink: Result<(u8, Vec<u8>), String>,
}

/// A downlink whose turn has come.
#[derive(Debug, Clone, PartialEq)]
pub struct DueDownlink {
    /// The estate.
    pub estate_id: EstateId,
    /// The name of the round.
    pub round: String,
    /// What was asked for.
    pub wanted: NewOutboxItem,
    /// The device.
    pub dev_eui: Eui64,
    /// FPort.
    pub port: u8,
    /// The payload.
    pub payload: Vec<u8>,
}

/// A round, with its devices counted by what became of them.
const SELECT: &str = "SELECT r.*,
    (SELECT COUNT(*) FROM round_devices d WHERE d.round_id = r.id) AS devices,
    (SELECT COUNT(*) FROM round_devices d WHERE d.round_id = r.id AND d.outbox_id IS NULL AND d.why IS NULL) AS planned,
    (SELECT COUNT(*) FROM round_devices d JOIN outbox o ON o.id = d.outbox_id
        WHERE d.round_id = r.id AND o.state IN ('waiting', 'under_way', 'awaiting_ack')) AS open,
    (SELECT COUNT(*) FROM round_devices d JOIN outbox o ON o.id = d.outbox_id
        WHERE d.round_id = r.id AND o.state IN ('sent', 'acknowledged')) AS done
    FROM rounds r ";

fn read(row: &MySqlRow) -> Result<Round, StoreError> {
    let state: String = row.try_get("state")?;
    let count = |column: &str| -> Result<u32, StoreError> {
        Ok(u32::try_from(row.try_get::<i64, _>(column)?).unwrap_or(u32::MAX))
    };
    let (devices, planned, open, done) = (count("devices")?, count("planned")?, count("open")?, count("done")?);
    Ok(Round {
        id: row.try_get("id")?,
        wanted: json("round", &row.try_get::<String, _>("wanted")?)?,
        over_s: row.try_get("over_s")?,
        state: json("round", &format!("\"{state}\""))?,
        devices,
        planned,
        open,
        done,
        // The rest: refused, given up, cancelled, or removed with the device.
        failed: devices.saturating_sub(planned).saturating_sub(open).saturating_sub(done),
        begun_by: row.try_get("begun_by")?,
        begun_at: row.try_get("begun_at")?,
        ended_at: row.try_get("ended_at")?,
    })
}

impl Store {
    /// Adds a round with its devices.
    pub async fn add_round(
        &self,
        estate_id: EstateId,
        round: &Round,
        devices: &[PlannedDownlink],
    ) -> Result<(), StoreError> {
        let mut tx = self.pool.begin().await?;
        sqlx::query(
            "INSERT INTO rounds (id, estate_id, wanted, over_s, state, begun_by, begun_at) VALUES (?, ?, ?, ?, ?, ?, ?)",
        )
        .bind(&round.id)
        .bind(estate_id)
        .bind(to_json("round", &round.wanted)?)
        .bind(round.over_s)
        .bind(round.state.name())
        .bind(&round.begun_by)
        .bind(round.begun_at)
        .execute(&mut *tx)
        .await?;
        for part in devices.chunks(PART) {
            let mut insert = QueryBuilder::<MySql>::new(
                "INSERT INTO round_devices (round_id, dev_eui, due_at, port, payload, why) ",
            );
            insert.push_values(part, |mut row, device| {
                let (sent, why) = match &device.downlink {
                    Ok((port, payload)) => (Some((*port, payload.clone())), None),
                    Err(why) => (None, Some(why.chars().take(500).collect::<String>())),
                };
                let (port, payload) = sent.unzip();
                row.push_bind(&round.id).push_bind(eui_bytes(device.dev_eui)).push_bind(device.due_at);
                row.push_bind(port).push_bind(payload).push_bind(why);
            });
            insert.build().execute(&mut *tx).await?;
        }
        tx.commit().await?;
        Ok(())
    }

    /// An estate's rounds, newest first.
    pub async fn rounds(&self, estate_id: EstateId, before: &str, limit: u32) -> Result<Vec<Round>, StoreError> {
        let mut query = QueryBuilder::<MySql>::new(SELECT);
        query.push("WHERE r.estate_id = ").push_bind(estate_id);
        if !before.is_empty() {
            query.push(" AND r.id < ").push_bind(before.to_owned());
        }
        query.push(" ORDER BY r.id DESC LIMIT ").push_bind(limit);
        let rows = query.build().fetch_all(&self.pool).await?;
        rows.iter().map(read).collect()
    }

    /// One round of an estate.
    pub async fn round(&self, estate_id: EstateId, id: &str) -> Result<Option<Round>, StoreError> {
        let mut query = QueryBuilder::<MySql>::new(SELECT);
        query.push("WHERE r.estate_id = ").push_bind(estate_id).push(" AND r.id = ").push_bind(id.to_owned());
        let row = query.build().fetch_optional(&self.pool).await?;
        row.as_ref().map(read).transpose()
    }

    /// Devices of a round by DevEUI, with what became of them.
    pub async fn round_devices(
        &self,
        estate_id: EstateId,
        id: &str,
        after: Option<Eui64>,
        limit: u32,
    ) -> Result<Vec<RoundDevice>, StoreError> {
        let mut query = QueryBuilder::<MySql>::new(
            "SELECT d.dev_eui, d.due_at, d.outbox_id, d.why, v.name, o.state, o.note FROM round_devices d
             JOIN rounds r ON r.id = d.round_id LEFT JOIN outbox o ON o.id = d.outbox_id
             LEFT JOIN devices v ON v.dev_eui = d.dev_eui AND v.estate_id = r.estate_id WHERE r.estate_id = ",
        );
        query.push_bind(estate_id).push(" AND d.round_id = ").push_bind(id.to_owned());
        if let Some(after) = after {
            query.push(" AND d.dev_eui > ").push_bind(eui_bytes(after));
        }
        query.push(" ORDER BY d.dev_eui LIMIT ").push_bind(limit);
        query.build().fetch_all(&self.pool).await?.iter().map(read_device).collect()
    }

    /// Downlinks of running rounds whose turn has come, the earliest first.
    pub async fn due_downlinks(&self, now: DateTime<Utc>, limit: u32) -> Result<Vec<DueDownlink>, StoreError> {
        let running = sqlx::query("SELECT id, estate_id, wanted FROM rounds WHERE state = 'running' ORDER BY id");
        let mut due = Vec::new();
        for row in &running.fetch_all(&self.pool).await? {
            let (estate_id, round): (EstateId, String) = (row.try_get("estate_id")?, row.try_get("id")?);
            let wanted: NewRound = json("round", &row.try_get::<String, _>("wanted")?)?;
            let devices = sqlx::query(
                "SELECT dev_eui, port, payload FROM round_devices
                 WHERE round_id = ? AND outbox_id IS NULL AND why IS NULL AND due_at <= ? ORDER BY due_at LIMIT ?",
            )
            .bind(&round)
            .bind(now)
            .bind(limit)
            .fetch_all(&self.pool)
            .await?;
            for device in &devices {
                due.push(DueDownlink {
                    estate_id,
                    round: round.clone(),
                    wanted: wanted.downlink.clone(),
                    dev_eui: eui(device, "dev_eui")?,
                    port: device.try_get::<Option<u8>, _>("port")?.unwrap_or_default(),
                    payload: device.try_get::<Option<Vec<u8>>, _>("payload")?.unwrap_or_default(),
                });
            }
        }
        Ok(due)
    }

    /// Notes that a device's downlink is in its outbox, or why it is not.
    pub async fn settle_round_device(
        &self,
        round: &str,
        dev_eui: Eui64,
        outcome: Result<Ulid, &str>,
    ) -> Result<(), StoreError> {
        let (outbox_id, why) = match outcome {
            Ok(id) => (Some(id.to_bytes().to_vec()), None),
            Err(why) => (None, Some(why.chars().take(500).collect::<String>())),
        };
        sqlx::query("UPDATE round_devices SET outbox_id = ?, why = ? WHERE round_id = ? AND dev_eui = ?")
            .bind(outbox_id)
            .bind(why)
            .bind(round)
            .bind(eui_bytes(dev_eui))
            .execute(&self.pool)
            .await?;
        Ok(())
    }

    /// Ends rounds in which each device has its outcome.
    pub async fn end_rounds(&self, now: DateTime<Utc>) -> Result<u64, StoreError> {
        let ended = sqlx::query(
            "UPDATE rounds r SET r.state = 'done', r.ended_at = ? WHERE r.state = 'running'
             AND NOT EXISTS (SELECT 1 FROM round_devices d LEFT JOIN outbox o ON o.id = d.outbox_id
                WHERE d.round_id = r.id AND ((d.outbox_id IS NULL AND d.why IS NULL)
                    OR o.state IN ('waiting', 'under_way', 'awaiting_ack')))",
        )
        .bind(now)
        .execute(&self.pool)
        .await?;
        Ok(ended.rows_affected())
    }

    /// Whether a round is running.
    pub async fn a_round_runs(&self) -> Result<bool, StoreError> {
        let running = sqlx::query("SELECT 1 FROM rounds WHERE state = 'running' LIMIT 1");
        Ok(running.fetch_optional(&self.pool).await?.is_some())
    }

    /// Stops a running round, and tells which of its downlinks still wait in outboxes; nothing if it is not running.
    pub async fn cancel_round(&self, estate_id: EstateId, id: &str) -> Result<Option<Vec<(Eui64, Ulid)>>, StoreError> {
        let mut tx = self.pool.begin().await?;
        let stopped = sqlx::query(
            "UPDATE rounds SET state = ?, ended_at = ? WHERE estate_id = ? AND id = ? AND state = 'running'",
        )
        .bind(RoundState::Cancelled.name())
        .bind(Utc::now())
        .bind(estate_id)
        .bind(id)
        .execute(&mut *tx)
        .await?;
        if stopped.rows_affected() == 0 {
            return Ok(None);
        }
        sqlx::query("UPDATE round_devices SET why = 'the round was stopped' WHERE round_id = ? AND outbox_id IS NULL AND why IS NULL")
            .bind(id)
            .execute(&mut *tx)
            .await?;
        let open = sqlx::query(
            "SELECT d.dev_eui, d.outbox_id FROM round_devices d JOIN outbox o ON o.id = d.outbox_id
             WHERE d.round_id = ? AND o.state = 'waiting'",
        )
        .bind(id)
        .fetch_all(&mut *tx)
        .await?;
        tx.commit().await?;
        let open = open.iter().map(|row| Ok((eui(row, "dev_eui")?, outbox_id(row)?.unwrap_or_default())));
        open.collect::<Result<_, StoreError>>().map(Some)
    }
}

fn outbox_id(row: &MySqlRow) -> Result<Option<Ulid>, StoreError> {
    let bytes: Option<Vec<u8>> = row.try_get("outbox_id")?;
    let bytes = bytes.map(|bytes| <[u8; 16]>::try_from(bytes.as_slice()));
    let bytes = bytes.transpose().map_err(|_| StoreError::unreadable("outbox id", "not 16 bytes"))?;
    Ok(bytes.map(Ulid::from_bytes))
}

fn read_device(row: &MySqlRow) -> Result<RoundDevice, StoreError> {
    let dev_eui = eui(row, "dev_eui")?;
    let state: Option<String> = row.try_get("state")?;
    let state: Option<OutboxState> = state.map(|state| json("outbox state", &format!("\"{state}\""))).transpose()?;
    let why: Option<String> = row.try_get("why")?;
    let outbox_id = outbox_id(row)?;
    let gone = || {
        (outbox_id.is_some() && state.is_none())
            .then(|| "it did not reach the outbox, or was removed with it".to_owned())
    };
    Ok(RoundDevice {
        dev_eui,
        name: row.try_get::<Option<String>, _>("name")?.unwrap_or_else(|| dev_eui.to_string()),
        due_at: row.try_get("due_at")?,
        state,
        note: why.or(row.try_get("note")?).or_else(gone),
        outbox_id: outbox_id.map(|id| id.to_string()),
    })
}
