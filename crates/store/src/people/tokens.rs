//! Access tokens: what they allow, and when they were used.

use api::people::rights::Scope;
use api::people::token::AccessToken;
use chrono::{DateTime, Utc};
use domain::access::Rights;
use sqlx::Row as _;
use sqlx::mysql::MySqlRow;

use crate::people::access::{scope, stored};
use crate::people::accounts::{Person, PersonId};
use crate::{EstateId, Store, StoreError, constraint};

/// An access token as it is checked.
#[derive(Debug, Clone, PartialEq)]
pub struct TokenRow {
    /// Its number.
    pub id: u32,
    /// Its name.
    pub name: String,
    /// The estate it is for.
    pub estate_id: EstateId,
    /// The rights.
    pub rights: Rights,
    /// The scope.
    pub scope: Scope,
    /// When it expires.
    pub expires_at: Option<DateTime<Utc>>,
    /// When it was last used.
    pub last_used: Option<DateTime<Utc>>,
    /// Who made it.
    pub person: Person,
}

const TOKENS: &str = "SELECT t.id, t.name, t.estate_id, t.rights, f.slug AS fleet, t.dev_eui, t.added_at, t.expires_at,
        t.last_used, t.last_from, t.person_id, p.name AS person, p.keeps_installation, p.given_password, p.otp_in_use
     FROM access_tokens t JOIN people p ON p.id = t.person_id LEFT JOIN fleets f ON f.id = t.fleet_id";

fn shown(row: &MySqlRow) -> Result<AccessToken, StoreError> {
    Ok(AccessToken {
        id: row.try_get("id")?,
        name: row.try_get("name")?,
        by: row.try_get("person")?,
        rights: Rights::of_names(&row.try_get::<String, _>("rights")?).iter().collect(),
        scope: scope(row)?,
        since: row.try_get("added_at")?,
        expires_at: row.try_get("expires_at")?,
        last_used: row.try_get("last_used")?,
        last_from: row.try_get("last_from")?,
    })
}

/// An access token as it is made.
pub struct TokenToMake<'a> {
    /// The hash of its secret.
    pub secret_hash: [u8; 32],
    /// Its name.
    pub name: &'a str,
    /// The rights.
    pub rights: Rights,
    /// The scope.
    pub scope: &'a Scope,
    /// When it expires.
    pub expires_at: Option<DateTime<Utc>>,
}

impl Store {
    /// Makes a token and returns its number; `None` if the estate does not have its scope.
    pub async fn add_token(
        &self,
        estate_id: EstateId,
        by: PersonId,
        new: &TokenToMake<'_>,
    ) -> Result<Option<u32>, StoreError> {
        let mut tx = self.pool.begin().await?;
        let Some((fleet_id, dev_eui)) = stored(&mut tx, estate_id, new.scope).await? else { return Ok(None) };
        let added = sqlx::query(
            "INSERT INTO access_tokens (secret_hash, estate_id, person_id, name, rights, fleet_id, dev_eui, added_at,
                 expires_at) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)",
        )
        .bind(new.secret_hash.to_vec())
        .bind(estate_id)
        .bind(by)
        .bind(new.name)
        .bind(new.rights.names())
        .bind(fleet_id)
        .bind(dev_eui)
        .bind(Utc::now())
        .bind(new.expires_at)
        .execute(&mut *tx)
        .await
        .map_err(|e| constraint(e, "a token like that"))?;
        tx.commit().await?;
        Ok(u32::try_from(added.last_insert_id()).ok())
    }

    /// An estate's tokens, by name; those of one person if one is named.
    pub async fn tokens(&self, estate_id: EstateId, of: Option<PersonId>) -> Result<Vec<AccessToken>, StoreError> {
        let statement =
            format!("{TOKENS} WHERE t.estate_id = ? AND (? IS NULL OR t.person_id = ?) ORDER BY t.name, t.id");
        let rows =
            sqlx::query(sqlx::AssertSqlSafe(statement)).bind(estate_id).bind(of).bind(of).fetch_all(&self.pool).await?;
        rows.iter().map(shown).collect()
    }

    /// Revokes a token; returns whether there was one. Only those of one person if one is named.
    pub async fn revoke_token(&self, estate_id: EstateId, id: u32, of: Option<PersonId>) -> Result<bool, StoreError> {
        let done =
            sqlx::query("DELETE FROM access_tokens WHERE estate_id = ? AND id = ? AND (? IS NULL OR person_id = ?)")
                .bind(estate_id)
                .bind(id)
                .bind(of)
                .bind(of)
                .execute(&self.pool)
                .await?;
        Ok(done.rows_affected() > 0)
    }

    /// The token with this secret, if it has not ended.
    pub async fn access_token(&self, secret_hash: [u8; 32]) -> Result<Option<TokenRow>, StoreError> {
        let statement = format!("{TOKENS} WHERE t.secret_hash = ? AND (t.expires_at IS NULL OR t.expires_at > ?)");
        let row = sqlx::query(sqlx::AssertSqlSafe(statement))
            .bind(secret_hash.to_vec())
            .bind(Utc::now())
            .fetch_optional(&self.pool)
            .await?;
        row.map(|row| {
            Ok(TokenRow {
                id: row.try_get("id")?,
                name: row.try_get("name")?,
                estate_id: row.try_get("estate_id")?,
                rights: Rights::of_names(&row.try_get::<String, _>("rights")?),
                scope: scope(&row)?,
                expires_at: row.try_get("expires_at")?,
                last_used: row.try_get("last_used")?,
                person: crate::people::accounts::person(&row)?,
            })
        })
        .transpose()
    }

    /// Notes that a token was used, and from where.
    pub async fn note_token_used(&self, id: u32, address: &str) -> Result<(), StoreError> {
        sqlx::query("UPDATE access_tokens SET last_used = ?, last_from = ? WHERE id = ?")
            .bind(Utc::now())
            .bind(address)
            .bind(id)
            .execute(&self.pool)
            .await?;
        Ok(())
    }
}
