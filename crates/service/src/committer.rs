//! Doing what the engine wants done, in its order: first make it durable, then speak.
//!
//! While one transaction is under way, the next effects gather; that makes the group. Nothing is
//! transmitted or published before the transaction that holds what came before it.

use std::iter;
use std::sync::Arc;
use std::time::{Duration, Instant};

use api::message::Message;
use engine::{Effect, Event, Timestamp, Transmission};
use store::{Batch, Decoding, EstateId, Store, StoredMessage, StoredReading};
use tokio::sync::mpsc;
use ulid::Generator;

use crate::clock;
use crate::directory::Directory;
use crate::handover::Handover;
use crate::live::Live;
use crate::network::Network;
use crate::tell::Teller;
use crate::udp::Links;
use crate::vitals::Vitals;

/// Uplinks with readings that one transaction takes at most.
const DECODED: usize = 4096;
/// How long readings wait for something of the engine's to go with.
const COMPANY: Duration = Duration::from_millis(15);
/// A deadlock or a full disk passes; what is refused this often will not be taken.
const REFUSALS: u32 = 4;

/// From a decoder: the uplink with its readings.
pub struct Decoded {
    pub stored: StoredMessage,
    pub readings: Vec<StoredReading>,
}

/// The one task that writes what the network does.
pub struct Committer {
    pub store: Store,
    pub directory: Arc<Directory>,
    pub links: Arc<Links>,
    pub network: Network,
    pub live: Arc<Live>,
    pub to_decode: mpsc::Sender<(EstateId, Message)>,
    pub vitals: Arc<Vitals>,
}

/// What follows once a batch is durable.
#[derive(Default)]
struct Afterwards {
    /// When the first copies of the uplinks were heard.
    heard: Vec<Timestamp>,
    transmissions: Vec<Transmission>,
    to_decode: Vec<(EstateId, Message)>,
    to_publish: Vec<(EstateId, Message)>,
}

impl Committer {
    /// Works until the engine and the decoders are gone.
    pub async fn run(self, from_engine: Arc<Handover>, mut decoded: mpsc::Receiver<Decoded>) {
        let presence = Arc::clone(self.links.presence());
        let mut teller = Teller { directory: &self.directory, presence: &presence, ids: Generator::new() };
        let mut from_decoders = Vec::with_capacity(DECODED);
        let (mut engine_is_there, mut decoders_are_there) = (true, true);
        while engine_is_there || decoders_are_there {
            let mut outcome = None;
            tokio::select! {
                taken = from_engine.take(), if engine_is_there => {
                    engine_is_there = taken.is_some();
                    outcome = taken;
                }
                taken = decoded.recv_many(&mut from_decoders, DECODED), if decoders_are_there => {
                    decoders_are_there = taken > 0;
                }
            }
            if outcome.is_none() && engine_is_there {
                // Readings alone are in no hurry: they wait for company, and hold up no answer meanwhile.
                if let Ok(taken) = tokio::time::timeout(COMPANY, from_engine.take()).await {
                    engine_is_there = taken.is_some();
                    outcome = taken;
                }
            }
            from_decoders.extend(iter::from_fn(|| decoded.try_recv().ok()).take(DECODED));
            let mut batch = Batch::default();
            let mut after = Afterwards::default();
            if let Some(outcome) = outcome {
                batch.processed_until = Some(outcome.processed_until);
                sort(outcome.effects, &mut teller, &mut batch, &mut after);
            }
            let decoded_now = from_decoders.len();
            for Decoded { stored, readings } in from_decoders.drain(..) {
                after.to_publish.push((stored.estate_id, stored.message.clone()));
                batch.messages.push(stored);
                batch.readings.extend(readings);
            }
            let processed_until = batch.processed_until;
            let (changes, messages, begun) = (batch.changes.len(), batch.messages.len(), Instant::now());
            self.commit(batch).await;
            tracing::debug!(changes, messages, decoded_now, took = ?begun.elapsed(), "committed");
            for transmission in after.transmissions {
                self.transmit(&transmission).await;
            }
            self.vitals.decoded(decoded_now);
            let now = clock::now();
            after.heard.iter().for_each(|heard| self.vitals.stored(now.since(*heard)));
            if let Some(until) = processed_until {
                self.network.durable(until);
            }
            for (estate, message) in after.to_publish {
                self.live.publish(estate, message);
            }
            for job in after.to_decode {
                // A full queue loses nothing: the uplink is marked in the database and taken up later.
                let _ = self.to_decode.try_send(job);
            }
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
        let activity = batch.activity.into_iter().map(|a| Batch { activity: vec![a], ..Batch::default() });
        for row in messages.chain(readings).chain(activity) {
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

fn sort(effects: Vec<Effect>, teller: &mut Teller<'_>, batch: &mut Batch, after: &mut Afterwards) {
    for effect in effects {
        match effect {
            Effect::Persist(change) => batch.changes.push(change),
            Effect::Transmit(transmission) => after.transmissions.push(transmission),
            Effect::Publish(event) => {
                if let Event::Uplink(uplink) = &event {
                    after.heard.extend(uplink.heard_by.iter().map(|copy| copy.heard_at).min());
                }
                let Some(told) = teller.tell(event) else { continue };
                let to_whom = (told.stored.estate_id, told.stored.message.clone());
                if told.stored.decoding == Decoding::Pending {
                    after.to_decode.push(to_whom);
                } else {
                    after.to_publish.push(to_whom);
                }
                batch.activity.extend(told.activity);
                if told.keep {
                    batch.messages.push(told.stored);
                }
            }
        }
    }
}
