//! The history of messages.

use api::message::Message;
use chrono::{DateTime, Utc};
use lorawan::Eui64;
use sqlx::mysql::MySqlRow;
use sqlx::{MySql, QueryBuilder, Row as _};
use ulid::Ulid;

use crate::people::access_filter::limit_to;
use crate::rows::{eui_bytes, json};
use crate::{AccessFilter, EstateId, Store, StoreError, WrittenMessage};

impl Store {
    /// An estate's messages, newest first; `before` is the last one of the page before.
    pub async fn messages(
        &self,
        estate_id: EstateId,
        (device, within): (Option<Eui64>, Option<&AccessFilter>),
        kinds: &[String],
        before: Option<&str>,
        limit: u32,
    ) -> Result<Vec<Message>, StoreError> {
        let mut query = QueryBuilder::<MySql>::new("SELECT body FROM messages WHERE estate_id = ");
        query.push_bind(estate_id);
        if let Some(device) = device {
            query.push(" AND dev_eui = ").push_bind(eui_bytes(device));
        }
        if let Some(part) = within {
            limit_to(&mut query, part, "dev_eui", estate_id);
        }
        if let Some(before) = before {
            query.push(" AND id < ").push_bind(before.to_owned());
        }
        if !kinds.is_empty() {
            query.push(" AND kind IN (");
            let mut list = query.separated(", ");
            for kind in kinds {
                list.push_bind(kind.clone());
            }
            query.push(")");
        }
        query.push(" ORDER BY id DESC LIMIT ").push_bind(limit);
        self.read_messages(query).await
    }

    /// When the newest message of all was written.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn newest_message(&self) -> Result<Option<DateTime<Utc>>, StoreError> {
        let id: Option<String> = sqlx::query_scalar("SELECT MAX(id) FROM messages").fetch_one(&self.pool).await?;
        let ms = id.and_then(|id| Ulid::from_string(&id).ok()).map(|id| id.timestamp_ms());
        Ok(ms.and_then(|ms| DateTime::from_timestamp_millis(i64::try_from(ms).ok()?)))
    }

    /// An estate's messages after one of them, oldest first: what a listener has missed.
    pub async fn messages_since(
        &self,
        estate_id: EstateId,
        after: &str,
        limit: u32,
    ) -> Result<Vec<Message>, StoreError> {
        let mut query = QueryBuilder::<MySql>::new("SELECT body FROM messages WHERE estate_id = ");
        query.push_bind(estate_id).push(" AND id > ").push_bind(after.to_owned());
        query.push(" ORDER BY id LIMIT ").push_bind(limit);
        self.read_messages(query).await
    }

    /// Uplinks whose decoding was cut short, oldest first.
    pub async fn undecoded(&self, limit: u32) -> Result<Vec<WrittenMessage>, StoreError> {
        let rows = sqlx::query(
            "SELECT m.estate_id, m.body FROM undecoded u JOIN messages m ON m.id = u.message_id ORDER BY u.message_id LIMIT ?",
        )
        .bind(limit)
        .fetch_all(&self.pool)
        .await?;
        let written = |row: &MySqlRow| {
            let text: String = row.try_get(1)?;
            Ok(WrittenMessage { estate_id: row.try_get(0)?, message: json("message", &text)?, json: text })
        };
        rows.iter().map(written).collect()
    }

    async fn read_messages(&self, mut query: QueryBuilder<MySql>) -> Result<Vec<Message>, StoreError> {
        let rows = query.build().fetch_all(&self.pool).await?;
        rows.iter().map(|row| json("message", &row.try_get::<String, _>("body")?)).collect()
    }
}
