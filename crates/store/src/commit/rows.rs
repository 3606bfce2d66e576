//! Messages and signs of life as rows.

use std::collections::HashMap;

use lorawan::Eui64;
use sqlx::{MySql, QueryBuilder, Transaction};

use super::{Activity, Decoding, StoredMessage, parts, told_number};
use crate::StoreError;
use crate::rows::{eui_bytes, to_json};

/// Bytes of messages in one statement: the server takes no packet above `max_allowed_packet`, 16 MiB if nobody says
/// otherwise.
const STATEMENT_BYTES: usize = 4 << 20;

/// A message with its place in its commit.
pub(super) type Placed<'a> = (usize, &'a StoredMessage);

/// Messages in parts that are not too large for one statement.
fn message_parts<'a>(messages: &'a [Placed<'a>]) -> impl Iterator<Item = &'a [Placed<'a>]> {
    parts(messages).flat_map(|part| {
        let bytes: usize = part.iter().map(|(_, message)| message.written.json.len()).sum();
        // Few and large ones go one by one.
        part.chunks(if bytes > STATEMENT_BYTES { 1 } else { part.len() })
    })
}

/// Writes messages of a commit; one that is there already is replaced, which is how readings get into an uplink. An uplink
/// has its number in the order of commits once it has its readings, and keeps it when it is decoded again.
pub(super) async fn write_messages(
    tx: &mut Transaction<'_, MySql>,
    commit: u64,
    messages: &[Placed<'_>],
) -> Result<(), StoreError> {
    for part in message_parts(messages) {
        let mut query = QueryBuilder::<MySql>::new("INSERT INTO messages (id, estate_id, dev_eui, kind, told, body) ");
        query.push_values(part, |mut row, (place, message)| {
            let (written, whole) = (&message.written, message.decoding != Decoding::Pending);
            row.push_bind(message.id()).push_bind(written.estate_id).push_bind(message.dev_eui().map(eui_bytes));
            row.push_bind(written.message.body.kind()).push_bind(whole.then(|| told_number(commit, *place)));
            row.push_bind(written.json.as_str());
        });
        query.push(" ON DUPLICATE KEY UPDATE body = VALUES(body), told = COALESCE(told, VALUES(told))");
        query.build().execute(&mut **tx).await?;
    }
    let ids =
        |wanted| -> Vec<&str> { messages.iter().filter(|(_, m)| m.decoding == wanted).map(|(_, m)| m.id()).collect() };
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

/// Of several signs of life of one device the last counts; an accepted frame ends a series of refusals.
pub(super) async fn write_activity(
    tx: &mut Transaction<'_, MySql>,
    activity: &[(Eui64, Activity)],
) -> Result<(), StoreError> {
    let (mut heard, mut refused) = (HashMap::new(), HashMap::new());
    for (dev_eui, activity) in activity {
        match activity {
            Activity::Heard { last_heard, usual_interval_s } => {
                heard.insert(*dev_eui, (*last_heard, *usual_interval_s));
                refused.remove(dev_eui);
            }
            Activity::Refused(note) => {
                refused.insert(*dev_eui, (to_json("refusal", note)?, note.time));
            }
        }
    }
    for part in parts(&heard.into_iter().collect::<Vec<_>>()) {
        let mut query = QueryBuilder::<MySql>::new("INSERT INTO activity (dev_eui, last_heard, usual_interval_s) ");
        query.push_values(part, |mut row, (dev_eui, (last_heard, usual_interval_s))| {
            row.push_bind(eui_bytes(*dev_eui)).push_bind(*last_heard).push_bind(*usual_interval_s);
        });
        query.push(
            " ON DUPLICATE KEY UPDATE last_heard = VALUES(last_heard), usual_interval_s = VALUES(usual_interval_s), refusal = NULL, refused_at = NULL, refused_since = NULL",
        );
        query.build().execute(&mut **tx).await?;
    }
    for part in parts(&refused.into_iter().collect::<Vec<_>>()) {
        let mut query =
            QueryBuilder::<MySql>::new("INSERT INTO activity (dev_eui, refusal, refused_at, refused_since) ");
        query.push_values(part, |mut row, (dev_eui, (note, time))| {
            row.push_bind(eui_bytes(*dev_eui)).push_bind(note.clone()).push_bind(*time).push_bind(*time);
        });
        // Assigned first, from the row as it was: MariaDB assigns from left to right.
        query.push(
            " ON DUPLICATE KEY UPDATE refused_since = IF(JSON_VALUE(refusal, '$.code') = JSON_VALUE(VALUES(refusal), '$.code'),
             COALESCE(refused_since, refused_at), VALUES(refused_at)),
             refusal = VALUES(refusal), refused_at = VALUES(refused_at)",
        );
        query.build().execute(&mut **tx).await?;
    }
    Ok(())
}
