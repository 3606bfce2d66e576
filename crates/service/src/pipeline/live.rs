//! The live stream: every message, to all who listen, after it is durable.

use std::collections::HashMap;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use store::WrittenMessage;
use tokio::sync::broadcast;
use tokio_util::sync::CancellationToken;

/// Messages kept for a slow listener; one that falls further behind is told so.
const KEPT: usize = 4096;

/// Whether a listener wants a message, and may see it.
pub(crate) type Takes = Arc<dyn Fn(&WrittenMessage) -> bool + Send + Sync>;

/// Sends messages to all listeners.
pub struct Live {
    sender: broadcast::Sender<Arc<WrittenMessage>>,
    /// To parts of the service, which do not count as listeners.
    within: broadcast::Sender<Arc<WrittenMessage>>,
    /// What each listener takes, by number.
    listeners: Arc<Mutex<HashMap<u64, Takes>>>,
    next: AtomicU64,
    stopping: CancellationToken,
}

impl Live {
    pub fn new(stopping: CancellationToken) -> Self {
        Self {
            sender: broadcast::Sender::new(KEPT),
            within: broadcast::Sender::new(KEPT),
            listeners: Arc::default(),
            next: AtomicU64::new(0),
            stopping,
        }
    }

    /// Sends a message to all listeners.
    pub fn publish(&self, news: Arc<WrittenMessage>) {
        let _ = self.within.send(Arc::clone(&news));
        let _ = self.sender.send(news);
    }

    /// How many listeners take a message.
    pub(crate) fn takers(&self, news: &WrittenMessage) -> usize {
        locked(&self.listeners).values().filter(|takes| takes(news)).count()
    }

    /// All messages, for a listener that takes these of them. It counts as long as it keeps what it is given.
    pub(crate) fn listen(&self, takes: Takes) -> (broadcast::Receiver<Arc<WrittenMessage>>, Listening) {
        let number = self.next.fetch_add(1, Ordering::Relaxed);
        locked(&self.listeners).insert(number, takes);
        (self.sender.subscribe(), Listening { listeners: Arc::clone(&self.listeners), number })
    }

    /// For a part of the service.
    pub(crate) fn listen_within(&self) -> broadcast::Receiver<Arc<WrittenMessage>> {
        self.within.subscribe()
    }

    /// Ends when the service stops, so that open streams do not hold it up.
    pub fn stopping(&self) -> CancellationToken {
        self.stopping.clone()
    }
}

fn locked(listeners: &Mutex<HashMap<u64, Takes>>) -> MutexGuard<'_, HashMap<u64, Takes>> {
    listeners.lock().unwrap_or_else(PoisonError::into_inner)
}

/// A listener's place among those who listen.
pub(crate) struct Listening {
    listeners: Arc<Mutex<HashMap<u64, Takes>>>,
    number: u64,
}

impl Drop for Listening {
    fn drop(&mut self) {
        locked(&self.listeners).remove(&self.number);
    }
}
