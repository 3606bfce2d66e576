//! Accounts, their memberships, and their sign-ins.

use api::people::rights::{Right, Role};
use api::people::{EstateMember, PasswordChanged, SignInRecord};
use chrono::{DateTime, TimeDelta, Utc};
use domain::access::role_rights;
use domain::people::account_key;
use sqlx::mysql::MySqlRow;
use sqlx::{MySqlConnection, Row as _};

use crate::{EstateId, Store, StoreError, constraint};

/// Names an account.
pub type PersonId = u32;

/// How long a source stays known from which an account was signed in to.
const KNOWN_DAYS: i64 = 90;

/// A person's account.
#[derive(Debug, Clone, PartialEq)]
pub struct Person {
    /// Its number.
    pub id: PersonId,
    /// The account's name.
    pub name: String,
    /// Whether this account keeps the installation.
    pub keeps_installation: bool,
    /// Whether it still has the password printed at first start.
    pub given_password: bool,
    /// Whether it signs in with a code as well.
    pub two_step: bool,
}

/// What stays when a password changes.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Kept {
    /// A sign-in.
    pub sign_in: Option<u64>,
    /// All access tokens.
    pub tokens: bool,
}

/// A sign-in that has not ended.
#[derive(Debug, Clone, PartialEq)]
pub struct SignInRow {
    /// Its number.
    pub id: u64,
    /// Its owner.
    pub person: Person,
    /// When it was last used.
    pub last_used: Option<DateTime<Utc>>,
    /// When it expires.
    pub expires_at: DateTime<Utc>,
}

pub(crate) fn person(row: &MySqlRow) -> Result<Person, sqlx::Error> {
    Ok(Person {
        id: row.try_get("person_id")?,
        name: row.try_get("person")?,
        keeps_installation: row.try_get("keeps_installation")?,
        given_password: row.try_get("given_password")?,
        two_step: row.try_get("otp_in_use")?,
    })
}

pub(crate) async fn add_person(
    tx: &mut MySqlConnection,
    name: &str,
    password_hash: &str,
    given: bool,
) -> Result<PersonId, StoreError> {
    let insert = "INSERT INTO people (name, name_key, password_hash, added_at, given_password) VALUES (?, ?, ?, ?, ?)";
    let added = sqlx::query(insert)
        .bind(name)
        .bind(account_key(name))
        .bind(password_hash)
        .bind(Utc::now())
        .bind(given)
        .execute(tx)
        .await
        .map_err(|e| constraint(e, "an account of that name"))?;
    u32::try_from(added.last_insert_id()).map_err(|why| StoreError::unreadable("account", why))
}

pub(crate) async fn add_estate(tx: &mut MySqlConnection, slug: &str, name: &str) -> Result<EstateId, StoreError> {
    let added = sqlx::query("INSERT INTO estates (slug, name, added_at) VALUES (?, ?, ?)")
        .bind(slug)
        .bind(name)
        .bind(Utc::now())
        .execute(tx)
        .await
        .map_err(|e| constraint(e, "an estate of that name"))?;
    u32::try_from(added.last_insert_id()).map_err(|why| StoreError::unreadable("estate", why))
}

/// Locks an estate's owners, so that two of them cannot leave at once, and says whether one is left beside `person`.
async fn another_owner(tx: &mut MySqlConnection, estate_id: EstateId, person: &str) -> Result<bool, StoreError> {
    let owners: Vec<String> = sqlx::query_scalar(
        "SELECT p.name FROM memberships m JOIN people p ON p.id = m.person_id
         WHERE m.estate_id = ? AND m.role = 'owner' FOR UPDATE",
    )
    .bind(estate_id)
    .fetch_all(tx)
    .await?;
    Ok(owners.iter().any(|owner| owner != person))
}

/// A member's role and account, held until the transaction ends.
async fn locked(tx: &mut MySqlConnection, estate_id: EstateId, name: &str) -> Result<Option<MySqlRow>, StoreError> {
    Ok(sqlx::query(
        "SELECT m.role, m.person_id FROM memberships m JOIN people p ON p.id = m.person_id
         WHERE m.estate_id = ? AND p.name = ? FOR UPDATE",
    )
    .bind(estate_id)
    .bind(name)
    .fetch_optional(tx)
    .await?)
}

/// Withdraws what somebody has written of invitations to an estate.
const WITHDRAW_OF: &str = "DELETE FROM invitations WHERE estate_id = ? AND added_by_id = ?";

/// The result of a change of a member.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum MemberChange {
    /// It was done.
    Done,
    /// There is no such member.
    Nobody,
    /// The role was not the one that the caller saw.
    Otherwise(Role),
    /// An estate keeps an owner.
    LastOwner,
}

fn role(row: &MySqlRow) -> Result<Role, StoreError> {
    row.try_get::<String, _>("role")?.parse().map_err(|why| StoreError::unreadable("role", why))
}

impl Store {
    /// Whether nobody has an account yet: the first start.
    pub async fn nobody_yet(&self) -> Result<bool, StoreError> {
        let (count,): (i64,) = sqlx::query_as("SELECT COUNT(*) FROM people").fetch_one(&self.pool).await?;
        Ok(count == 0)
    }

    /// Makes the first estate together with its owner, who keeps the installation as well.
    pub async fn found_first(
        &self,
        slug: &str,
        name: &str,
        owner: &str,
        password_hash: &str,
    ) -> Result<(), StoreError> {
        let mut tx = self.pool.begin().await?;
        let estate = add_estate(&mut tx, slug, name).await?;
        let person = add_person(&mut tx, owner, password_hash, true).await?;
        sqlx::query("UPDATE people SET keeps_installation = TRUE WHERE id = ?").bind(person).execute(&mut *tx).await?;
        sqlx::query("INSERT INTO memberships (estate_id, person_id, role, added_at) VALUES (?, ?, 'owner', ?)")
            .bind(estate)
            .bind(person)
            .bind(Utc::now())
            .execute(&mut *tx)
            .await?;
        tx.commit().await?;
        Ok(())
    }

    /// The person of that name, whatever its case, with the hash of the password.
    pub async fn person(&self, name: &str) -> Result<Option<(Person, String)>, StoreError> {
        let row = sqlx::query(
            "SELECT id AS person_id, name AS person, keeps_installation, given_password, otp_in_use, password_hash
             FROM people WHERE name_key IN (?, ?) ORDER BY name_key = ? DESC LIMIT 1",
        )
        // An account that is older than the form of names may have another one.
        .bind(account_key(name))
        .bind(name.trim().to_lowercase())
        .bind(account_key(name))
        .fetch_optional(&self.pool)
        .await?;
        Ok(row.map(|row| Ok::<_, sqlx::Error>((person(&row)?, row.try_get("password_hash")?))).transpose()?)
    }

    /// Whether an account still has the password that the service made at the first start, or for a reset.
    pub async fn given_passwords(&self) -> Result<Vec<String>, StoreError> {
        Ok(sqlx::query_scalar("SELECT name FROM people WHERE given_password ORDER BY name")
            .fetch_all(&self.pool)
            .await?)
    }

    /// Sets a password. All sign-ins end but the one that is kept, and all access tokens unless they are kept.
    pub async fn set_password(
        &self,
        id: PersonId,
        (password_hash, given): (&str, bool),
        keep: Kept,
    ) -> Result<PasswordChanged, StoreError> {
        let mut tx = self.pool.begin().await?;
        sqlx::query("UPDATE people SET password_hash = ?, given_password = ? WHERE id = ?")
            .bind(password_hash)
            .bind(given)
            .bind(id)
            .execute(&mut *tx)
            .await?;
        let ended = sqlx::query("DELETE FROM sign_ins WHERE person_id = ? AND id <> ?")
            .bind(id)
            .bind(keep.sign_in.unwrap_or(0))
            .execute(&mut *tx)
            .await?;
        let mut changed = PasswordChanged { sign_ins_ended: ended.rows_affected(), tokens_ended: 0 };
        if !keep.tokens {
            let ended = sqlx::query("DELETE FROM access_tokens WHERE person_id = ?").bind(id).execute(&mut *tx).await?;
            changed.tokens_ended = ended.rows_affected();
        }
        tx.commit().await?;
        Ok(changed)
    }

    /// Adds a sign-in, by the hash of its token.
    pub async fn add_sign_in(
        &self,
        token_hash: [u8; 32],
        person_id: PersonId,
        expires_at: DateTime<Utc>,
        (address, program): (&str, &str),
    ) -> Result<(), StoreError> {
        let now = Utc::now();
        sqlx::query("DELETE FROM sign_ins WHERE expires_at < ?").bind(now).execute(&self.pool).await?;
        sqlx::query(
            "INSERT INTO sign_ins (token_hash, person_id, added_at, expires_at, last_used, address, program)
             VALUES (?, ?, ?, ?, ?, ?, ?)",
        )
        .bind(token_hash.to_vec())
        .bind(person_id)
        .bind(now)
        .bind(expires_at)
        .bind(now)
        .bind(address)
        .bind(program)
        .execute(&self.pool)
        .await?;
        sqlx::query(
            "INSERT INTO known_sources (person_id, address, last_used) VALUES (?, ?, ?)
             ON DUPLICATE KEY UPDATE last_used = VALUES(last_used)",
        )
        .bind(person_id)
        .bind(address)
        .bind(now)
        .execute(&self.pool)
        .await?;
        Ok(())
    }

    /// Whether an account has been signed in to from this source; nobody's has not.
    pub async fn knows_source(&self, person: Option<PersonId>, address: &str) -> Result<bool, StoreError> {
        let found: Option<i32> =
            sqlx::query_scalar("SELECT 1 FROM known_sources WHERE person_id = ? AND address = ? AND last_used > ?")
                .bind(person.unwrap_or_default())
                .bind(address)
                .bind(Utc::now() - TimeDelta::days(KNOWN_DAYS))
                .fetch_optional(&self.pool)
                .await?;
        Ok(found.is_some())
    }

    /// The sign-in with this token, if it has not ended.
    pub async fn signed_in(&self, token_hash: [u8; 32]) -> Result<Option<SignInRow>, StoreError> {
        let row = sqlx::query(
            "SELECT s.id, s.last_used, s.expires_at, p.id AS person_id, p.name AS person, p.keeps_installation,
                    p.given_password, p.otp_in_use
             FROM sign_ins s JOIN people p ON p.id = s.person_id WHERE s.token_hash = ? AND s.expires_at > ?",
        )
        .bind(token_hash.to_vec())
        .bind(Utc::now())
        .fetch_optional(&self.pool)
        .await?;
        Ok(row
            .map(|row| {
                Ok::<_, sqlx::Error>(SignInRow {
                    id: row.try_get("id")?,
                    person: person(&row)?,
                    last_used: row.try_get("last_used")?,
                    expires_at: row.try_get("expires_at")?,
                })
            })
            .transpose()?)
    }

    /// Notes that a sign-in was used, and from where.
    pub async fn note_sign_in_used(&self, id: u64, address: &str) -> Result<(), StoreError> {
        sqlx::query("UPDATE sign_ins SET last_used = ?, address = ? WHERE id = ?")
            .bind(Utc::now())
            .bind(address)
            .bind(id)
            .execute(&self.pool)
            .await?;
        Ok(())
    }

    /// A person's sign-ins, the one used last first.
    pub async fn sign_ins_of(&self, person_id: PersonId, this: u64) -> Result<Vec<SignInRecord>, StoreError> {
        let rows = sqlx::query(
            "SELECT id, added_at, expires_at, COALESCE(last_used, added_at) AS used, address, program FROM sign_ins
             WHERE person_id = ? AND expires_at > ? ORDER BY used DESC",
        )
        .bind(person_id)
        .bind(Utc::now())
        .fetch_all(&self.pool)
        .await?;
        rows.iter()
            .map(|row| {
                let id: u64 = row.try_get("id")?;
                Ok(SignInRecord {
                    id: id.to_string(),
                    since: row.try_get("added_at")?,
                    expires_at: row.try_get("expires_at")?,
                    last_used: row.try_get("used")?,
                    address: row.try_get("address")?,
                    program: row.try_get("program")?,
                    this_one: id == this,
                })
            })
            .collect()
    }

    /// Ends one of a person's sign-ins; says whether there was one.
    pub async fn end_sign_in(&self, person_id: PersonId, id: u64) -> Result<bool, StoreError> {
        let done = sqlx::query("DELETE FROM sign_ins WHERE person_id = ? AND id = ?")
            .bind(person_id)
            .bind(id)
            .execute(&self.pool)
            .await?;
        Ok(done.rows_affected() > 0)
    }

    /// Ends all of a person's sign-ins but one.
    pub async fn end_other_sign_ins(&self, person_id: PersonId, keep: u64) -> Result<u64, StoreError> {
        let done = sqlx::query("DELETE FROM sign_ins WHERE person_id = ? AND id <> ?")
            .bind(person_id)
            .bind(keep)
            .execute(&self.pool)
            .await?;
        Ok(done.rows_affected())
    }
}

/// Members of an estate.
impl Store {
    /// The members of an estate.
    pub async fn members(&self, estate_id: EstateId) -> Result<Vec<EstateMember>, StoreError> {
        let rows = sqlx::query(
            "SELECT p.name, m.role, COALESCE(m.added_at, p.added_at) AS since, m.added_by, p.otp_in_use,
                    (SELECT MAX(s.last_used) FROM sign_ins s WHERE s.person_id = p.id) AS seen
             FROM memberships m JOIN people p ON p.id = m.person_id WHERE m.estate_id = ? ORDER BY p.name",
        )
        .bind(estate_id)
        .fetch_all(&self.pool)
        .await?;
        rows.iter()
            .map(|row| {
                Ok(EstateMember {
                    name: row.try_get("name")?,
                    role: role(row)?,
                    since: row.try_get("since")?,
                    by: row.try_get("added_by")?,
                    two_step: row.try_get("otp_in_use")?,
                    last_seen: row.try_get("seen")?,
                })
            })
            .collect()
    }

    /// Changes a member's role, if the old one is still the expected one.
    pub async fn change_member(
        &self,
        estate_id: EstateId,
        name: &str,
        to: Role,
        was: Option<Role>,
    ) -> Result<MemberChange, StoreError> {
        let mut tx = self.pool.begin().await?;
        let another = another_owner(&mut tx, estate_id, name).await?;
        let row = locked(&mut tx, estate_id, name).await?;
        let Some(row) = row else { return Ok(MemberChange::Nobody) };
        let now = role(&row)?;
        if was.is_some_and(|was| was != now) {
            return Ok(MemberChange::Otherwise(now));
        }
        if now == Role::Owner && to != Role::Owner && !another {
            return Ok(MemberChange::LastOwner);
        }
        let person: PersonId = row.try_get("person_id")?;
        sqlx::query("UPDATE memberships SET role = ? WHERE estate_id = ? AND person_id = ?")
            .bind(to.name())
            .bind(estate_id)
            .bind(person)
            .execute(&mut *tx)
            .await?;
        // Who may not invite any more must not come back to it by an invitation of their own.
        if !role_rights(to).has(Right::People) {
            sqlx::query(WITHDRAW_OF).bind(estate_id).bind(person).execute(&mut *tx).await?;
        }
        tx.commit().await?;
        Ok(MemberChange::Done)
    }

    /// Removes a member; what they made stays. Their tokens in this estate and the invitations that they wrote end.
    pub async fn remove_member(&self, estate_id: EstateId, name: &str) -> Result<MemberChange, StoreError> {
        let mut tx = self.pool.begin().await?;
        let another = another_owner(&mut tx, estate_id, name).await?;
        let row = locked(&mut tx, estate_id, name).await?;
        let Some(row) = row else { return Ok(MemberChange::Nobody) };
        if role(&row)? == Role::Owner && !another {
            return Ok(MemberChange::LastOwner);
        }
        let person: PersonId = row.try_get("person_id")?;
        for statement in [
            "DELETE FROM memberships WHERE estate_id = ? AND person_id = ?",
            "DELETE FROM access_tokens WHERE estate_id = ? AND person_id = ?",
            WITHDRAW_OF,
        ] {
            sqlx::query(statement).bind(estate_id).bind(person).execute(&mut *tx).await?;
        }
        tx.commit().await?;
        Ok(MemberChange::Done)
    }
}

impl Store {
    /// Number and short name of every estate.
    pub async fn estates(&self) -> Result<Vec<(EstateId, String)>, StoreError> {
        Ok(sqlx::query_as("SELECT id, slug FROM estates").fetch_all(&self.pool).await?)
    }
}
