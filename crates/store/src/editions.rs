//! Editions of models, and uplinks that their decoders could not read.

use api::model::PutModel;
use api::model::edition::{Edition, WholeEdition};
use chrono::{DateTime, Utc};
use domain::model::catalogue::differences;
use lorawan::Eui64;
use sqlx::mysql::MySqlRow;
use sqlx::{MySqlConnection, Row as _};

use crate::rows::{eui, json, to_json};
use crate::{EstateId, Store, StoreError};

/// Editions kept of a model.
const KEPT: u32 = 200;

/// Who saves a model, and what for.
#[derive(Debug, Clone, Copy)]
pub struct Saved<'a> {
    /// Who saves it.
    pub by: &'a str,
    /// The reason given.
    pub note: &'a str,
}

/// Uplinks of a device that its model's decoder could not read.
#[derive(Debug, Clone)]
pub struct FailureRow {
    /// The device's DevEUI.
    pub dev_eui: Eui64,
    /// The device's name.
    pub device: String,
    /// The model.
    pub model: String,
    /// How many failed.
    pub failures: u32,
    /// The first message of them.
    pub first_message: String,
    /// When the first came.
    pub first_at: DateTime<Utc>,
    /// When the last came.
    pub last_at: DateTime<Utc>,
    /// Why the last one failed.
    pub why: String,
}

fn read(row: &MySqlRow) -> Result<WholeEdition, StoreError> {
    let edition = Edition {
        number: row.try_get("number")?,
        saved_by: row.try_get("saved_by")?,
        saved_at: row.try_get("saved_at")?,
        note: row.try_get("note")?,
        flaw: row.try_get("flaw")?,
        changed: Vec::new(),
    };
    Ok(WholeEdition { edition, about: json("edition", &row.try_get::<String, _>("about")?)? })
}

/// Adds an edition, unless nothing has changed. What was failures of the one before is none of this.
pub(crate) async fn add(
    connection: &mut MySqlConnection,
    model_id: u32,
    about: &PutModel,
    flaw: Option<&str>,
    saved: Saved<'_>,
    at: DateTime<Utc>,
) -> Result<(), StoreError> {
    let last = sqlx::query("SELECT * FROM model_editions WHERE model_id = ? ORDER BY number DESC LIMIT 1")
        .bind(model_id)
        .fetch_optional(&mut *connection)
        .await?;
    let last = last.as_ref().map(read).transpose()?;
    if last.as_ref().is_some_and(|last| last.about == *about && last.edition.flaw.as_deref() == flaw) {
        return Ok(());
    }
    let number = last.map_or(0, |last| last.edition.number) + 1;
    sqlx::query(
        "INSERT INTO model_editions (model_id, number, about, flaw, note, saved_by, saved_at) VALUES (?, ?, ?, ?, ?, ?, ?)",
    )
    .bind(model_id)
    .bind(number)
    .bind(to_json("edition", about)?)
    .bind(flaw)
    .bind(saved.note.chars().take(300).collect::<String>())
    .bind(saved.by)
    .bind(at)
    .execute(&mut *connection)
    .await?;
    sqlx::query("DELETE FROM model_editions WHERE model_id = ? AND number + ? <= ?")
        .bind(model_id)
        .bind(KEPT)
        .bind(number)
        .execute(&mut *connection)
        .await?;
    sqlx::query(
        "DELETE f FROM decode_failures f JOIN devices d ON d.dev_eui = f.dev_eui JOIN models m ON m.estate_id = d.estate_id
         AND m.slug = f.model WHERE m.id = ?",
    )
    .bind(model_id)
    .execute(&mut *connection)
    .await?;
    Ok(())
}

impl Store {
    /// A page of a model's editions, newest first; `before` is the last of the page before.
    pub async fn editions(
        &self,
        estate_id: EstateId,
        slug: &str,
        before: u32,
        limit: u32,
    ) -> Result<Vec<Edition>, StoreError> {
        let rows = sqlx::query(
            "SELECT e.* FROM model_editions e JOIN models m ON m.id = e.model_id
             WHERE m.estate_id = ? AND m.slug = ? AND e.number < ? ORDER BY e.number DESC LIMIT ?",
        )
        .bind(estate_id)
        .bind(slug)
        .bind(before)
        // One more, to compare the last with.
        .bind(limit + 1)
        .fetch_all(&self.pool)
        .await?;
        let whole: Vec<WholeEdition> = rows.iter().map(read).collect::<Result<_, _>>()?;
        let told = whole.iter().enumerate().take(limit as usize).map(|(at, one)| {
            let changed = whole.get(at + 1).map(|older| differences(&older.about, &one.about)).unwrap_or_default();
            Edition { changed, ..one.edition.clone() }
        });
        Ok(told.collect())
    }

    /// One edition of a model.
    pub async fn edition(
        &self,
        estate_id: EstateId,
        slug: &str,
        number: u32,
    ) -> Result<Option<WholeEdition>, StoreError> {
        let row = sqlx::query(
            "SELECT e.* FROM model_editions e JOIN models m ON m.id = e.model_id
             WHERE m.estate_id = ? AND m.slug = ? AND e.number = ?",
        )
        .bind(estate_id)
        .bind(slug)
        .bind(number)
        .fetch_optional(&self.pool)
        .await?;
        row.as_ref().map(read).transpose()
    }

    /// Uplinks that decoders of an estate's models could not read, those with the most first.
    pub async fn decode_failures(&self, estate_id: EstateId) -> Result<Vec<FailureRow>, StoreError> {
        let rows = sqlx::query(
            "SELECT f.*, d.name FROM decode_failures f JOIN devices d ON d.dev_eui = f.dev_eui
             WHERE d.estate_id = ? ORDER BY f.failures DESC, d.name LIMIT 1000",
        )
        .bind(estate_id)
        .fetch_all(&self.pool)
        .await?;
        rows.iter()
            .map(|row| {
                Ok(FailureRow {
                    dev_eui: eui(row, "dev_eui")?,
                    device: row.try_get("name")?,
                    model: row.try_get("model")?,
                    failures: row.try_get("failures")?,
                    first_message: row.try_get("first_message")?,
                    first_at: row.try_get("first_at")?,
                    last_at: row.try_get("last_at")?,
                    why: row.try_get("why")?,
                })
            })
            .collect()
    }
}
