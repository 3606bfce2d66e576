//! Fleets.

use api::fleet::{Fleet, FleetRetention, FleetSettings};
use chrono::Utc;
use domain::fleet::limits;
use engine::Policy;
use sqlx::Row as _;
use sqlx::mysql::MySqlRow;

use crate::device_config::policy;
use crate::{EstateId, Store, StoreError, constraint};

fn read(row: &MySqlRow) -> Result<Fleet, StoreError> {
    Ok(Fleet {
        revision: String::new(),
        slug: row.try_get("slug")?,
        name: row.try_get("name")?,
        devices: row.try_get::<i64, _>("devices")?.unsigned_abs(),
        limits: limits(policy(row)?),
        retention: FleetRetention {
            values_days: row.try_get("keep_values_days")?,
            summaries_days: row.try_get("keep_summaries_days")?,
            messages_days: row.try_get("keep_messages_days")?,
        },
        has_default_key: row.try_get::<Option<Vec<u8>>, _>("default_app_key_sealed")?.is_some(),
        added_at: row.try_get("added_at")?,
    })
}

impl Store {
    /// Adds a fleet to an estate.
    pub async fn add_fleet(
        &self,
        estate_id: EstateId,
        slug: &str,
        name: &str,
        policy: Policy,
    ) -> Result<Fleet, StoreError> {
        let added_at = Utc::now();
        let statement = "INSERT INTO fleets (estate_id, slug, name, airtime_a_day_us, downlinks_a_day, added_at)
             VALUES (?, ?, ?, ?, ?, ?)";
        sqlx::query(statement)
            .bind(estate_id)
            .bind(slug)
            .bind(name)
            .bind(policy.airtime_us)
            .bind(policy.downlinks)
            .bind(added_at)
            .execute(&self.pool)
            .await
            .map_err(|e| constraint(e, "a fleet with that short name"))?;
        let limits = limits(policy);
        let retention = FleetRetention::default();
        Ok(Fleet {
            revision: String::new(),
            slug: slug.into(),
            name: name.into(),
            devices: 0,
            limits,
            retention,
            has_default_key: false,
            added_at,
        })
    }

    /// A page of an estate's fleets by short name.
    pub async fn fleets(&self, estate_id: EstateId, after: &str, limit: u32) -> Result<Vec<Fleet>, StoreError> {
        let statement = "SELECT f.*, (SELECT COUNT(*) FROM devices d WHERE d.fleet_id = f.id) AS devices
             FROM fleets f WHERE f.estate_id = ? AND f.slug > ? ORDER BY f.slug LIMIT ?";
        self.page(statement, estate_id, after, limit).await?.iter().map(read).collect()
    }

    /// One fleet of an estate.
    pub async fn fleet(&self, estate_id: EstateId, slug: &str) -> Result<Option<Fleet>, StoreError> {
        let row = sqlx::query(
            "SELECT f.*, (SELECT COUNT(*) FROM devices d WHERE d.fleet_id = f.id) AS devices
             FROM fleets f WHERE f.estate_id = ? AND f.slug = ?",
        )
        .bind(estate_id)
        .bind(slug)
        .fetch_optional(&self.pool)
        .await?;
        row.as_ref().map(read).transpose()
    }

    /// Stores a fleet's settings under the short name it had until now; says whether there is such a fleet.
    pub async fn change_fleet(
        &self,
        estate_id: EstateId,
        before: &str,
        settings: &FleetSettings,
        policy: Policy,
    ) -> Result<bool, StoreError> {
        let retention = settings.retention;
        let statement = "UPDATE fleets SET slug = ?, name = ?, airtime_a_day_us = ?, downlinks_a_day = ?,
             keep_values_days = ?, keep_summaries_days = ?, keep_messages_days = ? WHERE estate_id = ? AND slug = ?";
        sqlx::query(statement)
            .bind(&settings.slug)
            .bind(&settings.name)
            .bind(policy.airtime_us)
            .bind(policy.downlinks)
            .bind(retention.values_days)
            .bind(retention.summaries_days)
            .bind(retention.messages_days)
            .bind(estate_id)
            .bind(before)
            .execute(&self.pool)
            .await
            .map_err(|e| constraint(e, "a fleet with that short name"))?;
        Ok(self.fleet_id(estate_id, &settings.slug).await?.is_some())
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
