//! A mailbox between two tasks: values coalesce in it, and the receiver takes all at once.

use std::sync::{Mutex, MutexGuard, PoisonError};

use engine::Effect;
use store::Mark;
use tokio::sync::Notify;

/// Effects that wait before the engine takes no more frames.
const ROOM: usize = 20_000;

/// A value that can be merged with later ones.
pub(crate) trait Coalesce {
    /// Adds what comes after it.
    fn coalesce(&mut self, later: Self);

    /// Whether the sender should wait until it is taken.
    fn full(&self) -> bool;
}

/// The engine's effects, and how far the engine has come.
#[derive(Default)]
pub(crate) struct EngineOutput {
    /// In the order in which it must happen.
    pub effects: Vec<Effect>,
    /// How far the engine has come; these effects are the last of it.
    pub mark: Mark,
}

impl Coalesce for EngineOutput {
    fn coalesce(&mut self, mut later: Self) {
        self.effects.append(&mut later.effects);
        self.mark = later.mark;
    }

    fn full(&self) -> bool {
        self.effects.len() >= ROOM
    }
}

struct Inner<T> {
    gathered: Option<T>,
    closed: bool,
}

/// A mailbox for one sender and one receiver.
pub(crate) struct Mailbox<T> {
    inner: Mutex<Inner<T>>,
    news: Notify,
    room: Notify,
}

impl<T> Default for Mailbox<T> {
    fn default() -> Self {
        Self { inner: Mutex::new(Inner { gathered: None, closed: false }), news: Notify::new(), room: Notify::new() }
    }
}

impl<T: Coalesce> Mailbox<T> {
    fn lock(&self) -> MutexGuard<'_, Inner<T>> {
        self.inner.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Adds a value; returns whether there is room for more.
    pub(crate) fn put(&self, more: T) -> bool {
        let mut inner = self.lock();
        let room = match &mut inner.gathered {
            Some(gathered) => {
                gathered.coalesce(more);
                !gathered.full()
            }
            empty => !empty.insert(more).full(),
        };
        drop(inner);
        self.news.notify_one();
        room
    }

    /// Puts back what was taken and is for the next time: before all that has come since.
    pub(crate) fn put_back(&self, earlier: T) {
        let mut inner = self.lock();
        let mut gathered = earlier;
        if let Some(since) = inner.gathered.take() {
            gathered.coalesce(since);
        }
        inner.gathered = Some(gathered);
        drop(inner);
        self.news.notify_one();
    }

    /// Waits until everything in it has been taken.
    pub(crate) async fn room(&self) {
        self.room.notified().await;
    }

    /// Closes the mailbox.
    pub(crate) fn close(&self) {
        self.lock().closed = true;
        self.news.notify_one();
    }

    fn gathered(&self) -> Option<T> {
        let gathered = self.lock().gathered.take()?;
        self.room.notify_one();
        Some(gathered)
    }

    /// Waits for a value and takes everything that has gathered; `None` once the mailbox is closed and empty.
    pub(crate) async fn take(&self) -> Option<T> {
        loop {
            // `closed` is read first: a value added before closing is then seen.
            let closed = self.lock().closed;
            let gathered = self.gathered();
            if closed || gathered.is_some() {
                return gathered;
            }
            self.news.notified().await;
        }
    }
}

#[cfg(test)]
mod tests {
    use engine::{Change, Timestamp};
    use lorawan::Eui64;

    use super::*;

    fn output(count: usize, until: i64) -> EngineOutput {
        let change = Change::GroupCounter { group: Eui64(1), next_down: 0 };
        let mark = Mark { position: 0, processed_until: Timestamp(until) };
        EngineOutput { effects: vec![Effect::Persist(change); count], mark }
    }

    #[tokio::test]
    async fn all_that_has_gathered_is_taken_at_once_and_the_rest_after_the_end() {
        let handover = Mailbox::default();
        assert!(handover.put(output(1, 1)));
        assert!(!handover.put(output(ROOM, 2)), "full");
        let taken = handover.take().await.unwrap();
        assert_eq!((taken.effects.len(), taken.mark.processed_until), (ROOM + 1, Timestamp(2)));
        handover.room().await;
        assert!(handover.put(output(2, 3)));
        handover.close();
        assert_eq!(handover.take().await.unwrap().effects.len(), 2);
        assert!(handover.take().await.is_none());
    }

    #[tokio::test]
    async fn what_is_put_back_comes_before_what_came_since() {
        let mailbox = Mailbox::default();
        mailbox.put(output(1, 2));
        mailbox.put_back(output(2, 1));
        let taken = mailbox.take().await.unwrap();
        assert_eq!((taken.effects.len(), taken.mark.processed_until), (3, Timestamp(2)));
        mailbox.put_back(output(1, 3));
        mailbox.close();
        assert_eq!(mailbox.take().await.unwrap().effects.len(), 1, "it is not lost at the end");
        assert!(mailbox.take().await.is_none());
    }
}
