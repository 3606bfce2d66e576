//! Doing what the engine wants done, in its order: first make it durable, then speak.
//!
//! While one transaction is under way, the next one is prepared; that makes the group. Nothing is
//! transmitted or published before the transaction that holds what came before it.

use std::iter;
use std::sync::Arc;
use std::time::{Duration, Instant};

use api::message::Message;
use engine::Transmission;
use store::{Batch, Decoding, EstateId, Store, StoreError, StoredMessage};
use tokio::sync::mpsc;

use crate::clock;
use crate::decode::Found;
use crate::handover::Handover;
use crate::link::Links;
use crate::live::Live;
use crate::network::Network;
use crate::prepare::Prepared;
use crate::vitals::Vitals;

/// Uplinks with readings that one transaction takes at most.
const DECODED: usize = 4096;
/// How long readings wait for something of the engine's to go with.
const COMPANY: Duration = Duration::from_millis(15);
/// A deadlock or a full disk passes; what is refused this often will not be taken.
const REFUSALS: u32 = 4;

/// From a decoder: the uplink with its readings.
pub struct Decoded {
    stored: StoredMessage,
    found: Found,
    news: Arc<(EstateId, Message)>,
}

impl Decoded {
    /// An uplink that was stored before it was decoded.
    pub fn new(estate_id: EstateId, message: Message, found: Found) -> Result<Self, StoreError> {
        let stored = StoredMessage::new(estate_id, &message, Decoding::Done)?;
        Ok(Self { stored, found, news: Arc::new((estate_id, message)) })
    }
}

/// The one task that writes what the network does.
pub struct Committer {
    pub store: Store,
    pub links: Arc<Links>,
    pub network: Network,
    pub live: Arc<Live>,
    pub to_decode: mpsc::Sender<(EstateId, Message)>,
    pub vitals: Arc<Vitals>,
}

impl Committer {
    /// Works until the engine and the decoders are gone.
    pub async fn run(self, ready: Arc<Handover<Prepared>>, mut decoded: mpsc::Receiver<Decoded>) {
        let mut from_decoders = Vec::with_capacity(DECODED);
        let (mut engine_is_there, mut decoders_are_there) = (true, true);
        while engine_is_there || decoders_are_there {
            let mut prepared = None;
            tokio::select! {
                taken = ready.take(), if engine_is_there => {
                    engine_is_there = taken.is_some();
                    prepared = taken;
                }
                taken = decoded.recv_many(&mut from_decoders, DECODED), if decoders_are_there => {
                    decoders_are_there = taken > 0;
                }
            }
            if prepared.is_none() && engine_is_there {
                // Readings alone are in no hurry: they wait for company, and hold up no answer meanwhile.
                if let Ok(taken) = tokio::time::timeout(COMPANY, ready.take()).await {
                    engine_is_there = taken.is_some();
                    prepared = taken;
                }
            }
            from_decoders.extend(iter::from_fn(|| decoded.try_recv().ok()).take(DECODED));
            let mut prepared = prepared.unwrap_or_default();
            prepared.decoded += from_decoders.len();
            for Decoded { stored, found, news } in from_decoders.drain(..) {
                prepared.batch.messages.push(stored);
                prepared.batch.readings.extend(found.readings);
                prepared.batch.failures.extend(found.failure);
                prepared.to_publish.push(news);
            }
            self.carry_out(prepared).await;
        }
    }

    /// First durable, then told.
    async fn carry_out(&self, prepared: Prepared) {
        let Prepared { batch, heard, decoded, transmissions, to_decode, to_publish } = prepared;
        let processed_until = batch.processed_until;
        let (changes, messages, begun) = (batch.changes.len(), batch.messages.len(), Instant::now());
        self.commit(batch).await;
        tracing::debug!(changes, messages, decoded, took = ?begun.elapsed(), "committed");
        for transmission in transmissions {
            self.transmit(&transmission).await;
        }
        self.vitals.decoded(decoded);
        let now = clock::now();
        heard.iter().for_each(|heard| self.vitals.stored(now.since(*heard)));
        if let Some(until) = processed_until {
            self.network.durable(until);
        }
        for news in to_publish {
            let _ = self.live.publish(news);
        }
        for job in to_decode {
            // A full queue loses nothing: the uplink is marked in the database and taken up later.
            let _ = self.to_decode.try_send(job);
        }
    }

    /// Writes a batch, however long the database is away. Meanwhile the queues before this task hold
    /// what they can, and what they cannot is shed and counted where it comes in.
    async fn commit(&self, batch: Batch) {
        if self.try_commit(&batch).await {
            return;
        }
        // The database answers, and refuses. One row of history must not stop the network: state is
        // written by itself, for as long as it takes, and the rest row by row, less what is refused.
        let state = Batch { changes: batch.changes, ..Batch::default() };
        while !self.try_commit(&state).await {}
        let messages = batch.messages.into_iter().map(|m| Batch { messages: vec![m], ..Batch::default() });
        let readings = batch.readings.into_iter().map(|r| Batch { readings: vec![r], ..Batch::default() });
        let failures = batch.failures.into_iter().map(|f| Batch { failures: vec![f], ..Batch::default() });
        let activity = batch.activity.into_iter().map(|a| Batch { activity: vec![a], ..Batch::default() });
        for row in messages.chain(readings).chain(failures).chain(activity) {
            if !self.try_commit(&row).await {
                tracing::error!("the database refuses this row, so it is given up: {row:?}");
            }
        }
        // Last, so that whoever is killed halfway hears it all once more.
        let mark = Batch { processed_until: batch.processed_until, ..Batch::default() };
        while !self.try_commit(&mark).await {}
    }

    /// Writes a batch, waiting while the database is away. `false` if it refuses the batch again and
    /// again.
    async fn try_commit(&self, batch: &Batch) -> bool {
        let mut pause = Duration::from_millis(100);
        let mut refused = 0;
        while let Err(error) = self.store.commit(batch).await {
            tracing::error!("not written, tried again in {} ms: {error}", pause.as_millis());
            if error.is_refusal() {
                refused += 1;
            }
            if refused == REFUSALS {
                return false;
            }
            tokio::time::sleep(pause).await;
            pause = (pause * 2).min(Duration::from_secs(5));
        }
        true
    }

    async fn transmit(&self, transmission: &Transmission) {
        if let Err(why) = self.links.send(transmission).await {
            // Never wait for the engine here: it may be waiting for this task. If its queue is full, it
            // finds out by itself that no report came.
            let _ = self.network.try_report(transmission.id, Err(why));
        }
    }
}
