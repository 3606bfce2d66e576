//! Fleets.

use api::fleet::Fleet;
use chrono::Utc;
use sqlx::Row as _;
use sqlx::mysql::MySqlRow;

use crate::{EstateId, Store, StoreError, constraint};

fn read(row: &MySqlRow) -> Result<Fleet, StoreError> {
    Ok(Fleet {
        slug: row.try_get("slug")?,
        name: row.try_get("name")?,
        devices: row.try_get::<i64, _>("devices")?.unsigned_abs(),
        added_at: row.try_get("added_at")?,
    })
}

impl Store {
    pub async fn add_fleet(&self, estate_id: EstateId, slug: &str, name: &str) -> Result<Fleet, StoreError> {
        let added_at = Utc::now();
        sqlx::query("INSERT INTO fleets (estate_id, slug, name, added_at) VALUES (?, ?, ?, ?)")
            .bind(estate_id)
            .bind(slug)
            .bind(name)
            .bind(added_at)
            .execute(&self.pool)
            .await
            .map_err(|e| constraint(e, "a fleet with that short name"))?;
        Ok(Fleet { slug: slug.into(), name: name.into(), devices: 0, added_at })
    }

    /// A page of an estate's fleets by short name.
    pub async fn fleets(&self, estate_id: EstateId, after: &str, limit: u32) -> Result<Vec<Fleet>, StoreError> {
        let statement =
            "SELECT f.slug, f.name, f.added_at, (SELECT COUNT(*) FROM devices d WHERE d.fleet_id = f.id) AS devices
             FROM fleets f WHERE f.estate_id = ? AND f.slug > ? ORDER BY f.slug LIMIT ?";
        self.page(statement, estate_id, after, limit).await?.iter().map(read).collect()
    }

    pub async fn fleet(&self, estate_id: EstateId, slug: &str) -> Result<Option<Fleet>, StoreError> {
        let row = sqlx::query(
            "SELECT f.slug, f.name, f.added_at, (SELECT COUNT(*) FROM devices d WHERE d.fleet_id = f.id) AS devices
             FROM fleets f WHERE f.estate_id = ? AND f.slug = ?",
        )
        .bind(estate_id)
        .bind(slug)
        .fetch_optional(&self.pool)
        .await?;
        row.as_ref().map(read).transpose()
    }

    /// Whether there was one to remove; one that still has devices stays.
    pub async fn remove_fleet(&self, estate_id: EstateId, slug: &str) -> Result<bool, StoreError> {
        let done = sqlx::query("DELETE FROM fleets WHERE estate_id = ? AND slug = ?")
            .bind(estate_id)
            .bind(slug)
            .execute(&self.pool)
            .await
            .map_err(|e| constraint(e, "the fleet"))?;
        Ok(done.rows_affected() > 0)
    }

    pub(crate) async fn fleet_id(&self, estate_id: EstateId, slug: &str) -> Result<Option<u32>, StoreError> {
        let row: Option<(u32,)> = sqlx::query_as("SELECT id FROM fleets WHERE estate_id = ? AND slug = ?")
            .bind(estate_id)
            .bind(slug)
            .fetch_optional(&self.pool)
            .await?;
        Ok(row.map(|(id,)| id))
    }
}
