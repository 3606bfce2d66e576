//! From the engine to the database: what the engine wants done gathers here, and the committer takes all of it
//! at once. A queue of lists would make the newest wait for a transaction of its own behind older ones.

use std::sync::{Mutex, MutexGuard, PoisonError};

use engine::{Effect, Timestamp};
use tokio::sync::Notify;

/// Effects that wait before the engine takes no more frames.
const ROOM: usize = 50_000;

/// What the engine wants done, and how far it has come with it.
#[derive(Default)]
pub struct Outcome {
    /// In the order in which it must happen.
    pub effects: Vec<Effect>,
    /// What was due until then has been processed; these effects are the last of it.
    pub processed_until: Timestamp,
}

#[derive(Default)]
struct Inner {
    gathered: Option<Outcome>,
    closed: bool,
}

/// Between one engine and one committer.
#[derive(Default)]
pub struct Handover {
    inner: Mutex<Inner>,
    news: Notify,
    room: Notify,
}

impl Handover {
    fn lock(&self) -> MutexGuard<'_, Inner> {
        self.inner.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Adds what is to be done; says whether there is room for more.
    pub fn put(&self, effects: &mut Vec<Effect>, processed_until: Timestamp) -> bool {
        let mut inner = self.lock();
        let gathered = inner.gathered.get_or_insert_default();
        gathered.effects.append(effects);
        gathered.processed_until = processed_until;
        let room = gathered.effects.len() < ROOM;
        drop(inner);
        self.news.notify_one();
        room
    }

    /// Waits until what was put in has been taken.
    pub async fn room(&self) {
        self.room.notified().await;
    }

    /// The engine has ended.
    pub fn close(&self) {
        self.lock().closed = true;
        self.news.notify_one();
    }

    fn gathered(&self) -> Option<Outcome> {
        let gathered = self.lock().gathered.take()?;
        self.room.notify_one();
        Some(gathered)
    }

    /// Everything that has gathered, as soon as there is something; `None` once the engine has ended.
    pub async fn take(&self) -> Option<Outcome> {
        loop {
            // Closed is asked first: what is put in before that is there by then.
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
    use engine::{Change, Effect};
    use lorawan::Eui64;

    use super::*;

    fn effects(count: usize) -> Vec<Effect> {
        let change = Change::GroupCounter { group: Eui64(1), next_down: 0 };
        vec![Effect::Persist(change); count]
    }

    #[tokio::test]
    async fn all_that_has_gathered_is_taken_at_once_and_the_rest_after_the_end() {
        let handover = Handover::default();
        assert!(handover.put(&mut effects(1), Timestamp(1)));
        assert!(!handover.put(&mut effects(ROOM), Timestamp(2)), "full");
        let taken = handover.take().await.unwrap();
        assert_eq!((taken.effects.len(), taken.processed_until), (ROOM + 1, Timestamp(2)));
        handover.room().await;
        assert!(handover.put(&mut effects(2), Timestamp(3)));
        handover.close();
        assert_eq!(handover.take().await.unwrap().effects.len(), 2);
        assert!(handover.take().await.is_none());
    }
}
