//! Gateways' credentials and events.

use api::gateway::credential::{CredentialKind, GatewayCredential, Purpose};
use api::gateway::event::GatewayEvent;
use chrono::{DateTime, TimeDelta, Utc};
use lorawan::Eui64;
use sqlx::Row as _;
use sqlx::mysql::MySqlRow;

use crate::rows::{eui, eui_bytes, json, to_json};
use crate::{Store, StoreError};

/// How long certificates are remembered after they have expired, at most.
const FORGOTTEN_AFTER: TimeDelta = TimeDelta::days(30);

/// SHA-256 of a secret, or of a certificate.
pub type SecretHash = [u8; 32];

/// A credential as it is stored.
#[derive(Debug, Clone)]
pub struct CredentialRow {
    /// The gateway's EUI.
    pub gateway: Eui64,
    /// The credential.
    pub credential: GatewayCredential,
    /// The hash of its secret.
    pub secret_hash: SecretHash,
    /// CRC-32 by which a gateway says over CUPS that it has this one.
    pub segment_crc: u32,
}

/// A certificate that was issued to a gateway. It is remembered until it expires, also when its credential or its gateway is
/// gone: then it is revoked.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct IssuedCertificate {
    /// Its serial number.
    pub serial: Vec<u8>,
    /// The name in it.
    pub name: String,
    /// The credential it belongs to.
    pub credential: String,
    /// When it expires.
    pub expires_at: DateTime<Utc>,
}

/// A certificate that is revoked or has expired.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct EndedCertificate {
    /// Its serial number.
    pub serial: Vec<u8>,
    /// The name in it.
    pub name: String,
    /// Whether another certificate of that name is still good.
    pub name_in_use: bool,
    /// Whether it has expired; otherwise it is revoked.
    pub expired: bool,
}

fn read(row: &MySqlRow) -> Result<CredentialRow, StoreError> {
    let hash: Vec<u8> = row.try_get("secret_hash")?;
    Ok(CredentialRow {
        gateway: eui(row, "eui")?,
        credential: GatewayCredential {
            id: row.try_get("id")?,
            purpose: match row.try_get("purpose")? {
                "updates" => Purpose::Updates,
                _ => Purpose::Traffic,
            },
            kind: match row.try_get("kind")? {
                "certificate" => CredentialKind::Certificate,
                _ => CredentialKind::Token,
            },
            added_at: row.try_get("added_at")?,
            expires_at: row.try_get("expires_at")?,
            last_used: row.try_get("last_used")?,
            revoked_at: row.try_get("revoked_at")?,
            replace_asked: row.try_get("replace_asked")?,
        },
        secret_hash: hash.try_into().map_err(|_| StoreError::unreadable("secret_hash", "not 32 bytes"))?,
        segment_crc: row.try_get("segment_crc")?,
    })
}

impl Store {
    /// Adds new credentials, and what certificates there are among them: all of them or none.
    pub async fn add_credentials(
        &self,
        rows: &[CredentialRow],
        certificates: &[IssuedCertificate],
    ) -> Result<(), StoreError> {
        let mut tx = self.pool.begin().await?;
        // By then their owners are disconnected, or there is no broker.
        let forget = "DELETE FROM issued_certificates WHERE expires_at < ?";
        sqlx::query(forget).bind(Utc::now() - FORGOTTEN_AFTER).execute(&mut *tx).await?;
        for certificate in certificates {
            sqlx::query("INSERT INTO issued_certificates (serial, name, credential, expires_at) VALUES (?, ?, ?, ?)")
                .bind(&certificate.serial)
                .bind(&certificate.name)
                .bind(&certificate.credential)
                .bind(certificate.expires_at)
                .execute(&mut *tx)
                .await?;
        }
        let insert =
            "INSERT INTO gateway_credentials (id, eui, purpose, kind, secret_hash, segment_crc, added_at, expires_at)
             VALUES (?, ?, ?, ?, ?, ?, ?, ?)";
        for row in rows {
            sqlx::query(insert)
                .bind(&row.credential.id)
                .bind(eui_bytes(row.gateway))
                .bind(row.credential.purpose.name())
                .bind(row.credential.kind.name())
                .bind(row.secret_hash.to_vec())
                .bind(row.segment_crc)
                .bind(row.credential.added_at)
                .bind(row.credential.expires_at)
                .execute(&mut *tx)
                .await?;
        }
        tx.commit().await?;
        Ok(())
    }

    /// All credentials of all gateways, including revoked ones: a gateway that uses one is told so.
    pub async fn all_credentials(&self) -> Result<Vec<CredentialRow>, StoreError> {
        let rows = sqlx::query("SELECT * FROM gateway_credentials ORDER BY id").fetch_all(&self.pool).await?;
        rows.iter().map(read).collect()
    }

    /// Forgets certificates that have expired.
    pub async fn forget_certificates(&self, serials: &[Vec<u8>]) -> Result<(), StoreError> {
        for serial in serials {
            sqlx::query("DELETE FROM issued_certificates WHERE serial = ?").bind(serial).execute(&self.pool).await?;
        }
        Ok(())
    }

    /// Certificates that are revoked, or whose credential is gone, or that have expired and are not forgotten yet.
    pub async fn ended_certificates(&self, now: DateTime<Utc>) -> Result<Vec<EndedCertificate>, StoreError> {
        let select = "SELECT i.serial, i.name, EXISTS (SELECT 1 FROM issued_certificates o
                JOIN gateway_credentials g ON g.id = o.credential AND g.revoked_at IS NULL
                WHERE o.name = i.name AND o.expires_at >= ?) AS in_use, i.expires_at < ? AS expired
             FROM issued_certificates i LEFT JOIN gateway_credentials c ON c.id = i.credential AND c.revoked_at IS NULL
             WHERE c.id IS NULL OR i.expires_at < ? ORDER BY i.serial";
        let rows = sqlx::query(select).bind(now).bind(now).bind(now).fetch_all(&self.pool).await?;
        let read = |row: &MySqlRow| {
            let name_in_use = row.try_get::<i64, _>("in_use")? != 0;
            let expired = row.try_get::<i64, _>("expired")? != 0;
            Ok(EndedCertificate { serial: row.try_get("serial")?, name: row.try_get("name")?, name_in_use, expired })
        };
        rows.iter().map(read).collect()
    }

    /// Drops credentials that were never used.
    pub async fn drop_credentials(&self, ids: &[String]) -> Result<(), StoreError> {
        for id in ids {
            sqlx::query("DELETE FROM gateway_credentials WHERE id = ?").bind(id).execute(&self.pool).await?;
        }
        Ok(())
    }

    /// Revokes a credential.
    pub async fn revoke_credential(&self, id: &str, at: DateTime<Utc>) -> Result<(), StoreError> {
        let update = "UPDATE gateway_credentials SET revoked_at = ? WHERE id = ? AND revoked_at IS NULL";
        sqlx::query(update).bind(at).bind(id).execute(&self.pool).await?;
        Ok(())
    }

    /// Marks a gateway's credentials to be replaced when it next asks.
    pub async fn ask_for_replacement(&self, gateway: Eui64) -> Result<(), StoreError> {
        let update = "UPDATE gateway_credentials SET replace_asked = TRUE WHERE eui = ? AND revoked_at IS NULL";
        sqlx::query(update).bind(eui_bytes(gateway)).execute(&self.pool).await?;
        Ok(())
    }

    /// Notes when credentials were last used.
    pub async fn note_credentials_used(&self, used: &[(String, DateTime<Utc>)]) -> Result<(), StoreError> {
        let mut tx = self.pool.begin().await?;
        for (id, at) in used {
            let update = "UPDATE gateway_credentials SET last_used = ? WHERE id = ?";
            sqlx::query(update).bind(at).bind(id).execute(&mut *tx).await?;
        }
        tx.commit().await?;
        Ok(())
    }

    /// Adds gateway events.
    pub async fn add_gateway_events(&self, events: &[(Eui64, GatewayEvent)]) -> Result<(), StoreError> {
        let mut tx = self.pool.begin().await?;
        for (gateway, event) in events {
            sqlx::query("INSERT INTO gateway_events (id, eui, at, body) VALUES (?, ?, ?, ?)")
                .bind(&event.id)
                .bind(eui_bytes(*gateway))
                .bind(event.time)
                .bind(to_json("a gateway's event", event)?)
                .execute(&mut *tx)
                .await?;
        }
        tx.commit().await?;
        Ok(())
    }

    /// A page of a gateway's events, newest first, from before the event `before` on.
    pub async fn gateway_events(
        &self,
        gateway: Eui64,
        before: Option<&str>,
        limit: u32,
    ) -> Result<Vec<GatewayEvent>, StoreError> {
        let select = "SELECT body FROM gateway_events WHERE eui = ? AND (? IS NULL OR id < ?) ORDER BY id DESC LIMIT ?";
        let query = sqlx::query(select).bind(eui_bytes(gateway)).bind(before).bind(before).bind(limit);
        let rows = query.fetch_all(&self.pool).await?;
        rows.iter().map(|row| json("a gateway's event", row.try_get("body")?)).collect()
    }

    /// A gateway's changes of state since `from`, and the last one before, the earliest first.
    pub async fn gateway_states(&self, gateway: Eui64, from: DateTime<Utc>) -> Result<Vec<GatewayEvent>, StoreError> {
        let state = "JSON_VALUE(body, '$.kind') = 'state'";
        let select = format!(
            "(SELECT id, body FROM gateway_events WHERE eui = ? AND at >= ? AND {state})
             UNION ALL (SELECT id, body FROM gateway_events WHERE eui = ? AND at < ? AND {state} ORDER BY id DESC LIMIT 1)
             ORDER BY id"
        );
        let bytes = eui_bytes(gateway);
        let query = sqlx::query(sqlx::AssertSqlSafe(select)).bind(&bytes).bind(from).bind(&bytes).bind(from);
        let rows = query.fetch_all(&self.pool).await?;
        rows.iter().map(|row| json("a gateway's event", row.try_get("body")?)).collect()
    }

    /// Removes gateway events before `until`.
    pub async fn drop_gateway_events(&self, until: DateTime<Utc>) -> Result<u64, StoreError> {
        let done = sqlx::query("DELETE FROM gateway_events WHERE at < ?").bind(until).execute(&self.pool).await?;
        Ok(done.rows_affected())
    }
}
