//! Removing estates and accounts.

use chrono::Utc;
use sqlx::Row as _;

use crate::{EstateId, PersonId, Store, StoreError};

/// Messages of removed estates deleted in one statement.
const PART: u32 = 5000;

/// What an estate holds besides its people.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Holdings {
    /// Devices.
    pub devices: i64,
    /// Gateways.
    pub gateways: i64,
    /// Multicast groups.
    pub groups: i64,
}

/// Why an account cannot be removed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum KeptFor {
    /// It is the only owner of this estate.
    Estate(String),
    /// Nobody else looks after the installation.
    Installation,
}

impl Store {
    /// What an estate holds.
    pub async fn holdings(&self, estate_id: EstateId) -> Result<Holdings, StoreError> {
        let row = sqlx::query(
            "SELECT (SELECT COUNT(*) FROM devices WHERE estate_id = ?) AS devices,
                (SELECT COUNT(*) FROM gateways WHERE estate_id = ?) AS gateways,
                (SELECT COUNT(*) FROM multicast_groups WHERE estate_id = ?) AS `groups`",
        )
        .bind(estate_id)
        .bind(estate_id)
        .bind(estate_id)
        .fetch_one(&self.pool)
        .await?;
        Ok(Holdings {
            devices: row.try_get("devices")?,
            gateways: row.try_get("gateways")?,
            groups: row.try_get("groups")?,
        })
    }

    /// Removes an estate that holds no devices, gateways and groups any more. Its messages and its survey are deleted afterwards,
    /// a part at a time; its audit log stays. False if it is the only estate.
    pub async fn remove_estate(&self, estate_id: EstateId) -> Result<bool, StoreError> {
        let mut tx = self.pool.begin().await?;
        // Two that remove the last two estates at once must not both succeed.
        let all: Vec<EstateId> = sqlx::query_scalar("SELECT id FROM estates FOR UPDATE").fetch_all(&mut *tx).await?;
        if all.len() < 2 {
            return Ok(false);
        }
        for statement in [
            "DELETE FROM access_tokens WHERE estate_id = ?",
            "DELETE FROM invitations WHERE estate_id = ?",
            "DELETE FROM shares WHERE estate_id = ?",
            "DELETE FROM memberships WHERE estate_id = ?",
            "DELETE FROM jobs WHERE estate_id = ?",
            "DELETE FROM outlets WHERE estate_id = ?",
            "DELETE FROM plans WHERE estate_id = ?",
            "DELETE FROM forecasts WHERE estate_id = ?",
            "DELETE FROM survey_imports WHERE estate_id = ?",
            "DELETE d FROM round_devices d JOIN rounds r ON r.id = d.round_id WHERE r.estate_id = ?",
            "DELETE FROM rounds WHERE estate_id = ?",
            "DELETE FROM gateway_firmware WHERE estate_id = ?",
            "DELETE FROM fleets WHERE estate_id = ?",
            "DELETE FROM models WHERE estate_id = ?",
            "DELETE FROM radio_profiles WHERE estate_id = ?",
            "DELETE FROM catalogue_sources WHERE estate_id = ?",
            "DELETE FROM estates WHERE id = ?",
        ] {
            sqlx::query(statement).bind(estate_id).execute(&mut *tx).await?;
        }
        sqlx::query("REPLACE INTO removed_estates (estate_id, removed_at) VALUES (?, ?)")
            .bind(estate_id)
            .bind(Utc::now())
            .execute(&mut *tx)
            .await?;
        tx.commit().await?;
        Ok(true)
    }

    /// Deletes a part of the messages and the survey of removed estates; how many.
    pub async fn delete_messages_of_removed(&self) -> Result<u64, StoreError> {
        let removed = sqlx::query_scalar("SELECT estate_id FROM removed_estates LIMIT 1");
        let Some(estate_id): Option<EstateId> = removed.fetch_optional(&self.pool).await? else { return Ok(0) };
        let mut deleted = 0;
        for statement in
            ["DELETE FROM messages WHERE estate_id = ? LIMIT ?", "DELETE FROM observations WHERE estate_id = ? LIMIT ?"]
        {
            let done = sqlx::query(statement).bind(estate_id).bind(PART).execute(&self.pool).await?;
            deleted += done.rows_affected();
        }
        if deleted == 0 {
            let done = sqlx::query("DELETE FROM removed_estates WHERE estate_id = ?");
            done.bind(estate_id).execute(&self.pool).await?;
        }
        Ok(deleted)
    }

    /// Removes an account with its sign-ins, tokens, memberships, open invitations and what is shared with it. What it did stays in the audit
    /// log by its name.
    pub async fn remove_account(&self, person: PersonId) -> Result<Result<(), KeptFor>, StoreError> {
        let mut tx = self.pool.begin().await?;
        let owned: Vec<(EstateId, String)> = sqlx::query_as(
            "SELECT e.id, e.slug FROM memberships m JOIN estates e ON e.id = m.estate_id
             WHERE m.person_id = ? AND m.role = 'owner' ORDER BY e.slug FOR UPDATE",
        )
        .bind(person)
        .fetch_all(&mut *tx)
        .await?;
        for (estate, slug) in owned {
            let others: i64 = sqlx::query_scalar(
                "SELECT COUNT(*) FROM memberships WHERE estate_id = ? AND role = 'owner' AND person_id <> ?",
            )
            .bind(estate)
            .bind(person)
            .fetch_one(&mut *tx)
            .await?;
            if others == 0 {
                return Ok(Err(KeptFor::Estate(slug)));
            }
        }
        let keepers: Vec<PersonId> =
            sqlx::query_scalar("SELECT id FROM people WHERE keeps_installation FOR UPDATE").fetch_all(&mut *tx).await?;
        if keepers == [person] {
            return Ok(Err(KeptFor::Installation));
        }
        for statement in [
            "DELETE FROM sign_ins WHERE person_id = ?",
            "DELETE FROM memberships WHERE person_id = ?",
            "DELETE FROM invitations WHERE added_by_id = ?",
            "DELETE FROM people WHERE id = ?",
        ] {
            sqlx::query(statement).bind(person).execute(&mut *tx).await?;
        }
        tx.commit().await?;
        Ok(Ok(()))
    }
}
