//! The live stream: every message, to all who listen, after it is durable.

use std::sync::Arc;

use store::WrittenMessage;
use tokio::sync::broadcast;
use tokio_util::sync::CancellationToken;

/// Messages kept for a slow listener; one that falls further behind is told so.
const KEPT: usize = 4096;

/// Sends messages to all listeners.
pub struct Live {
    sender: broadcast::Sender<Arc<WrittenMessage>>,
    /// To parts of the service, which do not count as listeners.
    within: broadcast::Sender<Arc<WrittenMessage>>,
    stopping: CancellationToken,
}

impl Live {
    pub fn new(stopping: CancellationToken) -> Self {
        Self { sender: broadcast::Sender::new(KEPT), within: broadcast::Sender::new(KEPT), stopping }
    }

    /// Sends a message to all listeners; returns how many there are.
    pub fn publish(&self, news: Arc<WrittenMessage>) -> usize {
        let _ = self.within.send(Arc::clone(&news));
        self.sender.send(news).unwrap_or(0)
    }

    pub fn listen(&self) -> broadcast::Receiver<Arc<WrittenMessage>> {
        self.sender.subscribe()
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
