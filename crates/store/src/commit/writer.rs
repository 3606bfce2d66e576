//! The writer of batches: it has connections of its own, a time limit, and checks the lease in each transaction.

use std::time::Duration;

use sqlx::mysql::MySqlConnectOptions;
use sqlx::{Connection as _, MySql, MySqlConnection, Row as _, Transaction};

use super::rows::{Placed, write_activity, write_messages};
use super::{Batch, Decoding, Mark};
use crate::connect::lease::Lease;
use crate::connect::pool::connect;
use crate::history::list_late_hours;
use crate::readings::{write_failures, write_readings};
use crate::{Store, StoreError};

/// From this many messages on they are written beside their state rather than before it. For fewer, a second
/// transaction costs more than it gains.
const APART: usize = 256;
/// A commit that takes longer is given up, and its connections with it.
pub const COMMIT_LIMIT: Duration = Duration::from_secs(30);

/// Commits groups, one after the other.
pub struct Writer {
    store: Store,
    options: MySqlConnectOptions,
    lease: Lease,
    state: Option<MySqlConnection>,
    history: Option<MySqlConnection>,
    limit: Duration,
    /// Whether hours that are over get their values only now, and are summed up when all are there.
    past: bool,
}

/// Whether a transaction goes on.
enum Turn {
    Ours,
    /// It has been committed already; only the answer was lost.
    DoneBefore,
}

impl Writer {
    /// A writer that holds this lease.
    pub fn new(store: Store, lease: Lease) -> Self {
        let options = store.options.as_ref().clone();
        Self { store, options, lease, state: None, history: None, limit: COMMIT_LIMIT, past: false }
    }

    /// A writer of a whole past at once: the hours are summed up once it is written ([`Store::sum_up`]).
    pub fn of_past(store: Store, lease: Lease) -> Self {
        Self { past: true, ..Self::new(store, lease) }
    }

    /// The lease, with the number of commits that are known to be made.
    pub fn lease(&self) -> &Lease {
        &self.lease
    }

    /// Writes a batch, all of it or nothing. It may be tried again as it is: if only the answer to it was lost, nothing
    /// is written twice. Not to be dropped halfway; it ends by itself within [`COMMIT_LIMIT`].
    ///
    /// # Errors
    /// What the database says; [`StoreError::TakenOver`] if it is another instance's now.
    pub async fn commit(&mut self, batch: &Batch) -> Result<(), StoreError> {
        if batch.is_empty() {
            return Ok(());
        }
        let tried = tokio::time::timeout(self.limit, self.attempt(batch)).await;
        let done = tried.unwrap_or(Err(StoreError::NoAnswer(self.limit)));
        match &done {
            Ok(()) => self.lease.commits += 1,
            // The connections may be in any state. The server frees their locks itself.
            Err(_) => (self.state, self.history) = (None, None),
        }
        done
    }

    async fn attempt(&mut self, batch: &Batch) -> Result<(), StoreError> {
        self.store.know_series(&batch.readings).await?;
        if self.state.is_none() {
            self.state = Some(connect(&self.options).await?);
        }
        let Some(connection) = &mut self.state else { return Err(StoreError::Gone("the connection")) };
        let mut state = connection.begin().await?;
        if let Turn::DoneBefore = turn(&mut state, &self.store, &self.lease).await? {
            return Ok(());
        }
        // The mark of a decoded uplink belongs with its readings.
        let (new, decoded): (Vec<_>, Vec<_>) =
            batch.messages.iter().enumerate().partition(|(_, message)| message.decoding != Decoding::Done);
        let number = self.lease.commits + 1;
        if new.len() < APART {
            write_messages(&mut state, number, &new).await?;
            write_messages(&mut state, number, &decoded).await?;
            write_state(&self.store, &mut state, batch, self.past).await?;
            state.commit().await?;
            return Ok(());
        }
        // A connection's statements are run one after another; so there are two of them.
        if self.history.is_none() {
            self.history = Some(connect(&self.options).await?);
        }
        let Some(connection) = &mut self.history else { return Err(StoreError::Gone("the connection")) };
        let mut history = connection.begin().await?;
        let told = async {
            write_messages(&mut history, number, &new).await?;
            note_group(&mut history, number, &new).await?;
            // First; the messages count once the state is there too.
            history.commit().await?;
            Ok::<_, StoreError>(())
        };
        let state_written = async {
            write_messages(&mut state, number, &decoded).await?;
            write_state(&self.store, &mut state, batch, self.past).await
        };
        futures::try_join!(told, state_written)?;
        state.commit().await?;
        Ok(())
    }
}

/// Counts this commit, if the database is still this instance's. The row stays locked until the end of the transaction.
async fn turn(tx: &mut Transaction<'_, MySql>, store: &Store, lease: &Lease) -> Result<Turn, StoreError> {
    let counted = sqlx::query(
        "UPDATE instance SET commits = ?, renewed_at = UTC_TIMESTAMP(6) WHERE id = 1 AND epoch = ? AND commits = ?",
    );
    let counted = counted.bind(lease.commits + 1).bind(lease.epoch).bind(lease.commits).execute(&mut **tx).await?;
    if counted.rows_affected() == 1 {
        return Ok(Turn::Ours);
    }
    let row = sqlx::query("SELECT epoch, commits FROM instance").fetch_optional(&mut **tx).await?;
    let now: Option<(u64, u64)> =
        row.map(|row| Ok::<_, sqlx::Error>((row.try_get(0)?, row.try_get(1)?))).transpose()?;
    match now {
        Some((epoch, commits)) if epoch == lease.epoch && commits == lease.commits + 1 => Ok(Turn::DoneBefore),
        _ => Err(store.taken_over().await),
    }
}

/// Notes which messages were written with the commit of that number.
async fn note_group(tx: &mut Transaction<'_, MySql>, number: u64, messages: &[Placed<'_>]) -> Result<(), StoreError> {
    let ids = || messages.iter().map(|(_, message)| message.id());
    sqlx::query("REPLACE INTO message_group (id, commits, first_message, last_message) VALUES (1, ?, ?, ?)")
        .bind(number)
        .bind(ids().min())
        .bind(ids().max())
        .execute(&mut **tx)
        .await?;
    Ok(())
}

/// Everything of a batch but its messages, and the mark that makes them count.
async fn write_state(
    store: &Store,
    tx: &mut Transaction<'_, MySql>,
    batch: &Batch,
    past: bool,
) -> Result<(), StoreError> {
    store.write_changes(tx, &batch.changes).await?;
    let readings = store.with_series(&batch.readings);
    write_readings(tx, &readings).await?;
    let hours = store.write_history(tx, &readings).await?;
    if !past {
        list_late_hours(tx, hours).await?;
    }
    write_failures(tx, &batch.failures).await?;
    write_activity(tx, &batch.activity).await?;
    let Some(Mark { position, processed_until }) = batch.mark else { return Ok(()) };
    sqlx::query(
        "INSERT INTO journal_mark (id, processed_until_us, position) VALUES (1, ?, ?)
         ON DUPLICATE KEY UPDATE processed_until_us = VALUES(processed_until_us), position = VALUES(position)",
    )
    .bind(processed_until.0)
    .bind(position)
    .execute(&mut **tx)
    .await?;
    Ok(())
}

impl Store {
    /// Removes messages whose state was not committed because of a kill. They were not published, and will be written
    /// again. To be called before the first commit.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn take_back_untold(&self) -> Result<u64, StoreError> {
        let row = sqlx::query(
            "SELECT g.first_message, g.last_message FROM message_group g JOIN instance i ON g.commits > i.commits",
        )
        .fetch_optional(&self.pool)
        .await?;
        let group: Option<(String, Option<String>)> = match row {
            Some(row) => Some((row.try_get(0)?, Some(row.try_get(1)?))),
            None => self.older_mark().await?.map(|mark| (format!("{mark}~"), None)),
        };
        let Some((first, last)) = group else { return Ok(0) };
        let last = last.unwrap_or_else(|| "~".into());
        let mut taken = 0;
        for statement in
            ["DELETE FROM undecoded WHERE message_id BETWEEN ? AND ?", "DELETE FROM messages WHERE id BETWEEN ? AND ?"]
        {
            taken = sqlx::query(statement).bind(&first).bind(&last).execute(&self.pool).await?.rows_affected();
        }
        Ok(taken)
    }

    /// For databases from before groups were noted: the newest message with its state.
    async fn older_mark(&self) -> Result<Option<String>, StoreError> {
        let mark: Option<Option<String>> =
            sqlx::query_scalar("SELECT last_message FROM journal_mark WHERE position IS NULL")
                .fetch_optional(&self.pool)
                .await?;
        Ok(mark.flatten())
    }
}
