//! Radio profiles.

use api::radio::profile::{PutProfile, StoredProfile};
use chrono::Utc;
use sqlx::Row as _;
use sqlx::mysql::MySqlRow;

use crate::rows::{json, region, to_json};
use crate::{EstateId, Store, StoreError, constraint};

fn read(row: &MySqlRow) -> Result<StoredProfile, StoreError> {
    Ok(StoredProfile {
        revision: String::new(),
        slug: row.try_get("slug")?,
        name: row.try_get("name")?,
        region: region(row)?,
        radio: json("radio settings", &row.try_get::<String, _>("radio")?)?,
        devices: row.try_get::<i64, _>("devices")?.unsigned_abs(),
        changed_at: row.try_get("changed_at")?,
    })
}

impl Store {
    /// An estate's radio profiles, by short name.
    pub async fn radio_profiles(
        &self,
        estate_id: EstateId,
        after: &str,
        limit: u32,
    ) -> Result<Vec<StoredProfile>, StoreError> {
        let statement = "SELECT p.*, (SELECT COUNT(*) FROM devices d WHERE d.profile_id = p.id) AS devices
             FROM radio_profiles p WHERE p.estate_id = ? AND p.slug > ? ORDER BY p.slug LIMIT ?";
        self.page(statement, estate_id, after, limit).await?.iter().map(read).collect()
    }

    /// One radio profile of an estate.
    pub async fn radio_profile(&self, estate_id: EstateId, slug: &str) -> Result<Option<StoredProfile>, StoreError> {
        let statement = "SELECT p.*, (SELECT COUNT(*) FROM devices d WHERE d.profile_id = p.id) AS devices
             FROM radio_profiles p WHERE p.estate_id = ? AND p.slug = ?";
        let row = sqlx::query(statement).bind(estate_id).bind(slug).fetch_optional(&self.pool).await?;
        row.as_ref().map(read).transpose()
    }

    /// Adds a radio profile or replaces it. Its devices follow.
    pub async fn put_radio_profile(
        &self,
        estate_id: EstateId,
        slug: &str,
        profile: &PutProfile,
    ) -> Result<(), StoreError> {
        let mut tx = self.pool.begin().await?;
        sqlx::query(
            "INSERT INTO radio_profiles (estate_id, slug, name, region, radio, changed_at) VALUES (?, ?, ?, ?, ?, ?)
             ON DUPLICATE KEY UPDATE name = VALUES(name), region = VALUES(region), radio = VALUES(radio),
             changed_at = VALUES(changed_at)",
        )
        .bind(estate_id)
        .bind(slug)
        .bind(&profile.name)
        .bind(profile.region.name())
        .bind(to_json("radio settings", &profile.radio)?)
        .bind(Utc::now())
        .execute(&mut *tx)
        .await?;
        sqlx::query(
            "UPDATE devices d JOIN radio_profiles p ON p.id = d.profile_id SET d.region = p.region
             WHERE p.estate_id = ? AND p.slug = ?",
        )
        .bind(estate_id)
        .bind(slug)
        .execute(&mut *tx)
        .await?;
        tx.commit().await?;
        Ok(())
    }

    /// Removes a profile that no device uses; returns whether there was one.
    pub async fn remove_radio_profile(&self, estate_id: EstateId, slug: &str) -> Result<bool, StoreError> {
        let done = sqlx::query("DELETE FROM radio_profiles WHERE estate_id = ? AND slug = ?")
            .bind(estate_id)
            .bind(slug)
            .execute(&self.pool)
            .await
            .map_err(|e| constraint(e, "the radio profile"))?;
        Ok(done.rows_affected() > 0)
    }
}
