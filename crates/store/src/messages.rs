//! The history of messages.

use api::message::Message;
use chrono::{DateTime, Utc};
use domain::input::stored_tag;
use lorawan::Eui64;
use sqlx::mysql::MySqlRow;
use sqlx::{MySql, QueryBuilder, Row as _};

use crate::people::access_filter::limit_to;
use crate::rows::{eui_bytes, first_name_at, json, moment_of_name};
use crate::{AccessFilter, EstateId, Store, StoreError, WrittenMessage};

/// Which messages, and in which order.
#[derive(Debug, Clone, Default)]
pub struct MessageQuery {
    /// Of this device.
    pub device: Option<Eui64>,
    /// Of devices of this fleet.
    pub fleet: Option<String>,
    /// Of devices of this model.
    pub model: Option<String>,
    /// Of devices with this tag.
    pub tag: Option<String>,
    /// That this gateway heard or sent.
    pub gateway: Option<Eui64>,
    /// In this part of the estate.
    pub within: Option<AccessFilter>,
    /// Of these types; of all if there are none.
    pub kinds: Vec<String>,
    /// From this time on.
    pub since: Option<DateTime<Utc>>,
    /// Before this time.
    pub until: Option<DateTime<Utc>>,
    /// The last one of the page before.
    pub after: Option<String>,
    /// The oldest first; the newest first otherwise.
    pub oldest_first: bool,
}

impl MessageQuery {
    fn limit(&self, query: &mut QueryBuilder<MySql>, estate_id: EstateId) {
        if let Some(device) = self.device {
            query.push(" AND dev_eui = ").push_bind(eui_bytes(device));
        }
        let tag = self.tag.as_deref().map(stored_tag);
        let of_devices = [
            (" JOIN fleets f ON f.id = d.fleet_id WHERE f.slug = ", &self.fleet),
            (" JOIN models m ON m.id = d.model_id WHERE m.slug = ", &self.model),
            (" JOIN device_tags t ON t.dev_eui = d.dev_eui WHERE t.tag = ", &tag),
        ];
        for (condition, wanted) in of_devices {
            if let Some(wanted) = wanted {
                query
                    .push(" AND dev_eui IN (SELECT d.dev_eui FROM devices d")
                    .push(condition)
                    .push_bind(wanted.clone());
                query.push(" AND d.estate_id = ").push_bind(estate_id).push(")");
            }
        }
        if let Some(gateway) = self.gateway {
            // The service writes the JSON itself: nothing stands between a name and its value.
            query.push(" AND body LIKE ").push_bind(format!("%\"gateway\":\"{gateway}\"%"));
        }
        if let Some(part) = &self.within {
            limit_to(query, part, "dev_eui", estate_id);
        }
        // Messages are named by their time, so that the index by name serves for both.
        if let Some(since) = self.since {
            query.push(" AND id >= ").push_bind(first_name_at(since));
        }
        if let Some(until) = self.until {
            query.push(" AND id < ").push_bind(first_name_at(until));
        }
        if let Some(after) = &self.after {
            query.push(if self.oldest_first { " AND id > " } else { " AND id < " }).push_bind(after.clone());
        }
        if !self.kinds.is_empty() {
            query.push(" AND kind IN (");
            let mut list = query.separated(", ");
            for kind in &self.kinds {
                list.push_bind(kind.clone());
            }
            query.push(")");
        }
    }
}

impl Store {
    /// A page of an estate's messages.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn messages(
        &self,
        estate_id: EstateId,
        which: &MessageQuery,
        limit: u32,
    ) -> Result<Vec<Message>, StoreError> {
        // Left to itself, the database reads all messages of a device, or of all devices of a fleet, and sorts them. A device's latest
        // are at the end of its index; those of a fleet are found by going back from the newest of all.
        let mut query = QueryBuilder::<MySql>::new(match which.device {
            Some(_) => "SELECT body FROM messages FORCE INDEX (dev_eui)",
            None => "SELECT STRAIGHT_JOIN body FROM messages",
        });
        query.push(" WHERE estate_id = ").push_bind(estate_id);
        which.limit(&mut query, estate_id);
        query.push(if which.oldest_first { " ORDER BY id LIMIT " } else { " ORDER BY id DESC LIMIT " });
        query.push_bind(limit);
        self.read_messages(query).await
    }

    /// When the newest message of all was written.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn newest_message(&self) -> Result<Option<DateTime<Utc>>, StoreError> {
        let id: Option<String> = sqlx::query_scalar("SELECT MAX(id) FROM messages").fetch_one(&self.pool).await?;
        Ok(id.and_then(|id| moment_of_name(&id)))
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
