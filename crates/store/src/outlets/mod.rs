//! Outlets, their place in the order of commits, and their dead letters.

mod letters;
mod told;

use api::outlet::{OutletSecrets, OutletSettings};
use chrono::{DateTime, Utc};
use lorawan::Eui64;
use serde::{Deserialize, Serialize};
use sqlx::Row as _;
use sqlx::mysql::MySqlRow;

pub use letters::{LetterRow, NewLetter};
pub use told::{MOST_COUNTED, ToldMessage};

use crate::rows::{json, to_json};
use crate::vault::Purpose;
use crate::{EstateId, Store, StoreError, constraint};

/// Names an outlet inside the service.
pub type OutletId = u32;

/// Why an outlet is paused.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Paused {
    /// Since when.
    pub at: DateTime<Utc>,
    /// Who paused it, or what made it pause.
    pub why: String,
}

/// How far an outlet has come in the order of commits.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Progress {
    /// Messages up to this number have been looked at.
    pub position: u64,
    /// Those of them that are still to be delivered.
    pub undone: Vec<u64>,
    /// Those of them that were tried: by number, for how many milliseconds, and how often. Time that the service was away does
    /// not count.
    pub tried: Vec<(u64, u64, u32)>,
}

/// An outlet as it is stored.
#[derive(Debug, Clone)]
pub struct OutletRow {
    /// Its number.
    pub id: OutletId,
    /// Its estate.
    pub estate_id: EstateId,
    /// Its settings.
    pub settings: OutletSettings,
    /// Its secrets.
    pub secrets: OutletSecrets,
    /// Short names that its fleet has had.
    pub former_fleets: Vec<String>,
    /// Whether it is paused, and why.
    pub paused: Option<Paused>,
    /// How far it has come.
    pub progress: Progress,
    /// When it was made.
    pub added_at: DateTime<Utc>,
}

impl Store {
    fn sealed_outlet_secrets(&self, id: OutletId, secrets: &OutletSecrets) -> Result<Vec<u8>, StoreError> {
        let text = zeroize::Zeroizing::new(to_json("secrets", secrets)?);
        Ok(self.vault.seal(Purpose::OutletSecrets, Eui64(id.into()), text.as_bytes())?)
    }

    fn read_outlet(&self, row: &MySqlRow) -> Result<OutletRow, StoreError> {
        let id: OutletId = row.try_get("id")?;
        let secrets = match row.try_get::<Option<Vec<u8>>, _>("secrets_sealed")? {
            Some(sealed) => {
                let opened =
                    zeroize::Zeroizing::new(self.vault.open_any(Purpose::OutletSecrets, Eui64(id.into()), &sealed)?);
                serde_json::from_slice(&opened).map_err(|why| StoreError::unreadable("secrets", why))?
            }
            None => OutletSecrets::default(),
        };
        let paused: Option<String> = row.try_get("paused")?;
        Ok(OutletRow {
            id,
            estate_id: row.try_get("estate_id")?,
            settings: json("settings", &row.try_get::<String, _>("settings")?)?,
            secrets,
            former_fleets: json("former fleets", &row.try_get::<String, _>("former_fleets")?)?,
            paused: paused.map(|text| json("paused", &text)).transpose()?,
            progress: Progress {
                position: row.try_get("position")?,
                undone: json("undone", &row.try_get::<String, _>("undone")?)?,
                tried: json("tried", &row.try_get::<String, _>("tried")?)?,
            },
            added_at: row.try_get("added_at")?,
        })
    }

    /// Adds an outlet that begins after `position`; its number.
    pub async fn add_outlet(
        &self,
        estate_id: EstateId,
        settings: &OutletSettings,
        secrets: &OutletSecrets,
        position: u64,
    ) -> Result<OutletId, StoreError> {
        let mut tx = self.pool.begin().await?;
        let added = sqlx::query(
            "INSERT INTO outlets (estate_id, slug, settings, former_fleets, position, undone, added_at)
             VALUES (?, ?, ?, '[]', ?, '[]', ?)",
        )
        .bind(estate_id)
        .bind(&settings.slug)
        .bind(to_json("settings", settings)?)
        .bind(position)
        .bind(Utc::now())
        .execute(&mut *tx)
        .await
        .map_err(|e| constraint(e, "an outlet with that short name"))?;
        let id = OutletId::try_from(added.last_insert_id()).map_err(|why| StoreError::unreadable("id", why))?;
        // What secrets are bound to is known only now.
        sqlx::query("UPDATE outlets SET secrets_sealed = ? WHERE id = ?")
            .bind(self.sealed_outlet_secrets(id, secrets)?)
            .bind(id)
            .execute(&mut *tx)
            .await?;
        tx.commit().await?;
        Ok(id)
    }

    /// An estate's outlets, by short name.
    pub async fn outlets(&self, estate_id: EstateId) -> Result<Vec<OutletRow>, StoreError> {
        let rows = sqlx::query("SELECT * FROM outlets WHERE estate_id = ? ORDER BY slug").bind(estate_id);
        rows.fetch_all(&self.pool).await?.iter().map(|row| self.read_outlet(row)).collect()
    }

    /// All outlets of all estates, each by itself: one that cannot be read does not hold up the others.
    pub async fn all_outlets(&self) -> Result<Vec<(OutletId, Result<OutletRow, StoreError>)>, StoreError> {
        let rows = sqlx::query("SELECT * FROM outlets ORDER BY id").fetch_all(&self.pool).await?;
        rows.iter().map(|row| Ok((row.try_get("id")?, self.read_outlet(row)))).collect()
    }

    /// One outlet of an estate.
    pub async fn outlet(&self, estate_id: EstateId, slug: &str) -> Result<Option<OutletRow>, StoreError> {
        let row = sqlx::query("SELECT * FROM outlets WHERE estate_id = ? AND slug = ?").bind(estate_id).bind(slug);
        row.fetch_optional(&self.pool).await?.map(|row| self.read_outlet(&row)).transpose()
    }

    /// One outlet.
    pub async fn outlet_by_id(&self, id: OutletId) -> Result<Option<OutletRow>, StoreError> {
        let row = sqlx::query("SELECT * FROM outlets WHERE id = ?").bind(id).fetch_optional(&self.pool).await?;
        row.map(|row| self.read_outlet(&row)).transpose()
    }

    /// Notes that a fleet has another short name: messages that wait have the one of their time.
    pub async fn rename_fleet_of_outlets(&self, row: &OutletRow, after: &str) -> Result<(), StoreError> {
        let mut former = row.former_fleets.clone();
        former.extend(row.settings.fleet.clone().filter(|before| !row.former_fleets.contains(before)));
        let settings = OutletSettings { fleet: Some(after.to_owned()), ..row.settings.clone() };
        self.change_outlet(row.id, &settings, &row.secrets, &former).await
    }

    /// Stores an outlet's settings and secrets; another fleet has no former names.
    pub async fn change_outlet(
        &self,
        id: OutletId,
        settings: &OutletSettings,
        secrets: &OutletSecrets,
        former_fleets: &[String],
    ) -> Result<(), StoreError> {
        sqlx::query("UPDATE outlets SET slug = ?, settings = ?, secrets_sealed = ?, former_fleets = ? WHERE id = ?")
            .bind(&settings.slug)
            .bind(to_json("settings", settings)?)
            .bind(self.sealed_outlet_secrets(id, secrets)?)
            .bind(to_json("former fleets", &former_fleets)?)
            .bind(id)
            .execute(&self.pool)
            .await
            .map_err(|e| constraint(e, "an outlet with that short name"))?;
        Ok(())
    }

    /// Pauses an outlet, or lets it go on.
    pub async fn pause_outlet(&self, id: OutletId, paused: Option<&Paused>) -> Result<(), StoreError> {
        let paused = paused.map(|paused| to_json("paused", paused)).transpose()?;
        let update = sqlx::query("UPDATE outlets SET paused = ? WHERE id = ?").bind(paused).bind(id);
        update.execute(&self.pool).await?;
        Ok(())
    }

    /// Notes how far an outlet has come.
    pub async fn note_progress(&self, id: OutletId, progress: &Progress) -> Result<(), StoreError> {
        sqlx::query("UPDATE outlets SET position = ?, undone = ?, tried = ? WHERE id = ?")
            .bind(progress.position)
            .bind(to_json("undone", &progress.undone)?)
            .bind(to_json("tried", &progress.tried)?)
            .bind(id)
            .execute(&self.pool)
            .await?;
        Ok(())
    }

    /// Removes an outlet with its dead letters; whether there was one.
    pub async fn remove_outlet(&self, id: OutletId) -> Result<bool, StoreError> {
        let done = sqlx::query("DELETE FROM outlets WHERE id = ?").bind(id).execute(&self.pool).await?;
        Ok(done.rows_affected() > 0)
    }
}
