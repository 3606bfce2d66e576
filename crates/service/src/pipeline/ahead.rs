//! Uplinks decoded while their batch waits for the transaction before it.
//!
//! A reading that is there when its uplink is stored costs the database next to nothing; one that comes later makes it
//! write the whole uplink again. But no commit waits for a script: an uplink that is not decoded when its commit begins
//! is stored without readings, and decoded afterwards ([`decoder::run`]).

use std::sync::mpsc::{SyncSender, sync_channel};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use api::message::Message;
use payload::Decoded;
use store::{Decoding, EstateId, StoreError, StoredMessage, WrittenMessage};

use crate::decoding::decoder::{self, DecodeJob, Found, ReadUplink, ToRead, Work};
use crate::pipeline::directory::Directory;

/// Lists of uplinks that wait for the reader. Further ones are decoded after their commit.
const WAITING: usize = 256;
/// Uplinks decoded in one go, from as many lists as there are.
const TOGETHER: usize = 512;
/// The time for them; uplinks left over are decoded after their commit.
const TIME: Duration = Duration::from_millis(200);

/// An uplink whose batch waits for its commit.
pub(crate) struct Ahead(Mutex<Stage>);

enum Stage {
    /// It is not decoded.
    Waiting(Box<Undecoded>),
    /// It is decoded.
    Read(Box<ReadUplink>),
    /// It belongs to a commit. What its decoder has returned since is for the job that decodes it afterwards.
    Taken(Option<Result<Decoded, String>>),
}

/// An uplink that is not decoded.
pub(crate) struct Undecoded {
    pub estate_id: EstateId,
    pub message: Message,
    pub to_read: ToRead,
}

impl Undecoded {
    /// Its row and its readings, by its decoder's result.
    pub(crate) fn decoded(
        self,
        directory: &Directory,
        called: Result<Decoded, String>,
    ) -> Result<ReadUplink, StoreError> {
        let Self { estate_id, mut message, to_read } = self;
        let found = decoder::write_down(&directory.totals, &to_read.decoder, &mut message, called);
        let written = Arc::new(WrittenMessage::new(estate_id, message)?);
        Ok(ReadUplink { stored: StoredMessage { written, decoding: Decoding::None }, found: Some(found) })
    }

    /// Its row without readings, and the job to decode it, which takes the result that `ahead` may have by then.
    pub(crate) fn stored(self, ahead: Option<Arc<Ahead>>) -> Result<(StoredMessage, DecodeJob), StoreError> {
        let Self { estate_id, message, to_read } = self;
        let written = Arc::new(WrittenMessage::new(estate_id, message)?);
        let stored = StoredMessage { written: Arc::clone(&written), decoding: Decoding::Pending };
        Ok((stored, DecodeJob { written, work: Work::Decode { payload: to_read.payload, ahead } }))
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
        let mut stage = self.stage();
        match std::mem::replace(&mut *stage, Stage::Taken(None)) {
            Stage::Waiting(uplink) => Some(Taken::Undecoded(uplink)),
            Stage::Read(read) => Some(Taken::Read(read)),
            before @ Stage::Taken(_) => {
                *stage = before;
                None
            }
        }
    }

    /// The result that came after a commit had taken the uplink.
    pub(crate) fn late(&self) -> Option<Result<Decoded, String>> {
        match &mut *self.stage() {
            Stage::Taken(late) => late.take(),
            Stage::Waiting(_) | Stage::Read(_) => None,
        }
    }

    /// Whether it is neither decoded nor taken.
    pub(crate) fn waits(&self) -> bool {
        matches!(*self.stage(), Stage::Waiting(_))
    }

    /// What to decode, if no commit has taken it.
    fn to_read(&self) -> Option<ToRead> {
        match &*self.stage() {
            Stage::Waiting(uplink) => Some(uplink.to_read.clone()),
            Stage::Read(_) | Stage::Taken(_) => None,
        }
    }

    /// Takes the decoder's result: into the uplink, or for later if a commit has taken that.
    pub(crate) fn put(&self, directory: &Directory, called: Result<Decoded, String>) {
        let mut stage = self.stage();
        match std::mem::replace(&mut *stage, Stage::Taken(None)) {
            Stage::Waiting(uplink) => match uplink.decoded(directory, called) {
                Ok(read) => *stage = Stage::Read(Box::new(read)),
                Err(error) => tracing::error!("a message cannot be written down: {error}"),
            },
            Stage::Taken(_) => *stage = Stage::Taken(Some(called)),
            read @ Stage::Read(_) => *stage = read,
        }
    }
}

/// Decodes uplinks of batches that wait, in a thread of its own that ends when this is dropped.
pub(crate) struct AheadReader(SyncSender<Vec<Arc<Ahead>>>);

impl AheadReader {
    pub(crate) fn start(directory: Arc<Directory>) -> Self {
        let (sender, receiver) = sync_channel::<Vec<Arc<Ahead>>>(WAITING);
        std::thread::spawn(move || {
            while let Ok(mut uplinks) = receiver.recv() {
                while uplinks.len() < TOGETHER
                    && let Ok(mut more) = receiver.try_recv()
                {
                    uplinks.append(&mut more);
                }
                read(&directory, &uplinks);
            }
        });
        Self(sender)
    }

    /// Has uplinks decoded if there is room. Never waits.
    pub(crate) fn put(&self, uplinks: Vec<Arc<Ahead>>) {
        if uplinks.is_empty() {
            return;
        }
        // Those without room are decoded after their commit.
        let _ = self.0.try_send(uplinks);
    }
}

/// Decodes uplinks by their scripts, as far as there is time. Blocks.
pub(crate) fn read(directory: &Directory, uplinks: &[Arc<Ahead>]) {
    let waiting: Vec<(&Arc<Ahead>, ToRead)> =
        uplinks.iter().filter_map(|uplink| Some((uplink, uplink.to_read()?))).collect();
    let (uplinks, to_read): (Vec<&Arc<Ahead>>, Vec<ToRead>) = waiting.into_iter().unzip();
    decoder::read_quickly(&to_read, TIME, |at, called| uplinks[at].put(directory, called));
}

/// A message on its way to a commit.
pub(crate) enum PendingMessage {
    /// It needs no script, or its script is not quick.
    Written { stored: StoredMessage, found: Option<Found>, job: Option<DecodeJob> },
    /// A script is decoding it.
    Ahead(Arc<Ahead>),
}
