//! The audit log: rows are added and read, and removed by whole months when they have been kept long enough.

use api::people::audit::{AuditEntry, AuditKind};
use chrono::{DateTime, Days, Utc};
use sqlx::mysql::MySqlRow;
use sqlx::{AssertSqlSafe, MySql, QueryBuilder, Row as _};

use crate::{EstateId, Store, StoreError};

/// Longest texts that the table takes; longer ones are cut.
const OBJECT: usize = 200;
const NOTE: usize = 500;
const WHO: usize = 80;

/// The filters.
#[derive(Debug, Clone, Default)]
pub struct AuditQuery {
    /// Of this kind only.
    pub kind: Option<AuditKind>,
    /// Part of a name or a token's name.
    pub who: Option<String>,
    /// Part of an action or of what it was done to.
    pub what: Option<String>,
    /// From this moment on.
    pub from: Option<DateTime<Utc>>,
    /// Until this moment.
    pub until: Option<DateTime<Utc>>,
    /// Only what comes before this entry.
    pub before: Option<String>,
}

fn cut(text: &str, most: usize) -> String {
    text.chars().take(most).collect()
}

fn read(row: &MySqlRow) -> Result<AuditEntry, StoreError> {
    let at_ms: i64 = row.try_get("at_ms")?;
    let differences: Option<String> = row.try_get("differences")?;
    Ok(AuditEntry {
        id: row.try_get("id")?,
        time: DateTime::from_timestamp_millis(at_ms).unwrap_or_default(),
        kind: AuditKind::of_name(&row.try_get::<String, _>("kind")?),
        who: row.try_get("who")?,
        token: row.try_get("token")?,
        address: row.try_get("address")?,
        action: row.try_get("action")?,
        object: row.try_get("object")?,
        status: row.try_get("status")?,
        note: row.try_get("note")?,
        differences: match differences {
            Some(text) => serde_json::from_str(&text).map_err(|why| StoreError::unreadable("audit entry", why))?,
            None => Vec::new(),
        },
    })
}

/// Any characters, with those that `LIKE` takes for wildcards taken literally.
fn like(part: &str) -> String {
    let escaped = part.replace('\\', "\\\\").replace('%', "\\%").replace('_', "\\_");
    format!("%{escaped}%")
}

impl Store {
    /// Adds an entry; of the installation if no estate is named.
    pub async fn add_audit(&self, estate_id: Option<EstateId>, entry: &AuditEntry) -> Result<(), StoreError> {
        let differences = match entry.differences.is_empty() {
            true => None,
            false => Some(
                serde_json::to_string(&entry.differences).map_err(|why| StoreError::unreadable("audit entry", why))?,
            ),
        };
        sqlx::query(
            "INSERT INTO audit (id, at_ms, estate_id, kind, who, token, address, action, object, status, note, differences)
             VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
        )
        .bind(&entry.id)
        .bind(entry.time.timestamp_millis())
        .bind(estate_id)
        .bind(entry.kind.name())
        .bind(cut(&entry.who, WHO))
        .bind(entry.token.as_deref().map(|token| cut(token, WHO)))
        .bind(&entry.address)
        .bind(&entry.action)
        .bind(cut(&entry.object, OBJECT))
        .bind(entry.status)
        .bind(entry.note.as_deref().map(|note| cut(note, NOTE)))
        .bind(differences)
        .execute(&self.pool)
        .await?;
        Ok(())
    }

    /// Entries, newest first: of an estate, or of the installation.
    pub async fn audit(
        &self,
        estate_id: Option<EstateId>,
        which: &AuditQuery,
        limit: u32,
    ) -> Result<Vec<AuditEntry>, StoreError> {
        let mut query = QueryBuilder::<MySql>::new("SELECT * FROM audit WHERE ");
        match estate_id {
            Some(id) => query.push("estate_id = ").push_bind(id),
            None => query.push("estate_id IS NULL"),
        };
        if let Some(kind) = which.kind {
            query.push(" AND kind = ").push_bind(kind.name());
        }
        if let Some(who) = &which.who {
            query.push(" AND (who LIKE ").push_bind(like(who)).push(" OR token LIKE ").push_bind(like(who)).push(")");
        }
        if let Some(what) = &which.what {
            query.push(" AND (CONVERT(action USING utf8mb4) LIKE ").push_bind(like(what));
            query.push(" OR object LIKE ").push_bind(like(what)).push(")");
        }
        if let Some(from) = which.from {
            query.push(" AND at_ms >= ").push_bind(from.timestamp_millis());
        }
        if let Some(until) = which.until {
            query.push(" AND at_ms < ").push_bind(until.timestamp_millis());
        }
        if let Some(before) = &which.before {
            query.push(" AND id < ").push_bind(before.clone());
        }
        query.push(" ORDER BY id DESC LIMIT ").push_bind(limit);
        let rows = query.build().fetch_all(&self.pool).await?;
        rows.iter().map(read).collect()
    }

    /// Protects the log from this account's own statements, where the database allows it; returns whether entries can
    /// only be added from now on.
    pub async fn guard_audit(&self) -> bool {
        for (name, event) in [("audit_stays", "UPDATE"), ("audit_is_kept", "DELETE")] {
            let statement = format!(
                "CREATE TRIGGER IF NOT EXISTS {name} BEFORE {event} ON audit FOR EACH ROW
                 SIGNAL SQLSTATE '45000' SET MESSAGE_TEXT = 'entries of the audit log are only added'"
            );
            if let Err(why) = sqlx::raw_sql(AssertSqlSafe(statement)).execute(&self.pool).await {
                tracing::debug!("the audit log has no trigger of its own: {why}");
            }
        }
        self.audit_is_append_only().await
    }

    /// Whether this account can neither change nor delete entries.
    async fn audit_is_append_only(&self) -> bool {
        let guards: Result<i64, _> = sqlx::query_scalar(
            "SELECT COUNT(*) FROM information_schema.TRIGGERS WHERE TRIGGER_SCHEMA = DATABASE()
             AND EVENT_OBJECT_TABLE = 'audit' AND TRIGGER_NAME IN ('audit_stays', 'audit_is_kept')",
        )
        .fetch_one(&self.pool)
        .await;
        if guards.is_ok_and(|count| count == 2) {
            return true;
        }
        // Nothing is changed: this only asks whether it would be allowed.
        let may_not = |statement: &'static str| async move {
            let refused = sqlx::query(statement).execute(&self.pool).await;
            matches!(refused, Err(sqlx::Error::Database(error)) if error.code().as_deref() == Some("42000"))
        };
        may_not("DELETE FROM audit WHERE 1 = 0").await && may_not("UPDATE audit SET note = note WHERE 1 = 0").await
    }

    /// Adds the coming months.
    ///
    /// # Errors
    /// If the account may not, or the database does not answer.
    pub async fn arrange_audit(&self, now: DateTime<Utc>) -> Result<(), StoreError> {
        self.arrange_months_of("audit", now, now).await
    }

    /// Adds the coming months and removes those that have been kept for `days`.
    pub async fn keep_audit(&self, now: DateTime<Utc>, days: u32) -> Result<(), StoreError> {
        self.arrange_audit(now).await?;
        match now.checked_sub_days(Days::new(u64::from(days))) {
            Some(cutoff) => self.drop_months_of("audit", cutoff).await,
            None => Ok(()),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn wildcards_are_looked_for_as_they_stand() {
        assert_eq!(like("50%_a\\"), "%50\\%\\_a\\\\%");
        assert_eq!(cut("åäö", 2), "åä");
    }
}
