//! From what the engine wants done to what one transaction writes: messages are told, made into rows, and
//! decoded if that is quickly done. All this happens while the transaction before is under way.
//!
//! A reading that is there when its uplink is stored costs the database next to nothing; one that comes later
//! makes it write the whole uplink again. So decoders that are known to be quick are run here. The others
//! have threads of their own: nobody's answers wait for them.

use std::sync::Arc;
use std::time::{Duration, Instant};

use api::message::Message;
use engine::{Effect, Event, Timestamp, Transmission};
use store::{Batch, Decoding, EstateId, StoreError, StoredMessage};
use ulid::Generator;

use crate::decode;
use crate::directory::Directory;
use crate::handover::{Gather, Handover, Outcome};
use crate::presence::Presence;
use crate::tell::{Teller, Told};

/// Decoders get so much time in one batch, whatever its size; uplinks left over are decoded later.
const DECODING: Duration = Duration::from_millis(20);
/// And this for each of its effects: a large batch takes its time anyway.
const DECODING_EACH: Duration = Duration::from_micros(10);
/// Rows and frames that wait for the database before nothing more is prepared.
const ROOM: usize = 20_000;

/// What one transaction writes, and what follows once it is durable.
#[derive(Default)]
pub struct Prepared {
    pub batch: Batch,
    /// When the first copies of the uplinks in it were heard.
    pub heard: Vec<Timestamp>,
    /// How many of the uplinks have been decoded.
    pub decoded: usize,
    pub transmissions: Vec<Transmission>,
    pub to_decode: Vec<(EstateId, Message)>,
    pub to_publish: Vec<Arc<(EstateId, Message)>>,
}

impl Gather for Prepared {
    fn gather(&mut self, mut later: Self) {
        self.batch.append(later.batch);
        self.heard.append(&mut later.heard);
        self.decoded += later.decoded;
        self.transmissions.append(&mut later.transmissions);
        self.to_decode.append(&mut later.to_decode);
        self.to_publish.append(&mut later.to_publish);
    }

    fn full(&self) -> bool {
        self.batch.changes.len() + self.batch.messages.len() >= ROOM
    }
}

/// Between engine and committer.
pub struct Preparer {
    pub directory: Arc<Directory>,
    pub presence: Arc<Presence>,
    pub ids: Generator,
}

impl Preparer {
    /// Works until the engine is gone.
    pub async fn run(mut self, from_engine: Arc<Handover<Outcome>>, ready: Arc<Handover<Prepared>>) {
        while let Some(outcome) = from_engine.take().await {
            // It may keep a processor busy for a while.
            let work = tokio::task::spawn_blocking(move || {
                let prepared = self.prepare(outcome);
                (self, prepared)
            });
            let Ok((preparer, prepared)) = work.await else { break };
            self = preparer;
            if !ready.put(prepared) {
                ready.room().await;
            }
        }
        ready.close();
    }

    fn prepare(&mut self, outcome: Outcome) -> Prepared {
        let mut teller = Teller { directory: &self.directory, presence: &self.presence, ids: &mut self.ids };
        let mut prepared = Prepared::default();
        prepared.batch.processed_until = Some(outcome.processed_until);
        let mut decoding = DECODING + DECODING_EACH * u32::try_from(outcome.effects.len()).unwrap_or(u32::MAX);
        for effect in outcome.effects {
            match effect {
                Effect::Persist(change) => prepared.batch.changes.push(change),
                Effect::Transmit(transmission) => prepared.transmissions.push(transmission),
                Effect::Publish(event) => {
                    if let Event::Uplink(uplink) = &event {
                        prepared.heard.extend(uplink.heard_by.iter().map(|copy| copy.heard_at).min());
                    }
                    let Some(told) = teller.tell(event) else { continue };
                    if let Err(error) = prepared.take(told, &self.directory, &mut decoding) {
                        tracing::error!("a message cannot be written down: {error}");
                    }
                }
            }
        }
        prepared
    }
}

impl Prepared {
    fn take(&mut self, told: Told, directory: &Directory, time: &mut Duration) -> Result<(), StoreError> {
        let Told { estate_id, mut message, mut decoding, activity, keep } = told;
        self.batch.activity.extend(activity);
        if decoding == Decoding::Pending && !time.is_zero() {
            let begun = Instant::now();
            if let Some(readings) = decode::quickly(directory, estate_id, &mut message) {
                self.batch.readings.extend(readings);
                self.decoded += 1;
                decoding = Decoding::None;
            }
            *time = time.saturating_sub(begun.elapsed());
        }
        if keep {
            self.batch.messages.push(StoredMessage::new(estate_id, &message, decoding)?);
        }
        if decoding == Decoding::Pending {
            self.to_decode.push((estate_id, message));
        } else {
            self.to_publish.push(Arc::new((estate_id, message)));
        }
        Ok(())
    }
}
