//! Transmissions whose report is pending.

use std::collections::VecDeque;
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use engine::TransmissionId;

/// After this the engine no longer waits for a report: a join-accept leaves within 6 s, its report has 2 s more.
const REPORT_WITHIN: Duration = Duration::from_secs(10);

/// Transmissions under way, by their key in the gateway's report, oldest first.
pub(super) struct Awaited<K>(Mutex<VecDeque<(K, TransmissionId, Instant)>>);

impl<K> Default for Awaited<K> {
    fn default() -> Self {
        Self(Mutex::default())
    }
}

impl<K: PartialEq> Awaited<K> {
    fn lock(&self) -> MutexGuard<'_, VecDeque<(K, TransmissionId, Instant)>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    pub(super) fn add(&self, key: K, id: TransmissionId) {
        let mut awaited = self.lock();
        while awaited.front().is_some_and(|(.., since)| since.elapsed() > REPORT_WITHIN) {
            awaited.pop_front();
        }
        awaited.push_back((key, id, Instant::now()));
    }

    /// The transmission a report is about, and how long ago it was handed over; each is reported once.
    pub(super) fn reported(&self, key: &K) -> Option<(TransmissionId, Duration)> {
        let mut awaited = self.lock();
        let at = awaited.iter().position(|(awaited, ..)| awaited == key)?;
        awaited.remove(at).map(|(_, id, since)| (id, since.elapsed()))
    }
}
