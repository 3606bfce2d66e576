//! Sealing every secret again, under another master key.

use lorawan::Eui64;
use sqlx::mysql::MySqlArguments;
use sqlx::query::Query;
use sqlx::{AssertSqlSafe, MySql, Row as _};

use crate::vault::Purpose;
use crate::{Store, StoreError};

/// Rows read at a time.
const ROWS: u32 = 500;

/// A column of sealed secrets.
struct Sealed {
    table: &'static str,
    column: &'static str,
    purpose: Purpose,
    /// The column that names what a secret is bound to; it is a row's key, or the first part of it.
    owner: Owner,
    /// The second part of a row's key, if it has one.
    also: Option<&'static str>,
}

#[derive(Clone, Copy)]
enum Owner {
    Eui(&'static str),
    Number(&'static str),
}

/// Every secret that is sealed in the database.
const ALL: [Sealed; 8] = [
    sealed("devices", "app_key_sealed", Purpose::AppKey, Owner::Eui("dev_eui"), None),
    sealed("devices", "nwk_key_sealed", Purpose::NwkKey, Owner::Eui("dev_eui"), None),
    sealed("devices", "personal_keys_sealed", Purpose::PersonalKeys, Owner::Eui("dev_eui"), None),
    sealed("sessions", "keys_sealed", Purpose::SessionKeys, Owner::Eui("dev_eui"), Some("stage")),
    sealed("multicast_groups", "keys_sealed", Purpose::GroupKeys, Owner::Eui("group_eui"), None),
    sealed("fleets", "default_app_key_sealed", Purpose::FleetKey, Owner::Number("id"), None),
    sealed("people", "otp_sealed", Purpose::OneTimeCodes, Owner::Number("id"), None),
    sealed("outlets", "secrets_sealed", Purpose::OutletSecrets, Owner::Number("id"), None),
];

const fn sealed(
    table: &'static str,
    column: &'static str,
    purpose: Purpose,
    owner: Owner,
    also: Option<&'static str>,
) -> Sealed {
    Sealed { table, column, purpose, owner, also }
}

/// Binds a row's key in its column's type.
fn named<'q>(query: Query<'q, MySql, MySqlArguments>, owner: u64, is_eui: bool) -> Query<'q, MySql, MySqlArguments> {
    if is_eui { query.bind(owner.to_be_bytes().to_vec()) } else { query.bind(owner) }
}

/// Whether this master key is the one that the database's secrets are sealed under.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Secrets {
    /// Secrets that were tried.
    pub tried: u64,
    /// Those of them that open.
    pub open: u64,
}

/// Secrets of each kind that are tried.
const TRIED: u32 = 20;

impl Store {
    /// Tries some secrets of each kind.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn secrets(&self) -> Result<Secrets, StoreError> {
        let mut secrets = Secrets::default();
        for Sealed { table, column, purpose, owner, .. } in &ALL {
            let owner = match owner {
                Owner::Eui(key) => format!("CONV(HEX({key}), 16, 10)"),
                Owner::Number(key) => (*key).to_owned(),
            };
            let select = format!(
                "SELECT CAST({owner} AS UNSIGNED), {column} FROM {table} WHERE {column} IS NOT NULL LIMIT {TRIED}"
            );
            for row in sqlx::query(AssertSqlSafe(select)).fetch_all(&self.pool).await? {
                let (owner, sealed): (u64, Vec<u8>) = (row.try_get(0)?, row.try_get(1)?);
                secrets.tried += 1;
                secrets.open += u64::from(self.vault.opens(*purpose, Eui64(owner), &sealed));
            }
        }
        Ok(secrets)
    }

    /// Seals all secrets under the newest master key, in small transactions; returns how many were sealed under the one
    /// before. It can be interrupted and begun again. With `most`, it ends after that many.
    pub async fn reseal(&self, most: Option<u64>) -> Result<u64, StoreError> {
        // Kept answers are good for a day, and are not sealed again.
        sqlx::query("DELETE FROM idempotency").execute(&self.pool).await?;
        let mut done = 0;
        for of in &ALL {
            done += self.reseal_column(of, most.map(|most| most.saturating_sub(done))).await?;
        }
        Ok(done)
    }

    async fn reseal_column(&self, of: &Sealed, most: Option<u64>) -> Result<u64, StoreError> {
        let Sealed { table, column, .. } = of;
        let (key, is_eui) = match of.owner {
            Owner::Eui(key) => (key, true),
            Owner::Number(key) => (key, false),
        };
        let bytes = if is_eui { format!("CONV(HEX({key}), 16, 10)") } else { key.to_owned() };
        let also = of.also.unwrap_or("''");
        let select = format!(
            "SELECT CAST({bytes} AS UNSIGNED) AS owner, CAST({also} AS CHAR) AS also, {column} AS sealed FROM {table}
             WHERE {column} IS NOT NULL AND {key} >= ? ORDER BY {key}, 2 LIMIT ?"
        );
        let same = of.also.map_or_else(String::new, |also| format!(" AND {also} = ?"));
        let update = format!("UPDATE {table} SET {column} = ? WHERE {key} = ? AND {column} = ?{same}");
        let (mut from, mut done) = (0u64, 0);
        loop {
            let rows = named(sqlx::query(AssertSqlSafe(select.clone())), from, is_eui);
            let rows = rows.bind(ROWS).fetch_all(&self.pool).await?;
            let mut tx = self.pool.begin().await?;
            let mut last = from;
            for row in &rows {
                let (owner, old): (u64, Vec<u8>) = (row.try_get("owner")?, row.try_get("sealed")?);
                last = owner;
                if most.is_some_and(|most| done >= most) {
                    continue;
                }
                let Some(new) = self.vault.reseal(of.purpose, Eui64(owner), &old)? else { continue };
                // A secret changed in the meantime is sealed under the newest key.
                let change = sqlx::query(AssertSqlSafe(update.clone())).bind(new);
                let mut change = named(change, owner, is_eui).bind(old);
                if of.also.is_some() {
                    change = change.bind(row.try_get::<String, _>("also")?);
                }
                done += change.execute(&mut *tx).await?.rows_affected();
            }
            tx.commit().await?;
            if rows.len() < ROWS as usize {
                return Ok(done);
            }
            // An owner has few rows, so reading the last owner again misses none.
            from = if last == from { last + 1 } else { last };
        }
    }

    /// Tables of this database, by name.
    pub async fn tables(&self) -> Result<Vec<String>, StoreError> {
        let statement = "SELECT TABLE_NAME FROM information_schema.TABLES WHERE TABLE_SCHEMA = DATABASE() ORDER BY 1";
        Ok(sqlx::query_scalar(statement).fetch_all(&self.pool).await?)
    }

    /// The name of this database.
    pub async fn database_name(&self) -> Result<String, StoreError> {
        Ok(sqlx::query_scalar("SELECT DATABASE()").fetch_one(&self.pool).await?)
    }
}
