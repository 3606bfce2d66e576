//! Messages in the order of their commits.
//!
//! Messages are named by the time when they were made, and come to be seen in groups, some later than others: one who reads on
//! from the last name that was seen would miss those. Each commit has a number that is one more than that of the one before
//! (`instance.commits`), and a message's number is made of that and its place in the commit. Nothing that becomes visible
//! later has a smaller number than the last commit's, so that one who reads up to that misses nothing.

use chrono::{DateTime, Utc};
use lorawan::Eui64;
use sqlx::mysql::MySqlRow;
use sqlx::{MySql, QueryBuilder, Row as _};

use crate::commit::told_number;
use crate::rows::{AMONG, among, first_name_at, json};
use crate::{EstateId, Store, StoreError, WrittenMessage};

/// Messages that are counted at most.
pub const MOST_COUNTED: u64 = 100_000;

/// A message with its number.
#[derive(Debug, Clone)]
pub struct ToldMessage {
    /// Its number in the order of commits.
    pub told: u64,
    /// The message.
    pub written: WrittenMessage,
}

fn read(row: &MySqlRow) -> Result<ToldMessage, StoreError> {
    let text: String = row.try_get("body")?;
    let message = json("message", &text)?;
    let written = WrittenMessage { estate_id: row.try_get("estate_id")?, message, json: text };
    Ok(ToldMessage { told: row.try_get("told")?, written })
}

impl Store {
    /// An estate's messages after a number, up to another one, in order. One that cannot be read is left out.
    pub async fn told(
        &self,
        estate_id: EstateId,
        (after, until): (u64, u64),
        limit: u32,
    ) -> Result<Vec<ToldMessage>, StoreError> {
        let rows = sqlx::query(
            "SELECT estate_id, told, body FROM messages FORCE INDEX (told)
             WHERE estate_id = ? AND told > ? AND told <= ? ORDER BY told LIMIT ?",
        )
        .bind(estate_id)
        .bind(after)
        .bind(until)
        .bind(limit)
        .fetch_all(&self.pool)
        .await?;
        rows.iter().map(read).collect()
    }

    /// Messages by their numbers, in order; those that are gone are left out.
    pub async fn told_of(&self, estate_id: EstateId, numbers: &[u64]) -> Result<Vec<ToldMessage>, StoreError> {
        let mut found = Vec::new();
        for part in numbers.chunks(AMONG) {
            let mut query = QueryBuilder::<MySql>::new(
                "SELECT estate_id, told, body FROM messages FORCE INDEX (told) WHERE estate_id = ",
            );
            query.push_bind(estate_id).push(" AND ");
            among(&mut query, "told", part, |number| number);
            let rows = query.push(" ORDER BY told").build().fetch_all(&self.pool).await?;
            found.extend(rows.iter().map(read).collect::<Result<Vec<_>, _>>()?);
        }
        Ok(found)
    }

    /// How many messages of an estate come after a number, up to another one; beyond [`MOST_COUNTED`] they are not counted.
    pub async fn count_told(&self, estate_id: EstateId, (after, until): (u64, u64)) -> Result<u64, StoreError> {
        let count: i64 = sqlx::query_scalar(
            "SELECT COUNT(*) FROM (SELECT 1 FROM messages FORCE INDEX (told)
             WHERE estate_id = ? AND told > ? AND told <= ? LIMIT ?) AS counted",
        )
        .bind(estate_id)
        .bind(after)
        .bind(until)
        .bind(MOST_COUNTED)
        .fetch_one(&self.pool)
        .await?;
        Ok(count.unsigned_abs())
    }

    /// The number after which all messages of an estate come that were made since a moment; `None` if there are none.
    pub async fn told_before(&self, estate_id: EstateId, since: DateTime<Utc>) -> Result<Option<u64>, StoreError> {
        // By number, as those that were decoded late have a larger one than those that were made after them.
        let first: Option<u64> = sqlx::query_scalar(
            "SELECT told FROM messages FORCE INDEX (told)
             WHERE estate_id = ? AND told IS NOT NULL AND id >= ? ORDER BY told LIMIT 1",
        )
        .bind(estate_id)
        .bind(first_name_at(since))
        .fetch_optional(&self.pool)
        .await?;
        Ok(first.map(|first| first.saturating_sub(1)))
    }

    /// The number of the last message that is durable with all before it.
    pub async fn told_until(&self) -> Result<u64, StoreError> {
        let commits: Option<u64> =
            sqlx::query_scalar("SELECT commits FROM instance").fetch_optional(&self.pool).await?;
        Ok(commits.map_or(0, |commits| told_number(commits, usize::MAX)))
    }

    /// The devices of an estate with a tag.
    pub async fn devices_with_tag(&self, estate_id: EstateId, tag: &str) -> Result<Vec<Eui64>, StoreError> {
        let rows = sqlx::query(
            "SELECT d.dev_eui FROM devices d JOIN device_tags t ON t.dev_eui = d.dev_eui
             WHERE d.estate_id = ? AND t.tag = ?",
        )
        .bind(estate_id)
        .bind(domain::input::stored_tag(tag))
        .fetch_all(&self.pool)
        .await?;
        rows.iter().map(|row| crate::rows::eui(row, "dev_eui")).collect()
    }

    /// The newest uplink of an estate, of devices of a fleet, of a model and with a tag if these are given.
    pub async fn last_uplink(
        &self,
        estate_id: EstateId,
        (fleet, model, tag): (Option<&str>, Option<&str>, Option<&str>),
    ) -> Result<Option<api::message::Message>, StoreError> {
        // Of each device the newest, by its own index; the devices of a fleet are few enough for that.
        let mut query = QueryBuilder::<MySql>::new(
            "SELECT (SELECT m.id FROM messages m FORCE INDEX (dev_eui) WHERE m.dev_eui = d.dev_eui AND m.kind = 'uplink'
             ORDER BY m.id DESC LIMIT 1) AS last FROM devices d WHERE d.estate_id = ",
        );
        query.push_bind(estate_id);
        let named = [
            (" AND d.fleet_id = (SELECT id FROM fleets WHERE slug = ", fleet),
            (" AND d.model_id = (SELECT id FROM models WHERE slug = ", model),
        ];
        for (condition, name) in named {
            if let Some(name) = name {
                query
                    .push(condition)
                    .push_bind(name.to_owned())
                    .push(" AND estate_id = ")
                    .push_bind(estate_id)
                    .push(")");
            }
        }
        if let Some(tag) = tag {
            query.push(" AND EXISTS (SELECT 1 FROM device_tags t WHERE t.dev_eui = d.dev_eui AND t.tag = ");
            query.push_bind(domain::input::stored_tag(tag)).push(")");
        }
        let last: Vec<Option<String>> = query.push(" LIMIT 200").build_query_scalar().fetch_all(&self.pool).await?;
        match last.into_iter().flatten().max() {
            Some(id) => self.message(estate_id, &id).await,
            None => Ok(None),
        }
    }
}
