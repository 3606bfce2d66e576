//! Commits each batch in one transaction, then sends and publishes: nothing leaves before it is durable.
//!
//! While one transaction is under way, the next one is prepared; that makes the group. Nothing is transmitted or
//! published before the transaction that holds what came before it.
//!
//! A database that is away, full or locked is waited for, however long that takes. What it refuses as data is found and
//! left out: a device whose state cannot be stored is quarantined, a row of the history is kept in a file, and
//! everybody else goes on.

use std::collections::HashSet;
use std::iter;
use std::sync::Arc;
use std::time::{Duration, Instant};

use anyhow::{Result, bail};
use engine::{Command, Transmission, TxFailure};
use lorawan::Eui64;
use store::{Batch, Refused, Split, StoreError, Subject, Writer};
use tokio::sync::mpsc;
use tokio_util::sync::CancellationToken;

use crate::clock;
use crate::decoding::decoder::{DecodeJob, ReadUplink};
use crate::decoding::outstanding::Outstanding;
use crate::gateways::transport::Links;
use crate::ingest::network::Network;
use crate::pipeline::batch::{FinishedBatch, PendingBatch};
use crate::pipeline::condition::Condition;
use crate::pipeline::live::Live;
use crate::pipeline::mailbox::{Coalesce as _, Mailbox};
use crate::pipeline::metrics::Metrics;
use crate::pipeline::recent::Recent;
use crate::pipeline::refused_rows::RefusedRows;
use crate::startup::high_water::HighWater;

/// Uplinks with readings that one transaction takes at most.
const DECODED: usize = 4096;
/// How long a few rows wait for others to share their transaction, if nothing is to be sent. It is the same for all, so
/// that no script can make it longer; a quick one is done by then.
const GATHER: Duration = Duration::from_millis(5);
/// How long readings wait to share a transaction with the engine's next batch.
const SHARE: Duration = Duration::from_millis(15);
/// Before a commit is tried again: longer each time.
const PAUSE_FIRST: Duration = Duration::from_millis(100);
const PAUSE_LAST: Duration = Duration::from_secs(5);

/// The one task that writes messages and state.
pub(crate) struct Committer {
    pub writer: Writer,
    pub links: Arc<Links>,
    pub network: Network,
    pub live: Arc<Live>,
    pub recent: Arc<Recent>,
    pub to_decode: mpsc::Sender<DecodeJob>,
    /// Devices with uplinks that are still to be decoded.
    pub outstanding: Arc<Outstanding>,
    pub metrics: Arc<Metrics>,
    pub condition: Arc<Condition>,
    pub refused_rows: RefusedRows,
    /// The high-water mark in the data folder.
    pub high_water: HighWater,
    /// Ends the wait for a database that is away when the service stops: what is not written stays in the journal.
    pub give_up: CancellationToken,
}

/// A batch that was written.
struct Written {
    /// Devices and groups that are not served from now on.
    unserved: HashSet<Eui64>,
    /// Whether all of it was in one transaction.
    whole: bool,
}

/// Why a batch was not written.
enum NotWritten {
    /// The database refuses it as data.
    Refused(String),
    /// The service stops and does not wait any longer.
    GivenUp,
    /// Another instance has the database.
    TakenOver(StoreError),
}

/// Waits a moment for more to commit together with a few rows, until something is to be sent. Returns whether the engine
/// is still there.
async fn gather(pending: &mut PendingBatch, ready: &Mailbox<PendingBatch>) -> bool {
    let end = tokio::time::Instant::now() + GATHER;
    while pending.may_gather() {
        match tokio::time::timeout_at(end, ready.take()).await {
            Ok(Some(more)) => pending.coalesce(more),
            Ok(None) => return false,
            Err(_) => break,
        }
    }
    true
}

impl Committer {
    /// Works until the engine and the decoders have ended.
    ///
    /// # Errors
    /// If another instance has taken the database over, or the service stops while the database is away.
    pub(crate) async fn run(
        mut self,
        ready: Arc<Mailbox<PendingBatch>>,
        mut decoded: mpsc::Receiver<ReadUplink>,
    ) -> Result<()> {
        let mut from_decoders = Vec::with_capacity(DECODED);
        let (mut engine_is_there, mut decoders_are_there) = (true, true);
        while engine_is_there || decoders_are_there {
            let mut pending = None;
            tokio::select! {
                taken = ready.take(), if engine_is_there => {
                    engine_is_there = taken.is_some();
                    pending = taken;
                }
                taken = decoded.recv_many(&mut from_decoders, DECODED), if decoders_are_there => {
                    decoders_are_there = taken > 0;
                }
            }
            if pending.is_none() && engine_is_there {
                // Readings alone wait up to 15 ms to share a transaction.
                if let Ok(taken) = tokio::time::timeout(SHARE, ready.take()).await {
                    engine_is_there = taken.is_some();
                    pending = taken;
                }
            }
            if let Some(pending) = pending.as_mut() {
                engine_is_there &= gather(pending, &ready).await;
            }
            from_decoders.extend(iter::from_fn(|| decoded.try_recv().ok()).take(DECODED));
            // Uplinks without readings are serialised now, which may take a moment.
            let mut finished = FinishedBatch::new(Arc::clone(&self.outstanding));
            // First: of a device these came before.
            from_decoders.drain(..).for_each(|read| finished.add_read(read));
            if let Some(mut pending) = pending {
                if let Some(later) = pending.leave_undecoded() {
                    ready.put_back(later);
                }
                finished = tokio::task::spawn_blocking(|| pending.finish(finished)).await?;
            }
            match self.carry_out(finished).await {
                Ok(()) => {}
                Err(NotWritten::GivenUp) => {
                    bail!("the database is away; what is not in it yet stays in the journal for the next start")
                }
                Err(NotWritten::TakenOver(error)) => bail!("{error}"),
                Err(NotWritten::Refused(why)) => {
                    bail!("the database refuses to note how far the journal is done: {why}")
                }
            }
        }
        Ok(())
    }

    /// First durable, then told.
    async fn carry_out(&mut self, finished: FinishedBatch) -> Result<(), NotWritten> {
        let FinishedBatch { batch, heard, decoded, transmissions, to_decode, to_publish, live_only, .. } = finished;
        let mark = batch.mark;
        let (changes, messages, begun) = (batch.changes.len(), batch.messages.len(), Instant::now());
        let Written { unserved, whole } = self.commit(batch).await?;
        let commit = self.writer.lease().commits;
        if whole {
            self.recent.committed(commit, &to_publish);
        } else {
            self.recent.passed_over(commit);
        }
        tracing::debug!(changes, messages, decoded, took = ?begun.elapsed(), "committed");
        for transmission in transmissions {
            self.transmit(&transmission, &unserved).await;
        }
        self.metrics.decoded(decoded);
        let now = clock::now();
        heard.iter().for_each(|heard| self.metrics.stored(now.since(*heard)));
        if let Some(mark) = mark {
            self.network.durable(mark);
        }
        for news in to_publish.into_iter().map(|(_, news)| news).chain(live_only) {
            self.live.publish(news);
        }
        for job in to_decode {
            // A full queue loses nothing: the uplink is marked in the database and taken up later.
            let _ = self.to_decode.try_send(job);
        }
        Ok(())
    }

    /// Writes a batch, and waits while the database is away. Meanwhile the queues before this task hold what they can,
    /// and what they cannot is shed and counted where it comes in. Gives the devices that are not served from now on:
    /// what the engine did for them is not durable, so nobody may hear of it.
    async fn commit(&mut self, batch: Batch) -> Result<Written, NotWritten> {
        match self.write(&batch).await {
            Ok(()) => return Ok(Written { unserved: HashSet::new(), whole: true }),
            Err(NotWritten::Refused(why)) => {
                tracing::error!("the database refuses something in a group, which is looked for: {why}");
            }
            Err(other) => return Err(other),
        }
        let (mut split, mut unserved) = (Split::of(batch), HashSet::new());
        while let Some(part) = split.next_part() {
            match self.write(&part.batch()).await {
                Ok(()) => {}
                Err(NotWritten::Refused(why)) => {
                    unserved.extend(split.refused(part, &why).and_then(|r| self.refused(r)));
                }
                Err(other) => return Err(other),
            }
        }
        // Last, so that a service killed halfway hears all of it again.
        self.write(&split.mark()).await?;
        Ok(Written { unserved, whole: false })
    }

    /// Reports a refused row; returns the device or group if it is state.
    fn refused(&self, refused: Refused) -> Option<Eui64> {
        match refused {
            Refused::State { subject: Subject::Device(eui), why } => {
                tracing::error!("device {eui} is quarantined: the database refuses its state: {why}");
                self.condition.quarantine(eui, &why);
                let network = self.network.clone();
                // Not waited for: the engine may be waiting for this task.
                tokio::spawn(async move { network.command(Command::Quarantine(eui)).await });
                Some(eui)
            }
            Refused::State { subject: Subject::Group(eui), why } => {
                self.condition.refused(&format!("the counter of multicast group {eui}"), &why);
                Some(eui)
            }
            Refused::State { subject: Subject::Gateway(eui), why } => {
                self.condition.refused(&format!("an account of airtime of gateway {eui}"), &why);
                None
            }
            Refused::Row { row, why } => {
                let place = match self.refused_rows.keep(&row, &why) {
                    Ok(path) => format!("kept in {path}"),
                    Err(error) => format!("and could not be kept: {error}: {row}"),
                };
                tracing::error!("the database refuses a row, {place}: {why}");
                self.condition.refused(&format!("a row of the history, {place}"), &why);
                None
            }
        }
    }

    /// Writes a batch, waiting while the database is away.
    async fn write(&mut self, batch: &Batch) -> Result<(), NotWritten> {
        let mut pause = PAUSE_FIRST;
        self.condition.commit_begins(batch.messages.len() + batch.changes.len());
        loop {
            // A commit may not be dropped halfway, but when the service gives up it does nothing more with it.
            let done = tokio::select! {
                done = self.writer.commit(batch) => done,
                () = self.give_up.cancelled() => return Err(NotWritten::GivenUp),
            };
            match done {
                Ok(()) => {
                    self.condition.committed();
                    if let Err(error) = self.high_water.note(self.writer.lease()) {
                        tracing::warn!("how far the database has come could not be noted: {error}");
                    }
                    return Ok(());
                }
                Err(error @ StoreError::TakenOver(_)) => return Err(NotWritten::TakenOver(error)),
                Err(error) if error.is_data_error() => {
                    self.condition.committed();
                    return Err(NotWritten::Refused(error.to_string()));
                }
                Err(error) => {
                    tracing::error!("not written, tried again in {} ms: {error}", pause.as_millis());
                    self.condition.commit_fails(&error.to_string());
                }
            }
            tokio::select! {
                () = tokio::time::sleep(pause) => {}
                () = self.give_up.cancelled() => return Err(NotWritten::GivenUp),
            }
            pause = (pause * 2).min(PAUSE_LAST);
        }
    }

    async fn transmit(&self, transmission: &Transmission, unserved: &HashSet<Eui64>) {
        let sent = match transmission.towards {
            // What it stands for is not durable.
            Some(eui) if unserved.contains(&eui) => Err(TxFailure::NotHandedOver),
            _ => self.links.send(transmission).await,
        };
        if let Err(why) = sent {
            // Never wait for the engine here: it may be waiting for this task. If its queue is full, it
            // finds out by itself that no report came.
            let _ = self.network.try_report(transmission.id, Err(why));
        }
    }
}
