//! Access to estates: memberships, shares, invitations and access tokens.

use api::people::rights::{Right, Role, Scope, ShareLevel};
use api::people::{Invitation, Offer, Share};
use chrono::{DateTime, Utc};
use domain::access::{role_rights, share_rights};
use domain::grants::Grant;
use domain::people::scope_of;
use sqlx::mysql::MySqlRow;
use sqlx::{MySqlConnection, Row as _};

use crate::people::accounts::{PersonId, add_estate, add_person};
use crate::rows::{eui, eui_bytes};
use crate::{EstateId, Store, StoreError};

/// An estate that a person may access.
#[derive(Debug, Clone, PartialEq)]
pub struct Membership {
    /// The estate.
    pub estate_id: EstateId,
    /// The estate's short name.
    pub slug: String,
    /// The estate's name.
    pub name: String,
    /// The role, of a member.
    pub role: Option<Role>,
    /// What is shared.
    pub grants: Vec<Grant>,
}

pub(crate) fn scope(row: &MySqlRow) -> Result<Scope, StoreError> {
    let device: Option<Vec<u8>> = row.try_get("dev_eui")?;
    let device = device.map(|_| eui(row, "dev_eui")).transpose()?;
    Ok(scope_of(row.try_get("fleet")?, device))
}

/// A scope as it is stored: a fleet's number, a device. `None` if the estate does not have it.
pub(crate) async fn stored(
    tx: &mut MySqlConnection,
    estate_id: EstateId,
    scope: &Scope,
) -> Result<Option<(Option<u32>, Option<Vec<u8>>)>, StoreError> {
    Ok(match scope {
        Scope::Estate => Some((None, None)),
        Scope::Fleet(slug) => sqlx::query_scalar("SELECT id FROM fleets WHERE estate_id = ? AND slug = ?")
            .bind(estate_id)
            .bind(slug)
            .fetch_optional(tx)
            .await?
            .map(|id: u32| (Some(id), None)),
        Scope::Device(eui) => sqlx::query_scalar("SELECT dev_eui FROM devices WHERE estate_id = ? AND dev_eui = ?")
            .bind(estate_id)
            .bind(eui_bytes(*eui))
            .fetch_optional(tx)
            .await?
            .map(|bytes: Vec<u8>| (None, Some(bytes))),
    })
}

impl Store {
    /// A person's memberships and shares; in one estate if it is named.
    pub async fn memberships(&self, person: PersonId, estate: Option<&str>) -> Result<Vec<Membership>, StoreError> {
        let rows = sqlx::query(
            "SELECT e.id, e.slug, e.name, m.role, NULL AS may, NULL AS fleet, NULL AS dev_eui, NULL AS until
             FROM memberships m JOIN estates e ON e.id = m.estate_id
             WHERE m.person_id = ? AND (? IS NULL OR e.slug = ?)
             UNION ALL
             SELECT e.id, e.slug, e.name, NULL, s.may, f.slug, s.dev_eui, s.until
             FROM shares s JOIN estates e ON e.id = s.estate_id LEFT JOIN fleets f ON f.id = s.fleet_id
             WHERE s.person_id = ? AND (? IS NULL OR e.slug = ?) AND (s.until IS NULL OR s.until > ?)
             ORDER BY 2",
        )
        .bind(person)
        .bind(estate)
        .bind(estate)
        .bind(person)
        .bind(estate)
        .bind(estate)
        .bind(Utc::now())
        .fetch_all(&self.pool)
        .await?;
        let mut found: Vec<Membership> = Vec::new();
        for row in &rows {
            let estate_id: EstateId = row.try_get("id")?;
            if found.last().is_none_or(|last| last.estate_id != estate_id) {
                let (slug, name) = (row.try_get("slug")?, row.try_get("name")?);
                found.push(Membership { estate_id, slug, name, role: None, grants: Vec::new() });
            }
            let Some(membership) = found.last_mut() else { continue };
            let role: Option<String> = row.try_get("role")?;
            match role.map(|role| role.parse::<Role>()).transpose().map_err(|e| StoreError::unreadable("role", e))? {
                Some(role) => {
                    membership.role = Some(role);
                    membership.grants.push(Grant { rights: role_rights(role), scope: Scope::Estate, until: None });
                }
                None => {
                    let may: String = row.try_get("may")?;
                    let (rights, until) = (share_rights(ShareLevel::of_name(&may)), row.try_get("until")?);
                    membership.grants.push(Grant { rights, scope: scope(row)?, until });
                }
            }
        }
        Ok(found)
    }

    /// What is shared of an estate, by person.
    pub async fn shares(&self, estate_id: EstateId) -> Result<Vec<Share>, StoreError> {
        let rows = sqlx::query(
            "SELECT s.id, p.name AS person, f.slug AS fleet, s.dev_eui, s.may, s.until, s.added_at, s.added_by
             FROM shares s JOIN people p ON p.id = s.person_id LEFT JOIN fleets f ON f.id = s.fleet_id
             WHERE s.estate_id = ? AND (s.until IS NULL OR s.until > ?) ORDER BY p.name, s.id",
        )
        .bind(estate_id)
        .bind(Utc::now())
        .fetch_all(&self.pool)
        .await?;
        rows.iter()
            .map(|row| {
                Ok(Share {
                    id: row.try_get("id")?,
                    person: row.try_get("person")?,
                    scope: scope(row)?,
                    may: ShareLevel::of_name(&row.try_get::<String, _>("may")?),
                    until: row.try_get("until")?,
                    since: row.try_get("added_at")?,
                    by: row.try_get("added_by")?,
                })
            })
            .collect()
    }

    /// Changes a share; returns whether it exists.
    pub async fn change_share(
        &self,
        estate_id: EstateId,
        id: u32,
        may: ShareLevel,
        until: Option<DateTime<Utc>>,
    ) -> Result<bool, StoreError> {
        // Rows that are found but stay the same count as well.
        let done = sqlx::query("UPDATE shares SET may = ?, until = ? WHERE estate_id = ? AND id = ?")
            .bind(may.name())
            .bind(until)
            .bind(estate_id)
            .bind(id)
            .execute(&self.pool)
            .await?;
        Ok(done.rows_affected() > 0)
    }

    /// Ends all of a person's shares in an estate; returns how many.
    pub async fn end_shares_of(&self, estate_id: EstateId, person: PersonId) -> Result<u64, StoreError> {
        let done = sqlx::query("DELETE FROM shares WHERE estate_id = ? AND person_id = ?")
            .bind(estate_id)
            .bind(person)
            .execute(&self.pool)
            .await?;
        Ok(done.rows_affected())
    }

    /// Ends a share; returns whether there was one. Tokens made with it give nothing without it.
    pub async fn end_share(&self, estate_id: EstateId, id: u32) -> Result<bool, StoreError> {
        let done = sqlx::query("DELETE FROM shares WHERE estate_id = ? AND id = ?")
            .bind(estate_id)
            .bind(id)
            .execute(&self.pool)
            .await?;
        Ok(done.rows_affected() > 0)
    }
}

/// A new invitation.
pub struct InvitationToWrite<'a> {
    /// The hash of its code.
    pub code_hash: [u8; 32],
    /// Whom it is for.
    pub for_whom: &'a str,
    /// What it offers.
    pub offer: &'a Offer,
    /// When it expires.
    pub expires_at: DateTime<Utc>,
    /// Who invites: their account and its name.
    pub by: (PersonId, &'a str),
}

const INVITATIONS: &str = "SELECT i.id, i.for_whom, i.role, i.may, f.slug AS fleet, i.dev_eui, i.until, i.expires_at,
        i.added_by, i.added_by_id, i.estate_id, i.fleet_id, e.name AS estate
     FROM invitations i JOIN estates e ON e.id = i.estate_id LEFT JOIN fleets f ON f.id = i.fleet_id";

fn invitation(row: &MySqlRow) -> Result<Invitation, StoreError> {
    let role: Option<String> = row.try_get("role")?;
    let role = role.map(|role| role.parse::<Role>()).transpose().map_err(|e| StoreError::unreadable("role", e))?;
    let offer = match role {
        Some(role) => Offer::Role(role),
        None => {
            let may = ShareLevel::of_name(&row.try_get::<Option<String>, _>("may")?.unwrap_or_default());
            Offer::Share { scope: scope(row)?, may, until: row.try_get("until")? }
        }
    };
    Ok(Invitation {
        id: row.try_get("id")?,
        for_whom: row.try_get("for_whom")?,
        offer,
        expires_at: row.try_get("expires_at")?,
        by: row.try_get("added_by")?,
    })
}

/// Whether who wrote an invitation may still do so: as a member, or to found an estate that has no owner yet.
async fn still_may(
    tx: &mut MySqlConnection,
    estate_id: EstateId,
    written_by: Option<PersonId>,
) -> Result<bool, StoreError> {
    let Some(person) = written_by else { return Ok(false) };
    let role: Option<String> =
        sqlx::query_scalar("SELECT role FROM memberships WHERE estate_id = ? AND person_id = ? LOCK IN SHARE MODE")
            .bind(estate_id)
            .bind(person)
            .fetch_optional(&mut *tx)
            .await?;
    if let Some(role) = role {
        let role: Role = role.parse().map_err(|why| StoreError::unreadable("role", why))?;
        return Ok(role_rights(role).has(Right::People));
    }
    let founds: Option<i32> = sqlx::query_scalar(
        "SELECT 1 FROM people WHERE id = ? AND keeps_installation
         AND NOT EXISTS (SELECT 1 FROM memberships WHERE estate_id = ? AND role = 'owner')",
    )
    .bind(person)
    .bind(estate_id)
    .fetch_optional(&mut *tx)
    .await?;
    Ok(founds.is_some())
}

/// The person who takes an invitation.
pub enum Taker<'a> {
    /// A person with an account.
    Person(PersonId),
    /// A new person, with a name and a password's hash.
    New(&'a str, &'a str),
}

/// An invitation that was taken.
pub struct Taken {
    /// The invitation.
    pub invitation: Invitation,
    /// The estate.
    pub estate_id: EstateId,
    /// The estate's name.
    pub estate: String,
}

async fn write_invitation(
    tx: &mut MySqlConnection,
    estate_id: EstateId,
    new: &InvitationToWrite<'_>,
) -> Result<Option<u32>, StoreError> {
    let (role, may, until, scope) = match new.offer {
        Offer::Role(role) => (Some(role.name()), None, None, &Scope::Estate),
        Offer::Share { scope, may, until } => (None, Some(may.name()), *until, scope),
    };
    let Some((fleet_id, dev_eui)) = stored(tx, estate_id, scope).await? else { return Ok(None) };
    let added = sqlx::query(
        "INSERT INTO invitations (code_hash, estate_id, for_whom, role, fleet_id, dev_eui, may, until, added_at, added_by,
             added_by_id, expires_at) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
    )
    .bind(new.code_hash.to_vec())
    .bind(estate_id)
    .bind(new.for_whom)
    .bind(role)
    .bind(fleet_id)
    .bind(dev_eui)
    .bind(may)
    .bind(until)
    .bind(Utc::now())
    .bind(new.by.1)
    .bind(new.by.0)
    .bind(new.expires_at)
    .execute(tx)
    .await?;
    Ok(u32::try_from(added.last_insert_id()).ok())
}

impl Store {
    /// Creates an invitation and returns its number; `None` if the estate does not have its scope.
    pub async fn add_invitation(
        &self,
        estate_id: EstateId,
        new: &InvitationToWrite<'_>,
    ) -> Result<Option<u32>, StoreError> {
        let mut tx = self.pool.begin().await?;
        sqlx::query("DELETE FROM invitations WHERE expires_at < ?").bind(Utc::now()).execute(&mut *tx).await?;
        let id = write_invitation(&mut tx, estate_id, new).await?;
        tx.commit().await?;
        Ok(id)
    }

    /// Founds an estate with an invitation for its owner.
    pub async fn found_estate(
        &self,
        slug: &str,
        name: &str,
        owner: &InvitationToWrite<'_>,
    ) -> Result<(EstateId, u32), StoreError> {
        let mut tx = self.pool.begin().await?;
        let estate = add_estate(&mut tx, slug, name).await?;
        let invitation = write_invitation(&mut tx, estate, owner).await?.unwrap_or_default();
        tx.commit().await?;
        Ok((estate, invitation))
    }

    /// Every estate: short name, name, owners, when it was founded.
    pub async fn estate_outlines(&self) -> Result<Vec<api::people::EstateOutline>, StoreError> {
        let rows = sqlx::query(
            "SELECT e.slug, e.name, e.added_at, p.name AS owner FROM estates e
             LEFT JOIN memberships m ON m.estate_id = e.id AND m.role = 'owner'
             LEFT JOIN people p ON p.id = m.person_id ORDER BY e.slug, p.name",
        )
        .fetch_all(&self.pool)
        .await?;
        let mut found: Vec<api::people::EstateOutline> = Vec::new();
        for row in &rows {
            let slug: String = row.try_get("slug")?;
            if found.last().is_none_or(|last| last.slug != slug) {
                let (name, added_at) = (row.try_get("name")?, row.try_get("added_at")?);
                found.push(api::people::EstateOutline { slug, name, owners: Vec::new(), added_at });
            }
            if let (Some(last), Some(owner)) = (found.last_mut(), row.try_get::<Option<String>, _>("owner")?) {
                last.owners.push(owner);
            }
        }
        Ok(found)
    }

    /// Open invitations, the one that expires first first.
    pub async fn invitations(&self, estate_id: EstateId) -> Result<Vec<Invitation>, StoreError> {
        let statement = format!("{INVITATIONS} WHERE i.estate_id = ? AND i.expires_at > ? ORDER BY i.expires_at");
        let rows =
            sqlx::query(sqlx::AssertSqlSafe(statement)).bind(estate_id).bind(Utc::now()).fetch_all(&self.pool).await?;
        rows.iter().map(invitation).collect()
    }

    /// Revokes an invitation; returns whether there was one.
    pub async fn withdraw_invitation(&self, estate_id: EstateId, id: u32) -> Result<bool, StoreError> {
        let done = sqlx::query("DELETE FROM invitations WHERE estate_id = ? AND id = ?")
            .bind(estate_id)
            .bind(id)
            .execute(&self.pool)
            .await?;
        Ok(done.rows_affected() > 0)
    }

    /// The invitation with this code, if it can still be taken, and its estate's name.
    pub async fn invitation(&self, code_hash: [u8; 32]) -> Result<Option<(Invitation, String)>, StoreError> {
        let statement = format!("{INVITATIONS} WHERE i.code_hash = ? AND i.expires_at > ?");
        let row = sqlx::query(sqlx::AssertSqlSafe(statement))
            .bind(code_hash.to_vec())
            .bind(Utc::now())
            .fetch_optional(&self.pool)
            .await?;
        row.map(|row| Ok((invitation(&row)?, row.try_get("estate")?))).transpose()
    }

    /// Takes an invitation: removes it and grants what it offers, in one transaction.
    pub async fn take_invitation(&self, code_hash: [u8; 32], taker: Taker<'_>) -> Result<Option<Taken>, StoreError> {
        let mut tx = self.pool.begin().await?;
        let statement = format!("{INVITATIONS} WHERE i.code_hash = ? AND i.expires_at > ? FOR UPDATE");
        let row = sqlx::query(sqlx::AssertSqlSafe(statement))
            .bind(code_hash.to_vec())
            .bind(Utc::now())
            .fetch_optional(&mut *tx)
            .await?;
        let Some(row) = row else { return Ok(None) };
        let (taken, estate_id): (Invitation, EstateId) = (invitation(&row)?, row.try_get("estate_id")?);
        if !still_may(&mut tx, estate_id, row.try_get("added_by_id")?).await? {
            return Ok(None);
        }
        let person = match taker {
            Taker::Person(id) => id,
            Taker::New(name, hash) => add_person(&mut tx, name, hash, false).await?,
        };
        let now = Utc::now();
        match &taken.offer {
            // A person who is a member already gets the role of the invitation.
            Offer::Role(role) => {
                sqlx::query(
                    "INSERT INTO memberships (estate_id, person_id, role, added_at, added_by) VALUES (?, ?, ?, ?, ?)
                     ON DUPLICATE KEY UPDATE role = IF(role = 'owner', role, VALUES(role))",
                )
                .bind(estate_id)
                .bind(person)
                .bind(role.name())
                .bind(now)
                .bind(&taken.by)
                .execute(&mut *tx)
                .await?;
            }
            Offer::Share { may, until, .. } => {
                sqlx::query(
                    "INSERT INTO shares (estate_id, person_id, fleet_id, dev_eui, may, until, added_at, added_by)
                     VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
                )
                .bind(estate_id)
                .bind(person)
                .bind(row.try_get::<Option<u32>, _>("fleet_id")?)
                .bind(row.try_get::<Option<Vec<u8>>, _>("dev_eui")?)
                .bind(may.name())
                .bind(*until)
                .bind(now)
                .bind(&taken.by)
                .execute(&mut *tx)
                .await?;
            }
        }
        sqlx::query("DELETE FROM invitations WHERE id = ?").bind(taken.id).execute(&mut *tx).await?;
        tx.commit().await?;
        Ok(Some(Taken { invitation: taken, estate_id, estate: row.try_get("estate")? }))
    }
}
