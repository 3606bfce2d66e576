//! Uplinks decoded while their batch waits for the transaction before it.
//!
//! A reading that is there when its uplink is stored costs the database next to nothing; one that comes later makes it
//! write the whole uplink again. But no commit waits for a script: an uplink that is not decoded when its commit begins
//! is stored without readings, and decoded afterwards ([`decoder::run`]).

use std::sync::mpsc::{SyncSender, TrySendError, sync_channel};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use api::message::Message;
use payload::Decoded;
use store::{Decoding, EstateId, StoreError, StoredMessage, WrittenMessage};

use crate::decoding::decoder::{self, DecodeJob, Found, ReadUplink, ToRead};
use crate::pipeline::directory::Directory;

/// Batches that wait for the reader. The uplinks of further ones are decoded after their commit.
const WAITING: usize = 8;
/// The time for the decoders of one batch; uplinks left over are decoded after their commit.
const TIME: Duration = Duration::from_millis(20);
/// And this for each of its uplinks: a large batch takes its time anyway.
const TIME_EACH: Duration = Duration::from_micros(100);

/// An uplink whose batch waits for its commit.
pub(crate) struct Ahead(Mutex<Stage>);

enum Stage {
    /// It is not decoded.
    Waiting(Box<Undecoded>),
    /// It is decoded.
    Read(Box<ReadUplink>),
    /// It belongs to a commit.
    Taken,
}

/// An uplink that is not decoded.
pub(crate) struct Undecoded {
    pub estate_id: EstateId,
    pub message: Message,
    pub to_read: ToRead,
}

impl Undecoded {
    fn decoded(self, directory: &Directory, called: Result<Decoded, String>) -> Result<ReadUplink, StoreError> {
        let Self { estate_id, mut message, to_read } = self;
        let found = decoder::write_down(&directory.totals, &to_read.decoder, &mut message, called);
        let written = Arc::new(WrittenMessage::new(estate_id, message)?);
        Ok(ReadUplink { stored: StoredMessage { written, decoding: Decoding::None }, found })
    }

    /// Its row without readings, and the job to decode it.
    pub(crate) fn stored(self) -> Result<(StoredMessage, DecodeJob), StoreError> {
        let Self { estate_id, message, to_read } = self;
        let written = Arc::new(WrittenMessage::new(estate_id, message)?);
        let stored = StoredMessage { written: Arc::clone(&written), decoding: Decoding::Pending };
        Ok((stored, DecodeJob { written, payload: to_read.payload }))
    }
}

/// What a commit takes of an uplink.
pub(crate) enum Taken {
    Read(Box<ReadUplink>),
    Undecoded(Box<Undecoded>),
}

impl Ahead {
    pub(crate) fn new(uplink: Undecoded) -> Arc<Self> {
        Arc::new(Self(Mutex::new(Stage::Waiting(Box::new(uplink)))))
    }

    /// Held while a result is written down, never while a script runs.
    fn stage(&self) -> MutexGuard<'_, Stage> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// What is there now; `None` if it has been taken before.
    pub(crate) fn take(&self) -> Option<Taken> {
        match std::mem::replace(&mut *self.stage(), Stage::Taken) {
            Stage::Waiting(uplink) => Some(Taken::Undecoded(uplink)),
            Stage::Read(read) => Some(Taken::Read(read)),
            Stage::Taken => None,
        }
    }

    /// Whether it is neither decoded nor taken.
    #[cfg(test)]
    pub(crate) fn waits(&self) -> bool {
        matches!(*self.stage(), Stage::Waiting(_))
    }

    /// What to decode, if no commit has taken it.
    fn to_read(&self) -> Option<ToRead> {
        match &*self.stage() {
            Stage::Waiting(uplink) => Some(uplink.to_read.clone()),
            Stage::Read(_) | Stage::Taken => None,
        }
    }

    /// Notes the decoder's result, unless a commit has taken the uplink.
    pub(crate) fn put(&self, directory: &Directory, called: Result<Decoded, String>) {
        let mut stage = self.stage();
        match std::mem::replace(&mut *stage, Stage::Taken) {
            Stage::Waiting(uplink) => match uplink.decoded(directory, called) {
                Ok(read) => *stage = Stage::Read(Box::new(read)),
                Err(error) => tracing::error!("a message cannot be written down: {error}"),
            },
            other => *stage = other,
        }
    }
}

/// Decodes uplinks of batches that wait, in a thread of its own that ends when this is dropped.
pub(crate) struct AheadReader(SyncSender<Vec<Arc<Ahead>>>);

impl AheadReader {
    pub(crate) fn start(directory: Arc<Directory>) -> Self {
        let (sender, receiver) = sync_channel::<Vec<Arc<Ahead>>>(WAITING);
        std::thread::spawn(move || receiver.iter().for_each(|uplinks| read(&directory, &uplinks)));
        Self(sender)
    }

    /// Has uplinks decoded if there is room. Never waits.
    pub(crate) fn put(&self, uplinks: Vec<Arc<Ahead>>) {
        if uplinks.is_empty() {
            return;
        }
        match self.0.try_send(uplinks) {
            // They are decoded after their commit.
            Ok(()) | Err(TrySendError::Full(_) | TrySendError::Disconnected(_)) => {}
        }
    }
}

fn read(directory: &Directory, uplinks: &[Arc<Ahead>]) {
    let waiting: Vec<(&Arc<Ahead>, ToRead)> =
        uplinks.iter().filter_map(|uplink| Some((uplink, uplink.to_read()?))).collect();
    let time = TIME + TIME_EACH * u32::try_from(waiting.len()).unwrap_or(u32::MAX);
    let (uplinks, to_read): (Vec<&Arc<Ahead>>, Vec<ToRead>) = waiting.into_iter().unzip();
    decoder::read_quickly(&to_read, time, |at, called| uplinks[at].put(directory, called));
}

/// A message on its way to a commit.
pub(crate) enum PendingMessage {
    /// It needs no script, or its script is not quick.
    Written { stored: StoredMessage, found: Option<Found>, job: Option<DecodeJob> },
    /// A script is decoding it.
    Ahead(Arc<Ahead>),
}
