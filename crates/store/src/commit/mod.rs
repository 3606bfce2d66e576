//! Group commits: what the engine and the decoders produced in some milliseconds, in one transaction.

mod rows;
mod split;
mod state_rows;
mod writer;

pub use split::{Part as SplitPart, Refused, Split, Subject};
pub use writer::{COMMIT_LIMIT, Writer};

use std::sync::Arc;

use api::message::{Message, Reading, RefusalNote};
use chrono::{DateTime, Utc};
use domain::reading::rule::Counted;
use engine::{Change, Timestamp};
use lorawan::Eui64;
use ulid::Ulid;

use crate::rows::to_json;
use crate::{EstateId, StoreError};

/// Rows in one statement; MariaDB takes 65,535 placeholders.
const ROWS: usize = 512;

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

/// A message's decoding state.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Decoding {
    /// There is nothing to decode, or it is decoded.
    None,
    /// It is still to be decoded, and listed for that.
    Pending,
    /// It has been decoded since: it is removed from that list.
    Done,
}

/// A message with its JSON: written once, for the history and the live stream.
#[derive(Debug, Clone)]
pub struct WrittenMessage {
    /// Its estate.
    pub estate_id: EstateId,
    /// The message.
    pub message: Message,
    /// As it is stored and sent.
    pub json: String,
}

impl WrittenMessage {
    /// Writes a message.
    ///
    /// # Errors
    /// If it has no JSON, as with a number that is none.
    pub fn new(estate_id: EstateId, message: Message) -> Result<Self, StoreError> {
        let json = to_json("message", &message)?;
        Ok(Self { estate_id, message, json })
    }
}

/// Places of messages in one commit, in bits.
const PLACE_BITS: u32 = 20;

/// The number of a message in the order of commits: of a commit, and its place in that. A place too large for any gives the
/// last number of the commit.
pub const fn told_number(commit: u64, place: usize) -> u64 {
    let last = (1 << PLACE_BITS) - 1;
    let place = if place as u64 > last { last } else { place as u64 };
    (commit << PLACE_BITS) | place
}

/// A message for the history.
#[derive(Debug, Clone)]
pub struct StoredMessage {
    /// The message.
    pub written: Arc<WrittenMessage>,
    /// Its decoding state.
    pub decoding: Decoding,
}

impl StoredMessage {
    fn id(&self) -> &str {
        &self.written.message.id
    }

    fn dev_eui(&self) -> Option<Eui64> {
        self.written.message.device.as_ref().map(|device| device.eui)
    }
}

/// A reading's value.
#[derive(Debug, Clone)]
pub struct StoredReading {
    /// The device's DevEUI.
    pub dev_eui: Eui64,
    /// The reading's name.
    pub name: String,
    /// Its value.
    pub reading: Reading,
    /// When it was measured.
    pub time: DateTime<Utc>,
    /// What a running total goes on from.
    pub counted: Option<Counted>,
}

/// An uplink that its decoder could not read.
#[derive(Debug, Clone)]
pub struct DecodeFailure {
    /// The device's DevEUI.
    pub dev_eui: Eui64,
    /// The model whose decoder failed.
    pub model: String,
    /// The uplink's message.
    pub message_id: String,
    /// When the uplink came.
    pub at: DateTime<Utc>,
    /// Why.
    pub why: String,
}

/// A device's last signs of life.
#[derive(Debug, Clone)]
pub enum Activity {
    /// A frame was accepted.
    Heard {
        /// When.
        last_heard: DateTime<Utc>,
        /// How often it usually sends, in seconds.
        usual_interval_s: Option<f64>,
    },
    /// A frame was refused.
    Refused(RefusalNote),
}

/// Everything one transaction writes.
#[derive(Debug, Default)]
pub struct Batch {
    /// Changes of the engine's state.
    pub changes: Vec<Change>,
    /// Messages.
    pub messages: Vec<StoredMessage>,
    /// Readings.
    pub readings: Vec<StoredReading>,
    /// Payloads that could not be decoded.
    pub failures: Vec<DecodeFailure>,
    /// Signs of life of devices.
    pub activity: Vec<(Eui64, Activity)>,
    /// How far the engine has come with this batch and those before it.
    pub mark: Option<Mark>,
}

/// How far the engine has come.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Mark {
    /// Frames of the journal before this position were handed to the engine.
    pub position: u64,
    /// Everything due until this time has been done.
    pub processed_until: Timestamp,
}

impl Batch {
    /// Whether there is nothing to write.
    pub fn is_empty(&self) -> bool {
        self.changes.is_empty()
            && self.messages.is_empty()
            && self.readings.is_empty()
            && self.failures.is_empty()
            && self.activity.is_empty()
            && self.mark.is_none()
    }

    /// Adds what comes after it.
    pub fn append(&mut self, mut later: Self) {
        self.changes.append(&mut later.changes);
        self.messages.append(&mut later.messages);
        self.readings.append(&mut later.readings);
        self.failures.append(&mut later.failures);
        self.activity.append(&mut later.activity);
        self.mark = later.mark.or(self.mark);
    }
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
