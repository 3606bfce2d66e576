//! People, what they belong to, and their sign-ins.

use chrono::{DateTime, Utc};
use sqlx::Row as _;

use crate::{EstateId, Store, StoreError, constraint};

/// A person's account.
#[derive(Debug, Clone)]
pub struct Person {
    pub id: u32,
    pub name: String,
}

/// An estate a person belongs to.
#[derive(Debug, Clone)]
pub struct Membership {
    pub estate_id: EstateId,
    pub slug: String,
    pub name: String,
    pub role: String,
}

impl Store {
    /// Whether nobody has an account yet: the first start.
    pub async fn nobody_yet(&self) -> Result<bool, StoreError> {
        let (count,): (i64,) = sqlx::query_as("SELECT COUNT(*) FROM people").fetch_one(&self.pool).await?;
        Ok(count == 0)
    }

    /// Makes the first estate together with its owner.
    pub async fn found_estate(
        &self,
        slug: &str,
        name: &str,
        owner: &str,
        password_hash: &str,
    ) -> Result<(), StoreError> {
        let mut tx = self.pool.begin().await?;
        let now = Utc::now();
        let estate = sqlx::query("INSERT INTO estates (slug, name, added_at) VALUES (?, ?, ?)")
            .bind(slug)
            .bind(name)
            .bind(now)
            .execute(&mut *tx)
            .await
            .map_err(|e| constraint(e, "an estate of that name"))?
            .last_insert_id();
        let person = sqlx::query("INSERT INTO people (name, password_hash, added_at) VALUES (?, ?, ?)")
            .bind(owner)
            .bind(password_hash)
            .bind(now)
            .execute(&mut *tx)
            .await
            .map_err(|e| constraint(e, "an account of that name"))?
            .last_insert_id();
        sqlx::query("INSERT INTO memberships (estate_id, person_id, role) VALUES (?, ?, 'owner')")
            .bind(estate)
            .bind(person)
            .execute(&mut *tx)
            .await?;
        tx.commit().await?;
        Ok(())
    }

    /// The person of that name, with the hash of the password.
    pub async fn person(&self, name: &str) -> Result<Option<(Person, String)>, StoreError> {
        let row: Option<(u32, String, String)> =
            sqlx::query_as("SELECT id, name, password_hash FROM people WHERE name = ?")
                .bind(name)
                .fetch_optional(&self.pool)
                .await?;
        Ok(row.map(|(id, name, hash)| (Person { id, name }, hash)))
    }

    pub async fn memberships(&self, person_id: u32) -> Result<Vec<Membership>, StoreError> {
        let rows = sqlx::query(
            "SELECT e.id, e.slug, e.name, m.role FROM memberships m JOIN estates e ON e.id = m.estate_id
             WHERE m.person_id = ? ORDER BY e.slug",
        )
        .bind(person_id)
        .fetch_all(&self.pool)
        .await?;
        rows.into_iter()
            .map(|r| {
                Ok(Membership {
                    estate_id: r.try_get(0)?,
                    slug: r.try_get(1)?,
                    name: r.try_get(2)?,
                    role: r.try_get(3)?,
                })
            })
            .collect()
    }

    pub async fn add_sign_in(
        &self,
        token_hash: [u8; 32],
        person_id: u32,
        expires_at: DateTime<Utc>,
    ) -> Result<(), StoreError> {
        let now = Utc::now();
        sqlx::query("DELETE FROM sign_ins WHERE expires_at < ?").bind(now).execute(&self.pool).await?;
        sqlx::query("INSERT INTO sign_ins (token_hash, person_id, added_at, expires_at) VALUES (?, ?, ?, ?)")
            .bind(token_hash.to_vec())
            .bind(person_id)
            .bind(now)
            .bind(expires_at)
            .execute(&self.pool)
            .await?;
        Ok(())
    }

    /// Who holds a token that has not ended.
    pub async fn signed_in(&self, token_hash: [u8; 32]) -> Result<Option<Person>, StoreError> {
        let row: Option<(u32, String)> = sqlx::query_as(
            "SELECT p.id, p.name FROM sign_ins s JOIN people p ON p.id = s.person_id
             WHERE s.token_hash = ? AND s.expires_at > ?",
        )
        .bind(token_hash.to_vec())
        .bind(Utc::now())
        .fetch_optional(&self.pool)
        .await?;
        Ok(row.map(|(id, name)| Person { id, name }))
    }

    pub async fn end_sign_in(&self, token_hash: [u8; 32]) -> Result<(), StoreError> {
        sqlx::query("DELETE FROM sign_ins WHERE token_hash = ?").bind(token_hash.to_vec()).execute(&self.pool).await?;
        Ok(())
    }
}

impl Store {
    /// Number and short name of every estate.
    pub async fn estates(&self) -> Result<Vec<(EstateId, String)>, StoreError> {
        Ok(sqlx::query_as("SELECT id, slug FROM estates").fetch_all(&self.pool).await?)
    }
}
