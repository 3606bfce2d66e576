//! Group commits: what the engine and the decoders produced in some milliseconds, in one transaction.

use std::collections::HashMap;

use api::message::{Message, Reading, RefusalNote};
use api::reading::Counted;
use chrono::{DateTime, Utc};
use engine::{Change, Counters, Nonces, Session, Timestamp};
use lorawan::Eui64;
use sqlx::{MySql, QueryBuilder, Transaction};
use ulid::Ulid;

use crate::readings::{write_failures, write_readings};
use crate::rows::{eui_bytes, time_of, to_json};
use crate::state::{Thing, thing, transmitter_columns};
use crate::vault::Purpose;
use crate::{EstateId, Store, StoreError, outbox};

/// Rows in one statement; MariaDB takes 65,535 placeholders.
const ROWS: usize = 512;

/// From so many messages on they are written beside their state rather than before it. For fewer, a second
/// transaction costs more than it gains.
const APART: usize = 256;

/// Rows in parts whose sizes are powers of two. A statement for any number of rows would be a new one each time,
/// and the database takes far longer to prepare it than to run one that it knows.
pub(crate) fn parts<T>(mut rows: &[T]) -> impl Iterator<Item = &[T]> {
    std::iter::from_fn(move || {
        let size = rows.len().checked_ilog2().map_or(0, |power| (1 << power).min(ROWS));
        let (part, rest) = rows.split_at(size);
        rows = rest;
        (!part.is_empty()).then_some(part)
    })
}

/// Where a message stands with its decoder.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Decoding {
    /// There is nothing to decode, or it has been done.
    None,
    /// A decoder has yet to see it: it is listed, so that this is not forgotten.
    Pending,
    /// A decoder has seen it since: it comes off that list.
    Done,
}

/// A message for the history, as the row that it becomes.
#[derive(Debug, Clone)]
pub struct StoredMessage {
    id: String,
    estate_id: EstateId,
    dev_eui: Option<Eui64>,
    kind: &'static str,
    body: String,
    decoding: Decoding,
}

impl StoredMessage {
    /// Writes a message down.
    pub fn new(estate_id: EstateId, message: &Message, decoding: Decoding) -> Result<Self, StoreError> {
        Ok(Self {
            id: message.id.clone(),
            estate_id,
            dev_eui: message.device.as_ref().map(|device| device.eui),
            kind: message.body.kind(),
            body: to_json("message", message)?,
            decoding,
        })
    }
}

/// A reading's value.
#[derive(Debug, Clone)]
pub struct StoredReading {
    pub dev_eui: Eui64,
    pub name: String,
    pub reading: Reading,
    pub time: DateTime<Utc>,
    /// What a running total goes on from.
    pub counted: Option<Counted>,
}

/// An uplink that its decoder could not read.
#[derive(Debug, Clone)]
pub struct DecodeFailure {
    pub dev_eui: Eui64,
    pub model: String,
    pub message_id: String,
    pub at: DateTime<Utc>,
    pub why: String,
}

/// A device's last signs of life.
#[derive(Debug, Clone)]
pub enum Activity {
    /// A frame was accepted.
    Heard { last_heard: DateTime<Utc>, rhythm_s: Option<f64> },
    /// A frame was refused.
    Refused(RefusalNote),
}

/// Everything one transaction writes.
#[derive(Debug, Default)]
pub struct Batch {
    pub changes: Vec<Change>,
    pub messages: Vec<StoredMessage>,
    pub readings: Vec<StoredReading>,
    pub failures: Vec<DecodeFailure>,
    pub activity: Vec<(Eui64, Activity)>,
    /// What was due until then is all in this batch and those before it.
    pub processed_until: Option<Timestamp>,
}

impl Batch {
    /// Whether there is nothing to write.
    pub fn is_empty(&self) -> bool {
        self.changes.is_empty()
            && self.messages.is_empty()
            && self.readings.is_empty()
            && self.failures.is_empty()
            && self.activity.is_empty()
            && self.processed_until.is_none()
    }

    /// Adds what comes after it.
    pub fn append(&mut self, mut later: Self) {
        self.changes.append(&mut later.changes);
        self.messages.append(&mut later.messages);
        self.readings.append(&mut later.readings);
        self.failures.append(&mut later.failures);
        self.activity.append(&mut later.activity);
        self.processed_until = later.processed_until.or(self.processed_until);
    }
}

impl Store {
    /// Writes a batch, all of it or nothing. It may be tried again as it is.
    pub async fn commit(&self, batch: &Batch) -> Result<(), StoreError> {
        if batch.is_empty() {
            return Ok(());
        }
        self.know_series(&batch.readings).await?;
        let mut state = self.pool.begin().await?;
        if batch.messages.len() < APART {
            write_messages(&mut state, &batch.messages).await?;
            self.write_state(&mut state, batch).await?;
            state.commit().await?;
            return Ok(());
        }
        // A connection's statements are run one after another; so there are two of them.
        let mut history = self.pool.begin().await?;
        let told = async {
            write_messages(&mut history, &batch.messages).await?;
            // First, and it counts once the state is there too: until then it lies beyond the mark.
            history.commit().await?;
            Ok::<_, StoreError>(())
        };
        futures::try_join!(told, self.write_state(&mut state, batch))?;
        state.commit().await?;
        Ok(())
    }

    /// Takes out of the history what a kill has parted from its state. Nobody has been told of it yet, and it
    /// will come again; this is for the time before anything is committed.
    pub async fn take_back_untold(&self) -> Result<u64, StoreError> {
        let mark: Option<Option<String>> =
            sqlx::query_scalar("SELECT last_message FROM journal_mark").fetch_optional(&self.pool).await?;
        let Some(mark) = mark.flatten() else { return Ok(0) };
        sqlx::query("DELETE FROM undecoded WHERE message_id > ?").bind(&mark).execute(&self.pool).await?;
        let taken = sqlx::query("DELETE FROM messages WHERE id > ?").bind(&mark).execute(&self.pool).await?;
        Ok(taken.rows_affected())
    }

    /// Everything of a batch but its messages, and the marks that make them count.
    async fn write_state(&self, tx: &mut Transaction<'_, MySql>, batch: &Batch) -> Result<(), StoreError> {
        self.write_changes(tx, &batch.changes).await?;
        let readings = self.with_series(&batch.readings);
        write_readings(tx, &readings).await?;
        self.write_history(tx, &readings).await?;
        write_failures(tx, &batch.failures).await?;
        write_activity(tx, &batch.activity).await?;
        let last_message = batch.messages.iter().map(|message| message.id.as_str()).max();
        // The mark of messages never goes back: what is older counts.
        let marked = match batch.processed_until {
            Some(until) => sqlx::query(
                "INSERT INTO journal_mark (id, processed_until_us, last_message) VALUES (1, ?, ?)
                 ON DUPLICATE KEY UPDATE processed_until_us = VALUES(processed_until_us),
                 last_message = NULLIF(GREATEST(COALESCE(last_message, ''), COALESCE(VALUES(last_message), '')), '')",
            )
            .bind(until.0),
            None if last_message.is_some() => {
                sqlx::query("UPDATE journal_mark SET last_message = GREATEST(COALESCE(last_message, ''), ?)")
            }
            None => return Ok(()),
        };
        marked.bind(last_message).execute(&mut **tx).await?;
        Ok(())
    }

    async fn write_changes(&self, tx: &mut Transaction<'_, MySql>, changes: &[Change]) -> Result<(), StoreError> {
        let mut last: HashMap<Thing, &Change> = HashMap::new();
        for change in changes {
            match change {
                Change::Session { dev_eui, session, begun } => {
                    self.write_session(tx, *dev_eui, session, *begun).await?;
                }
                Change::Nonces { dev_eui, dev_nonce, nonces } => {
                    write_nonces(tx, *dev_eui, *dev_nonce, nonces).await?;
                }
                Change::Began { dev_eui, .. } => begin_session(tx, *dev_eui).await?,
                Change::Ended { dev_eui, nonces } => end_sessions(tx, *dev_eui, *nonces).await?,
                _ => {}
            }
            if let Change::Session { dev_eui, begun: true, .. }
            | Change::Began { dev_eui, .. }
            | Change::Ended { dev_eui, .. } = change
            {
                // What was said of the session before is not to be written over the new one.
                last.remove(&Thing::Counters(*dev_eui));
                last.remove(&Thing::Settings(*dev_eui));
            }
            let fresh = match change {
                Change::Began { dev_eui, counters } => Some((*dev_eui, *counters)),
                Change::Session { dev_eui, session, begun: true } => Some((*dev_eui, session.counters)),
                _ => None,
            };
            if let Some((dev_eui, counters)) = fresh {
                write_counters(tx, &[(dev_eui, counters)]).await?;
            }
            if let Some(thing) = thing(change) {
                last.insert(thing, change);
            }
        }
        let (mut counters, mut airtime) = (Vec::new(), Vec::new());
        let (mut groups, mut near) = (Vec::new(), Vec::new());
        for change in last.into_values() {
            match change {
                Change::Counters { dev_eui, counters: now } => counters.push((*dev_eui, *now)),
                Change::Settings { dev_eui, settings } => {
                    sqlx::query("UPDATE sessions SET settings = ? WHERE dev_eui = ? AND stage = 'running'")
                        .bind(to_json("settings", settings)?)
                        .bind(eui_bytes(*dev_eui))
                        .execute(&mut **tx)
                        .await?;
                }
                Change::Airtime { transmitter, sub_band, minute, airtime_us, frames } => {
                    airtime.push((transmitter_columns(*transmitter), sub_band, minute, airtime_us, frames));
                }
                Change::Near { dev_eui, class, near: gateways } => {
                    near.push((*dev_eui, *class, to_json("near gateways", gateways)?));
                }
                Change::GroupCounter { group, next_down } => groups.push((*group, *next_down)),
                Change::Outbox { id, state, attempts, place, .. } => {
                    let (state, note, counter) = outbox::columns(state);
                    sqlx::query(
                        "UPDATE outbox SET state = ?, note = ?, counter = ?, attempts = ?, place = ?, changed_at = ? WHERE id = ?",
                    )
                    .bind(outbox::state_word(state)?)
                    .bind(note)
                    .bind(counter)
                    .bind(attempts)
                    .bind(place)
                    .bind(Utc::now())
                    .bind(id.0.to_be_bytes().to_vec())
                    .execute(&mut **tx)
                    .await?;
                }
                Change::Session { .. } | Change::Nonces { .. } | Change::Began { .. } | Change::Ended { .. } => {}
            }
        }
        write_counters(tx, &counters).await?;
        for part in parts(&near) {
            let mut query = QueryBuilder::<MySql>::new("REPLACE INTO near_gateways (dev_eui, class, near) ");
            query.push_values(part, |mut row, (dev_eui, class, near)| {
                row.push_bind(eui_bytes(*dev_eui)).push_bind(class.name()).push_bind(near.clone());
            });
            query.build().execute(&mut **tx).await?;
        }
        for (group, next_down) in groups {
            sqlx::query("REPLACE INTO multicast_counters (group_eui, next_down) VALUES (?, ?)")
                .bind(eui_bytes(group))
                .bind(next_down)
                .execute(&mut **tx)
                .await?;
        }
        for part in parts(&airtime) {
            let mut query = QueryBuilder::<MySql>::new(
                "INSERT INTO airtime (transmitter, eui, sub_band, minute, airtime_us, frames) ",
            );
            query.push_values(part, |mut row, ((kind, eui), sub_band, minute, airtime_us, frames)| {
                row.push_bind(*kind).push_bind(eui.clone()).push_bind(**sub_band).push_bind(**minute);
                row.push_bind(**airtime_us).push_bind(**frames);
            });
            query.push(" ON DUPLICATE KEY UPDATE airtime_us = VALUES(airtime_us), frames = VALUES(frames)");
            query.build().execute(&mut **tx).await?;
        }
        Ok(())
    }

    async fn write_session(
        &self,
        tx: &mut Transaction<'_, MySql>,
        dev_eui: Eui64,
        session: &Session,
        begun: bool,
    ) -> Result<(), StoreError> {
        sqlx::query(
            "REPLACE INTO sessions (dev_eui, stage, dev_addr, keys_sealed, speaks_1_1, settings, joined_at)
             VALUES (?, ?, ?, ?, ?, ?, ?)",
        )
        .bind(eui_bytes(dev_eui))
        .bind(if begun { "running" } else { "next" })
        .bind(session.dev_addr.0)
        .bind(self.sealed_session_keys(Purpose::SessionKeys, dev_eui, &session.keys)?)
        .bind(session.speaks_1_1)
        .bind(to_json("settings", &session.settings)?)
        .bind(time_of(session.joined_at))
        .execute(&mut **tx)
        .await?;
        Ok(())
    }
}

async fn end_sessions(tx: &mut Transaction<'_, MySql>, dev_eui: Eui64, nonces: bool) -> Result<(), StoreError> {
    let tables = ["DELETE FROM sessions WHERE dev_eui = ?", "DELETE FROM counters WHERE dev_eui = ?"];
    let nonces = nonces.then_some("DELETE FROM dev_nonces WHERE dev_eui = ?");
    for statement in tables.into_iter().chain(nonces) {
        sqlx::query(statement).bind(eui_bytes(dev_eui)).execute(&mut **tx).await?;
    }
    Ok(())
}

async fn write_nonces(
    tx: &mut Transaction<'_, MySql>,
    dev_eui: Eui64,
    dev_nonce: Option<u16>,
    nonces: &Nonces,
) -> Result<(), StoreError> {
    sqlx::query("REPLACE INTO nonces (dev_eui, next_join_nonce, rj_count_1) VALUES (?, ?, ?)")
        .bind(eui_bytes(dev_eui))
        .bind(nonces.next_join_nonce)
        .bind(nonces.rj_count_1)
        .execute(&mut **tx)
        .await?;
    if let Some(dev_nonce) = dev_nonce {
        sqlx::query("INSERT IGNORE INTO dev_nonces (dev_eui, dev_nonce) VALUES (?, ?)")
            .bind(eui_bytes(dev_eui))
            .bind(dev_nonce)
            .execute(&mut **tx)
            .await?;
    }
    Ok(())
}

/// The session agreed upon takes the place of the running one. Done twice, as after a commit whose answer
/// was lost, it changes nothing more.
async fn begin_session(tx: &mut Transaction<'_, MySql>, dev_eui: Eui64) -> Result<(), StoreError> {
    sqlx::query(
        "DELETE r FROM sessions r JOIN sessions n ON n.dev_eui = r.dev_eui AND n.stage = 'next'
         WHERE r.dev_eui = ? AND r.stage = 'running'",
    )
    .bind(eui_bytes(dev_eui))
    .execute(&mut **tx)
    .await?;
    sqlx::query("UPDATE sessions SET stage = 'running' WHERE dev_eui = ? AND stage = 'next'")
        .bind(eui_bytes(dev_eui))
        .execute(&mut **tx)
        .await?;
    Ok(())
}

async fn write_counters(tx: &mut Transaction<'_, MySql>, all: &[(Eui64, Counters)]) -> Result<(), StoreError> {
    for part in parts(all) {
        let mut query = QueryBuilder::<MySql>::new(
            "INSERT INTO counters (dev_eui, up, last_mic, next_down, next_app_down, confirmed_down, rj_count_0) ",
        );
        query.push_values(part, |mut row, (dev_eui, counters)| {
            row.push_bind(eui_bytes(*dev_eui)).push_bind(counters.up).push_bind(counters.last_mic.to_vec());
            row.push_bind(counters.next_down).push_bind(counters.next_app_down);
            row.push_bind(counters.confirmed_down).push_bind(counters.rj_count_0);
        });
        // In place: REPLACE would take the row out and put it in again.
        query.push(
            " ON DUPLICATE KEY UPDATE up = VALUES(up), last_mic = VALUES(last_mic), next_down = VALUES(next_down),
              next_app_down = VALUES(next_app_down), confirmed_down = VALUES(confirmed_down),
              rj_count_0 = VALUES(rj_count_0)",
        );
        query.build().execute(&mut **tx).await?;
    }
    Ok(())
}

/// Writes messages; one that is there already is replaced, which is how readings get into an uplink.
async fn write_messages(tx: &mut Transaction<'_, MySql>, messages: &[StoredMessage]) -> Result<(), StoreError> {
    for part in parts(messages) {
        let mut query = QueryBuilder::<MySql>::new("INSERT INTO messages (id, estate_id, dev_eui, kind, body) ");
        query.push_values(part, |mut row, message| {
            row.push_bind(message.id.clone()).push_bind(message.estate_id);
            row.push_bind(message.dev_eui.map(eui_bytes)).push_bind(message.kind).push_bind(message.body.clone());
        });
        query.push(" ON DUPLICATE KEY UPDATE body = VALUES(body)");
        query.build().execute(&mut **tx).await?;
    }
    let ids =
        |wanted| -> Vec<&str> { messages.iter().filter(|m| m.decoding == wanted).map(|m| m.id.as_str()).collect() };
    let (waiting, done) = (ids(Decoding::Pending), ids(Decoding::Done));
    for part in parts(&waiting) {
        let mut query = QueryBuilder::<MySql>::new("INSERT IGNORE INTO undecoded (message_id) ");
        query.push_values(part, |mut row, id| {
            row.push_bind((*id).to_owned());
        });
        query.build().execute(&mut **tx).await?;
    }
    for part in parts(&done) {
        let mut query = QueryBuilder::<MySql>::new("DELETE FROM undecoded WHERE message_id IN (");
        let mut list = query.separated(", ");
        for id in part {
            list.push_bind((*id).to_owned());
        }
        query.push(")");
        query.build().execute(&mut **tx).await?;
    }
    Ok(())
}

/// Of several signs of life of one device the last counts; a frame that was accepted takes the refusals before it
/// back.
async fn write_activity(tx: &mut Transaction<'_, MySql>, activity: &[(Eui64, Activity)]) -> Result<(), StoreError> {
    let (mut heard, mut refused) = (HashMap::new(), HashMap::new());
    for (dev_eui, activity) in activity {
        match activity {
            Activity::Heard { last_heard, rhythm_s } => {
                heard.insert(*dev_eui, (*last_heard, *rhythm_s));
                refused.remove(dev_eui);
            }
            Activity::Refused(note) => {
                refused.insert(*dev_eui, (to_json("refusal", note)?, note.time));
            }
        }
    }
    for part in parts(&heard.into_iter().collect::<Vec<_>>()) {
        let mut query = QueryBuilder::<MySql>::new("INSERT INTO activity (dev_eui, last_heard, rhythm_s) ");
        query.push_values(part, |mut row, (dev_eui, (last_heard, rhythm_s))| {
            row.push_bind(eui_bytes(*dev_eui)).push_bind(*last_heard).push_bind(*rhythm_s);
        });
        query.push(
            " ON DUPLICATE KEY UPDATE last_heard = VALUES(last_heard), rhythm_s = VALUES(rhythm_s), refusal = NULL, refused_at = NULL",
        );
        query.build().execute(&mut **tx).await?;
    }
    for part in parts(&refused.into_iter().collect::<Vec<_>>()) {
        let mut query = QueryBuilder::<MySql>::new("INSERT INTO activity (dev_eui, refusal, refused_at) ");
        query.push_values(part, |mut row, (dev_eui, (note, time))| {
            row.push_bind(eui_bytes(*dev_eui)).push_bind(note.clone()).push_bind(*time);
        });
        query.push(" ON DUPLICATE KEY UPDATE refusal = VALUES(refusal), refused_at = VALUES(refused_at)");
        query.build().execute(&mut **tx).await?;
    }
    Ok(())
}

/// The name of an outbox item as people see it.
pub fn outbox_name(id: engine::OutboxId) -> String {
    Ulid(id.0).to_string()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn parts_hold_every_row_once_and_have_few_sizes() {
        let rows: Vec<usize> = (0..1300).collect();
        let sizes: Vec<usize> = parts(&rows).map(<[_]>::len).collect();
        assert_eq!(sizes, [512, 512, 256, 16, 4]);
        assert_eq!(parts(&rows).flatten().copied().collect::<Vec<_>>(), rows);
        assert_eq!(parts::<usize>(&[]).count(), 0);
    }
}
