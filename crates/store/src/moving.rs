//! Moving a device to another estate.

use lorawan::Eui64;
use sqlx::Row as _;

use crate::rows::eui_bytes;
use crate::{EstateId, Store, StoreError, constraint};

/// What became of a device that moved.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Moved {
    /// Its model in the other estate.
    pub model: Option<String>,
    /// Its radio profile there.
    pub profile: Option<String>,
    /// Shares that ended.
    pub shares: u64,
    /// Tokens that reached this device alone, and ended.
    pub tokens: u64,
    /// Groups that it is a member of no longer.
    pub groups: u64,
    /// Downlinks that waited, and are cancelled.
    pub downlinks: u64,
}

impl Store {
    /// Moves a device with its keys, session and counters. Its messages stay where they were heard; its readings begin anew.
    /// None if there is no such fleet there.
    ///
    /// # Errors
    /// If a device there has its name, or the database does not answer.
    pub async fn move_device(
        &self,
        (from, to): (EstateId, EstateId),
        dev_eui: Eui64,
        fleet: &str,
    ) -> Result<Option<Moved>, StoreError> {
        let eui = eui_bytes(dev_eui);
        let mut tx = self.pool.begin().await?;
        let fleet: Option<u32> = sqlx::query_scalar("SELECT id FROM fleets WHERE estate_id = ? AND slug = ?")
            .bind(to)
            .bind(fleet)
            .fetch_optional(&mut *tx)
            .await?;
        let Some(fleet) = fleet else { return Ok(None) };
        let there = sqlx::query(
            "SELECT m.id AS model_id, m.slug AS model, p.id AS profile_id, p.slug AS profile FROM devices d
             LEFT JOIN models o ON o.id = d.model_id LEFT JOIN models m ON m.estate_id = ? AND m.slug = o.slug
             LEFT JOIN radio_profiles q ON q.id = d.profile_id
             LEFT JOIN radio_profiles p ON p.estate_id = ? AND p.slug = q.slug AND p.region = d.region
             WHERE d.estate_id = ? AND d.dev_eui = ? FOR UPDATE",
        )
        .bind(to)
        .bind(to)
        .bind(from)
        .bind(&eui)
        .fetch_optional(&mut *tx)
        .await?;
        let there = there.ok_or(StoreError::Gone("the device"))?;
        let mut counts = [0; 4];
        for (count, statement) in counts.iter_mut().zip([
            "DELETE FROM shares WHERE dev_eui = ?",
            "DELETE FROM access_tokens WHERE dev_eui = ?",
            "DELETE FROM multicast_members WHERE dev_eui = ?",
            "UPDATE outbox SET state = 'cancelled', note = 'the device moved to another estate'
             WHERE dev_eui = ? AND state IN ('waiting', 'under_way', 'awaiting_ack')",
        ]) {
            *count = sqlx::query(statement).bind(&eui).execute(&mut *tx).await?.rows_affected();
        }
        for statement in [
            "DELETE FROM invitations WHERE dev_eui = ?",
            "DELETE FROM last_readings WHERE dev_eui = ?",
            "DELETE FROM decode_failures WHERE dev_eui = ?",
            "INSERT IGNORE INTO ended_series (id) SELECT id FROM series WHERE dev_eui = ?",
            "DELETE FROM series WHERE dev_eui = ?",
        ] {
            sqlx::query(statement).bind(&eui).execute(&mut *tx).await?;
        }
        let moved = sqlx::query(
            "UPDATE devices SET estate_id = ?, fleet_id = ?, model_id = ?, profile_id = ?
             WHERE estate_id = ? AND dev_eui = ?",
        )
        .bind(to)
        .bind(fleet)
        .bind(there.try_get::<Option<u32>, _>("model_id")?)
        .bind(there.try_get::<Option<u32>, _>("profile_id")?)
        .bind(from)
        .bind(&eui)
        .execute(&mut *tx)
        .await;
        moved.map_err(|error| constraint(error, "a device of that name in the other estate"))?;
        tx.commit().await?;
        self.known.forget(&[dev_eui]);
        let [shares, tokens, groups, downlinks] = counts;
        Ok(Some(Moved {
            model: there.try_get("model")?,
            profile: there.try_get("profile")?,
            shares,
            tokens,
            groups,
            downlinks,
        }))
    }
}
