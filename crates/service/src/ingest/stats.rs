//! Counts of what came in and what was dropped, with the last case of each kind.

use std::collections::BTreeMap;
use std::fmt::Display;
use std::sync::Mutex;
use std::sync::atomic::{AtomicU64, Ordering};

use gateway_link::udp::DatagramError;

/// Counters of the UDP port.
#[derive(Default)]
pub struct IngestStats {
    pub datagrams: AtomicU64,
    frames: AtomicU64,
    unwritten: AtomicU64,
    dropped: Mutex<BTreeMap<&'static str, Drops>>,
}

struct Drops {
    count: u64,
    last: String,
    last_from: String,
}

impl IngestStats {
    /// Counts frames that the kernel had no room for, before anybody could look at them.
    pub fn lost_by_kernel(&self, datagrams: u64) {
        let last = "datagrams that came faster than they were taken from the socket".into();
        self.drop_many("socket_full", datagrams, last, "the kernel");
    }

    /// Counts frames taken in, and whether the journal could keep them.
    pub fn took(&self, frames: usize, journalled: bool) {
        let frames = frames as u64;
        self.frames.fetch_add(frames, Ordering::Relaxed);
        if !journalled {
            self.unwritten.fetch_add(frames, Ordering::Relaxed);
        }
    }

    /// Counts one that was dropped for `reason`.
    pub fn dropped(&self, reason: &'static str, last: String, last_from: impl Display) {
        self.drop_many(reason, 1, last, last_from);
    }

    /// Counts copies of frames that were heard by gateways of other estates than their device's. Whose they are is not
    /// told to anybody.
    pub fn foreign(&self, copies: usize) {
        let last = "a gateway that is not open to others has heard another estate's device".into();
        self.drop_many("foreign", copies as u64, last, "the air");
    }

    /// Counts a live-only message that was dropped because too many wait.
    pub fn not_shown(&self) {
        self.dropped("not_shown_live", "a message that is only shown live, behind many others".into(), "the air");
    }

    fn drop_many(&self, reason: &'static str, many: u64, last: String, last_from: impl Display) {
        let last_from = format!("{last_from}");
        tracing::debug!(reason, last_from, "dropped: {last}");
        let mut dropped = self.dropped.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        let count = dropped.get(reason).map_or(0, |d| d.count) + many;
        dropped.insert(reason, Drops { count, last, last_from });
    }

    /// The counts, with what waits for the engine: frames, and bytes of the journal.
    pub fn report(&self, (waiting, journal_bytes): (usize, u64)) -> api::IngestStats {
        let dropped = self.dropped.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        api::IngestStats {
            datagrams: self.datagrams.load(Ordering::Relaxed),
            frames: self.frames.load(Ordering::Relaxed),
            waiting: waiting as u64,
            journal_bytes,
            unwritten: self.unwritten.load(Ordering::Relaxed),
            dropped: dropped
                .iter()
                .map(|(reason, d)| api::Dropped {
                    reason: (*reason).to_owned(),
                    count: d.count,
                    last: d.last.clone(),
                    last_from: d.last_from.clone(),
                })
                .collect(),
        }
    }
}

/// The reason under which a malformed datagram is counted.
pub(crate) fn reason(error: &DatagramError) -> &'static str {
    match error {
        DatagramError::TooShort { .. } => "too_short",
        DatagramError::TooLong { .. } => "too_long",
        DatagramError::Version(_) => "other_protocol_version",
        DatagramError::Identifier(_) => "unknown_identifier",
        DatagramError::Json(_) => "unreadable_json",
    }
}
